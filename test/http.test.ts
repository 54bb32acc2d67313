/* The membership over HTTP: asked as a client would, through real sockets; every answer is held against the description that the face gives of itself. */
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { getRequestListener } from '@hono/node-server';
import { Validator } from '@seriousme/openapi-schema-validator';
import { Ajv2020 } from 'ajv/dist/2020.js';
import addFormats from 'ajv-formats';
import express from 'express';
import { Hono } from 'hono';
import type { Kysely } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { createFace, type Face, guard, problemResponse, withStanding } from 'warm-lintel/http';
import { testLong } from './long.js';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

let lintel: Apiary;
let db: Kysely<any>;
let face: Face;
const servers: Server[] = [];
/** Who is signed in is told by a header here: it is the application's business. */
const sender = (request: Request) => {
  const user = request.headers.get('x-user');
  return user ? { user, fulfilled: ['recentSignIn'] } : undefined;
};

async function listening(listener: Parameters<typeof createServer>[1]): Promise<string> {
  const server = createServer(listener);
  servers.push(server);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}

let base: string;
beforeAll(async () => {
  ({ lintel, db } = await apiaryOnPostgres());
  face = createFace(lintel as never, { sender, at: '/lintel', title: 'Apiary', perMinute: 100_000 });
  base = await listening(getRequestListener(face.fetch));
  const { errors, valid } = await new Validator().validate(structuredClone(face.openApi));
  expect([valid, errors]).toEqual([true, undefined]);
});
afterAll(async () => {
  await Promise.all(servers.map((server) => new Promise((resolve) => server.close(resolve))));
  await db.destroy();
});

type Init = {
  as?: string;
  key?: string;
  body?: unknown;
  headers?: Record<string, string>;
  query?: Record<string, string>;
  path?: Record<string, string>;
  on?: string;
};
const ajv = addFormats.default(new Ajv2020({ strict: false, allErrors: false }));

/** Calls an operation by its name, and holds the answer against its description. */
async function call(id: string, { as, key, body, headers, query, path = {}, on = base }: Init = {}) {
  const { paths, components } = face.openApi as any;
  const [[url, method, operation]] = Object.entries<any>(paths).flatMap(([url, methods]) =>
    Object.entries<any>(methods)
      .filter(([, o]) => o.operationId === id)
      .map(([m, o]) => [url, m, o] as const),
  ) as [[string, string, any]];
  const full = url.replace(/\{(\w+)\}/g, (_, name: string) => encodeURIComponent(path[name] ?? 'alderbrook'));
  const response = await fetch(`${on}/lintel${full}${query ? `?${new URLSearchParams(query)}` : ''}`, {
    method: method.toUpperCase(),
    headers: {
      ...(as && { 'x-user': as }),
      ...(key && { authorization: `Bearer ${key}` }),
      ...(body !== undefined && { 'content-type': 'application/json' }),
      ...headers,
    },
    ...(body !== undefined && { body: JSON.stringify(body) }),
  });
  const text = await response.text();
  const data = text === '' ? undefined : JSON.parse(text);
  if (response.status !== 304) {
    const described = response.ok ? operation.responses[200].content['application/json'].schema : components.schemas.Problem;
    const check = ajv.compile({ ...described, components });
    expect(check(data) ? [] : [id, check.errors, data]).toEqual([]);
    expect(response.headers.get('content-type')).toContain(response.ok ? 'application/json' : 'application/problem+json');
  }
  return { status: response.status, data, etag: response.headers.get('etag'), headers: response.headers };
}

const KEEPER = { role: 'keeper', anchor: { on: 'tenant' } };
const suspend = { steps: [{ do: 'suspend', user: 'lene' }], reason: 'away' };

