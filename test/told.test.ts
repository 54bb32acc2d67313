/*
 * Two worlds that differ in what is hidden from somebody: whatever they propose or try, they get the same answers, up to the short list of what a permitted step tells.
 */
import { readFileSync } from 'node:fs';
import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { isLintelError } from 'warm-lintel';
import { createLintel, type Lintel, type Step } from 'warm-lintel/server';
import { step } from '../properties/attack/steps.js';
import { ARRANGE, charter, HIVES, makeWorld, START, TENANT } from '../properties/attack/world.js';
import { LONG } from './long.js';
import { emptyPostgres } from './worlds.js';

let db: Kysely<any>;
beforeAll(async () => {
  ({ db } = await emptyPostgres(2));
  const lintel = createLintel({ charter, db });
  await makeWorld(db);
  await lintel.addPerson({ id: 'zed', name: 'Canary Zed', address: 'zed@hidden.example', confirmedAt: new Date() });
  // Of whom ann knows nothing; ben she may know by the group that they share.
  await sql`update lintel_person set name = 'Canary ' || id where id in ('boss', 'cas', 'dot', 'zed')`.execute(db);
  await db.insertInto('hives').values(rows(true)).execute();
});
afterAll(() => db.destroy());

/** Records that ann and ben own, or that others do. */
const rows = (known: boolean) =>
  HIVES.filter(({ ownerId }) => (ownerId === 'ann' || ownerId === 'ben') === known).map(({ id, tenantId, ownerId, siteId, name }) => ({
    id,
    tenant_id: tenantId,
    owner_id: ownerId,
    site_id: siteId,
    name,
  }));
const at = { on: 'tenant' } as const;
/** What may be so in one world and not in the other; of none of it may ann know. */
const HIDDEN: Readonly<Record<string, (lintel: Lintel<any>, db: Kysely<any>) => Promise<unknown>>> = {
  'somebody more': async (lintel) => {
    await lintel.addPerson({ id: 'hid', name: 'Canary Hid', address: 'hid@hidden.example', confirmedAt: new Date(START) });
    await by(lintel, { do: 'invite', address: 'hid@hidden.example', roles: [{ role: 'warden', anchor: at }] });
    const [held] = await lintel.myInvitations('hid');
    if (held) await lintel.acceptInvitation('hid', held);
    await by(lintel, { do: 'set-group', id: 'blue', people: ['hid'] }, { do: 'place', user: 'hid', units: ['south'] });
  },
  'somebody holds more': (lintel) =>
    by(lintel, {
      do: 'set-roles',
      holder: { user: 'dot' },
      roles: [
        { role: 'own-a', anchor: at },
        { role: 'mover', anchor: at },
        { role: 'arranger', anchor: at },
      ],
    }),
  'a group holds something': (lintel) =>
    by(lintel, {
      do: 'set-roles',
      holder: { group: 'blue' },
      roles: [
        { role: 'own-a', anchor: at },
        { role: 'warden', anchor: at },
      ],
    }),
  'somebody is suspended': (lintel) => by(lintel, { do: 'suspend', user: 'cas' }),
  'somebody stands in': (lintel) =>
    by(lintel, { do: 'name-deputy', of: 'boss', to: 'dot', permissions: ['hive.read'], until: new Date(START + 9 * 3_600_000).toISOString() }),
  'somebody is invited': (lintel) => by(lintel, { do: 'invite', address: 'pending@hidden.example', name: 'Canary Pending', roles: [] }),
  'another organisation': async (lintel) => {
    await lintel.openTenant({ id: 'z', name: 'Canary', keyholder: 'zed' });
    await (await lintel.enter({ tenant: 'z', user: 'zed' })).carryOut([
      { do: 'make-group', id: 'green', name: 'Canary' },
      { do: 'add-unit', id: 'hill', name: 'Canary' },
    ]);
  },
  'more records': (_, tx) => tx.insertInto('hives').values(rows(false)).execute(),
  'a second of full control': (lintel) => by(lintel, { do: 'set-roles', holder: { user: 'cas' }, roles: [{ role: 'keyholder', anchor: at }] }),
};
const by = async (lintel: Lintel<any>, ...steps: Step[]) => (await lintel.enter({ tenant: TENANT, user: 'boss' })).carryOut(steps);

const of = <T>(...values: readonly T[]) => fc.constantFrom(...values);
const strangers = of('hid', 'zed', 'nobody', 'dot', 'boss', 'cas');
/** About whom there may be in one world alone, by id or address. */
const about: fc.Arbitrary<Step> = fc.oneof(
  fc.record({ do: of('remove' as const, 'suspend' as const, 'restore' as const, 'turn-away' as const), user: fc.oneof(strangers, of('ben')) }),
  fc.record({
    do: of('set-roles' as const),
    holder: fc.record({ user: strangers }),
    roles: of([], [{ role: 'keeper', anchor: at }], [{ role: 'warden', anchor: at }]),
  }),
  fc.record({ do: of('set-group' as const), id: of('red', 'blue', 'green'), people: fc.array(strangers, { maxLength: 2 }) }),
  fc.record({
    do: of('invite' as const),
    address: of('hid@hidden.example', 'zed@hidden.example', 'pending@hidden.example', 'dot@attack.example'),
    roles: of([]),
  }),
  fc.record({ do: of('let-in' as const), user: strangers, roles: of([]) }),
  fc.record({ do: of('entrust-program' as const), program: strangers, responsible: strangers }),
  fc.record({ do: of('set-rules' as const), oneRole: fc.boolean() }),
  of<Step>({ do: 'drop-role', id: 'own-a' }, { do: 'suspend', user: 'ben' }, { do: 'remove', user: 'ben' }, { do: 'set-group', id: 'blue', people: ['cas'] }),
);
/** All that somebody may do with others, but for knowing of them. */
const OPERATIONS = ARRANGE.filter((operation) => operation !== 'member.read');

