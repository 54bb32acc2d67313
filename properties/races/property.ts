/* Many at once, whatever they do: what must always hold does, nobody is shown a deadlock, and nothing that was said to be done is missing. */
import pg from 'pg';
import { connect, createLintel, type Lintel } from 'warm-lintel/server';
import { databaseOn } from '../../test/setup.js';
import { platformCharter as charter } from '../attack/world.js';
import type { Property } from '../harness/property.js';
import { type Act, Arena, PLATFORM, round } from './races.js';

const BUSY = 'races';

export const races: Property<readonly Act[]> = {
  name: 'races',
  holds: 'Whatever many do at once, nothing is broken, nobody is shown a deadlock, and what was said to be done is there.',
  variants: ['calm', 'broken'],
  volume: { usual: 150, long: { calm: 1500, broken: 750 }, guard: 300 },
  open: async (servers, variant) => {
    const url = await databaseOn(await servers.postgres());
    const pool = new pg.Pool({ connectionString: url, max: 16, application_name: BUSY });
    pool.on('error', () => {});
    const own = connect<any>(new pg.Pool({ connectionString: url, max: 2 }));
    // Half of the connections have another level of isolation than the usual by the server's own default.
    let opened = 0;
    pool.on('connect', (client) => {
      if (++opened % 2 === 0)
        void client.query(`set default_transaction_isolation = '${opened % 4 === 0 ? 'serializable' : 'repeatable read'}'`).catch(() => {});
    });
    const on = (db: unknown) => createLintel({ charter, db: db as pg.Pool, platform: PLATFORM }) as unknown as Lintel<any>;
    const breaks = async () => {
      const others = `datname = current_database() and application_name = '${BUSY}'`;
      await own.executeQuery({ sql: `select pg_terminate_backend(pid) from pg_stat_activity where ${others}`, parameters: [] } as never);
    };
    const arena = new Arena(on(pool), own, on(own), variant === 'broken' ? breaks : undefined);
    await arena.prepare();
    return {
      cases: round,
      judge: (acts) => arena.play(acts),
      tally: () => arena.came,
      close: async () => {
        await pool.end();
        await own.destroy();
      },
    };
  },
};
