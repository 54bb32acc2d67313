import { LintelError } from '../../base/index.js';
import type { ProbeRoute, RoutesDescribed } from './target.js';

const METHODS = ['get', 'post', 'put', 'patch', 'delete'];
const isVerb = (method: string) => METHODS.includes(method.toLowerCase());

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
      const query = parameters.filter((one) => one?.in === 'query').map((one) => one.name);
      return {
        method,
        path,
        ...(query.length > 0 && { query }),
        ...(typeof operation['x-needs'] === 'string' && { needs: operation['x-needs'] }),
        ...(typeof body === 'object' && body !== null && { body }),
      };
    }),
  );
}

/** The routes of a recording (HAR 1.2): addresses that differ in ids are one, and what was sent is a body that is taken. */
function fromRecording(har: any, isId: (part: string) => boolean): ProbeRoute[] {
  const found = new Map<string, ProbeRoute & { query: string[] }>();
  for (const { request, response } of har.log?.entries ?? []) {
    const method = String(request?.method ?? '').toLowerCase();
    if (!isVerb(method) || !URL.canParse(request.url) || /css|javascript|image|font/.test(response?.content?.mimeType ?? '')) continue;
    const { pathname, searchParams } = new URL(request.url);
    const parts = pathname.split('/').map((part) => decodeURIComponent(part));
    const names = new Set<string>();
    const path = parts.map((part, i) => (isId(part) ? `{${unusedName(parts[i - 1] ?? '', names)}}` : part)).join('/');
    const known = found.get(`${method} ${path}`);
    const body = known?.body ?? objectIn(request.postData?.text);
    const query = [...new Set([...(known?.query ?? []), ...searchParams.keys()])];
    found.set(`${method} ${path}`, { method, path, query, ...(body && { body }) });
  }
  return [...found.values()];
}

/** `piecesId`, and no second one of it in a path. */
function unusedName(before: string, names: Set<string>): string {
  const plain = before.replace(/\W/g, '') || 'some';
  let name = `${plain}Id`;
  for (let i = 2; names.has(name); i++) name = `${plain}Id${i}`;
  names.add(name);
  return name;
}

function objectIn(text: unknown): Record<string, unknown> | undefined {
  try {
    const value: unknown = JSON.parse(String(text));
    return typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Record<string, unknown>) : undefined;
  } catch {
    return undefined;
  }
}

/** Of Express 4 and 5, and of the routers that are mounted in it. */
function fromStack(stack: readonly any[], below = ''): ProbeRoute[] {
  return stack.flatMap(({ route, handle, rawPath, regexp }): ProbeRoute[] => {
    const at = rawPath ?? mountedAt(regexp);
    if (route)
      return [route.path].flat().flatMap((path: unknown) =>
        Object.keys(route.methods)
          .filter(isVerb)
          .map((method) => ({ method, path: joined(below, String(path)) })),
      );
    return handle?.stack ? fromStack(handle.stack, joined(below, String(at ?? ''))) : [];
  });
}

/** Where a router of Express 4 is mounted: it keeps only the expression that was made of the path. */
const mountedAt = (regexp: RegExp | undefined) =>
  regexp?.source
    .replace(/^\^/, '')
    .replace('\\/?(?=\\/|$)', '')
    .replace(/\(\?:\(\[\^\\?\/]\+\?\)\)/g, '{id}')
    .replace(/\\/g, '');

const joined = (below: string, path: string) => `${below.replace(/\/$/, '')}/${path.replace(/^\//, '')}`.replace(/(.)\/$/, '$1');

/** The tree that Fastify prints. */
function fromTree(text: string): ProbeRoute[] {
  const above: string[] = [];
  return text.split('\n').flatMap((line) => {
    const [, indent = '', fragment = '', methods] = /^((?:[│ ] {3})*)[├└]── (\S*)(?: \(([A-Z, -]+)\))?/.exec(line) ?? [];
    if (fragment === '') return [];
    above.length = indent.length / 4;
    above.push(fragment);
    const path = above.join('');
    return (methods?.split(', ') ?? []).filter(isVerb).map((method) => ({ method, path }));
  });
}

/** @param isId whether a part of a recorded address is the id of something. @throws LintelError `no-routes`. */
export function describedRoutes(told: RoutesDescribed, isId: (part: string) => boolean): readonly ProbeRoute[] {
  if (Array.isArray(told)) return told as readonly ProbeRoute[];
  const one: any = told;
  const unique = (routes: ProbeRoute[]) =>
    [...new Map(routes.map((route) => [`${route.method.toUpperCase()} ${route.path}`, route])).values()].filter(({ path }) => !/\*/.test(path));
  if (one?.openapi !== undefined) return fromOpenApi(one);
  if (one?.log?.entries) return fromRecording(one, isId);
  if (typeof one?.printRoutes === 'function') return unique(fromTree(one.printRoutes()));
  if (Array.isArray(one?.routes))
    return unique(one.routes.filter(({ method }: ProbeRoute) => isVerb(method)).map(({ method, path }: ProbeRoute) => ({ method, path })));
  const router = typeof one === 'function' ? (one._router ?? one.router ?? one) : undefined;
  if (Array.isArray(router?.stack)) return unique(fromStack(router.stack));
  throw new LintelError(
    'no-routes',
    'probe.routes is nothing that routes are read from; give a list, a description by OpenAPI, a recording of requests (HAR), or the Express, Fastify or Hono application itself',
    {},
  );
}
