import { type OperationId, ROUTES, routeOf } from '../http/routes.js';
import { Refusal } from './refusal.js';
import type { CallOptions, Client } from './types.js';

export type { OperationId } from '../http/routes.js';
export { Refusal } from './refusal.js';
export type { Answered, Asked, CallOptions, Client, Sent } from './types.js';

/** Where a client asks, and by what. */
export interface ClientOptions {
  /** Where the face is mounted: a path, or a whole address. Default `/lintel`. */
  readonly at?: string;
  /** Sends a request. Default: `fetch` of the browser. Give one of your own to add headers (a key, a look), or to see each answer. */
  readonly fetch?: (address: string, init: RequestInit & { readonly headers: Record<string, string> }) => Promise<Response>;
}

/** Marks of the answers that were given, by which a later call says what it has seen. */
const tags = new WeakMap<object, string>();

function placeOf(id: OperationId, asked: Readonly<Record<string, unknown>>) {
  const { method, path } = routeOf(id);
  const rest = { ...asked };
  const filled = path.replace(/\{(\w+)\}/g, (_, part: string) => {
    const value = rest[part];
    delete rest[part];
    if (typeof value !== 'string' || value === '') throw new TypeError(`${id}: "${part}" is missing; give it as a text`);
    return encodeURIComponent(value);
  });
  return { method, path: filled, rest };
}

const queryOf = (rest: Readonly<Record<string, unknown>>) => {
  const said = Object.entries(rest).flatMap(([key, value]) => (value === undefined ? [] : [[key, String(value)]]));
  return said.length === 0 ? '' : `?${new URLSearchParams(said)}`;
};

/**
 * A client of the library's face, typed by the same table of operations that the face answers by. It runs wherever there is a `fetch`, and holds nothing.
 *
 * @throws Refusal from each call that was refused; TypeError where a part of the path is missing.
 * @example
 * const client = createClient();
 * const { items } = await client.listMembers({ tenant: 'heather', limit: 100 });
 */
export function createClient({ at = '/lintel', fetch: send = (address, init) => fetch(address, init) }: ClientOptions = {}): Client {
  async function ask(id: OperationId, asked: Readonly<Record<string, unknown>> = {}, { once, seen, signal }: CallOptions = {}): Promise<object> {
    const { method, path, rest } = placeOf(id, asked);
    const tag = seen && tags.get(seen);
    if (seen && tag === undefined) throw new TypeError(`${id}: "seen" is no answer of this client that has a mark; give one of a list`);
    const headers = {
      accept: 'application/json',
      ...(method === 'POST' && { 'content-type': 'application/json' }),
      ...(once !== undefined && { 'idempotency-key': once }),
      ...(tag !== undefined && { 'if-match': tag }),
    };
    const body = method === 'POST' ? { body: JSON.stringify(rest) } : {};
    const response = await send(`${at}${path}${method === 'POST' ? '' : queryOf(rest)}`, { method, headers, ...body, ...(signal && { signal }) }).catch(
      (cause: unknown) => {
        if (signal?.aborted) throw cause;
        throw new Refusal(0, 'no-answer', 'The server does not answer. Try again.');
      },
    );
    const answer: Record<string, unknown> = await response.json().catch(() => ({}));
    if (!response.ok) {
      const { code, detail } = answer as { code?: string; detail?: string };
      throw new Refusal(response.status, code ?? 'no-answer', detail ?? 'The server does not answer. Try again.', answer);
    }
    const mark = response.headers.get('etag');
    if (mark !== null) tags.set(answer, mark);
    return answer;
  }
  const ids = Object.keys(ROUTES) as OperationId[];
  return Object.fromEntries(
    ids.map((id) => [id, (asked?: Readonly<Record<string, unknown>>, options?: CallOptions) => ask(id, asked, options)]),
  ) as unknown as Client;
}
