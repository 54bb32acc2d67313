/* How large it gets: each at a hundred times the size against the same where it is small. */
import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { defineCharter, defineKinds, id, owner, tenant, text, unit } from 'warm-lintel';
import { connect, createLintel, type Lintel } from 'warm-lintel/server';
import { databaseOn, startPostgres } from '../test/setup.js';
import { compare, type Result } from './measure.js';

const ids = { type: 'text' } as const;
const arranges = ['member.read', 'member.assign', 'member.suspend', 'group.arrange', 'unit.arrange', 'role.arrange', 'audit.read', 'access.ask'] as const;
const charter = defineCharter(
  defineKinds(
    {
      note: {
        table: 'large_notes',
        label: 'title',
        fields: { id: id(ids), tenantId: tenant(ids), ownerId: owner(ids), siteId: unit(ids), title: text() },
        actions: { read: { label: 'See' } },
      },
    },
    { note: { own: ({ record, me }) => record.ownerId.is(me.userId), onSite: ({ record, me }) => record.siteId.within(me.unitIds) } },
  ),
  {
    roles: {
      mate: { label: 'Mate', may: { 'note.read': ['own', 'onSite'] } },
      head: { label: 'Head', may: { ...Object.fromEntries(arranges.map((name) => [name, 'tenant'])), 'note.read': 'tenant' } as never, gives: ['mate'] },
    },
  },
);

interface Size {
  readonly members: number;
  readonly units: number;
  readonly events: number;
  readonly tenants: number;
  /** Tenants of one person. */
  readonly mine: number;
}

const FEW: Size = { members: 1000, units: 100, events: 100_000, tenants: 1000, mine: 50 };
const MANY: Size = { members: 100_000, units: 10_000, events: 10_000_000, tenants: 100_000, mine: 5000 };
const hundredth = ({ members, units, events, tenants, mine }: Size) =>
  `${members} members, ${units} units, ${events} events, ${tenants} tenants, a person in ${mine}`;

const ORG = 'org';
const hash = (i: string) => `md5(${i}::text) || md5('x' || ${i})`;

async function fill(db: Kysely<any>, lintel: Lintel<any>, { members, units, events, tenants, mine }: Size): Promise<void> {
  await sql.raw('create table large_notes (id text primary key, tenant_id text not null, owner_id text, site_id text, title text)').execute(db);
  await lintel.prepare();
  const keyholder = await lintel.addPerson({ id: 'm-0', name: 'Keyholder', address: 'm-0@large.example' });
  await lintel.openTenant({ id: ORG, name: 'Org', keyholder });
  const everybody = `from generate_series(1, ${members - 1}) i`;
  // An index is made faster than it is kept while millions come in.
  const { rows: indexes } = await sql
    .raw<{ name: string; made: string }>(
      `select indexname as name, indexdef as made from pg_indexes where tablename = 'lintel_audit' and indexname not like '%pkey'`,
    )
    .execute(db);
  for (const statement of [
    ...indexes.map(({ name }) => `drop index ${name}`),
    `insert into lintel_person (id, name, address, address_written) select 'm-' || i, 'Member ' || md5(i::text), 'm-' || i || '@large.example', 'm-' || i || '@large.example' ${everybody}`,
    `insert into lintel_member (tenant_id, user_id, status, since) select '${ORG}', 'm-' || i, 'active', now() - i * interval '1 second' ${everybody}`,
    `insert into lintel_unit (tenant_id, id, name) select '${ORG}', 'u-' || i, 'Unit ' || i from generate_series(0, ${units - 1}) i`,
    // A tree of ten below each.
    `insert into lintel_unit_below (tenant_id, above_id, below_id) with recursive up (below, above) as (
      select i, i from generate_series(0, ${units - 1}) i union all select below, (above - 1) / 10 from up where above > 0) select '${ORG}', 'u-' || above, 'u-' || below from up`,
    `insert into lintel_placement (tenant_id, user_id, unit_id) select '${ORG}', 'm-' || i, 'u-' || (${units} / 2 + i % (${units} / 2)) ${everybody}`,
    `insert into lintel_assignment (tenant_id, user_id, role, anchor, anchor_id) select '${ORG}', 'm-' || i, case when i = 1 then 'head' else 'mate' end, 'tenant', '${ORG}' ${everybody}`,
    `insert into lintel_tenant (id, name, status) select 't-' || i, 'Tenant ' || i, 'open' from generate_series(1, ${tenants}) i`,
    `insert into lintel_member (tenant_id, user_id, status, since) select 't-' || i, 'm-2', 'active', now() from generate_series(1, ${mine}) i`,
    `insert into lintel_person_tenant (person_id, tenant_id) select 'm-2', 't-' || i from generate_series(1, ${mine}) i`,
    `insert into lintel_audit (tenant_id, number, at, actor, what, event, commitment, previous_hash, hash) select '${ORG}', 1000000000 + i, now(), 'm-' || i % ${members}, 'roles set', jsonb_build_object('user', 'm-' || (i * 7) % ${members}), '', '', ${hash('i')} from generate_series(1, ${events}) i`,
    ...indexes.map(({ made }) => made),
    'analyze',
  ])
    await sql.raw(statement).execute(db);
  await sql`update lintel_tenant set last_number = ${1_000_000_000 + events} where id = ${ORG}`.execute(db);
}

