/* Speed against the hand-written equivalent, in the same run. `npm run bench` prints; `-- --json` also writes bench/results.json. */
import { readFileSync, writeFileSync } from 'node:fs';
import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { type Facts, readCharter, Standing } from 'warm-lintel';
import { connect, createLintel, policyStatements } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { makeTables } from '../examples/apiary/world/tables.js';
import { startPostgres } from '../test/setup.js';
import { arrivals } from './arrivals.js';
import { large } from './large.js';
import { underLoad } from './load.js';
import { compare, type Result } from './measure.js';
import { membership, WHOLE } from './membership.js';
import { probing } from './probe.js';
import { bySize } from './size.js';
import { tables } from './table.js';

/** `-- --only scope` measures one group alone; `large`, which takes long to fill, is measured only so. */
const only = process.argv.includes('--only') ? process.argv[process.argv.indexOf('--only') + 1] : undefined;
const group = async (name: string, measure: () => Promise<Result[]>) => (only === undefined || only === name ? measure() : []);

const TENANTS = 1000;
const MEMBERS = 100_000;
const RECORDS = 1_000_000;

async function fill(db: Kysely<any>): Promise<void> {
  await makeTables(db);
  await createLintel({ charter, db }).prepare();
  for (const statement of [
    `insert into lintel_tenant (id, name, status) select 't' || i, 'Tenant ' || i, 'open' from generate_series(0, ${TENANTS - 1}) i`,
    `insert into lintel_person (id, name, address, address_written) select 'p' || i, 'Person ' || i, 'p' || i || '@bench.example', 'p' || i || '@bench.example' from generate_series(0, ${MEMBERS - 1}) i`,
    `insert into lintel_member (tenant_id, user_id, status, since) select 't' || i % ${TENANTS}, 'p' || i, 'active', now() from generate_series(0, ${MEMBERS - 1}) i`,
    `insert into lintel_assignment (tenant_id, user_id, role, anchor, anchor_id) select 't' || i % ${TENANTS}, 'p' || i, 'keeper', 'tenant', 't' || i % ${TENANTS} from generate_series(0, ${MEMBERS - 1}) i`,
    `insert into hives (id, tenant_id, keeper_id, made_by, name) select 'h' || i, 't' || i % ${TENANTS}, 'p' || (i % ${TENANTS} + ${TENANTS} * (i / ${TENANTS} % 100)), 'p0', 'Hive ' || i from generate_series(0, ${RECORDS - 1}) i`,
    `insert into inspections (id, tenant_id, hive_id, made_by, held_at, summary) select 'i' || i, 't' || i % ${TENANTS}, 'h' || i, 'p0', '2026-05-01', 'x' from generate_series(0, ${RECORDS - 1}) i`,
    `insert into reports (id, tenant_id, hive_id, made_by, disease, findings) select 'r' || i, 't' || i % ${TENANTS}, 'h' || i, 'p0', 'x', 'x' from generate_series(0, ${RECORDS / 10 - 1}) i`,
    // Five inspectors a tenant, each appointed to a fiftieth of its hives.
    `insert into hive_inspectors (tenant_id, hive_id, user_id) select 't' || i % ${TENANTS}, 'h' || i, 'p' || (i % ${TENANTS} + ${TENANTS} * (i / ${TENANTS} % 5)) from generate_series(0, ${RECORDS - 1}) i where i / ${TENANTS} % 10 < 5`,
    'create index on hive_inspectors (tenant_id, user_id, hive_id)',
    'create index on reports (tenant_id, hive_id)',
    'create index on inspections (tenant_id, id)',
    'analyze',
  ])
    await sql.raw(statement).execute(db);
}

/** The kinds of step in a plan, outermost first. */
async function planOf(query: { compile(): { sql: string; parameters: readonly unknown[] } }, pool: pg.Pool): Promise<string> {
  const { sql: text, parameters } = query.compile();
  const { rows } = await pool.query(`explain (format json, costs off) ${text}`, [...parameters]);
  const nodes = (plan: any): string[] => [plan['Node Type'], ...(plan.Plans ?? []).flatMap(nodes)];
  return nodes(rows[0]['QUERY PLAN'][0].Plan).join(' > ');
}

