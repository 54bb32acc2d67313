import { badPath } from './error.js';
import { type Condition, readFilter } from './filter.js';

/** What a path names: an attribute, one of its parts, or those of its values for which something holds (RFC 7644, section 3.5.2). */
export interface Path {
  /** The schema that stands before it; absent: none does. */
  readonly schema?: string;
  readonly attribute: string;
  readonly where?: Condition;
  readonly sub?: string;
}

const LONGEST = 1000;
const NAME = /^[A-Za-z$][\w$-]*$/;

function insistOnName(name: string, path: string): string {
  // What every object has is nobody's attribute.
  if (NAME.test(name) && !['__proto__', 'constructor', 'prototype'].includes(name)) return name;
  throw badPath(`“${path.slice(0, 100)}” is no path: “${name.slice(0, 60)}” is no attribute`);
}

/** @throws ScimError `invalidPath`, `invalidFilter`. */
export function readPath(text: unknown): Path {
  if (typeof text !== 'string' || text === '' || text.length > LONGEST) throw badPath('a path is a text of at most 1000 characters');
  let rest = text;
  let schema: string | undefined;
  // A schema's name has dots and colons in it; what follows its last colon is the attribute.
  const before = /^(urn:[^[\s]*):/i.exec(rest)?.[1];
  if (before !== undefined) {
    schema = before;
    rest = rest.slice(before.length + 1);
  }
  const of = schema === undefined ? {} : { schema };
  const open = rest.indexOf('[');
  if (open < 0) {
    const [attribute = '', sub, ...more] = rest.split('.');
    if (more.length > 0) throw badPath(`“${text.slice(0, 100)}” goes too deep`);
    return { ...of, attribute: insistOnName(attribute, text), ...(sub !== undefined && { sub: insistOnName(sub, text) }) };
  }
  const close = rest.lastIndexOf(']');
  const after = rest.slice(close + 1);
  if (close < open || (after !== '' && !after.startsWith('.'))) throw badPath(`“${text.slice(0, 100)}” has a bracket that does not close`);
  return {
    ...of,
    attribute: insistOnName(rest.slice(0, open), text),
    where: readFilter(rest.slice(open + 1, close)),
    ...(after !== '' && { sub: insistOnName(after.slice(1), text) }),
  };
}
