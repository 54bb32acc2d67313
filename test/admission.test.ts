/* People who come by a provider: what rules make of claims, and what becomes of a membership by it. Whoever runs a tenant can have its provider say anything. */
import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { defineCharter, defineKinds, everythingMet, id, oneOf, owner, tenant, text, unit } from 'warm-lintel';
import { type AdmissionRule, createLintel, type Lintel, type Step } from 'warm-lintel/server';
import { code, whole } from './club.js';
import { LONG } from './long.js';
import { emptyPostgres } from './worlds.js';

const ids = { type: 'text' } as const;
const kinds = defineKinds(
  {
    field: {
      table: 'fields',
      label: 'name',
      fields: { id: id(ids), tenantId: tenant(ids), ownerId: owner(ids), siteId: unit(ids), region: text(), name: text() },
      actions: { read: { label: 'See' }, plough: { label: 'Plough' }, weigh: { label: 'Weigh' } },
    },
  },
  { field: { own: ({ record, me }) => record.ownerId.is(me.userId), ofRegion: ({ record, me }) => record.region.is(me.attribute('region')) } },
);
const charter = defineCharter(kinds, {
  attributes: { region: { is: oneOf(['north', 'south']) }, crops: { is: text(), several: true, setBy: ['source'] }, nick: { is: text(), setBy: ['member'] } },
  roles: {
    farmer: { label: 'Farmer', may: { 'field.read': ['own', 'ofRegion'], 'field.plough': 'own' } },
    reeve: { label: 'Reeve', may: { 'field.read': 'tenant', 'field.plough': 'tenant' } },
    weigher: { label: 'Weigher', may: { 'field.read': 'tenant', 'field.weigh': 'tenant' } },
    host: {
      label: 'Host',
      may: { 'member.read': 'tenant', 'member.invite': 'tenant', 'member.suspend': 'tenant', 'member.remove': 'tenant', 'audit.read': 'tenant' },
    },
  },
  apart: { scales: { hold: ['field.plough', 'field.weigh'], sentence: 'who ploughs does not weigh.' } },
});
const everything = everythingMet(charter);

let lintel: Lintel<any>;
let db: Kysely<any>;
beforeAll(async () => {
  ({ db } = await emptyPostgres());
  const columns = ['id', 'tenant_id', 'owner_id', 'site_id', 'region', 'name'].map((name) => `${name} text collate "C"`);
  await sql.raw(`create table fields (${columns.join(', ')}, primary key (id))`).execute(db);
  lintel = createLintel({ charter, db } as never) as never;
  await lintel.prepare();
  for (const user of ['key', 'second', 'other']) await lintel.addPerson({ id: user, name: user, address: `${user}@farm.example`, confirmedAt: new Date(0) });
});
afterAll(() => db.destroy());

