/* Expectations about access: in a file that people review, in tests, and people side by side. */
import { execFileSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type Charter, isLintelError, readCharter, Standing } from 'warm-lintel';
import { EXIT, run } from 'warm-lintel/cli';
import {
  accessChanges,
  accessTable,
  compare,
  madeUpFacts,
  peopleSubjects,
  populate,
  readScript,
  recordScript,
  rehearse as rehearseScript,
} from 'warm-lintel/rehearsal';
import { createLintel, dropStatements, policyStatements } from 'warm-lintel/server';
import { accessMatchers } from 'warm-lintel/vitest';
import { charter } from '../examples/apiary/world/charter.js';
import { makeTables } from '../examples/apiary/world/tables.js';
import { countRecords } from '../src/scoping/index.js';
import { edited, type Path, placesIn, valueAt } from './edited.js';
import { LONG, testLong } from './long.js';
import { type Apiary, apiaryOnPostgres, emptyPostgres } from './worlds.js';

expect.extend(accessMatchers);

let db: Kysely<any>;
let url: string;
let app: Apiary;
const dir = mkdtempSync(join(tmpdir(), 'lintel-'));
const file = join(dir, 'access.md');
beforeAll(async () => {
  ({ lintel: app, db, url } = await apiaryOnPostgres());
});
afterAll(() => db.destroy());

async function lintel(...args: string[]) {
  const [out, err]: [string[], string[]] = [[], []];
  const code = await run([...args, '--database', url], { cwd: process.cwd(), out: (t) => out.push(t), err: (t) => err.push(t), colours: false, width: 160 });
  return { code, out: out.join('\n'), err: err.join('\n') };
}
const rehearse = (...more: string[]) => lintel('rehearse', file, '--tenant', 'alderbrook', ...more);
const enter = (user: string) => app.enter({ tenant: 'alderbrook', user });

test('what is so now is recorded, holds, and each cell that changes later is named', async () => {
  expect((await rehearse('--record')).code).toBe(EXIT.yes);
  const recorded = readFileSync(file, 'utf8');
  expect(recorded).toContain('| hive.update | – | own, unclaimed | – | all | – | – | – | – |');
  const all = await rehearse();
  expect([all.code, all.out]).toEqual([EXIT.yes, expect.stringMatching(/^(\d+) of \1 expectations hold$/)]);
  const before = [{ role: 'keeper', anchor: { on: 'tenant' } }] as const;
  const maren = await enter('maren');
  await maren.carryOut([{ do: 'set-roles', holder: { user: 'tobias' }, roles: [{ role: 'warden', anchor: { on: 'unit', unitId: 'heath' } }] }]);
  const drifted = await rehearse('--format', 'json');
  const differing = JSON.parse(drifted.out).filter((one: any) => !one.held);
  expect([drifted.code, differing.length > 5, differing.every((one: any) => one.name.startsWith('Tobias Renn: '))]).toEqual([EXIT.refused, true, true]);
  expect(differing.map((one: any) => one.words)).toContain('Tobias Renn: hive.update reaches all in Heath edge, and was to reach own, unclaimed');
  await maren.carryOut([{ do: 'set-roles', holder: { user: 'tobias' }, roles: before }]);
  // Two who are called the same are told apart by their ids.
  await app.addPerson({ id: 'tobias2', name: 'Tobias Renn', address: 'two@alderbrook.example', confirmedAt: new Date() });
  const [invited] = await maren.invitations.send([{ address: 'two@alderbrook.example', roles: [] }]);
  await app.acceptInvitation('tobias2', { token: invited?.token as string });
  await rehearse('--record');
  expect(readFileSync(file, 'utf8')).toMatch(/\| tobias \| tobias2 \|/);
  expect((await rehearse()).code).toBe(EXIT.yes);
});

