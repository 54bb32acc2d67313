import type { Context, MiddlewareHandler } from 'hono';
import { LintelError } from '../base/index.js';
import type { CharterTypes } from '../charter/index.js';
import type { Lintel, ScopedDb, ServerStanding } from '../server/index.js';
import { throwIfRefused } from '../standing/index.js';
import { countRequest, type FaceOptions, standingOfRequest } from './face.js';
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
export function withStanding<T extends CharterTypes, DB = any>(
  lintel: Lintel<T>,
  options: Pick<FaceOptions, 'sender'> & { readonly tenant?: (c: Context) => string | undefined },
): MiddlewareHandler<Standing<T, DB>> {
  const named = options.tenant ?? ((c: Context) => c.req.param('tenant') ?? c.req.header('lintel-tenant'));
  return async (c, next) => {
    const tenant = named(c as Context);
    if (tenant === undefined || tenant === '') throw new LintelError('not-found', 'There is no such page.', {});
    const standing = await standingOfRequest(lintel, options.sender, c.req.raw, tenant);
    c.set('standing', standing as never);
    c.set('scope', standing.scope() as never);
    await next();
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
    const record = await guardedRecord(c.var.standing, action, named(c as Context));
    if (record) c.set('record', record);
    await next();
  };
}