const TERMS = { kind: 'oidc', issuer: 'https://sign-in.county.example', clientId: 'fields' } as const;
const AT = (unitId: unknown) => ({ on: 'unit', unitId }) as never;
let made = 0;
/** A tenant of its own with a keyholder, two sites of which one lies in the other, two groups, a record, and a connection with these rules. */
async function farm(rules: readonly AdmissionRule[], more: object = {}) {
  const tenantId = `farm${++made}`;
  await lintel.openTenant({ id: tenantId, name: `Farm ${made}`, keyholder: 'key' });
  const enter = (user = 'key') => lintel.enter({ tenant: tenantId, user, fulfilled: everything });
  const does = async (...steps: Step[]) => (await enter()).carryOut(steps);
  await does(
    { do: 'add-unit', id: 'hill', name: 'The hill' },
    { do: 'add-unit', id: 'slope', name: 'The slope', below: 'hill' },
    { do: 'make-group', id: 'crew', name: 'The crew' },
    { do: 'make-group', id: 'band', name: 'The band' },
  );
  await sql`insert into fields (id, tenant_id, owner_id, site_id, region, name) values (${`${tenantId}-f`}, ${tenantId}, 'key', 'hill', 'north', 'Field')`.execute(
    db,
  );
  await does({ do: 'make-connection', id: 'county', name: 'The county', terms: TERMS, rules, ...more } as Step);
  const tried = (claims: object, override: object = {}) =>
    enter().then((standing) => standing.connections.try({ connection: 'county', claims, ...override } as never));
  await tried({ sub: 'nobody' });
  await does({ do: 'turn-connection', id: 'county', to: 'on' });
  const come = (claims: object, connectionId = 'county') => lintel.arrive({ tenantId, connectionId, claims: claims as never });
  const held = async (user: string) => {
    const { facts } = await lintel.enter({ tenant: tenantId, user, fulfilled: everything });
    const { me, assignments, subject } = facts;
    return {
      subject,
      roles: assignments.map(({ role, anchor }) => `${role}@${anchor.on === 'unit' ? anchor.unitId : anchor.on === 'record' ? anchor.id : '*'}`).sort(),
      groups: me.groupIds,
      units: me.unitIds,
      attributes: me.attributes,
    };
  };
  const events = async () => (await (await enter()).audit.list({ limit: 500 })).map(({ what }) => what);
  return { tenantId, enter, does, come, held, tried, events };
}

const GROUPS: readonly AdmissionRule[] = [
  { requires: 'org', is: ['farm'], words: 'Only people of the farm come in.' },
  { when: 'groups', is: ['growers'], gives: { roles: [{ role: 'farmer', anchor: AT({ by: 'site', as: { H: 'hill', S: 'slope' } }) }] } },
  { when: 'groups', is: ['bosses'], gives: { roles: [whole('reeve')], groups: ['crew'] } },
  { when: 'groups', is: ['scales'], gives: { roles: [whole('weigher')] } },
  { when: 'place', gives: { units: [{ by: 'place' }] } },
  { says: 'region', by: 'region' },
  { says: 'crops', by: ['more', 'crops'], as: { w: 'wheat', o: 'oats' } },
];

test('a first arrival is a member with what the rules give, a second with less loses exactly that, and the same again writes nothing', async () => {
  const { come, held, events, tenantId } = await farm(GROUPS);
  const all = {
    sub: 's1',
    name: 'Ada Fern',
    email: 'ada@county.example',
    org: 'farm',
    groups: ['growers', 'bosses', 'strange'],
    site: ['S', '?'],
    place: 'The hill',
    region: 'north',
    more: { crops: ['w', 'x'] },
  };
  const first = await come(all);
  expect(first).toMatchObject({
    outcome: 'in',
    admission: {
      unknown: [
        { claim: 'groups', values: ['strange'] },
        { claim: 'site', values: ['?'] },
        { claim: 'more.crops', values: ['x'] },
      ],
    },
  });
  const user = first.userId as string;
  expect(await held(user)).toEqual({
    subject: 'member',
    roles: ['farmer@slope', 'reeve@*'],
    groups: ['crew'],
    units: ['hill'],
    attributes: { region: 'north', crops: ['wheat'] },
  });
  const {
    rows: [person],
  } = await sql<any>`select name, address, address_written, confirmed_at, kept_by from lintel_person where id = ${user}`.execute(db);
  expect(person).toEqual({
    name: 'Ada Fern',
    address: `without an address ${user}`,
    address_written: 'ada@county.example',
    confirmed_at: null,
    kept_by: tenantId,
  });

  const marks = async () =>
    (
      await sql<any>`select t.last_hash, t.xmin::text as a, i.xmin::text as b, p.xmin::text as c from lintel_tenant t join lintel_identity i on i.tenant_id = t.id join lintel_person p on p.id = i.user_id where t.id = ${tenantId}`.execute(
        db,
      )
    ).rows;
  const before = await marks();
  expect((await come(all)).userId).toBe(user);
  expect(await marks()).toEqual(before);

  await come({ ...all, groups: ['growers'] });
  expect(await held(user)).toMatchObject({ roles: ['farmer@slope'], groups: [], units: ['hill'] });
  // Who is called otherwise is the same person still; that is no change of the membership.
  expect((await come({ ...all, groups: ['growers'], name: 'Ada Marsh', email: 'marsh@county.example' })).userId).toBe(user);
  expect((await sql<any>`select name, address_written from lintel_person where id = ${user}`.execute(db)).rows).toEqual([
    { name: 'Ada Marsh', address_written: 'marsh@county.example' },
  ]);
  expect((await events()).slice(0, 2)).toEqual(['arrived', 'arrived']);
  // Out by what is required: suspended in the connection's name, until it says otherwise.
  expect(await come({ ...all, org: 'mill' })).toMatchObject({
    outcome: 'refused',
    userId: user,
    said: { code: 'not-admitted', words: 'Only people of the farm come in.' },
  });
  expect(await held(user)).toMatchObject({ subject: 'suspended', roles: [] });
  expect(await come(all)).toMatchObject({ outcome: 'in', userId: user });
  expect(await held(user)).toMatchObject({ subject: 'member', roles: ['farmer@slope', 'reeve@*'] });
});

