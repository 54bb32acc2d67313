import { type Context, Hono } from 'hono';
import { csrf } from 'hono/csrf';
import { HTTPException } from 'hono/http-exception';
import { RateLimiterMemory, RateLimiterRes } from 'rate-limiter-flexible';
import type * as z from 'zod';
import { LintelError } from '../base/index.js';
import { spelled } from '../membership/index.js';
import type { Lintel, ServerStanding } from '../server/index.js';
import { openApi } from './openapi.js';
import type { Operation } from './operation.js';
import { OPERATIONS } from './operations.js';
import { problemOf, problemResponse } from './problem.js';

/** Who sends a request, as the application has verified it. */
export interface Sender {
  readonly user: string;
  /** Obligations that this person has met. */
  readonly fulfilled?: readonly string[];
  /** Facts about the request, set by the server. */
  readonly context?: Readonly<Record<string, unknown>>;
  /** By which way in the application was asked, of those that the charter names. */
  readonly channel?: string;
  /** Somebody who looks after a tenant, or looks as another: what these were begun with answered. */
  readonly care?: string;
  readonly view?: string;
}

export interface FaceOptions {
  /** Who is signed in; undefined for nobody. Keys of programs are read by the face itself. */
  readonly sender: (request: Request) => Promise<Sender | undefined> | Sender | undefined;
  /** Where the face is mounted: `/lintel`. Default: at the root. */
  readonly at?: string;
  /** Pages of other addresses that may send forms, beside one's own. */
  readonly origins?: readonly string[];
  /** Requests that one person, program or address may send in a minute. Default 600. */
  readonly perMinute?: number;
  /** Whence a request comes, for those of nobody who is signed in: the address of the client. Default: all of these together. */
  readonly from?: (request: Request) => string;
  /** Told of what went wrong here: errors that are nobody's business outside. */
  readonly onError?: (error: unknown) => void;
  readonly title?: string;
}

export interface Face {
  /** Answers a request. It never throws. */
  readonly fetch: (request: Request) => Promise<Response>;
  /** The face as OpenAPI 3.1 has it; also answered at `/openapi.json`. */
  readonly openApi: Record<string, unknown>;
}

const bearer = (request: Request) => /^Bearer (lintel_key_\S+)$/.exec(request.headers.get('authorization') ?? '')?.[1];

/** Whoever sent a request, in the tenant that its address names. @throws LintelError `no-account`, `key-invalid`, `not-found`. */
export async function standingOfRequest<L extends Lintel<any>>(
  lintel: L,
  sender: FaceOptions['sender'],
  request: Request,
  tenant: string,
  fresh = false,
): Promise<Awaited<ReturnType<L['enter']>>> {
  const standing = await enter(lintel, sender, request, tenant, fresh);
  // Whoever is no member learns nothing, not even that there is such a tenant; a key counts in its own alone.
  if ((standing.isMember || standing.facts.care) && standing.facts.tenant.id === spelled(lintel.charter, 'tenant', tenant))
    return standing as Awaited<ReturnType<L['enter']>>;
  throw new LintelError('not-found', 'There is no such page.', {});
}

async function enter(lintel: Lintel<any>, sender: FaceOptions['sender'], request: Request, tenant: string, fresh: boolean): Promise<ServerStanding<any>> {
  const key = bearer(request);
  if (key !== undefined) return lintel.enterByKey(key, { fresh });
  const who = await sender(request);
  if (!who) throw new LintelError('no-account', 'Sign in first.', {});
  return lintel.enter({ ...who, tenant, fresh });
}

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
function readAs<T extends z.ZodType>(schema: T, value: unknown): z.infer<T> {
  const read = schema.safeParse(value);
  if (read.success) return read.data;
  const { path, message } = deepest(read.error.issues);
  const place = path.map((part) => (typeof part === 'number' ? `[${part}]` : `.${String(part)}`)).join('');
  throw new LintelError('bad-request', `${place.replace(/^\./, '') || 'the request'}: ${message}`, {});
}

