/* Counting for very many people in one pass: whatever their rules have in common, each count is the one that it would be alone. */
import fc from 'fast-check';
import { expect } from 'vitest';
import { readCharter } from 'warm-lintel';
import { fill, openPglite } from '../properties/agree/engines.js';
import { data } from '../properties/agree/generate.js';
import { HERE, KIND_NAMES, kindData, PEOPLE, STRANGERS } from '../properties/agree/world.js';
import type { Predicate } from '../src/predicate/index.js';
import { countCrowded, countRecords, fewRecords, tallyRecords } from '../src/scoping/index.js';
import { LONG, testLong } from './long.js';

const charter = readCharter({ kinds: Object.fromEntries(KIND_NAMES.map((kind) => [kind, kindData(kind, ['read'])])) });
const { shapes } = charter;

/** More people than are counted one by one: some of them own something. */
const MANY = [...PEOPLE, ...STRANGERS, ...Array.from({ length: 4 }, (_, i) => `nobody${i}`)];
const HOLE = 'whose rule it is';

const same = (field: string, value: unknown) => ({ op: 'is', field, to: { value } });
const leaf: fc.Arbitrary<unknown> = fc.oneof(
  { arbitrary: fc.constant(same('ownerId', HOLE)), weight: 4 },
  { arbitrary: fc.constant(same('ownerId', 'u2')), weight: 3 },
  { arbitrary: fc.constant({ op: 'includes', field: 'helpers', to: { value: HOLE } }), weight: 2 },
  { arbitrary: fc.constant({ op: 'parent', via: 'plotId', where: same('ownerId', HOLE) }), weight: 2 },
  fc.constantFrom<unknown>(
    same('madeBy', HOLE),
    { op: 'atLeast', field: 'name', to: { value: HOLE } },
    { op: 'in', field: 'ownerId', to: { value: [HOLE, 'u2'] } },
    { op: 'parent', via: 'plotId', where: { op: 'atLeast', field: 'level', to: { value: 0 } } },
    { op: 'isEmpty', field: 'ownerId' },
  ),
);
const part = fc.tuple(leaf, fc.constantFrom(false, false, true)).map(([of, opposite]) => (opposite ? { op: 'not', of } : of));
const several = fc.record({ op: fc.constantFrom('and', 'or', 'or'), of: fc.array(part, { minLength: 2, maxLength: 3 }) });
const rule: fc.Arbitrary<unknown> = fc.oneof({ arbitrary: part, weight: 1 }, { arbitrary: several, weight: 3 });
/** One rule for everybody, with their own name in each of its places; some have another name in one of two, or the same as somebody else. */
const rules = fc.record({ rule, names: fc.constantFrom(MANY, [...MANY, 'u2'], MANY.slice(0, 5)), stray: fc.boolean() }).map(({ rule: drawn, names, stray }) =>
  names.map((name, i): Predicate => {
    let places = 0;
    return JSON.parse(JSON.stringify(drawn), (_key, value) => (value !== HOLE ? value : stray && i === 2 && places++ === 1 ? 'u2' : name));
  }),
);

const own = (name: string) => same('ownerId', name) as Predicate;
const LOW = { op: 'atMost', field: 'level', to: { value: 0 } };
/** Some of them twice; and a rule that is everybody's for some records, of which one is somebody's own. */
const EXAMPLES: [Predicate[][]][] = [[[[...MANY, ...PEOPLE].map(own)]], [[MANY.map((name) => ({ op: 'or', of: [own(name), LOW] }) as Predicate)]]];

testLong('rules that differ in a name are counted together as they are one by one, and so is who is reached by many', { timeout: 300_000 }, async () => {
  const { records: db } = await openPglite();
  const drawn = fc.sample(data, { numRuns: 12, seed: 3 }).map(({ plot, hive }, i) => ({
    // The same id stands in another tenant too.
    plot: plot.map((row) => ({ ...row, id: `${i}${row.id}` })).flatMap((row) => [row, { ...row, tenantId: 'there', ownerId: 'u2' }]),
    hive: hive.map((row) => ({ ...row, id: `${i}${row.id}`, plotId: row.plotId && `${i}${row.plotId}` })),
  }));
  await fill(db, { plot: drawn.flatMap(({ plot }) => plot), hive: drawn.flatMap(({ hive }) => hive), visit: [], note: [] });
  const hives = await db.selectFrom('hives').select('id').where('tenant_id', '=', HERE).execute();
  let told = 0;
  await fc.assert(
    fc.asyncProperty(fc.array(rules, { minLength: 1, maxLength: 2 }), async (sorts) => {
      const all = sorts.flat();
      const alone = await countRecords(db, shapes, 'hive', HERE, all);
      const together = await tallyRecords(db, shapes, 'hive', HERE, all);
      expect(together).toEqual(alone);
      if (alone.counts.some((n) => n > 0 && n < alone.total)) told += 1;
      const readers = new Map<unknown, number>(hives.map(({ id }) => [id, 0]));
      for (const p of all) for (const { id } of await fewRecords(db, charter, 'hive', HERE, p, 1000)) readers.set(id, (readers.get(id) ?? 0) + 1);
      for (const most of new Set([0, ...readers.values()]))
        expect(await countCrowded(db, shapes, 'hive', HERE, all, most)).toBe([...readers.values()].filter((n) => n > most).length);
    }),
    { numRuns: LONG ? 50 : 3, seed: 5, examples: EXAMPLES },
  );
  expect(told).toBeGreaterThan(LONG ? 15 : 2);
  await db.destroy();
});
