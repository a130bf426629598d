// Pictures dropped on a page become a shoot where they lie: a browser only tells their names, so the program looks for them.

import { json, say } from './api.js';
import { phrase } from './words.js';

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
  const others = missing.length > 3 ? phrase('app-and-more', { count: missing.length - 3 }) : '';
  const names = missing.slice(0, 3).join(', ') + others;
  return phrase('app-not-in-the-folders', { count: missing.length, names });
}
