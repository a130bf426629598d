// The second window: the frame that is looked at in the first.

const image = document.getElementById('second');
const name = document.getElementById('second-name');
const show = (frame) => {
  image.src = `/api/frames/${frame.id}/thumb?edge=1920&s=${frame.stamp}`;
  name.textContent = frame.name;
};
if (Number(image.dataset.frame)) show({ id: image.dataset.frame, stamp: image.dataset.stamp, name: name.textContent });
new BroadcastChannel('rallo-frame').onmessage = (e) => show(e.data);
