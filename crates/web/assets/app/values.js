// Values as people type them, and as a parameter's kind has them.

/** Text of a typed value as the parameter's kind has it; undefined where it makes no sense. */
export function parse(param, text) {
  const t = text.trim();
  const numbers = () =>
    t
      .split(/[^0-9.]+/)
      .filter(Boolean)
      .map(Number);
  switch (param.kind) {
    case 'number': {
      const v = Number(
        t
          .replace(',', '.')
          .replace('−', '-')
          .replace(/[^0-9.\-]/g, ''),
      );
      return /\d/.test(t) && Number.isFinite(v) ? Math.max(param.min, Math.min(param.max, v)) : undefined;
    }
    case 'whole': {
      if (!t) return null;
      const v = Math.round(Number(t));
      return Number.isFinite(v) ? Math.max(param.min, Math.min(param.max, v)) : undefined;
    }
    case 'pair': {
      const n = numbers();
      return n.length === 2 ? n : t ? undefined : null;
    }
    case 'triple': {
      const n = t
        .split(/[^0-9.\-−]+/)
        .filter(Boolean)
        .map((v) => Number(v.replace('−', '-')));
      return n.length === 3 && n.every(Number.isFinite)
        ? n.map((v) => Math.max(param.min, Math.min(param.max, v)))
        : undefined;
    }
    case 'spot': {
      const n = t
        .split(/[^0-9.\-]+/)
        .filter(Boolean)
        .map(Number);
      return n.length === 2 && n.every(Number.isFinite) ? n : undefined;
    }
    case 'words':
      return t
        .split(',')
        .map((w) => w.trim())
        .filter(Boolean);
    case 'course':
    case 'rows': {
      const rows = t
        .split(/[;\n]/)
        .map((r) =>
          r
            .trim()
            .split(/[\s,]+/)
            .filter(Boolean)
            .map(Number),
        )
        .filter((r) => r.length);
      return rows.every((r) => r.length === (param.names?.length ?? 2) && r.every(Number.isFinite)) ? rows : undefined;
    }
    case 'part':
    case 'window': {
      const n = numbers();
      return n.length === 4 ? n : t ? undefined : null;
    }
    default:
      return t;
  }
}

/** A value as it is typed. */
export const shown = (value, kind) =>
  kind === 'words'
    ? (value ?? []).join(', ')
    : Array.isArray(value) && Array.isArray(value[0])
      ? value.map((r) => r.join(' ')).join('; ')
      : Array.isArray(value)
        ? value.join(' ')
        : value == null
          ? ''
          : String(value);
