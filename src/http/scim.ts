import { type Context, Hono } from 'hono';
import { bodyLimit } from 'hono/body-limit';
import { isLintelError } from '../base/index.js';
import { spelled } from '../membership/index.js';
import * as scim from '../provisioning/scim/index.js';
import type { KeptGroup, KeptUser, Lintel, ServerStanding } from '../server/index.js';
import { countRequest, keyOfRequest } from './face.js';
import { problemOf } from './problem.js';
import { Rates } from './rates.js';

/** How a directory reaches the library by SCIM. */
export interface DirectoryPagesOptions {
  /** Where it is mounted. Default `/scim`. */
  readonly at?: string;
  /** The address of the application, where that is not what requests say: `https://app.example`. */
  readonly origin?: string;
  /** Requests that one directory may send in a minute. Default 6000. */
  readonly perMinute?: number;
  /** Whence a request comes, as for {@link createFace}. */
  readonly from?: (request: Request) => string | undefined;
  /** Told of what went wrong here. */
  readonly onError?: (error: unknown) => void;
}

const ERROR = 'urn:ietf:params:scim:api:messages:2.0:Error';
const LIST = 'urn:ietf:params:scim:api:messages:2.0:ListResponse';
/** So much has a page, where nothing is said, and at most. */
const [USUAL, MOST] = [100, 500];
/** So large is a request: a group of tens of thousands. */
const MOST_BYTES = 8_000_000;

/** How errors of ours are called there (RFC 7644, section 3.12), where that is not by their status. */
const CALLED: Readonly<Record<string, readonly [status: number, scimType?: string]>> = {
  'directory-taken': [409, 'uniqueness'],
  'changed-meanwhile': [412],
  'no-such-member': [400, 'invalidValue'],
  'bad-name': [400, 'invalidValue'],
  'last-keyholder': [409, 'mutability'],
  'removed-here': [403],
  apart: [409],
};

function errorResponse(error: unknown): Response {
  const { status: usual, detail, code } = problemOf(error);
  const [status, scimType] = error instanceof scim.ScimError ? ([error.status, error.scimType] as const) : (CALLED[code] ?? ([usual] as const));
  const body = { schemas: [ERROR], status: String(status), ...(scimType !== undefined && { scimType }), detail };
  return Response.json(body, { status, headers: { 'content-type': 'application/scim+json', ...(status === 401 && { 'www-authenticate': 'Bearer' }) } });
}

/**
 * A tenant's directory over SCIM 2.0 (RFC 7642 to 7644): people and groups, at `/scim/{tenant}/v2`, by the key of a program that may `directory.write`. It sees what it brought, and nothing else.
 *
 * @example
 * const directory = directoryPages(lintel);
 * app.all('/scim/*', (c) => directory.fetch(c.req.raw, c.env));
 */