const keeperFacts: Facts = {
  charter: charter.hash,
  tenant: { id: 't1', name: 'T', open: true, contact: null, features: [] },
  subject: 'member',
  me: { userId: 'p1', groupIds: [], unitIds: [], attributes: {} },
  assignments: [{ role: 'keeper', anchor: { on: 'tenant' } }],
  below: {},
  fulfilled: [],
};

function mayRecord(name: string, bound?: number, note = ''): Promise<Result> {
  const standing = new Standing(charter, keeperFacts);
  const me = { tenantId: 't1', userId: 'p1', roles: new Set(['keeper']) };
  const hives = Array.from({ length: 64 }, (_, i) => ({
    id: `h${i}`,
    tenantId: i % 7 ? 't1' : 't2',
    keeperId: i % 3 ? 'p1' : i % 2 ? null : 'p2',
    status: i % 5 ? ('active' as const) : ('archived' as const),
  }));
  type Hive = (typeof hives)[number];
  // The same rule by hand: of this tenant, a role that reads and changes, not archived, own or nobody's.
  const byHand = (hive: Hive) =>
    hive.tenantId === me.tenantId && me.roles.has('keeper') && hive.status !== 'archived' && (hive.keeperId === me.userId || hive.keeperId === null);
  for (const hive of hives) if (byHand(hive) !== standing.may('hive.update', hive)) throw new Error(`the two rules differ on ${JSON.stringify(hive)}`);
  let [i, j] = [0, 0];
  return compare(
    name,
    `standing.may("hive.update", hive) against the same rule written by hand as a function${note}`,
    bound,
    60,
    200_000,
    () => standing.may('hive.update', hives[i++ & 63] as Hive),
    () => byHand(hives[j++ & 63] as Hive),
  );
}

/** As in any application, records of other kinds were asked too, by the same code: it is no longer made for one shape of record, as a function written by hand is. */
function mayAfterOthers(): Promise<Result> {
  const standing = new Standing<any>(charter, keeperFacts);
  for (const [kind, { fields, actions }] of Object.entries(charter.data.kinds)) {
    const record = Object.fromEntries(Object.keys(fields).map((field) => [field, null]));
    for (let i = 0; i < 20_000; i++) for (const action of Object.keys(actions)) standing.may(`${kind}.${action}`, { ...record, tenantId: 't1' });
  }
  return mayRecord('may-record-mixed', undefined, ', after records of every kind were asked');
}

