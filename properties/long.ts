/* The long run: `npm run test:long`, in parts with `-- --part 3/8`. It takes up where it was cut, and ends with one table of what ran. */
import { execFile, execFileSync } from 'node:child_process';
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import process from 'node:process';
import { promisify } from 'node:util';
import { Command, InvalidArgumentError } from '@commander-js/extra-typings';
import Table from 'cli-table3';
import { PROPERTIES } from './all.js';
import { bundleWithout } from './harness/bundle.js';
import { allGuards, tryWithout } from './harness/checks.js';
import { SOURCES } from './harness/guards.js';
import { Servers } from './harness/servers.js';

const run = promisify(execFile);
const ROOT = join(SOURCES, '..');
const STATE = join(ROOT, '.cache/long.json');
/** Cases of one job: what is lost when the run is cut. */
const CASES_A_JOB: Readonly<Record<string, number>> = { agree: 125, attack: 100, queries: 10_000, races: 250, wall: 500 };
const MAX_OUTPUT_BYTES = 256 * 1024 * 1024;

interface Result {
  readonly drawn: string;
  readonly found: string;
  readonly seconds: number;
}

interface Job {
  readonly name: string;
  run(seed: number, postgres: string): Promise<Omit<Result, 'seconds'>>;
}

interface State {
  /** What all seeds are made of. */
  readonly seed: number;
  readonly commit: string;
  readonly done: Record<string, Result>;
}

async function output(
  program: string,
  args: readonly string[],
  env: NodeJS.ProcessEnv = process.env,
): Promise<{ readonly text: string; readonly isRight: boolean }> {
  return run(program, args, { cwd: ROOT, env, maxBuffer: MAX_OUTPUT_BYTES }).then(
    ({ stdout, stderr }) => ({ text: stdout + stderr, isRight: true }),
    (error: { stdout?: string; stderr?: string }) => ({ text: `${error.stdout ?? ''}${error.stderr ?? ''}`, isRight: false }),
  );
}

function drawnJobs(): Job[] {
  return Object.values(PROPERTIES).flatMap(({ name, volume }) =>
    Object.entries(volume.long).flatMap(([on, cases]) => {
      const each = CASES_A_JOB[name] as number;
      return Array.from({ length: Math.ceil(cases / each) }, (_, i): Job => {
        const count = Math.min(each, cases - i * each);
        return {
          name: `${name} on ${on} ${i + 1}`,
          run: async (seed, postgres) => {
            const args = [name, '--on', on, '--cases', String(count), '--seed', String(seed), '--json', '--postgres', postgres];
            const { text, isRight } = await output(process.execPath, [await bundleWithout([]), ...args]);
            const report = text.split('\n').findLast((line) => line.startsWith('{"property"'));
            const tally = report ? Object.entries(JSON.parse(report).tally).map(([what, n]) => `${n} ${what}`) : [];
            return { drawn: `${count} cases, seed ${seed}: ${tally.join(', ')}`, found: isRight ? '' : text.slice(-4000) };
          },
        };
      });
    }),
  );
}

const guardJobs = (): Job[] =>
  allGuards().map(({ name, check }) => ({
    name: `without ${name}`,
    run: async (seed, postgres) => {
      const { isNoticed, output: text } = await tryWithout(check, name, { seed, postgres });
      return { drawn: `by ${check}, seed ${seed}`, found: isNoticed ? '' : `nothing notices that ${name} is gone\n${text.slice(-1000)}` };
    },
  }));

/** Files with tests of the long run, or that draw more in it. */
const testJobs = (): Job[] =>
  readdirSync(join(ROOT, 'test'))
    .filter((file) => file.endsWith('.long.test.ts') || (file.endsWith('.test.ts') && readFileSync(join(ROOT, 'test', file), 'utf8').includes("'./long.js'")))
    .map((file) => ({
      name: `test/${file}`,
      run: async (seed) => {
        const env = { ...process.env, LINTEL_LONG: '1', LINTEL_SEED: String(seed), NO_COLOR: '1' };
        const { text, isRight } = await output(
          process.execPath,
          ['node_modules/vitest/vitest.mjs', 'run', '--config', 'test/vitest.config.ts', `test/${file}`],
          env,
        );
        const [, counted = 'no test'] = /Tests {2}(.*)/.exec(text) ?? [];
        return { drawn: `${counted}, seed ${seed}`, found: isRight ? '' : text.slice(-4000) };
      },
    }));