export function directoryPages(
  lintel: Lintel<any>,
  options: DirectoryPagesOptions = {},
): { readonly fetch: (request: Request, env?: object) => Promise<Response> } {
  const { at = '/scim', perMinute = 6000 } = options;
  const rates = new Rates(perMinute);
  const app = new Hono<{ Variables: { standing: ServerStanding<any>; base: string } }>().basePath(at);
  type C = Context<{ Variables: { standing: ServerStanding<any>; base: string } }>;

  app.onError((error) => {
    if (!isLintelError(error)) options.onError?.(error);
    return errorResponse(error);
  });
  const missing = () => errorResponse(new scim.ScimError(404, 'There is no such resource.'));
  app.notFound(missing);
  app.use(
    '/:tenant/v2/*',
    bodyLimit({ maxSize: MOST_BYTES, onError: () => errorResponse(new scim.ScimError(413, `The request is larger than ${MOST_BYTES} bytes.`)) }),
    async (c, next) => {
      const { guessed } = await countRequest(rates, c, { sender: () => undefined, ...options }, 1);
      const tenant = c.req.param('tenant') ?? '';
      const key = keyOfRequest(c.req.raw);
      const standing = await lintel.enterByKey(key ?? '', { fresh: true, asDirectory: true }).catch(async (error: unknown) => {
        await guessed();
        throw error;
      });
      // A key counts in its own tenant alone.
      // guard directory-key-own-tenant by arrival: A directory's key would count in other tenants.
      if (standing.facts.tenant.id !== spelled(lintel.charter, 'tenant', tenant)) {
        await guessed();
        return errorResponse(new scim.ScimError(401, 'This key does not count here.'));
      }
      if (!standing.isMember) return errorResponse(new scim.ScimError(403, 'This directory is suspended.'));
      // guard directory-write-needed by arrival: Any program could write as a directory.
      standing.insist('directory.write');
      c.set('standing', standing);
      c.set('base', `${options.origin ?? new URL(c.req.url).origin}${at}/${encodeURIComponent(tenant)}/v2`);
      await next();
      c.header('cache-control', 'no-store');
    },
  );

  const answer = (c: C, body: object, status: 200 | 201 = 200, headers: Record<string, string> = {}) =>
    c.body(JSON.stringify(body), status, { 'content-type': 'application/scim+json', ...headers });
  const bodyOf = async (c: C): Promise<Record<string, unknown>> => {
    try {
      const body: unknown = JSON.parse(await c.req.text());
      if (typeof body === 'object' && body !== null && !Array.isArray(body)) return body as Record<string, unknown>;
    } catch {
      // Told below.
    }
    throw new scim.ScimError(400, 'The request has no JSON object in it.', 'invalidSyntax');
  };
  const list = (text: string | undefined) => (text === undefined || text.trim() === '' ? undefined : text.split(',').map((one) => one.trim()));
  const asked = (c: C) => {
    const [attributes, excluded] = [list(c.req.query('attributes')), list(c.req.query('excludedAttributes'))];
    return { ...(attributes && { attributes }), ...(excluded && { excluded }) };
  };
  /** True where the members of groups, or the groups of users, are to be told. */
  const tells = (c: C, name: string) => {
    const { attributes, excluded } = asked(c);
    const is = (all: readonly string[]) => all.some((one) => one.toLowerCase().split('.')[0] === name);
    return (attributes === undefined || is(attributes)) && !(excluded !== undefined && is(excluded));
  };
  const versionOf = (c: C): number | undefined => {
    const tag = c.req.header('if-match');
    if (tag === undefined || tag === '*') return undefined;
    const [, version] = /^(?:W\/)?"(\d{1,9})"$/.exec(tag) ?? [];
    return version === undefined ? -1 : Number(version);
  };
  /** One page of what there is. */
  const page = async <K>(c: C, all: readonly K[], told: (some: readonly K[]) => Promise<object[]>) => {
    const number = (name: string, usual: number) => {
      const text = c.req.query(name);
      const value = text === undefined ? usual : Number(text);
      if (!Number.isInteger(value)) throw new scim.ScimError(400, `${name} is a whole number`, 'invalidValue');
      return value;
    };
    const start = Math.max(1, number('startIndex', 1));
    const count = Math.min(MOST, Math.max(0, number('count', USUAL)));
    const some = await told(all.slice(start - 1, start - 1 + count));
    return answer(c, { schemas: [LIST], totalResults: all.length, startIndex: start, itemsPerPage: some.length, Resources: some });
  };
  const one = (c: C, resource: Record<string, unknown>, version: number, status: 200 | 201 = 200) => {
    const tag = scim.etagOf(version);
    if (status === 200 && c.req.method === 'GET' && c.req.header('if-none-match') === tag) return c.body(null, 304, { etag: tag });
    const { location } = resource.meta as { readonly location: string };
    return answer(c, scim.shown(resource, asked(c)), status, { etag: tag, ...(status === 201 && { location }) });
  };

  const filterOf = (c: C) => {
    const text = c.req.query('filter');
    return text === undefined || text === '' ? undefined : scim.readFilter(text);
  };

  // ---- What can be asked
  app.get('/:tenant/v2/ServiceProviderConfig', (c) => answer(c, scim.SERVICE));
  for (const [path, all] of [
    ['ResourceTypes', (c: C) => scim.resourceTypes(c.get('base'))],
    ['Schemas', (c: C) => scim.schemas(lintel.charter, c.get('base'))],
  ] as const) {
    app.get(`/:tenant/v2/${path}`, (c) =>
      answer(c, { schemas: [LIST], totalResults: all(c).length, startIndex: 1, itemsPerPage: all(c).length, Resources: all(c) }),
    );
    app.get(`/:tenant/v2/${path}/:id`, (c) => {
      const found = all(c).find(({ id }) => id === c.req.param('id'));
      return found ? answer(c, found) : missing();
    });
  }

  // ---- People
  const usersOf = async (c: C, all: readonly KeptUser[]) => {
    const isTold = tells(c, 'groups');
    const users = all.flatMap(({ id, groups }) => (groups ? [] : [id]));
    const groups = users.length > 0 && isTold ? await c.get('standing').directory.members({ users }) : [];
    const by = new Map<string, typeof groups>();
    for (const group of groups) by.set(group.user, [...(by.get(group.user) ?? []), group]);
    return all.map((kept) => scim.userOf(kept, (isTold && kept.groups) || (by.get(kept.id) ?? []), c.get('base')));
  };
  const user = async (c: C, kept: KeptUser, status: 200 | 201 = 200) => one(c, (await usersOf(c, [kept]))[0] as Record<string, unknown>, kept.version, status);
  const read = async (c: C, body: unknown) => {
    const found = scim.readUser(lintel.charter, body);
    await c.get('standing').directory.noteUnknown(found.unknown);
    return found.user;
  };
  app.get('/:tenant/v2/Users', async (c) => {
    const filter = filterOf(c);
    const known = Object.fromEntries(
      ['id', 'userName', 'externalId'].flatMap((name) => {
        const value = scim.equalTo(filter, name);
        return value === undefined ? [] : [[name, value]];
      }),
    );
    const all = await c.get('standing').directory.users(known);
    const some = filter === undefined ? all : all.filter((kept) => scim.holds(filter, scim.userOf(kept, [], c.get('base'))));
    return page(c, some, async (part) => (await usersOf(c, part)).map((resource) => scim.shown(resource, asked(c))));
  });
  app.post('/:tenant/v2/Users', async (c) => user(c, await c.get('standing').directory.bringUser(await read(c, await bodyOf(c))), 201));
  app.get('/:tenant/v2/Users/:id', async (c) => {
    const [kept] = await c.get('standing').directory.users({ id: c.req.param('id'), withGroups: true });
    return kept ? user(c, kept) : missing();
  });
  app.put('/:tenant/v2/Users/:id', async (c) => {
    const next = await read(c, await bodyOf(c));
    return user(c, await c.get('standing').directory.changeUser(c.req.param('id'), () => next, versionOf(c)));
  });
  app.patch('/:tenant/v2/Users/:id', async (c) => {
    const body = await bodyOf(c);
    const unknown = new Set<string>();
    const kept = await c.get('standing').directory.changeUser(
      c.req.param('id'),
      (before) => {
        const found = scim.readUser(lintel.charter, scim.patched(before.resource, body, scim.homeIn(lintel.charter)));
        for (const what of found.unknown) unknown.add(what);
        return found.user;
      },
      versionOf(c),
    );
    await c.get('standing').directory.noteUnknown([...unknown]);
    return user(c, kept);
  });
  app.delete('/:tenant/v2/Users/:id', async (c) => {
    await c.get('standing').directory.dropUser(c.req.param('id'), versionOf(c));
    return c.body(null, 204);
  });

  // ---- Groups
  const groupsOf = async (c: C, all: readonly KeptGroup[]) => {
    const tellsMembers = tells(c, 'members');
    const members = tellsMembers && all.length > 0 ? await c.get('standing').directory.members({ groups: all.map(({ id }) => id) }) : [];
    const by = new Map<string, typeof members>();
    for (const member of members) {
      const known = by.get(member.group);
      if (known) known.push(member);
      else by.set(member.group, [member]);
    }
    return all.map((kept) => scim.groupOf(kept, tellsMembers ? (by.get(kept.id) ?? []) : undefined, c.get('base')));
  };
  const group = async (c: C, kept: KeptGroup, status: 200 | 201 = 200) =>
    one(c, (await groupsOf(c, [kept]))[0] as Record<string, unknown>, kept.version, status);
  app.get('/:tenant/v2/Groups', async (c) => {
    const filter = filterOf(c);
    const [id, externalId] = [scim.equalTo(filter, 'id'), scim.equalTo(filter, 'externalId')];
    const all = await c.get('standing').directory.groups({ ...(id !== undefined && { id }), ...(externalId !== undefined && { externalId }) });
    const asksMembers = /\bmembers\b/i.test(c.req.query('filter') ?? '');
    const members = asksMembers && all.length > 0 ? await c.get('standing').directory.members({ groups: all.map((one) => one.id) }) : [];
    const whole = (kept: KeptGroup) =>
      scim.groupOf(
        kept,
        members.filter((one) => one.group === kept.id),
        c.get('base'),
      );
    const some = filter === undefined ? all : all.filter((kept) => scim.holds(filter, whole(kept)));
    return page(c, some, async (part) => (await groupsOf(c, part)).map((resource) => scim.shown(resource, asked(c))));
  });
  app.post('/:tenant/v2/Groups', async (c) => group(c, await c.get('standing').directory.bringGroup(scim.readGroup(await bodyOf(c))), 201));
  app.get('/:tenant/v2/Groups/:id', async (c) => {
    const [kept] = await c.get('standing').directory.groups({ id: c.req.param('id') });
    return kept ? group(c, kept) : missing();
  });
  app.put('/:tenant/v2/Groups/:id', async (c) => {
    const next = scim.readGroup(await bodyOf(c));
    return group(c, await c.get('standing').directory.changeGroup(c.req.param('id'), () => next, versionOf(c)));
  });
  app.patch('/:tenant/v2/Groups/:id', async (c) => {
    const body = await bodyOf(c);
    const next = (kept: KeptGroup, members: readonly string[]) => {
      const { name, externalId } = kept;
      const before = { displayName: name, ...(externalId !== null && { externalId }), members: members.map((value) => ({ value })) };
      return scim.readGroup(scim.patched(before, body));
    };
    return group(c, await c.get('standing').directory.changeGroup(c.req.param('id'), next, versionOf(c)));
  });
  app.delete('/:tenant/v2/Groups/:id', async (c) => {
    await c.get('standing').directory.dropGroup(c.req.param('id'), versionOf(c));
    return c.body(null, 204);
  });
  return { fetch: async (request, env) => app.fetch(request, env) };
}
