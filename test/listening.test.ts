/* What the application hears of the membership: in order, each at least once, whatever fails, and by however many who pass it on. */
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type Club, club } from './club.js';

let lintel: Club;
let db: Awaited<ReturnType<typeof club>>['db'];
let enter: Awaited<ReturnType<typeof club>>['enter'];
let now = Date.UTC(2026, 3, 1);
beforeAll(async () => {
  ({ lintel, db, enter } = await club({ clock: () => now }));
});
afterAll(() => db.destroy());

test('a listener hears of every change in its order, again after a failure, and of the next when one is given up', async () => {
  const heard: [string, number][] = [];
  const hear = (name = 'app') => lintel.passOn(name, ({ tenantId, number }) => void heard.push([tenantId, number]));
  // Two who pass on at once do not both tell the same.
  await Promise.all([hear(), hear()]);
  expect(heard.sort()).toEqual([
    ['club', 1],
    ['platform', 1],
  ]);
  heard.length = 0;
  const add = async (name: string) => (await enter('key')).carryOut([{ do: 'make-group', name }]);
  for (const name of ['a', 'b', 'c']) await add(name);
  let failing = true;
  const shaky = (name: string) =>
    lintel.passOn(name, ({ tenantId, number, words }) => {
      if (failing && words?.name === 'b') throw new Error('not now');
      if (tenantId === 'club') heard.push([name, number]);
    });
  expect(await shaky('app')).toEqual({ passed: 1, failed: 1 });
  // What comes after it waits, and so does another try.
  expect([await shaky('app'), heard]).toEqual([{ passed: 0, failed: 0 }, [['app', 2]]]);
  failing = false;
  now += 3_600_000;
  expect(await shaky('app')).toEqual({ passed: 2, failed: 0 });
  expect(heard).toEqual([2, 3, 4].map((number) => ['app', number]));

  failing = true;
  heard.length = 0;
  for (let i = 0; i < 12; i++) {
    await shaky('other');
    now += 24 * 3_600_000;
  }
  expect(heard).toEqual([1, 2, 4].map((number) => ['other', number]));
  expect(await db.selectFrom('lintel_unheard').select(['tenant_id', 'name', 'number', 'error']).execute()).toEqual([
    { tenant_id: 'club', name: 'other', number: '3', error: 'Error: not now' },
  ]);
});

test('what was heard when the process died is heard again, and nothing is left out', async () => {
  const heard: number[] = [];
  const hear = () =>
    lintel.passOn('late', async ({ tenantId, number }) => {
      if (tenantId !== 'club') return;
      heard.push(number);
      // As if the process ended here: what was told is not noted any more.
      if (heard.length === 2) await db.deleteFrom('lintel_listener').where('name', '=', 'late').execute();
    });
  await hear();
  await hear();
  expect([heard.slice(0, 2), [...new Set(heard)].sort(), heard.length > 4]).toEqual([[1, 2], [1, 2, 3, 4], true]);
});
