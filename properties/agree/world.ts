/* The tables that generated charters speak of, and what may stand in their cells. */
import { type Kysely, sql } from 'kysely';
import { readCharter } from 'warm-lintel';
import { createLintel } from 'warm-lintel/server';
import { writerFor } from '../../src/scoping/index.js';
import { ID_TYPES, idOf, type Names } from './typed.js';

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
  visit: Array.from({ length: ID_COUNT }, (_, i) => `v${i}`),
  note: Array.from({ length: ID_COUNT }, (_, i) => `n${i}`),
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
      id: word('id', 'text'),
      tenantId: word('tenant', 'text'),
      hiveId: word('parent', 'text', { to: 'hive' }),
      madeBy: word('maker', 'text'),
      name: plain('text'),
      level: plain('integer'),
    },
  },
  // Has its tenant through its visit, and people without one of their own.
  note: {
    table: 'notes',
    fields: {
      id: word('id', 'text'),
      visitId: word('parent', 'text', { to: 'visit', through: true }),
      plotId: word('parent', 'text', { to: 'plot' }),
      ownerId: word('owner', 'text'),
      madeBy: word('maker', 'text'),
      name: plain('text'),
      level: plain('integer'),
      watchers: word('people', 'text', { link: { table: 'note_watchers', record: 'note_id', user: 'user_id' } }),
    },
  },
} satisfies Record<string, { table: string; fields: Readonly<Record<string, FieldOf>> }>;

export type KindName = keyof typeof KINDS;
/** Kinds of which no two records have the same id, in whatever tenants: something has its tenant through them, or they have people without one. */
export const UNIQUE: readonly KindName[] = ['visit', 'note'];
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
  mariadb: {
    text: 'varchar(64) collate utf8mb4_nopad_bin',
    integer: 'bigint',
    decimal: 'decimal(20, 2)',
    instant: 'datetime(6)',
    boolean: 'boolean',
    uuid: 'uuid',
  },
} as const;

/** What MariaDB has of the sort of a type of PostgreSQL, or as unfit. */
const OTHER_IN_MARIADB: Readonly<Record<string, string>> = {
  text: 'longtext collate utf8mb4_nopad_bin',
  varchar: 'varchar(60) collate utf8mb4_bin',
  'varchar(40)': 'varchar(40) collate utf8mb4_nopad_bin',
  'char(8)': 'char(8) collate utf8mb4_nopad_bin',
  'varchar(36)': 'varchar(36) collate utf8mb4_nopad_bin',
  name: 'varbinary(60)',
  '"char"': 'varchar(60)',
  jsonb: 'json',
  numeric: 'decimal(40, 10)',
  'numeric(20, 1)': 'decimal(20, 1)',
  'numeric(20, 2)': 'decimal(20, 2)',
  'numeric(20, 3)': 'decimal(20, 3)',
  'double precision': 'double',
  real: 'float',
  money: 'decimal(20, 4)',
  timestamptz: 'datetime(6)',
  'timestamptz(0)': 'datetime',
  'timestamptz(3)': 'datetime(3)',
  timestamp: 'timestamp(6) null',
};