class Undo extends Error {}

/** Each at both sizes; what is within 1.5 of the small one does not grow. */
export async function large(many: Size = MANY): Promise<Result[]> {
  const cluster = await startPostgres();
  const pools: pg.Pool[] = [];
  try {
    const sides = [];
    for (const size of [many, FEW]) {
      const pool = new pg.Pool({ connectionString: await databaseOn(cluster.url), max: 2 });
      pool.on('error', () => {});
      pools.push(pool);
      const db = connect<any>(pool);
      const lintel = createLintel({ charter, db });
      console.error(`Filling PostgreSQL: ${hundredth(size)} ...`);
      await fill(db, lintel, size);
      const head = await lintel.enter({ tenant: ORG, user: 'm-1' });
      const middle = (await head.members.list({ limit: 1, search: `m-${size.members >> 1}` }))[0];
      sides.push({
        size,
        db,
        lintel,
        head,
        middle,
        hash: (await sql.raw<{ h: string }>(`select ${hash(String(size.events >> 1))} as h`).execute(db)).rows[0]?.h as string,
      });
    }
    type Side = (typeof sides)[number];
    let turn = 0;
    const next = (of: number) => {
      turn += 7919;
      return turn % of;
    };
    const somebody = ({ size }: Side) => `m-${3 + next(size.members - 3)}`;
    const step = (user: string) => [{ do: 'set-roles', holder: { user }, roles: [] } as const];
    const cases: Record<string, (side: Side) => Promise<unknown>> = {
      enter: (side) => side.lintel.enter({ tenant: ORG, user: somebody(side) }),
      'enter-of-many': ({ lintel, size }) => lintel.enter({ tenant: `t-${1 + next(size.mine)}`, user: 'm-2' }),
      members: ({ head }) => head.members.list({ limit: 50 }),
      'members-middle': ({ head, middle }) => head.members.list({ limit: 50, after: middle as never }),
      'members-newest': ({ head }) => head.members.list({ limit: 50, order: 'newest' }),
      'members-search': (side) => side.head.members.list({ limit: 50, search: somebody(side).slice(2) }),
      events: ({ head }) => head.audit.list({ limit: 50 }),
      'events-middle': ({ head, hash: before }) => head.audit.list({ limit: 50, before }),
      'events-by': (side) => side.head.audit.list({ limit: 50, by: somebody(side) }),
      'events-about': (side) => side.head.audit.list({ limit: 50, about: somebody(side) }),
      propose: (side) => side.head.propose(step(somebody(side))),
      'set-roles': async (side) => {
        const undone = side.db.transaction().execute(async (tx) => {
          await (await side.lintel.within(tx).enter({ tenant: ORG, user: 'm-1' })).carryOut(step(somebody(side)));
          throw new Undo();
        });
        await undone.catch((error: unknown) => {
          if (!(error instanceof Undo)) throw error;
        });
      },
      'my-tenants': ({ lintel }) => lintel.myTenants({ user: 'm-2' } as never),
    };
    const results: Result[] = [];
    const [big, small] = sides as [Side, Side];
    for (const [name, ask] of Object.entries(cases)) {
      const note = `at ${hundredth(many)}, against a hundredth of each`;
      results.push(
        await compare(
          `large-${name}`,
          note,
          name === 'my-tenants' ? undefined : 1.5,
          30,
          5,
          () => ask(big),
          () => ask(small),
        ),
      );
    }
    return results;
  } finally {
    for (const pool of pools) await pool.end();
    await cluster.stop();
  }
}
