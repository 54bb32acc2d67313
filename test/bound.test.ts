/* A sign-in session that is bound to tenants: it enters those, and touches nothing of the person. */
import { Hono } from 'hono';
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { createFace, problemResponse, type Sender, withStanding } from 'warm-lintel/http';
import { Lintel } from 'warm-lintel/server';
import { type Club, club, code, whole } from './club.js';
import { digestOf } from './worlds.js';

let lintel: Club;
let db: Kysely<any>;
/** Somebody with full control of the platform and of two other tenants, in a session that enters one of them. */
const bound = { user: 'root', enters: ['club'] };
let token: string;
let proof: string;
beforeAll(async () => {
  ({ lintel, db } = await club());
  await lintel.openTenant({ id: 'third', name: 'Third', keyholder: 'root' });
  const key = await lintel.enter({ tenant: 'club', user: 'key' });
  const [answer] = await key.invitations.send([{ address: 'root@club.example', roles: [whole('keyholder')] }]);
  await lintel.acceptInvitation('root', { token: answer?.token as string });
  await lintel.openTenant({ id: 'fourth', name: 'Fourth', keyholder: 'key' });
  const fourth = await lintel.enter({ tenant: 'fourth', user: 'key' });
  token = (await fourth.invitations.send([{ address: 'root@club.example', roles: [] }]))[0]?.token as string;
  await fourth.carryOut([{ do: 'set-rules', joining: { asks: true } }]);
  proof = (await lintel.changeAddress('root', 'root@new.example')).token as string;
});
afterAll(() => db.destroy());

/** Everything that there is. */
async function everything(): Promise<string> {
  const { rows } = await sql<{ table_name: string }>`select table_name from information_schema.tables where table_name like 'lintel\\_%' order by 1`.execute(
    db,
  );
  return digestOf(
    db,
    rows.map(({ table_name: name }) => name),
  );
}

test('it enters its tenants, and is nobody in every other', async () => {
  const [here, there, nobody] = [
    await lintel.enter({ ...bound, tenant: 'club' }),
    await lintel.enter({ ...bound, tenant: 'third' }),
    await lintel.enter({ tenant: 'third' }),
  ];
  expect([here.isKeyholder, here.userId, there.facts]).toEqual([true, 'root', nobody.facts]);
  expect((await lintel.enter({ user: 'root', enters: [], tenant: 'club' })).isMember).toBe(false);
  expect((await lintel.enter({ user: 'root', enters: undefined, tenant: 'third' })).isKeyholder).toBe(true);
  const tenantsOf = async (more: object) =>
    (await lintel.enterAll({ ...bound, ...more })).standings.filter(({ isMember }) => isMember).map(({ facts }) => facts.tenant.id);
  expect([await tenantsOf({}), await tenantsOf({ tenants: ['third', 'club', 'platform'] })]).toEqual([['club'], ['club']]);
  expect((await lintel.myTenants(bound)).map(({ id }) => id)).toEqual(['club']);
  // Care is of the platform, also in a tenant that the session enters.
  const { id } = await lintel.platform('root').beginCare({ tenant: 'third', reason: 'They asked.', hours: 1 });
  expect((await lintel.enter({ user: 'root', tenant: 'third', care: id })).facts.subject).toBe('caretaker');
  expect(await code(lintel.enter({ ...bound, tenant: 'third', care: id }))).toBe('session-bound');
});

/** Every call before a standing, and what is asked of it; `code`: no person asks it, or it is for code of the application alone. */
const CALLS: Record<
  Exclude<keyof Lintel<any>, 'charter' | 'db' | 'records' | 'places' | 'hasMailer'>,
  ((asker: any) => Promise<unknown>) | 'enters' | 'code'