async function onPostgres(): Promise<Result[]> {
  if (['memory', 'size', 'large'].includes(only ?? '')) return [];
  const cluster = await startPostgres();
  const pool = new pg.Pool({ connectionString: `${cluster.url}/postgres`, max: 2 });
  // The server is stopped at the end, whatever connection is still open.
  pool.on('error', () => {});
  const db = connect<any>(pool);
  try {
    console.error(`Filling PostgreSQL: ${MEMBERS} members in ${TENANTS} tenants, ${RECORDS} records ...`);
    await fill(db);
    const lintel = createLintel({ charter, db });
    let turn = 0;
    const next = () => {
      turn += 7919;
      return who(turn);
    };
    const who = (n: number) => ({ tenant: `t${n % TENANTS}`, user: `p${n % MEMBERS}` });
    const join = `select t.name, t.status, t.contact, t.features, m.status as member, m.attributes, p.name as person, a.role, a.anchor, a.anchor_id, u.name as unit, b.below_id
      from lintel_tenant t join lintel_member m on m.tenant_id = t.id join lintel_person p on p.id = m.user_id left join lintel_assignment a on a.tenant_id = m.tenant_id and a.user_id = m.user_id
      left join lintel_unit u on u.tenant_id = a.tenant_id and u.id = a.anchor_id left join lintel_unit_below b on b.tenant_id = u.tenant_id and b.above_id = u.id where t.id = $1 and m.user_id = $2`;
    const byHand = (name: string, text: string) => () => {
      const { tenant, user } = next();
      return pool.query({ name, text, values: [tenant, user] });
    };
    const entering = async () => [
      await compare(
        'enter',
        `lintel.enter over ${MEMBERS} members in ${TENANTS} tenants, against one hand-written join that fetches what these have, both prepared`,
        2.6,
        80,
        50,
        () => lintel.enter(next()),
        byHand('join', join),
      ),
      await compare(
        'enter-floor',
        'one hand-written statement for all that rights may rest on, had or not, against that join',
        undefined,
        80,
        50,
        byHand('whole', WHOLE),
        byHand('join', join),
      ),
    ];

    return [
      ...(await group('enter', entering)),
      ...(await group('membership', () => membership(db, pool))),
      ...(await group('arrivals', () => arrivals(db, pool))),
      ...(await group('load', () => underLoad(db, `${cluster.url}/postgres`))),
      ...(await group('scope', () => scoped(db, pool))),
      ...(await group('table', () => tables(db, pool))),
      ...(await group('journal', () => journaled(db))),
      ...(await group('growth', () => growth(cluster.url))),
      ...(await group('policies', () => underPolicies(db, cluster.url))),
      ...(await group('probe', () => probing(cluster.url))),
    ];
  } finally {
    await pool.end();
    await cluster.stop();
  }
}

/** The charter of the demo with roles that turn on one thing each. */
const benchCharter = readCharter({
  ...charter.data,
  roles: {
    ...charter.data.roles,
    all: { label: 'All', may: { 'hive.read': ['tenant'], 'inspection.read': ['tenant'], 'report.read': ['tenant'] } },
    own: { label: 'Own', may: { 'hive.read': ['own'], 'inspection.read': ['followed'] } },
    appointed: { label: 'Appointed', may: { 'hive.read': ['appointed'] } },
  },
});
/** The same, where inspections have their tenant through their hive. */
const throughCharter = readCharter({
  ...benchCharter.data,
  kinds: {
    ...benchCharter.data.kinds,
    inspection: { ...benchCharter.kind('inspection'), fields: throughHive(benchCharter.kind('inspection').fields) },
  },
});
function throughHive({ tenantId: _, hiveId, ...fields }: (typeof benchCharter.data.kinds)[string]['fields']) {
  return { ...fields, hiveId: { ...hiveId, through: true } };
}
const TENANT = 't242';
const USER = 'p242';

/** A standing with one of those roles, for a member who has no other. */
async function standingWith(db: Kysely<any>, role: string, charter = benchCharter) {
  const who = { tenant_id: TENANT, user_id: USER };
  await db.deleteFrom('lintel_assignment').where('tenant_id', '=', TENANT).where('user_id', '=', USER).execute();
  await db
    .insertInto('lintel_assignment')
    .values({ ...who, role, anchor: 'tenant', anchor_id: TENANT })
    .execute();
  return createLintel({ charter, db }).enter({ tenant: TENANT, user: USER });
}

const hivePage = (from: any) => from.selectFrom('hives').select(['id', 'name', 'keeper_id', 'status']).orderBy('id').limit(50);
const visitPage = (from: any) => from.selectFrom('inspections as i').select(['i.id', 'i.hive_id', 'i.summary']).orderBy('i.id').limit(50);
const joined = (from: any) =>
  from
    .selectFrom('hives as h')
    .innerJoin('inspections as i', (j: any) => j.onRef('i.tenant_id', '=', 'h.tenant_id').onRef('i.hive_id', '=', 'h.id'))
    .innerJoin('reports as r', (j: any) => j.onRef('r.tenant_id', '=', 'h.tenant_id').onRef('r.hive_id', '=', 'h.id'))
    .select(['h.id', 'i.summary', 'r.findings'])
    .where('h.keeper_id', '=', USER)
    .orderBy('h.id')
    .limit(50);
