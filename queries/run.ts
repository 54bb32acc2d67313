/* Asks queries of all shapes of two databases that differ in what is hidden: `npm run queries -- --count 100000 --seed 7`; with --small on PGlite and SQLite too, with --mariadb on a MariaDB alone. */
import { startMariaDb } from '../test/mariadb.js';
import { runOptions } from '../test/run-options.js';
import { type EngineName, openPair } from './engines.js';
import { closeWorlds, compare } from './queries.js';

const { count, seed, server, has, stop } = await runOptions('queries', 'count', 1000, ['small', 'mariadb']);
const mariaDb = has('mariadb') ? await startMariaDb() : undefined;
const engines: readonly EngineName[] = mariaDb ? ['mariadb'] : has('small') ? ['postgres', 'pglite', 'sqlite'] : ['postgres'];
let failed = false;
for (const engine of engines) {
  const pair = await openPair(engine, server, mariaDb);
  const { tally, told } = await compare(pair, seed, count, (done) => {
    if (done % 5000 === 0) console.error(`  ${done} queries`);
  });
  console.log(told === undefined ? `${pair.name}: ${count} queries from number ${seed} on told nothing: ${JSON.stringify(tally)}` : `told something: ${told}`);
  failed ||= told !== undefined;
  await closeWorlds(pair);
}
await mariaDb?.stop();
await stop();
process.exit(failed ? 1 : 0);
