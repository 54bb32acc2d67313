import type { Context } from 'hono';
import type * as z from 'zod';
import { LintelError } from '../base/index.js';
import { DEEPEST } from './operation.js';

type Issue = z.core.$ZodIssue;

/** Of what is wrong, that which lies deepest: the way that was meant, where there are several. */
function deepest(issues: readonly Issue[], above: readonly PropertyKey[] = []): { readonly path: readonly PropertyKey[]; readonly message: string } {
  const all = issues.map((issue) => {
    const path = [...above, ...issue.path];
    const ways = issue.code === 'invalid_union' ? issue.errors.filter((way) => way.length > 0).map((way) => deepest(way, path)) : [];
    return [{ path, message: issue.message }, ...ways].reduce((a, b) => (b.path.length > a.path.length ? b : a));
  });
  return all.reduce((a, b) => (b.path.length > a.path.length ? b : a));
}

/** Reads what came in. @throws LintelError `bad-request` with the place: `steps[0].holder: …`. */
export function readAs<T extends z.ZodType>(schema: T, value: unknown): z.infer<T> {
  const read = schema.safeParse(value);
  if (read.success) return read.data;
  const { path, message } = deepest(read.error.issues);
  const place = path.map((part) => (typeof part === 'number' ? `[${part}]` : `.${String(part)}`)).join('');
  throw new LintelError('bad-request', `${place.replace(/^\./, '').slice(0, 200) || 'the request'}: ${message}`, {});
}

/** How deep brackets go in a text of JSON. Those in strings do not count. */
function depthOf(text: string): number {
  let [depth, most, inString] = [0, 0, false];
  for (let i = 0; i < text.length; i++) {
    const c = text[i];
    if (inString) {
      if (c === '\\') i++;
      else if (c === '"') inString = false;
    } else if (c === '"') inString = true;
    else if (c === '[' || c === '{') most = Math.max(most, ++depth);
    else if (c === ']' || c === '}') depth--;
  }
  return most;
}

/** @throws LintelError `bad-request` for what no text of a database holds: NUL, and halves of characters. */
export function insistOnTexts(value: unknown): void {
  if (typeof value === 'string') {
    if (/[\0\p{Cs}]/u.test(value)) throw new LintelError('bad-request', 'A text contains NUL, or half a character. Take it out.', {});
  } else if (typeof value === 'object' && value !== null) {
    for (const [key, one] of Object.entries(value)) {
      insistOnTexts(key);
      insistOnTexts(one);
    }
  }
}

/** The body of a request, which is at most so long already. @throws LintelError `bad-request`. */
export async function bodyOf(c: Context, schema: z.ZodType | undefined): Promise<unknown> {
  if (!schema) return undefined;
  // Another site's form can send no JSON.
  if (!c.req.header('content-type')?.startsWith('application/json'))
    throw new LintelError('bad-request', 'Send JSON, with the content type application/json.', {});
  const text = await c.req.text();
  if (depthOf(text) > DEEPEST) throw new LintelError('bad-request', `The request is nested deeper than ${DEEPEST}.`, {});
  const data = parsed(text);
  if (data === undefined) throw new LintelError('bad-request', 'The request is no JSON.', {});
  insistOnTexts(data);
  return readAs(schema, data);
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}
