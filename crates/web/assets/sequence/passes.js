// What a pass of the sieve says. No page in it.

import { phrase } from '../app/words.js';
import { DAYS } from './pass-kinds.js';

const LINES = {
  brightness: phrase('sequence-brightness'),
  contrast: phrase('sequence-contrast'),
  change: phrase('sequence-change-from-the-frame-before'),
  red: phrase('sequence-red-against-green'),
  blue: phrase('sequence-blue-against-green'),
  scene: phrase('sequence-light-of-the-scene'),
  unusual: phrase('sequence-what-is-unusual'),
};

const tidy = (v) => Math.round(v * 1000) / 1000;

/** Edges against one level: as they are on the line. */
function againstLevel(pass) {
  const { level } = pass.against;
  const edge = (name) => ({
    value: tidy(level + pass[name]),
    kind: 'number',
    set: (v) => ({ ...pass, [name]: tidy(v - level) }),
  });
  const lower = pass.lower == null ? [] : [phrase('sequence-is-at-least'), edge('lower')];
  const upper =
    pass.upper == null
      ? []
      : [lower.length ? phrase('sequence-and-at-most') : phrase('sequence-is-at-most'), edge('upper')];
  return lower.length || upper.length ? [...lower, ...upper] : [phrase('sequence-may-be-anything')];
}

/** Edges against the line's own course, or against the same hour of other days: how far below and above it a frame may be. */
function againstCourse(pass) {
  const far = (name, sign, isBelow) => ({
    isBelow,
    value: { value: Math.abs(pass[name]), kind: 'number', set: (v) => ({ ...pass, [name]: tidy(sign * v) }) },
  });
  const of = (name) => (pass[name] < 0 ? far(name, -1, true) : far(name, 1, false));
  const parts = [];
  if (pass.lower != null) {
    const e = of('lower');
    parts.push(
      e.isBelow ? phrase('sequence-is-not-more-than') : phrase('sequence-is-at-least'),
      e.value,
      ` ${e.words}`,
    );
  }
  if (pass.upper != null) {
    const e = of('upper');
    parts.push(
      parts.length
        ? e.words === 'above'
          ? phrase('sequence-nor-more-than')
          : phrase('sequence-and-at-least')
        : e.words === 'above'
          ? phrase('sequence-is-not-more-than')
          : phrase('sequence-is-at-least'),
      e.value,
      ` ${e.words}`,
    );
  }
  if (!parts.length) parts.push(phrase('sequence-may-be-anywhere-around'));
  if ('same_hour' in pass.against)
    return [
      ...parts,
      phrase('sequence-what-is-usual-at-that-hour'),
      {
        value: pass.against.same_hour,
        kind: 'whole',
        unit: phrase('sequence-unit-days'),
        set: (v) => ({ ...pass, against: { same_hour: Math.min(60, v) } }),
      },
    ];
  return [
    ...parts,
    phrase('sequence-its-own-course-over'),
    {
      value: pass.against.course,
      kind: 'number',
      unit: phrase('sequence-unit-hours'),
      set: (v) => ({ ...pass, against: { course: Math.max(0.1, v) } }),
    },
  ];
}

const day = (text) =>
  new Date(`${text}T00:00Z`).toLocaleString('en-GB', { timeZone: 'UTC', day: 'numeric', month: 'short' });

/** A window in words, such as 6 Apr to 9 Apr, 07:30 to 18:00. */
const windowed = (w) =>
  phrase('sequence-to', {
    from: w.from === w.to ? day(w.from) : phrase('sequence-to-day-day2', { day: day(w.from), day2: day(w.to) }),
    after: w.after,
    before: w.before,
  });

/** A pass that lets through what is in its windows, as a sentence. */
function inWindows(pass) {
  const which = {
    value: pass.outside ? 'outside' : 'in',
    kind: 'choice',
    choices: ['in', 'outside'],
    names: { in: phrase('sequence-in'), outside: phrase('sequence-outside') },
    set: (v) => {
      const { outside, ...rest } = pass;
      return v === 'outside' ? { ...rest, outside: true } : rest;
    },
  };
  return [phrase('sequence-only'), which, ` ${pass.windows.map(windowed).join('; ')}.`];
}

/** Which part of the picture a line is of, where there are parts. */
function ofArea(pass, areas) {
  if (!areas.length && pass.area == null) return [];
  const names = Object.fromEntries([
    ['whole', phrase('sequence-the-whole')],
    ...areas.map((name, i) => [String(i), name]),
  ]);
  const set = (v) => {
    const { area, ...rest } = pass;
    return v === 'whole' ? rest : { ...rest, area: Number(v) };
  };
  return [
    phrase('sequence-of-area'),
    { value: String(pass.area ?? 'whole'), kind: 'choice', choices: Object.keys(names), names, set },
  ];
}

/** A pass as a sentence: texts, and values that can be changed; `areas` are the names of areas there are. `set` gives the pass with that value. */
export function sentence(pass, areas = []) {
  const value = (name, kind, more = {}) => ({ value: pass[name], kind, ...more, set: (v) => ({ ...pass, [name]: v }) });
  switch (pass.pass) {
    case 'line':
      return [
        phrase('sequence-the'),
        value('line', 'choice', { choices: Object.keys(LINES), names: LINES }),
        ...ofArea(pass, areas),
        ...('level' in pass.against ? againstLevel(pass) : againstCourse(pass)),
        '.',
      ];
    case 'windows':
      return inWindows(pass);
    case 'weekdays':
      return [
        phrase('sequence-only-on'),
        {
          value: pass.days.join(', '),
          kind: 'text',
          set: (v) => ({ ...pass, days: DAYS.filter((d) => v.toLowerCase().includes(d.slice(0, 3))) }),
        },
        '.',
      ];
    case 'time':
      return [phrase('sequence-only-from'), value('from', 'time'), phrase('sequence-until'), value('to', 'time'), '.'];
    case 'sun':
      return [
        phrase('sequence-only-while-the-sun-is-up-at'),
        value('latitude', 'number'),
        phrase('sequence-north'),
        value('longitude', 'number'),
        phrase('sequence-east-the-clock'),
        value('offset_hours', 'number'),
        phrase('sequence-hours-before-utc-from'),
        value('after_sunrise', 'number'),
        phrase('sequence-minutes-after-sunrise-to'),
        value('before_sunset', 'number'),
        phrase('sequence-before-sunset'),
      ];
    case 'every':
      return [phrase('sequence-every'), value('n', 'whole'), phrase('sequence-th-frame')];
    case 'one_a_day':
      return [phrase('sequence-of-each-day-the-frame-nearest'), value('at', 'time'), '.'];
    case 'evenly':
      return [value('n', 'whole'), phrase('sequence-frames-evenly-spread')];
    case 'sharpness':
      return [
        phrase('sequence-frames-at-least'),
        value('below', 'number', { unit: ' %' }),
        phrase('sequence-as-sharp-as-those-around'),
      ];
    case 'doubles':
      return [phrase('sequence-of-frames-that-look-the-same')];
    case 'frames':
      return [phrase('sequence-picked-by-hand-go', { count: pass.go.length })];
    default:
      return [pass.pass];
  }
}