test('what somebody who runs a tenant does, from looking to the record', async () => {
  const as = 'maren';
  expect((await call('myTenants', { as: 'sela' })).data.items.map(({ id }: any) => id)).toEqual(['alderbrook', 'quillmoor']);
  expect((await call('standing', { as })).data).toMatchObject({ line: 'Keyholder' });
  const first = await call('listMembers', { as, query: { limit: '4' } });
  const names: string[] = [];
  for (let page = first; ; page = await call('listMembers', { as, query: { limit: '4', after: page.data.next } })) {
    names.push(...page.data.items.map(({ name }: any) => name));
    if (page.data.next === null) break;
  }
  expect(names).toEqual((await lintel.enter({ tenant: 'alderbrook', user: as }).then((s) => s.members.list())).map(({ name }) => name));
  expect((await call('member', { as, path: { user: 'otto' } })).data.line).toBe('Reader, Site warden at Orchard side');
  for (const list of ['listRoles', 'listGroups', 'listUnits', 'listGivenAlone', 'listOpenings', 'listDeputies', 'listPrograms', 'rolesToGive'])
    expect((await call(list, { as })).status).toBe(200);

  const proposal = await call('propose', { as, body: suspend });
  expect(proposal.data).toMatchObject({ people: 1, problems: [], reason: 'away', effects: [{ people: { some: [{ id: 'lene' }] } }] });
  expect((await call('change', { as, body: proposal.data })).data.done).toMatchObject([{ what: 'member suspended' }]);
  expect((await call('standing', { as: 'lene' })).status).toBe(404);
  await call('change', { as, body: { steps: [{ do: 'restore', user: 'lene' }] } });
  const again = await call('listAudit', { as, query: { limit: '2' } });
  expect(again.data.items.map(({ what, words }: any) => [what, words.reason])).toEqual([
    ['member restored', undefined],
    ['member suspended', 'away'],
  ]);
  expect((await call('listAudit', { as, query: { limit: '200', after: again.data.next } })).data.items.at(-1).number).toBe(1);
  const verdict = await call('verifyAudit', { as });
  expect((await call('verifyAudit', { as, query: { head: verdict.data.head } })).data).toEqual(verdict.data);
  expect((await call('verifyAudit', { as, query: { head: 'f'.repeat(64) } })).data.broken.why).toBe('head unknown');
  expect((await call('heldThen', { as, path: { user: 'otto' }, query: { at: new Date().toISOString() } })).data.line).toBe('Site warden at orchards, Reader');
  const handed = await call('handOver', { as, body: { from: 'otto', to: 'sela', kinds: ['hive'], reason: 'he is away' } });
  expect(handed.data.kinds.hive).toEqual({ handed: expect.any(Number), left: 0 });
  expect((await call('closeTenant', { as, body: { tenant: 'alderbrook', reason: 'x' } })).status).toBe(404);

  const sent = await call('invite', {
    as,
    body: {
      invitations: [
        { address: 'nils@new.example', roles: [KEEPER], memberUntil: '2199-01-01T00:00:00Z' },
        { address: 'nobody', roles: [] },
      ],
    },
  });
  expect(sent.data.answers.map(({ outcome }: any) => outcome)).toEqual(['invited', 'refused']);
  const { token, invitationId } = sent.data.answers[0];
  expect((await call('lookAtInvitation', { body: { token } })).data).toMatchObject({ tenantId: 'alderbrook', address: 'nils@new.example' });
  const nils = await lintel.addPerson({ name: 'Nils New', address: 'nils@new.example', confirmedAt: new Date() });
  expect((await call('myInvitations', { as: nils })).data.items).toMatchObject([{ invitationId }]);
  const renewed = await call('inviteAgain', { as, path: { invitation: invitationId } });
  expect((await call('acceptInvitation', { as: nils, body: { token } })).status).toBe(404);
  expect((await call('acceptInvitation', { as: nils, body: { token: renewed.data.token } })).data).toEqual({ tenantId: 'alderbrook' });
  expect((await call('listMembers', { as, query: { limit: '200' } })).data.items.find(({ userId }: any) => userId === nils).endsAt).toBe(
    '2199-01-01T00:00:00.000Z',
  );
  const other = await call('invite', {
    as,
    body: {
      invitations: [
        { address: 'eva@new.example', roles: [] },
        { address: 'ina@new.example', roles: [] },
      ],
    },
  });
  expect((await call('withdraw', { as, path: { invitation: other.data.answers[0].invitationId } })).status).toBe(200);
  expect((await call('declineInvitation', { body: { token: other.data.answers[1].token } })).status).toBe(200);
  const pages = [await call('listInvitations', { as, query: { limit: '1' } })];
  while (pages.at(-1)?.data.next) pages.push(await call('listInvitations', { as, query: { limit: '1', after: pages.at(-1)?.data.next } }));
  expect(
    pages
      .map(({ data }) => data.items[0].status)
      .slice(0, 3)
      .sort(),
  ).toEqual(['accepted', 'declined', 'withdrawn']);
});

