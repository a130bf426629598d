// What is shown, in numbers: histogram, waveform and parade as the engine computed them with the picture.

const $ = (id) => document.getElementById(id);
const KINDS = ['histogram', 'waveform', 'parade'];
let bins = new Array(64).fill(0);
let kind = 'histogram';
let last = null;

/** The outline of the brightness histogram in a box. */
export function histogram(w, h) {
  const most = Math.max(...bins.slice(1, 63), 1e-6);
  return `M0 ${h}${bins.map((b, i) => `L${((i / 63) * w).toFixed(1)} ${(h - Math.min(1, b / most) * (h - 3)).toFixed(1)}`).join('')}L${w} ${h}Z`;
}

/** Shows the head of a rendered picture. */
export function scope(head) {
  last = head;
  [bins] = head.histogram;
  const [w, h] = [178, 60];
  const svg = $('scope');
  const plain = kind === 'histogram';
  svg.firstElementChild.setAttribute('d', plain ? histogram(w, h) : '');
  const most = Math.max(...head.histogram.flatMap((one) => one.slice(1, 63)), 1e-6);
  [...svg.querySelectorAll('.line')].forEach((line, c) => {
    line.setAttribute(
      'd',
      plain
        ? head.histogram[c + 1]
            .map(
              (v, i) =>
                `${i ? 'L' : 'M'}${((i / 63) * w).toFixed(1)} ${(h - Math.min(1, v / most) * (h - 3)).toFixed(1)}`,
            )
            .join('')
        : '',
    );
  });
  const canvas = $('wave');
  canvas.hidden = plain;
  if (!plain) {
    const c = canvas.getContext('2d');
    const image = c.createImageData(128, 64);
    head[kind].forEach((v, i) => {
      const at = ((63 - (i % 64)) * 128 + Math.floor(i / 64)) * 4;
      image.data.set([230, 230, 230, v], at);
    });
    c.putImageData(image, 0, 0);
  }
  $('scope-name').textContent = kind;
  $('clipped').textContent =
    `${(head.clipped[0] * 100).toFixed(1)} % black, ${(head.clipped[1] * 100).toFixed(1)} % white`;
}

$('scope-box').onclick = () => {
  kind = KINDS[(KINDS.indexOf(kind) + 1) % KINDS.length];
  if (last) scope(last);
};
