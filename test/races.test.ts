/* Two at once, over real parallel connections: whatever they do, what must always hold does. */
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { isLintelError } from 'warm-lintel';
import { createLintel, type Proposal, type Step } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { LONG } from './long.js';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

const RACES = LONG ? 500 : 4;
const whole = { on: 'tenant' } as const;
const KEYHOLDER = { role: 'keyholder', anchor: whole };
const KEEPER = { role: 'keeper', anchor: whole };

let db: Kysely<any>;
let lintel: Apiary;
let made = 0;
beforeAll(async () => {
  ({ db } = await apiaryOnPostgres());
  lintel = createLintel({ charter, db }) as unknown as Apiary;
});
afterAll(() => db.destroy());

const enter = (tenant: string, user: string) => lintel.enter({ tenant, user, fulfilled: ['recentSignIn'] });
const does = async (tenant: string, user: string, ...steps: Step[]) => (await enter(tenant, user)).carryOut(steps);
async function person(): Promise<{ id: string; address: string }> {
  const address = `r${++made}@race.example`;
  return { address, id: await lintel.addPerson({ name: 'Somebody', address, confirmedAt: new Date() }) };
}
async function world(...roles: (typeof KEEPER)[][]): Promise<{ tenant: string; boss: string; members: string[] }> {
  const { id: boss } = await person();
  const tenant = await lintel.openTenant({ name: 'Race', keyholder: boss });
  const members: string[] = [];
  for (const held of roles) members.push(await joined(tenant, boss, held));
  return { tenant, boss, members };
}
async function joined(tenant: string, boss: string, roles: (typeof KEEPER)[]): Promise<string> {
  const { id, address } = await person();
  await lintel.acceptInvitation(id, { token: await tokenFor(tenant, boss, address, roles) });
  return id;
}
async function tokenFor(tenant: string, boss: string, address: string, roles: (typeof KEEPER)[] = []): Promise<string> {
  const [answer] = await (await enter(tenant, boss)).invitations.send([{ address, roles }]);
  return answer?.token ?? '';
}
/** Each at the same time; what each came to: `done`, or the code of its refusal. Anything else is a fault. */
const atOnce = (...work: (() => Promise<unknown>)[]) =>
  Promise.all(
    work.map((one) =>
      one().then(
        () => 'done',
        (error: unknown) => (isLintelError(error) ? error.code : Promise.reject(error)),
      ),
    ),
  );

/** So many races, a few at a time so that the connections are in use together. */
function races(name: string, race: () => Promise<void>): void {
  test(`${name} (${RACES} races)`, { timeout: 1_200_000 }, async () => {
    for (let i = 0; i < RACES; i += 2) await Promise.all([race(), race()]);
  });
}

races('whoever is erased while they come in is no member of anything', async () => {
  const { tenant, boss } = await world();
  const { id, address } = await person();
  const other = await world();
  const [first, second] = [await tokenFor(tenant, boss, address), await tokenFor(other.tenant, other.boss, address)];
  const came = await atOnce(
    () => lintel.acceptInvitation(id, { token: first }),
    () => lintel.erasePerson(id),
    () => lintel.acceptInvitation(id, { token: second }),
  );
  if (came[1] === 'try-again') await lintel.erasePerson(id);
  expect(came[1]).toMatch(/^(done|try-again)$/);
  expect(await db.selectFrom('lintel_member').select('user_id').where('user_id', '=', id).execute()).toEqual([]);
  expect(await db.selectFrom('lintel_person_tenant').select('person_id').where('person_id', '=', id).execute()).toEqual([]);
});

races('of two keyholders who leave, are removed or demoted from two sides, one stays', async () => {
  const { tenant, boss, members } = await world([KEYHOLDER]);
  const [other = ''] = members;
  const ends: ((by: string, whom: string) => Step)[] = [
    (by) => ({ do: 'set-roles', holder: { user: by }, roles: [] }),
    () => ({ do: 'leave' }),
    (_, whom) => ({ do: 'remove', user: whom }),
    (_, whom) => ({ do: 'set-roles', holder: { user: whom }, roles: [] }),
    (_, whom) => ({ do: 'suspend', user: whom }),
  ];
  const pick = () => ends[Math.floor(Math.random() * ends.length)] as (typeof ends)[0];
  await atOnce(
    () => does(tenant, boss, pick()(boss, other)),
    () => does(tenant, other, pick()(other, boss)),
  );
  const left = await sql`select 1 from lintel_assignment a join lintel_member m on m.tenant_id = a.tenant_id and m.user_id = a.user_id
    where a.tenant_id = ${tenant} and a.role = 'keyholder' and m.status = 'active'`.execute(db);
  expect(left.rows.length).toBeGreaterThan(0);
});

