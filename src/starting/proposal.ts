import { type CharterData, type FieldData, type FieldRole, KEYHOLDER, type KindData, RESERVED_KINDS, snakeCase } from '../charter/index.js';
import type { SchemaColumn, SchemaTable } from './schema.js';
import { keyOf, type MemberTable, type Pointer, type Reading, singular } from './tables.js';

/** A charter to be edited, and what the schema alone did not settle. */
export interface Proposed {
  readonly charter: Pick<CharterData, 'kinds' | 'roles'> & { readonly keyholder?: CharterData['keyholder'] };
  /** By the value of the application's own column, the role of the charter. */
  readonly roles: Readonly<Record<string, string>>;
  /** By place (`jobs.mechanic_id`, or a table), what is to be decided there. */
  readonly unsure: readonly { readonly at: string; readonly words: string }[];
  /** Tables that are no kind, with why. */
  readonly leftOut: readonly { readonly table: string; readonly words: string }[];
  /** The kind of the records that say who belongs where, where the people stay. */
  readonly membership?: string;
}

const MAKER = /^(created|made|added|inserted|entered)_?by(_?id)?$|^(author|creator|maker)(_?id)?$/i;
const DONE_BY = /[a-z](_by|By)$/;
const OWNER = /^(owner|assignee|assigned_to|responsible|keeper|holder|user|manager)(_?id)?$|^owned_by(_?id)?$/i;
const UNIT = /^(unit|site|department|branch|location|region|division)(_?id)?$/i;
const TOP = /^(admin(istrator)?|owner|manager|super_?user|root|chief|head|principal|director|president|keyholder)$/i;
const LABELS = ['name', 'title', 'label', 'subject', 'code', 'number'];
/** So many columns besides those by which it names its two may a list of people have. */
const BESIDE = 1;

const camel = (name: string): string =>
  name.replace(/[_\-\s]+([a-z0-9])/gi, (_all, letter: string) => letter.toUpperCase()).replace(/^[A-Z]/, (letter) => letter.toLowerCase());
/** A name as people read it: `taskItem`, `TASK_ITEM` and `task_items` alike. */
const wordsOf = (name: string) =>
  (/[a-z]/.test(name) ? name.replace(/([a-z0-9])([A-Z])/g, '$1 $2') : name)
    .replace(/[_\-\s]+/g, ' ')
    .trim()
    .toLowerCase();
const capital = (text: string) => `${text.charAt(0).toUpperCase()}${text.slice(1)}`;

interface LinkTable {
  readonly to: string;
  readonly table: string;
  readonly record: SchemaColumn;
  readonly user: SchemaColumn;
  readonly tenant?: SchemaColumn;
}

/** Tables that do nothing but list people of a record. */
function linksIn({ tables, pointers, people, tenants, members, tenantColumns }: Reading): Map<string, LinkTable> {
  const found = new Map<string, LinkTable>();
  for (const [name, { columns }] of tables) {
    if (name === members?.table || name === people?.table || columns.some(({ isKey }) => isKey)) continue;
    const tenant = tenantColumns.get(name);
    const [user, ...more] = (pointers.get(name) ?? []).filter(({ to }) => to === people?.table);
    const [record, ...others] = (pointers.get(name) ?? []).filter(({ to, column }) => to !== people?.table && to !== tenants?.table && column !== tenant);
    if (!user || !record || more.length + others.length > 0 || columns.length > (tenant ? 3 : 2) + BESIDE) continue;
    found.set(name, { to: record.to, table: name, record: record.column, user: user.column, ...(tenant && { tenant }) });
  }
  return found;
}

