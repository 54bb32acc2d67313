/* Speed against the hand-written equivalent, in the same run. `npm run bench` prints; `-- --json` also writes bench/results.json. */
import { writeFileSync } from 'node:fs';
import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { Standing } from 'warm-lintel';
import { connect, createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { type ApiaryTables, makeTables } from '../examples/apiary/world/tables.js';
import { startPostgres } from '../test/setup.js';
import { compare, type Result } from './measure.js';

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

function mayRecord(): Promise<Result> {
  const standing = new Standing(charter, {
    charter: charter.hash,
    tenant: { id: 't1', name: 'T', open: true, contact: null, features: [] },
    subject: 'member',
    me: { userId: 'p1', groupIds: [], unitIds: [], attributes: {} },
    assignments: [{ role: 'keeper', anchor: { on: 'tenant' } }],
    below: {},
    fulfilled: [],
  });
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
    'may-record',
    'standing.may("hive.update", hive) against the same rule written by hand as a function',
    5,
    60,
    200_000,
    () => standing.may('hive.update', hives[i++ & 63] as Hive),
    () => byHand(hives[j++ & 63] as Hive),
  );
}

async function onPostgres(): Promise<Result[]> {
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
    const enter = await compare(
      'enter',
      `lintel.enter over ${MEMBERS} members in ${TENANTS} tenants, against one hand-written join that fetches the same rows`,
      1.5,
      80,
      50,
      () => lintel.enter(next()),
      () => {
        const { tenant, user } = next();
        return pool.query(join, [tenant, user]);
      },
    );

    const lists: Result[] = [];
    const standing = await lintel.enter(who(4242));
    const { tenant, user } = who(4242);
    const page = (from: { selectFrom: Kysely<ApiaryTables>['selectFrom'] }) =>
      from.selectFrom('hives').select(['id', 'name', 'keeper_id', 'status']).orderBy('id').limit(50);
    const scoped = standing.scope<ApiaryTables>();
    const plain = db as Kysely<ApiaryTables>;
    const cases = [
      {
        name: 'scope-own-list',
        ours: () => page(scoped).where('keeper_id', '=', user),
        hand: () => page(plain).where('tenant_id', '=', tenant).where('keeper_id', '=', user),
      },
      { name: 'scope-tenant-list', ours: () => page(scoped), hand: () => page(plain).where('tenant_id', '=', tenant) },
    ];
    for (const { name, ours, hand } of cases) {
      const plans = await Promise.all([planOf(ours(), pool), planOf(hand(), pool)]);
      if (plans[0] !== plans[1]) throw new Error(`${name}: the plans differ: ${plans.join(' | ')}`);
      lists.push(
        await compare(
          name,
          `a page of 50 out of ${RECORDS} records through standing.scope, against the same query by hand over the same pool; same plan: ${plans[0]}`,
          1.15,
          120,
          40,
          () => ours().execute(),
          () => hand().execute(),
        ),
      );
    }
    return [enter, ...lists];
  } finally {
    await pool.end();
    await cluster.stop();
  }
}

const results = [await mayRecord(), ...(await onPostgres())];
for (const r of results)
  console.log(
    `${r.name.padEnd(18)} ${String(r.ours).padStart(9)} ${r.unit}  by hand ${String(r.baseline).padStart(9)} ${r.unit}  ratio ${r.ratio.toFixed(2).padStart(5)}  (at most ${r.bound})${r.ratio > r.bound ? '  TOO SLOW' : ''}`,
  );
if (process.argv.includes('--json')) writeFileSync(new URL('results.json', import.meta.url), `${JSON.stringify(results, null, 2)}\n`);
process.exit(results.some((r) => r.ratio > r.bound) ? 1 : 0);
