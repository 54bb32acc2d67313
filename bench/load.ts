/* Two servers under load, each in a process of its own, in turns. */
import { type ChildProcess, fork } from 'node:child_process';
import { once } from 'node:events';
import autocannon from 'autocannon';
import type { Kysely } from 'kysely';
import type { Result } from './measure.js';
import { asked, makeSessions, SESSIONS } from './routes.js';

const CONNECTIONS = 200;
/** Each is under load for three times this, in seconds. */
const ROUND_S = 10;
const ROUNDS = 3;

interface Server {
  readonly process: ChildProcess;
  readonly port: number;
}

async function start(which: 'guarded' | 'hand', url: string): Promise<Server> {
  const process = fork(new URL('serve.ts', import.meta.url), [which, url], {
    execArgv: ['--expose-gc', '--import', 'tsx'],
    stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
  });
  const [{ port }] = (await once(process, 'message')) as [{ port: number }];
  return { process, port };
}

async function heapOf({ process }: Server): Promise<number> {
  process.send('heap');
  const [{ heap }] = (await once(process, 'message')) as [{ heap: number }];
  return heap;
}

const requests = Array.from({ length: 1000 }, (_, i) => {
  const { path, cookie } = asked((i * 7919) % SESSIONS);
  return { method: 'GET' as const, path, headers: { cookie } };
});

async function round({ port }: Server, seconds: number): Promise<autocannon.Result> {
  const result = await autocannon({ url: `http://127.0.0.1:${port}`, connections: CONNECTIONS, duration: seconds, requests });
  if (result.non2xx + result.errors + result.timeouts > 0) throw new Error(`${result.non2xx} refused, ${result.errors} errors, ${result.timeouts} not in time`);
  return result;
}

const middle = (all: readonly number[]) => [...all].sort((a, b) => a - b)[all.length >> 1] as number;

export async function underLoad(db: Kysely<any>, url: string): Promise<Result[]> {
  await makeSessions(db);
  const servers = [await start('guarded', url), await start('hand', url)] as const;
  try {
    // What is compiled as it runs is, and what is kept for the next is there, before it is looked at.
    for (const server of servers) await round(server, ROUND_S);
    const before = await heapOf(servers[0]);
    const results: [autocannon.Result[], autocannon.Result[]] = [[], []];
    for (let i = 0; i < ROUNDS; i++)
      for (const which of i % 2 === 0 ? ([0, 1] as const) : ([1, 0] as const)) results[which].push(await round(servers[which], ROUND_S));
    const after = await heapOf(servers[0]);
    const line = (name: string, unit: string, bound: number, ours: number, baseline: number, note: string): Result => ({
      name,
      unit,
      ours,
      baseline,
      ratio: ours / baseline,
      bound,
      note,
    });
    const [ours, hand] = results;
    const rate = (all: autocannon.Result[]) => middle(all.map(({ requests }) => 1e6 / requests.average));
    const slowest = (all: autocannon.Result[]) => middle(all.map(({ latency }) => latency.p99 * 1000));
    const what = `${CONNECTIONS} connections for ${ROUNDS * ROUND_S} s in turns to a guarded route that loads its record, against the same Hono route by hand, each in a process of its own; no error`;
    return [
      line('load', 'µs', 1.25, rate(ours), rate(hand), `time by request (0.8 of its requests a second): ${what}`),
      line('load-slowest', 'µs', 1.5, slowest(ours), slowest(hand), `the slowest hundredth: ${what}`),
      line(
        'load-memory',
        'MB',
        1.2,
        after / 2 ** 20,
        before / 2 ** 20,
        'the heap of the guarded server after its garbage was collected, after the load against before',
      ),
    ].map((one) => ({ ...one, ours: Number(one.ours.toPrecision(4)), baseline: Number(one.baseline.toPrecision(4)) }));
  } finally {
    for (const { process } of servers) process.kill();
  }
}
