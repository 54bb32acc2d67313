/* Guards are marked so that they can be taken out; each generator notices one that is gone. Every guard: `npm run test:long`. */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { transformSync } from 'esbuild';
import { expect, inject, test } from 'vitest';
import type { PROPERTIES } from '../properties/all.js';
import { bundleWithout } from '../properties/harness/bundle.js';
import { allGuards } from '../properties/harness/checks.js';
import { SOURCES, withoutGuards } from '../properties/harness/guards.js';
import { REPLACEMENTS } from '../properties/harness/replacements.js';
import { search } from '../properties/harness/search.js';
import { Servers } from '../properties/harness/servers.js';
import { LONG } from './long.js';

const servers = new Servers(inject('postgres'));

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
      // What is left is TypeScript.
      return without !== text && (!LONG || transformSync(without, { loader: 'ts' }).code !== '');
    });
    expect([name, changed.length > 0]).toEqual([name, true]);
  }
});

/** One of each generator, which it notices soon. */
const PLANTED = ['tenant-condition', 'group-people-compared', 'pattern-escape-closed', 'keyholder-remains', 'standing-of-one-turn'];

test.each(PLANTED)('without the guard %s something is wrong', async (name) => {
  const { check } = allGuards().find((one) => one.name === name) as { check: string };
  const without: { PROPERTIES: typeof PROPERTIES } = await import(await bundleWithout([name], 'module'));
  const property = without.PROPERTIES[check] as (typeof PROPERTIES)[string];
  const opened = await property.open(servers, property.variants[0]);
  expect(await search(opened, { cases: property.volume.guard, seed: 5, shrinks: false })).toMatchObject({ sentence: expect.any(String) });
  await opened.close();
});
