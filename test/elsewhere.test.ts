/* An application of another hand, which keeps its people itself: everything that looks at access looks at it too, and writes nothing there. */
import { rmSync } from 'node:fs';
import { join } from 'node:path';
import pg from 'pg';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { EXIT, run } from 'warm-lintel/cli';
import { type AppMember, copyMembers } from 'warm-lintel/rehearsal';
import { connect, createLintel } from 'warm-lintel/server';
import { charter } from '../properties/probed/charter.js';
import { lendingConfig, lendingDatabase } from '../properties/probed/lending-rules.js';
import { peopleOf } from '../properties/probed/target.js';
import { LONG, testLong } from './long.js';
import { emptyPostgres } from './worlds.js';

let pool: pg.Pool;
let url: string;
beforeAll(async () => {
  url = await lendingDatabase(inject('postgres'));
  pool = new pg.Pool({ connectionString: url, max: 2 });
});
afterAll(() => pool.end());

async function copied(members: readonly AppMember[]) {
  const { db } = await emptyPostgres(2);
  const lintel = createLintel({ charter, db, records: connect<any>(pool) });
  await lintel.prepare();
  await copyMembers(lintel as never, members);
  return { lintel, db };
}

/** All that the application has: its tables, and what is in them. */
async function everything(): Promise<string> {
  const { rows } = await pool.query(
    `select table_name, (xpath('/table/row', query_to_xml(format('select * from %I order by 1', table_name), false, false, '')))::text as rows
     from information_schema.tables where table_schema = 'public' order by 1`,
  );
  return JSON.stringify(rows);
}

test('each of its people reaches what its own queries show them', async () => {
  const before = await everything();
  const { lintel, db } = await copied(await peopleOf(connect(pool)));
  const ids = (rows: readonly { id: unknown }[]) => rows.map(({ id }) => Number(id)).sort();
  const { rows: users } = await pool.query('select id, org_id, role from users');
  for (const { id, org_id, role } of users) {
    const standing = await lintel.enter({ tenant: org_id, user: id });
    const own = role === 'admin' ? 'true' : '(shared or owner_id = $2)';
    const { rows: seen } = await pool.query(`select id from tools where org_id = $1 and ${own}`, role === 'admin' ? [org_id] : [org_id, id]);
    expect([id, ids((await standing.find('tool', { limit: 100 })) as { id: unknown }[])]).toEqual([id, ids(seen)]);
  }
  expect(await everything()).toBe(before);
  await db.destroy();
});

test('a thousand people with their groups and units are copied as they are, and what cannot be is told by its place', { timeout: 60_000 }, async () => {
  const many = Array.from({ length: 2500 }, (_, i): AppMember => {
    const parts = { groupIds: i % 3 === 0 ? [`g${i % 7}`] : [], unitIds: [`u${i % 5}`, `u${(i + 1) % 5}`] };
    return { id: `p${i}`, name: `Person ${i}`, address: `p${i}@many.example`, tenant: `t${i % 2}`, roles: [i % 10 === 0 ? 'admin' : 'viewer'], ...parts };
  });
  // One is in both, as something else, and one is named once more.
  const { lintel, db } = await copied([...many, many[1234] as AppMember, { ...(many[0] as AppMember), tenant: 't1', roles: [], groupIds: [], unitIds: [] }]);
  for (const i of [0, 1, 1234, 2499]) {
    const one = many[i] as AppMember;
    const { facts } = await lintel.enter({ tenant: one.tenant, user: one.id });
    const { groupIds, unitIds } = facts.me;
    expect({ groupIds, unitIds: [...unitIds].sort(), roles: facts.assignments.map(({ role }) => role) }).toEqual({
      groupIds: one.groupIds,
      unitIds: [...(one.unitIds ?? [])].sort(),
      roles: one.roles,
    });
  }
  expect((await lintel.enter({ tenant: 't1', user: 'p0' })).facts.assignments).toEqual([]);
  await expect(copyMembers(lintel as never, many)).rejects.toMatchObject({ code: 'not-empty' });
  const [ada] = many as [AppMember];
  const wrong: readonly [string, readonly AppMember[]][] = [
    ['members: "p0" cannot be copied: no role "viewr"; did you mean viewer?', [{ ...ada, roles: ['viewr'] }]],
    ['"p9" cannot be copied: "p0" has the same address, p0@many.example', [ada, { ...ada, id: 'p9', address: 'P0@Many.example' }]],
    ['"p0" is Person 0, p0@many.example, and also Somebody, p0@many.example', [ada, { ...ada, tenant: 't2', name: 'Somebody' }]],
    ['"p0" cannot be copied: an e-mail address is needed', [{ ...ada, address: null as never }]],
  ];
  for (const [words, members] of wrong) await expect(copyMembers(lintel as never, members)).rejects.toThrow(words);
  await db.destroy();
});

