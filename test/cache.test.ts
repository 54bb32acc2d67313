/* The opt-in cache: what another process removed is accepted for no longer than the bound, whatever happens between the two. */
import { fork } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { sql } from 'kysely';
import { expect } from 'vitest';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { LONG, testLong } from './long.js';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

const REMOVALS = LONG ? 1000 : 6;
const SECONDS = 0.2;

/** Another process that removes people one after the other and tells when each removal was committed. */
const REMOVER = `
import pg from 'pg';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
const [url, count] = process.argv.slice(2);
const pool = new pg.Pool({ connectionString: url, max: 1 });
const lintel = createLintel({ charter, db: pool });
for (let i = 0; i < Number(count); i++) {
  const maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] });
  await maren.members.remove('gone' + i);
  process.send({ user: 'gone' + i, at: Date.now() });
  await new Promise((resolve) => setTimeout(resolve, 15));
}
await pool.end();
process.disconnect();
`;

testLong(`over ${REMOVALS} removals committed by another process, nobody is accepted later than the bound`, { timeout: 600_000 }, async () => {
  const { db, url } = await apiaryOnPostgres();
  const lintel = createLintel({ charter, db, cache: { seconds: SECONDS } }) as unknown as Apiary;
  await sql`insert into lintel_person (id, name, address, address_written) select 'gone' || i, 'Gone', 'gone' || i || '@x.example', 'x' from generate_series(0, ${REMOVALS - 1}::int) i`.execute(
    db,
  );
  await sql`insert into lintel_member (tenant_id, user_id, status, since) select 'alderbrook', 'gone' || i, 'active', now() from generate_series(0, ${REMOVALS - 1}::int) i`.execute(
    db,
  );
  const file = join(import.meta.dirname, `remover-${process.pid}.tmp.ts`);
  writeFileSync(file, REMOVER);
  const child = fork(file, [url, String(REMOVALS)], { execArgv: ['--conditions=warm-lintel-source', '--import', 'tsx'] });
  const removedAt = new Map<string, number>();
  child.on('message', ({ user, at }: any) => removedAt.set(user, at));
  const ended = new Promise((resolve) => child.once('exit', resolve));
  const accepted = new Map<string, number>();
  let [asked, running] = [0, true];
  void ended.then(() => {
    running = false;
  });
  // Asked again and again, of whoever is about to go: from before each removal until after.
  while (running || asked === 0) {
    const next = removedAt.size;
    for (let i = Math.max(0, next - 20); i < Math.min(REMOVALS, next + 3); i++) {
      const began = Date.now();
      const { isMember } = await lintel.enter({ tenant: 'alderbrook', user: `gone${i}` });
      asked += 1;
      if (isMember) accepted.set(`gone${i}`, began);
    }
    await new Promise((resolve) => setTimeout(resolve, 1));
  }
  (await import('node:fs')).rmSync(file);
  expect(removedAt.size).toBe(REMOVALS);
  const late = [...accepted].map(([user, at]) => at - (removedAt.get(user) ?? Number.POSITIVE_INFINITY));
  // Removed ones were accepted for a while, else nothing was kept; and never beyond the bound.
  expect(late.filter((ms) => ms > 0).length).toBeGreaterThan(0);
  expect(Math.max(...late)).toBeLessThanOrEqual(SECONDS * 1000);
  // What ends by itself ends in the cache too, and a change reads afresh.
  let now = Date.now();
  const timed = createLintel({ charter, db, cache: { seconds: 60 }, clock: () => now }) as unknown as Apiary;
  const maren = await timed.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] });
  await maren.carryOut([{ do: 'set-end', user: 'lene', at: new Date(now + 2000).toISOString() }]);
  const lene = () => timed.enter({ tenant: 'alderbrook', user: 'lene' });
  expect((await lene()).isMember).toBe(true);
  now += 2001;
  expect((await lene()).isMember).toBe(false);
  await (await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] })).carryOut([
    { do: 'set-roles', holder: { user: 'wim' }, roles: [] },
  ]);
  const wim = await timed.enter({ tenant: 'alderbrook', user: 'wim' });
  expect(await wim.carryOut([{ do: 'place', user: 'wim', units: [] }]).catch((error) => error.code)).toBe('refused');
  // Whoever could hand over when they came in, and may no more, does not.
  const sela = () => timed.enter({ tenant: 'alderbrook', user: 'sela' });
  const hold = async (role: string) =>
    (await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] })).carryOut([
      { do: 'set-roles', holder: { user: 'sela' }, roles: [{ role, anchor: { on: 'tenant' } }] },
    ]);
  await hold('warden');
  expect((await sela()).may('hive.transfer')).toBe(true);
  await hold('reader');
  expect([(await sela()).may('hive.transfer'), await (await sela()).handOver('tobias', 'sela', ['hive'])]).toEqual([
    true,
    { hive: { handed: 0, left: expect.anything() } },
  ]);
  expect(() => createLintel({ charter, db, cache: { seconds: 0 } })).toThrow('the cache keeps for 0 seconds');
  await db.destroy();
});
