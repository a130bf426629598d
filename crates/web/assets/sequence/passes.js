// What a pass of the sieve says, which kinds there are, and by which words they are found. No page in it.

const DAYS = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'];

/** The kinds that can be added, by the words people may type. */
export const KINDS = [
  {
    words: 'night lamp dusk scene light of the scene',
    label: 'Frames by night go, by the light of the scene',
    pass: () => ({ pass: 'line', line: 'scene', against: { level: 0 }, lower: 6 }),
  },
  {
    words: 'unusual passing shadow in the way covered odd',
    label: 'Frames that differ from what is usual at their hour go',
    pass: () => ({ pass: 'line', line: 'unusual', against: { level: 0 }, upper: 8 }),
  },
  {
    words: 'fog haze mist same hour contrast',
    label: 'Frames with less contrast than other days at that hour go',
    pass: () => ({ pass: 'line', line: 'contrast', against: { same_hour: 6 }, lower: -8 }),
  },
  {
    words: 'overcast dull cloudy weather scene same hour',
    label: 'Frames with less light than other days at that hour go',
    pass: () => ({ pass: 'line', line: 'scene', against: { same_hour: 6 }, lower: -0.8 }),
  },
  {
    words: 'dark night black brightness level',
    label: 'Dark frames go',
    pass: () => ({ pass: 'line', line: 'brightness', against: { level: 0 }, lower: 15 }),
  },
  {
    words: 'uneven flicker cloud shadow brightness course',
    label: 'Frames darker or brighter than the course go',
    pass: () => ({ pass: 'line', line: 'brightness', against: { course: 24 }, lower: -12, upper: 12 }),
  },
  {
    words: 'fog haze dull contrast',
    label: 'Frames with less contrast than the course go',
    pass: () => ({ pass: 'line', line: 'contrast', against: { course: 48 }, lower: -10 }),
  },
  {
    words: 'passing covered moving change something in the way',
    label: 'Frames that differ much from the one before go',
    pass: () => ({ pass: 'line', line: 'change', against: { level: 0 }, upper: 12 }),
  },
  {
    words: 'colour cast red warm evening',
    label: 'Frames redder than the course go',
    pass: () => ({ pass: 'line', line: 'red', against: { course: 24 }, upper: 15 }),
  },
  {
    words: 'weekdays sundays sunday saturday monday days week',
    label: 'Only these days of the week',
    pass: () => ({ pass: 'weekdays', days: DAYS.slice(0, 5) }),
  },
  {
    words: 'time hours clock morning noon evening',
    label: 'Only between two times of the day',
    pass: () => ({ pass: 'time', from: '07:30', to: '18:00' }),
  },
  {
    words: 'sun sunrise sunset daylight day',
    label: 'Only while the sun is up at a place',
    pass: () => ({
      pass: 'sun',
      latitude: 51.5,
      longitude: -2.2,
      offset_hours: 1,
      after_sunrise: 60,
      before_sunset: 60,
    }),
  },
  { words: 'every nth 10th fewer thin', label: 'Every so-manieth frame', pass: () => ({ pass: 'every', n: 10 }) },
  {
    words: 'one a day daily noon',
    label: 'One a day, nearest to a time',
    pass: () => ({ pass: 'one_a_day', at: '12:00' }),
  },
  {
    words: 'evenly spread number so many',
    label: 'So many frames, evenly spread',
    pass: () => ({ pass: 'evenly', n: 300 }),
  },
  {
    words: 'blurred soft sharp shaken focus',
    label: 'Frames less sharp than their neighbours go',
    pass: () => ({ pass: 'sharpness', below: 60 }),
  },
  { words: 'double doubles twice same', label: 'Doubles go', pass: () => ({ pass: 'doubles' }) },
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

const LINES = {
  brightness: 'brightness',
  contrast: 'contrast',
  change: 'change from the frame before',
  red: 'red against green',
  blue: 'blue against green',
  scene: 'light of the scene',
  unusual: 'what is unusual',
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
  const lower = pass.lower == null ? [] : [' is at least ', edge('lower')];
  const upper = pass.upper == null ? [] : [lower.length ? ' and at most ' : ' is at most ', edge('upper')];
  return lower.length || upper.length ? [...lower, ...upper] : [' may be anything'];
}

/** Edges against the line's own course, or against the same hour of other days: how far below and above it a frame may be. */
function againstCourse(pass) {
  const far = (name, sign, words) => ({
    words,
    value: { value: Math.abs(pass[name]), kind: 'number', set: (v) => ({ ...pass, [name]: tidy(sign * v) }) },
  });
  const of = (name) => (pass[name] < 0 ? far(name, -1, 'below') : far(name, 1, 'above'));
  const parts = [];
  if (pass.lower != null) {
    const e = of('lower');
    parts.push(e.words === 'below' ? ' is not more than ' : ' is at least ', e.value, ` ${e.words}`);
  }
  if (pass.upper != null) {
    const e = of('upper');
    parts.push(
      parts.length
        ? e.words === 'above'
          ? ' nor more than '
          : ' and at least '
        : e.words === 'above'
          ? ' is not more than '
          : ' is at least ',
      e.value,
      ` ${e.words}`,
    );
  }
  if (!parts.length) parts.push(' may be anywhere around');
  if ('same_hour' in pass.against)
    return [
      ...parts,
      ' what is usual at that hour, over ',
      {
        value: pass.against.same_hour,
        kind: 'whole',
        unit: ' days',
        set: (v) => ({ ...pass, against: { same_hour: Math.min(60, v) } }),
      },
    ];
  return [
    ...parts,
    ' its own course over ',
    {
      value: pass.against.course,
      kind: 'number',
      unit: ' hours',
      set: (v) => ({ ...pass, against: { course: Math.max(0.1, v) } }),
    },
  ];
}

const day = (text) =>
  new Date(`${text}T00:00Z`).toLocaleString('en-GB', { timeZone: 'UTC', day: 'numeric', month: 'short' });

/** A window in words, such as 6 Apr to 9 Apr, 07:30 to 18:00. */
const windowed = (w) =>
  `${w.from === w.to ? day(w.from) : `${day(w.from)} to ${day(w.to)}`}, ${w.after} to ${w.before}`;

/** A pass that lets through what is in its windows, as a sentence. */
function inWindows(pass) {
  const which = {
    value: pass.outside ? 'outside' : 'in',
    kind: 'choice',
    choices: ['in', 'outside'],
    names: { in: 'in', outside: 'outside' },
    set: (v) => {
      const { outside, ...rest } = pass;
      return v === 'outside' ? { ...rest, outside: true } : rest;
    },
  };
  return ['Only ', which, ` ${pass.windows.map(windowed).join('; ')}.`];
}

/** Which part of the picture a line is of, where there are parts. */
function ofArea(pass, areas) {
  if (!areas.length && pass.area == null) return [];
  const names = Object.fromEntries([['whole', 'the whole'], ...areas.map((name, i) => [String(i), name])]);
  const set = (v) => {
    const { area, ...rest } = pass;
    return v === 'whole' ? rest : { ...rest, area: Number(v) };
  };
  return [' of ', { value: String(pass.area ?? 'whole'), kind: 'choice', choices: Object.keys(names), names, set }];
}

/** A pass as a sentence: texts, and values that can be changed; `areas` are the names of areas there are. `set` gives the pass with that value. */
export function sentence(pass, areas = []) {
  const value = (name, kind, more = {}) => ({ value: pass[name], kind, ...more, set: (v) => ({ ...pass, [name]: v }) });
  switch (pass.pass) {
    case 'line':
      return [
        'The ',
        value('line', 'choice', { choices: Object.keys(LINES), names: LINES }),
        ...ofArea(pass, areas),
        ...('level' in pass.against ? againstLevel(pass) : againstCourse(pass)),
        '.',
      ];
    case 'windows':
      return inWindows(pass);
    case 'weekdays':
      return [
        'Only on ',
        {
          value: pass.days.join(', '),
          kind: 'text',
          set: (v) => ({ ...pass, days: DAYS.filter((d) => v.toLowerCase().includes(d.slice(0, 3))) }),
        },
        '.',
      ];
    case 'time':
      return ['Only from ', value('from', 'time'), ' to ', value('to', 'time'), '.'];
    case 'sun':
      return [
        'Only while the sun is up at ',
        value('latitude', 'number'),
        '° north, ',
        value('longitude', 'number'),
        '° east, the clock ',
        value('offset_hours', 'number'),
        ' hours before UTC; from ',
        value('after_sunrise', 'number'),
        ' minutes after sunrise to ',
        value('before_sunset', 'number'),
        ' before sunset.',
      ];
    case 'every':
      return ['Every ', value('n', 'whole'), 'th frame.'];
    case 'one_a_day':
      return ['Of each day the frame nearest to ', value('at', 'time'), '.'];
    case 'evenly':
      return [value('n', 'whole'), ' frames, evenly spread.'];
    case 'sharpness':
      return ['Frames at least ', value('below', 'number', { unit: ' %' }), ' as sharp as those around.'];
    case 'doubles':
      return ['Of frames that look the same only the first.'];
    case 'frames':
      return [`${pass.go.length} picked by hand go.`];
    default:
      return [pass.pass];
  }
}
