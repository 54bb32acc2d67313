/* A small tenant in which everything that can be held is held by somebody. */
import { type Kysely, sql } from 'kysely';
import { defineCharter, defineKinds, id, owner, tenant, text, unit } from 'warm-lintel';
import { createLintel, type Lintel, type Step } from 'warm-lintel/server';

const ids = { type: 'text' } as const;
const kinds = defineKinds(
  {
    hive: {
      table: 'hives',
      label: 'name',
      base: ['own', 'team', 'tenant'],
      fields: { id: id(ids), tenantId: tenant(ids), ownerId: owner({ ...ids, change: 'transfer' }), siteId: unit({ ...ids, change: 'move' }), name: text() },
      actions: { read: { label: 'See' }, create: { label: 'Add' }, update: { label: 'Change' }, transfer: { label: 'Hand over' }, move: { label: 'Move' } },
    },
  },
  {
    hive: {
      own: ({ record, me }) => record.ownerId.is(me.userId),
      onSite: ({ record, me }) => record.siteId.within(me.unitIds),
      team: ({ record, me }) => record.ownerId.among(me.groupIds),
    },
  },
);

/** Operations that an arranger has. */
export const ARRANGE = [
  'member.read',
  'member.invite',
  'member.enrol',
  'member.assign',
  'member.suspend',
  'member.remove',
  'group.arrange',
  'unit.arrange',
  'role.arrange',
  'program.arrange',
  'tenant.rule',
  'deputy.name',
] as const;

const charterOf = (platform: boolean) =>
  defineCharter(kinds, {
    platform,
    areas: { hives: { label: 'Hives', perUnit: true } },
    apart: { hands: { sentence: 'Nobody both moves hives and hands them over.', hold: ['hive.move', 'hive.transfer'] } },
    roles: {
      reader: { label: 'Reader', may: { 'hive.read': 'tenant', 'area.hives': 'tenant' } },
      keeper: { label: 'Keeper', may: { 'hive.read': 'own', 'hive.update': 'own' } },
      warden: { label: 'Warden', may: { 'hive.read': 'onSite', 'hive.update': 'onSite', 'hive.move': 'onSite' } },
      mate: { label: 'Mate', may: { 'hive.read': 'team' } },
      basic: { label: 'Basic', may: { 'hive.read': 'base', 'hive.update': 'base', 'member.read': 'self' } },
      scout: { label: 'Scout', may: { 'hive.read': 'tenant', 'hive.update': 'tenant' } },
      mover: { label: 'Mover', includes: ['reader'], may: { 'hive.transfer': 'tenant', 'hive.update': 'tenant' } },
      arranger: { label: 'Arranger', may: Object.fromEntries(ARRANGE.map((name) => [name, 'tenant'])) as never },
      clerk: {
        label: 'Clerk',
        may: { 'member.read': 'tenant', 'member.assign': 'tenant', 'member.invite': 'tenant', 'member.enrol': 'tenant' },
        gives: ['keeper', 'warden', 'scout'],
      },
    },
  });
export const charter = charterOf(false);
/** The same where one tenant is the platform. */
export const platformCharter = charterOf(true);

/** When the attackers begin. What has an end ends within the next hours. */
export const START = Date.UTC(2030, 0, 1);
export const HOUR = 3_600_000;
/** Moments at which it is asked what somebody holds: between any two that differ something begins or ends. */
export const MOMENTS = [0, 1, 2, 3].map((hour) => START + hour * HOUR);

export const TENANT = 't';
export const PEOPLE = ['boss', 'ann', 'ben', 'cas', 'dot'] as const;
/** A program that holds something: whoever has a key of it can do what it can. */
export const PROGRAM = 'scale';
/** Accounts that the tenant keeps: one from the start, and one that somebody may enrol. */
export const KEPT = ['kept', 'late'] as const;
export const UNITS = ['north', 'valley', 'south'] as const;
export const GROUPS = ['red', 'blue'] as const;
export const OWN_ROLES = ['own-a', 'own-b'] as const;

/** Records to ask about: every owner at every place. */
export const HIVES = [...PEOPLE, null].flatMap((ownerId) =>
  [...UNITS, null].map((siteId) => ({ id: `${ownerId ?? 'nobody'} ${siteId ?? 'nowhere'}`, tenantId: TENANT, ownerId, siteId, name: 'Hive' })),
);

/** What somebody does in another's place. */
export const STOOD_IN = ['hive.read', 'hive.update', 'hive.transfer', 'hive.move'];

/** Tenants with their people, before anything is held. */
export async function makeWorld(
  db: Kysely<any>,
  lintel: Lintel<any> = createLintel({ charter, db }) as unknown as Lintel<any>,
  tenants: readonly string[] = [TENANT],
): Promise<void> {
  const columns = ['id', 'tenant_id', 'owner_id', 'site_id', 'name'].map((column) => `${column} text collate "C"`);
  await sql.raw(`create table hives (${columns.join(', ')})`).execute(db);
  await lintel.prepare();
  for (const name of [...PEOPLE, 'eve']) await lintel.addPerson({ id: name, name, address: `${name}@attack.example`, confirmedAt: new Date() });
  for (const tenant of tenants) await makeTenant(lintel, tenant);
}

/** All of them but eve are members. */
async function makeTenant(lintel: Lintel<any>, tenant: string): Promise<void> {
  await lintel.openTenant({ id: tenant, name: 'T', keyholder: 'boss' });
  const boss = await lintel.enter({ tenant, user: 'boss' });
  for (const name of PEOPLE.slice(1)) {
    const [answer] = await boss.invitations.send([{ address: `${name}@attack.example`, roles: [] }]);
    await lintel.acceptInvitation(name, { token: answer?.token as string });
  }
  await boss.carryOut([
    { do: 'add-unit', id: 'north', name: 'North' },
    { do: 'add-unit', id: 'valley', name: 'Valley', below: 'north' },
    { do: 'add-unit', id: 'south', name: 'South' },
    ...GROUPS.map((group): Step => ({ do: 'make-group', id: group, name: group })),
  ]);
}
