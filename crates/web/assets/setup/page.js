// This program: what it keeps, and who may use it.

import { ask, el, json, say } from '../app/api.js';
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

function held(told) {
  $('limit').value = Math.round(told.limit / 1e8) / 10;
  $('held').textContent = told.pictures
    ? phrase('setup-are-kept-now', {
        count: told.pictures,
        held: told.held,
      })
    : phrase('setup-nothing-is-kept-now');
}
const put = (empty) =>
  doing(async () =>
    held(await json('PUT', '/api/kept-work', { limit: Math.round(Number($('limit').value) * 1e9), empty })),
  );
$('limit').addEventListener('change', put(false));
$('empty').onclick = put(true);

const tokens = doing(async () => {
  const all = await json('GET', '/api/tokens');
  const day = (t) => new Date(t).toLocaleDateString();
  $('tokens').replaceChildren(
    ...all.map((t) =>
      el(
        'li',
        {},
        el('b', {}, t.name),
        phrase('setup-made', {
          day: day(t.made),
          used: t.used ? phrase('setup-last-used', { day: day(t.used) }) : phrase('setup-never-used'),
        }),
        el(
          'button',
          {
            type: 'button',
            class: 'btn btn-sm btn-outline-light',
            onclick: doing(async () => {
              await ask('DELETE', `/api/tokens/${t.id}`);
              tokens();
            }),
          },
          phrase('setup-take-it-away'),
        ),
      ),
    ),
  );
  if (!all.length) $('tokens').append(el('li', {}, phrase('setup-there-are-none')));
});
$('make').onclick = doing(async () => {
  const { token } = await json('POST', '/api/tokens', { name: $('token-name').value });
  $('made').hidden = false;
  $('made').replaceChildren(el('b', {}, phrase('setup-copy-it-now-it-is-shown')), el('code', { id: 'token' }, token));
  $('token-name').value = '';
  tokens();
});
if ($('leave'))
  $('leave').onclick = doing(async () => {
    await ask('POST', '/api/logout', {});
    location.href = '/login';
  });
doing(async () => held(await json('GET', '/api/kept-work')))();
tokens();
