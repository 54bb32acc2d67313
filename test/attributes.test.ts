/* Facts about members that a charter declares: who may say them, what counts where several do, and that nobody comes to more by them. */
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { defineCharter, defineKinds, flag, id, integer, isLintelError, oneOf, owner, readCharter, tenant, text } from 'warm-lintel';
import { createLintel, type Lintel } from 'warm-lintel/server';
import { code, whole } from './club.js';
import { emptyPostgres } from './worlds.js';

const ids = { type: 'text' } as const;
const kinds = defineKinds(
  {
    field: {
      table: 'fields',
      label: 'name',
      fields: { id: id(ids), tenantId: tenant(ids), ownerId: owner(ids), region: text(), crop: text(), name: text() },
      actions: { read: { label: 'See' }, create: { label: 'Add' }, weigh: { label: 'Weigh' } },
    },
  },
  {
    field: {
      ofRegion: ({ record, me }) => record.region.is(me.attribute('region')),
      ofCrops: ({ record, me }) => record.crop.in(me.attribute('crops') as never),
    },
  },
);
const attributes = {
  region: { is: oneOf(['north', 'south']), label: 'Region', setBy: ['source', 'people'] },
  crops: { is: text(), several: true },
  badge: { is: integer(), setBy: ['source'] },
  phone: { is: text(), setBy: ['member'] },
  shy: { is: flag(), setBy: ['member', 'people'] },
  barred: { is: text(), setBy: ['member', 'people'] },
} as const;
const charter = defineCharter(kinds, {
  attributes,
  roles: {
    farmer: { label: 'Farmer', may: { 'field.read': ['ofRegion', 'ofCrops'] } },
    clerk: { label: 'Clerk', may: { 'member.read': 'tenant', 'member.assign': 'tenant' } },
    host: {
      label: 'Host',
      may: {
        'member.read': 'tenant',
        'member.invite': 'tenant',
        'member.assign': 'tenant',
        'group.arrange': 'tenant',
        'unit.arrange': 'tenant',
        'field.read': 'tenant',
      },
    },
    reeve: { label: 'Reeve', may: { 'field.read': 'tenant', 'field.weigh': 'tenant' } },
  },
  limits: {
    field: {
      kin: {
        actions: ['weigh'],
        where: ({ record, me }) => record.region.is(me.attribute('barred')),
        sentence: 'nobody looks at the fields of their kin.',
        lasting: true,
      },
    },
  },
});

let lintel: Lintel<any>;
let db: Kysely<any>;
beforeAll(async () => {
  ({ db } = await emptyPostgres());
  await sql
    .raw(
      `create table fields (${['id', 'tenant_id', 'owner_id', 'region', 'crop', 'name'].map((name) => `${name} text collate "C"`).join(', ')}, primary key (id))`,
    )
    .execute(db);
  lintel = createLintel({ charter, db }) as never;
  await lintel.prepare();
  const people = ['boss', 'cleo', 'fay'].map((name) => ({ id: name, name, address: `${name}@farm.example`, confirmedAt: new Date(0) }));
  await lintel.intake({
    people,
    tenants: [{ id: 'farm', name: 'Farm' }],
    members: [
      { tenant: 'farm', user: 'boss', roles: [whole('keyholder')] },
      { tenant: 'farm', user: 'cleo', roles: [whole('clerk')] },
      { tenant: 'farm', user: 'fay', roles: [whole('farmer')] },
    ],
  } as never);
  const rows = ['north', 'south'].flatMap((region) =>
    ['rye', 'oats'].map((crop) => ({ id: `${region} ${crop}`, tenant_id: 'farm', region, crop, name: crop })),
  );
  await db.insertInto('fields').values(rows).execute();
});
afterAll(() => db.destroy());

let made = 0;
const enter = (user: string) => lintel.enter({ tenant: 'farm', user });
const says = async (by: string, user: string, said: object) => code((await enter(by)).carryOut([{ do: 'set-attributes', user, attributes: said }] as never));
const sees = async () => (await (await enter('fay')).find('field' as never)).map(({ id: one }: any) => one).sort();
const brings = (source: string, said: object) =>
  lintel.intake({ members: [{ tenant: 'farm', user: 'fay', roles: [whole('farmer')], attributes: said }] } as never, { source });

