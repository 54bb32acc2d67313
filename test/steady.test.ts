/* What a database, or what stands before it, may do: go away, lend out connections, be one for several. */
import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import pg from 'pg';
import { expect, inject, test } from 'vitest';
import { isLintelError } from 'warm-lintel';
import { connect, createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { seed } from '../examples/apiary/world/seed.js';
import { LONG, testLong } from './long.js';
import { emptyPglite } from './pglite.js';
import { databaseOn, freePort } from './setup.js';
import type { Apiary } from './worlds.js';

const fulfilled = ['recentSignIn'];
const on = (db: unknown, options = {}) => createLintel({ charter, db, ...options } as never) as unknown as Apiary;

/** Reads of somebody, and changes by somebody else, so many at a time, until so many were answered; what they came to. */
async function busy(lintel: Apiary, clients: number, requests: number): Promise<Map<string, number>> {
  const came = new Map<string, number>();
  let left = requests;
  const one = async (client: number) => {
    while (left-- > 0) {
      const code = await (left % 3 === 0
        ? lintel
            .enter({ tenant: 'alderbrook', user: 'maren', fulfilled })
            .then((maren) => maren.carryOut([{ do: 'rename-tenant', contact: `ask ${client} ${left}` }]))
        : lintel.enter({ tenant: 'alderbrook', user: 'tobias' }).then((tobias) => tobias.find('hive'))
      ).then(
        () => 'done',
        (error: unknown) => (isLintelError(error) ? error.code : String(error)),
      );
      came.set(code, (came.get(code) ?? 0) + 1);
    }
  };
  await Promise.all(Array.from({ length: clients }, (_, client) => one(client)));
  return came;
}

const TIMES = LONG ? 10 : 2;
test('every connection of a busy server is broken again and again: it answers again, and nothing is lost or half done', async () => {
  const url = await databaseOn(inject('postgres'));
  const pool = new pg.Pool({ connectionString: url, max: 8, application_name: 'busy' });
  const own = new pg.Pool({ connectionString: url, max: 1 });
  await seed(connect<any>(pool));
  const lintel = on(pool);
  const before = await own.query(`select last_number::int as n from lintel_tenant where id = 'alderbrook'`);
  let done = 0;
  for (let time = 0; time < TIMES; time++) {
    const under = busy(lintel, 8, 48);
    await own.query(`select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'busy'`);
    const came = await under;
    done += came.get('done') ?? 0;
    expect([...came.keys()].filter((code) => !['done', 'try-again', 'database-away'].includes(code))).toEqual([]);
    // The next one is answered.
    expect([...(await busy(lintel, 1, 3)).keys()]).toEqual(['done']);
  }
  expect(done).toBeGreaterThan(10 * TIMES);
  expect((await (await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled })).audit.verify()).broken).toBeUndefined();
  const after = await own.query(
    `select last_number::int as n, (select count(*)::int from lintel_audit a where a.tenant_id = t.id) as events from lintel_tenant t where id = 'alderbrook'`,
  );
  expect([after.rows[0].n, after.rows[0].n > before.rows[0].n]).toEqual([after.rows[0].events, true]);
  await Promise.all([pool.end(), own.end()]);
});

const BOUNCER = '/usr/sbin/pgbouncer';
testLong('behind a pool that lends a connection for one transaction every request is answered', { timeout: 600_000 }, async () => {
  if (!existsSync(BOUNCER)) throw new Error('This needs PgBouncer: install the package pgbouncer.');
  const url = new URL(await databaseOn(inject('postgres')));
  const direct = new pg.Pool({ connectionString: url.href, max: 2 });
  await seed(connect<any>(direct));
  const dir = mkdtempSync(join(tmpdir(), 'lintel-bouncer-'));
  const port = await freePort();
  writeFileSync(join(dir, 'users.txt'), '"lintel" ""\n');
  writeFileSync(
    join(dir, 'pgbouncer.ini'),
    `[databases]\n* = host=127.0.0.1 port=${url.port}\n[pgbouncer]\nlisten_addr=127.0.0.1\nlisten_port=${port}\nunix_socket_dir=\nauth_type=trust\nauth_file=${dir}/users.txt\npool_mode=transaction\ndefault_pool_size=5\nlogfile=\n`,
  );
  const as = process.getuid?.() === 0 ? ['-u', 'nobody'] : [];
  const bouncer = spawn(BOUNCER, [...as, join(dir, 'pgbouncer.ini')], { stdio: ['ignore', 'ignore', 'pipe'] });
  await new Promise<void>((resolve) => bouncer.stderr.on('data', (said) => String(said).includes('process up') && resolve()));
  url.port = String(port);
  try {
    for (const prepare of ['auto', false] as const) {
      const pool = new pg.Pool({ connectionString: url.href, max: 20 });
      expect([...(await busy(on(pool, { prepare }), 20, 10_000))]).toEqual([['done', 10_000]]);
      await pool.end();
    }
  } finally {
    bouncer.kill();
    await direct.end();
    rmSync(dir, { recursive: true, force: true });
  }
});

test('a prepared statement that is another’s is noticed, and the request is answered all the same', async () => {
  const url = await databaseOn(inject('postgres'));
  const pool = new pg.Pool({ connectionString: url, max: 1 });
  await seed(connect<any>(pool));
  const first = on(pool);
  expect([...(await busy(first, 1, 6))]).toEqual([['done', 6]]);
  // As where the connection behind is another: the driver believes that its statements are there.
  await pool.query('deallocate all');
  expect([...(await busy(first, 1, 6))]).toEqual([['done', 6]]);
  await pool.end();
});

test('who connects twice to one embedded database waits for themselves: no write is lost with the other’s rollback', async () => {
  const pglite = await emptyPglite();
  const [one, other] = [connect<any>(pglite), connect<any>(pglite)];
  await pglite.query('create table t (n integer)');
  let began = () => {};
  const under = new Promise<void>((resolve) => {
    began = resolve;
  });
  const taken = one
    .transaction()
    .execute(async (tx) => {
      await tx.insertInto('t').values({ n: 1 }).execute();
      began();
      await new Promise((resolve) => setImmediate(resolve));
      throw new Error('taken back');
    })
    .catch((error: Error) => error.message);
  await under;
  await other.insertInto('t').values({ n: 2 }).execute();
  expect([await taken, await one.selectFrom('t').selectAll().execute()]).toEqual(['taken back', [{ n: 2 }]]);
  await pglite.close();
});
