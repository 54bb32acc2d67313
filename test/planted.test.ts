/*
 * Errors that are planted in a copy of the sources: the comparison of engines, the attacks on the membership and on the wall, pairs at once, or the
 * queries of all shapes have to find each of them.
 */
import { execFile } from 'node:child_process';
import { cpSync, mkdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { ACCOUNT_GUARDS } from './account-guards.js';
import { AGREE_GUARDS, MARIADB_GUARDS } from './agree-guards.js';
import { ARRIVAL_GUARDS } from './arrival-guards.js';
import { ATTACK_GUARDS } from './attack-guards.js';
import { LOOK_GUARDS } from './look-guards.js';
import { RACES_GUARDS } from './races-guards.js';
import { type Planted, SCOPE_GUARDS } from './scope-guards.js';
import { WALL_GUARDS, WALLED_GUARDS } from './wall-guards.js';

const run = promisify(execFile);
const root = new URL('..', import.meta.url).pathname;
const cache = join(root, '.cache', 'planted');

let url = '';
beforeAll(() => {
  url = inject('postgres');
  rmSync(cache, { recursive: true, force: true });
});
afterAll(() => rmSync(cache, { recursive: true, force: true }));

/** What a guard would change: files with their text as it is and as it would be. */
function* changesOf([what, ...edits]: Planted): Generator<readonly [file: string, text: string]> {
  const texts = new Map<string, string>();
  for (let i = 0; i < edits.length; i += 3) {
    const [file, from, to] = edits.slice(i, i + 3) as [string, string, string];
    const source = texts.get(file) ?? readFileSync(join(root, 'src', file), 'utf8');
    if (source.split(from).length !== 2) throw new Error(`${what}: the text to be changed is not in ${file} once`);
    texts.set(
      file,
      source.replace(from, () => to),
    );
  }
  yield* texts;
}

test('every guard still stands where it would be taken out', () => {
  for (const guard of [
    ACCOUNT_GUARDS,
    ARRIVAL_GUARDS,
    LOOK_GUARDS,
    AGREE_GUARDS,
    MARIADB_GUARDS,
    ATTACK_GUARDS,
    RACES_GUARDS,
    SCOPE_GUARDS,
    WALL_GUARDS,
    WALLED_GUARDS,
  ].flat())
    expect([...changesOf(guard)]).not.toEqual([]);
});

/** Runs a program on a copy of the sources with one thing changed; answers what it prints. */
async function runWith(guard: Planted, program: readonly string[]): Promise<string> {
  const copy = join(cache, guard[0].replaceAll(' ', '-'));
  rmSync(copy, { recursive: true, force: true });
  mkdirSync(copy, { recursive: true });
  for (const part of [
    'src',
    'agree',
    'attack',
    'queries',
    'wall',
    'races',
    'package.json',
    'tsconfig.json',
    'test/setup.ts',
    'test/mariadb.ts',
    'test/run-options.ts',
    'test/chromium.ts',
  ])
    cpSync(join(root, part), join(copy, part), { recursive: true });
  symlinkSync(join(root, 'node_modules'), join(copy, 'node_modules'));
  for (const [file, text] of changesOf(guard)) writeFileSync(join(copy, 'src', file), text);
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

test.concurrent.for(long ? MARIADB_GUARDS : [])('%s: found', { timeout: 1_000_000 }, async (one, { expect: expectHere }) => {
  const printed = await runWith(one, ['agree/run.ts', '--cases', '600', '--seed', '6', '--as-found', '--mariadb']);
  expectHere(printed).toContain('a disagreement within');
});

/** In the long run each guard is taken out at three numbers that are drawn then. */
const seeds = long ? Array.from({ length: 3 }, () => Math.floor(Math.random() * 1_000_000_000)) : [1];
if (long) console.log(`guards are taken out from ${seeds.join(', ')} on`);

const holes = long ? ATTACK_GUARDS : ATTACK_GUARDS.slice(0, 1);
test.concurrent.for(holes)('%s: found', { timeout: 1_000_000 }, async (one, { expect: expectHere }) => {
  for (const seed of seeds)
    expectHere({ seed, printed: await runWith(one, ['attack/run.ts', '--runs', '300', '--seed', String(seed), '--as-found']) }).toMatchObject({
      printed: expect.stringMatching(/ (came to (?!more:)|hold together)/),
    });
});

const locks = long ? RACES_GUARDS : [];
test.concurrent.for(locks)('%s: found by two at once', { timeout: 1_000_000 }, async (one, { expect: expectHere }) => {
  const seed = String(Math.floor(Math.random() * 1_000_000_000));
  expectHere(await runWith(one, ['races/run.ts', '--pairs', '2400', '--seed', seed])).toMatch(/there (is|are) |was shown/);
});

const guards = long ? SCOPE_GUARDS : SCOPE_GUARDS.slice(0, 1);
test.concurrent.for(guards)('%s: told by queries', { timeout: 900_000 }, async (one, { expect: expectHere }) => {
  for (const seed of seeds)
    expectHere({ seed, printed: await runWith(one, ['queries/run.ts', '--count', '2000', '--seed', String(seed)]) }).toMatchObject({
      printed: expect.stringContaining('told something'),
    });
});

const OF_ACCOUNTS = ['accounts', 'bound', 'enrolling'];
const OF_ARRIVING = ['admission', 'sign-on', 'saml', 'domains', 'scim'];
const OF_THE_WALL = ['through', 'policies'];
const OF_LOOKING = ['judged', 'trial', 'journal', 'asked', 'frameworks'];

/** Tests with one thing changed in the sources; answers what they print. */
async function testsWith(guard: Planted, tests: readonly string[], only: readonly string[] = []): Promise<string> {
  const env = {
    ...process.env,
    LINTEL_PLANTED: JSON.stringify(Object.fromEntries(changesOf(guard))),
    LINTEL_POSTGRES: url,
    NO_COLOR: '1',
    LINTEL_LONG: '',
    LINTEL_CASES: long ? '8000' : '1000',
  };
  const args = ['node_modules/vitest/vitest.mjs', 'run', '--config', 'test/planted.config.ts', ...tests.map((name) => `test/${name}.test.ts`), ...only];
  const done = await run(process.execPath, args, { cwd: root, env, timeout: 1_000_000 }).catch((error: { stdout?: string; stderr?: string }) => error);
  return `${done.stdout ?? ''}${done.stderr ?? ''}`;
}

test.runIf(long).for([OF_ACCOUNTS, OF_ARRIVING, OF_LOOKING, OF_THE_WALL])(
  'with nothing changed no test of %s notices anything',
  { timeout: 1_000_000 },
  async (tests) => {
    expect(await testsWith(['nothing'], tests)).toMatch(/Tests {2}\d+ passed/);
  },
);
/** In the long run each guard against all these tests; else the first of each list against the one that has to notice it. */
const noticed = [
  [ACCOUNT_GUARDS, OF_ACCOUNTS, 'accounts', 'cannot tell whether there is an account'],
  [LOOK_GUARDS, OF_LOOKING, 'judged', 'in a look every decision'],
  [WALLED_GUARDS, OF_THE_WALL, 'through', 'under the row policies'],
  [ARRIVAL_GUARDS, OF_ARRIVING, 'admission', 'nothing that arrives gives full control'],
] as const;
const each = noticed.flatMap(([guards, tests, one, name]) =>
  guards.slice(0, long ? undefined : 1).map((guard) => [guard[0], guard, long ? tests : [one], long ? [] : ['-t', name]] as const),
);
test.concurrent.for(each)('%s: noticed by a test', { timeout: 1_000_000 }, async ([, guard, tests, only], { expect: expectHere }) => {
  expectHere(await testsWith(guard, tests, only)).toMatch(/Tests {2}\d+ failed/);
});

const walls = long ? WALL_GUARDS : WALL_GUARDS.slice(0, 1);
test.concurrent.for(walls)('%s: told by the attack on the wall', { timeout: 900_000 }, async (one, { expect: expectHere }) => {
  for (const seed of seeds)
    expectHere({ seed, printed: await runWith(one, ['wall/run.ts', '--rounds', '400', '--seed', String(seed)]) }).toMatchObject({
      printed: expect.stringContaining('told something'),
    });
});