const TABLES = ['', 'rules', 'lending-rules', 'apiary', 'choir', 'house', 'club', 'garden'];

/** Faults in whole applications, each of which the probe has to find. */
const probedJobs = (): Job[] =>
  TABLES.map((table) => ({
    name: `probed ${table || 'lending'}`,
    run: async () => {
      const { text, isRight } = await output('npm', ['run', '--silent', 'properties', '--', 'probed', ...(table === '' ? ['lending'] : [table])]);
      const found = text.split('\n').findLast((line) => / of \d+ found/.test(line)) ?? '';
      return { drawn: found, found: isRight && found !== '' ? '' : text.slice(-4000) };
    },
  }));

function part(text: string): readonly [number, number] {
  const [, one, of] = /^(\d+)\/(\d+)$/.exec(text) ?? [];
  if (one === undefined || Number(one) < 1 || Number(one) > Number(of)) throw new InvalidArgumentError('write which of how many: 3/8.');
  return [Number(one), Number(of)];
}

function stateOf(isAnew: boolean, given: number | undefined): State {
  const commit = execFileSync('git', ['rev-parse', 'HEAD'], { cwd: ROOT, encoding: 'utf8' }).trim();
  const fresh = { seed: given ?? Date.now() % 1_000_000, commit, done: {} };
  if (isAnew || given !== undefined) return fresh;
  try {
    return JSON.parse(readFileSync(STATE, 'utf8')) as State;
  } catch {
    return fresh;
  }
}

const {
  part: [one, of] = [1, 1],
  anew,
  seed,
  only,
} = new Command('test:long')
  .description('Runs all that is drawn in volume, every guard, and the tests that take long.')
  .option('--part <part>', 'one of several parts: 3/8', part)
  .option('--anew', 'begin again, and not where the run was cut')
  .option('--seed <number>', 'what all is drawn from; begins again', Number)
  .option('--only <text>', 'jobs whose name contains this')
  .parse()
  .opts();

const all = [...drawnJobs(), ...guardJobs(), ...testJobs(), ...probedJobs()];
const wanted = all.filter(({ name }, i) => i % of === one - 1 && (only === undefined || name.includes(only)));
const state = stateOf(anew === true, seed);
console.log(`${wanted.length} of ${all.length} jobs, seed ${state.seed}, begun at ${state.commit.slice(0, 7)}`);
const servers = new Servers();
const postgres = await servers.postgres();
for (const job of wanted) {
  if (state.done[job.name]?.found === '') continue;
  const began = Date.now();
  const result = await job.run(state.seed + all.indexOf(job), postgres);
  state.done[job.name] = { ...result, seconds: Math.round((Date.now() - began) / 1000) };
  mkdirSync(join(ROOT, '.cache'), { recursive: true });
  writeFileSync(STATE, JSON.stringify(state));
  console.log(`${result.found === '' ? 'ok    ' : 'WRONG '} ${job.name}, ${state.done[job.name]?.seconds} s: ${result.drawn}`);
  if (result.found !== '') console.log(result.found);
}
await servers.stop();

const table = new Table({ head: ['what', 'ran', 'wrong', 'seconds', 'drawn'], style: { head: [], border: [] } });
const sorts = new Map<string, string[]>();
for (const { name } of all) {
  const sort = name.startsWith('without') ? 'guards taken out' : name.startsWith('test/') ? 'tests' : name.replace(/ \d+$/, '');
  sorts.set(sort, [...(sorts.get(sort) ?? []), name]);
}
for (const [sort, names] of sorts) {
  const results = names.flatMap((name) => state.done[name] ?? []);
  const wrong = results.filter(({ found }) => found !== '').length;
  const seconds = results.reduce((sum, result) => sum + result.seconds, 0);
  table.push([sort, `${results.length} of ${names.length}`, wrong, seconds, results.length === 1 ? (results[0] as Result).drawn : '']);
}
console.log(table.toString());
process.exit(wanted.some(({ name }) => state.done[name]?.found !== '') ? 1 : 0);