const ownHive = (eb: any) =>
  eb.exists(
    eb
      .selectFrom('hives as h')
      .select(eb.lit(1).as('one'))
      .whereRef('h.tenant_id', '=', 'i.tenant_id')
      .whereRef('h.id', '=', 'i.hive_id')
      .where('h.keeper_id', '=', USER),
  );
const hereHive = (eb: any) =>
  eb.exists(eb.selectFrom('hives as h').select(eb.lit(1).as('one')).whereRef('h.id', '=', 'i.hive_id').where('h.tenant_id', '=', TENANT));
const ownHiveHere = (eb: any) =>
  eb.exists(
    eb
      .selectFrom('hives as h')
      .select(eb.lit(1).as('one'))
      .whereRef('h.id', '=', 'i.hive_id')
      .where('h.tenant_id', '=', TENANT)
      .where('h.keeper_id', '=', USER),
  );
const appointedHive = (eb: any) =>
  eb.exists(
    eb
      .selectFrom('hive_inspectors as l')
      .select(eb.lit(1).as('one'))
      .whereRef('l.tenant_id', '=', 'hives.tenant_id')
      .whereRef('l.hive_id', '=', 'hives.id')
      .where('l.user_id', '=', USER),
  );
/** Something that could fail on some row, so that scope asks it behind a barrier. */
const canFail = (query: any, column: string) => query.where((eb: any) => eb(eb(eb.fn('length', [column]), '*', 2), '>', 4));
const inTenant = (query: any, table: string) => query.where(`${table}.tenant_id`, '=', TENANT);

/** An update that is put down, against the same written by hand. */
async function journaled(db: Kysely<any>): Promise<Result[]> {
  const { data } = charter;
  const kept = readCharter({ ...data, kinds: { ...data.kinds, hive: { ...data.kinds.hive, journal: {} } } } as never);
  const scope = (await standingWith(db, 'keeper', kept)).scope<any>();
  await sql`create table if not exists hive_changes (at timestamptz not null default now(), tenant_id text not null, hive_id text not null, by_id text not null, was jsonb, became jsonb)`.execute(
    db,
  );
  await sql`create index if not exists hive_changes_of on hive_changes (tenant_id, hive_id)`.execute(db);
  const { rows } = await sql<{
    id: string;
  }>`select id from hives where tenant_id = ${TENANT} and keeper_id = ${USER} and status = 'active' order by id limit 50`.execute(db);
  const next = () => (rows[i++ % rows.length] as { id: string }).id;
  let i = 0;
  const ours = () =>
    scope
      .updateTable('hives')
      .set({ name: `Hive ${i}` })
      .where('id', '=', next())
      .execute();
  // One statement, as one who knows would write it: the row as it was is locked and read, and both images are put beside it.
  const byHand = () => {
    const [id, name] = [next(), `Hive ${i}`];
    return sql`with was as (select * from hives where tenant_id = ${TENANT} and id = ${id} and keeper_id = ${USER} and status <> 'archived' for no key update),
      became as (update hives set name = ${name} where tenant_id = ${TENANT} and id in (select id from was) returning *)
      insert into hive_changes (tenant_id, hive_id, by_id, was, became) select ${TENANT}, w.id, ${USER}, to_jsonb(w), to_jsonb(b) from was w join became b on b.id = w.id`.execute(
      db,
    );
  };
  const inSteps = () => {
    const [id, name] = [next(), `Hive ${i}`];
    return db.transaction().execute(async (tx) => {
      const mine = tx.updateTable('hives').set({ name }).where('tenant_id', '=', TENANT).where('id', '=', id).where('keeper_id', '=', USER);
      const became = await mine.where('status', '<>', 'archived').returningAll().executeTakeFirst();
      await tx
        .insertInto('hive_changes')
        .values({ tenant_id: TENANT, hive_id: id, by_id: USER, became: JSON.stringify(became) })
        .execute();
    });
  };
  const what = 'an update through scope of a kind with a journal, against';
  return [
    await compare('journal-update', `${what} the same update and an insert of what became of the row, by hand in one transaction`, 1.5, 60, 20, ours, inSteps),
    await compare('journal-one', `${what} one statement written by hand that locks, reads, updates and inserts both images`, undefined, 60, 20, ours, byHand),
  ];
}

