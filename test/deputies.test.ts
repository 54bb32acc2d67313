/* Who stands in for another: what they reach meanwhile, what they do not, and that nobody comes to more by it. */
import fc from 'fast-check';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { club, code, whole } from './club.js';

let db: Awaited<ReturnType<typeof club>>['db'];
let enter: Awaited<ReturnType<typeof club>>['enter'];
const START = Date.UTC(2026, 3, 1);
const DAY = 86_400_000;
let now = START;
const day = (n: number) => new Date(START + n * DAY).toISOString();
const PEOPLE = ['ann', 'ben', 'cy'];
const ACTIONS = ['note.read', 'note.update', 'note.hand', 'note.approve'];
beforeAll(async () => {
  const made = await club({ clock: () => now });
  ({ db, enter } = made);
  await made.member('ann', 'writer');
  await made.member('ben', 'guest');
  await made.member('cy', 'chief');
  await (await enter('key')).carryOut([
    { do: 'add-unit', id: 'hall', name: 'Hall' },
    { do: 'add-unit', id: 'attic', name: 'Attic', below: 'hall' },
    { do: 'place', user: 'ann', units: ['hall'] },
    ...['ann', 'ben'].map((user) => ({
      do: 'set-permissions' as const,
      holder: { user },
      permissions: [
        { permission: 'deputy.name', reach: 'tenant', anchor: { on: 'tenant' } as const },
        { permission: 'note.approve', reach: 'own', anchor: { on: 'tenant' } as const },
      ],
    })),
  ]);
  const rows = [...PEOPLE, 'key', null].flatMap((owner_id) =>
    ['hall', 'attic', null].map((room_id) => ({
      id: `${owner_id} ${room_id}`,
      tenant_id: 'club',
      owner_id,
      room_id,
      made_by: room_id === 'attic' ? 'ben' : 'key',
      title: 'x',
    })),
  );
  await db.insertInto('notes').values(rows).execute();
});
afterAll(() => db.destroy());

const FIELDS = ['id', 'tenant_id as tenantId', 'owner_id as ownerId', 'made_by as madeBy', 'room_id as roomId', 'title'] as never[];
/** What somebody reaches by an action, in memory and by the database, which have to agree. */
async function reached(user: string, action: string): Promise<string[]> {
  const standing = await enter(user, { channel: 'desk' });
  const all: any[] = await db.selectFrom('notes').select(FIELDS).orderBy('id').execute();
  const found: any[] = await standing.find('note', { limit: 1000, order: 'id', may: [action] });
  const inDatabase = found.filter((one) => one.may.includes(action)).map((one) => one.id);
  expect(standing.keep(action, all).map((one: any) => one.id)).toEqual(inDatabase);
  for (const note of all) expect(standing.may(action, note)).toBe(inDatabase.includes(note.id));
  return inDatabase;
}

test('a deputy reaches what they reach themselves and what the other does, and no limit of either is passed', { timeout: 60_000 }, async () => {
  await fc.assert(
    fc.asyncProperty(fc.constantFrom('ann', 'cy'), fc.subarray(ACTIONS, { minLength: 1 }), async (of, permissions) => {
      const before = new Map<string, string[]>();
      for (const action of ACTIONS) for (const user of [of, 'ben']) before.set(`${user} ${action}`, await reached(user, action));
      await (await enter('key')).carryOut([{ do: 'name-deputy', of, to: 'ben', permissions, until: day(7) }]);
      const readable = new Set([...(before.get('ben note.read') ?? []), ...(permissions.includes('note.read') ? (before.get(`${of} note.read`) ?? []) : [])]);
      for (const action of ACTIONS) {
        const theirs = permissions.includes(action) ? (before.get(`${of} ${action}`) ?? []) : [];
        // What ben made, ben approves for nobody.
        const expected = [...new Set([...(before.get(`ben ${action}`) ?? []), ...theirs])].filter(
          (id) => readable.has(id) && !(action === 'note.approve' && id.endsWith('attic')),
        );
        expect([of, permissions, action, await reached('ben', action)]).toEqual([of, permissions, action, expected.sort()]);
      }
      await (await enter('ben')).carryOut([{ do: 'end-deputy', of, to: 'ben' }]);
      expect(await reached('ben', 'note.update')).toEqual(before.get('ben note.update'));
    }),
    { numRuns: 12 },
  );
});

