// The settings sheet: a small before and after, and printing.

import { ask } from '../app/api.js';

const { recipe, frame } = document.body.dataset;
document.getElementById('print').onclick = () => window.print();

async function half(id, body) {
  const blob = await (await ask('POST', '/api/render', body)).blob();
  const image = await createImageBitmap(blob);
  const canvas = document.getElementById(id);
  [canvas.width, canvas.height] = [image.width, image.height];
  canvas.getContext('2d').drawImage(image, 0, 0);
}

async function start() {
  if (!Number(frame)) return;
  const { document: doc } = await (await ask('GET', `/api/recipes/${recipe}`)).json();
  const told = await (await ask('POST', '/api/plan', { recipe: doc, frame: Number(frame) })).json();
  const scale = Math.min(1, 720 / Math.max(...told.size));
  await half('before', { recipe: doc, frame: Number(frame), before: true, scale });
  await half('after', { recipe: doc, frame: Number(frame), scale });
  document.getElementById('pair').hidden = false;
}
// Without a sample there is nothing to show; the sheet is whole without it.
start()
  .catch(() => {})
  .finally(() => {
    document.body.dataset.ready = 'yes';
  });
