/*
 * Errors that are planted in a copy of the sources: the comparison of engines, the attacks on the membership and on the wall, or the
 * queries of all shapes have to find each of them.
 */
import { execFile } from 'node:child_process';
import { cpSync, mkdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { AGREE_GUARDS } from './agree-guards.js';
import { type Planted, SCOPE_GUARDS } from './scope-guards.js';
import { WALL_GUARDS } from './wall-guards.js';

const run = promisify(execFile);
const root = new URL('..', import.meta.url).pathname;
const cache = join(root, '.cache', 'planted');

/** Holes by which members would come to more than they were given. */
const HOLES: readonly Planted[] = [
  ['who is put into a group is not looked at', 'membership/steps/groups.ts', '({ groups: [id], users: people, opened: [id] })', '({})'],
];
const FURTHER_HOLES: readonly Planted[] = [
  [
    'a role is edited by whoever may arrange roles',
    'membership/steps/roles.ts',
    'touches: ({ id }) => ({ roles: [id] }),\n    run: async (change, { id, role })',
    'touches: () => ({}),\n    run: async (change, { id, role })',
    'membership/steps/roles.ts',
    '  insistOnContents(change, roles, id, before);\n',
    '',
  ],
  ['who lies below a unit that moves is not looked at', 'membership/steps/units.ts', '({ units: [id], above: below === null ? [] : [below] })', '({})'],
  [
    'a key is made by whoever may give what the program holds',
    'membership/held/power.ts',
    "    edited !== 'all' &&\n    !gain.named &&\n    path.by === 'role' &&\n    !edited.has(path.role) &&\n    !path.included.some((role) => edited.has(role)) &&\n",
    "    path.by === 'role' &&\n",
  ],
  [
    'who stands in for others is not looked at',
    'membership/held/power.ts',
    '[...ownGains(before, after), ...gainsInPlace(before, after)]',
    'ownGains(before, after)',
  ],
  ['whoever chooses the base is not looked at', 'membership/coming/joining.ts', '(bases ? { everybody: true } : {})', '({})'],
  ['an opening counts as held', 'membership/held/power.ts', 'if (grant.only) return b.only !== undefined &&', 'if (grant.only) return true ||'],
  ['units that come to lie within a reach are forgotten', 'membership/held/power.ts', 'units: on.units ? units : []', 'units: []'],
  [
    'whoever comes back is not looked at',
    'membership/coming/accepting.ts',
    "!inviter.may('member.invite') || !roles.every((role) => mayGive(inviter, role))",
    "!inviter.may('member.invite')",
    'membership/coming/invitations.ts',
    '  insistOnGiving(change.actor, input.roles);\n',
    '',
  ],
];

let url = '';
beforeAll(() => {
  url = inject('postgres');
  rmSync(cache, { recursive: true, force: true });
});
afterAll(() => rmSync(cache, { recursive: true, force: true }));

/** Runs a program on a copy of the sources with one thing changed; answers what it prints. */
async function runWith([what, ...edits]: Planted, program: readonly string[]): Promise<string> {
  const copy = join(cache, what.replaceAll(' ', '-'));
  rmSync(copy, { recursive: true, force: true });
  mkdirSync(copy, { recursive: true });
  for (const part of ['src', 'agree', 'attack', 'queries', 'wall', 'package.json', 'tsconfig.json', 'test/setup.ts', 'test/run-options.ts', 'test/chromium.ts'])
    cpSync(join(root, part), join(copy, part), { recursive: true });
  symlinkSync(join(root, 'node_modules'), join(copy, 'node_modules'));
  for (let i = 0; i < edits.length; i += 3) {
    const [file, from, to] = edits.slice(i, i + 3) as [string, string, string];
    const place = join(copy, 'src', file);
    const source = readFileSync(place, 'utf8');
    if (source.split(from).length !== 2) throw new Error(`${what}: the text to be changed is not in ${file} once`);
    writeFileSync(
      place,
      source.replace(from, () => to),
    );
  }
  const args = ['--conditions=warm-lintel-source', '--import', 'tsx', ...program, '--postgres', url];
  const done = await run(process.execPath, args, { cwd: copy, timeout: 1_000_000 }).catch((error: { stdout?: string; stderr?: string }) => error);
  return `${done.stdout ?? ''}${done.stderr ?? ''}`;
}

const long = process.env.LINTEL_LONG !== undefined;
const planted = long ? AGREE_GUARDS : AGREE_GUARDS.slice(0, 1);
test.concurrent.for(planted)('%s: found', { timeout: 1_000_000 }, async (one, { expect: expectHere }) => {
  const printed = await runWith(one, ['agree/run.ts', '--cases', '600', '--seed', '6', '--as-found']);
  expectHere(printed).toContain('a disagreement within');
});

const holes = long ? [...HOLES, ...FURTHER_HOLES] : HOLES;
test.concurrent.for(holes)('%s: found', { timeout: 1_000_000 }, async (one, { expect: expectHere }) => {
  expectHere(await runWith(one, ['attack/run.ts', '--runs', '2000', '--seed', '8', '--as-found'])).toMatch(/came to /);
});

/** In the long run each guard is taken out at three numbers that are drawn then. */
const seeds = long ? Array.from({ length: 3 }, () => Math.floor(Math.random() * 1_000_000_000)) : [1];
const guards = long ? SCOPE_GUARDS : SCOPE_GUARDS.slice(0, 1);
if (long) console.log(`queries from ${seeds.join(', ')} on`);
test.concurrent.for(guards)('%s: told by queries', { timeout: 900_000 }, async (one, { expect: expectHere }) => {
  for (const seed of seeds)
    expectHere({ seed, printed: await runWith(one, ['queries/run.ts', '--count', '2000', '--seed', String(seed)]) }).toMatchObject({
      printed: expect.stringContaining('told something'),
    });
});

const walls = long ? WALL_GUARDS : WALL_GUARDS.slice(0, 1);
test.concurrent.for(walls)('%s: told by the attack on the wall', { timeout: 900_000 }, async (one, { expect: expectHere }) => {
  for (const seed of seeds)
    expectHere({ seed, printed: await runWith(one, ['wall/run.ts', '--rounds', '400', '--seed', String(seed)]) }).toMatchObject({
      printed: expect.stringContaining('told something'),
    });
});