/** Steps that somebody may take for themselves. */
const OWN_STEPS = new Set(['set-roles', 'leave', 'remove', 'hand-over', 'name-deputy', 'end-deputy']);

/** Random values, marks and the tokens of links are another each time. */
const plain = (value: unknown) =>
  JSON.stringify(value)
    .replace(/[0-9a-f]{64}|[0-9a-f]{8}-[0-9a-f-]{27}/g, 'random')
    .replace(/"(secret|token)":"[^"]*"/g, '"$1":""');

/** What is answered, or refused with these words. */
const answered = (asked: Promise<unknown>): Promise<{ code: string; text: string }> =>
  asked.then(
    (answer) => {
      const problem = (answer as { problems?: { code: string }[] }).problems?.[0]?.code;
      return { code: problem ?? 'done', text: plain(answer) };
    },
    (error: unknown) => {
      if (!isLintelError(error)) throw error;
      return { code: error.code, text: plain([error.code, error.message, error.details]) };
    },
  );

/** The list, as the documentation has it. */
const told = [
  ...(readFileSync('docs/guide/03-see-a-change.md', 'utf8')
    .split('<!-- told -->')[1]
    ?.matchAll(/^\| `([a-z-]+)`/gm) ?? []),
].map(([, code]) => code as string);

test('what is hidden from somebody is in no proposal, effect, count or error', { timeout: 1_200_000 }, async () => {
  expect(told.length).toBeGreaterThan(5);
  class Undo extends Error {}
  const came = { same: 0, listed: 0, done: 0 };
  const runs = LONG ? 3000 : 12;
  const draw = fc.record({
    hidden: fc.subarray(Object.keys(HIDDEN), { minLength: 1, maxLength: 4 }),
    may: fc.subarray(OPERATIONS),
    reads: of(undefined, 'self' as const, 'groups' as const, 'groups' as const),
    lists: fc.array(fc.array(fc.oneof(about, about, step), { minLength: 1, maxLength: 2 }), { minLength: 4, maxLength: 4 }),
  });
  await fc.assert(
    fc.asyncProperty(draw, async ({ hidden, may, reads, lists }) => {
      await db
        .transaction()
        .execute(async (tx) => {
          const lintel = createLintel({ charter, db: tx, clock: () => START }) as unknown as Lintel<any>;
          const permissions = [
            ...may.map((permission) => ({ permission, reach: 'tenant', anchor: at })),
            ...(reads ? [{ permission: 'member.read', reach: reads, anchor: at }] : []),
          ];
          await by(
            lintel,
            { do: 'set-permissions', holder: { user: 'ann' }, permissions },
            ...['own-a', 'own-b'].map((id): Step => ({ do: 'make-role', id, role: { label: id, may: { 'hive.read': ['own'] }, gives: ['warden'] } })),
            { do: 'set-group', id: 'red', people: ['ann', 'ben'] },
            { do: 'set-roles', holder: { user: 'ann' }, roles: [{ role: 'own-b', anchor: at }] },
            { do: 'set-roles', holder: { group: 'blue' }, roles: [{ role: 'warden', anchor: at }] },
            { do: 'set-roles', holder: { user: 'ben' }, roles: [{ role: 'reader', anchor: at }] },
            {
              do: 'set-roles',
              holder: { user: 'cas' },
              roles: [
                { role: 'own-a', anchor: at },
                { role: 'mover', anchor: at },
              ],
            },
          );
          const answers = async () => {
            const all = [];
            for (const steps of lists)
              for (const how of ['propose', 'carryOut'] as const) {
                await sql`savepoint asked`.execute(tx);
                all.push({ how, steps, ...(await answered((await lintel.enter({ tenant: TENANT, user: 'ann' }))[how](steps as Step[]))) });
                await sql`rollback to savepoint asked`.execute(tx);
              }
            return all;
          };
          const one = await answers();
          for (const name of hidden) await HIDDEN[name]?.(lintel, tx);
          const other = await answers();
          for (const [i, here] of one.entries()) {
            const there = other[i] as typeof here;
            expect(`${here.text} ${there.text}`).not.toContain('Canary');
            // Whoever may do nothing to others is refused, whatever there is.
            if (may.length === 0 && here.steps.every((one) => !OWN_STEPS.has(one.do))) expect([here.code, there.code]).toEqual(['refused', 'refused']);
            const mayDiffer = here.code !== there.code || (here.code !== 'done' && here.steps.length > 1);
            const isListed = here.text !== there.text && mayDiffer && [here.code, there.code].every((code) => code === 'done' || told.includes(code));
            if (!isListed) expect([hidden, here]).toEqual([hidden, there]);
            came[isListed ? 'listed' : here.code === 'done' ? 'done' : 'same'] += 1;
          }
          throw new Undo();
        })
        .catch((error: unknown) => {
          if (!(error instanceof Undo)) throw error;
        });
    }),
    { numRuns: runs },
  );
  // Something was told in each of the three ways, else this proves nothing.
  for (const [way, count] of Object.entries(came)) expect([way, count > (LONG ? runs / 20 : 0)]).toEqual([way, true]);
});
