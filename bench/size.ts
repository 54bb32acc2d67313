/* What the membership costs in an organisation of 10,000 members, against the same in one of 100. */
import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { defineCharter, defineKinds, id, owner, tenant, text, unit } from 'warm-lintel';
import { connect, createLintel, type Lintel, type Step } from 'warm-lintel/server';
import { startPostgres } from '../test/setup.js';
import { compare, type Result } from './measure.js';

const ids = { type: 'text' } as const;
const arranges = [
  'member.read',
  'member.assign',
  'member.suspend',
  'member.remove',
  'group.arrange',
  'unit.arrange',
  'role.arrange',
  'program.arrange',
  'member.invite',
  'audit.read',
  'access.ask',
] as const;

/** One group holds everybody, and a reach turns on it: the most that any member's facts can name. */
const charter = defineCharter(
  defineKinds(
    {
      note: {
        table: 'size_notes',
        label: 'title',
        fields: { id: id(ids), tenantId: tenant(ids), ownerId: owner(ids), siteId: unit(ids), title: text() },
        actions: { read: { label: 'See' } },
      },
    },
    { note: { team: ({ record, me }) => record.ownerId.among(me.groupIds), onSite: ({ record, me }) => record.siteId.within(me.unitIds) } },
  ),
  {
    apart: { hands: { sentence: 'Nobody both leads and checks.', hold: ['lead', 'checker'] } },
    roles: {
      mate: { label: 'Mate', may: { 'note.read': ['team', 'onSite'] } },
      lead: { label: 'Lead', may: { 'note.read': 'tenant' } },
      checker: { label: 'Checker', may: { 'note.read': 'tenant' } },
      head: {
        label: 'Head',
        may: { ...Object.fromEntries(arranges.map((name) => [name, 'tenant'])), 'note.read': 'tenant' } as never,
        gives: ['mate', 'lead'],
      },
    },
  },
);

const FEW = 100;
const MANY = 10_000;
const tenantOf = (size: number) => `of-${size}`;
/** Neither the first nor the last. */
const memberOf = (size: number, i = size / 2) => `m${size}-${i}`;
const headOf = (size: number) => memberOf(size, 1);

async function fill(db: Kysely<any>, lintel: Lintel<any>, size: number): Promise<void> {
  const of = tenantOf(size);
  const keyholder = await lintel.addPerson({ id: memberOf(size, 0), name: 'Keyholder', address: `m${size}-0@size.example` });
  await lintel.openTenant({ id: of, name: 'Size', keyholder });
  const everybody = `from generate_series(1, ${size - 1}) i`;
  for (const statement of [
    `insert into lintel_person (id, name, address, address_written) select 'm${size}-' || i, 'Member ' || lpad(i::text, 5, '0'), 'm${size}-' || i || '@size.example', 'm${size}-' || i || '@size.example' ${everybody}`,
    `insert into lintel_member (tenant_id, user_id, status, since) select '${of}', 'm${size}-' || i, 'active', now() ${everybody}`,
    `insert into lintel_group (tenant_id, id, name) values ('${of}', 'all', 'All')`,
    `insert into lintel_group_member (tenant_id, group_id, user_id) select '${of}', 'all', 'm${size}-' || i ${everybody}`,
    `insert into lintel_assignment (tenant_id, group_id, role, anchor, anchor_id) values ('${of}', 'all', 'mate', 'tenant', '${of}')`,
    `insert into lintel_assignment (tenant_id, user_id, role, anchor, anchor_id) values ('${of}', '${headOf(size)}', 'head', 'tenant', '${of}')`,
    `insert into lintel_assignment (tenant_id, user_id, role, anchor, anchor_id) select '${of}', 'm${size}-' || i, 'lead', 'tenant', '${of}' from generate_series(2, ${size - 1}, 2) i`,
    `insert into lintel_unit (tenant_id, id, name) select '${of}', 'u' || i, 'Unit ' || i from generate_series(1, 20) i`,
    `insert into lintel_unit_below (tenant_id, above_id, below_id) select '${of}', 'u' || i, 'u' || i from generate_series(1, 20) i`,
    `insert into lintel_placement (tenant_id, user_id, unit_id) select '${of}', 'm${size}-' || i, 'u' || (i % 20 + 1) ${everybody}`,
    `insert into lintel_opening (tenant_id, id, kind, actions, group_id, to_group, keeps) values ('${of}', 'to-all', 'note', '["read"]', 'all', 'all', false)`,
    `insert into size_notes (id, tenant_id, owner_id, title) values ('n${size}', '${of}', '${memberOf(size)}', 'Note')`,
  ])
    await sql.raw(statement).execute(db);
  const boss = await lintel.enter({ tenant: of, user: keyholder });
  for (let i = 0; i < size / 10; i += 100)
    await boss.invitations.send(
      Array.from({ length: Math.min(100, size / 10) }, (_, j) => ({
        address: `i${i + j}@size.example`,
        roles: [{ role: 'mate', anchor: { on: 'tenant' } as const }],
      })),
    );
}

class Undo extends Error {}