> = {
  enter: 'enters',
  enterAll: 'enters',
  myTenants: 'enters',
  myInvitations: (asker) => lintel.myInvitations(asker),
  arrive: 'code',
  bindIdentity: (asker) => lintel.bindIdentity(asker, { tenantId: 'club', connectionId: 'x', claims: {} }),
  domainHolder: 'code',
  domainsToSee: 'code',
  domainSeen: 'code',
  openConnections: 'code',
  acceptInvitation: (asker) => lintel.acceptInvitation(asker, { token }),
  askToJoin: (asker) => lintel.askToJoin(asker, 'fourth'),
  stopAsking: (asker) => lintel.stopAsking(asker, 'fourth'),
  renamePerson: (asker) => lintel.renamePerson(asker, 'Else'),
  changeAddress: (asker) => lintel.changeAddress(asker, 'else@club.example'),
  proveAddress: (asker) => lintel.proveAddress(asker, proof),
  takePlace: (asker) => lintel.takePlace(asker, 'x'),
  platform: async (asker) => lintel.platform(asker),
  prepare: 'code',
  recordsOf: 'code',
  recordsIn: 'code',
  placeTenant: 'code',
  takeOffRecords: 'code',
  keepTakingOff: 'code',
  enterByKey: 'code',
  within: 'code',
  addPerson: 'code',
  intake: 'code',
  personByAddress: 'code',
  openTenant: 'code',
  setPlan: 'code',
  closeTenant: 'code',
  reopenTenant: 'code',
  giveUpAddress: 'code',
  erasePerson: 'code',
  lookAtInvitation: 'code',
  lookAtActivation: 'code',
  spendActivation: 'code',
  passwordChosen: 'code',
  declineInvitation: 'code',
  deliver: 'code',
  keepDelivering: 'code',
  passOn: 'code',
  keepPassingOn: 'code',
  testMail: 'code',
  trimJournal: 'code',
  overCharter: 'code',
};

test('every call before a standing obeys it: refused, with nothing done', async () => {
  const methods = Object.getOwnPropertyNames(Lintel.prototype).filter((name) => !['constructor', 'hasMailer', 'records', 'places'].includes(name));
  expect(Object.keys(CALLS).sort()).toEqual(methods.sort());
  const before = await everything();
  for (const [name, call] of Object.entries(CALLS)) {
    if (typeof call === 'string') continue;
    for (const enters of [['club'], ['platform', 'club', 'third', 'fourth'], []])
      expect([name, await code(call({ user: 'root', enters }))]).toEqual([name, 'session-bound']);
  }
  expect(await everything()).toBe(before);
});

const BODIES: Record<string, object> = {
  myTenants: {},
  myInvitations: {},
  acceptInvitation: { tenantId: 'fourth', invitationId: 'x' },
  askToJoin: { tenant: 'fourth' },
  stopAsking: { tenant: 'fourth' },
  rename: { name: 'Else' },
  changeAddress: { address: 'else@club.example' },
  proveAddress: { token: 'x' },
  openTenant: { id: 'fifth', name: 'Fifth', keyholder: 'root' },
  closeTenant: { tenant: 'third', reason: 'No.' },
  reopenTenant: { tenant: 'third', reason: 'No.' },
  setPlan: { tenant: 'third', seats: 3 },
  beginCare: { tenant: 'club', reason: 'No.', hours: 1 },
  endCare: { tenant: 'third', care: 'x' },
  erasePerson: { user: 'key' },
  deactivatePerson: { user: 'key', reason: 'No.' },
  resetFactors: { user: 'key', reason: 'Lost.' },
  reactivatePerson: { user: 'key', reason: 'No.' },
};

test('over HTTP too: what is asked of oneself is refused, another tenant is not there, and routes of the application follow', async () => {
  const sender = (): Sender => bound;
  const face = createFace(lintel, { sender, perMinute: 100_000 });
  const asked = (path: string, method = 'GET', body?: object) =>
    face.fetch(
      new Request(`http://localhost${path}`, {
        method,
        ...(body && method !== 'GET' && { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } }),
      }),
    );
  const all = Object.entries(face.openApi.paths as Record<string, Record<string, { operationId: string; security?: object[] }>>).flatMap(([path, methods]) =>
    Object.entries(methods).map(([method, one]) => ({ path, method: method.toUpperCase(), ...one })),
  );
  const ofPerson = all.filter(({ path, security }) => !path.includes('{tenant}') && security?.length !== 0);
  expect(ofPerson.map(({ operationId }) => operationId).sort()).toEqual(Object.keys(BODIES).sort());
  const before = await everything();
  for (const { operationId, path, method } of ofPerson) {
    const answer = await asked(path, method, BODIES[operationId]);
    const said = await answer.json();
    if (operationId === 'myTenants') expect(said.items).toMatchObject([{ id: 'club' }]);
    else expect([operationId, answer.status, said.code]).toEqual([operationId, 403, 'session-bound']);
  }
  const bytes = async (tenant: string) => (await asked(`/tenants/${tenant}/members`)).text();
  expect([(await asked('/tenants/club/members')).status, await bytes('third')]).toEqual([200, await bytes('nowhere')]);
  const app = new Hono().use('/:tenant', withStanding(lintel, { sender })).get('/:tenant', (c) => c.text(c.var.standing.facts.tenant.name));
  app.onError((error) => problemResponse(error));
  expect([(await app.request('/club')).status, (await app.request('/third')).status]).toEqual([200, 404]);
  expect(await everything()).toBe(before);
});
