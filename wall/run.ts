/* Attacks the row policies from inside a connection: `npm run wall -- --rounds 10000 --seed 7`. */
import { runOptions } from '../test/run-options.js';
import { playRaces } from './races.js';
import { playRounds } from './wall.js';
import { makeWorld } from './world.js';

const { count: rounds, seed, server, stop } = await runOptions('wall', 'rounds', 500);
const world = await makeWorld(server);
const raced = await playRaces(world);
const { told = raced, seen } = raced === undefined ? await playRounds(world, seed, rounds) : { seen: 0 };
console.log(told ?? `${rounds} rounds from number ${seed} on told nothing; ${seen} records were seen by those whose they are`);
await world.close();
await stop();
process.exit(told === undefined ? 0 : 1);