/** Somebody of `size` members who arranges the membership and is no keyholder, so that everything is judged. */
const enter = (lintel: Lintel<any>, size: number, i = 1) => lintel.enter({ tenant: tenantOf(size), user: memberOf(size, i) });

const changes: Record<string, (size: number) => Step> = {
  'set-roles': (size) => ({ do: 'set-roles', holder: { user: memberOf(size) }, roles: [{ role: 'mate', anchor: { on: 'tenant' } }] }),
  suspend: (size) => ({ do: 'suspend', user: memberOf(size) }),
  remove: (size) => ({ do: 'remove', user: memberOf(size) }),
};
/** Of everybody, one by one. */
const sweeping: Record<string, (size: number) => Step> = {
  'set-group': (size) => ({ do: 'set-group', id: 'all', people: Array.from({ length: size - 2 }, (_, i) => memberOf(size, i + 1)) }),
  'grant-all': () => ({ do: 'set-roles', holder: { group: 'all' }, roles: ['mate', 'lead'].map((role) => ({ role, anchor: { on: 'tenant' } })) }),
};

interface Case {
  readonly name: string;
  readonly ask: (standing: Awaited<ReturnType<Lintel<any>['enter']>>, size: number, lintel: Lintel<any>) => Promise<unknown>;
  /** Of everybody at once: it may grow as their number does. */
  readonly whole?: true;
  /** Of one whose facts name everybody in their group: it may grow as that list does, beside what it costs of itself. */
  readonly names?: true;
  /** It writes, and is taken back. */
  readonly writes?: true;
}

const CASES: readonly Case[] = [
  { name: 'enter', ask: (_, size, lintel) => enter(lintel, size, size / 2), names: true },
  { name: 'members-page', ask: (s) => s.members.list({ limit: 50, after: { name: 'Member 00020', userId: '' } }) },
  { name: 'members', ask: (s) => s.members.list(), whole: true },
  { name: 'held', ask: (s, size) => s.members.held(memberOf(size)), names: true },
  { name: 'roles-to-give', ask: (s) => s.members.rolesToGive(), names: true },
  { name: 'roles', ask: (s) => s.tenant.roles(), whole: true },
  { name: 'groups', ask: (s) => s.tenant.groups(), whole: true },
  { name: 'units', ask: (s) => s.tenant.units(), whole: true },
  { name: 'programs', ask: (s) => s.programs.list() },
  { name: 'invitations-page', ask: (s) => s.invitations.list({ limit: 10 }) },
  { name: 'who-page', ask: (s, size) => s.who('note.read', `n${size}`) },
  { name: 'audit-page', ask: (s) => s.audit.list({ limit: 10 }) },
  ...Object.entries(changes).flatMap(([name, step]): Case[] => [
    { name: `propose-${name}`, ask: (s, size) => s.propose([step(size)]), names: true },
    { name, ask: (s, size) => s.carryOut([step(size)]), names: true, writes: true },
  ]),
  ...Object.entries(sweeping).flatMap(([name, step]): Case[] => [
    { name: `propose-${name}`, ask: (s, size) => s.propose([step(size)]), whole: true },
    { name, ask: (s, size) => s.carryOut([step(size)]), whole: true, writes: true },
  ]),
];

/** Linear is a hundred; the rest is what a machine makes of lists that are longer than what it has at hand. */
const boundOf = ({ whole, names }: Case) => (whole ? (1.25 * MANY) / FEW : names ? 10 : 5);

/** The same at two sizes: what is asked of a page may cost five times as much, what names a group of everybody ten times, and what is asked of all about as much for each as among few. */
export async function bySize(): Promise<Result[]> {
  const cluster = await startPostgres();
  const pool = new pg.Pool({ connectionString: `${cluster.url}/postgres`, max: 2 });
  pool.on('error', () => {});
  try {
    return await measured(connect<any>(pool));
  } finally {
    await pool.end();
    await cluster.stop();
  }
}

async function measured(db: Kysely<any>): Promise<Result[]> {
  await sql.raw('create table size_notes (id text primary key, tenant_id text not null, owner_id text, site_id text, title text)').execute(db);
  const lintel = createLintel({ charter, db });
  await lintel.prepare();
  for (const size of [FEW, MANY]) await fill(db, lintel, size);
  await sql`analyze`.execute(db);
  const way = async ({ ask, writes }: Case, size: number) => {
    const standing = await enter(lintel, size);
    if (!writes) return () => ask(standing, size, lintel);
    return () => takenBack(async (inside) => ask(await enter(inside, size), size, inside));
  };
  const takenBack = async (work: (inside: Lintel<any>) => Promise<unknown>) => {
    const undone = db.transaction().execute(async (tx) => {
      await work(lintel.within(tx));
      throw new Undo();
    });
    await undone.catch((error: unknown) => {
      if (!(error instanceof Undo)) throw error;
    });
  };
  const results: Result[] = [];
  for (const one of CASES) {
    const note = `${one.whole ? 'of everybody' : 'of one, or a page'} at ${MANY} members, against the same at ${FEW}`;
    results.push(await compare(`size-${one.name}`, note, boundOf(one), one.whole ? 3 : 20, 1, await way(one, MANY), await way(one, FEW)));
  }
  return results;
}
