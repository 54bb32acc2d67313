import type { Rows, SchemaColumn, SchemaTable } from './schema.js';

/** A column that names a row of another table: by a foreign key, by what it is called, or because its values are all found there. */
export interface Pointer {
  readonly column: SchemaColumn;
  readonly to: string;
  readonly by: 'key' | 'name' | 'rows';
}

/** The table of the people who sign in, and what is known of them. */
export interface PeopleTable {
  readonly table: string;
  readonly id: string;
  readonly name?: string;
  readonly address?: string;
  /** A boolean: who may come in. */
  readonly active?: string;
}

/** The organisations that share the application: a table, or a column of the people's alone. */
export interface TenantTable {
  readonly table?: string;
  readonly id: string;
  readonly name?: string;
}

/** Who belongs where. It may be the table of the people itself. */
export interface MemberTable {
  readonly table: string;
  readonly tenant: string;
  readonly user: string;
  readonly role?: string;
  readonly roles: readonly string[];
  readonly active?: string;
}

/** What the tables of an application are to its charter. */
export interface Reading {
  readonly tables: ReadonlyMap<string, SchemaTable>;
  readonly pointers: ReadonlyMap<string, readonly Pointer[]>;
  readonly people?: PeopleTable;
  readonly tenants?: TenantTable;
  readonly members?: MemberTable;
  /** The column by which rows of a table name their organisation. */
  readonly tenantColumns: ReadonlyMap<string, SchemaColumn>;
  readonly unsure: readonly string[];
}

/** What is to be taken for what, where somebody says it. */
export interface Said {
  readonly people?: string | undefined;
  readonly tenants?: string | undefined;
}

const PEOPLE = /^(users?|people|persons?|profiles?|members?|accounts?|logins?|customers?|employees?)$/i;
/** What a table is called that says who belongs where. */
const MEMBERS = /(^|_)(members?|memberships?)$/i;
const TENANT = /^(tenant|org|organi[sz]ation|workspace|account|company|association|club|school|customer|team)s?$/i;
const ADDRESS = /^(e_?mail|e?mail_?address|address)$/i;
const SECRET = /passw|secret|pw_?hash|password_?digest/i;
const ROLE = /^(role|rank|kind|type|level|position|access|permission)(_?(name|id))?$/i;
const ACTIVE = /^(is_?)?(active|enabled)$/i;
const NAMES = ['name', 'full_name', 'fullname', 'display_name', 'title', 'label', 'username', 'login'];

/** `project_id`, `projectId`, `created_by`: what a column that names something ends with. */
const NAMES_SOMETHING = /(_id|[a-z]Id|_uuid|_by|[a-z]By|_to|_ref)$/;

export const singular = (table: string): string =>
  table
    .replace(/ies$/, 'y')
    .replace(/(ss|us)$/, '$1')
    .replace(/([^su])s$/, '$1');

export const keyOf = ({ columns }: SchemaTable): SchemaColumn | undefined => columns.find(({ isKey }) => isKey);

const stem = (column: string) => column.replace(/_?(id|uuid|ref)$/i, '');
const nameIn = ({ columns }: SchemaTable) => {
  const texts = columns.filter(({ type }) => type === 'text').map(({ name }) => name);
  return NAMES.map((wanted) => texts.find((name) => name.toLowerCase() === wanted)).find((found) => found !== undefined);
};
const best = <T>(all: readonly T[], score: (one: T) => number): { readonly found: T | undefined; readonly score: number; readonly close: readonly T[] } => {
  const ranked = all.map((one) => ({ one, score: score(one) })).sort((a, b) => b.score - a.score);
  const [first] = ranked;
  return { found: first?.one, score: first?.score ?? 0, close: ranked.filter((other) => first && other.score >= first.score - 1).map(({ one }) => one) };
};

function peopleTable(tables: readonly SchemaTable[], said: string | undefined, unsure: string[]): PeopleTable | undefined {
  const referred = (name: string) => tables.filter(({ columns }) => columns.some(({ to }) => to === name)).length;
  const score = (table: SchemaTable) => {
    const has = (like: RegExp) => (table.columns.some(({ name }) => like.test(name)) ? 1 : 0);
    const isOfOthers = table.columns.some(({ to, isKey }) => isKey && to !== null);
    const said = (PEOPLE.test(table.name) ? 3 : 0) + 3 * has(ADDRESS) + 2 * has(SECRET);
    return said === 0 ? 0 : said + Math.min(referred(table.name), 3) - (isOfOthers ? 4 : 0);
  };
  const keyed = tables.filter((table) => keyOf(table));
  const { found, close, score: reached } = best(keyed, score);
  const table = said === undefined ? (reached >= 3 ? found : undefined) : keyed.find(({ name }) => name === said);
  if (!table) {
    unsure.push('No table looks like that of the people who sign in; say which it is with --people TABLE.');
    return undefined;
  }
  if (said === undefined && close.length > 1)
    unsure.push(
      `${table.name} is taken for the people who sign in; it could also be ${close
        .filter((one) => one !== table)
        .map(({ name }) => name)
        .join(' or ')}. Say which with --people TABLE.`,
    );
  const [name, address] = [nameIn(table), table.columns.find((column) => ADDRESS.test(column.name))?.name];
  const active = table.columns.find((column) => ACTIVE.test(column.name) && column.type === 'boolean')?.name;
  return { table: table.name, id: (keyOf(table) as SchemaColumn).name, ...(name && { name }), ...(address && { address }), ...(active && { active }) };
}

