/* The tables that generated charters speak of, and what may stand in their cells. */
import { type Kysely, SqliteAdapter, sql } from 'kysely';
import { readCharter } from 'warm-lintel';
import { createLintel } from 'warm-lintel/server';

export const HERE = 'here';
export const ME = 'u1';

/** Texts that some comparison takes for one another, or breaks on. */
export const TEXTS = ['', 'a', 'A', 'ä', 'a\u0308', 'a ', '\u{1F41D}', '\uFB01', "o'hive", '%', '_', '\\', '0'];
export const INSTANTS = ['1970-01-01T00:00:00.000Z', '2026-05-01T12:00:00.000Z', '2026-05-01T12:00:00.001Z', '2037-12-31T23:59:59.999Z'];
export const INTEGERS = [-9007199254740991, -1, 0, 1, 9007199254740991];
/** In another order as texts than as numbers, and one that is written in two ways. */
export const DECIMALS = ['-0.50', '-1.10', '0.00', '0.50', '0.5', '1.10', '9.00', '12345678901234.34'];
export const CODES = ['00000000-0000-4000-8000-000000000000', 'abcdefab-0000-4000-8000-00000000000f'];
export const PEOPLE = [ME, 'u2', 'U1', 'boss'];
export const STRANGERS = ['stranger', 'gone'];
export const UNITS = ['top', 'left', 'leaf', 'other'];
export const GROUPS = ['g1', 'g2'];
export const TENANTS = [HERE, 'HERE', 'there'];

export const ID_COUNT = 4;
export const ids = {
  plot: Array.from({ length: ID_COUNT }, (_, i) => `p${i}`),
  hive: Array.from({ length: ID_COUNT }, (_, i) => `h${i}`),
  visit: Array.from({ length: ID_COUNT }, (_, i) => i + 1),
} as const;

type Type = 'text' | 'integer' | 'decimal' | 'instant' | 'boolean' | 'uuid';
interface FieldOf {
  readonly role: string;
  readonly type: Type;
  readonly scale?: number;
  readonly to?: string;
  readonly link?: object;
}
const word = (role: string, type: Type, more: object = {}): FieldOf => ({ role, type, ...more });
const plain = (type: Type, more: object = {}) => word('plain', type, more);

/** The fields of each kind, before a generated charter guards or masks some. */
export const KINDS = {
  plot: {
    table: 'plots',
    fields: {
      id: word('id', 'text'),
      tenantId: word('tenant', 'text'),
      ownerId: word('owner', 'text'),
      unitId: word('unit', 'text'),
      name: plain('text'),
      level: plain('integer'),
    },
  },
  hive: {
    table: 'hives',
    fields: {
      id: word('id', 'text'),
      tenantId: word('tenant', 'text'),
      ownerId: word('owner', 'text'),
      madeBy: word('maker', 'text'),
      helperId: word('person', 'text'),
      plotId: word('parent', 'text', { to: 'plot' }),
      unitId: word('unit', 'text'),
      crewId: word('group', 'text'),
      name: plain('text'),
      other: plain('text'),
      level: plain('integer'),
      price: plain('decimal', { scale: 2 }),
      at: plain('instant'),
      until: plain('instant'),
      open: plain('boolean'),
      code: plain('uuid'),
      helpers: word('people', 'text', { link: { table: 'hive_helpers', tenant: 'tenant_id', record: 'hive_id', user: 'user_id' } }),
    },
  },
  visit: {
    table: 'visits',
    fields: {
      id: word('id', 'integer'),
      tenantId: word('tenant', 'text'),
      hiveId: word('parent', 'text', { to: 'hive' }),
      madeBy: word('maker', 'text'),
      name: plain('text'),
      level: plain('integer'),
    },
  },
} satisfies Record<string, { table: string; fields: Readonly<Record<string, FieldOf>> }>;

export type KindName = keyof typeof KINDS;
/** What a charter says of a kind beside what is drawn. */
export const kindData = (kind: KindName, actions: readonly string[]) => ({
  table: KINDS[kind].table,
  label: 'name',
  one: kind,
  many: `${kind}s`,
  fields: KINDS[kind].fields,
  actions: Object.fromEntries(actions.map((action) => [action, { label: action }])),
});
export const fieldsIn = (kind: KindName): [string, FieldOf][] => Object.entries(KINDS[kind].fields);
export const KIND_NAMES = Object.keys(KINDS) as KindName[];

const COLUMN_TYPES = {
  postgres: { text: 'text', integer: 'bigint', decimal: 'numeric(20, 2)', instant: 'timestamptz', boolean: 'boolean', uuid: 'uuid' },
  sqlite: { text: 'text', integer: 'integer', decimal: 'text', instant: 'text', boolean: 'integer', uuid: 'text' },
} as const;

export const columnOf = (field: string) => field.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`);
/** Fields that have a column of their own. */
export const columnFields = (kind: KindName) => fieldsIn(kind).filter(([, f]) => f.role !== 'people');

export const isSqlite = (db: Kysely<any>) => db.getExecutor().adapter instanceof SqliteAdapter;

/** Makes the empty tables. */
export async function makeTables(db: Kysely<any>): Promise<void> {
  const types = COLUMN_TYPES[isSqlite(db) ? 'sqlite' : 'postgres'];
  for (const kind of KIND_NAMES) {
    const columns = columnFields(kind).map(([field, { type }]) => `${columnOf(field)} ${types[type]}`);
    await sql.raw(`create table ${KINDS[kind].table} (${columns.join(', ')}, undeclared text default 'hidden')`).execute(db);
  }
  await sql.raw('create table hive_helpers (tenant_id text, hive_id text, user_id text)').execute(db);
}

/** A tenant with members, units and groups, on a database that also holds the membership. */
export async function makeMembership(db: Kysely<any>): Promise<void> {
  const lintel = createLintel({ charter: readCharter({ kinds: {} }), db });
  await lintel.prepare();
  for (const id of [...PEOPLE, ...STRANGERS]) await lintel.addPerson({ id, name: id, address: `${id === 'U1' ? 'capital' : id}@agree.example` });
  await lintel.openTenant({ id: HERE, name: 'Here', keyholder: 'boss' });
  await lintel.openTenant({ id: 'there', name: 'There', keyholder: 'stranger' });
  const boss = await lintel.enter({ tenant: HERE, user: 'boss' });
  await boss.tenant.addUnit({ id: 'top', name: 'top' });
  await boss.tenant.addUnit({ id: 'left', name: 'left', below: 'top' });
  await boss.tenant.addUnit({ id: 'leaf', name: 'leaf', below: 'left' });
  await boss.tenant.addUnit({ id: 'other', name: 'other' });
  const member = (user_id: string, status: string) => ({ tenant_id: HERE, user_id, status, since: new Date(0), attributes: '{}' });
  await db
    .insertInto('lintel_member')
    .values([member(ME, 'active'), member('u2', 'active'), member('U1', 'active'), member('gone', 'suspended')])
    .execute();
  await db
    .insertInto('lintel_group')
    .values(GROUPS.map((id) => ({ tenant_id: HERE, id, name: id })))
    .execute();
  await db
    .insertInto('lintel_group_member')
    .values([
      { tenant_id: HERE, group_id: 'g1', user_id: 'u2' },
      { tenant_id: HERE, group_id: 'g2', user_id: 'U1' },
    ])
    .execute();
}
