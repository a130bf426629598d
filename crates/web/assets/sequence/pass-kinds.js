// Which kinds of passes there are, and by which words they are found. No page in it.

import { phrase } from '../app/words.js';

export const DAYS = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'];

/** The kinds that can be added, by the words people may type. */
export const KINDS = [
  {
    words: phrase('sequence-night-lamp-dusk-scene-light-of'),
    label: phrase('sequence-frames-by-night-go-by-the'),
    pass: () => ({ pass: 'line', line: 'scene', against: { level: 0 }, lower: 6 }),
  },
  {
    words: phrase('sequence-unusual-passing-shadow-in-the-way'),
    label: phrase('sequence-frames-that-differ-from-what-is'),
    pass: () => ({ pass: 'line', line: 'unusual', against: { level: 0 }, upper: 8 }),
  },
  {
    words: phrase('sequence-fog-haze-mist-same-hour-contrast'),
    label: phrase('sequence-frames-with-less-contrast-than-other'),
    pass: () => ({ pass: 'line', line: 'contrast', against: { same_hour: 6 }, lower: -8 }),
  },
  {
    words: phrase('sequence-overcast-dull-cloudy-weather-scene-same'),
    label: phrase('sequence-frames-with-less-light-than-other'),
    pass: () => ({ pass: 'line', line: 'scene', against: { same_hour: 6 }, lower: -0.8 }),
  },
  {
    words: phrase('sequence-dark-night-black-brightness-level'),
    label: phrase('sequence-dark-frames-go'),
    pass: () => ({ pass: 'line', line: 'brightness', against: { level: 0 }, lower: 15 }),
  },
  {
    words: phrase('sequence-uneven-flicker-cloud-shadow-brightness'),
    label: phrase('sequence-frames-darker-or-brighter-than-the'),
    pass: () => ({ pass: 'line', line: 'brightness', against: { course: 24 }, lower: -12, upper: 12 }),
  },
  {
    words: phrase('sequence-fog-haze-dull-contrast'),
    label: phrase('sequence-frames-with-less-contrast-than-the'),
    pass: () => ({ pass: 'line', line: 'contrast', against: { course: 48 }, lower: -10 }),
  },
  {
    words: phrase('sequence-passing-covered-moving-change-something-in'),
    label: phrase('sequence-frames-that-differ-much-from-the'),
    pass: () => ({ pass: 'line', line: 'change', against: { level: 0 }, upper: 12 }),
  },
  {
    words: phrase('sequence-colour-cast-red-warm-evening'),
    label: phrase('sequence-frames-redder-than-the-course-go'),
    pass: () => ({ pass: 'line', line: 'red', against: { course: 24 }, upper: 15 }),
  },
  {
    words: phrase('sequence-weekdays-sundays-sunday-saturday-monday-days'),
    label: phrase('sequence-only-these-days-of-the-week'),
    pass: () => ({ pass: 'weekdays', days: DAYS.slice(0, 5) }),
  },
  {
    words: phrase('sequence-time-hours-clock-morning-noon-evening'),
    label: phrase('sequence-only-between-two-times-of-the'),
    pass: () => ({ pass: 'time', from: '07:30', to: '18:00' }),
  },
  {
    words: phrase('sequence-sun-sunrise-sunset-daylight-day'),
    label: phrase('sequence-only-while-the-sun-is-up'),
    pass: () => ({
      pass: 'sun',
      latitude: 51.5,
      longitude: -2.2,
      offset_hours: 1,
      after_sunrise: 60,
      before_sunset: 60,
    }),
  },
  {
    words: phrase('sequence-every-nth-10th-fewer-thin'),
    label: phrase('sequence-every-so-manieth-frame'),
    pass: () => ({ pass: 'every', n: 10 }),
  },
  {
    words: phrase('sequence-one-a-day-daily-noon'),
    label: phrase('sequence-one-a-day-nearest-to-a'),
    pass: () => ({ pass: 'one_a_day', at: '12:00' }),
  },
  {
    words: phrase('sequence-evenly-spread-number-so-many'),
    label: phrase('sequence-so-many-frames-evenly-spread'),
    pass: () => ({ pass: 'evenly', n: 300 }),
  },
  {
    words: phrase('sequence-blurred-soft-sharp-shaken-focus'),
    label: phrase('sequence-frames-less-sharp-than-their-neighbours'),
    pass: () => ({ pass: 'sharpness', below: 60 }),
  },
  {
    words: phrase('sequence-double-doubles-twice-same'),
    label: phrase('sequence-doubles-go'),
    pass: () => ({ pass: 'doubles' }),
  },
];

/** The kinds whose words begin as what was typed; all of them for nothing. A number in it is taken over where one is meant. */
export function found(text) {
  const words = text
    .toLowerCase()
    .split(/[^a-z0-9]+/)
    .filter(Boolean);
  const number = words.map((w) => parseInt(w, 10)).find((n) => n > 0);
  const fits = (kind, word) => /^\d/.test(word) || kind.words.split(' ').some((w) => w.startsWith(word));
  return KINDS.filter((kind) => words.every((word) => fits(kind, word))).map((kind) => ({
    label: kind.label,
    pass: () => {
      const pass = kind.pass();
      if (number && 'n' in pass) pass.n = number;
      return pass;
    },
  }));
}
