/* Whoever has SQL in the application's connection leaves there what they may: nobody comes to see, or loses, a record by it. */
import { expect, inject, test } from 'vitest';
import { playRaces } from '../wall/races.js';
import { playRounds } from '../wall/wall.js';
import { makeWorld } from '../wall/world.js';

test('nothing that is left in a connection, or runs beside, shows or touches what is of others', { timeout: 3_600_000 }, async () => {
  const long = process.env.LINTEL_LONG !== undefined;
  const world = await makeWorld(inject('postgres'));
  expect(await playRaces(world)).toBeUndefined();
  const first = long ? Date.now() % 1_000_000_000 : 1;
  const { told, seen } = await playRounds(world, first, long ? 5000 : 30);
  if (long) console.log(`5000 rounds at the wall from number ${first}`);
  expect(told).toBeUndefined();
  expect(seen).toBeGreaterThan(100);
  await world.close();
});
