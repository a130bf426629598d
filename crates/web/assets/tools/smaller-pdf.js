// A PDF made smaller: sent, answered, and handed on as a download.

import { el, fileSize } from '../app/api.js';
import { phrase } from '../app/words.js';

const chosen = document.getElementById('smaller-file');
const smaller = document.getElementById('smaller');
chosen.onchange = () => {
  smaller.disabled = !chosen.files.length;
};
smaller.onclick = async () => {
  const file = chosen.files[0];
  const told = document.getElementById('smaller-told');
  const value = (id) => document.getElementById(id).value;
  smaller.disabled = true;
  told.textContent = phrase('tools-at-work');
  try {
    const answer = await fetch(`/api/smaller?ppi=${value('smaller-ppi')}&quality=${value('smaller-quality')}`, {
      method: 'POST',
      body: file,
      headers: { 'x-rallo-token': document.querySelector('meta[name=rallo-token]').content },
    });
    if (!answer.ok) {
      const text = await answer.text();
      let said = text;
      try {
        said = JSON.parse(text).detail;
      } catch {
        /* plain */
      }
      throw new Error(said);
    }
    const [changed, all] = answer.headers.get('x-rallo-changed').split(' of ');
    const made = await answer.blob();
    if (changed === '0') told.textContent = phrase('tools-nothing-could-be-gained-its-pictures', { all });
    else {
      const link = el('a', {
        href: URL.createObjectURL(made),
        download: file.name.replace(/\.pdf$/i, '') + ' smaller.pdf',
      });
      link.click();
      told.textContent = phrase('tools-instead-of-of-pictures-made-smaller', {
        size: fileSize(made.size),
        size2: fileSize(file.size),
        changed,
        all,
      });
    }
  } catch (e) {
    told.textContent = e.message;
  }
  smaller.disabled = false;
};