races('one invitation that is accepted twice is accepted once', async () => {
  const { tenant, boss } = await world();
  const { id: user, address } = await person();
  const token = await tokenFor(tenant, boss, address, [KEEPER]);
  const came = await atOnce(
    () => lintel.acceptInvitation(user, { token }),
    () => lintel.acceptInvitation(user, { token }),
  );
  expect(came.sort()).toEqual(['done', expect.toBeOneOf(['invitation-used', 'already-member'])]);
});

races('the last seat is taken by one', async () => {
  const { tenant, boss } = await world();
  await lintel.setPlan(tenant, { seats: 2 });
  const guests = [];
  for (let i = 0; i < 3; i++) {
    const { id: user, address } = await person();
    guests.push({ user, token: await tokenFor(tenant, boss, address) });
  }
  const came = await atOnce(
    ...guests.map(
      ({ user, token }) =>
        () =>
          lintel.acceptInvitation(user, { token }),
    ),
  );
  expect(came.sort()).toEqual(['done', 'no-seat', 'no-seat']);
  expect((await (await enter(tenant, boss)).members.list()).length).toBe(2);
});

races('a role that is dropped while it is given is held by nobody', async () => {
  const { tenant, boss, members } = await world([], [KEYHOLDER]);
  const [who = '', other = ''] = members;
  await does(tenant, boss, { do: 'make-role', id: 'own-r', role: { label: 'R', may: { 'hive.read': ['tenant'] } } });
  const came = await atOnce(
    () => does(tenant, boss, { do: 'drop-role', id: 'own-r' }),
    () => does(tenant, other, { do: 'set-roles', holder: { user: who }, roles: [{ role: 'own-r', anchor: whole }] }),
  );
  expect(came).toBeOneOf([
    ['done', 'unknown-role'],
    ['role-held', 'done'],
  ]);
  const { rows } =
    await sql`select 1 from lintel_assignment a where a.tenant_id = ${tenant} and a.role = 'own-r' and not exists (select 1 from lintel_role r where r.tenant_id = a.tenant_id and r.id = a.role)`.execute(
      db,
    );
  expect(rows.length).toBe(0);
});

races('a member who is removed while inviting leaves no invitation that can be accepted', async () => {
  const { tenant, boss, members } = await world([KEYHOLDER]);
  const [other = ''] = members;
  const { id: guest, address } = await person();
  let token = '';
  await atOnce(
    () => does(tenant, boss, { do: 'remove', user: other }),
    async () => {
      token = await tokenFor(tenant, other, address, [KEEPER]);
    },
  );
  const [came] = await atOnce(() => lintel.acceptInvitation(guest, { token }));
  expect(came).toBeOneOf(['invitation-void', 'invitation-invalid']);
});

races('of two units that are moved below each other, one is', async () => {
  const { tenant, boss, members } = await world([KEYHOLDER]);
  await does(tenant, boss, { do: 'add-unit', id: 'a', name: 'A' }, { do: 'add-unit', id: 'b', name: 'B' });
  const came = await atOnce(
    () => does(tenant, boss, { do: 'move-unit', id: 'a', below: 'b' }),
    () => does(tenant, members[0] ?? '', { do: 'move-unit', id: 'b', below: 'a' }),
  );
  expect(came.sort()).toEqual(['done', 'unit-circle']);
});

races('of two proposals over the same role, one is carried out and the other told what changed', async () => {
  const { tenant, boss, members } = await world([], [KEYHOLDER]);
  const [who = '', other = ''] = members;
  await does(
    tenant,
    boss,
    { do: 'make-role', id: 'own-r', role: { label: 'R', may: {} } },
    { do: 'set-roles', holder: { user: who }, roles: [{ role: 'own-r', anchor: whole }] },
  );
  const [a, b] = [await enter(tenant, boss), await enter(tenant, other)];
  const edit = (permission: string): Step[] => [{ do: 'edit-role', id: 'own-r', role: { label: 'R', may: { [permission]: ['tenant'] } } }];
  const [one, two]: [Proposal, Proposal] = [await a.propose(edit('hive.read')), await b.propose(edit('entry.read'))];
  expect(
    (
      await atOnce(
        () => a.carryOut(one),
        () => b.carryOut(two),
      )
    ).sort(),
  ).toEqual(['done', 'proposal-stale']);
});

races('a record that nobody owns, taken by two, is owned by one, and the other is told', async () => {
  const { tenant, members } = await world([KEEPER], [KEEPER]);
  const id = `race-${++made}`;
  await db.insertInto('hives').values({ id, tenant_id: tenant, made_by: members[0], name: 'Hive', colonies: 1, status: 'active' }).execute();
  const came = await Promise.all(members.map(async (user) => (await enter(tenant, user)).change('hive', [id], { keeperId: user } as never)));
  expect(came.map(({ changed }: any) => changed.length).sort()).toEqual([0, 1]);
  const { keeper_id } = await db.selectFrom('hives').select('keeper_id').where('id', '=', id).executeTakeFirstOrThrow();
  expect(keeper_id).toBe(members[came.findIndex(({ changed }: any) => changed.length === 1)]);
});
