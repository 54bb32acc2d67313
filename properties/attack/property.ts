/* Members without full control try everything: alone none may end with more than before, and two with nothing that neither could hold or give. */
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import { databaseOn } from '../../test/setup.js';
import type { Property } from '../harness/property.js';
import { attackFrom, CameToMore } from './attack.js';
import { type Start, start } from './moves.js';
import { makeWorld } from './world.js';

export const attack: Property<Start> = {
  name: 'attack',
  holds: 'Members without full control come to no more than they were given.',
  variants: ['postgres'],
  volume: { usual: 200, long: { postgres: 2000 }, guard: 60 },
  open: async (servers) => {
    const pool = new pg.Pool({ connectionString: await databaseOn(await servers.postgres()), max: 2 });
    pool.on('error', () => {});
    const db = connect<any>(pool);
    await makeWorld(db);
    const tally = { done: 0, refused: 0, unbegun: 0 };
    return {
      cases: start,
      judge: async (one) => {
        try {
          if (!(await attackFrom(db, one, tally))) tally.unbegun += 1;
          return undefined;
        } catch (error) {
          if (error instanceof CameToMore) return error.message;
          throw error;
        }
      },
      tally: () => tally,
      close: () => db.destroy(),
    };
  },
};
