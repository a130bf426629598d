// What runs may have of this machine, and whether somebody wants to be told when one is done.

import { ask, json, say } from '../app/api.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);
const doing =
  (work) =>
  async (...a) => {
    try {
      await work(...a);
    } catch (e) {
      say(e.message);
    }
  };

const put = doing(async () => {
  await ask('PUT', '/api/limits', {
    cores: Number($('cores').value),
    memory: Number($('memory').value),
    quiet: $('quiet').checked,
  });
});
doing(async () => {
  const limits = await json('GET', '/api/limits');
  $('cores').value = limits.cores || '';
  $('memory').value = limits.memory || '';
  $('quiet').checked = limits.quiet;
  for (const id of ['cores', 'memory', 'quiet']) $(id).addEventListener('change', put);
})();

// The signal is the browser's own; it is asked for once, here.
$('signal').checked = localStorage.getItem('signal') === 'yes';
$('sound').checked = localStorage.getItem('sound') === 'yes';
$('signal').addEventListener('change', async () => {
  let on = $('signal').checked;
  if (on && 'Notification' in window && Notification.permission !== 'granted')
    on = (await Notification.requestPermission()) === 'granted';
  $('signal').checked = on;
  localStorage.setItem('signal', on ? 'yes' : 'no');
  if (!on && !$('signal').disabled && 'Notification' in window && Notification.permission === 'denied')
    say(phrase('runs-the-browser-does-not-allow-it'));
});
$('sound').addEventListener('change', () => localStorage.setItem('sound', $('sound').checked ? 'yes' : 'no'));
