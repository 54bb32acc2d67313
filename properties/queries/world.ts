/*
 * Two databases that differ in everything one person may not see, and in nothing else. If a query answers differently in them, it has told something: a row, a
 * count, a masked value, an error.
 */
import { type Kysely, sql } from 'kysely';
import { readCharter } from 'warm-lintel';
import { createLintel } from 'warm-lintel/server';
import { writerFor } from '../../src/scoping/index.js';

const plain = (type: string, more: object = {}) => ({ role: 'plain', type, ...more });
const common = { id: { role: 'id', type: 'text' }, tenantId: { role: 'tenant', type: 'text' } };
const actions = Object.fromEntries(['read', 'create', 'update', 'delete', 'look'].map((label) => [label, { label }]));
const mine = { op: 'is', field: 'ownerId', to: { me: 'userId' } };
export const charter = readCharter({
  kinds: {
    hive: {
      table: 'hives',
      label: 'name',
      one: 'hive',
      many: 'hives',
      actions,
      fields: {
        ...common,
        ownerId: { role: 'owner', type: 'text' },
        name: plain('text'),
        code: plain('text'),
        size: plain('integer'),
        worth: plain('decimal', { scale: 2 }),
      },
      reaches: { own: mine },
    },
    visit: {
      table: 'visits',
      label: 'note',
      one: 'visit',
      many: 'visits',
      actions,
      fields: {
        ...common,
        hiveId: { role: 'parent', type: 'text', to: 'hive', change: 'look' },
        note: plain('text'),
        code: plain('text'),
        size: plain('integer'),
        worth: plain('decimal', { scale: 2, read: 'look' }),
      },
      reaches: { short: { op: 'is', field: 'note', to: { value: '1' } } },
    },
    entry: {
      table: 'entries',
      label: 'note',
      one: 'entry',
      many: 'entries',
      actions,
      fields: {
        ...common,
        ownerId: { role: 'owner', type: 'text' },
        note: plain('text'),
        code: plain('text'),
        size: plain('integer'),
        worth: plain('decimal', { scale: 2, read: 'look' }),
      },
      reaches: { own: mine, open: { op: 'or', of: [mine, { op: 'isEmpty', field: 'ownerId' }] } },
    },
    // Has its tenant through an entry, also through one that is not seen.
    note: {
      table: 'notes',
      label: 'note',
      one: 'note',
      many: 'notes',
      actions,
      fields: {
        id: common.id,
        entryId: { role: 'parent', type: 'text', to: 'entry', change: 'look', through: true, follow: false },
        note: plain('text'),
        code: plain('text'),
        size: plain('integer'),
        worth: plain('decimal', { scale: 2, read: 'look' }),
      },
      reaches: { short: { op: 'is', field: 'note', to: { value: '1' } } },
    },
  },
  roles: {
    member: {
      label: 'Member',
      may: {
        'hive.read': ['own'],
        'hive.update': ['own'],
        'hive.delete': ['own'],
        'hive.create': ['own'],
        'visit.read': ['followed'],
        'visit.look': ['short'],
        'visit.update': ['short'],
        'visit.delete': ['followed'],
        'visit.create': ['tenant'],
        'entry.read': ['open'],
        'entry.look': ['own'],
        'entry.update': ['own'],
        'entry.delete': ['open'],
        'entry.create': ['own'],
        'note.read': ['tenant'],
        'note.look': ['short'],
        'note.update': ['short'],
        'note.delete': ['tenant'],
        'note.create': ['tenant'],
      },
    },
  },
});

export const TABLES = ['hives', 'visits', 'entries', 'notes'] as const;
const SHARED = ['code', 'size', 'worth'];
/** Columns that the charter declares. */
export const COLUMNS: Readonly<Record<string, readonly string[]>> = {
  hives: ['id', 'tenant_id', 'owner_id', 'name', ...SHARED],
  visits: ['id', 'tenant_id', 'hive_id', 'note', ...SHARED],
  entries: ['id', 'tenant_id', 'owner_id', 'note', ...SHARED],
  notes: ['id', 'entry_id', 'note', ...SHARED],
};
const NUMBERS = new Set(['size', 'worth', 'c1']);
export const isNumber = (column: string) => NUMBERS.has(column.split('.').at(-1) as string);

