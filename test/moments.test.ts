/* What somebody holds is a function of time: a change is judged at every moment at which something begins or ends, and an end is part of a power. */
import { afterAll, beforeAll, expect, test } from 'vitest';
import { club, code, whole } from './club.js';

let db: Awaited<ReturnType<typeof club>>['db'];
let lintel: Awaited<ReturnType<typeof club>>['lintel'];
let enter: Awaited<ReturnType<typeof club>>['enter'];
const START = Date.UTC(2026, 3, 1);
const DAY = 86_400_000;
const now = START;
const day = (n: number) => new Date(START + n * DAY).toISOString();
const FRIDAY = day(3);
const tenant = { on: 'tenant' } as const;
const read = { permission: 'note.read', reach: 'tenant', anchor: tenant };

beforeAll(async () => {
  const made = await club({ clock: () => now });
  ({ db, lintel, enter } = made);
  for (const [name, ...roles] of [['ann'], ['ben', 'guest'], ['cy'], ['dee']] as const) await made.member(name, ...roles);
  await (await enter('key')).carryOut([
    // Somebody who may give and holds a little until Friday; a group that holds something until Friday.
    {
      do: 'set-permissions',
      holder: { user: 'ann' },
      permissions: ['member.assign', 'member.invite', 'member.read', 'program.arrange']
        .map((permission) => ({ permission, reach: 'tenant', anchor: tenant }))
        .concat([{ ...read, until: FRIDAY } as never]),
    },
    { do: 'make-group', id: 'crew', name: 'Crew', people: ['ann'] },
    { do: 'set-permissions', holder: { group: 'crew' }, permissions: [{ permission: 'note.update', reach: 'tenant', anchor: tenant, until: FRIDAY }] },
    { do: 'make-program', id: 'bot', name: 'Bot', responsible: 'key' },
    { do: 'set-permissions', holder: { user: 'bot' }, permissions: [read] },
    { do: 'set-roles', holder: { user: 'dee' }, roles: [whole('checker')] },
  ]);
});
afterAll(() => db.destroy());

const carry = async (user: string, ...steps: readonly object[]) => code((await enter(user)).carryOut(steps as never));

test('nobody is made a deputy for later of what could not be given now, and the proposal says from when on', async () => {
  const step = { do: 'name-deputy', of: 'key', to: 'cy', permissions: ['note.update', 'note.hand'], since: day(1), until: day(9) } as const;
  expect(await carry('ann', step)).toBe('beyond-power');
  const looked = await (await enter('key')).propose([step]);
  expect(looked.problems).toEqual([]);
  expect(looked.effects.map(({ from, until, people }) => ({ from, until, who: people.some.map(({ id }) => id) }))).toEqual([
    { from: day(1), until: day(9), who: ['cy'] },
  ]);
});

test('what is held until a moment is given until then at most, by whatever way', async () => {
  const own = [{ ...read, until: FRIDAY }];
  const rest = ['member.assign', 'member.invite', 'member.read', 'program.arrange'].map((permission) => ({ permission, reach: 'tenant', anchor: tenant }));
  // Sent again without its end, of one's own and of one's group's; copied into a direct one; prolonged.
  expect(await carry('ann', { do: 'set-permissions', holder: { user: 'ann' }, permissions: [...rest, read] })).toBe('own-power');
  expect(
    await carry('ann', { do: 'set-permissions', holder: { group: 'crew' }, permissions: [{ permission: 'note.update', reach: 'tenant', anchor: tenant }] }),
  ).toBe('own-power');
  expect(
    await carry('ann', {
      do: 'set-permissions',
      holder: { user: 'ann' },
      permissions: [...rest, ...own, { permission: 'note.update', reach: 'tenant', anchor: tenant }],
    }),
  ).toBe('own-power');
  // To others alike.
  const toCy = (until?: string) => ({ do: 'set-permissions', holder: { user: 'cy' }, permissions: [{ ...read, ...(until !== undefined && { until }) }] });
  expect(await carry('ann', toCy())).toBe('beyond-power');
  expect(await carry('ann', toCy(day(4)))).toBe('beyond-power');
  expect(await carry('ann', toCy(FRIDAY))).toBe('done');
  // A program that can do it for good is used until then only.
  expect(await carry('ann', { do: 'make-key', program: 'bot' })).toBe('beyond-power');
  expect(await carry('ann', { do: 'make-key', program: 'bot', ends: FRIDAY })).toBe('done');
});

test('a role that is held until a moment is given and invited with until then; whoever may only give it is told until when', async () => {
  await (await enter('key')).carryOut([{ do: 'set-roles', holder: { user: 'ben' }, roles: [{ ...whole('chief'), until: FRIDAY }] }]);
  expect(await (await enter('ben')).members.rolesToGive(tenant)).toContainEqual(expect.objectContaining({ role: 'chief', until: FRIDAY }));
  expect(await carry('ben', { do: 'set-roles', holder: { user: 'cy' }, roles: [whole('chief')] })).toBe('beyond-power');
  expect(await carry('ben', { do: 'set-roles', holder: { user: 'cy' }, roles: [{ ...whole('chief'), until: day(2) }] })).toBe('done');
  await expect((await enter('ben')).carryOut([{ do: 'invite', address: 'eve@club.example', roles: [whole('chief')] }])).rejects.toThrow(/ends at 2026-04-04/);
  expect(await carry('ben', { do: 'invite', address: 'eve@club.example', roles: [whole('chief')], memberUntil: FRIDAY })).toBe('done');
});

test('whoever is suspended holds all the same, so that what is to be apart is apart when they are back', async () => {
  expect(
    await carry('key', { do: 'suspend', user: 'dee', until: day(1) }, { do: 'set-roles', holder: { user: 'dee' }, roles: [whole('checker'), whole('clerk')] }),
  ).toBe('apart');
});

test('somebody holds full control, who is a person and whose control and membership do not end', async () => {
  const ending = { role: 'keyholder', anchor: tenant, until: FRIDAY };
  expect(await carry('key', { do: 'set-roles', holder: { user: 'cy' }, roles: [ending] })).toBe('keyholder-ends');
  expect(await carry('key', { do: 'set-roles', holder: { user: 'cy' }, roles: [whole('keyholder')] }, { do: 'set-end', user: 'cy', at: FRIDAY })).toBe(
    'keyholder-ends',
  );
  // Nor comes somebody to it whose membership ends.
  expect(
    await carry('key', { do: 'set-end', user: 'cy', at: FRIDAY }, { do: 'set-roles', holder: { user: 'cy' }, roles: [whole('keyholder')] }, { do: 'leave' }),
  ).toBe('last-keyholder');
  expect(await carry('key', { do: 'set-roles', holder: { user: 'bot' }, roles: [whole('keyholder')] })).toBe('keyholder-alone');
  expect(await code(lintel.erasePerson('key'))).toBe('last-keyholder');
  const dropped = { do: 'drop-role', id: 'own-x', instead: 'keyholder' };
  const made = [
    { do: 'make-role', id: 'own-x', role: { label: 'X' } },
    { do: 'set-roles', holder: { group: 'crew' }, roles: [whole('own-x')] },
  ];
  expect(await carry('key', ...made, dropped)).toBe('keyholder-alone');
  expect((await enter('key')).isKeyholder).toBe(true);
});
