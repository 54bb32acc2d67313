/* Compiled by a test, never run: a misspelt name does not compile. */
import { defineCharter, defineKinds, flag, id, openStanding, owner, parent, type Snapshot, tenant, text } from 'warm-lintel';
import type { ScopedDb } from 'warm-lintel/server';

const fields = { id: id(), tenantId: tenant(), keeperId: owner({ change: 'transfer' }), name: text() };
const actions = { read: { label: 'See' }, update: { label: 'Change' }, transfer: { label: 'Hand over' } };
const hive = { table: 'hives', label: 'name', fields, actions } as const;
const kinds = defineKinds(
  { hive, visit: { table: 'visits', label: 'id', fields: { id: id(), tenantId: tenant(), hiveId: parent('hive') }, actions: { read: { label: 'See' } } } },
  { hive: { own: ({ record, me }) => record.keeperId.is(me.userId) }, visit: { mine: ({ record, me }) => record.hiveId.parent.keeperId.is(me.userId) } },
);
const charter = defineCharter(kinds, {
  areas: { hives: { label: 'Hives' } },
  roles: {
    keeper: { label: 'Keeper', startsAt: 'hives', may: { 'hive.read': 'tenant', 'hive.update': ['own'], 'visit.read': 'followed', 'member.read': 'tenant' } },
  },
});
const standing = openStanding(charter, {} as Snapshot);

export function wellSpelt(): void {
  standing.may('hive.update', { keeperId: null, name: 'x' });
  standing.may('area.hives');
  standing.may('member.invite');
}

export function refusedByScope(scope: ScopedDb<any>): void {
  // @ts-expect-error a merge is not there to be called
  scope.mergeInto('hives').using('visits', 'visits.id', 'hives.id');
  // @ts-expect-error nor are raw connections
  scope.connection();
}

export function misspelt(): void {
  // @ts-expect-error no such action
  standing.may('hive.updte');
  // @ts-expect-error no such field
  standing.may('hive.update', { keperId: null });
  // @ts-expect-error a field's guard is no action of the kind
  defineKinds({ hive: { ...hive, fields: { ...fields, name: text({ change: 'rename' }) } } }, {});
  // @ts-expect-error no such parent
  defineKinds({ visit: { table: 'v', label: 'id', fields: { id: id(), tenantId: tenant(), hiveId: parent('hve') }, actions: { read: { label: 'See' } } } }, {});
  // @ts-expect-error the label is no field
  defineKinds({ hive: { ...hive, label: 'title' } }, {});
  // @ts-expect-error reaches of a kind that is not there
  defineKinds({ hive }, { hvie: {} });
  // @ts-expect-error no such field in a rule
  defineKinds({ hive }, { hive: { own: ({ record, me }) => record.keperId.is(me.userId) } });
  // @ts-expect-error a number is no text
  defineKinds({ hive }, { hive: { odd: ({ record }) => record.name.is(3) } });
  // @ts-expect-error a person is no yes or no
  defineKinds({ hive: { ...hive, fields: { ...fields, open: flag() } } }, { hive: { odd: ({ record, me }) => record.open.is(me.userId) } });
  const visit = { table: 'v', label: 'id', fields: { id: id(), tenantId: tenant(), hiveId: parent('hive') }, actions: { read: { label: 'See' } } } as const;
  // @ts-expect-error no such field of the parent
  defineKinds({ hive, visit }, { visit: { mine: ({ record, me }) => record.hiveId.parent.keperId.is(me.userId) } });
  // @ts-expect-error no such permission
  defineCharter(kinds, { roles: { a: { label: 'A', may: { 'hive.raed': 'tenant' } } } });
  // @ts-expect-error no such reach
  defineCharter(kinds, { roles: { a: { label: 'A', may: { 'hive.read': 'mine' } } } });
  // @ts-expect-error a kind with a tenant is not shared
  defineCharter(kinds, { roles: { a: { label: 'A', may: { 'hive.read': 'shared' } } } });
  // @ts-expect-error an area is open, or not
  defineCharter(kinds, { areas: { hives: { label: 'Hives' } }, roles: { a: { label: 'A', may: { 'area.hives': 'base' } } } });
  // @ts-expect-error no role of that name is held
  defineCharter(kinds, { roles: { a: { label: 'A', may: { 'member.read': 'role.b' } } } });
  // @ts-expect-error no such role
  defineCharter(kinds, { roles: { a: { label: 'A', may: {}, includes: ['b'] } } });
  // @ts-expect-error no such area
  defineCharter(kinds, { roles: { a: { label: 'A', may: {}, startsAt: 'hives' } } });
  // @ts-expect-error a limit on an action that is not there
  defineCharter(kinds, { roles: {}, limits: { hive: { l: { actions: ['dlete'], where: ({ record }) => record.name.is('x'), sentence: '' } } } });
}
