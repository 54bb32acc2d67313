/* One rule, every engine: generated charters, data, standings and writes come out the same in memory, on PGlite, PostgreSQL and SQLite, and under row policies. */
import { afterAll, beforeAll, expect, test } from 'vitest';
import { agree, compareCase } from '../agree/compare.js';
import { type Engine, openEngine, openPglite, openSqlite, withPolicies } from '../agree/engines.js';
import { everyComparison } from '../agree/every.js';
import { emptyPostgres } from './worlds.js';

const engines: Engine[] = [];
beforeAll(async () => {
  const pglite = await openPglite();
  const postgres: Engine = { ...(await openEngine('PostgreSQL', (await emptyPostgres()).db)), races: true };
  engines.push(pglite, postgres, await openSqlite(pglite.membership), await withPolicies(postgres));
});
afterAll(async () => {
  for (const { records } of engines) await records.destroy();
});

test('memory and every database agree on what is seen, what may be done, and what a write comes to', { timeout: 1_800_000 }, async () => {
  const cases = process.env.LINTEL_LONG ? 5000 : 16;
  const report = await agree(engines, cases, process.env.LINTEL_LONG ? Date.now() % 1_000_000 : 7);
  expect(report.counterexample ?? '').toBe('');
  // A generator that shows everything, or nothing, would prove nothing.
  expect(report.telling).toBeGreaterThan(cases / 4);
  expect(report.raced).toBeGreaterThan(cases / 10);
});

test.each(process.env.LINTEL_LONG ? (['reach', 'limit'] as const) : (['limit'] as const))(
  'each comparison of each type, with each value, is answered alike by all of them, as a %s',
  { timeout: 300_000 },
  async (as) => {
    const every = everyComparison(as);
    const { found, telling } = await compareCase(engines, every);
    expect([found, telling]).toEqual([[], every.draws.length]);
  },
);