test('a rule that means something else under its old name is drift too, and so is where somebody is', async () => {
  await rehearse('--record');
  const spoiled = join(dir, 'spoiled.json');
  const drift: readonly [rule: string, spoil: (charter: any) => void][] = [
    ['hive: own', ({ kinds }) => Object.assign(kinds.hive.reaches, { own: { op: 'is', field: 'madeBy', to: { me: 'userId' } } })],
    ['hive: limit archived', ({ limits }) => delete limits.hive.archived],
    ['hive: limit small', ({ limits }) => Object.assign(limits.hive, { small: { ...limits.hive.archived, sentence: 'it is small.' } })],
    ['hive.registrationNo', ({ kinds }) => delete kinds.hive.fields.registrationNo.read],
    ['hive.keeperId', ({ kinds }) => delete kinds.hive.fields.keeperId.change],
    ['role secretary', ({ roles }) => roles.secretary.gives.push('treasurer')],
    ['visitor: hive.read', (c) => Object.assign(c.visitor, { 'hive.read': ['tenant'] })],
    ['hive.sell', ({ kinds }) => Object.assign(kinds.hive.actions, { sell: { label: 'Sell a hive' } })],
    ['obligation recentSignIn', ({ obligations }) => obligations.recentSignIn.before.pop()],
  ];
  for (const [rule, spoil] of drift) {
    const data = structuredClone(app.charter.data);
    spoil(data);
    writeFileSync(spoiled, JSON.stringify(data));
    const { code, out } = await rehearse('--format', 'json', '--charter', spoiled);
    const names = JSON.parse(out).flatMap((one: any) => (one.held ? [] : [one.name]));
    expect([rule, code, names.includes(rule)]).toEqual([rule, EXIT.refused, true]);
  }
  const maren = await enter('maren');
  await maren.members.place('junia', ['junior-yard', 'orchards']);
  const moved = JSON.parse((await rehearse('--format', 'json')).out).filter((one: any) => !one.held);
  expect(moved.map((one: any) => one.words)).toEqual(['Junia Marsh: placed at junior-yard, orchards, and was to be junior-yard']);
  await maren.members.place('junia', ['junior-yard']);
  await app.addPerson({ id: 'greta', name: 'Greta Vann', address: 'greta@alderbrook.example', confirmedAt: new Date() });
  const [invited] = await maren.invitations.send([{ address: 'greta@alderbrook.example', roles: [{ role: 'treasurer', anchor: { on: 'tenant' } }] }]);
  await app.acceptInvitation('greta', { token: invited?.token as string });
  const come = JSON.parse((await rehearse('--format', 'json')).out).filter((one: any) => !one.held);
  expect(come.map((one: any) => one.words)).toEqual(['Greta Vann is new, a member of whom nothing is expected (Treasurer)']);
  await (await app.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] })).members.remove('greta');
});

/** What can be changed in a charter and nobody may more or less by it. */
const WORDING = new Set(['label', 'one', 'many', 'sentence', 'section', 'brings', 'needs', 'startsAt', 'type', 'scale', 'options']);

/** A charter without its wording, and without the fields that nothing is said of. */
const meantBy = (json: unknown) =>
  JSON.stringify(json, (key, value) => (WORDING.has(key) || (value?.role === 'plain' && !value.read && !value.change) ? undefined : value));

testLong('whatever is taken out of a charter, or put for another of its sort, shows in what was recorded, but for wording', { timeout: 60_000 }, async () => {
  const { data } = app.charter;
  const nowhere = { id: '', name: '', open: true, contact: null, features: [] };
  const holder = (c: Charter<any>, role: string) => new Standing(c, madeUpFacts(c, nowhere, [{ role, anchor: { on: 'tenant' } }]));
  const nobody = (c: Charter<any>) =>
    new Standing(c, { ...madeUpFacts(c, nowhere, []), subject: 'visitor', me: { groupIds: [], unitIds: [], attributes: {} } });
  const roles = Object.keys(data.roles).map((role) => ({ name: role, standing: holder(app.charter, role) }));
  const recorded = recordScript(app.charter, '', roles, [{ name: 'visitor', standing: nobody(app.charter) }]);
  const places = placesIn(data);
  const keyOf = (path: Path) => path.findLast((part) => typeof part === 'string');
  const sortOf = (path: Path) => `${keyOf(path)} ${typeof path.at(-1)} ${typeof valueAt(data, path)}`;
  const others = (path: Path) => places.filter((other) => sortOf(other) === sortOf(path)).map((other) => valueAt(data, other));
  const changes = places.flatMap((path) => {
    const instead = [undefined, ...new Set(others(path).map((other) => JSON.stringify(other)))];
    return instead.map((other) => ({ what: `${path.join('.')}: ${other ?? 'gone'}`, spoil: () => edited(data, path, other && JSON.parse(other)) }));
  });
  let tried = 0;
  const silent: string[] = [];
  for (const { what, spoil } of changes.filter((_, i) => LONG || i % 61 === 0)) {
    const spoiled = spoil();
    if (meantBy(spoiled) === meantBy(data)) continue;
    let later: Charter<any>;
    let outcomes: readonly { held: boolean }[];
    try {
      later = readCharter(spoiled);
      if (later.hash === app.charter.hash) continue;
      const stage = {
        charter: later,
        person: async () => nobody(later),
        role: async (role: string) => holder(later, role),
        visitor: async () => nobody(later),
      };
      outcomes = await rehearseScript(readScript(recorded, later), stage as never);
    } catch (error) {
      // A charter or a script that is refused is told.
      if (isLintelError(error)) continue;
      throw error;
    }
    tried += 1;
    if (outcomes.every(({ held }) => held)) silent.push(what);
  }
  expect([silent, tried > (LONG ? 1000 : 4)]).toEqual([[], true]);
});