/** What the charter would say of an application's tables. */
export function proposeCharter(whole: Reading, { keepsPeople = false }: { readonly keepsPeople?: boolean } = {}): Proposed {
  // Where the people stay, the table that says who belongs is a kind as any other.
  const { members: belonging, ...others } = whole;
  const reading: Reading = keepsPeople && belonging?.table !== whole.people?.table ? others : whole;
  const { tables, pointers, people, tenants, members, tenantColumns } = reading;
  const unsure: Proposed['unsure'][number][] = [];
  const leftOut: Proposed['leftOut'][number][] = [];
  const links = linksIn(reading);
  /** The pointer to the parent through which a table without an organisation of its own has one; one that is never empty before others. */
  const throughOf = (table: string, trail: readonly string[] = []): Pointer | undefined => {
    const found = (pointers.get(table) ?? []).filter(
      ({ to }) =>
        to !== people?.table && ![table, ...trail].includes(to) && isKind(to) && (tenantColumns.has(to) || throughOf(to, [table, ...trail]) !== undefined),
    );
    return found.find(({ column }) => !column.mayBeEmpty) ?? found[0];
  };
  const isKind = (name: string): boolean => {
    const table = tables.get(name);
    return table !== undefined && ![people?.table, tenants?.table, members?.table].includes(name) && !links.has(name) && keyOf(table) !== undefined;
  };
  const isOfTenant = (name: string) => tenantColumns.has(name) || throughOf(name) !== undefined;
  const chosen = [...tables.values()].filter((table) => {
    const { name } = table;
    if ([people?.table, tenants?.table, members?.table].includes(name) || links.has(name)) return false;
    if (!keyOf(table)) leftOut.push({ table: name, words: 'has no key of one column' });
    else if (!isOfTenant(name) && (pointers.get(name) ?? []).some(({ to }) => to === people?.table)) {
      leftOut.push({ table: name, words: 'belongs to a person, and to no organisation' });
    } else return true;
    return false;
  });
  const kindNames = new Map<string, string>();
  for (const { name } of chosen) {
    const called = camel(singular(name));
    kindNames.set(name, RESERVED_KINDS.includes(called) ? `${called}Record` : called);
  }
  const kinds: Record<string, KindData> = {};
  for (const table of chosen) {
    const through = tenantColumns.has(table.name) ? undefined : throughOf(table.name);
    const mine = [...links.values()].filter(({ to }) => to === table.name);
    kinds[kindNames.get(table.name) as string] = proposeKind({
      table,
      reading,
      through,
      links: mine,
      kindNames,
      keepsPeople,
      say: (at, words) => void unsure.push({ at, words }),
    });
  }
  followWhatCanBe(kinds, (at, words) => void unsure.push({ at, words }));
  for (const { table, to } of links.values()) if (!kindNames.has(to)) leftOut.push({ table, words: `lists people of ${to}, which is no kind` });
  const kept = belonging && kindNames.get(belonging.table);
  if (kept !== undefined && belonging?.role !== undefined) sayRoles(kinds[kept] as KindData, belonging);
  return {
    charter: { kinds, ...rolesOf(whole, keepsPeople ? [] : unsure) },
    roles: roleNames(whole),
    unsure: unsure.filter(({ at }) => kept === undefined || at !== `${belonging?.table}.${belonging?.user}`),
    leftOut,
    ...(kept !== undefined && { membership: kept }),
  };
}

/** The values of a role are the roles: whoever gives one does what takes an action of its own. */
function sayRoles({ fields, actions, one }: KindData, { role, roles }: MemberTable): void {
  const [field, data] = Object.entries(fields).find(([name, { column }]) => (column ?? snakeCase(name)) === role) ?? [];
  if (field === undefined || data === undefined || roles.length < 2) return;
  Object.assign(fields, { [field]: { ...data, role: 'plain', options: [...roles], change: 'appoint' } });
  Object.assign(actions, { appoint: { label: `Say which role ${/^[aeiou]/.test(one) ? 'an' : 'a'} ${one} has` } });
}

/** So many parents are followed, one above the other. */
const MOST_FOLLOWED = 4;

/** Whoever may read a parent can be let read what hangs on it, as far as that goes: not in a circle, not deeper than can be, and not by what all organisations share. */
function followWhatCanBe(kinds: Record<string, KindData>, say: (at: string, words: string) => void): void {
  const followed = new Map<string, Set<string>>();
  const below = (kind: string): number => Math.max(0, ...[...followed].flatMap(([child, parents]) => (parents.has(kind) ? [1 + below(child)] : [])));
  const above = (kind: string): number => Math.max(0, ...[...(followed.get(kind) ?? [])].map((parent) => 1 + above(parent)));
  const isAbove = (kind: string, other: string): boolean => kind === other || [...(followed.get(other) ?? [])].some((parent) => isAbove(kind, parent));
  const parents = Object.entries(kinds).flatMap(([name, { fields }]) =>
    Object.entries(fields).flatMap(([field, { to, through }]) => (to === undefined ? [] : [{ name, field, to, through: through === true }])),
  );
  // Those by which a record has its organisation come first.
  for (const { name, field, to } of parents.sort((a, b) => Number(b.through) - Number(a.through))) {
    const kind = kinds[name] as KindData;
    const isShared = kinds[to]?.shared === true;
    if (!isShared && !isAbove(name, to) && below(name) + 1 + above(to) <= MOST_FOLLOWED) {
      followed.set(name, (followed.get(name) ?? new Set()).add(to));
      continue;
    }
    if (!isShared) say(`${kind.table}.${snakeCase(field)}`, 'is not followed: it would be a circle, or deeper than rules follow');
    kinds[name] = { ...kind, fields: { ...kind.fields, [field]: { ...(kind.fields[field] as FieldData), follow: false } } };
  }
}

