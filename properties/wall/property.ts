/* Whoever has SQL in the application's connection leaves there what they may: nobody comes to see, or loses, a record by it. */
import type { Property } from '../harness/property.js';
import { tapes } from '../harness/tape.js';
import { playRaces } from './races.js';
import { playRound } from './wall.js';
import { makeWorld } from './world.js';

export const wall: Property<readonly number[]> = {
  name: 'wall',
  holds: 'Nothing that is left in a connection, or runs beside, shows or touches what is of others.',
  variants: ['postgres'],
  volume: { usual: 500, long: { postgres: 5000 }, guard: 400 },
  open: async (servers) => {
    const world = await makeWorld(await servers.postgres());
    const raced = await playRaces(world);
    const tally = { seen: 0 };
    return {
      cases: tapes(120),
      judge: async (tape) => {
        if (raced !== undefined) return raced;
        const { told, seen } = await playRound(world, tape);
        tally.seen += seen;
        return told;
      },
      tally: () => tally,
      close: () => world.close(),
    };
  },
};