test('what is not there, does not fit or is too much gives nothing instead: a newcomer is refused, a member keeps what they have', async () => {
  const { come, held, does } = await farm([
    { when: 'site', gives: { roles: [{ role: 'farmer', anchor: AT({ by: 'site' }) }] } },
    { when: 'field', gives: { roles: [{ role: 'reeve', anchor: { on: 'record', kind: 'field', id: { by: 'field' } } }] } },
    { when: 'role', is: ['w'], gives: { roles: [whole('weigher')] } },
  ]);
  const codeOf = async (claims: object) => (await come({ sub: 'new', ...claims })).said?.code;
  expect(await codeOf({ site: 'nowhere' })).toBe('no-such-unit');
  expect(await codeOf({ field: 'farm1-f' })).toBe('no-such-record');
  expect(await codeOf({ site: 'hill', role: 'w' })).toBe('apart');
  await does({ do: 'add-unit', id: 'second', name: 'The hill' });
  expect(await codeOf({ site: 'The hill' })).toBe('no-such-unit');
  expect((await sql<any>`select id from lintel_person where name = 'Without a name'`.execute(db)).rows).toEqual([]);
  const { userId = '' } = await come({ sub: 'in', site: ['hill', 'slope'], field: `farm${made}-f` });
  expect((await held(userId)).roles).toEqual([`reeve@farm${made}-f`, 'farmer@hill', 'farmer@slope'].sort());
  // What goes, goes although what comes is refused.
  expect(await come({ sub: 'in', site: 'hill', role: 'w' })).toMatchObject({ outcome: 'in', said: { code: 'apart' } });
  expect((await held(userId)).roles).toEqual(['farmer@hill']);
  await does({ do: 'set-rules', oneRole: true });
  expect(await come({ sub: 'in', site: ['hill', 'slope'] })).toMatchObject({ outcome: 'in', said: { code: 'one-role' } });
  expect(await code(does({ do: 'set-roles', holder: { user: userId }, roles: [whole('host')] }))).toBe('one-role');
  for (const claims of [{}, { sub: ['a', 'b'] }, { sub: 'x'.repeat(256) }, { sub: { a: 1 } }]) expect(await code(come(claims))).toBe('no-subject');
  expect(await code(come({ sub: 'in', site: Array(2001).fill('x') }))).toBe('claims-too-large');
});