export const columnOf = (field: string) => field.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`);
/** Fields that have a column of their own. */
export const columnFields = (kind: KindName) => fieldsIn(kind).filter(([, f]) => f.role !== 'people');

/** What a database speaks. */
export const tongueOf = (db: Kysely<any>) => writerFor(db, {}).vocabulary;

/** Some column that is of another type than its field is usually kept in. */
export interface OtherColumn {
  readonly kind: KindName;
  readonly field: string;
  readonly type: string;
}

/** Makes the empty tables. */
export async function makeTables(db: Kysely<any>, names: Names, other?: OtherColumn): Promise<void> {
  const tongue = tongueOf(db);
  const types = COLUMN_TYPES[tongue];
  const otherType = other && (tongue === 'mariadb' ? (OTHER_IN_MARIADB[other.type] ?? other.type) : tongue === 'sqlite' ? undefined : other.type);
  const typeOf = (kind: KindName, field: string, type: Type) => (other?.kind === kind && other.field === field && otherType ? otherType : types[type]);
  for (const kind of KIND_NAMES) {
    const columns = names
      .fields(kind)
      .flatMap(([field, { role, type }]) =>
        role === 'people' ? [] : [`${columnOf(field)} ${typeOf(kind, field, type)}${role === 'id' && UNIQUE.includes(kind) ? ' unique' : ''}`],
      );
    await sql.raw(`create table ${KINDS[kind].table} (${columns.join(', ')}, undeclared text default 'hidden')`).execute(db);
  }
  const { tenant, hive, note, person } = names.types;
  await sql.raw(`create table note_watchers (note_id ${types[note]}, user_id ${types[person]})`).execute(db);
  await sql.raw(`create table hive_helpers (tenant_id ${types[tenant]}, hive_id ${types[hive]}, user_id ${types[person]})`).execute(db);
}

export async function dropTables(db: Kysely<any>): Promise<void> {
  for (const table of ['hive_helpers', 'note_watchers', ...KIND_NAMES.map((kind) => KINDS[kind].table)]) await sql.raw(`drop table ${table}`).execute(db);
}

/** For each type of id a tenant with members, units and groups of every type, on a database that also holds the membership. */
export async function makeMembership(db: Kysely<any>): Promise<void> {
  const lintel = createLintel({ charter: readCharter({ kinds: {} }), db });
  await lintel.prepare();
  const each = (...names: string[]) => ID_TYPES.flatMap((type) => names.map((name) => String(idOf(type, name))));
  for (const [i, id] of each(...PEOPLE, ...STRANGERS).entries()) await lintel.addPerson({ id, name: id, address: `a${i}@agree.example` });
  for (const tenant_id of each(HERE)) {
    await lintel.openTenant({ id: tenant_id, name: 'Here', keyholder: 'boss' });
    const boss = await lintel.enter({ tenant: tenant_id, user: 'boss' });
    for (const type of ID_TYPES) {
      const id = (name: string) => String(idOf(type, name));
      for (const [unit, below] of [['top'], ['left', 'top'], ['leaf', 'left'], ['other']] as const)
        await boss.tenant.addUnit({ id: id(unit), name: unit, ...(below && { below: id(below) }) });
    }
    const rows = async (table: string, all: readonly object[]) => {
      await db
        .insertInto(table)
        .values(all.map((row) => ({ tenant_id, ...row })))
        .execute();
    };
    const member = { since: new Date(0), attributes: '{}' };
    const [, ...bosses] = each('boss');
    await rows(
      'lintel_member',
      [...bosses, ...each(ME, 'u2', 'U1')].map((user_id) => ({ ...member, user_id, status: 'active' })),
    );
    await rows(
      'lintel_member',
      each('gone').map((user_id) => ({ ...member, user_id, status: 'suspended' })),
    );
    await rows('lintel_assignment', [
      ...bosses.map((user_id) => ({ user_id, role: 'keyholder', anchor: 'tenant', anchor_id: tenant_id })),
      // To whom records are given by others.
      ...each('u2').map((user_id) => ({ user_id, role: 'second', anchor: 'tenant', anchor_id: tenant_id })),
    ]);
    await rows(
      'lintel_group',
      each(...GROUPS).map((id) => ({ id, name: id })),
    );
    await rows(
      'lintel_group_member',
      each('g1').flatMap((group_id) => each('u2').map((user_id) => ({ group_id, user_id }))),
    );
    await rows(
      'lintel_group_member',
      each('g2').flatMap((group_id) => each('U1').map((user_id) => ({ group_id, user_id }))),
    );
  }
  for (const id of each('there')) await lintel.openTenant({ id, name: 'There', keyholder: 'stranger' });
}
