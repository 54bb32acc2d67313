import { type Kysely, sql } from 'kysely';
import type { CharterData, FieldData, KindData } from '../charter/index.js';

interface Column {
  readonly table: string;
  readonly column: string;
  readonly type: string;
  readonly scale: number | null;
  readonly key: boolean;
  /** The table that a foreign key of this column points to. */
  readonly to: string | null;
}

/** The columns of a list of people. */
interface LinkColumns {
  readonly record: Column;
  readonly user: Column;
  readonly tenant?: Column;
}

/** A charter to be edited, and what the schema alone did not settle. */
export interface Survey {
  readonly charter: Pick<CharterData, 'kinds'> & { readonly roles: object };
  readonly undecided: readonly string[];
}

const TYPES: Readonly<Record<string, FieldData['type']>> = {
  uuid: 'uuid',
  text: 'text',
  varchar: 'text',
  bpchar: 'text',
  citext: 'text',
  int2: 'integer',
  int4: 'integer',
  int8: 'integer',
  bool: 'boolean',
  numeric: 'decimal',
  timestamptz: 'instant',
};
const TENANT = /^(tenant|org|organi[sz]ation|workspace|account|company|association|club|school|customer)(_?id|_uuid)?$/i;
const PEOPLE = /^(users?|people|persons?|profiles?|members?|accounts?)$/i;
const MAKER = /^(created|made|added|inserted|entered)_?by(_?id)?$|^(author|creator|maker)(_?id)?$/i;
const OWNER = /^(owner|assignee|assigned_to|responsible|keeper|holder|user|manager)(_?id)?$|^owned_by(_?id)?$/i;
const UNIT = /^(unit|site|department|branch|location|region|division)(_?id)?$/i;
const LABELS = ['name', 'title', 'label', 'subject', 'code', 'number'];

const camel = (column: string) => column.replace(/_+([a-z0-9])/gi, (_all, letter: string) => letter.toUpperCase());
const singular = (table: string) =>
  table
    .replace(/ies$/, 'y')
    .replace(/(ss|us)$/, '$1')
    .replace(/([^su])s$/, '$1');

async function readColumns(db: Kysely<any>): Promise<Column[]> {
  const { rows } = await sql<Column>`
    select c.relname as table, a.attname as column, t.typname as type, case when t.typname = 'numeric' and a.atttypmod > 0 then (a.atttypmod - 4) & 65535 end as scale,
      exists (select 1 from pg_index i where i.indrelid = c.oid and i.indisprimary and i.indnkeyatts = 1 and i.indkey[0] = a.attnum) as key,
      (select f.relname from pg_constraint k join pg_class f on f.oid = k.confrelid where k.conrelid = c.oid and k.contype = 'f' and a.attnum = any(k.conkey) order by array_length(k.conkey, 1) limit 1) as to
    from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped join pg_type t on t.oid = a.atttypid
    where c.relkind in ('r', 'p') and n.nspname = any(current_schemas(false)) and c.relname not like 'lintel\\_%' order by c.relname, a.attnum`.execute(db);
  return rows;
}

/** Reads a live PostgreSQL schema and proposes what the charter would say of it. Guesses by foreign keys first, by names after; says what it could not tell. */
export async function survey(db: Kysely<any>): Promise<Survey> {
  const columns = await readColumns(db);
  const tables = new Map<string, Column[]>();
  for (const column of columns) tables.set(column.table, [...(tables.get(column.table) ?? []), column]);
  const undecided: string[] = [];
  const tenantOf = (all: readonly Column[]) => all.find((c) => TENANT.test(c.column) && !c.key);
  const isPeople = (table: string | null) => table !== null && PEOPLE.test(table);
  const keyOf = (all: readonly Column[]) => all.find((c) => c.key) ?? all.find((c) => c.column === 'id');
  /** The column of the parent through which a table without a tenant of its own has one. */
  const throughOf = (all: readonly Column[], trail: readonly Column[][] = []): Column | undefined =>
    all.find(({ key, to }) => {
      const parent = key || to === null || isPeople(to) ? undefined : tables.get(to);
      return parent?.some((c) => c.key) && !trail.includes(parent) && (tenantOf(parent) ?? throughOf(parent, [...trail, parent])) !== undefined;
    });
  const links = new Map<string, LinkColumns>();
  for (const [table, all] of tables) {
    const [tenant, user] = [tenantOf(all), all.find((c) => isPeople(c.to) || /^(user|person|member)_?id$/i.test(c.column))];
    const record = all.find((c) => c !== tenant && c !== user && (c.to !== null || tables.has(`${c.column.replace(/_?id$/i, '')}s`)));
    if (user && record && all.length <= (tenant ? 4 : 3) && !all.some((c) => c.key)) links.set(table, { record, user, ...(tenant && { tenant }) });
  }
  const kinds: Record<string, KindData> = {};
  for (const [table, all] of tables) {
    if (links.has(table) || isPeople(table) || TENANT.test(singular(table))) continue;
    const key = keyOf(all);
    if (!key) {
      undecided.push(`${table}: has no key of one column, so it is no kind; give it one, or leave it outside of the charter`);
      continue;
    }
    const tenant = tenantOf(all);
    const kind = proposeKind(table, all, key, tenant ?? throughOf(all), tables, links, isPeople, undecided);
    if (kind) kinds[camel(singular(table))] = kind;
  }
  return { charter: { kinds, roles: {} }, undecided };
}