/** The role of full control is the one that is called so. */
const topOf = (roles: readonly string[]) => roles.find((role) => TOP.test(role));

const roleNames = ({ members }: Reading): Record<string, string> => {
  const top = topOf(members?.roles ?? []);
  return Object.fromEntries(
    (members?.roles ?? []).map((role) => [role, role === top ? KEYHOLDER : camel(wordsOf(role)).replace(/[^A-Za-z0-9]/g, '') || 'role']),
  );
};

function rolesOf(reading: Reading, unsure: Proposed['unsure'][number][]): Pick<CharterData, 'roles'> & { keyholder?: CharterData['keyholder'] } {
  const { members } = reading;
  const top = topOf(members?.roles ?? []);
  if (members?.role && top === undefined)
    unsure.push({
      at: `${members.table}.${members.role}`,
      words: 'which of its values is full control? Write keyholder for it in the intake: an organisation opens once somebody has it',
    });
  const others = (members?.roles ?? []).filter((role) => role !== top && TOP.test(role));
  if (members?.role && others.length > 0)
    unsure.push({
      at: `${members.table}.${members.role}`,
      words: `${top} is taken for full control, and ${others.join(', ')} for a role that you give what it may`,
    });
  const names = Object.entries(roleNames(reading)).filter(([, role]) => role !== KEYHOLDER);
  return {
    roles: Object.fromEntries(names.map(([value, role]) => [role, { label: capital(wordsOf(value)), includes: [], may: {}, gives: [] }])),
    ...(top !== undefined && { keyholder: { label: capital(wordsOf(top)) } as CharterData['keyholder'] }),
  };
}

interface Wanted {
  readonly table: SchemaTable;
  readonly reading: Reading;
  readonly through: Pointer | undefined;
  readonly links: readonly LinkTable[];
  readonly kindNames: ReadonlyMap<string, string>;
  readonly keepsPeople: boolean;
  readonly say: (at: string, words: string) => void;
}

