// This program: what it keeps, and who may use it.

import { ask, el, json, say } from '../app/api.js';

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
    ? `${told.pictures} ${told.pictures === 1 ? 'picture' : 'pictures'}, ${told.held}, are kept now.`
    : 'Nothing is kept now.';
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
        ` made ${day(t.made)}, ${t.used ? `last used ${day(t.used)}` : 'never used'} `,
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
          'Take it away',
        ),
      ),
    ),
  );
  if (!all.length) $('tokens').append(el('li', {}, 'There are none.'));
});
$('make').onclick = doing(async () => {
  const { token } = await json('POST', '/api/tokens', { name: $('token-name').value });
  $('made').hidden = false;
  $('made').replaceChildren(el('b', {}, 'Copy it now, it is shown this once'), el('code', { id: 'token' }, token));
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
