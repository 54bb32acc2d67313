import { type Context, Hono } from 'hono';
import { bodyLimit } from 'hono/body-limit';
import { csrf } from 'hono/csrf';
import { HTTPException } from 'hono/http-exception';
import { isLintelError, LintelError } from '../base/index.js';
import { spelled } from '../membership/index.js';
import type { Domains, SignOn } from '../provisioning/index.js';
import { type Lintel, proveFirst, type ServerStanding, type Signed } from '../server/index.js';
import type { Look } from '../standing/index.js';
import { ACCOUNT } from './accounts.js';
import { type AccountsAtFace, leave, secretsIn } from './cookies.js';
import { openApi } from './openapi.js';
import { MOST_BYTES, type Operation, type Placed, placed } from './operation.js';
import { OPERATIONS } from './operations.js';
import { problemOf, problemResponse } from './problem.js';
import { Rates } from './rates.js';
import { bodyOf, insistOnTexts, readAs } from './read.js';

/** Who sends a request, as the application has verified it. */
export interface Sender extends Signed {
  /** Obligations that this person has met. */
  readonly fulfilled?: readonly string[];
  /** Facts about the request, set by the server. */
  readonly context?: Readonly<Record<string, unknown>>;
  /** By which way in the application was asked, of those that the charter names. */
  readonly channel?: string;
  /** Somebody who looks after a tenant, or looks as another: what these were begun with answered. */
  readonly care?: string;
  readonly look?: string;
}

/** How the face knows who asks, and how much it answers. */
export interface FaceOptions {
  /** Who is signed in; undefined for nobody. Keys of programs are read by the face itself. */
  readonly sender: (request: Request) => Promise<Sender | undefined> | Sender | undefined;
  /** The library's own accounts, where the application has none: signing in and all that belongs to it is answered too, and cookies are set. */
  readonly accounts?: AccountsAtFace;
  /** Signing in by providers of tenants: the ways into each are answered, and clients' secrets are taken. */
  readonly signOn?: SignOn;
  /** Looks at mail domains in the DNS. */
  readonly domains?: Domains;
  /** Where the face is mounted: `/lintel`. Default: at the root. */
  readonly at?: string;
  /** Pages of other addresses that may send forms, beside one's own. */
  readonly origins?: readonly string[];
  /**
   * Requests that one person or key may send in a minute; nobody who is signed in, as many from one place. Some count as several: a proposal as ten. Default 600. A place may
   * send twenty times as many in all. Of somebody who guesses keys, links or tenants a tenth of that is answered:
   * a person, and whoever is not signed in, from one place.
   */
  readonly perMinute?: number;
  /**
   * Whence a request comes: the address of the client. Default: the socket's, as `@hono/node-server` tells it; behind a proxy say which header of the proxy's has it. Where
   * there is none, nothing counts by place.
   */
  readonly from?: (request: Request) => string | undefined;
  /** Told of what went wrong here: errors that are nobody's business outside. */
  readonly onError?: (error: unknown) => void;
  /** What the description of the face is called. Default `Membership`. */
  readonly title?: string;
}

/** The membership over HTTP: what answers requests, and its description. */
export interface Face {
  /** Answers a request. It never throws. @param env what the adapter knows of the connection. */
  readonly fetch: (request: Request, env?: object) => Promise<Response>;
  /** The face as OpenAPI 3.1 has it; also answered at `/openapi.json`. */
  readonly openApi: Record<string, unknown>;
}

export const keyOfRequest = (request: Request) => /^Bearer (lintel_key_\S+)$/.exec(request.headers.get('authorization') ?? '')?.[1];

/** True of a request that changes nothing (RFC 9110 section 9.2.1). */
export const isSafe = ({ method }: Pick<Request, 'method'>): boolean => ['GET', 'HEAD', 'OPTIONS'].includes(method);

/**
 * Whoever sent a request, in the tenant that its address names. Somebody who looks as another sends nothing that could change something.
 *
 * @throws LintelError `no-account`, `key-invalid`, `not-found`; `only-a-look`, `not-for-trial`.
 */