testLong('nobody gets anything out of a tenant that is not theirs, whatever they ask, and it reads as if there were none', async () => {
  const { paths } = face.openApi as any;
  const key = (
    await (
      await lintel.enter({ tenant: 'quillmoor', user: 'rosa', fulfilled: ['recentSignIn'] })
    ).carryOut([
      { do: 'make-program', id: 'q-scale', name: 'Scale', responsible: 'rosa' },
      { do: 'make-key', program: 'q-scale' },
    ])
  )[1]?.secret as string;
  const bodies: Record<string, unknown> = {
    propose: suspend,
    change: suspend,
    invite: { invitations: [{ address: 'x@y.example', roles: [] }] },
    evaluation: { subject: { type: 'user', id: 'maren' }, action: { name: 'hive.read' }, resource: { type: 'hive', id: 'a-hive-01' } },
    evaluations: {},
    raiseAppeal: { action: 'hive.read', record: 'a-hive-01' },
    agreeToAppeal: {},
    declineAppeal: {},
    handOver: { from: 'tobias', to: 'sela', kinds: ['hive'] },
  };
  const hive = { action: 'hive.read', record: 'a-hive-01' };
  const QUERIES: Record<string, Init['query']> = { who: hive, remedies: { ...hive, user: 'maren' }, heldThen: { at: new Date().toISOString() } };
  let asked = 0;
  for (const methods of Object.values<any>(paths)) {
    for (const { operationId: id, parameters = [] } of Object.values<any>(methods)) {
      if (!parameters.some(({ name }: any) => name === 'tenant')) continue;
      asked += 1;
      const init = { body: bodies[id], query: QUERIES[id] } as Init;
      const missing = await call(id, { ...init, as: 'rosa', path: { tenant: 'no-such' } });
      const answers = [await call(id, { ...init, as: 'rosa' }), await call(id, { ...init, key }), await call(id, { ...init, as: 'stranger' })];
      for (const { status, data } of answers) expect([id, status, data]).toEqual([id, 404, missing.data]);
      expect([id, (await call(id, init)).status, (await call(id, { ...init, key: `${key}x` })).status]).toEqual([id, 401, 401]);
      // A member without any role sees only what is their own.
      const { status } = await call(id, { ...init, as: 'lene' });
      expect([id, id === 'standing' || id === 'propose' ? 200 : status]).toEqual([
        id,
        id === 'standing' || id === 'propose' ? 200 : expect.toBeOneOf([400, 403, 404, 200]),
      ]);
      if (['listMembers', 'listRoles', 'listGroups', 'listAudit', 'change', 'invite', 'evaluation', 'listPrograms'].includes(id))
        expect([id, status]).toEqual([id, 403]);
    }
  }
  expect(asked).toBeGreaterThan(15);
});

test('what was refused is asked for, and answered with one of its remedies; a record that changed is never answered as it was', async () => {
  const body = { action: 'hive.update', record: 'a-hive-02', words: 'Sela is away.' };
  const { id } = (await call('raiseAppeal', { as: 'tobias', body })).data;
  expect((await call('listAppeals', { as: 'tobias' })).status).toBe(403);
  const waiting = await call('listAppeals', { as: 'maren' });
  expect([waiting.etag, waiting.data.items.find((one: any) => one.id === id)]).toMatchObject([null, { what: 'Change a hive', words: 'Sela is away.' }]);
  const { remedies } = (await call('appealRemedies', { as: 'maren', path: { appeal: id } })).data;
  const { proposal } = remedies.find((one: any) => one.proposal);
  expect((await call('agreeToAppeal', { as: 'maren', path: { appeal: id }, body: {} })).data.code).toBe('not-met');
  expect((await call('agreeToAppeal', { as: 'maren', path: { appeal: id }, body: { proposal, reason: 'for now' } })).status).toBe(200);
  expect((await call('declineAppeal', { as: 'maren', path: { appeal: id }, body: {} })).status).toBe(404);
  expect((await call('myAppeals', { as: 'tobias' })).data.items).toMatchObject([{ id, status: 'agreed', reason: 'for now' }]);
  expect((await call('raiseAppeal', { as: 'tobias', body })).status).toBe(409);
  const other = (await call('raiseAppeal', { as: 'lene', body })).data.id;
  expect((await call('withdrawAppeal', { as: 'tobias', path: { appeal: other } })).status).toBe(404);
  expect((await call('withdrawAppeal', { as: 'lene', path: { appeal: other } })).status).toBe(200);
  await call('change', { as: 'maren', body: { steps: [{ do: 'set-permissions', holder: { user: 'tobias' }, permissions: [] }] } });
});

