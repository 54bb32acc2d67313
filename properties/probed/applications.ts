/* Applications of other hands, each sound and with every fault that is planted in it, as tables: `npm run properties -- probed choir`. */
import pg from 'pg';
import { type ProbeReport, probe } from 'warm-lintel/rehearsal';
import { connect, createLintel } from 'warm-lintel/server';
import { databaseOn } from '../../test/setup.js';
import type { Application } from './application.js';
import { choir } from './choir.js';
import { club } from './club.js';
import { garden } from './garden.js';
import { house } from './house.js';

export const APPLICATIONS: Readonly<Record<string, Application>> = { choir, house, club, garden };

/** Starts an application with these faults in a database of its own, and tries it. */
export async function probeApplication(
  clusterUrl: string,
  { charter, schema, tables, start, target }: Application,
  faults: readonly string[],
  only?: readonly string[],
): Promise<{ report: ProbeReport; untouched: boolean }> {
  const pool = new pg.Pool({ connectionString: await databaseOn(clusterUrl), max: 4 });
  pool.on('error', () => {});
  await pool.query(schema);
  const everything = async () =>
    JSON.stringify(await Promise.all(tables.map(async (table) => (await pool.query(`select t::text from ${table} as t order by 1`)).rows)));
  const running = await start(pool, new Set(faults));
  try {
    const db = connect<any>(pool);
    const before = await everything();
    const report = await probe(createLintel({ charter, db }) as never, db, { ...(await target(pool, running.app)), ...(only && { only }) });
    return { report, untouched: before === (await everything()) };
  } finally {
    await running.close();
    await pool.end();
  }
}

/** Tries the sound application, and each of its faults; prints a table. */
export async function scoreApplication(clusterUrl: string, application: Application, wanted: readonly string[]): Promise<void> {
  const sound = await probeApplication(clusterUrl, application, []);
  const told = sound.report.findings.map(({ code, route, message }) => `\n  ${code} ${route}: ${message}`);
  console.log(
    `sound: ${told.join('') || 'nothing was found'}; ${sound.report.calls} calls; ${sound.untouched ? 'everything is as it was' : 'NOT AS IT WAS'}\n`,
  );
  console.log('| fault | what is wrong | found as |\n| --- | --- | --- |');
  const known = new Set(sound.report.findings.map(({ code, route, message }) => JSON.stringify([code, route, message])));
  // What two requests leave at once is found by chance where it is there: where it is in the sound one, it says nothing of a fault.
  const isRacing = sound.report.findings.some(({ request }) => request.beside);
  const faults = application.faults.filter(([name]) => wanted.length === 0 || wanted.includes(name));
  let found = 0;
  for (const [fault, what] of faults) {
    const { report, untouched } = await probeApplication(clusterUrl, application, [fault]);
    const fresh = report.findings.filter(
      ({ code, route, message, request }) => !known.has(JSON.stringify([code, route, message])) && !(isRacing && request.beside),
    );
    if (fresh.length > 0) found += 1;
    console.log(`| ${fault} | ${what} | ${[...new Set(fresh.map(({ code }) => code))].join(', ') || '**missed**'}${untouched ? '' : ' (NOT AS IT WAS)'} |`);
    if (wanted.length > 0) for (const one of fresh) console.log(`    ${one.route}: ${one.message}`);
  }
  console.log(`\n${found} of ${faults.length} found`);
}