test('rules ask them, in memory and in the database; each is said by whom the charter names, in its type', async () => {
  expect(await sees()).toEqual([]);
  expect([await says('boss', 'fay', { region: 'north' }), await sees()]).toEqual(['done', ['north oats', 'north rye']]);
  expect(await says('boss', 'fay', { crops: ['oats', 'oats'] })).toBe('done');
  expect(await sees()).toEqual(['north oats', 'north rye', 'south oats']);
  expect((await enter('fay')).facts.me.attributes).toEqual({ region: 'north', crops: ['oats'] });
  expect((await enter('fay')).may('field.read', { tenantId: 'farm', region: 'north' } as never)).toBe(true);
  const refused = async (by: string, said: object) => says(by, 'fay', said);
  expect(await Promise.all([{ region: 'west' }, { crops: 'oats' }, { badge: 3 }, { regoin: 'north' }, {}].map((said) => refused('boss', said)))).toEqual([
    'bad-attribute',
    'bad-attribute',
    'attribute-not-yours',
    'unknown-attribute',
    'nothing-to-change',
  ]);
  expect([await refused('fay', { phone: '0123' }), await refused('fay', { shy: true }), await refused('fay', { region: 'south' })]).toEqual([
    'done',
    'done',
    'attribute-not-yours',
  ]);
  expect(await says('fay', 'boss', { phone: '1' })).toBe('refused');
  // What the member says of it comes before what people say, as it is declared.
  expect([await refused('boss', { shy: false }), (await enter('fay')).facts.me.attributes.shy]).toEqual(['done', true]);
  expect([await refused('fay', { shy: null }), (await enter('fay')).facts.me.attributes.shy]).toEqual(['done', false]);
  const [fay] = (await (await enter('boss')).members.list()).filter(({ userId }) => userId === 'fay');
  expect(fay?.attributes).toEqual({
    region: { value: 'north', by: 'people' },
    crops: { value: ['oats'], by: 'people' },
    phone: { value: '0123', by: 'member' },
    shy: { value: false, by: 'people' },
  });
  await says('boss', 'fay', { region: null, crops: null });
  expect(await sees()).toEqual([]);
});

test('a source says what it may, beside people, and two that differ say nothing; nothing is said that is not declared', async () => {
  await brings('county', { region: 'south', badge: 7 });
  await says('boss', 'fay', { region: 'north' });
  expect((await enter('fay')).facts.me.attributes).toMatchObject({ region: 'south', badge: 7 });
  await brings('state', { region: 'north', badge: 7 });
  // The sources differ, so that what people say counts.
  expect((await enter('fay')).facts.me.attributes).toMatchObject({ region: 'north', badge: 7 });
  for (const [said, expected] of [
    [{ phone: '1' }, 'attribute-not-yours'],
    [{ badge: 'seven' }, 'bad-attribute'],
    [{ colour: 'red' }, 'unknown-attribute'],
  ] as const)
    expect((await brings('state', said)).refused.map((one) => one.code)).toEqual([expected]);
  for (const source of ['member', 'platform']) expect(await code(brings(source, {}))).toBe('bad-source');
});

test('nobody comes to more by them than who says them could give', async () => {
  await says('boss', 'fay', { region: null });
  await brings('state', {});
  await brings('county', {});
  expect(await sees()).toEqual([]);
  // A clerk reads no field, and so opens none to anybody, nor to themselves.
  expect(await says('cleo', 'fay', { region: 'south' })).toBe('beyond-power');
  await (await enter('boss')).carryOut([{ do: 'set-roles', holder: { user: 'cleo' }, roles: [whole('clerk'), whole('farmer')] }] as never);
  expect(await says('cleo', 'cleo', { region: 'south' })).toBe('own-power');
  const proposal = await (await enter('boss')).propose([{ do: 'set-attributes', user: 'fay', attributes: { region: 'south' } }] as never);
  expect(proposal.effects[0]?.permissions.find(({ permission }) => permission === 'field.read')?.records).toMatchObject({ was: 0, becomes: 2 });
  // What a limit asks is lifted by nobody for themselves, and for others by whoever could give what it then opens.
  const mayWeigh = async () => ['north', 'south'].map((region) => standing.may('field.weigh', { tenantId: 'farm', region } as never));
  await (await enter('boss')).carryOut([{ do: 'set-roles', holder: { user: 'fay' }, roles: [whole('reeve')] }] as never);
  let standing = await enter('fay');
  expect(await mayWeigh()).toEqual([false, false]);
  expect(await says('boss', 'fay', { barred: 'north' })).toBe('done');
  standing = await enter('fay');
  expect(await mayWeigh()).toEqual([false, true]);
  expect([await says('fay', 'fay', { barred: 'nowhere' }), await says('cleo', 'fay', { barred: 'nowhere' })]).toEqual(['own-power', 'beyond-power']);
  await (await enter('boss')).carryOut([{ do: 'set-roles', holder: { user: 'fay' }, roles: [whole('farmer')] }] as never);
  // What they are is told beside the event, and goes with the person.
  await says('boss', 'fay', { region: 'south' });
  const { rows } = await sql<{ event: string }>`select event::text from lintel_audit where what = 'attributes set' order by number desc limit 1`.execute(db);
  expect(rows[0]?.event).not.toContain('south');
});