/** What the application lets queries use besides: a piece of SQL that fails on some texts, and a table that everybody reads whole. */
const FURTHER = { fragments: { asNumber: 'cast($1 as integer)' }, openTables: ['codes'] };

const typeOf = (column: string) => (column === 'size' ? 'integer' : column === 'worth' ? 'numeric' : 'text');

interface Row {
  readonly id: string;
  readonly [column: string]: unknown;
}

/**
 * Nothing fails on these. What is seen is made of them, and all of the first world.
 */
const HARMLESS = { text: '1', size: 1, worth: '1.00', code: null };
/** On these something fails that a query may ask: a pattern that comes to its end, a cast, a division, a sum, a search for one where there are two. */
const FAILING = [
  { text: 'ab\\', size: 0, worth: '0.00', code: 'ab' },
  { text: '3', size: 2147483647, worth: '9.99', code: '3' },
  { text: 'ab', size: -2147483648, worth: '0.00', code: 'a' },
] as const;

/** Rows that the person sees are the same in both worlds; of those that they do not see, the second world has others. */
function rowsOf(second: boolean): Record<(typeof TABLES)[number], Row[]> {
  const hidden = (name: string, which: number) => {
    const { text, ...rest } = second ? (FAILING[which % FAILING.length] as (typeof FAILING)[number]) : HARMLESS;
    return { [name]: text, ...rest };
  };
  const seen = { code: null, worth: '1.50' };
  return {
    hives: [
      { id: 'h1', tenant_id: 't', owner_id: 'me', name: '1', size: 1, ...seen },
      { id: 'h2', tenant_id: 't', owner_id: 'me', name: '2', size: null, ...seen },
      { id: 'h3', tenant_id: 't', owner_id: 'other', ...hidden('name', 0) },
      { id: 'h1', tenant_id: 'u', owner_id: 'me', ...hidden('name', 1) },
      { id: 'h4', tenant_id: second ? 't' : null, owner_id: second ? null : 'me', ...hidden('name', 2) },
      ...(second ? [{ id: 'h5', tenant_id: 't', owner_id: 'other', ...hidden('name', 1) }] : []),
      // So common that a planner tries conditions on it.
      ...Array.from({ length: 6 }, (_, i) => ({ id: `h6${i}`, tenant_id: 't', owner_id: 'other', ...hidden('name', 2) })),
    ],
    visits: [
      { id: 'v1', tenant_id: 't', hive_id: 'h1', note: '1', size: 1, ...seen },
      // Seen, but not its worth.
      { id: 'v2', tenant_id: 't', hive_id: 'h1', note: '2', size: 2, ...seen, worth: hidden('note', 0).worth },
      { id: 'v3', tenant_id: 't', hive_id: 'h2', note: null, size: null, ...seen, worth: second ? null : '2.00' },
      { id: 'v4', tenant_id: 't', hive_id: 'h3', ...hidden('note', 0) },
      { id: 'v5', tenant_id: 't', hive_id: null, ...hidden('note', 1) },
      { id: 'v6', tenant_id: 't', hive_id: 'h3', ...hidden('note', 2) },
      { id: 'v1', tenant_id: 'u', hive_id: 'h1', ...hidden('note', 2) },
    ],
    entries: [
      { id: 'e1', tenant_id: 't', owner_id: 'me', note: '1', size: 1, ...seen },
      { id: 'e2', tenant_id: 't', owner_id: null, note: '2', size: 2, ...seen, worth: hidden('note', 1).worth },
      { id: 'e3', tenant_id: 't', owner_id: 'other', ...hidden('note', 0) },
      // Two notes of one length: to ask for the one of that length fails.
      { id: 'e5', tenant_id: 't', owner_id: 'me', note: '333', size: 1, ...seen },
      { id: 'e6', tenant_id: 't', owner_id: 'me', note: '333', size: 2, ...seen },
      // Its ids are a key, and that a key is taken is told by the database: they are the same in both.
      { id: 'e4', tenant_id: second ? 'u' : 't', owner_id: 'other', ...hidden('note', 1) },
      { id: 'e9', tenant_id: 'u', owner_id: 'me', ...hidden('note', 2) },
    ],
    notes: [
      { id: 'n1', entry_id: 'e1', note: '1', size: 1, ...seen },
      { id: 'n2', entry_id: 'e3', note: '2', size: 2, ...seen, worth: hidden('note', 0).worth },
      { id: 'n3', entry_id: 'e9', ...hidden('note', 0) },
      { id: 'n4', entry_id: null, ...hidden('note', 1) },
      { id: 'n6', entry_id: 'gone', ...hidden('note', 2) },
      { id: 'n5', entry_id: second ? 'e9' : null, ...hidden('note', 2) },
    ],
  };
}

