/* Whether a guard that is taken out is noticed by the check that its mark names. */
import { execFile } from 'node:child_process';
import { join } from 'node:path';
import process from 'node:process';
import { promisify } from 'node:util';
import { PROPERTIES } from '../all.js';
import { bundleWithout } from './bundle.js';
import { allMarks, type GuardMark, SOURCES } from './guards.js';

const run = promisify(execFile);
const ROOT = join(SOURCES, '..');
const MAX_OUTPUT_BYTES = 64 * 1024 * 1024;

/** Checks that draw: which property, on what. */
const DRAWN: Readonly<Record<string, readonly [property: string, on: string]>> = {
  agree: ['agree', 'postgres'],
  attack: ['attack', 'postgres'],
  mariadb: ['agree', 'mariadb'],
  queries: ['queries', 'postgres'],
  races: ['races', 'calm'],
  wall: ['wall', 'postgres'],
};

/** Checks that are tests: which files of `test/`. */
const TESTED: Readonly<Record<string, readonly string[]>> = {
  accounts: ['accounts', 'bound', 'enrolling'],
  arrival: ['admission', 'sign-on', 'saml', 'domains', 'scim'],
  looks: ['judged', 'trial', 'journal', 'asked', 'frameworks'],
  policies: ['through', 'policies'],
};

export const CHECKS: readonly string[] = [...Object.keys(DRAWN), ...Object.keys(TESTED)];

export interface Guard {
  readonly name: string;
  readonly check: string;
  /** What falls without it. */
  readonly sentence: string;
  readonly places: readonly GuardMark[];
}

/** Every guard with its places. @throws Error where a mark is wrong. */
export function allGuards(): Guard[] {
  const byName = new Map<string, GuardMark[]>();
  for (const mark of allMarks()) byName.set(mark.name, [...(byName.get(mark.name) ?? []), mark]);
  return [...byName].map(([name, marks]) => {
    const said = marks.flatMap(({ says }) => says ?? []);
    const [says] = said;
    if (!says || said.length > 1) throw new Error(`the guard ${name} has ${said.length} sentences; it needs one`);
    if (!CHECKS.includes(says.check)) throw new Error(`the guard ${name} names the check ${says.check}; there are ${CHECKS.join(', ')}`);
    return { name, ...says, places: marks };
  });
}

export interface Noticed {
  readonly isNoticed: boolean;
  /** What the check said. */
  readonly output: string;
}

async function output(args: readonly string[], env: NodeJS.ProcessEnv): Promise<{ readonly text: string; readonly code: number }> {
  const done = await run(process.execPath, args, { cwd: ROOT, env, maxBuffer: MAX_OUTPUT_BYTES }).then(
    ({ stdout, stderr }) => ({ text: stdout + stderr, code: 0 }),
    (error: { stdout?: string; stderr?: string; code?: unknown }) => ({ text: `${error.stdout ?? ''}${error.stderr ?? ''}`, code: Number(error.code ?? 1) }),
  );
  return done;
}

/** Runs the check of a guard over sources without it; without a guard, over the sources as they are. */
export async function tryWithout(
  check: string,
  guard: string | undefined,
  { seed, postgres }: { readonly seed: number; readonly postgres: string },
): Promise<Noticed> {
  const drawn = DRAWN[check];
  if (drawn) {
    const [property, on] = drawn;
    const cases = String(PROPERTIES[property]?.volume.guard);
    const args = [property, '--on', on, '--cases', cases, '--seed', String(seed), '--no-shrink', '--json', '--postgres', postgres];
    const { text, code } = await output(['--enable-source-maps', await bundleWithout(guard === undefined ? [] : [guard]), ...args], process.env);
    return { isNoticed: code === 1 && text.includes('"isWrong":true'), output: text };
  }
  const env = { ...process.env, LINTEL_WITHOUT: guard ?? '', LINTEL_POSTGRES: postgres, LINTEL_LONG: '', NO_COLOR: '1' };
  const files = (TESTED[check] as readonly string[]).map((name) => `test/${name}.test.ts`);
  const { text, code } = await output(['node_modules/vitest/vitest.mjs', 'run', '--config', 'test/planted.config.ts', ...files], env);
  return { isNoticed: code !== 0 && /Tests {2}\d+ failed/.test(text), output: text };
}
