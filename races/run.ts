/* Two at once, drawn: `npm run races -- --pairs 10000 --seed 7`; with --broken every connection is broken again and again meanwhile. */
import pg from 'pg';
import { connect, createLintel, type Lintel } from 'warm-lintel/server';
import { platformCharter as charter } from '../attack/world.js';
import { runOptions } from '../test/run-options.js';
import { databaseOn } from '../test/setup.js';
import { PLATFORM, races } from './races.js';

const { count: pairs, seed, server, has, stop } = await runOptions('races', 'pairs', 1000, ['broken']);
const url = await databaseOn(server);
const BUSY = 'races';
const pool = new pg.Pool({ connectionString: url, max: 16, application_name: BUSY });
const own = connect<any>(new pg.Pool({ connectionString: url, max: 2 }));
// Half of the connections have another level of isolation than the usual by the server's own default.
let opened = 0;
pool.on('connect', (client) => {
  if (++opened % 2 === 0) void client.query(`set default_transaction_isolation = '${opened % 4 === 0 ? 'serializable' : 'repeatable read'}'`);
});
const on = (db: unknown) => createLintel({ charter, db: db as pg.Pool, platform: PLATFORM }) as unknown as Lintel<any>;
let failed = true;
try {
  const calm = on(own);
  const broken = async () => {
    await own.executeQuery({ sql: `select pg_terminate_backend(pid) from pg_stat_activity where application_name = '${BUSY}'`, parameters: [] } as never);
  };
  const report = await races({ lintel: on(pool), own, calm }, pairs, seed, {
    broken: has('broken') ? broken : undefined,
    progress: (done) => {
      if (done % 1000 === 0) console.error(`  ${done} pairs`);
    },
  });
  failed = false;
  const came = [...report.came].sort(([, a], [, b]) => b - a).map(([code, count]) => `${count} ${code}`);
  console.log(`${report.pairs} pairs at once, nothing broken: ${came.join(', ')}`);
} catch (error) {
  console.log(error instanceof Error ? [error.message, (error.cause instanceof Error ? error.cause : error).stack].join('\n') : String(error));
}
await pool.end();
await own.destroy();
await stop();
process.exit(failed ? 1 : 0);
