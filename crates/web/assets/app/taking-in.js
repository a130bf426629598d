// Pictures dropped on a page become a shoot where they lie: a browser only tells their names, so the program looks for them.

import { json, say } from './api.js';

/** Time to read what is said before the page changes, in milliseconds. */
const TO_READ = 2500;

/** Whatever is dropped on the page is opened; `opened` is called when it is. */
export function takeDropped(opened) {
  addEventListener('dragover', (e) => e.preventDefault());
  addEventListener('drop', async (e) => {
    e.preventDefault();
    const files = [...(e.dataTransfer?.files ?? [])].map((f) => ({
      name: f.name,
      size: f.size,
      modified: f.lastModified,
    }));
    if (!files.length) return;
    try {
      const { places, missing } = await json('POST', '/api/dropped', files);
      if (missing.length) say(notFound(missing));
      if (!places.length) return;
      await json('POST', '/api/shoots', { places });
      setTimeout(opened, missing.length ? TO_READ : 0);
    } catch (error) {
      say(error.message);
    }
  });
}

function notFound(missing) {
  const others = missing.length > 3 ? ` and ${missing.length - 3} more` : '';
  const names = missing.slice(0, 3).join(', ') + others;
  const where = 'not lie in the folders this program may use. Folders are chosen with “Another folder …”.';
  return `${names} ${missing.length === 1 ? 'does' : 'do'} ${where}`;
}
