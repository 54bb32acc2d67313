/* The record of changes: what it shows when somebody tampers with it, and what somebody held on a day that is over. And programs with their keys. */
import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { isLintelError } from 'warm-lintel';
import { createLintel, type Lintel, type Step } from 'warm-lintel/server';
import { step } from '../properties/attack/steps.js';
import { charter, GROUPS, makeWorld, PEOPLE, TENANT, UNITS } from '../properties/attack/world.js';
import { LONG } from './long.js';
import { emptyPostgres } from './worlds.js';

const whole = { on: 'tenant' } as const;
const code = (work: Promise<unknown>) =>
  work.then(
    () => 'done',
    (error: unknown) => (isLintelError(error) ? error.code : Promise.reject(error)),
  );

let db: Kysely<any>;
let lintel: Lintel<any>;
let now = Date.now() + 60_000;
const enter = (user: string) => lintel.enter({ tenant: TENANT, user });
const does = async (user: string, ...steps: Step[]) => (await enter(user)).carryOut(steps);
beforeAll(async () => {
  ({ db } = await emptyPostgres());
  await makeWorld(db);
  lintel = createLintel({ charter, db, clock: () => now }) as unknown as Lintel<any>;
});
afterAll(() => db.destroy());

const heldBy = ({ permissions }: { permissions: readonly any[] }) =>
  permissions
    .flatMap(({ permission, ways }) =>
      ways.map((way: any) => JSON.stringify([permission, way.reach, { ...way.anchor, name: undefined }, way.path.by, way.path.sources])),
    )
    .sort();

/** What a source says of somebody. */
const said = fc.record({
  source: fc.constantFrom('crm', 'rota'),
  user: fc.constantFrom(...PEOPLE),
  roles: fc.uniqueArray(fc.constantFrom('keeper', { role: 'reader', anchor: { on: 'unit' as const, unitId: UNITS[0] as string } }), { maxLength: 2 }),
  groups: fc.subarray([...GROUPS]),
  units: fc.subarray([...UNITS]),
  active: fc.boolean(),
});

/** So many steps are drawn in each run. */
const MOST = LONG ? 80 : 26;

/** Somebody with full control does this and that for a while, and sources say theirs; then the record is asked about every moment and everybody. */
async function told(on: Lintel<any>, seed: number, sources = false): Promise<void> {
  const then: [number, string, unknown][] = [];
  const inside = (user: string) => on.enter({ tenant: TENANT, user });
  const ends: Step[] = [
    { do: 'suspend', user: 'cas', until: new Date(now + 30.5 * 60_000).toISOString() },
    {
      do: 'set-roles',
      holder: { user: 'dot' },
      roles: [{ role: 'keeper', anchor: whole, until: new Date(now + 40.5 * 60_000).toISOString(), without: ['hive.update'] }],
    },
    { do: 'make-program', id: 'scale', name: 'Scale', responsible: 'ann' },
    { do: 'set-roles', holder: { user: 'scale' }, roles: [{ role: 'reader', anchor: { on: 'unit', unitId: 'north' } }] },
    { do: 'set-end', user: 'ben', at: new Date(now + 50.5 * 60_000).toISOString() },
  ];
  let done = 0;
  let brought = 0;
  const doing = sources ? fc.sample(fc.oneof({ weight: 2, arbitrary: step }, said), { numRuns: MOST, seed }) : fc.sample(step, { numRuns: MOST, seed });
  for (const one of [...ends, ...doing]) {
    now += 60_000;
    if ('source' in one) {
      const { source, ...member } = one;
      const { members } = await on.intake({ members: [{ ...member, tenant: TENANT }] }, { source });
      brought += members.brought + members.changed;
    } else done += (await code((await inside('boss')).carryOut([one]))) === 'done' ? 1 : 0;
    for (const user of [...PEOPLE, 'scale']) then.push([now, user, heldBy((await inside(user)).describe())]);
  }
  expect(done).toBeGreaterThan(MOST / 4);
  if (sources) expect(brought).toBeGreaterThan(4);
  const { audit } = await inside('boss');
  for (const [at, user, was] of then) expect([seed, user, heldBy(await audit.heldThen(user, new Date(at)))]).toEqual([seed, user, was]);
}

test('what somebody held at any moment is told by the record alone', { timeout: 300_000 }, async () => {
  for (let seed = 20; seed < (LONG ? 30 : 21); seed++) {
    const { db: other } = await emptyPostgres();
    await makeWorld(other);
    await told(createLintel({ charter, db: other, clock: () => now }) as unknown as Lintel<any>, seed, true);
    await other.destroy();
  }
  await told(lintel, 12);
  const { audit } = await enter('boss');
  expect(await code(audit.heldThen('ann', new Date(0)))).toBe('no-charter-then');
  // Another release: days before it are answered under the charter of then.
  const before = new Date(now);
  now += 60_000;
  const later = { ...charter, data: charter.data, hash: 'f'.repeat(64) };
  await sql`insert into lintel_charter (at, hash, data) values (${new Date(now)}, ${later.hash}, ${JSON.stringify({ ...charter.data, roles: {} })})`.execute(
    db,
  );
  expect((await audit.heldThen('boss', before)).charter).toBe(charter.hash);
  await db.deleteFrom('lintel_charter').where('hash', '=', later.hash).execute();
});