function proposeKind({ table, reading, through, links, kindNames, keepsPeople, say }: Wanted): KindData {
  const { pointers, people, tenants, tenantColumns } = reading;
  const fields: Record<string, FieldData> = {};
  const tenant = tenantColumns.get(table.name);
  const isShared = !tenant && !through;
  const own = pointers.get(table.name) ?? [];
  const taken = new Set<FieldRole>();
  const add = (column: SchemaColumn, role: FieldRole, more: Partial<FieldData> = {}) => {
    const at = `${table.name}.${column.name}`;
    const { type, native, scale, options } = column;
    if (type === undefined) return say(at, `the type ${native} cannot be compared by rules, so that it is left out: scope neither shows nor writes it`);
    if (role !== 'plain' && !['uuid', 'text', 'integer'].includes(type)) return say(at, `${native} is no type of an id, so that it is left out`);
    if (type === 'decimal' && scale === null) return say(at, 'a number without fixed places is left out; declare it numeric(p, s) to have it in rules');
    if (role === 'plain' && type === 'uuid') return say(at, 'a uuid that names nothing known is left out; declare it as a parent(), a person() or a group()');
    taken.add(role);
    const name = camel(column.name);
    const named = snakeCase(name) === column.name ? {} : { column: column.name };
    // “You are the one who opened it” is what somebody is told who may not.
    const done = role === 'maker' ? /^([a-z]+ed)_?by$/i.exec(column.name)?.[1]?.toLowerCase() : undefined;
    fields[name] = {
      role,
      type,
      ...named,
      ...(done !== undefined && { label: `one who ${done} it` }),
      ...(type === 'decimal' && { scale: scale as number }),
      ...(options && role === 'plain' && { options }),
      ...more,
    };
  };
  const named = own.filter(({ to, column }) => to === people?.table && column !== tenant);
  const makers = named.filter(({ column }) => MAKER.test(column.name));
  const maker = makers[0] ?? named.find(({ column }) => DONE_BY.test(column.name) && !column.mayBeEmpty && !OWNER.test(column.name));
  const owner = named.find((one) => one !== maker && OWNER.test(one.column.name));
  for (const column of table.columns) {
    const pointer = own.find((one) => one.column === column);
    const at = `${table.name}.${column.name}`;
    if (column.isKey) add(column, 'id');
    else if (column === tenant) add(column, 'tenant');
    else if (pointer && pointer === maker) {
      if (!MAKER.test(column.name)) say(at, 'is taken for who made it, since it is never empty');
      add(column, 'maker');
    } else if (pointer && pointer === owner) add(column, 'owner', isShared ? {} : { change: 'transfer' });
    else if (pointer && pointer.to === people?.table) {
      say(at, owner ? 'names another person; say what they are to it' : 'names a person: is that the owner, or somebody else?');
      add(column, 'person');
    } else if (pointer && kindNames.has(pointer.to) && pointer.to !== table.name) {
      if (UNIT.test(column.name) && pointer !== through)
        say(at, `points to ${pointer.to}: if these are the units of an organisation, take them in as units, and write unit() here`);
      if (pointer === through && column.mayBeEmpty) say(at, 'may be empty: a record without it is nobody’s');
      if (pointer.by === 'name') say(at, `seems to point to ${pointer.to}, by its name alone`);
      add(column, 'parent', {
        to: kindNames.get(pointer.to) as string,
        // An application that stays as it is makes what hangs on a record by the right to make it.
        ...(isShared || keepsPeople ? {} : { change: 'move' }),
        ...(pointer === through && { through: true }),
      });
    } else if (!pointer && UNIT.test(column.name) && column.type !== undefined && !taken.has('unit')) {
      say(at, 'is taken for a unit of the organisation, by its name');
      add(column, 'unit', isShared ? {} : { change: 'move' });
    } else {
      if (!pointer && people && /(_by|By|_to)$/.test(column.name)) say(at, 'may name a person, and no row told; if so, make it a person() or the owner()');
      if (pointer?.to === table.name) say(at, 'points to its own table; rules do not follow it');
      if (pointer?.to === tenants?.table && pointer) say(at, 'points to the organisations a second time');
      add(column, 'plain');
    }
  }
  for (const { table: list, record, user, tenant: ofTenant } of links)
    fields[camel(list)] = {
      role: 'people',
      type: user.type ?? 'text',
      ...(isShared ? {} : { change: 'assign' }),
      link: { table: list, ...(ofTenant && { tenant: ofTenant.name }), record: record.name, user: user.name },
    };
  if (isShared) say(table.name, 'names no organisation, and no parent that has one: it is proposed as shared by all of them');
  return kindOf(table, fields, isShared);
}

function kindOf({ name: table }: SchemaTable, fields: Record<string, FieldData>, isShared: boolean): KindData {
  const called = (role: FieldRole) => Object.keys(fields).find((field) => fields[field]?.role === role);
  const texts = Object.keys(fields).filter((field) => fields[field]?.role === 'plain' && fields[field]?.type === 'text' && !fields[field]?.options);
  const label = LABELS.map(camel).find((field) => texts.includes(field)) ?? texts[0] ?? (called('id') as string);
  const one = wordsOf(singular(table));
  const many = singular(table) === table ? `${one}s` : wordsOf(table);
  const guards = [...new Set(Object.values(fields).flatMap(({ change }) => change ?? []))];
  const actions = isShared ? ['read'] : ['read', 'create', 'update', 'delete', ...guards];
  const [owner, maker, people] = [called('owner'), called('maker'), called('people')];
  return {
    table,
    label,
    one,
    many,
    ...(isShared && { shared: true }),
    fields,
    actions: Object.fromEntries(actions.map((action) => [action, { label: `${capital(action)} ${/^[aeiou]/.test(one) ? 'an' : 'a'} ${one}` }])),
    reaches: {
      ...(owner && { own: { op: 'is', field: owner, to: { me: 'userId' } } as const }),
      ...(maker && { made: { op: 'is', field: maker, to: { me: 'userId' } } as const }),
      ...(people && { assigned: { op: 'includes', field: people, to: { me: 'userId' } } as const }),
    },
  };
}
