// A PDF made smaller: sent, answered, and handed on as a download.

import { el } from '../app/api.js';

const chosen = document.getElementById('smaller-file');
const smaller = document.getElementById('smaller');
const size = (bytes) => (bytes < 1e6 ? `${Math.round(bytes / 1000)} kB` : `${(bytes / 1e6).toFixed(1)} MB`);
chosen.onchange = () => {
  smaller.disabled = !chosen.files.length;
};
smaller.onclick = async () => {
  const file = chosen.files[0];
  const told = document.getElementById('smaller-told');
  const value = (id) => document.getElementById(id).value;
  smaller.disabled = true;
  told.textContent = 'At work …';
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
    if (changed === '0') told.textContent = `Nothing could be gained: its ${all} pictures are small enough.`;
    else {
      const link = el('a', {
        href: URL.createObjectURL(made),
        download: file.name.replace(/\.pdf$/i, '') + ' smaller.pdf',
      });
      link.click();
      told.textContent = `${size(made.size)} instead of ${size(file.size)}: ${changed} of ${all} pictures made smaller.`;
    }
  } catch (e) {
    told.textContent = e.message;
  }
  smaller.disabled = false;
};