test('the same file is held against the database under its row policies, where a hole shows that the engine does not have', { timeout: 60_000 }, async () => {
  const walled = url.replace('lintel@', 'rehearsed_app@');
  await sql.raw('do $$ begin create role rehearsed_app login; exception when duplicate_object then null; end $$').execute(db);
  writeFileSync(
    file,
    [
      '| person | tobias | Otto Feld | Junia Marsh | Ingrid Oakes | visitor |',
      '| --- | --- | --- | --- | --- | --- |',
      '| hive.read | all | all | onSite | appointed | – |',
      '| inspection.read | followed | all in Orchard side | followed | followed | – |',
      '| entry.read | – | – | – | – | – |',
      '',
      '- tobias may hive.update a-hive-01',
      '- tobias may not hive.update a-hive-02',
      '- tobias may hive.archive a-hive-01',
      '- Junia Marsh may not hive.read a-hive-01',
      '- Ingrid Oakes may hive.register a-hive-01',
      '- Otto Feld may not hive.register a-hive-01',
      '- Pavel Lorne may not entry.update a-entry-1',
    ].join('\n'),
  );
  const held = () => rehearse('--wall', walled, '--format', 'json');
  expect((await held()).err).toContain('the row policies are not in this database');
  for (const statement of policyStatements(app.charter as Charter<any>, { role: 'rehearsed_app' })) await sql.raw(statement).execute(db);
  const before = await sql`select md5(string_agg(h::text, '' order by h.id)) from hives h`.execute(db);
  const outcomes = JSON.parse((await held()).out) as { name: string; held: boolean; words: string }[];
  const ofEngine = outcomes.filter(({ name }) => !name.endsWith('in the database'));
  expect(ofEngine.filter((one) => !one.held).map(({ words }) => words)).toEqual([]);
  const ofDatabase = outcomes.filter(({ name }) => name.endsWith('in the database'));
  expect([ofDatabase.length, ofDatabase.filter((one) => !one.held).map(({ words }) => words)]).toEqual([22, []]);
  expect(await sql`select md5(string_agg(h::text, '' order by h.id)) from hives h`.execute(db)).toEqual(before);
  // Somebody took the policies off, and a trigger away.
  await sql.raw('alter table entries disable row level security').execute(db);
  await sql.raw('alter table hives disable trigger lintel_changed').execute(db);
  const open = JSON.parse((await held()).out).filter((one: any) => !one.held);
  expect(open.map(({ words }: any) => words)).toEqual(
    expect.arrayContaining([
      expect.stringMatching(/^tobias: entry.read: the database shows entry/),
      'Otto Feld may not hive.register a-hive-01: the database lets them',
    ]),
  );
  for (const statement of dropStatements(app.charter as Charter<any>)) await sql.raw(statement).execute(db);
});