export async function standingOfRequest<L extends Lintel<any>>(
  lintel: L,
  sender: FaceOptions['sender'],
  request: Request,
  tenant: string,
  fresh = false,
): Promise<Awaited<ReturnType<L['enter']>>> {
  const standing = await whoeverAsks(lintel, sender, request, tenant, fresh);
  // guard look-route-changes-nothing by looks: A route that says nothing of looks would be carried out in one.
  if (standing.facts.look && !isSafe(request)) changesNothing(standing.facts.look);
  return standing;
}

/** @throws LintelError `only-a-look`; `not-for-trial` in a look that tries. */
export function changesNothing({ tries }: Pick<Look, 'tries'>): never {
  if (tries) throw new LintelError('not-for-trial', 'This is not among what may be tried. Nothing was done.', {});
  throw new LintelError('only-a-look', 'You look as somebody else, and change nothing.', {});
}

/** The same, where what was sent is held to the look by what answers it. */
export async function whoeverAsks<L extends Lintel<any>>(
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
  const key = keyOfRequest(request);
  if (key !== undefined) return lintel.enterByKey(key, { fresh });
  const who = await sender(request);
  if (!who) throw new LintelError('no-account', 'Sign in first.', {});
  return lintel.enter({ ...who, tenant, fresh });
}

/** The header by which an answer says that somebody looks as another, or that what they sent was tried and taken back. */
export const LOOK = 'lintel-look';

const etagOf = (latest: string) => `"${latest}"`;

function seenIn(c: Context): string | undefined {
  const tag = c.req.header('if-match');
  if (tag === undefined || tag === '*') return undefined;
  // A tag that is none of ours matches nothing.
  return /^"([0-9a-f]{64})"$/.exec(tag)?.[1] ?? 'none of ours';
}

/** What `@hono/node-server` gives with a request. */
interface Adapter {
  readonly incoming?: { readonly socket?: { readonly remoteAddress?: string } };
}

export const placeOf = (c: Context, { from }: Pick<FaceOptions, 'from'>) =>
  from ? from(c.req.raw) : (c.env as Adapter | undefined)?.incoming?.socket?.remoteAddress;

/** Counts a request before anything is read for it, and tells who sent it. `guessed` is to be called where it was what somebody asks who guesses. */
export async function countRequest(rates: Rates, c: Context, options: Pick<FaceOptions, 'sender' | 'from'>, costs = 1) {
  const key = keyOfRequest(c.req.raw);
  const who = key === undefined ? await options.sender(c.req.raw) : undefined;
  return { who, guessed: await rates.count(key ?? (who && String(who.user)), who !== undefined, placeOf(c, options), costs) };
}

/** Codes of what somebody is told who guesses a key, a link or, before anything else is asked, a tenant. */
const GUESSED = new Set(['key-invalid', 'invitation-invalid', 'link-invalid', 'not-found', 'sign-in-failed']);

async function orGuessed<R>(asked: Promise<R>, guessed: () => Promise<void>): Promise<R> {
  return asked.catch(async (error: unknown) => {
    if (isLintelError(error) && GUESSED.has(error.code)) await guessed();
    throw error;
  });
}
/** Codes of names that mean nothing, in what was sent. */
const FROM_OUTSIDE = new Set(['unknown-action', 'unknown-kind', 'record-mismatch']);

const tooLarge = (most: number) => new LintelError('too-large', `The request is larger than ${most} bytes.`, {});

