import { didYouMean, LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import { describedRoutes } from './described.js';
import type { ProbeRoute, ProbeTarget } from './target.js';

/** A route with what its parameters name. */
export interface Route {
  readonly method: string;
  /** With parameters as `{id}`. */
  readonly path: string;
  readonly name: string;
  /** By parameter: `tenant`, or a kind. */
  readonly params: Readonly<Record<string, string>>;
  /** By parameter that names no record: the field of the kind whose value it is. */
  readonly values: Readonly<Record<string, string>>;
  readonly kind: string | undefined;
  /** The parameter that names the record which it is about. */
  readonly record: string | undefined;
  readonly query: readonly string[];
  /** A permission without which nobody is to be answered with success. */
  readonly needs: string | undefined;
  readonly body: Readonly<Record<string, unknown>> | undefined;
  /** Sent with it, besides those that sign in. */
  readonly headers?: Readonly<Record<string, string>>;
}

export interface Routes {
  readonly routes: readonly Route[];
  /** Their paths with the verbs that are not described for them. */
  readonly others: readonly Route[];
  /** Routes that cannot be tried, and why. */
  readonly unreached: readonly { readonly route: string; readonly why: string }[];
}

const TENANT = /^(t|tenant|org|organi[sz]ation|account|company|workspace|customer|club|team)s?(_?id)?$/i;

const plain = (word: string) =>
  word
    .toLowerCase()
    .replace(/[^a-z]/g, '')
    .replace(/ies$/, 'y')
    .replace(/s$/, '');

/** The kind that a word of an address or a body means. */
export function kindCalled(charter: Charter<any>, word: string): string | undefined {
  const wanted = plain(word);
  if (wanted === '') return undefined;
  return Object.entries(charter.data.kinds).find(([kind, { table, one, many }]) => [kind, table, one, many].some((name) => plain(name) === wanted))?.[0];
}

/** What applications call those who belong, whatever the kind is called. */
const MEMBERS = /^(member|user|people|person|staff|team)s?(_?id)?$/i;

function readRoute(charter: Charter<any>, given: ProbeRoute, membership: string | undefined): Route | string {
  const called = (word: string) => kindCalled(charter, word.replace(/_?id$/i, '')) ?? (MEMBERS.test(word) ? membership : undefined);
  const path = given.path.replace(/:(\w+)/g, '{$1}');
  const parts = path.split('/').filter((part) => part !== '');
  const params: Record<string, string> = {};
  const values: Record<string, string> = {};
  const fixed = parts.filter((part) => !part.startsWith('{'));
  const kindOfPath = given.kind ?? fixed.map(called).findLast((found) => found !== undefined);
  for (const [i, part] of parts.entries()) {
    const name = /^\{(\w+)\}$/.exec(part)?.[1];
    if (name === undefined) continue;
    const before = parts[i - 1] ?? '';
    const field = kindOfPath === undefined || given.params?.[name] !== undefined ? undefined : charter.kind(kindOfPath).fields[name];
    if (field?.role === 'plain') {
      values[name] = name;
      continue;
    }
    const what = given.params?.[name] ?? called(name) ?? called(before) ?? (TENANT.test(name) || TENANT.test(before) ? 'tenant' : undefined);
    if (what === undefined) return `what {${name}} names is not known; say it in params`;
    if (what !== 'tenant') charter.kind(what);
    params[name] = what;
  }
  const named = Object.entries(params).filter(([, what]) => what !== 'tenant');
  const [record, recordKind] = named.at(-1) ?? [];
  // What hangs on a record, and is listed or made there: `/hives/{id}/inspections`.
  const under = recordKind === undefined ? undefined : called(parts.at(-1) ?? '');
  const kind = given.kind ?? under ?? recordKind ?? kindOfPath;
  const method = given.method.toUpperCase();
  const { needs, body, query = [] } = given;
  if (needs !== undefined) charter.permission(needs);
  return { method, path, name: `${method} ${path}`, params, values, kind, record, query, needs, body };
}

/** The routes that are read from something, each with the kind that it is about, or with why that is not known. @throws LintelError `no-routes`. */
export function routesIn(
  charter: Charter<any>,
  routes: ProbeTarget['routes'],
  membership: string | undefined,
): readonly { readonly route: ProbeRoute; readonly kind?: string | undefined; readonly why?: string }[] {
  // In a recording, by its form alone.
  const isId = (part: string) => /^(\d+|[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12})$/i.test(part);
  return describedRoutes(routes, isId).map((route) => {
    const read = readRoute(charter, route, membership);
    return typeof read === 'string' ? { route, why: read } : { route, kind: read.kind };
  });
}

/** Reads the routes of a target, and what their parameters name. @throws LintelError `no-routes`. */
export function readRoutes(
  charter: Charter<any>,
  { routes: told, only, membership }: Pick<ProbeTarget, 'routes' | 'only' | 'membership'>,
  isId: (part: string) => boolean,
): Routes {
  const given = describedRoutes(told, isId);
  if (given.length === 0)
    throw new LintelError(
      'no-routes',
      'there is no route to try; give probe.routes a list, a description by OpenAPI, a recording of requests (HAR), or the Express, Fastify or Hono application itself',
      {},
    );
  const read = given.map((one) => [one, readRoute(charter, one, membership?.kind)] as const);
  const known = read.flatMap(([, route]) => (typeof route === 'string' ? [] : [route]));
  const others = otherVerbs(known);
  const unknown = only?.find((name) => ![...known, ...others].some((route) => route.name === name));
  if (unknown !== undefined)
    throw new LintelError(
      'no-routes',
      `there is no route "${unknown}"${didYouMean(
        unknown,
        known.map(({ name }) => name),
      )}`,
      {},
    );
  const isWanted = ({ name }: Route) => only?.includes(name) ?? true;
  const routes = known.filter(isWanted);
  return {
    routes,
    others: others.filter((one) => isWanted(one) || routes.some(({ path }) => path === one.path)),
    unreached: read.flatMap(([{ method, path }, why]) =>
      typeof why === 'string' ? [{ route: `${method.toUpperCase()} ${path.replace(/:(\w+)/g, '{$1}')}`, why }] : [],
    ),
  };
}

function otherVerbs(routes: readonly Route[]): Route[] {
  const known = new Set(routes.map(({ name }) => name));
  const byPath = new Map(routes.map((route) => [route.path, route]));
  return [...byPath.values()].flatMap((route) => [
    ...['POST', 'PUT', 'PATCH', 'DELETE']
      .map((method) => ({ ...route, method, name: `${method} ${route.path}`, body: undefined }))
      .filter(({ name }) => !known.has(name)),
    // Some frameworks take the verb from a header.
    ...(route.record === undefined ? [] : ['PUT', 'DELETE']).map((verb) => ({
      ...route,
      method: 'POST',
      name: `POST ${route.path}`,
      body: undefined,
      headers: { 'x-http-method-override': verb },
    })),
  ]);
}