function proposeKind(
  table: string,
  all: readonly Column[],
  key: Column,
  /** The column of the tenant, or of the parent through which it is had. */
  tenant: Column | undefined,
  tables: ReadonlyMap<string, readonly Column[]>,
  links: ReadonlyMap<string, LinkColumns>,
  isPeople: (table: string | null) => boolean,
  undecided: string[],
): KindData | undefined {
  const fields: Record<string, FieldData> = {};
  const taken = new Set<string>();
  const add = (column: Column, role: FieldData['role'], more: Partial<FieldData> = {}) => {
    const type = TYPES[column.type];
    if (type === undefined) return void undecided.push(`${table}.${column.column}: the type ${column.type} cannot be compared by rules; it is left out`);
    if (role !== 'plain' && !['uuid', 'text', 'integer'].includes(type))
      return void undecided.push(`${table}.${column.column}: ${column.type} is no type of an id; it is left out`);
    const once = ['owner', 'maker', 'unit'].includes(role) && taken.has(role);
    if (once) undecided.push(`${table}.${column.column}: a second ${role}; it is proposed as ${role === 'unit' ? 'a plain field' : 'a person'}`);
    taken.add(role);
    const as = once ? (role === 'unit' ? 'plain' : 'person') : role;
    if (type === 'decimal' && column.scale === null)
      return void undecided.push(`${table}.${column.column}: a number without fixed places; declare it numeric(p, s) to have it in rules`);
    fields[camel(column.column)] = { role: as, type, column: column.column, ...(type === 'decimal' && { scale: column.scale as number }), ...more };
  };
  const parentOf = ({ column, to }: Column): string | undefined => {
    const named = /_id$/i.test(column) ? [...tables.keys()].find((other) => singular(other) === column.replace(/_id$/i, '')) : undefined;
    const found = to !== null && tables.has(to) ? to : named;
    return found === table ? undefined : found;
  };
  for (const column of all) {
    if (column === key) add(column, 'id');
    else if (column === tenant && TENANT.test(column.column)) add(column, 'tenant');
    else if (MAKER.test(column.column)) add(column, 'maker');
    else if (OWNER.test(column.column)) add(column, 'owner', { change: 'transfer' });
    else if (isPeople(column.to)) {
      undecided.push(`${table}.${column.column}: names a person; is that the owner, the maker, or somebody else?`);
      add(column, 'person');
    } else if (UNIT.test(column.column)) add(column, 'unit', { change: 'move' });
    else if (parentOf(column) !== undefined) {
      const to = parentOf(column) as string;
      if (column.to === null) undecided.push(`${table}.${column.column}: seems to point to ${to}, by its name alone`);
      add(column, 'parent', { to: camel(singular(to)), change: 'move', ...(column === tenant && { through: true }) });
    } else add(column, 'plain');
  }
  for (const [link, { record, user, tenant: ofTenant }] of links) {
    if (record.to === table || `${record.column.replace(/_?id$/i, '')}s` === table)
      fields[camel(link)] = {
        role: 'people',
        type: TYPES[user.type] ?? 'text',
        change: 'assign',
        link: { table: link, ...(ofTenant && { tenant: ofTenant.column }), record: record.column, user: user.column },
      };
  }
  const plain = Object.keys(fields).filter((f) => fields[f]?.role === 'plain' && fields[f]?.type === 'text');
  const label = LABELS.map(camel).find((f) => plain.includes(f)) ?? plain[0] ?? camel(key.column);
  if (!tenant)
    undecided.push(`${table}: names no tenant, and no parent that has one; it is proposed as shared by all of them. If it belongs to one, add the column`);
  const owner = Object.entries(fields).find(([, f]) => f.role === 'owner')?.[0];
  const guards = [...new Set(Object.values(fields).flatMap((f) => f.change ?? []))];
  const one = singular(table).replaceAll('_', ' ');
  const actions = tenant ? ['read', 'create', 'update', 'delete', ...guards] : ['read'];
  return {
    table,
    label,
    one,
    many: table.replaceAll('_', ' '),
    ...(!tenant && { shared: true }),
    fields: tenant ? fields : Object.fromEntries(Object.entries(fields).map(([f, { change: _change, ...field }]) => [f, field])),
    actions: Object.fromEntries(actions.map((action) => [action, { label: `${action[0]?.toUpperCase()}${action.slice(1)} a ${one}` }])),
    reaches: owner ? { own: { op: 'is', field: owner, to: { me: 'userId' } } } : {},
  };
}