async function bodyOf(c: Context, schema: z.ZodType | undefined): Promise<unknown> {
  if (!schema) return undefined;
  // Another site's form can send no JSON.
  if (!c.req.header('content-type')?.startsWith('application/json')) throw new LintelError('bad-request', 'Send JSON.', {});
  const data: unknown = await c.req.json().catch(() => undefined);
  if (data === undefined) throw new LintelError('bad-request', 'The request has no JSON in it.', {});
  return readAs(schema, data);
}

const etagOf = (latest: string) => `"${latest}"`;

function seenIn(c: Context): string | undefined {
  const tag = c.req.header('if-match');
  if (tag === undefined || tag === '*') return undefined;
  // A tag that is none of ours matches nothing.
  return /^"([0-9a-f]{64})"$/.exec(tag)?.[1] ?? 'none of ours';
}

/** The membership over HTTP, as a function of a request: mount it in whatever answers requests. */
export function createFace(lintel: Lintel<any>, options: FaceOptions): Face {
  const { sender, from = () => 'somebody', perMinute = 600 } = options;
  const limiter = new RateLimiterMemory({ points: perMinute, duration: 60 });
  const app = new Hono().basePath(options.at ?? '/');
  const described = openApi(options.title ?? 'Membership');

  app.onError((error) => {
    if (error instanceof HTTPException) return problemResponse(new LintelError('refused', 'This request was refused: it comes from another page.', {}));
    if (problemOf(error).status === 500) options.onError?.(error);
    return problemResponse(error);
  });
  app.notFound(() => problemResponse(new LintelError('not-found', 'There is no such page.', {})));
  const ofOwnPages = csrf({ origin: (origin, c) => origin === new URL(c.req.url).origin || (options.origins ?? []).includes(origin) });
  // Only a browser that keeps people signed in by itself can be made to send something in their name.
  app.use('*', (c, next) => (c.req.header('cookie') === undefined ? next() : ofOwnPages(c, next)));
  app.use('*', async (c, next) => {
    await next();
    c.header('cache-control', 'no-store');
    c.header('x-content-type-options', 'nosniff');
  });
  app.get('/openapi.json', (c) => c.json(described));
  for (const operation of OPERATIONS) {
    const path = operation.path.replace(/\{(\w+)\}/g, ':$1');
    app.on(operation.method.toUpperCase(), path, async (c) => (operation.in === 'tenant' ? inTenant(c, operation) : before(c, operation)));
  }

  async function within(who: string): Promise<void> {
    await limiter.consume(who).catch((refused: unknown) => {
      if (!(refused instanceof RateLimiterRes)) throw refused;
      throw new LintelError('too-fast', 'Too many requests. Wait a moment.', { seconds: Math.ceil(refused.msBeforeNext / 1000) });
    });
  }

  async function inTenant(c: Context, operation: Operation & { in: 'tenant' }): Promise<Response> {
    const { tenant = '', ...path } = c.req.param() as Record<string, string>;
    const standing = await standingOfRequest(lintel, sender, c.req.raw, tenant, true);
    await within(standing.userId as string);
    const query = operation.query ? readAs(operation.query, c.req.query()) : {};
    const body = await bodyOf(c, operation.body);
    // Read first: what is answered is at least as new as its tag.
    const latest = operation.method === 'get' && !operation.fresh ? await standing.latestChange() : undefined;
    if (latest !== undefined && c.req.header('if-none-match') === etagOf(latest)) return c.body(null, 304);
    const idempotencyKey = operation.takes === 'idempotency-key' ? c.req.header('idempotency-key')?.slice(0, 200) : undefined;
    const answer = await operation.run({ lintel, standing, path, query, body, seen: operation.takes === 'if-match' ? seenIn(c) : undefined, idempotencyKey });
    if (latest !== undefined) c.header('etag', etagOf(latest));
    return c.json(answer as object);
  }

  async function before(c: Context, operation: Operation & { in: 'person' | 'nobody' }): Promise<Response> {
    const user = operation.in === 'person' ? (await sender(c.req.raw))?.user : undefined;
    if (operation.in === 'person' && user === undefined) throw new LintelError('no-account', 'Sign in first.', {});
    await within(user ?? from(c.req.raw));
    return c.json((await operation.run({ lintel, user, path: {}, query: {}, body: await bodyOf(c, operation.body) })) as object);
  }

  return { fetch: async (request) => app.fetch(request), openApi: described };
}