test('nothing that arrives gives full control, and what whoever set it up may no longer give is not given', async () => {
  for (const gives of [
    { roles: [whole('keyholder')] },
    { roles: [whole('keeper')] },
    { permissions: [{ permission: 'field.read', reach: 'all', anchor: { on: 'tenant' } }] },
  ])
    expect(await code(farm([{ gives } as never]))).toBe('bad-rule');
  for (const rule of [
    { says: 'nick', by: 'n' },
    { says: 'regoin', by: 'n' },
    { requires: 'a', words: ' ' },
    { when: 'a', is: [], gives: {} },
    { is: ['a'], gives: {} },
  ])
    expect(await code(farm([rule as never]))).toBe('bad-rule');
  const { does, come, held, enter, tenantId } = await farm([{ gives: { groups: ['crew'] } }]);
  expect(await code(does({ do: 'set-roles', holder: { group: 'crew' }, roles: [whole('keyholder')] }))).toBe('keyholder-alone');
  const { userId = '' } = await come({ sub: 'one' });
  // The second has full control too; the one whose rules they are steps down.
  await does({ do: 'invite', address: 'second@farm.example', roles: [whole('keyholder')] });
  const [invited] = await lintel.myInvitations('second').then((all) => all.filter((one) => one.tenantId === tenantId));
  await lintel.acceptInvitation('second', invited as never);
  const bySecond = await lintel.enter({ tenant: tenantId, user: 'second', fulfilled: everything });
  await bySecond.carryOut([{ do: 'set-roles', holder: { user: 'key' }, roles: [whole('host')] }]);
  expect(await come({ sub: 'two' })).toMatchObject({ outcome: 'refused', said: { code: 'rules-alone' } });
  expect(await come({ sub: 'one' })).toMatchObject({ outcome: 'in', userId });
  expect((await held(userId)).groups).toEqual(['crew']);
  expect(await code((await enter('key')).carryOut([{ do: 'edit-connection', id: 'county' }]))).toBe('refused');
  await bySecond.carryOut([{ do: 'edit-connection', id: 'county' }]);
  expect((await come({ sub: 'two' })).outcome).toBe('in');
  // By what came by a provider nobody sets up a provider.
  const lately = (fulfilled: string[]) =>
    lintel.enter({ tenant: tenantId, user: 'second', fulfilled }).then((one) => code(one.carryOut([{ do: 'turn-connection', id: 'county', to: 'off' }])));
  expect([await lately(everything.filter((one) => one !== 'ownSignIn')), await lately(['ownSignIn'])]).toEqual(['prove-first', 'done']);
  expect(await code(come({ sub: 'one' }))).toBe('not-found');
});

test('who was removed stays out, whatever their provider says and although they are erased, until somebody lets them in', async () => {
  const { come, does, enter, held } = await farm([{ gives: { roles: [whole('farmer')] } }]);
  const comes = async (sub: string) => (await come({ sub, name: sub })).said?.code ?? 'in';
  const users: string[] = [];
  for (const sub of ['left', 'removed', 'erased', 'gone']) users.push((await come({ sub, name: sub })).userId as string);
  const [left, removed, erased, gone] = users as [string, string, string, string];
  await (await enter(left)).carryOut([{ do: 'leave' }]);
  await does({ do: 'remove', user: removed }, { do: 'remove', user: erased });
  await lintel.erasePerson(erased);
  await lintel.erasePerson(gone);
  expect([await comes('removed'), await comes('erased'), await comes('left'), await comes('gone')]).toEqual(['removed-here', 'removed-here', 'in', 'in']);
  // What is told of who was erased is what their provider has said since.
  expect((await (await enter()).connections.refused()).map(({ subject, code }) => [subject, code])).toEqual([
    ['erased', 'removed-here'],
    ['removed', 'removed-here'],
  ]);
  await does({ do: 'unbar', connection: 'county', subject: 'erased' });
  expect([await comes('erased'), await comes('removed')]).toEqual(['in', 'removed-here']);
  // As suspended by a person they come in, and can do nothing.
  const { userId = '' } = await come({ sub: 'left', name: 'left' });
  await does({ do: 'suspend', user: userId });
  expect([(await come({ sub: 'left', name: 'left' })).outcome, (await held(userId)).subject]).toEqual(['in', 'suspended']);
});

