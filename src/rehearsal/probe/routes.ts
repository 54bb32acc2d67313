import { didYouMean, LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
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
const METHODS = ['get', 'post', 'put', 'patch', 'delete'];

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

function readRoute(charter: Charter<any>, given: ProbeRoute): Route | string {
  const path = given.path.replace(/:(\w+)/g, '{$1}');
  const parts = path.split('/').filter((part) => part !== '');
  const params: Record<string, string> = {};
  const values: Record<string, string> = {};
  const fixed = parts.filter((part) => !part.startsWith('{'));
  const kindOfPath = given.kind ?? fixed.map((part) => kindCalled(charter, part)).findLast((found) => found !== undefined);
  for (const [i, part] of parts.entries()) {
    const name = /^\{(\w+)\}$/.exec(part)?.[1];
    if (name === undefined) continue;
    const before = parts[i - 1] ?? '';
    const field = kindOfPath === undefined || given.params?.[name] !== undefined ? undefined : charter.kind(kindOfPath).fields[name];
    if (field?.role === 'plain') {
      values[name] = name;
      continue;
    }
    const what =
      given.params?.[name] ??
      kindCalled(charter, name.replace(/_?id$/i, '')) ??
      kindCalled(charter, before) ??
      (TENANT.test(name) || TENANT.test(before) ? 'tenant' : undefined);
    if (what === undefined) return `what {${name}} names is not known; say it in params`;
    if (what !== 'tenant') charter.kind(what);
    params[name] = what;
  }
  const named = Object.entries(params).filter(([, what]) => what !== 'tenant');
  const [record, recordKind] = named.at(-1) ?? [];
  const kind = given.kind ?? recordKind ?? kindOfPath;
  const method = given.method.toUpperCase();
  const { needs, body, query = [] } = given;
  if (needs !== undefined) charter.permission(needs);
  return { method, path, name: `${method} ${path}`, params, values, kind, record, query, needs, body };
}

/** A value that a JSON schema takes. */
function sample(schema: any, depth = 0): unknown {
  if (typeof schema !== 'object' || schema === null || depth > 4) return undefined;
  if (schema.example !== undefined) return schema.example;
  if (schema.default !== undefined) return schema.default;
  if (Array.isArray(schema.enum)) return schema.enum[0];
  if (schema.const !== undefined) return schema.const;
  const one = schema.oneOf?.[0] ?? schema.anyOf?.[0];
  if (one) return sample(one, depth + 1);
  switch (Array.isArray(schema.type) ? schema.type[0] : schema.type) {
    case 'object':
      return Object.fromEntries(Object.entries(schema.properties ?? {}).map(([name, inner]) => [name, sample(inner, depth + 1)]));
    case 'array':
      return [];
    case 'integer':
    case 'number':
      return schema.minimum ?? 1;
    case 'boolean':
      return false;
    default:
      return 'Probe';
  }
}

/** The routes of an OpenAPI description. References are followed within it. */
function fromOpenApi(described: any): ProbeRoute[] {
  const look = (part: any, depth = 0): any => {
    if (typeof part?.$ref !== 'string' || depth > 5) return part;
    return look(
      part.$ref
        .replace(/^#\//, '')
        .split('/')
        .reduce((at: any, step: string) => at?.[step.replaceAll('~1', '/').replaceAll('~0', '~')], described),
      depth + 1,
    );
  };
  return Object.entries(described.paths ?? {}).flatMap(([path, item]: [string, any]) =>
    METHODS.filter((method) => item[method]).map((method): ProbeRoute => {
      const operation = item[method];
      const parameters = [...(item.parameters ?? []), ...(operation.parameters ?? [])].map((one) => look(one));
      const schema = look(look(operation.requestBody)?.content?.['application/json']?.schema);
      const body = schema && sample(schema);
      return {
        method,
        path,
        query: parameters.filter((one) => one?.in === 'query').map((one) => one.name),
        ...(typeof operation['x-needs'] === 'string' && { needs: operation['x-needs'] }),
        ...(typeof body === 'object' && body !== null && { body }),
      };
    }),
  );
}

/** Reads the routes of a target, and what their parameters name. @throws LintelError `no-routes`. */
export function readRoutes(charter: Charter<any>, { routes: told, only }: Pick<ProbeTarget, 'routes' | 'only'>): Routes {
  const given = Array.isArray(told) ? (told as readonly ProbeRoute[]) : fromOpenApi(told);
  if (given.length === 0) throw new LintelError('no-routes', 'there is no route to try; give probe.routes a list, or a description by OpenAPI', {});
  const read = given.map((one) => [one, readRoute(charter, one)] as const);
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