test('a rule that asks what is not declared, or is of another type, is refused with its path', () => {
  const problems = (change: (data: any) => void) => {
    const data = structuredClone(charter.data) as any;
    change(data);
    try {
      readCharter(data);
      return [];
    } catch (error) {
      return isLintelError(error)
        ? (error.details.problems as { path: string; message: string }[]).map(({ path, message }) => `${path}: ${message}`)
        : [String(error)];
    }
  };
  expect(problems(() => {})).toEqual([]);
  expect(problems((data) => delete data.attributes.region)).toEqual(['kinds.field.reaches.ofRegion.to.me: no such attribute "region"']);
  expect(problems((data) => void (data.attributes.region.type = 'integer'))).toEqual([
    'kinds.field.reaches.ofRegion.to.me: the attribute "region" is of another type (integer) than text',
  ]);
  expect(problems((data) => void (data.attributes.region.several = true))).toEqual(['kinds.field.reaches.ofRegion.to.me: is a list; write in']);
  expect(problems((data) => void (data.attributes.crops.several = false))).toEqual([
    'kinds.field.reaches.ofCrops.to.me: needs a list; write is, or declare the attribute with several',
  ]);
  expect(problems((data) => void (data.attributes.region.setBy = ['sauce']))).toEqual(['attributes.region.setBy: no such setter']);
  expect(problems((data) => void (data.attributes.region.setBy = []))).toEqual(['attributes.region.setBy: names at least one who may say it']);
});

test('an invitation gives groups, units, permissions and attributes too: by the steps by which people give them, of whoever invites, as they stand when it is accepted', async () => {
  const boss = await enter('boss');
  await boss.carryOut([
    { do: 'make-group', id: 'crew', name: 'Crew', people: ['fay'] },
    { do: 'add-unit', id: 'barn', name: 'Barn' },
    { do: 'set-roles', holder: { user: 'cleo' }, roles: [whole('host')] },
  ] as never);
  const gives = {
    groups: ['crew'],
    units: ['barn'],
    permissions: [{ permission: 'member.read', reach: 'tenant', anchor: { on: 'tenant' } }],
    attributes: { region: 'north' },
  };
  const invite = async (by: string, name: string, more: object) => {
    await lintel.addPerson({ id: name, name, address: `${name}@farm.example`, confirmedAt: new Date(0) });
    const [answer] = await (await enter(by)).invitations.send([{ address: `${name}@farm.example`, roles: [whole('farmer')], ...more }] as never);
    return answer;
  };
  const proposal = await (await enter('cleo')).propose([{ do: 'invite', address: 'nobody@farm.example', roles: [whole('farmer')], ...gives }] as never);
  expect(proposal.problems).toEqual([]);
  expect(proposal.effects[0]?.permissions.find(({ permission }) => permission === 'field.read')?.records).toMatchObject({ was: 0, becomes: 2 });
  const nia = await invite('cleo', 'nia', gives);
  await lintel.acceptInvitation('nia', { token: nia?.token as string });
  const { me, direct } = (await enter('nia')).facts;
  expect([me.groupIds, me.unitIds, me.attributes, direct?.length]).toEqual([['crew'], ['barn'], { region: 'north' }, 1]);
  const then = await boss.audit.heldThen('nia', new Date());
  expect(then.permissions.map(({ permission }) => permission)).toEqual((await enter('nia')).describe().permissions.map(({ permission }) => permission));
  expect((await boss.audit.verify()).broken).toBeUndefined();
  expect((await boss.invitations.list()).find(({ address }) => address === 'nia@farm.example')?.gives).toEqual(gives);

  // What whoever invites may not do by a step, they do not by an invitation; and nothing that there is not.
  await boss.carryOut([
    { do: 'make-role', id: 'own-plain', role: { label: 'Plain', may: { 'member.read': ['tenant'], 'member.invite': ['tenant'] } } },
  ] as never);
  await boss.carryOut([{ do: 'set-roles', holder: { user: 'fay' }, roles: [{ role: 'own-plain', anchor: { on: 'tenant' } }] }] as never);
  const asked = async (by: string, more: object) => (await invite(by, `x${++made}`, { roles: [], ...more }))?.code;
  expect([await asked('fay', { groups: ['crew'] }), await asked('fay', { units: ['barn'] }), await asked('fay', { attributes: { region: 'north' } })]).toEqual(
    Array(3).fill('refused'),
  );
  expect([await asked('cleo', { groups: ['none'] }), await asked('cleo', { attributes: { badge: 1 } })]).toEqual(['not-found', 'attribute-not-yours']);
  // As they stand when it is accepted: then nothing of it is done.
  const ola = await invite('cleo', 'ola', gives);
  await boss.carryOut([{ do: 'set-roles', holder: { user: 'cleo' }, roles: [whole('clerk')] }] as never);
  expect([await code(lintel.acceptInvitation('ola', { token: ola?.token as string })), (await enter('ola')).isMember]).toEqual(['invitation-void', false]);
  const pia = await invite('boss', 'pia', gives);
  await boss.carryOut([{ do: 'drop-group', id: 'crew' }] as never);
  expect(await code(lintel.acceptInvitation('pia', { token: pia?.token as string }))).toBe('invitation-void');
});
