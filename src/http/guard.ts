import type { Context, MiddlewareHandler } from 'hono';
import { LintelError } from '../base/index.js';
import type { CharterTypes } from '../charter/index.js';
import type { Lintel, ScopedDb, ServerStanding } from '../server/index.js';
import { throwIfRefused } from '../standing/index.js';
import { changesNothing, countRequest, type FaceOptions, isSafe, LOOK, standingOfRequest, whoeverAsks } from './face.js';
import { Rates } from './rates.js';

/** What {@link withStanding} puts on a request. */
export interface Standing<T extends CharterTypes = any, DB = any> {
  Variables: { standing: ServerStanding<T>; scope: ScopedDb<DB> };
}

/** What {@link guard} puts on a request besides. */
export interface Guarded<R = Record<string, unknown>> {
  Variables: { record: R };
}

/**
 * Middleware for Hono: the standing of whoever sent the request, and the application's database narrowed to it. The tenant is named by the
 * request, never by what somebody last looked at.
 *
 * @param options `tenant`: where the request names it; default the part `:tenant` of the path, else the header `Lintel-Tenant`.
 */
export function withStanding<T extends CharterTypes, DB = any>(lintel: Lintel<T>, options: AtRequest): MiddlewareHandler<Standing<T, DB>> {
  return async (c, next) => {
    const standing = await standingOfRequest(lintel, options.sender, c.req.raw, tenantOf(c as Context, options));
    await goOn(c as Context, standing, next);
  };
}

/** Goes on with a standing, and marks the answer where somebody looks as another. */
async function goOn(c: Context, standing: ServerStanding<any>, next: () => Promise<void>): Promise<void> {
  put(c, standing);
  await next();
  if (standing.facts.look) c.header(LOOK, 'looking');
}

/** Where a request says who sends it, and for which tenant. */
type AtRequest = Pick<FaceOptions, 'sender'> & { readonly tenant?: (c: Context) => string | undefined };

function tenantOf(c: Context, { tenant: named }: AtRequest): string {
  const tenant = named ? named(c) : (c.req.param('tenant') ?? c.req.header('lintel-tenant'));
  if (tenant === undefined || tenant === '') throw new LintelError('not-found', 'There is no such page.', {});
  return tenant;
}

function put(c: Context, standing: ServerStanding<any>): void {
  c.set('standing', standing);
  c.set('scope', standing.scope());
}

/**
 * {@link withStanding} for a route that may be tried: where somebody looks as another and tries, it runs in one transaction that is taken back, answers as it would have, and says so in
 * the header `lintel-look`. It takes the place of `withStanding`, and stands in front of it: behind it such a request is refused already.
 *
 * @throws LintelError `trial-too-long`, `trial-elsewhere`; and as `withStanding`.
 * @example app.patch('/w/:tenant/jobs/:id', tried(lintel, { sender }), guard('job.update'), (c) => ...);
 */
export function tried<T extends CharterTypes, DB = any>(lintel: Lintel<T>, options: AtRequest): MiddlewareHandler<Standing<T, DB>> {
  return async (c, next) => {
    const standing = await whoeverAsks(lintel, options.sender, c.req.raw, tenantOf(c as Context, options));
    const { look } = standing.facts;
    if (!look || isSafe(c.req.raw)) return goOn(c as Context, standing, next);
    // guard look-without-trial by looks: A look that does not try would try.
    if (!look.tries) changesNothing(look);
    const run = async (inside: ServerStanding<any>) => {
      put(c as Context, inside);
      await next();
      // What is still to be read of an answer is read before it is taken back.
      if (c.res.body !== null) c.res = new Response(await c.res.arrayBuffer(), c.res);
      return c.res.status;
    };
    await standing.trial(`${c.req.method} ${c.req.path}`, run, (status) => `answered ${status}`);
    c.header(LOOK, 'tried');
  };
}

/**
 * Middleware for Hono: counts a request before anything is read for it, by person or key and by place, as the face counts its own.
 *
 * @param options `costs`: as how many a request counts, default 1; `sender` is asked here once more, so let it keep for a request what it found.
 * @throws LintelError `too-fast`, with `seconds` to wait.
 */
export function bounded(
  options: Pick<FaceOptions, 'sender' | 'perMinute' | 'from'> & { readonly costs?: (c: Context) => number | undefined },
): MiddlewareHandler {
  const rates = new Rates(options.perMinute);
  return async (c, next) => {
    await countRequest(rates, c, options, options.costs?.(c));
    await next();
  };
}

/**
 * Insists on an action in a route. About records, the one of this id is loaded and answered; a hidden one is not found, like one that is missing.
 *
 * @throws LintelError `not-found`, `refused`, `obligation-open`.
 */
export async function guardedRecord(standing: ServerStanding<any>, action: string, id: string | undefined): Promise<Record<string, unknown> | undefined> {
  const { kind } = standing.charter.permission(action);
  if (kind === undefined || id === undefined) {
    throwIfRefused(standing.decide(action));
    return undefined;
  }
  const record = (await standing.findOne(kind, id, { may: [action] })) as Record<string, unknown>;
  if (!(record.may as string[]).includes(action)) await standing.insistById(action, id);
  return record;
}

/**
 * Middleware for Hono behind {@link withStanding}: goes on only where the action is allowed. About records, the one that the path names is loaded
 * and put on the request; a hidden one is not found, like one that is missing.
 *
 * @param options `id`: where the request names the record; default the part `:id` of the path. Without one the action is asked about no record.
 * @throws LintelError `not-found`, `refused`, `obligation-open`: give {@link problemResponse} the error.
 */
export function guard(action: string, options: { readonly id?: (c: Context) => string | undefined } = {}): MiddlewareHandler<Standing & Guarded> {
  const named = options.id ?? ((c: Context) => c.req.param('id'));
  return async (c, next) => {
    const record = await guardedRecord(c.get('standing'), action, named(c as Context));
    if (record) c.set('record', record);
    await next();
  };
}