test('sentences about single records hold or fail with the reason, and builds read them', async () => {
  writeFileSync(
    file,
    [
      'Prose stays prose, also where it may be read.',
      '',
      '- Sela Vardy may hive.update a-hive-02',
      '- tobias may not `hive.update` `a-hive-02`.',
      '- a visitor may not hive.read a-hive-01',
      '- Ingrid Oakes may hive.read a-hive-02',
      '- Nobody Known may hive.read a-hive-02',
      '- Sela Vardy may not hive.read none',
      '- Sela Vardy may not hive.read q-hive-01',
      '- Sela Vardy may hive.read q-hive-02',
    ].join('\n'),
  );
  const report = join(dir, 'report.xml');
  const { code, out } = await rehearse('--junit', report);
  expect([code, out.split('\n')]).toEqual([
    EXIT.refused,
    [
      expect.stringMatching(
        /^differs {2}Ingrid Oakes may not see a hive “Bramble hive”: it is given, but not for this record; inspectors do not include “ingrid” {2}.*:6$/,
      ),
      expect.stringMatching(/^differs {2}no person "Nobody Known" {2}.*:7$/),
      // What is not there is refused whatever the charter says.
      expect.stringMatching(/^differs {2}there is no hive “none” here, so nothing is shown by it {2}.*:8$/),
      expect.stringMatching(/^differs {2}hive “q-hive-02” is another organisation's {2}.*:10$/),
      '4 of 8 expectations hold',
    ],
  ]);
  const xml = readFileSync(report, 'utf8');
  expect([xml.match(/<testcase /g)?.length, xml.match(/<failure /g)?.length, xml.includes('tests="8" failures="4"')]).toEqual([8, 4, true]);
  const bad = async (text: string) => {
    writeFileSync(file, text);
    const { code: given, err } = await rehearse();
    return [given, err];
  };
  expect(await bad('| person | Sela Vardy |\n| --- | --- |\n| hive.updte | own |\n| hive.read | all | all |')).toEqual([
    EXIT.failed,
    'lintel: line 3: no action "hive.updte"; did you mean hive.update?\nline 4: 2 cells under 1 names',
  ]);
  expect((await bad('Nothing at all.'))[1]).toMatch(/^lintel: nothing is expected here: write a table/);
  expect((await lintel('rehearse', 'nowhere.md', '--tenant', 'alderbrook')).err).toContain('--record');
});

test('a matcher holds, or fails with who, what, and the part of the rule', async () => {
  const [tobias, ingrid] = await Promise.all(['tobias', 'ingrid'].map(enter));
  await expect(tobias).toBeAllowed('hive.read', 'a-hive-02');
  await expect(tobias).not.toBeAllowed('hive.update', 'a-hive-02');
  await expect(tobias).toBeAllowed('hive.update', { id: 'x', tenantId: 'alderbrook', keeperId: 'tobias', status: 'active' });
  await expect(ingrid).toReach('hive.read', ['a-hive-01', 'a-hive-06', 'a-hive-11', 'a-hive-16', 'a-hive-21']);
  const failing = async (work: PromiseLike<unknown>) =>
    Promise.resolve(work).then(
      () => '',
      (error: Error) => error.message,
    );
  expect(await failing(expect(tobias).toBeAllowed('hive.update', 'a-hive-02'))).toMatch(
    /^Tobias Renn may not change a hive “Bramble hive”: it is given, but not for this record\n {2}no: own, by role Keeper, for the whole organisation; but keeper is not “tobias” \(it is “sela”\)/,
  );
  expect(await failing(expect(ingrid).toReach('hive.read', ['a-hive-01', 'a-hive-02']))).toBe(
    'Ingrid Oakes reaches 5 by hive.read\n  and not expected: a-hive-06, a-hive-11, a-hive-16, a-hive-21\n  and does not reach: a-hive-02',
  );
  // What another organisation has is refused to everybody here, and what nobody has shows nothing.
  await expect(tobias).not.toBeAllowed('hive.read', 'q-hive-01');
  expect(await failing(expect(tobias).not.toBeAllowed('hive.read', 'none'))).toContain('there is no hive “none” in Alderbrook Beekeepers');
});

test('people side by side: each record is in one part, as each of them would be asked', async () => {
  const names = ['tobias', 'sela', 'otto', 'ingrid'];
  const standings = await Promise.all(names.map(enter));
  for (const action of ['hive.read', 'hive.update', 'inspection.read', 'sheet.read']) {
    const { kind } = app.charter.permission(action) as { kind: 'hive' };
    const compared = await compare(
      standings.map((standing, i) => ({ name: names[i] as string, standing })),
      { db, action, some: 1000 },
    );
    const total = (await (await enter('maren')).find(kind, { limit: 1000 })).length;
    const groups = compared.records?.groups ?? [];
    expect([groups.reduce((sum, { count }) => sum + count, 0), new Set(groups.flatMap(({ some }) => some.map(({ id }) => id))).size]).toEqual([total, total]);
    for (const { reaches, some, count } of groups) {
      expect(some.length).toBe(count);
      for (const { id } of some) {
        const asked = await Promise.all(standings.map(async (standing) => (await standing.decideById(action as 'hive.read', id)).allowed));
        expect([action, id, asked]).toEqual([action, id, reaches]);
      }
    }
  }
  const { code, out } = await lintel('compare', 'tobias', 'sela', '--on', 'hive.update', '--tenant', 'alderbrook');
  expect([code, out.includes('They hold the same.')]).toEqual([EXIT.yes, true]);
  expect(out).toMatch(/^both +3 +Clover hive, Knapweed hive, Sorrel hive$/m);
  expect((await lintel('compare', 'tobias', '--tenant', 'alderbrook')).err).toBe(
    'lintel: compare takes two or more: people by id, address or name, role:NAME, PERSON@DAY',
  );
  expect((await lintel('compare', 'tobias', 'sela', '--on', 'hivve')).err).toContain('did you mean hive?');
});

testLong('a release is compared person by person: all that differs is told, and the records are those that it differs on', async () => {
  const old = structuredClone(app.charter.data) as any;
  old.roles.keeper.may['hive.update'] = ['own'];
  old.roles.junior.may['hive.read'] = ['tenant'];
  old.limits.hive.archived.actions = ['update'];
  old.kinds.hive.reaches.appointed = { op: 'is', field: 'madeBy', to: { me: 'userId' } };
  delete old.roles.secretary;
  old.roles.gone = { label: 'Gone', may: { 'hive.appoint': ['tenant'] } };
  const before = readCharter(old);
  const earlier = createLintel({ charter: before, db });
  const people = ['junia', ...(LONG ? ['tobias', 'hanne', 'maren', 'otto', 'ingrid', 'wim', 'lene'] : [])];
  const sides = await Promise.all(
    people.map(async (user) => ({
      name: user,
      before: await earlier.enter({ tenant: 'alderbrook', user }),
      after: (await enter(user)) as never as Standing<any>,
    })),
  );
  const changes = await accessChanges(app.charter, sides, { db, tenant: 'alderbrook' });
  const records = Object.fromEntries(
    await Promise.all(Object.keys(app.charter.shapes).map(async (kind) => [kind, await (await enter('maren')).find(kind as 'hive', { limit: 1000 })])),
  );
  for (const { name, before: was, after } of sides) {
    for (const { name: permission, kind, action } of app.charter.permissions.values()) {
      const told = changes.find((one) => one.name === name && one.permission === permission);
      if (kind === undefined) {
        expect([name, permission, told !== undefined]).toEqual([name, permission, was.may(permission) !== after.may(permission)]);
        continue;
      }
      if (action === 'create') continue;
      let [more, fewer] = [0, 0];
      for (const { [app.charter.shapes[kind]?.idField as string]: id } of records[kind]) {
        const [did, does] = [await was.decideById(permission as never, id), await (after as typeof was).decideById(permission as never, id)];
        if (does.allowed && !did.allowed) more++;
        if (did.allowed && !does.allowed) fewer++;
      }
      expect([name, permission, told?.records ?? { more: 0, fewer: 0 }]).toEqual([name, permission, { more, fewer }]);
      for (const { id } of told?.some?.more ?? []) expect((await was.decideById(permission as never, id)).allowed).toBe(false);
      if (told?.some) expect([told.some.more.length, told.some.fewer.length]).toEqual([Math.min(3, more), Math.min(3, fewer)]);
    }
  }
  const path = join(dir, 'old.json');
  writeFileSync(path, JSON.stringify(old));
  const { code, out } = await lintel('changes', path, '--tenant', 'alderbrook', '--format', 'md');
  expect([code, out]).toEqual([
    EXIT.refused,
    expect.stringMatching(/\| Junia Marsh \| hive.read \| all → onSite \| shrinks \| \+0 −18 \| − \w+ hive, \w+ hive, \w+ hive, … \|/),
  ]);
  expect(out).toContain('Access grew that was not declared: hive.read, ');
  const declared = (JSON.parse((await lintel('changes', path, '--tenant', 'alderbrook', '--format', 'json')).out).changes as any[]).map(
    (one) => one.permission,
  );
  expect((await lintel('changes', path, '--tenant', 'alderbrook', '--declared', ...declared)).code).toBe(EXIT.yes);
  // Without a database the rules are asked: what implies the other does not grow.
  const roles = JSON.parse((await lintel('changes', path, '--roles', '--format', 'json')).out).changes as any[];
  expect(roles.filter((one) => one.name === 'role Keeper').map((one) => [one.permission, one.change])).toEqual([
    ['hive.update', 'grows'],
    ['hive.transfer', 'shrinks'],
    ['hive.move', 'shrinks'],
  ]);
  expect((await lintel('changes', path, '--declared', 'hive.updte')).err).toContain('did you mean hive.update?');
  const same = join(dir, 'same.json');
  writeFileSync(same, JSON.stringify(app.charter.data));
  expect(await lintel('changes', same, '--tenant', 'alderbrook')).toMatchObject({ code: EXIT.yes, out: 'Nobody’s access is another than before.' });
});

test('people and records for a test are made up in a few lines, the same for the same seed', { timeout: 60_000 }, async () => {
  const build = async (seed: number) => {
    const { db: empty } = await emptyPostgres();
    const made = createLintel({ charter, db: empty });
    await makeTables(empty);
    await made.prepare();
    const plan = { seed, units: ['north', 'south'], people: { keeper: 2, warden: { unit: 'north' }, none: 1 }, records: { inspection: 6, hive: 12, sheet: 1 } };
    const world = await populate(made, empty, plan);
    const [keeper, other] = world.people.keeper;
    const [warden] = world.people.warden;
    // Each stands as their role says, and the records lie among them.
    await expect(keeper).toBeAllowed('hive.read', world.ids.hive[0]);
    await expect(world.people.none[0]).not.toBeAllowed('hive.read', world.ids.hive[0]);
    const hives = await (world.people.keyholder[0] as typeof keeper)?.find('hive', { limit: 100 });
    const of = (wanted: (hive: any) => boolean) => (hives ?? []).filter((hive) => hive.status === 'active' && wanted(hive)).map(({ id }) => id);
    await expect(keeper).toReach(
      'hive.update',
      of(({ keeperId }) => keeperId === null || keeperId === keeper?.userId),
    );
    await expect(warden).toReach(
      'hive.update',
      of(({ siteId }) => siteId === 'north'),
    );
    const told = [keeper, other, warden].map((one) => [one?.facts.me.name, one?.facts.me.unitIds]);
    const all = [told, world.ids, hives, await made.db.selectFrom('lintel_person').select(['id', 'name', 'address']).orderBy('id').execute()];
    await expect(populate(made, empty, { ...plan, people: { keper: 1 } as never, seed: seed + 100 })).rejects.toThrow('did you mean keeper');
    await empty.destroy();
    return JSON.stringify(all);
  };
  const [first, again, another] = [await build(7), await build(7), await build(8)];
  expect([first === again, first === another]).toEqual([true, false]);
});

testLong('a charter is compared with what it was at a commit, and the repository stays as it is', async () => {
  const top = mkdtempSync(join(tmpdir(), 'lintel-'));
  const git = (...args: string[]) =>
    execFileSync('git', ['-C', top, '-c', 'user.name=Maren Holt', '-c', 'user.email=maren@alderbrook.example', ...args], { encoding: 'utf8' });
  const write = (data: object) => {
    mkdirSync(join(top, 'access'), { recursive: true });
    writeFileSync(join(top, 'access', 'charter.json'), JSON.stringify(data));
    writeFileSync(
      join(top, 'lintel.config.mjs'),
      `import { readFileSync } from 'node:fs';\nexport default { charter: { hash: '', data: JSON.parse(readFileSync(new URL('./access/charter.json', import.meta.url))) } };`,
    );
  };
  git('init', '--quiet');
  writeFileSync(join(top, 'README'), '');
  git('add', '.');
  git('commit', '--quiet', '-m', 'Begun');
  const old = structuredClone(app.charter.data) as any;
  old.roles.keeper.may['hive.update'] = ['own'];
  write(old);
  git('add', '.');
  git('commit', '--quiet', '-m', 'A charter');
  write(app.charter.data);
  writeFileSync(join(top, 'staged'), '');
  git('add', 'staged');
  const before = git('status', '--porcelain');
  const changes = async (...args: string[]) => {
    const said: string[] = [];
    const code = await run(['changes', '--roles', ...args], { cwd: top, out: (t) => said.push(t), err: (t) => said.push(t), colours: false, width: 160 });
    return [code, said.join('\n')];
  };
  expect(await changes('--commit', 'HEAD')).toEqual([EXIT.refused, expect.stringContaining('hive.update')]);
  expect(await changes('--commit', 'HEAD', '--charter', 'access/charter.json')).toEqual([EXIT.refused, expect.stringContaining('hive.update')]);
  expect(await changes('--commit', 'HEAD..HEAD')).toEqual([EXIT.yes, 'Nobody’s access is another than before.']);
  expect(await changes('--commit', 'nowhere')).toEqual([EXIT.failed, expect.stringContaining('There is no commit "nowhere" here.')]);
  expect(await changes('--commit', 'HEAD~1')).toEqual([EXIT.failed, expect.stringContaining('At HEAD~1 there was no lintel.config.mjs yet.')]);
  expect(git('status', '--porcelain')).toBe(before);
});

test('two states of the membership are compared, with those who are gone and those who have come', { timeout: 60_000 }, async () => {
  const then = await apiaryOnPostgres();
  const now = await apiaryOnPostgres();
  const maren = await now.lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] });
  await maren.carryOut([
    { do: 'set-roles', holder: { user: 'tobias' }, roles: [{ role: 'reader', anchor: { on: 'tenant' } }] },
    { do: 'set-roles', holder: { user: 'lene' }, roles: [{ role: 'treasurer', anchor: { on: 'tenant' } }] },
    { do: 'remove', user: 'hanne' },
  ]);
  const args = ['changes', '--earlier', then.url, '--tenant', 'alderbrook', '--database', now.url, '--format', 'json'];
  const out: string[] = [];
  const code = await run(args, { cwd: process.cwd(), out: (t) => out.push(t), err: (t) => out.push(t), colours: false, width: 160 });
  const changes = JSON.parse(out.join('')).changes as any[];
  expect([code, [...new Set(changes.map(({ name }) => name))].sort()]).toEqual([EXIT.refused, ['Hanne Birk', 'Lene Arp', 'Tobias Renn']]);
  const of = (name: string, permission: string) => changes.find((one) => one.name === name && one.permission === permission)?.change;
  expect([of('Tobias Renn', 'hive.update'), of('Lene Arp', 'entry.read'), of('Hanne Birk', 'report.read')]).toEqual(['shrinks', 'grows', 'shrinks']);
  expect((await lintel('changes', '--tenant', 'alderbrook')).err).toContain('Compare with what?');
  await then.db.destroy();
  await now.db.destroy();
});