test('with what one has seen, a change is made or told to look again; the same request twice is once; and what has not changed is not sent', async () => {
  const as = 'maren';
  const seen = await call('listMembers', { as });
  expect((await call('listMembers', { as, headers: { 'if-none-match': seen.etag as string } })).status).toBe(304);
  const [rename, other] = ['one', 'two'].map((contact) => ({ steps: [{ do: 'rename-tenant', contact }] }));
  const two = await Promise.all([rename, other].map((body) => call('change', { as, body, headers: { 'if-match': seen.etag as string } })));
  expect(two.map(({ status }) => status).sort()).toEqual([200, 412]);
  expect((await call('change', { as, body: rename, headers: { 'if-match': 'W/"x"' } })).status).toBe(412);
  expect((await call('listMembers', { as, headers: { 'if-none-match': seen.etag as string } })).status).toBe(200);

  const body = { invitations: [{ address: 'twice@new.example', roles: [KEEPER] }] };
  const headers = { 'idempotency-key': 'a-1' };
  const twice = await Promise.all([1, 2, 3].map(() => call('invite', { as, body, headers })));
  expect(twice.map(({ data }) => data.answers[0].outcome)).toEqual(['invited', 'invited', 'invited']);
  expect(new Set(twice.map(({ data }) => data.answers[0].invitationId)).size).toBe(1);
  expect(twice.filter(({ data }) => data.answers[0].token).length).toBe(1);
  expect((await call('invite', { as, body, headers: { 'idempotency-key': 'a-2' } })).data.answers[0].outcome).toBe('already pending');
  expect((await call('invite', { as, body: { invitations: [{ address: 'else@new.example', roles: [] }] }, headers })).data.code).toBe('key-reused');
});

test('what is wrong is told by its place; forms of other sites change nothing; too many wait', async () => {
  const as = 'maren';
  const bad = async (body: unknown) => (await call('change', { as, body })).data.detail as string;
  expect(await bad({ steps: [{ do: 'suspend', usr: 'lene' }] })).toContain('steps[0]');
  expect(await bad({ steps: [] })).toContain('steps');
  expect((await call('listMembers', { as, query: { limit: '9999' } })).data.detail).toContain('limit');
  expect((await call('listMembers', { as, query: { after: 'nonsense' } })).data.code).toBe('bad-request');
  const at = `${base}/lintel/tenants/alderbrook/changes`;
  const raw = (headers: Record<string, string>, body: string) =>
    fetch(at, { method: 'POST', headers: { 'x-user': as, cookie: 'session=1', ...headers }, body });
  for (const type of ['text/plain', 'application/x-www-form-urlencoded', 'multipart/form-data']) {
    expect((await raw({ 'content-type': type, origin: 'https://evil.example' }, JSON.stringify(suspend))).status).toBeGreaterThanOrEqual(400);
  }
  expect((await raw({ 'content-type': 'application/json' }, '{"steps": [')).status).toBe(400);
  expect((await lintel.enter({ tenant: 'alderbrook', user: 'lene' })).isMember).toBe(true);
  const few = createFace(lintel as never, { sender, perMinute: 2 });
  const ask = () => few.fetch(new Request('http://apiary.example/tenants/alderbrook/members', { headers: { 'x-user': as } }));
  expect([(await ask()).status, (await ask()).status]).toEqual([200, 200]);
  const refused = await ask();
  expect([refused.status, Number(refused.headers.get('retry-after'))]).toEqual([429, expect.any(Number)]);
  const errors: unknown[] = [];
  const broken = createFace({ charter: lintel.charter, enter: () => Promise.reject(new Error('secret detail')) } as never, {
    sender,
    onError: (e) => errors.push(e),
  });
  const failed = await broken.fetch(new Request('http://apiary.example/tenants/x/members', { headers: { 'x-user': as } }));
  expect([failed.status, (await failed.text()).includes('secret'), errors.length]).toEqual([500, false, 1]);
});

