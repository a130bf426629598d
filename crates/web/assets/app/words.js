// What the scripts say: every text of theirs stands in one file for each language, with what depends on a number chosen by
// the language's own rule.

import { FluentBundle, FluentNumber, FluentResource } from '../vendor/fluent-bundle-0.19.1.min.js';
import english from '../words/en/scripts.js';

// The texts run one way; marks that keep two ways of writing apart would only be in the way of searching.
const bundle = new FluentBundle('en', { useIsolating: false });
for (const fault of bundle.addResource(new FluentResource(english))) throw fault;

/** Numbers stand as they are: no group of digits is set apart, none is rounded. */
const PLAIN = { useGrouping: false, maximumFractionDigits: 20 };

/** The text of that name, with values put in; a name that is not there is a fault of the program and says so. */
export function phrase(name, values = {}) {
  const pattern = bundle.getMessage(name)?.value;
  if (pattern == null) throw new Error(`There are no words called ${name}.`);
  const put = {};
  for (const [key, value] of Object.entries(values))
    put[key] = typeof value === 'number' ? new FluentNumber(value, PLAIN) : String(value ?? '');
  return bundle.formatPattern(pattern, put);
}
