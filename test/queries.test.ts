/* Queries of all shapes over two databases that differ in what one person may not see: none answers differently, by rows, counts or errors. */
import { expect, inject, test } from 'vitest';
import { type EngineName, openPair } from '../queries/engines.js';
import { closeWorlds, compare } from '../queries/queries.js';
import { startMariaDb } from './mariadb.js';

const long = process.env.LINTEL_LONG !== undefined;
const volumes: readonly (readonly [EngineName, number])[] = [
  ['postgres', long ? 100_000 : 200],
  ['pglite', long ? 10_000 : 40],
  ['sqlite', long ? 20_000 : 80],
  ...(long ? [['mariadb', 20_000] as const] : []),
];

test.for(volumes)('on %s no query of any shape tells what is out of reach', { timeout: 3_600_000 }, async ([engine, count]) => {
  const mariaDb = engine === 'mariadb' ? await startMariaDb() : undefined;
  const pair = await openPair(engine, inject('postgres'), mariaDb);
  const first = long ? Date.now() % 1_000_000_000 : 1;
  const { tally, told } = await compare(pair, first, count);
  if (long) console.log(`${pair.name}: ${count} queries from number ${first}: ${JSON.stringify(tally)}`);
  expect(told).toBeUndefined();
  // A generator whose queries are all refused, or fail, would prove nothing.
  expect(tally.answered).toBeGreaterThan(count / 5);
  await closeWorlds(pair);
  await mariaDb?.stop();
});