async function scoped(db: Kysely<any>, pool: pg.Pool): Promise<Result[]> {
  const over = `out of ${RECORDS} records through standing.scope, against the same query by hand over the same pool`;
  const cases = [
    {
      name: 'scope-own-list',
      role: 'keeper',
      what: 'a page of 50',
      ours: (s: any) => hivePage(s).where('keeper_id', '=', USER),
      hand: () => inTenant(hivePage(db), 'hives').where('keeper_id', '=', USER),
    },
    { name: 'scope-tenant-list', role: 'keeper', what: 'a page of 50', ours: hivePage, hand: () => inTenant(hivePage(db), 'hives') },
    {
      name: 'scope-join',
      role: 'all',
      what: 'a page of three joined tables',
      ours: joined,
      hand: () => inTenant(inTenant(inTenant(joined(db), 'h'), 'i'), 'r'),
    },
    {
      name: 'scope-through-parent',
      role: 'own',
      what: 'a page of 50 whose parent is one’s own',
      ours: visitPage,
      hand: () => inTenant(visitPage(db), 'i').where(ownHive),
    },
    {
      name: 'scope-link',
      role: 'appointed',
      what: 'a page of 50 to which one is linked',
      ours: hivePage,
      hand: () => inTenant(hivePage(db), 'hives').where(appointedHive),
    },
    {
      name: 'scope-tenant-through',
      role: 'all',
      through: throughCharter,
      what: 'a page of 50 that has its tenant through its parent',
      ours: visitPage,
      hand: () => visitPage(db).where(hereHive),
    },
    {
      name: 'scope-tenant-through-own',
      role: 'own',
      through: throughCharter,
      what: 'a page of 50 that has its tenant through its parent, which is one’s own',
      ours: visitPage,
      hand: () => visitPage(db).where(ownHiveHere),
    },
  ];
  const barred = [
    {
      name: 'scope-barrier',
      role: 'keeper',
      what: 'a page of 50 by a condition that can fail',
      ours: (s: any) => canFail(hivePage(s), 'name'),
      hand: () => canFail(inTenant(hivePage(db), 'hives'), 'name'),
    },
    {
      name: 'scope-barrier-parent',
      role: 'own',
      what: 'a page of 50 whose parent is one’s own, by a condition that can fail',
      ours: (s: any) => canFail(visitPage(s), 'i.id'),
      hand: () => canFail(inTenant(visitPage(db), 'i').where(ownHive), 'i.id'),
    },
  ];
  const results: Result[] = [];
  // Keys of one column, as tables have them where a child names its parent and no tenant.
  const keys = async (...statements: string[]) => {
    for (const statement of [...statements, 'analyze']) await sql.raw(statement).execute(db);
  };
  let keyed = false;
  for (const { name, role, what, ours, hand, through } of cases) {
    if (through && !keyed) await keys('create unique index hive_id_alone on hives (id)', 'create index inspection_hive on inspections (hive_id)');
    keyed ||= through !== undefined;
    const scope = (await standingWith(db, role, through)).scope<any>();
    const plans = await Promise.all([planOf(ours(scope), pool), planOf(hand(), pool)]);
    if (plans[0] !== plans[1]) throw new Error(`${name}: the plans differ: ${plans.join(' | ')}`);
    const counts = [(await ours(scope).execute()).length, (await hand().execute()).length];
    if (counts[0] !== counts[1] || counts[0] === 0) throw new Error(`${name}: ${counts.join(' rows against ')}`);
    results.push(
      await compare(
        name,
        `${what} ${over}; same plan: ${plans[0]}`,
        1.15,
        120,
        40,
        () => ours(scope).execute(),
        () => hand().execute(),
      ),
    );
  }
  await keys('drop index hive_id_alone', 'drop index inspection_hive');
  for (const { name, role, what, ours, hand } of barred) {
    const scope = (await standingWith(db, role)).scope<any>();
    const counts = [(await ours(scope).execute()).length, (await hand().execute()).length];
    if (counts[0] !== counts[1] || counts[0] === 0) throw new Error(`${name}: ${counts.join(' rows against ')}`);
    const note = `${what} ${over}; behind a barrier: ${await planOf(ours(scope), pool)}, by hand: ${await planOf(hand(), pool)}`;
    results.push(
      await compare(
        name,
        note,
        undefined,
        60,
        20,
        () => ours(scope).execute(),
        () => hand().execute(),
      ),
    );
  }
  const scope = (await standingWith(db, 'keeper')).scope<any>();
  const [build, byHand] = [
    () => hivePage(scope).where('keeper_id', '=', USER).compile(),
    () => inTenant(hivePage(db), 'hives').where('keeper_id', '=', USER).compile(),
  ];
  results.push(await compare('scope-compile', 'building and compiling that page through scope, against the hand-written one', 2.5, 60, 400, build, byHand));
  return results;
}

