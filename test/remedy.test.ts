/* What would make a refused action allowed: each remedy does, says what else it opens, and is made by nobody who may not make it. */
import fc from 'fast-check';
import type { Kysely } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { EXIT, run } from 'warm-lintel/cli';
import { createLintel } from 'warm-lintel/server';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

let db: Kysely<any>;
let url: string;
let app: Apiary;
beforeAll(async () => {
  ({ lintel: app, db, url } = await apiaryOnPostgres());
  await (await enter('maren')).carryOut([
    { do: 'make-group', id: 'club', name: 'Saturday club', people: ['sela', 'hanne'] },
    { do: 'set-roles', holder: { group: 'club' }, roles: [{ role: 'keeper', anchor: { on: 'tenant' } }] },
    { do: 'make-role', id: 'own-mover', role: { label: 'Mover', includes: ['reader'], may: { 'hive.move': ['tenant'] } } },
  ]);
});
afterAll(() => db.destroy());

const enter = (user: string, on: Apiary = app) => on.enter({ tenant: 'alderbrook', user, fulfilled: ['recentSignIn'] });
async function lintel(...args: string[]) {
  const [out, err]: [string[], string[]] = [[], []];
  const code = await run([...args, '--tenant', 'alderbrook', '--database', url], {
    cwd: process.cwd(),
    out: (t) => out.push(t),
    err: (t) => err.push(t),
    colours: false,
    width: 160,
  });
  return { code, out: out.join('\n'), err: err.join('\n') };
}

const PEOPLE = ['tobias', 'otto', 'junia', 'pavel', 'lene', 'wim'];
const ACTIONS = ['hive.read', 'hive.update', 'hive.move', 'hive.inspect', 'inspection.read'] as const;

test('each remedy that is found makes it so, and what is told of it is what it does', { timeout: 120_000 }, async () => {
  let found = 0;
  await fc.assert(
    fc.asyncProperty(fc.constantFrom(...PEOPLE), fc.constantFrom(...ACTIONS), fc.integer({ min: 1, max: 24 }), async (user, action, n) => {
      const id = `a-hive-${String(n).padStart(2, '0')}${action === 'inspection.read' ? '-visit' : ''}`;
      const maren = await enter('maren');
      if (!(await maren.decideById(action, id)).allowed) return;
      const { decision, remedies, cause } = await maren.remedies(user, action, id);
      expect(decision.allowed).toBe((await (await enter(user)).decideById(action, id)).allowed);
      // Nothing that is refused is left without anything that would help: full control always can.
      expect([user, action, id, decision.allowed || cause !== undefined || remedies.length > 0]).toEqual([user, action, id, true]);
      const sizes = remedies.flatMap(({ opens }) => (opens ? [opens.records] : []));
      expect(sizes).toEqual([...sizes].sort((a, b) => a - b));
      for (const { proposal, change, words } of remedies) {
        found += 1;
        await db
          .transaction()
          .execute(async (tx) => {
            const inside = createLintel({ charter: app.charter, db: tx }) as unknown as Apiary;
            if (proposal) await (await enter('maren', inside)).carryOut(proposal);
            else if (change?.field === 'keeperId') await tx.updateTable('hives').set({ keeper_id: change.value }).where('id', '=', id).execute();
            else await tx.insertInto('hive_inspectors').values({ tenant_id: 'alderbrook', hive_id: id, user_id: user }).execute();
            expect([words, (await (await enter(user, inside)).decideById(action, id)).allowed]).toEqual([words, true]);
            throw new Error('taken back');
          })
          .catch((error: Error) => {
            if (error.message !== 'taken back') throw error;
          });
      }
    }),
    { numRuns: process.env.LINTEL_LONG ? 200 : 15 },
  );
  expect(found).toBeGreaterThan(20);
});

test('what the asking person may not make is marked, what no power changes is named, and hidden stays hidden', async () => {
  const { remedies } = await (await enter('wim')).remedies('lene', 'hive.read', 'a-hive-02').catch((error) => ({ remedies: [error.code] as never[] }));
  // A secretary reads no hives, so that there is nothing to ask about.
  expect(remedies).toEqual(['not-found']);
  await (await enter('maren')).carryOut([
    { do: 'set-roles', holder: { user: 'wim' }, roles: ['secretary', 'reader'].map((role) => ({ role, anchor: { on: 'tenant' } as const })) },
  ]);
  const asked = (await (await enter('wim')).remedies('lene', 'hive.update', 'a-hive-02')).remedies;
  expect(asked.find(({ words }) => words === 'give the role Site warden for the whole organisation')).toMatchObject({
    refused: expect.stringContaining('more than you'),
  });
  expect(asked.filter(({ refused, change }) => refused === undefined && !change)).toEqual([]);
  const archived = await (await enter('maren')).remedies('tobias', 'hive.update', 'a-hive-09');
  expect(archived).toMatchObject({ cause: 'a limit holds, whatever somebody holds (archived)', remedies: [] });
  const [unknown, none] = await Promise.all(
    ['rosa', 'nobody'].map(async (user) => (await enter('maren')).remedies(user, 'hive.read', 'a-hive-02').catch((error) => error.message)),
  );
  expect(unknown).toBe(none);
});

test('in the terminal one is chosen, shown, carried out, and asked again', async () => {
  const { code, out } = await lintel('remedy', 'tobias', 'hive.update', 'a-hive-02');
  expect([code, out]).toEqual([
    EXIT.refused,
    expect.stringMatching(
      /^Tobias Renn may not change a hive: Bramble hive\. It would be so by one of these:\n\n1\. {2}give it for this record alone\n {6}opens 1 permission, on 1 record\n/,
    ),
  ]);
  expect(out).toMatch(/\d\. {2}give the role Site warden for Mill meadow\n {6}opens 6 permissions, on \d+ records\n/);
  expect((await lintel('remedy', 'tobias', 'hive.update', 'a-hive-02', '--carry-out', '1')).err).toBe('lintel: Say in whose name it is done: --as PERSON.');
  expect((await lintel('remedy', 'tobias', 'hive.update', 'a-hive-02', '--as', 'maren', '--carry-out', '99')).err).toContain(
    '99 cannot be carried out: there are',
  );
  const done = await lintel('remedy', 'tobias', 'hive.update', 'a-hive-02', '--as', 'maren', '--carry-out', '1');
  expect([done.code, done.out]).toEqual([EXIT.yes, expect.stringContaining('Done: give it for this record alone. Tobias Renn may hive.update now.')]);
  expect(await lintel('remedy', 'tobias', 'hive.update', 'a-hive-02')).toMatchObject({
    code: EXIT.yes,
    out: 'Tobias Renn may change a hive: Bramble hive already.',
  });
});
