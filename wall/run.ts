/* Attacks the row policies from inside a connection: `npm run wall -- --rounds 10000 --seed 7`. */
import { parseArgs } from 'node:util';
import { startPostgres } from '../test/setup.js';
import { playRaces } from './races.js';
import { playRounds } from './wall.js';
import { makeWorld } from './world.js';

const { values } = parseArgs({
  options: {
    rounds: { type: 'string', default: '500' },
    seed: { type: 'string', default: String(Date.now() % 1_000_000_000) },
    /** A server to do it on, in a database of its own there. */
    postgres: { type: 'string' },
  },
});
const [rounds, seed] = [Number(values.rounds), Number(values.seed)];
if (!Number.isInteger(rounds) || rounds < 1 || !Number.isInteger(seed)) {
  console.error('--rounds and --seed are whole numbers: npm run wall -- --rounds 500 --seed 7');
  process.exit(2);
}
const cluster = values.postgres === undefined ? await startPostgres() : undefined;
const world = await makeWorld(cluster?.url ?? (values.postgres as string));
const raced = await playRaces(world);
const { told = raced, seen } = raced === undefined ? await playRounds(world, seed, rounds) : { seen: 0 };
console.log(told ?? `${rounds} rounds from number ${seed} on told nothing; ${seen} records were seen by those whose they are`);
await world.close();
await cluster?.stop();
process.exit(told === undefined ? 0 : 1);