/** One page of one's own, where there are few tenants and where there are many of the same size. */
async function growth(url: string): Promise<Result[]> {
  const pages = [];
  const pools: pg.Pool[] = [];
  for (const tenants of [100, 10_000]) {
    const admin = new pg.Client(`${url}/postgres`);
    await admin.connect();
    await admin.query(`create database growth_${tenants}`);
    await admin.end();
    const pool = new pg.Pool({ connectionString: `${url}/growth_${tenants}`, max: 2 });
    pool.on('error', () => {});
    pools.push(pool);
    const db = connect<any>(pool);
    await makeTables(db);
    const lintel = createLintel({ charter: benchCharter, db });
    await lintel.prepare();
    await sql
      .raw(
        `insert into hives (id, tenant_id, keeper_id, made_by, name) select 'h' || i, 't' || i % ${tenants}, 'p' || (i / ${tenants} % 5), 'p0', 'Hive' from generate_series(0, ${tenants * 100 - 1}) i`,
      )
      .execute(db);
    await lintel.addPerson({ id: 'p1', name: 'P', address: 'p@bench.example' });
    await lintel.openTenant({ id: 't42', name: 'T', keyholder: 'p1' });
    await sql.raw('analyze').execute(db);
    const scope = (await lintel.enter({ tenant: 't42', user: 'p1' })).scope<any>();
    pages.push(() => hivePage(scope).where('keeper_id', '=', 'p1').execute());
  }
  const [few, many] = pages as [() => Promise<unknown>, () => Promise<unknown>];
  const result = await compare('growth', 'scope-own-list among 10000 tenants of 100 records each, against the same among 100 tenants', 1.2, 120, 40, many, few);
  for (const pool of pools) await pool.end();
  return [result];
}

