/* Every generator on a fixed sample, and with one guard taken out that it has to notice. Volumes, and every guard: `npm run test:long`. */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { transformSync } from 'esbuild';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { compareCase } from '../properties/agree/compare.js';
import { type Engine, openEngine, openSqlite, withPolicies } from '../properties/agree/engines.js';
import { everyComparison } from '../properties/agree/every.js';
import { PROPERTIES } from '../properties/all.js';
import { foundCases, readCase } from '../properties/harness/cases.js';
import { allGuards, tryWithout } from '../properties/harness/checks.js';
import { SOURCES, withoutGuards } from '../properties/harness/guards.js';
import { REPLACEMENTS } from '../properties/harness/replacements.js';
import { again, search } from '../properties/harness/search.js';
import { Servers } from '../properties/harness/servers.js';
import { LONG } from './long.js';
import { emptyPostgres } from './worlds.js';

const servers = new Servers(inject('postgres'));

/** What is drawn here, and what of it must have come about: a generator that is refused everything proves nothing. */
const SAMPLES: readonly (readonly [property: string, on: string, cases: number, least: Readonly<Record<string, number>>])[] = [
  ['agree', 'postgres', 2, { telling: 2, raced: 1 }],
  ['attack', 'postgres', 2, { done: 20 }],
  ['queries', 'postgres', 80, { answered: 20, refused: 1 }],
  ['queries', 'sqlite', 40, { answered: 10 }],
  ['races', 'calm', 4, { done: 10 }],
  ['races', 'broken', 2, { done: 1 }],
  ['wall', 'postgres', 8, { seen: 30 }],
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
  engines.push(postgres, await openSqlite(postgres.membership), await withPolicies(postgres));
});
afterAll(async () => {
  for (const { records } of engines) await records.destroy();
});

test.each(LONG ? (['reach', 'limit'] as const) : (['limit'] as const))(
  'each comparison of each type, with each value, is answered alike by all databases, as a %s',
  async (as) => {
    const every = everyComparison(as);
    const { found, telling } = await compareCase(engines, every);
    expect([found, telling]).toEqual([[], every.draws.length]);
  },
);

test('every guard has one sentence and a check, can be taken out where it stands, and few are replaced by code', () => {
  const guards = allGuards();
  expect(guards.length).toBeGreaterThan(200);
  const replaced = guards.filter(({ places }) => places.some(({ way }) => way === 'replaced')).map(({ name }) => name);
  expect(Object.keys(REPLACEMENTS).sort()).toEqual(replaced.sort());
  expect(replaced.length).toBeLessThan(guards.length / 10);
  for (const { name, places } of guards) {
    const changed = [...new Set(places.map(({ file }) => file))].filter((file) => {
      const text = readFileSync(join(SOURCES, file), 'utf8');
      const without = withoutGuards(file, text, new Set([name]));
      return without !== text && transformSync(without, { loader: 'ts' }).code !== transformSync(text, { loader: 'ts' }).code;
    });
    expect([name, changed.length > 0]).toEqual([name, true]);
  }
});

/** One of each generator, which it notices soon. */
const PLANTED = ['tenant-condition', 'group-people-compared', 'pattern-escape-closed', 'keyholder-remains', 'standing-of-one-turn'];

test.each(PLANTED)('without the guard %s something is wrong', async (name) => {
  const { check } = allGuards().find((one) => one.name === name) as { check: string };
  const { isNoticed, output } = await tryWithout(check, name, { seed: 5, postgres: inject('postgres') });
  expect([isNoticed, isNoticed ? '' : output]).toEqual([true, '']);
});

test.each(foundCases().map((file) => [file.slice(file.lastIndexOf('/') + 1), file] as const))('%s is known to fail', async (_, file) => {
  const kept = readCase(file);
  const opened = await (PROPERTIES[kept.property] as (typeof PROPERTIES)[string]).open(servers, kept.variant);
  // One that passes is taken off the list.
  expect(await again(opened, kept.case)).toEqual(expect.any(String));
  await opened.close();
});