async function pointersOf(table: SchemaTable, all: readonly SchemaTable[], people: SchemaTable | undefined, rows: Rows): Promise<Pointer[]> {
  const found: Pointer[] = [];
  for (const column of table.columns) {
    if (column.to !== null) found.push({ column, to: column.to, by: 'key' });
    else if (!column.isKey && NAMES_SOMETHING.test(column.name)) {
      const key = (other: SchemaTable | undefined) => (other && keyOf(other)?.type === column.type ? keyOf(other) : undefined);
      const named = all.find(({ name }) => singular(name).toLowerCase() === stem(column.name).toLowerCase());
      const to = key(named) ? named : undefined;
      if (to) found.push({ column, to: to.name, by: (await rows.allIn(table.name, column.name, to.name, key(to)?.name as string)) ? 'rows' : 'name' });
      else if (people && table !== people && key(people) && (await rows.allIn(table.name, column.name, people.name, key(people)?.name as string)))
        found.push({ column, to: people.name, by: 'rows' });
    }
  }
  return found;
}

const roleColumn = ({ name, columns }: SchemaTable, not: readonly SchemaColumn[]) => {
  const texts = columns.filter((column) => column.type === 'text' && !column.isKey && !not.includes(column) && column.to === null);
  // Where a table says who belongs, its one text says as what.
  const only = MEMBERS.test(name) && texts.length === 1;
  return texts.find((column) => ROLE.test(column.name) || only || (not.length > 1 && column.options !== undefined));
};

/** A table that is about a row of one table and a person, with little besides. */
function pairIn(table: SchemaTable, pointers: readonly Pointer[], people: string | undefined) {
  const user = pointers.find(({ to }) => to === people);
  const others = pointers.filter((one) => one !== user && one.to !== people);
  return user && others.length > 0 ? { table, user: user.column, others } : undefined;
}