test('roles stand side by side like people, and so does somebody with what they held on a day', async () => {
  const maren = await enter('maren');
  const before = new Date().toISOString();
  expect((await lintel('compare', 'otto', `otto@${before}`, '--tenant', 'alderbrook')).out).toContain('They hold the same.');
  await maren.carryOut([{ do: 'set-roles', holder: { user: 'otto' }, roles: [{ role: 'reader', anchor: { on: 'tenant' } }] }]);
  const then = await lintel('compare', 'otto', `otto@${before}`, '--tenant', 'alderbrook', '--on', 'hive.update');
  expect(then.out).toMatch(/hive\.move\s+–\s+all in Orchard side \(role Site warden, at Orchard side\)/);
  expect(then.out).toMatch(/only Otto Feld on \S+\s+10 /);
  const roles = JSON.parse((await lintel('compare', 'role:keeper', 'role:warden', 'tobias', '--tenant', 'alderbrook', '--format', 'json')).out);
  expect(roles.names).toEqual(['Keeper (role)', 'Site warden (role)', 'Tobias Renn']);
  expect(roles.permissions.find((one: any) => one.permission === 'hive.move').each.map(({ ways }: any) => ways)).toEqual([['own'], ['all'], ['own']]);
  expect((await lintel('compare', 'role:keepr', 'tobias', '--tenant', 'alderbrook')).err).toContain('did you mean keeper?');
  await maren.carryOut([
    {
      do: 'set-roles',
      holder: { user: 'otto' },
      roles: [
        { role: 'reader', anchor: { on: 'tenant' } },
        { role: 'warden', anchor: { on: 'unit', unitId: 'orchards' } },
      ],
    },
  ]);
});

