/* Every generator on a fixed sample. Volumes: `npm run test:long`. */
import fc from 'fast-check';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { compareCase } from '../properties/agree/compare.js';
import { type Engine, openEngine, openSqlite, withPolicies } from '../properties/agree/engines.js';
import { COMPARED, everyComparison } from '../properties/agree/every.js';
import { generated } from '../properties/agree/generate.js';
import { PROPERTIES } from '../properties/all.js';
import { anyStep } from '../properties/attack/steps.js';
import { foundCases, readCase } from '../properties/harness/cases.js';
import { again, search } from '../properties/harness/search.js';
import { Servers } from '../properties/harness/servers.js';
import { control } from '../properties/races/races.js';
import { HOLDS } from '../src/charter/ids.js';
import { HANDLERS } from '../src/membership/carrying/run.js';
import { COMPARISONS, MEMBERSHIPS } from '../src/predicate/predicate.js';
import { VALUE_TYPES } from '../src/predicate/value.js';
import { LONG } from './long.js';
import { emptyPostgres } from './worlds.js';

const servers = new Servers(inject('postgres'));

/** What is drawn here, and what of it must have come about: a generator that is refused everything proves nothing. */
const SAMPLES: readonly (readonly [property: string, on: string, cases: number, least: Readonly<Record<string, number>>])[] = [
  ['agree', 'postgres', 2, { telling: 2, raced: 1 }],
  ['attack', 'postgres', 1, { done: 5 }],
  ['queries', 'postgres', 60, { answered: 15, refused: 1 }],
  ['queries', 'sqlite', 40, { answered: 10 }],
  ['races', 'calm', 3, { done: 5 }],
  ['races', 'broken', 1, {}],
  ['wall', 'postgres', 6, { seen: 20 }],
];

test.each(SAMPLES)('%s on %s: nothing is wrong in %d cases', async (name, on, cases, least) => {
  const opened = await (PROPERTIES[name] as (typeof PROPERTIES)[string]).open(servers, on);
  const wrong = await search(opened, { cases, seed: Number(process.env.LINTEL_SEED) });
  expect(wrong?.sentence).toBeUndefined();
  for (const [what, count] of Object.entries(least)) expect([what, (opened.tally()[what] ?? 0) >= count]).toEqual([what, true]);
  await opened.close();
});

const engines: Engine[] = [];
beforeAll(async () => {
  const postgres = await openEngine('PostgreSQL', (await emptyPostgres()).db);
  engines.push(postgres, await openSqlite(postgres.membership), ...(LONG ? [await withPolicies(postgres)] : []));
});
afterAll(async () => {
  for (const { records } of engines) await records.destroy();
});

test.each(LONG ? (['reach', 'limit'] as const) : (['limit'] as const))(
  'each comparison of each type, with each value, is answered alike by all databases, as a %s',
  async (as) => {
    const every = everyComparison(as, LONG ? COMPARED : ['price']);
    const { found, telling } = await compareCase(engines, every);
    expect([found, telling]).toEqual([[], every.draws.length]);
  },
);

test('every step, operator, type of value and type of id is drawn by a generator', () => {
  const steps = fc.sample(fc.oneof(anyStep, control), { numRuns: 4000, seed: 1 }).map((one) => one.do);
  expect(Object.keys(HANDLERS).filter((step) => !steps.includes(step as never))).toEqual([]);
  const cases = JSON.stringify(fc.sample(generated, { numRuns: 30, seed: 1 }));
  const operators = ['always', 'never', 'and', 'or', 'not', 'isEmpty', 'parent', 'followed', ...COMPARISONS, ...MEMBERSHIPS];
  expect(operators.filter((op) => !cases.includes(`"op":"${op}"`))).toEqual([]);
  expect([...VALUE_TYPES, ...Object.keys(HOLDS)].filter((word) => !cases.includes(`"${word}"`))).toEqual([]);
});

test.each(foundCases().map((file) => [file.slice(file.lastIndexOf('/') + 1), file] as const))('%s is known to fail', async (_, file) => {
  const kept = readCase(file);
  const opened = await (PROPERTIES[kept.property] as (typeof PROPERTIES)[string]).open(servers, kept.variant);
  // One that passes is taken off the list.
  expect(await again(opened, kept.case)).toEqual(expect.any(String));
  await opened.close();
});