/** Reads what the tables of an application are, by foreign keys first, by rows then, and by names last. */
export async function recognise(all: readonly SchemaTable[], rows: Rows, said: Said = {}): Promise<Reading> {
  const unsure: string[] = [];
  const tables = new Map(all.map((table) => [table.name, table]));
  const people = peopleTable(all, said.people, unsure);
  const ofPeople = people && (tables.get(people.table) as SchemaTable);
  const pointers = new Map<string, readonly Pointer[]>();
  for (const table of all) pointers.set(table.name, await pointersOf(table, all, ofPeople, rows));
  const pointersIn = (table: string) => pointers.get(table) ?? [];
  const pairs = all.flatMap((table) => (table.name === people?.table ? [] : (pairIn(table, pointersIn(table.name), people?.table) ?? [])));

  /** Tables whose rows hang on those of another, over however many. */
  const hangOn = (name: string): ReadonlySet<string> => {
    const found = new Set<string>();
    for (let grown = true; grown; ) {
      grown = false;
      for (const table of all)
        if (
          table.name !== name &&
          table.name !== people?.table &&
          !found.has(table.name) &&
          pointersIn(table.name).some(({ to }) => to === name || found.has(to))
        ) {
          found.add(table.name);
          grown = true;
        }
    }
    return found;
  };
  const isReferred = (name: string) => all.some((table) => pointersIn(table.name).some(({ to }) => to === name));
  /** The table that says who is at a row of another, and as what: one on which nothing hangs. */
  const membersOf = (name: string) => {
    const about = pairs.filter(({ table, others }) => !isReferred(table.name) && others.some(({ to }) => to === name));
    const role = ({ table, user, others }: (typeof pairs)[number]) => roleColumn(table, [user, ...others.map(({ column }) => column)]);
    const fits = (pair: (typeof pairs)[number]) => {
      const called = role(pair);
      return (
        (MEMBERS.test(pair.table.name) ? 2 : 0) +
        (called ? (ROLE.test(called.name) ? 4 : 2) : 0) +
        (keyOf(pair.table) ? 0 : 2) -
        pair.others.length -
        Math.max(0, pair.table.columns.length - 5)
      );
    };
    const { found, score } = best(about, fits);
    return found && score > 0 ? { ...found, hasRole: role(found) !== undefined } : undefined;
  };
  const fromPeople = (name: string) => (people ? pointersIn(people.table).some(({ to }) => to === name) : false);
  const score = ({ name }: SchemaTable) => {
    const hanging = hangOn(name).size;
    if (hanging === 0 && !fromPeople(name)) return 0;
    const isBelow = pointersIn(name).some(({ to }) => to !== name && to !== people?.table && hangOn(to).size > hanging);
    const knowsPeople = pairs.some(({ others }) => others.some(({ to }) => to === name)) || fromPeople(name);
    return hanging + (TENANT.test(name) ? 4 : 0) + (membersOf(name)?.hasRole ? 4 : 0) + (fromPeople(name) ? 3 : 0) - (isBelow ? 5 : 0) - (knowsPeople ? 0 : 3);
  };
  const candidates = all.filter((table) => keyOf(table) && table.name !== people?.table);
  const guess = best(candidates, score);
  const named = said.tenants === undefined ? (guess.score >= 4 ? guess.found : undefined) : tables.get(said.tenants);
  if (said.tenants === undefined && named && guess.close.length > 1)
    unsure.push(
      `${named.name} is taken for the organisations; it could also be ${guess.close
        .filter((one) => one !== named)
        .map(({ name }) => name)
        .join(' or ')}. Say which with --tenants TABLE.`,
    );

  let tenants: TenantTable | undefined;
  const tenantColumns = new Map<string, SchemaColumn>();
  if (named) {
    const name = nameIn(named);
    tenants = { table: named.name, id: (keyOf(named) as SchemaColumn).name, ...(name && { name }) };
    for (const table of all) {
      const pointer = table === named ? undefined : pointersIn(table.name).find(({ to }) => to === named.name);
      if (pointer) tenantColumns.set(table.name, pointer.column);
    }
  } else {
    const column = sharedColumn(all, ofPeople, pointers);
    if (column) {
      tenants = { id: column.name };
      unsure.push(
        `${column.name} is taken for the organisation: it stands in ${column.in.map(({ name }) => name).join(', ')}, and no table has one row for each.`,
      );
      for (const table of column.in) tenantColumns.set(table.name, table.columns.find(({ name }) => name === column.name) as SchemaColumn);
    } else unsure.push('No table looks like that of the organisations that share the application; say which it is with --tenants TABLE.');
  }

  const pair = named && membersOf(named.name);
  const membersIn = pair ? pair.table : ofPeople && tenantColumns.has(ofPeople.name) ? ofPeople : undefined;
  const members = membersIn && people && (await memberTable(membersIn, people, pair?.user, tenantColumns.get(membersIn.name) as SchemaColumn, rows, unsure));
  if (!members && tenants) unsure.push('No table says who belongs to which organisation; write the members into the intake yourself.');
  return { tables, pointers, ...(people && { people }), ...(tenants && { tenants }), ...(members && { members }), tenantColumns, unsure };
}

/** Where no table has the organisations: a column that the people have and most other tables too, under one name and of one type. */
function sharedColumn(all: readonly SchemaTable[], people: SchemaTable | undefined, pointers: ReadonlyMap<string, readonly Pointer[]>) {
  const found = (people?.columns ?? []).flatMap((column) => {
    const isFree = !column.isKey && column.to === null && !(pointers.get(people?.name ?? '') ?? []).some((one) => one.column === column);
    const isId = column.type === 'text' || column.type === 'integer' || column.type === 'uuid';
    if (!isFree || !isId || !(NAMES_SOMETHING.test(column.name) || TENANT.test(column.name))) return [];
    const same = all.filter((table) => table.columns.some(({ name, type }) => name === column.name && type === column.type));
    return same.length > 1 && same.length * 2 > all.length ? [{ name: column.name, in: same }] : [];
  });
  return best(found, (one) => one.in.length + (TENANT.test(stem(one.name)) ? 3 : 0)).found;
}

async function memberTable(
  table: SchemaTable,
  people: PeopleTable,
  user: SchemaColumn | undefined,
  tenant: SchemaColumn,
  rows: Rows,
  unsure: string[],
): Promise<MemberTable> {
  const column = roleColumn(table, user ? [user, tenant] : [tenant]);
  const roles = column && (column.options ?? (await rows.values(table.name, column.name, 20)));
  if (column && roles === undefined) unsure.push(`${table.name}.${column.name} has more than 20 values, so that it is not taken for a role.`);
  if (!column) unsure.push(`${table.name} says who belongs where, and not with which role; write the roles into the charter and the intake yourself.`);
  const active =
    table.columns.find(({ name, type }) => ACTIVE.test(name) && type === 'boolean')?.name ?? (table.name === people.table ? people.active : undefined);
  return {
    table: table.name,
    tenant: tenant.name,
    user: user?.name ?? people.id,
    ...(column && roles && { role: column.name }),
    roles: roles ?? [],
    ...(active && { active }),
  };
}