test('what gives a permission is everything by which somebody has it, with whoever has it', async () => {
  const maren = await enter('maren');
  await maren.carryOut([
    { do: 'make-group', id: 'crew', name: 'Crew', people: ['lene'] },
    { do: 'set-roles', holder: { group: 'crew' }, roles: [{ role: 'keeper', anchor: { on: 'unit', unitId: 'heath' } }] },
    { do: 'set-permissions', holder: { user: 'wim' }, permissions: [{ permission: 'hive.update', reach: 'unclaimed', anchor: { on: 'tenant' } }] },
  ]);
  const { out } = await lintel('gives', 'hive.update', '--tenant', 'alderbrook', '--format', 'json');
  const givers: any[] = JSON.parse(out);
  expect(givers.map(({ by, reaches }) => [by, reaches])).toEqual([
    ['full control', ['all']],
    ['role Keeper', ['own', 'unclaimed']],
    ['role Site warden', ['all']],
    ['given alone', ['unclaimed']],
  ]);
  expect(givers[1].holders).toEqual(expect.arrayContaining(['Sela Vardy', 'group Crew (1) at Heath edge']));
  // Nobody may who is not among them.
  const may = [];
  for (const { userId, name } of await maren.members.list()) if ((await enter(userId)).may('hive.update')) may.push(name);
  const named = (name: string) => givers.some(({ holders }) => holders.some((one: string) => one.startsWith(name))) || name === 'Lene Arp';
  expect(may.filter((name) => !named(name))).toEqual([]);
  expect((await lintel('gives', 'hive.updte', '--tenant', 'alderbrook')).err).toContain('did you mean hive.update?');
});