async function underPolicies(db: Kysely<any>, url: string): Promise<Result[]> {
  await sql.raw('create role bench_app login').execute(db);
  for (const statement of policyStatements(benchCharter, { role: 'bench_app' })) await sql.raw(statement).execute(db);
  const pool = new pg.Pool({ connectionString: `${url.replace('lintel@', 'bench_app@')}/postgres`, max: 2 });
  pool.on('error', () => {});
  const app = connect<any>(pool);
  // What any application does that tells its connection for whom it works.
  const byHand = (work: (tx: any) => any) =>
    db.transaction().execute(async (tx) => {
      await sql`select pg_backend_pid()`.execute(tx);
      await sql`select set_config('bench.tenant', ${TENANT}, true), set_config('bench.user', ${USER}, true)`.execute(tx);
      return work(tx).execute();
    });
  const cases = [
    { name: 'policies-tenant-list', role: 'keeper', bound: 2.6, ours: (tx: any) => hivePage(tx), hand: (tx: any) => inTenant(hivePage(tx), 'hives') },
    {
      name: 'policies-own-list',
      role: 'own',
      bound: 2.6,
      ours: (_tx: any, scope: any) => hivePage(scope),
      hand: (tx: any) => inTenant(hivePage(tx), 'hives').where('keeper_id', '=', USER),
    },
    {
      name: 'policies-alone',
      role: 'own',
      bound: undefined,
      ours: (tx: any) => hivePage(tx),
      hand: (tx: any) => inTenant(hivePage(tx), 'hives').where('keeper_id', '=', USER),
    },
    {
      name: 'policies-parent',
      role: 'own',
      bound: undefined,
      ours: (tx: any) => visitPage(tx),
      hand: (tx: any) => inTenant(visitPage(tx), 'i').where(ownHive),
    },
    {
      name: 'policies-link',
      role: 'appointed',
      bound: undefined,
      ours: (tx: any) => hivePage(tx),
      hand: (tx: any) => inTenant(hivePage(tx), 'hives').where(appointedHive),
    },
  ];
  const results: Result[] = [];
  for (const { name, role, bound, ours, hand } of cases) {
    const standing = await standingWith(db, role);
    const carried = () => standing.withPolicies(app, (tx, scope) => ours(tx, scope).execute());
    const counts = [((await carried()) as unknown[]).length, ((await byHand(hand)) as unknown[]).length];
    if (counts[0] !== counts[1] || counts[0] === 0) throw new Error(`${name}: ${counts.join(' rows against ')}`);
    const what = `a page ${name === 'policies-own-list' ? 'through scope and policies together' : 'by plain SQL under the row policies'}, against the hand-written query in a transaction of the same shape`;
    results.push(await compare(name, what, bound, 60, 20, carried, () => byHand(hand)));
  }
  await pool.end();
  return results;
}

async function memoryFilter(): Promise<Result> {
  const standing = new Standing(charter, keeperFacts);
  const hives = Array.from({ length: 100_000 }, (_, i) => ({
    id: `h${i}`,
    tenantId: i % 7 ? 't1' : 't2',
    keeperId: i % 3 ? 'p1' : i % 2 ? null : 'p2',
    status: i % 5 ? ('active' as const) : ('archived' as const),
  }));
  const byHand = () => hives.filter((hive) => hive.tenantId === 't1' && hive.status !== 'archived' && (hive.keeperId === 'p1' || hive.keeperId === null));
  if (byHand().length !== standing.keep('hive.update', hives).length) throw new Error('the two filters differ');
  return compare(
    'memory-filter',
    '100000 records in memory by standing.keep, against a filter written by hand',
    2,
    40,
    1,
    () => standing.keep('hive.update', hives),
    byHand,
  );
}

const results = [
  ...(await group('memory', async () => [await mayRecord('may-record', 2.5), await memoryFilter(), await mayAfterOthers()])),
  ...(await onPostgres()),
  ...(await group('size', bySize)),
  ...(only === 'large' ? await large() : []),
];
const isSlow = (r: Result) => r.bound !== undefined && r.ratio > r.bound;
for (const r of results)
  console.log(
    `${r.name.padEnd(18)} ${String(r.ours).padStart(9)} ${r.unit}  against ${String(r.baseline).padStart(9)} ${r.unit}  ratio ${r.ratio.toFixed(2).padStart(5)}  ${r.bound === undefined ? '(reported)' : `(at most ${r.bound})`}${isSlow(r) ? '  TOO SLOW' : ''}`,
  );
if (process.argv.includes('--json')) {
  const file = new URL('results.json', import.meta.url);
  // Of one group alone: the others stay as they are, where they are.
  const before = only === undefined ? [] : (JSON.parse(readFileSync(file, 'utf8')) as Result[]);
  const all = new Map([...before, ...results].map((one) => [one.name, one]));
  writeFileSync(file, `${JSON.stringify([...all.values()], null, 2)}\n`);
}
process.exit(results.some(isSlow) ? 1 : 0);