test('who may do this to that record, and whether another may: for those who may ask', async () => {
  const hive = { action: 'hive.update', record: 'a-hive-02' };
  const all: string[] = [];
  for (let after: string | null = ''; after !== null; ) {
    const { data }: any = await call('who', { as: 'maren', query: { ...hive, limit: '3', ...(after && { after }) } });
    all.push(...data.items.map(({ userId }: any) => userId));
    after = data.next;
  }
  const expected: string[] = [];
  for (const { userId } of await (await lintel.enter({ tenant: 'alderbrook', user: 'maren' })).members.list()) {
    const s = await lintel.enter({ tenant: 'alderbrook', user: userId, fulfilled: Object.keys(lintel.charter.data.obligations) });
    if ((await s.decideById('hive.update', 'a-hive-02')).allowed) expected.push(userId);
  }
  expect(all).toEqual(expected);
  expect(all).toContain('sela');
  expect((await call('who', { as: 'ingrid', query: { ...hive, record: 'q-hive-01' } })).status).toBe(404);

  const ask = (as: string, id: string, action = 'update', record = 'a-hive-02') =>
    call('evaluation', { as, body: { subject: { type: 'user', id }, action: { name: action }, resource: { type: 'hive', id: record } } });
  expect((await ask('sela', 'sela')).data).toEqual({ decision: true });
  expect((await ask('tobias', 'tobias')).data).toMatchObject({ decision: false, context: { reason: expect.stringContaining('only where') } });
  expect((await ask('tobias', 'sela')).status).toBe(403);
  expect((await ask('maren', 'sela')).data).toEqual({ decision: true });
  expect(
    [(await ask('maren', 'sela', 'updat')).data, (await ask('maren', 'nobody')).data, (await ask('maren', 'sela', 'update', 'no-such')).data].map(
      ({ decision }) => decision,
    ),
  ).toEqual([false, false, false]);
  const several = (semantic: string) =>
    call('evaluations', {
      as: 'maren',
      body: {
        subject: { type: 'user', id: 'sela' },
        action: { name: 'update' },
        evaluations: ['a-hive-02', 'a-hive-01', 'a-hive-02'].map((id) => ({ resource: { type: 'hive', id } })),
        options: { evaluations_semantic: semantic },
      },
    }).then(({ data }) => data.evaluations.map(({ decision }: any) => decision));
  expect(await several('execute_all')).toEqual([true, false, true]);
  expect(await several('deny_on_first_deny')).toEqual([true, false]);
  expect(await several('permit_on_first_permit')).toEqual([true]);
});

test('a program comes in by its key; a guarded route loads its record; and it mounts in Express', async () => {
  const maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] });
  const made = await maren.carryOut([
    { do: 'make-program', id: 'scale', name: 'Weighing scale', responsible: 'maren' },
    { do: 'set-roles', holder: { user: 'scale' }, roles: [{ role: 'inspector', anchor: { on: 'tenant' } }] },
    { do: 'make-key', program: 'scale' },
  ]);
  const key = made[2]?.secret as string;
  const hives = new Hono<{ Variables: { record: any; scope: any } }>();
  hives.onError(problemResponse);
  hives.use('/:tenant/*', withStanding(lintel as never, { sender }) as never);
  hives.get('/:tenant/hives/:id', guard('hive.read') as never, (c) => c.json(c.var.record));
  hives.put('/:tenant/hives/:id', guard('hive.update') as never, (c) => c.json({ changed: c.var.record.id }));
  hives.get('/:tenant/count', async (c) => c.json(await c.var.scope.selectFrom('hives').select('id').execute()));
  const app = express();
  app.use('/lintel', (req, res) => getRequestListener(face.fetch)(Object.assign(req, { url: req.originalUrl }), res));
  app.use((req, res) => getRequestListener(hives.fetch)(req, res));
  const on = await listening(app);

  expect((await call('standing', { key, on })).data.line).toBe('Inspector');
  expect((await call('listMembers', { key, on })).status).toBe(403);
  const get = async (path: string, as: string, method = 'GET') => {
    const response = await fetch(`${on}${path}`, { method, headers: { 'x-user': as } });
    return [response.status, await response.text()] as const;
  };
  expect(JSON.parse((await get('/alderbrook/hives/a-hive-02', 'tobias'))[1])).toMatchObject({ id: 'a-hive-02', may: ['hive.read'] });
  expect(await get('/alderbrook/hives/q-hive-01', 'tobias')).toEqual(await get('/alderbrook/hives/no-such', 'tobias'));
  expect((await get('/alderbrook/hives/no-such', 'tobias'))[0]).toBe(404);
  expect((await get('/alderbrook/hives/a-hive-02', 'tobias', 'PUT'))[0]).toBe(403);
  expect((await get('/alderbrook/hives/a-hive-02', 'sela', 'PUT'))[1]).toBe('{"changed":"a-hive-02"}');
  expect(JSON.parse((await get('/quillmoor/count', 'ingrid'))[1]).length).toBe(
    (await (await lintel.enter({ tenant: 'quillmoor', user: 'ingrid' })).find('hive')).length,
  );
  expect((await get('/quillmoor/count', 'tobias'))[0]).toBe(404);
});