/** The membership over HTTP, as a function of a request: mount it in whatever answers requests. */
export function createFace(lintel: Lintel<any>, options: FaceOptions): Face {
  const { sender, signOn, domains } = options;
  const rates = new Rates(options.perMinute);
  const app = new Hono().basePath(options.at ?? '/');
  const operations = placed({ ...OPERATIONS, ...(options.accounts && ACCOUNT) }).filter((one) => one.with === undefined || options[one.with] !== undefined);
  const described = openApi(options.title ?? 'Membership', operations);

  app.onError((error) => {
    if (error instanceof HTTPException) return problemResponse(new LintelError('refused', 'This request was refused: it comes from another page.', {}));
    // A name that came from outside is no mistake in the code.
    if (isLintelError(error) && FROM_OUTSIDE.has(error.code)) return problemResponse(new LintelError('bad-request', error.message, {}));
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
  for (const operation of operations) {
    const path = operation.path.replace(/\{(\w+)\}/g, ':$1');
    const most = bodyLimit({ maxSize: operation.most ?? MOST_BYTES, onError: () => problemResponse(tooLarge(operation.most ?? MOST_BYTES)) });
    app.on(operation.method, path, most, async (c) => {
      insistOnTexts([c.req.param(), c.req.query()]);
      if (operation.in === 'account') return ofAccount(c, operation, options.accounts as AccountsAtFace);
      return operation.in === 'tenant' ? inTenant(c, operation) : before(c, operation);
    });
  }

  async function inTenant(c: Context, operation: Placed & { in: 'tenant' }): Promise<Response> {
    const { tenant = '', ...path } = c.req.param() as Record<string, string>;
    const { who, guessed } = await countRequest(rates, c, options, operation.costs);
    const standing = await orGuessed(
      whoeverAsks(lintel, () => who, c.req.raw, tenant, true),
      guessed,
    );
    const query = operation.query ? readAs(operation.query, c.req.query()) : {};
    const body = await bodyOf(c, operation.body);
    // Read first: what is answered is at least as new as its tag.
    const latest = operation.method === 'GET' && !operation.fresh ? await standing.latestChange() : undefined;
    if (latest !== undefined && c.req.header('if-none-match') === etagOf(latest)) return c.body(null, 304);
    const idempotencyKey = operation.takes === 'idempotency-key' ? c.req.header('idempotency-key')?.slice(0, 200) : undefined;
    const run = (one: ServerStanding<any>) =>
      operation.run({
        lintel,
        standing: one,
        path,
        query,
        body,
        seen: operation.takes === 'if-match' ? seenIn(c) : undefined,
        idempotencyKey,
        signOn,
        domains,
      });
    const isTried = operation.tries && standing.facts.look?.tries;
    const answer = await (isTried ? standing.trial(operation.id, run) : run(standing));
    if (standing.facts.look) c.header(LOOK, isTried ? 'tried' : 'looking');
    if (latest !== undefined) c.header('etag', etagOf(latest));
    return c.json(answer as object);
  }

  async function before(c: Context, operation: Operation & { in: 'person' | 'nobody' }): Promise<Response> {
    const who = operation.in === 'person' ? await sender(c.req.raw) : undefined;
    if (operation.in === 'person' && who === undefined) throw new LintelError('no-account', 'Sign in first.', {});
    const guessed = await rates.count(who && String(who.user), who !== undefined, placeOf(c, options), operation.costs ?? 1);
    if (operation.in === 'person' && operation.lately && options.accounts && !who?.fulfilled?.includes('recentSignIn')) throw proveFirst();
    const asked = { lintel, path: {}, query: {}, signOn, domains, body: await bodyOf(c, operation.body) };
    const answer = operation.in === 'person' ? operation.run({ ...asked, who: who as Sender }) : operation.run(asked);
    return c.json((await orGuessed(Promise.resolve(answer), guessed)) as object);
  }

  async function ofAccount(c: Context, operation: Operation & { in: 'account' }, at: AccountsAtFace): Promise<Response> {
    const from = placeOf(c, options);
    const guessed = await rates.count(undefined, false, from, operation.costs ?? 1);
    const body = await bodyOf(c, operation.body);
    const { token, device } = secretsIn(c.req.header('cookie'), at);
    const coming = { from, label: c.req.header('user-agent') };
    const { answer, ...left } = await orGuessed(operation.run({ lintel, accounts: at.accounts, token, device, body, coming }), guessed);
    leave(c, left, at);
    return c.json(answer);
  }

  return { fetch: async (request, env) => app.fetch(request, env), openApi: described };
}