const isHidden = (row: Row) =>
  (row.tenant_id !== undefined && row.tenant_id !== 't') ||
  row.owner_id === 'other' ||
  (row.id.startsWith('h') && row.owner_id === null) ||
  ['v4', 'v5', 'v6', 'n3', 'n4', 'n5', 'n6'].includes(row.id);

/** One of the two, with the scope of the person over a transaction of it. */
export interface World {
  readonly records: Kysely<any>;
  readonly scope: (tx: Kysely<any>) => any;
}

const COLLATIONS = {
  postgres: (column: string) => ` collate "${column === 'code' ? 'C' : 'POSIX'}"`,
  sqlite: () => '',
  mariadb: () => ' collate utf8mb4_nopad_bin',
};

/**
 * Fills a database, or two: the membership may be in another than the records.
 *
 * @param analyzed the database looks at its values beforehand, so that a planner tries conditions on them.
 */
export async function makeWorld(records: Kysely<any>, second: boolean, options: { membership?: Kysely<any>; analyzed?: boolean } = {}): Promise<World> {
  const { membership = records, analyzed } = options;
  const lintel = createLintel({ charter, db: membership, ...(membership !== records && { records }), ...FURTHER });
  const { vocabulary } = writerFor(records, {});
  for (const [table, columns] of Object.entries(COLUMNS)) {
    // Texts are in two collations, neither of them the default: where they meet, comparisons fail row by row.
    const collation = (c: string) => (isNumber(c) ? '' : COLLATIONS[vocabulary](c));
    const written = columns.map((c) => `${c} ${vocabulary === 'mariadb' && c === 'worth' ? 'decimal(30, 10)' : typeOf(c)}${collation(c)}`);
    await sql
      .raw(`create table ${table} (${written.join(', ')}, secret text${table === 'notes' || table === 'entries' ? ', unique (id)' : ''})`)
      .execute(records);
  }
  await sql.raw('create table codes (code text, meaning text)').execute(records);
  await sql.raw(`insert into codes values ('1', 'first'), ('2', 'second')`).execute(records);
  await lintel.prepare();
  for (const id of ['me', 'other']) await lintel.addPerson({ id, name: id, address: `${id}@queries.example` });
  await lintel.openTenant({ id: 't', name: 'T', keyholder: 'other' });
  await membership
    .insertInto('lintel_member')
    .values({ tenant_id: 't', user_id: 'me', status: 'active', since: new Date(0), attributes: '{}' })
    .execute();
  await membership.insertInto('lintel_assignment').values({ tenant_id: 't', user_id: 'me', role: 'member', anchor: 'tenant', anchor_id: 't' }).execute();
  for (const [table, rows] of Object.entries(rowsOf(second)))
    for (const row of rows)
      await records
        .insertInto(table)
        .values({ secret: isHidden(row) ? 'hidden' : second ? 'B' : 'A', ...row })
        .execute();
  if (analyzed) await sql`analyze`.execute(records);
  const standing = await lintel.enter({ tenant: 't', user: 'me' });
  return { records, scope: (tx) => standing.scope<any>(tx) };
}
