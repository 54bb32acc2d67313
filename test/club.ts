import { type Kysely, sql } from 'kysely';
import { defineCharter, defineKinds, group, id, isLintelError, maker, owner, tenant, text, unit } from 'warm-lintel';
import { createLintel, type Lintel } from 'warm-lintel/server';
import { emptyPostgres } from './worlds.js';

const ids = { type: 'text' } as const;
const kinds = defineKinds(
  {
    note: {
      table: 'notes',
      label: 'title',
      base: ['own', 'tenant'],
      fields: {
        id: id(ids),
        tenantId: tenant(ids),
        ownerId: owner({ ...ids, change: 'hand' }),
        madeBy: maker(ids),
        roomId: unit(ids),
        crewId: group({ ...ids, change: 'hand' }),
        title: text(),
        secret: text({ read: 'unfold', change: 'unfold' }),
      },
      actions: {
        read: { label: 'Read a note' },
        create: { label: 'Write a note' },
        update: { label: 'Change a note' },
        hand: { label: 'Hand a note over' },
        unfold: { label: 'Unfold a note' },
        approve: { label: 'Approve a note', channels: ['desk'] },
        burn: { label: 'Burn a note', channels: [] },
      },
    },
  },
  {
    note: {
      own: ({ record, me }) => record.ownerId.is(me.userId),
      near: ({ record, me }) => record.roomId.within(me.unitIds),
      crew: ({ record, me }) => record.crewId.in(me.groupIds),
    },
  },
);

/** A charter for what happens between people: who may know of whom, what is apart, what is done from where, and a platform. */
export const charter = defineCharter(kinds, {
  platform: true,
  areas: { shelf: { label: 'The shelf' } },
  roles: {
    chief: {
      label: 'Chief',
      may: {
        'area.shelf': 'tenant',
        'note.read': 'tenant',
        'note.update': 'tenant',
        'note.hand': 'tenant',
        'note.approve': 'tenant',
        'member.read': 'tenant',
        'member.invite': 'tenant',
        'member.enrol': 'tenant',
        'member.assign': 'tenant',
        'group.arrange': 'tenant',
        'audit.read': 'tenant',
        'access.look': 'tenant',
      },
      gives: ['writer', 'guest', 'clerk', 'checker', 'boss'],
    },
    boss: { label: 'Boss', includes: ['clerk'], may: {} },
    writer: {
      label: 'Writer',
      may: {
        'area.shelf': 'tenant',
        'note.read': ['own', 'near', 'crew'],
        'note.create': 'own',
        'note.update': 'own',
        'note.hand': 'own',
        'member.read': 'groups',
      },
    },
    neighbour: { label: 'Neighbour', may: { 'note.read': 'near', 'member.read': 'units', 'audit.read': 'units', 'access.look': 'tenant' } },
    guest: { label: 'Guest', may: { 'note.read': 'own', 'member.read': 'self', 'audit.read': 'self', 'member.invite': 'tenant' } },
    clerk: { label: 'Clerk', may: { 'note.approve': 'own', 'note.read': 'own' } },
    mate: { label: 'Mate', may: { 'note.read': 'base' } },
    checker: { label: 'Checker', may: { 'note.read': 'tenant' } },
    operator: { label: 'Operator', may: { 'platform.tenants': 'tenant', 'platform.care': 'tenant', 'platform.people': 'tenant' } },
  },
  apart: { checks: { hold: ['clerk', 'checker'], sentence: 'who approves does not check.' } },
  limits: {
    note: { ownApproval: { actions: ['approve'], where: ({ record, me }) => record.madeBy.is(me.userId), sentence: 'nobody approves what they made.' } },
  },
});

export const whole = (role: string) => ({ role, anchor: { on: 'tenant' } as const });
export const code = (work: Promise<unknown>) =>
  work.then(
    () => 'done',
    (error: unknown) => (isLintelError(error) ? error.code : Promise.reject(error)),
  );

export type Club = Lintel<any>;

/** A club with a keyholder, and a platform beside it with an operator. */
export async function club(options: Partial<Parameters<typeof createLintel>[0]> = {}) {
  const { db } = await emptyPostgres();
  const columns = ['id', 'tenant_id', 'owner_id', 'made_by', 'room_id', 'crew_id', 'title', 'secret'].map((name) => `${name} text collate "C"`);
  await sql.raw(`create table notes (${columns.join(', ')}, primary key (id))`).execute(db);
  const lintel = createLintel({ charter, db, platform: 'platform', ...options } as never) as unknown as Club;
  await lintel.prepare();
  const confirmedAt = new Date(0);
  for (const [user, tenantId] of [
    ['key', 'club'],
    ['root', 'platform'],
  ] as const) {
    await lintel.addPerson({ id: user, name: user, address: `${user}@club.example`, confirmedAt });
    await lintel.openTenant({ id: tenantId, name: tenantId, keyholder: user });
  }
  const enter = (user: string, more: object = {}) => lintel.enter({ tenant: 'club', user, ...more });
  /** A member of the club with these roles. */
  const member = async (user: string, ...roles: string[]) => {
    await lintel.addPerson({ id: user, name: user, address: `${user}@club.example`, confirmedAt });
    const [answer] = await (await createLintel({ charter, db } as never).enter({ tenant: 'club', user: 'key' })).invitations.send([
      { address: `${user}@club.example`, roles: roles.map(whole) },
    ]);
    await lintel.acceptInvitation(user, { token: answer?.token as string });
  };
  return { lintel, db: db as Kysely<any>, enter, member };
}