test('people are brought from a list, with every mistake told; the members are a list', async () => {
  const as = 'maren';
  const bring = async (csv: string, more: object = {}) => (await call('bringPeople', { as, body: { csv, ...more } })).data;
  expect(await bring('address,roles\nida@list.example,Keepr')).toEqual({
    problems: [{ line: 2, column: 'roles', code: 'unknown-role', words: 'no role “Keepr”; did you mean keeper?' }],
  });
  const done = { problems: [], invited: 1, changed: 0, same: 0, refused: [] };
  expect([await bring('address\nida@list.example', { dryRun: true }), await bring('address\nida@list.example')]).toEqual([done, done]);
  const { csv } = (await call('peopleFile', { as })).data;
  expect([csv.split('\n')[0], (await bring(csv)).changed]).toEqual(['address,name,roles,groups,units,until', 0]);
  expect((await call('bringPeople', { as: 'sela', body: { csv } })).status).toBe(403);
  const owners = { kind: 'hive', csv: 'record,owner\na-hive-02,otto\nnone,otto' };
  expect((await call('bringOwners', { as, body: { ...owners, dryRun: true } })).data).toMatchObject({
    problems: [],
    handed: 1,
    refused: [{ record: 'none', code: 'not-found' }],
  });
  expect((await call('bringOwners', { as, body: { kind: 'hive', csv: 'record,owner\na-hive-02,Selma' } })).data.problems[0].code).toBe('unknown-member');
});

test('somebody asks, is let in, is looked as, and comes to more by a remedy', async () => {
  const as = 'maren';
  await call('change', { as, body: { steps: [{ do: 'set-rules', joining: { asks: true } }] } });
  expect((await call('rules', { as })).data.joining).toMatchObject({ asks: true, open: false });
  expect((await call('askToJoin', { as: 'mads', body: { tenant: 'alderbrook', words: 'from across the river' } })).data).toEqual({ outcome: 'asked' });
  expect((await call('listRequests', { as })).data.items).toMatchObject([{ userId: 'mads', words: 'from across the river', addressProven: true }]);
  expect((await call('change', { as, body: { steps: [{ do: 'let-in', user: 'mads', roles: [KEEPER] }] } })).status).toBe(200);
  const view = (await call('lookAs', { as, body: { user: 'mads', reason: 'a question' } })).data;
  expect((await call('endLook', { as, path: { look: view.id } })).status).toBe(200);
  expect((await call('lookAs', { as: 'mads', body: { user: 'maren' } })).status).toBe(403);
  const query = { user: 'mads', action: 'hive.update', record: 'a-hive-02' };
  const { data } = await call('remedies', { as, query });
  expect([data.allowed, data.remedies[0].words, data.remedies[0].opens]).toEqual([false, 'give it for this record alone', { permissions: 1, records: 1 }]);
  expect((await call('change', { as, body: data.remedies[0].proposal })).status).toBe(200);
  expect((await call('remedies', { as, query })).data).toEqual({ allowed: true, remedies: [] });
});
