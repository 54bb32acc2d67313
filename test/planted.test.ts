/*
 * Errors that are planted in a copy of the sources: the comparison of engines, the attacks on the membership and on the wall, pairs at once, or the
 * queries of all shapes have to find each of them.
 */
import { execFile } from 'node:child_process';
import { cpSync, mkdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { AGREE_GUARDS } from './agree-guards.js';
import { ATTACK_GUARDS } from './attack-guards.js';
import { RACES_GUARDS } from './races-guards.js';
import { type Planted, SCOPE_GUARDS } from './scope-guards.js';
import { WALL_GUARDS } from './wall-guards.js';

const run = promisify(execFile);
const root = new URL('..', import.meta.url).pathname;
const cache = join(root, '.cache', 'planted');

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
    'test/run-options.ts',
    'test/chromium.ts',
  ])
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

const holes = long ? ATTACK_GUARDS : ATTACK_GUARDS.slice(0, 1);
test.concurrent.for(holes)('%s: found', { timeout: 1_000_000 }, async (one, { expect: expectHere }) => {
  expectHere(await runWith(one, ['attack/run.ts', '--runs', '2000', '--seed', '8', '--as-found'])).toMatch(/ (came to (?!more:)|hold together)/);
});

const locks = long ? RACES_GUARDS : [];
test.concurrent.for(locks)('%s: found by two at once', { timeout: 1_000_000 }, async (one, { expect: expectHere }) => {
  const seed = String(Math.floor(Math.random() * 1_000_000_000));
  expectHere(await runWith(one, ['races/run.ts', '--pairs', '2400', '--seed', seed])).toMatch(/there (is|are) |was shown/);
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
