/* Asks queries of all shapes of two databases that differ in what is hidden: `npm run queries -- --count 100000 --seed 7`. */
import { parseArgs } from 'node:util';
import { startPostgres } from '../test/setup.js';
import { type EngineName, openPair } from './engines.js';
import { closeWorlds, compare } from './queries.js';

const { values } = parseArgs({
  options: {
    count: { type: 'string', default: '1000' },
    seed: { type: 'string', default: String(Date.now() % 1_000_000_000) },
    engine: { type: 'string', multiple: true, default: ['postgres'] },
    /** A server to do it on, in databases of its own there. */
    postgres: { type: 'string' },
  },
});
const [count, seed] = [Number(values.count), Number(values.seed)];
if (!Number.isInteger(count) || count < 1 || !Number.isInteger(seed)) {
  console.error('--count and --seed are whole numbers: npm run queries -- --count 1000 --seed 7');
  process.exit(2);
}
const cluster = values.postgres === undefined ? await startPostgres() : undefined;
const server = cluster?.url ?? (values.postgres as string);
let failed = false;
for (const engine of values.engine as EngineName[]) {
  const pair = await openPair(engine, server);
  const { tally, told } = await compare(pair, seed, count, (done) => {
    if (done % 5000 === 0) console.error(`  ${done} queries`);
  });
  console.log(told === undefined ? `${pair.name}: ${count} queries from number ${seed} on told nothing: ${JSON.stringify(tally)}` : `told something: ${told}`);
  failed ||= told !== undefined;
  await closeWorlds(pair);
}
await cluster?.stop();
process.exit(failed ? 1 : 0);