test('32 at once who are one person end as one account, one membership, one event', async () => {
  const { come, events, tenantId } = await farm([{ gives: { roles: [whole('farmer')], groups: ['crew'], units: ['hill'] } }]);
  const all = await Promise.all(Array.from({ length: 32 }, () => come({ sub: 'one', name: 'One' })));
  expect(new Set(all.map(({ userId }) => userId)).size).toBe(1);
  expect((await events()).filter((what) => what === 'arrived')).toHaveLength(1);
  expect((await sql<any>`select count(*)::int as n from lintel_person where kept_by = ${tenantId}`.execute(db)).rows).toEqual([{ n: 1 }]);
});

test('a provider is tried before it is on, with what it would do; what is tried is what is turned on, and another issuer is another provider', async () => {
  const { does, tried, come, events, enter } = await farm(GROUPS);
  const { userId = '' } = await come({ sub: 's', org: 'farm', groups: ['growers'], site: 'H' });
  const more = [{ gives: { roles: [whole('reeve')] } }] as const;
  const count = (await events()).length;
  const trial = await tried({ sub: 's', groups: [] }, { rules: more });
  expect(trial.arrived).toMatchObject({ outcome: 'in', userId, admission: { spoke: [{ rule: 0, values: [] }] } });
  const effects = trial.proposal.effects.flatMap(({ permissions }) =>
    permissions.map((one) => [one.permission, one.was, one.becomes, one.records && [one.records.was, one.records.becomes]]),
  );
  expect(effects).toEqual([
    ['field.read', ['own in The hill', 'ofRegion in The hill'], ['all'], [0, 1]],
    ['field.plough', ['own in The hill'], ['all'], [0, 1]],
  ]);
  expect((await events()).length).toBe(count);
  expect(await code(does({ do: 'edit-connection', id: 'county', rules: [...more, { requires: 'x', words: 'X.' }] }))).toBe('not-tried');
  await does({ do: 'edit-connection', id: 'county', rules: more });
  expect((await come({ sub: 's', org: 'farm' })).admission.gives.roles).toEqual([whole('reeve')]);
  for (const other of [{ terms: { ...TERMS, issuer: 'https://else.example' } }, { terms: { ...TERMS, clientId: 'else' } }, { claims: { subject: 'email' } }])
    expect(await code(does({ do: 'edit-connection', id: 'county', ...other }))).toBe('other-connection');
  for (const issuer of ['https://sign-in.example/{tenantid}/v2.0', 'https://*.example', ' '])
    expect(await code(does({ do: 'make-connection', name: 'T', terms: { ...TERMS, issuer } }))).toBe('bad-connection');
  await does({ do: 'make-connection', id: 'draft', name: 'Draft', terms: TERMS });
  expect([await code(does({ do: 'turn-connection', id: 'draft', to: 'on' })), await code(come({ sub: 's' }, 'draft'))]).toEqual(['not-tried', 'not-found']);
  const named = [{ when: 'g', is: ['a'], gives: { groups: [{ by: 'g', as: { a: 'band' } }], roles: [] } }];
  await tried({ sub: 's' }, { rules: named });
  await does({ do: 'edit-connection', id: 'county', rules: named as never });
  expect(await code(does({ do: 'drop-group', id: 'band' }))).toBe('in-rules');
  expect((await (await enter()).connections.list()).map(({ id, state, isTried, people }) => [id, state, isTried, people])).toEqual([
    ['draft', 'draft', false, 0],
    ['county', 'on', true, 1],
  ]);
});

const CLAIM = fc.record({
  org: fc.constantFrom('farm', 'farm', 'farm', 'mill'),
  groups: fc.uniqueArray(fc.constantFrom('growers', 'bosses', 'scales', 'strange')),
  site: fc.constantFrom('H', 'S', '?'),
  place: fc.constantFrom('hill', 'slope', 'nowhere'),
  region: fc.constantFrom('north', 'south', 'east'),
});

