import { parseArgs } from 'node:util';
import { startPostgres } from './setup.js';

/**
 * What a generator is started with: how many times (by a name of its own), from which number on, and on which server; without one, on a server of its own.
 * What is wrong is said, and ends the program.
 */
export async function runOptions<T extends string, F extends string = never>(program: string, times: T, usual: number, flags: readonly F[] = []) {
  const { values } = parseArgs({
    options: {
      [times]: { type: 'string', default: String(usual) },
      seed: { type: 'string', default: String(Date.now() % 1_000_000_000) },
      /** A server to do it on, in databases of its own there. */
      postgres: { type: 'string' },
      ...Object.fromEntries(flags.map((flag) => [flag, { type: 'boolean', default: false } as const])),
    },
  });
  const given = values as Record<string, string | boolean | undefined>;
  const [count, seed] = [Number(given[times]), Number(given.seed)];
  if (!Number.isInteger(count) || count < 1 || !Number.isInteger(seed)) {
    console.error(`--${times} and --seed are whole numbers: npm run ${program} -- --${times} ${usual} --seed 7`);
    process.exit(2);
  }
  const cluster = given.postgres === undefined ? await startPostgres() : undefined;
  return {
    count,
    seed,
    server: cluster?.url ?? (given.postgres as string),
    isGiven: cluster === undefined,
    has: (flag: F) => given[flag] === true,
    stop: async () => cluster?.stop(),
  };
}