test('whoever tampers with the record shows: at the first event where it does not hold', async () => {
  const { audit } = await enter('boss');
  const { events, head, broken } = await audit.verify();
  expect([events > 25, broken]).toEqual([true, undefined]);
  await does('boss', { do: 'rename-tenant', contact: 'the office' });
  const kept = (await audit.verify(head)).head;
  expect(kept).not.toBe(head);
  // As somebody who owns the tables, and takes the guard off.
  const tampered = async (...statements: ReturnType<typeof sql>[]) => {
    let found: unknown;
    await db
      .transaction()
      .execute(async (tx) => {
        await sql`alter table lintel_audit disable trigger user`.execute(tx);
        for (const statement of statements) await statement.execute(tx);
        found = (await (await createLintel({ charter, db: tx }).enter({ tenant: TENANT, user: 'boss' })).audit.verify(kept)).broken;
        throw new Error('back');
      })
      .catch(() => undefined);
    return found;
  };
  const at = (n: number) => sql.raw(`tenant_id = '${TENANT}' and number = ${n}`);
  expect(await tampered(sql`update lintel_audit set actor = 'ann' where ${at(7)}`)).toEqual({ number: 7, why: 'altered' });
  expect(await tampered(sql`update lintel_audit set event = event || '{"user":"else"}' where ${at(9)}`)).toEqual({ number: 9, why: 'altered' });
  expect(await tampered(sql`delete from lintel_audit where ${at(5)}`)).toEqual({ number: 5, why: 'missing' });
  expect(await tampered(sql`update lintel_audit set previous_hash = 'x' where ${at(4)}`)).toEqual({ number: 4, why: 'not linked' });
  expect(await tampered(sql`update lintel_audit_words set words = '{"name":"Else"}' where ${at(6)}`)).toEqual({ number: 6, why: 'words altered' });
  const cut = sql`delete from lintel_audit where tenant_id = ${TENANT} and number > ${events}`;
  expect(await tampered(cut)).toEqual({ number: events + 1, why: 'tail cut' });
  const hidden = sql`update lintel_tenant set last_number = ${events}, last_hash = ${head} where id = ${TENANT}`;
  expect(await tampered(cut, hidden)).toEqual({ number: events + 1, why: 'head unknown' });
  expect(await code((await enter('dot')).audit.verify())).toBe('refused');
});

test('a program holds what it was given and nothing else, comes in by a key, and stands and falls with who answers for it', async () => {
  now += 60_000;
  await does('boss', { do: 'set-roles', holder: { user: 'dot' }, roles: [] });
  const made = await does('boss', { do: 'make-program', id: 'weigher', name: 'Weighing scale', responsible: 'dot' });
  expect(made[0]?.id).toBe('weigher');
  await does('boss', { do: 'set-roles', holder: { user: 'weigher' }, roles: [{ role: 'reader', anchor: whole }] });
  const boss = await enter('boss');
  const { key, id } = await boss.programs.makeKey('weigher', { label: 'first' });
  expect(key).toMatch(/^lintel_key_[\w-]+\.[\w-]+\.[\w-]{43,}$/);
  const program = await lintel.enterByKey(key);
  expect([program.userId, program.may('hive.read'), program.may('hive.update'), program.facts.program]).toEqual(['weigher', true, false, true]);
  expect(JSON.stringify(await boss.programs.list())).not.toContain(key.split('.')[2]);
  expect((await boss.programs.list()).find((p) => p.id === 'weigher')).toMatchObject({
    responsible: { id: 'dot' },
    keys: [{ label: 'first', lastUsedAt: new Date(now) }],
  });
  expect((await boss.members.list()).map(({ userId }) => userId)).not.toContain('weigher');
  expect(JSON.stringify(await boss.audit.list())).not.toContain(key.split('.')[2]);

  // Forged, of another key, ended; a second one beside the first until it ends.
  const second = await boss.programs.makeKey('weigher');
  const [prefix, , secret] = key.split('.');
  expect(await code(lintel.enterByKey(`${prefix}.${second.key.split('.')[1]}.${secret}`))).toBe('key-invalid');
  await does('boss', { do: 'end-key', key: id, at: new Date(now + 3_600_000).toISOString() });
  expect(await code(lintel.enterByKey(key))).toBe('done');
  now += 3_600_000;
  expect([await code(lintel.enterByKey(key)), await code(lintel.enterByKey(second.key))]).toEqual(['key-invalid', 'done']);

  await does('boss', { do: 'suspend', user: 'dot' });
  expect((await lintel.enterByKey(second.key)).may('hive.read')).toBe(false);
  await does('boss', { do: 'entrust-program', program: 'weigher', responsible: 'boss' });
  expect((await lintel.enterByKey(second.key)).may('hive.read')).toBe(true);
  expect(await code(does('boss', { do: 'set-roles', holder: { user: 'weigher' }, roles: [{ role: 'keyholder', anchor: whole }] }))).toBe('keyholder-alone');
  expect(await code(does('boss', { do: 'entrust-program', program: 'weigher', responsible: 'weigher' }))).toBe('no-person');
  expect(await code(does('boss', { do: 'make-key', program: 'ann' }))).toBe('not-found');
  expect(await code(does('boss', { do: 'make-key', program: 'weigher', ends: '2999-01-01T00:00:00Z' }))).toBe('bad-end');

  // A key is all that the program holds: whoever holds less makes none.
  const arranging = [{ permission: 'program.arrange', reach: 'tenant', anchor: whole }];
  await does('boss', { do: 'restore', user: 'dot' }, { do: 'set-permissions', holder: { user: 'dot' }, permissions: arranging });
  expect(await code(does('dot', { do: 'make-key', program: 'weigher' }))).toBe('beyond-power');
  await does('boss', { do: 'set-roles', holder: { user: 'dot' }, roles: [{ role: 'reader', anchor: whole }] });
  expect(await code(does('dot', { do: 'make-key', program: 'weigher' }))).toBe('done');
  await does('boss', { do: 'remove', user: 'weigher' });
  expect(await code(lintel.enterByKey(second.key))).toBe('key-invalid');
});