test('it begins and ends by itself, ends with the other’s powers, and is on record', async () => {
  await (await enter('ann')).carryOut([{ do: 'name-deputy', of: 'ann', to: 'ben', permissions: ['note.read', 'note.update'], since: day(2), until: day(5) }]);
  const own = await reached('ben', 'note.update');
  now = START + 3 * DAY;
  expect((await reached('ben', 'note.update')).length).toBeGreaterThan(own.length);
  const { permissions, line } = (await enter('ben')).describe();
  expect([permissions.find((p) => p.permission === 'note.update')?.ways.map(({ path }) => path), line]).toEqual([
    [{ by: 'deputy', of: 'ann', name: 'ann' }],
    'Guest, and 3 more',
  ]);
  expect((await (await enter('key')).audit.heldThen('ben', new Date(START + 4 * DAY))).permissions.map((p) => p.permission)).toContain('note.update');
  // The owner stays the owner, and what is written through scope follows the same rule.
  const written = await (await enter('ben')).scope<any>().updateTable('notes').set({ title: 'by ben' }).where('owner_id', '=', 'ann').executeTakeFirst();
  expect([
    written.numUpdatedRows,
    (await db.selectFrom('notes').select('owner_id').where('title', '=', 'by ben').distinct().execute()).map((n) => n.owner_id),
  ]).toEqual([3n, ['ann']]);
  expect(await code((await enter('ben')).withPolicies(db as never, async () => undefined))).toBe('deputy-without-policies');
  expect(JSON.stringify((await enter('ben')).snapshot(60))).not.toContain('standsFor');
  await (await enter('key')).carryOut([{ do: 'suspend', user: 'ann' }]);
  expect(await reached('ben', 'note.update')).toEqual(own);
  await (await enter('key')).carryOut([{ do: 'restore', user: 'ann' }]);
  now = START + 5 * DAY;
  expect(await reached('ben', 'note.update')).toEqual(own);
  now = START;
});

test('nobody names themselves, or another for what is not theirs to give', async () => {
  const name = async (by: string, of: string, to: string, permissions = ['note.read'], until = day(9)) =>
    code((await enter(by)).carryOut([{ do: 'name-deputy', of, to, permissions, until }]));
  expect(await name('ann', 'cy', 'ann')).toBe('refused');
  expect(await name('cy', 'ann', 'cy')).toBe('done');
  await (await enter('key')).carryOut([{ do: 'set-roles', holder: { user: 'cy' }, roles: [] }]);
  await (await enter('key')).carryOut([
    {
      do: 'set-permissions',
      holder: { user: 'cy' },
      permissions: ['member.assign', 'note.read'].map((permission) => ({
        permission,
        reach: permission === 'note.read' ? 'own' : 'tenant',
        anchor: { on: 'tenant' } as const,
      })),
    },
    { do: 'end-deputy', of: 'ann', to: 'cy' },
  ]);
  // To read one's own is not to read ann's.
  expect([await name('cy', 'ann', 'cy'), await name('cy', 'ann', 'ben'), await name('cy', 'key', 'ben')]).toEqual([
    'own-power',
    'beyond-power',
    'beyond-power',
  ]);
  expect([await name('ann', 'ann', 'ann'), await name('ann', 'ann', 'nobody'), await name('ann', 'ann', 'ben', ['member.read'])]).toEqual([
    'bad-deputy',
    'not-found',
    'bad-deputy',
  ]);
  expect([await name('ann', 'ann', 'ben', ['note.read'], day(-1)), await name('ann', 'ann', 'ben', ['note.reed'])]).toEqual(['bad-end', 'unknown-action']);
  // What the other comes to hold later, the deputy does too: so nobody gives to the other what would come to themselves.
  await (await enter('key')).carryOut([{ do: 'set-roles', holder: { user: 'ben' }, roles: [whole('chief')] }]);
  await (await enter('ann')).carryOut([{ do: 'name-deputy', of: 'ann', to: 'ben', permissions: ['note.burn', 'note.read'], until: day(9) }]);
  expect(await code((await enter('ben')).carryOut([{ do: 'set-roles', holder: { user: 'ann' }, roles: [whole('writer'), whole('checker')] }]))).toBe('done');
  await (await enter('key')).carryOut([
    { do: 'set-roles', holder: { user: 'ben' }, roles: [{ role: 'chief', anchor: { on: 'tenant' }, without: ['note.read'] }] },
  ]);
  const give = async (role: string) => code((await enter('ben')).carryOut([{ do: 'set-roles', holder: { user: 'ann' }, roles: [whole(role)] }]));
  expect([await give('guest'), await give('checker')]).toEqual(['done', 'own-power']);
  // Removed with either, and a proposal shows it before.
  const { effects } = await (await enter('key')).propose([{ do: 'name-deputy', of: 'ann', to: 'cy', permissions: ['note.read'], until: day(9) }]);
  expect(effects).toMatchObject([
    { people: { some: [{ id: 'cy' }] }, permissions: [{ permission: 'note.read', was: ['own'], becomes: ['own', 'own of ann'] }] },
  ]);
  await (await enter('key')).carryOut([{ do: 'remove', user: 'ann' }]);
  expect(await db.selectFrom('lintel_deputy').select('of_id').where('of_id', '=', 'ann').execute()).toEqual([]);
});
