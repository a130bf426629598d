// The interval camera: settings, and what it shoots.

import { json } from '../app/api.js';
import { openDialog } from './dialog.js';
import { phrase } from '../app/words.js';

export async function interval(openFolders) {
  const now = await json('GET', '/api/camera').catch(() => ({ on: false }));
  if (now.on) return watch();
  openFolders({
    label: phrase('frames-the-camera-writes-in-here'),
    taken: (folder) =>
      openDialog('/frames/dialogs/camera?settings=true', {
        go: async (_, dialog) => {
          await json('POST', '/api/camera', { folder, ...settings(dialog) });
          watch();
          return false;
        },
      }),
  });
}

/** What its fields say. */
function settings(dialog) {
  const value = (name) => dialog.querySelector(`[name=${name}]`).value.trim();
  const numbers = (name) => value(name).split(',').filter(Boolean).map(Number);
  const jump = value('jump')
    .split(',')
    .filter(Boolean)
    .map((j) => j.split(':').map(Number));
  return {
    every: Number(value('every')),
    frames: Number(value('frames')),
    interval: Number(value('interval')),
    clock: value('clock'),
    faults: { missed: numbers('missed'), double: numbers('double'), jump },
  };
}

const watch = () =>
  openDialog('/frames/dialogs/camera', { stop: () => json('POST', '/api/camera/stop', {}).then(() => true) });