test('whatever two providers and people say in turn: each source’s own is what it said last, people’s is theirs, and the record tells the same', async () => {
  const act = fc.oneof(
    { weight: 3, arbitrary: fc.record({ by: fc.constantFrom('county', 'guild'), claims: CLAIM }) },
    fc.constantFrom<Step[]>(
      [{ do: 'set-roles', holder: { user: 'U' }, roles: [] }],
      [{ do: 'set-roles', holder: { user: 'U' }, roles: [whole('farmer'), whole('host')] }],
      [{ do: 'place', user: 'U', units: ['slope'] }],
      [{ do: 'place', user: 'U', units: [] }],
      [{ do: 'set-group', id: 'crew', people: ['U'] }],
      [{ do: 'set-group', id: 'crew', people: [] }],
      [{ do: 'set-permissions', holder: { user: 'U' }, permissions: [] }],
      [{ do: 'suspend', user: 'U' }],
      [{ do: 'restore', user: 'U' }],
    ),
  );
  await fc.assert(
    fc.asyncProperty(fc.array(act, { minLength: 3, maxLength: 8 }), async (acts) => {
      const { does, come, tenantId, enter } = await farm(GROUPS);
      await does({ do: 'make-connection', id: 'guild', name: 'Guild', terms: TERMS, rules: GROUPS });
      await (await enter()).connections.try({ connection: 'guild', claims: { sub: 's' } });
      await does({ do: 'turn-connection', id: 'guild', to: 'on' });
      const { userId = '' } = await come({ sub: 's', org: 'farm' });
      await sql`insert into lintel_identity (tenant_id, connection_id, subject, user_id, at) values (${tenantId}, 'guild', 's', ${userId}, now())`.execute(db);
      const of = async (source: string) => {
        const rows =
          await sql<any>`select 'r', role || anchor_id as v from lintel_assignment where tenant_id = ${tenantId} and user_id = ${userId} and source = ${source}
          union all select 'g', group_id from lintel_group_member where tenant_id = ${tenantId} and user_id = ${userId} and source = ${source}
          union all select 'u', unit_id from lintel_placement where tenant_id = ${tenantId} and user_id = ${userId} and source = ${source} order by 1, 2`.execute(
            db,
          );
        return JSON.stringify(rows.rows);
      };
      const sources = ['', 'connection:county', 'connection:guild'];
      for (const one of acts) {
        const before = await Promise.all(sources.map(of));
        const touched = Array.isArray(one) ? '' : `connection:${one.by}`;
        if (Array.isArray(one)) await code(does(...(JSON.parse(JSON.stringify(one).replaceAll('"U"', JSON.stringify(userId))) as Step[])));
        else {
          const { admission, said } = await come({ sub: 's', ...one.claims }, one.by);
          if (!said) {
            const { roles, groups, units } = admission.gives;
            const wanted = [
              ...groups.map((g) => ['g', g]),
              ...roles.map((r) => ['r', r.role + (r.anchor.on === 'unit' ? r.anchor.unitId : tenantId)]),
              ...units.map((u) => ['u', u]),
            ];
            expect((JSON.parse(await of(touched)) as any[]).map(Object.values).sort()).toEqual(wanted.sort());
          }
        }
        const after = await Promise.all(sources.map(of));
        for (const [i, source] of sources.entries()) if (source !== touched) expect([source, after[i]]).toEqual([source, before[i]]);
        const standing = await lintel.enter({ tenant: tenantId, user: userId, fulfilled: everything });
        const then = await (await enter()).audit.heldThen(userId, new Date());
        // The record knows units and groups by their ids, and so in another order.
        const powers = (line: string) =>
          line
            .replace(/The (hill|slope|crew)/g, '$1')
            .split(', ')
            .sort();
        expect(then.subject).toBe(standing.facts.subject);
        if (then.subject === 'member') expect(powers(then.line)).toEqual(powers(standing.describe().line));
      }
      expect((await (await enter()).audit.verify()).broken).toBeUndefined();
    }),
    { numRuns: LONG ? 200 : 3 },
  );
});
