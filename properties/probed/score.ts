import pg from 'pg';
import { type ProbeReport, probe } from 'warm-lintel/rehearsal';
import { connect, createLintel } from 'warm-lintel/server';
import { databaseOn } from '../../test/setup.js';
import { charter } from './charter.js';
import { SCHEMA, startLending } from './lending.js';
import { lendingTarget } from './target.js';

/** Starts the lending application with these faults in a database of its own, and tries it. */
export async function probeLending(
  clusterUrl: string,
  faults: readonly string[],
  only?: readonly string[],
  start: typeof startLending = startLending,
): Promise<{ report: ProbeReport; untouched: boolean }> {
  const pool = new pg.Pool({ connectionString: await databaseOn(clusterUrl), max: 4 });
  pool.on('error', () => {});
  await pool.query(SCHEMA);
  const everything = async () =>
    JSON.stringify(await Promise.all(['users', 'tools', 'loans'].map(async (table) => (await pool.query(`select * from ${table} order by id`)).rows)));
  const running = await start(pool, new Set(faults));
  try {
    const db = connect<any>(pool);
    const before = await everything();
    const target = await lendingTarget(pool, running.url);
    const report = await probe(createLintel({ charter, db }) as never, db, { ...target, ...(only && { only }) });
    return { report, untouched: before === (await everything()) };
  } finally {
    await running.close();
    await pool.end();
  }
}
