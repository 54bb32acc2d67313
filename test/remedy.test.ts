/* What would make a refused action allowed: each remedy does, says what else it opens, and is made by nobody who may not make it. */
import fc from 'fast-check';
import type { Kysely } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { EXIT, run } from 'warm-lintel/cli';
import { createLintel } from 'warm-lintel/server';
import { LONG } from './long.js';
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
    { numRuns: LONG ? 200 : 5 },
  );
  expect(found).toBeGreaterThan(LONG ? 20 : 5);
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
      /^Tobias Renn may not change a hive: Bramble hive\.\nIt would be so by one of these:\n\n1\. {2}give it for this record alone\n {6}opens 1 permission, on 1 record\n/,
    ),
  ]);
  expect(out).toMatch(/\d\. {2}give the role Site warden for Mill meadow\n {6}opens 6 permissions, on \d+ records\n/);
  expect((await lintel('remedy', 'tobias', 'hive.update', 'a-hive-02', '--carry-out', '1')).err).toMatch(/^lintel: Say in whose name: --as PERSON\./);
  expect((await lintel('remedy', 'tobias', 'hive.update', 'a-hive-02', '--as', 'maren', '--carry-out', '99')).err).toContain(
    '99 cannot be carried out: there are',
  );
  const done = await lintel('remedy', 'tobias', 'hive.update', 'a-hive-02', '--as', 'maren', '--carry-out', '1');
  expect([done.code, done.out]).toEqual([EXIT.yes, expect.stringContaining('Done: give it for this record alone. Tobias Renn may change a hive now.')]);
  expect(await lintel('remedy', 'tobias', 'hive.update', 'a-hive-02')).toMatchObject({
    code: EXIT.yes,
    out: 'Tobias Renn may change a hive: Bramble hive already.',
  });
});

test('what somebody asks for is seen, tried without doing it, agreed to and declined in the terminal', async () => {
  const open = async () => JSON.parse((await lintel('appeals', '--as', 'maren', '--format', 'json')).out) as { id: string; name: string }[];
  const [first] = await open();
  expect((await lintel('appeals', '--as', 'maren')).out).toMatch(/Otto Feld.*Change a hive.*Clover hive.*I look after it while its keeper is away\./);
  const at = first?.id.slice(0, 8) ?? '';
  expect((await lintel('appeals', at, '--as', 'maren')).out).toMatch(
    /Otto Feld may not change a hive: Clover hive\.[\s\S]*\n1\. {2}give it for this record alone/,
  );
  expect((await lintel('appeals', at, '--as', 'maren', '--agree', '1', '--dry-run')).out).toMatch(
    /\+ Change a hive[\s\S]*Not done: give it for this record alone\.$/,
  );
  expect((await lintel('appeals', at, '--as', 'maren', '--decline', '--dry-run')).out).toContain('nothing was done');
  expect((await open()).map(({ name }) => name)).toEqual(['Otto Feld']);
  expect((await lintel('appeals', at, '--as', 'maren', '--agree', '99')).err).toMatch(/^lintel: 99 cannot be carried out: there are \d+$/);
  expect((await lintel('appeals', at, '--as', 'maren', '--agree', '1', '--reason', 'for a week')).out).toMatch(/Otto Feld may now, and is told\.$/);
  expect((await lintel('why', 'otto', 'hive.update', 'a-hive-03')).code).toBe(EXIT.yes);

  const asking = ['appeals', '--as', 'tobias', '--ask', 'hive.move', '--record', 'a-hive-02', '--reason', 'to the meadow'];
  expect((await lintel(...asking, '--dry-run')).out).toMatch(/Ask Maren Holt.*\nIt would be asked for; nothing was sent\.$/);
  expect(await open()).toEqual([]);
  expect((await lintel(...asking)).out).toMatch(/^Asked for, as [0-9a-f]{8}\./);
  expect((await lintel('appeals', (await open())[0]?.id ?? '', '--as', 'maren', '--decline', '--reason', 'not now')).out).toBe(
    'Declined. Tobias Renn is told.',
  );
  expect((await lintel('appeals', '--as', 'tobias', '--mine')).out).toMatch(/Move a hive.*a-hive-02.*declined.*not now/);
  expect((await lintel('appeals', '--as', 'maren')).out).toBe('Nothing waits for an answer of Maren Holt.');
  for (const [args, said] of [
    [['--as', 'lene'], 'No role of yours lets you'],
    [['zz', '--as', 'maren'], 'no appeal "zz" waits for an answer'],
    [['--as', 'tobias', '--ask', 'hive.move'], 'Say about which record: --record ID.'],
    [[], 'Say in whose name: --as PERSON.'],
  ] as const)
    expect(await lintel('appeals', ...args)).toMatchObject({ code: EXIT.failed, err: expect.stringContaining(said) });
});