testLong(
  'the command looks at them, holds a script against them, and sends whoever would change something to the application',
  { timeout: 120_000 },
  async () => {
    const before = await everything();
    let configured = 0;
    const lintel = async (...args: string[]) => {
      const [out, err]: [string[], string[]] = [[], []];
      const around = { cwd: process.cwd(), out: (t: string) => out.push(t), err: (t: string) => err.push(t), colours: false, width: 200 };
      const code = await run([...args, '--tenant', 'north', '--config', lendingConfig(`elsewhere-${configured++}`, url)], around);
      return { code, out: out.join('\n'), err: err.join('\n') };
    };
    const table = (await lintel('table', '--by', 'people')).out;
    expect(table).toMatch(/Ben Moor +lent +own +own 2 +own 3/);
    expect(table).not.toMatch(/Whoever looks|Organisation/);
    const asked = await lintel('remedy', 'dora', 'tool.update', '2');
    expect([asked.code, asked.out]).toEqual([
      EXIT.refused,
      expect.stringMatching(/^Dora Vale may not .*\n.*\n\n1\. {2}give the role Admin for the whole organisation\n/),
    ]);
    expect(asked.out).not.toContain('for this record');
    const refused = [
      ['invite', 'gus@north.example', '--as', 'ada'],
      ['audit'],
      ['appeals', '--as', 'ada'],
      ['remedy', 'dora', 'tool.update', '2', '--as', 'ada'],
    ];
    for (const args of refused.slice(0, LONG ? undefined : 1))
      expect(await lintel(...args)).toMatchObject({ code: EXIT.failed, err: expect.stringContaining('The application keeps its people itself') });

    const planned: string[] = [];
    const around = { cwd: process.cwd(), out: (t: string) => planned.push(t), err: (t: string) => planned.push(t), colours: false, width: 200 };
    const intake = (...more: string[]) => run(['intake', ...more, '--config', lendingConfig(`elsewhere-${configured++}`, url)], around);
    expect([await intake(), await intake('--dry-run')]).toEqual([EXIT.failed, EXIT.refused]);
    expect(planned.join('\n')).toMatch(/add --dry-run[\s\S]*\npeople +\d+ new, 0 changed, 0 as they are\n[\s\S]*tenant north: nobody has full control/);

    const script = join('.cache', 'lending', 'elsewhere.md');
    await lintel('rehearse', script, '--record');
    expect(await everything()).toBe(before);
    await pool.query("update users set role = 'viewer' where id = 'ben'");
    const drifted = await lintel('rehearse', script);
    expect([drifted.code, drifted.out]).toEqual([EXIT.refused, expect.stringContaining('Ben Moor: tool.update reaches not at all, and was to reach own')]);
    // Everything else is as it was recorded.
    expect(drifted.out.split('\n').filter((line) => line.startsWith('differs') && !line.includes('Ben Moor'))).toEqual([]);
    rmSync(join('.cache', 'lending'), { recursive: true, force: true });
  },
);