test('counts of very many people are those that each would have alone', async () => {
  const roles = ['keeper', 'inspector', 'treasurer'].map((role) => ({ role, anchor: { on: 'tenant' } as const }));
  const charter: Charter<any> = app.charter;
  const people = ['tobias', 'sela', 'otto', 'ingrid', 'maren', 'gone', ...Array.from({ length: 14 }, (_, i) => `nobody${i}`)];
  await sql`insert into hive_inspectors (tenant_id, hive_id, user_id) select tenant_id, hive_id, 'tobias' from hive_inspectors where hive_id < 'a-hive-12'`.execute(
    db,
  );
  await sql`alter table hive_inspectors drop constraint if exists hive_inspectors_pkey`.execute(db);
  await sql`insert into hive_inspectors select * from hive_inspectors`.execute(db);
  await sql`update inspections set hive_id = null where id = 'a-hive-05-visit'`.execute(db).catch(() => undefined);
  const standings = people.map((userId) => {
    const facts = madeUpFacts(charter, { id: 'alderbrook', name: '', open: true, contact: null, features: [] }, roles);
    return new Standing(charter, { ...facts, me: { ...facts.me, userId, name: userId } });
  });
  const table = await accessTable(charter, 'people', peopleSubjects(standings), { tenant: standings[0]?.facts.tenant as never, db });
  let [compared, reached] = [0, 0];
  for (const section of table.sections) {
    for (const [i, { cells }] of section.rows.entries()) {
      for (const [k, { count }] of cells.entries()) {
        const { name } = section.permissions[k] as { name: string };
        const { kind, action } = charter.permission(name);
        if (!kind || action === 'create') continue;
        const alone = await countRecords(db, charter.shapes, kind, 'alderbrook', [(standings[i] as Standing<any>).reachOf(name)]);
        expect([people[i], name, count]).toEqual([people[i], name, alone.counts[0]]);
        compared += 1;
        if (count !== 0 && count !== alone.total) reached += 1;
      }
    }
  }
  expect([compared > 300, reached > 40]).toEqual([true, true]);

  // What stands out among the records is what a count record by record finds.
  const hives = (await (await enter('maren')).find('hive', { limit: 500 })) as any[];
  const members = { standings: standings.filter(({ userId }) => userId !== 'gone'), ids: people.filter((id) => id !== 'gone') };
  const narrow = {
    standings: members.standings.map((one) => new Standing(charter, { ...one.facts, assignments: one.facts.assignments.slice(1) })),
    ids: members.ids,
  };
  for (const who of [members, narrow])
    for (const most of [0, 1, 2, 5, 18, 19]) {
      const { sections } = await accessTable(charter, 'people', [], { tenant: standings[0]?.facts.tenant as never, db, members: who, most, only: ['hive'] });
      const readers = hives.map((hive) => who.standings.filter((one) => one.may('hive.read', hive)).length);
      const left = hives.filter(({ keeperId }) => keeperId !== null && !who.ids.includes(keeperId)).length;
      expect([sections[0]?.stray?.unread?.count, sections[0]?.stray?.left?.count]).toEqual([readers.filter((n) => n === 0).length, left]);
      expect(sections[0]?.stray?.crowded).toEqual({ most, count: readers.filter((n) => n > most).length });
    }
});
