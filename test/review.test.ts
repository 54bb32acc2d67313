/* The critical reading of a charter: each fault that is put into a sound one is found where it is, and a sound one is left alone. */
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Ajv } from 'ajv';
import addFormats from 'ajv-formats';
import { expect, test } from 'vitest';
import { readCharter } from 'warm-lintel';
import { EXIT, run } from 'warm-lintel/cli';
import { REVIEW_CODES, reviewCharter } from 'warm-lintel/rehearsal';
import { charter as apiary } from '../examples/apiary/world/charter.js';
import { charter as attacked } from '../properties/attack/world.js';
import { charter as club } from './club.js';
import { apiaryOnPostgres } from './worlds.js';

/** The schema of SARIF 2.1.0, of draft 4, as a validator of a later draft takes it. */
function sarifSchema() {
  const { $schema: _, id, ...schema } = createRequire(import.meta.url)('@microsoft/jest-sarif/lib/schemas/sarif-2.1.0-rtm.5.json');
  return addFormats.default(new Ajv({ strict: false, unicodeRegExp: false })).compile({ $id: id, ...schema });
}

const is = (field: string, value: unknown) => ({ op: 'is', field, to: { value } });
const mine = (field: string) => ({ op: 'is', field, to: { me: 'userId' } });

/** A fault: what it is called, what makes it, and where it is to be found. */
const FAULTS: readonly [code: keyof typeof REVIEW_CODES, make: (charter: any) => void, place: string][] = [
  // Of the demo as it is.
  ['keyholder-reaches-past', () => {}, 'keyholder'],
  ['lost-by-coming-in', (c) => void (c.visitor = { 'sheet.read': ['shared'] }), 'visitor["sheet.read"]'],
  ['reach-empty', (c) => void (c.kinds.hive.reaches.never = { op: 'and', of: [is('status', 'active'), is('status', 'archived')] }), 'kinds.hive.reaches.never'],
  [
    'reach-empty',
    (c) => void (c.kinds.hive.reaches.never = { op: 'and', of: [mine('keeperId'), { op: 'isEmpty', field: 'keeperId' }] }),
    'kinds.hive.reaches.never',
  ],
  [
    'reach-everything',
    (c) => void (c.kinds.hive.reaches.own = { op: 'or', of: [mine('keeperId'), { op: 'not', of: mine('keeperId') }] }),
    'kinds.hive.reaches.own',
  ],
  [
    'reach-everything',
    (c) =>
      void (c.kinds.entry.reaches.open = {
        op: 'or',
        of: [
          { op: 'isEmpty', field: 'purpose' },
          { op: 'not', of: { op: 'isEmpty', field: 'purpose' } },
        ],
      }),
    'kinds.entry.reaches.open',
  ],
  ['reach-doubled', (c) => void (c.roles.keeper.may['hive.update'] = ['own', 'unclaimed', 'tenant']), 'roles.keeper.may["hive.update"]'],
  [
    'limit-never',
    (c) => void (c.limits.hive.archived.where = { op: 'and', of: [is('status', 'archived'), { op: 'not', of: is('status', 'archived') }] }),
    'limits.hive.archived',
  ],
  [
    'limit-always',
    (c) =>
      void Object.assign(c.limits.entry.booked, {
        lasting: true,
        where: { op: 'or', of: [is('status', 'booked'), { op: 'not', of: is('status', 'booked') }] },
      }),
    'limits.entry.booked',
  ],
  [
    'limit-passed-empty',
    (c) => void (c.limits.hive.crowded = { actions: ['inspect'], where: { op: 'atLeast', field: 'colonies', to: { value: 9 } }, sentence: 'x.' }),
    'limits.hive.crowded',
  ],
  [
    'limits-lock',
    (c) => {
      c.limits.hive.numbered = { actions: ['archive'], where: is('registrationNo', 'X'), sentence: 'x.' };
    },
    'limits.hive.archived',
  ],
  [
    'raise-alone',
    (c) => void (c.roles.inspector.may['hive.appoint'] = c.roles.inspector.may['hive.read'] = ['tenant']),
    'roles.inspector.may["hive.register"]',
  ],
  [
    'raise-alone',
    (c) => void Object.assign(c.roles.junior.may, { 'hive.read': ['tenant'], 'hive.move': ['tenant'], 'hive.archive': ['onSite'] }),
    'roles.junior.may["hive.archive"]',
  ],
  [
    'needs-apart',
    (c) => {
      delete c.roles.inspector.may['hive.register'];
      c.apart.numbers = { hold: ['hive.inspect', 'hive.register'], sentence: 'x.' };
    },
    'apart.numbers',
  ],
  ['acts-unread', (c) => void delete c.roles.treasurer.may['entry.read'], 'roles.treasurer.may["entry.update"]'],
  [
    'acts-unread',
    (c) => void (c.roles.junior.may = { 'area.hives': ['tenant'], 'hive.read': ['unclaimed'], 'hive.archive': ['own'] }),
    'roles.junior.may["hive.archive"]',
  ],
  ['acts-beyond-read', (c) => void (c.roles.junior.may['hive.update'] = ['tenant']), 'roles.junior.may["hive.update"]'],
  ['acts-beyond-read', (c) => void (c.roles.inspector.may['hive.archive'] = ['own']), 'roles.inspector.may["hive.archive"]'],
  ['need-missing', (c) => void delete c.roles.secretary.may['member.read'], 'roles.secretary.may["member.invite"]'],
  ['need-missing', (c) => void (c.roles.reader.may['area.ledger'] = ['tenant']), 'roles.reader.may["area.ledger"]'],
  ['starts-closed', (c) => void (c.roles.treasurer.startsAt = 'health'), 'roles.treasurer.startsAt'],
  ['role-empty', (c) => void (c.roles.helper = { label: 'Helper', may: {} }), 'roles.helper'],
  ['roles-alike', (c) => void (c.roles.bookkeeper = { ...c.roles.treasurer, label: 'Bookkeeper' }), 'roles.bookkeeper'],
  [
    'full-control',
    (c) => {
      const all = [...apiary.permissions.values()].map(({ name, kind }) => [name, [kind ? apiary.widestReach(kind) : 'tenant']]);
      c.roles.office = { label: 'Office', may: Object.fromEntries(all) };
    },
    'roles.office',
  ],
  ['raise-with-another', (c) => void (c.roles.keeper.gives = ['treasurer']), 'roles.secretary.gives'],
  [
    'apart-in-one',
    (c) => {
      c.apart.books = { hold: ['entry.book', 'report.read'], sentence: 'x.' };
      c.roles.healthOfficer.includes = ['treasurer'];
    },
    'roles.healthOfficer',
  ],
  ['apart-in-one', (c) => void (c.apart.books = { hold: ['reader', 'keeper'], sentence: 'x.' }), 'roles.keeper'],
  ['visitor-acts', (c) => void (c.visitor['hive.update'] = ['own']), 'visitor["hive.update"]'],
  ['visitor-acts', (c) => void (c.signedIn['member.read'] = ['tenant']), 'signedIn["member.read"]'],
  ['visitor-reads-all', (c) => void (c.visitor['hive.read'] = ['tenant']), 'visitor["hive.read"]'],
  ['nobody-can', (c) => void (c.kinds.entry.actions.book.channels = []), 'kinds.entry.actions.book'],
];

/** What changes nothing that matters: here nothing is to be found. */
const SOUND: readonly ((charter: any) => void)[] = [
  () => {},
  (c) => void (c.visitor['sheet.read'] = ['shared']),
  (c) => void (c.roles.reader.may['hive.update'] = ['own']),
  (c) => void (c.roles.secretary.gives = ['reader', 'keeper', 'junior', 'treasurer']),
  (c) => void (c.kinds.hive.actions.archive.channels = ['office']),
  (c) => void (c.apart.books = { hold: ['treasurer', 'healthOfficer'], sentence: 'x.' }),
  (c) => void (c.limits.entry.mine = { actions: ['book'], where: mine('madeBy'), sentence: 'nobody books what they wrote.' }),
  (c) => void (c.roles.warden.may['hive.appoint'] = ['tenant']),
  (c) => void (c.kinds.hive.reaches.own = mine('madeBy')),
  (c) => void Object.assign(c.roles.junior.may, { 'hive.move': ['onSite'], 'hive.archive': ['onSite'] }),
  (c) => void (c.limits.hive.numbered = { actions: ['archive'], where: is('registrationNo', 'X'), before: true, lasting: true, sentence: 'x.' }),
  (c) =>
    void (c.limits.hive.crowded = {
      actions: ['inspect'],
      where: {
        op: 'or',
        of: [
          { op: 'isEmpty', field: 'colonies' },
          { op: 'atLeast', field: 'colonies', to: { value: 9 } },
        ],
      },
      sentence: 'x.',
    }),
  (c) =>
    void (c.limits.hive.small = { actions: ['inspect'], where: { op: 'not', of: { op: 'atLeast', field: 'colonies', to: { value: 2 } } }, sentence: 'x.' }),
  (c) => void (c.kinds.hive.reaches.kept = { op: 'not', of: { op: 'isEmpty', field: 'keeperId' } }),
];

const weighs = (charter: Parameters<typeof reviewCharter>[0]) => reviewCharter(charter).filter(({ severity }) => severity !== 'note');
const changed = (change: (charter: any) => void) => {
  const data = structuredClone(apiary.data);
  change(data);
  return readCharter(data);
};

test(`each of ${FAULTS.length} faults in a copy of the demo’s charter is found in its place, and nothing but it`, () => {
  for (const [code, make, place] of FAULTS) {
    const found = reviewCharter(changed(make));
    expect([code, place, found.map((one) => `${one.code} ${one.place}`)]).toEqual([code, place, expect.arrayContaining([`${code} ${place}`])]);
    // What follows from it may be told too; what has nothing to do with it may not.
    const beside = found.filter((one) => !one.place.startsWith(place.split('[')[0] as string) && one.code !== code && one.place !== 'keyholder');
    expect([code, beside]).toEqual([code, []]);
  }
  expect(new Set(FAULTS.map(([code]) => code))).toEqual(new Set(Object.keys(REVIEW_CODES)));
});

test(`in ${SOUND.length + 1} sound charters nothing is found`, () => {
  for (const change of SOUND) expect(weighs(changed(change))).toEqual([]);
  expect(weighs(attacked)).toEqual([]);
  // Said on purpose: an action that is done from nowhere.
  expect(weighs(club).map(({ code }) => code)).toEqual(['nobody-can']);
});

test('in a tenant each fault is found at whom or what it is, and a sound one shows only who was given nothing', async () => {
  const { db, lintel, url } = await apiaryOnPostgres();
  const dir = mkdtempSync(join(tmpdir(), 'lintel-'));
  const file = join(dir, 'charter.json');
  const apart = { books: { hold: ['treasurer', 'keeper'], sentence: 'who keeps the books keeps no hives.' } };
  const review = async (charter: object, tenant = 'alderbrook') => {
    writeFileSync(file, JSON.stringify(charter));
    const out: string[] = [];
    const args = ['review', '--charter', file, '--database', url, '--tenant', tenant, '--format', 'json'];
    const code = await run(args, { cwd: dir, out: (t) => out.push(t), err: (t) => out.push(t), colours: false, width: 160 });
    return { code, found: (JSON.parse(out.join('\n')) as { code: string; place: string }[]).map((one) => `${one.code} ${one.place}`).sort() };
  };
  // By three kinds full control goes further than any role.
  const sound = ['holds-nothing alderbrook.members.lene', ...Array(3).fill('keyholder-reaches-past keyholder')];
  expect(await review(apiary.data)).toEqual({ code: EXIT.refused, found: sound });
  const quillmoor = await review(apiary.data, 'quillmoor');
  expect([quillmoor.code, quillmoor.found.filter((one) => !one.startsWith('role-unheld ') && !one.endsWith(' keyholder'))]).toEqual([EXIT.yes, []]);
  // People who are kept from each other, in two groups each of its own company; one of them is in both.
  const names = ['ivo', 'ada', 'pia', 'gus', 'lou'];
  for (const id of names) await lintel.addPerson({ id, name: id, address: `${id}@firms.example` });
  await db
    .insertInto('lintel_member')
    .values(names.map((user_id) => ({ tenant_id: 'alderbrook', user_id, status: 'active', since: new Date(), attributes: '{}' })))
    .execute();
  const role = (user: string, name: string) => ({ do: 'set-roles', holder: { user }, roles: [{ role: name, anchor: { on: 'tenant' } }] }) as const;
  const maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: ['recentSignIn'] });
  await maren.carryOut([
    { do: 'make-role', id: 'own-firm', role: { label: 'Firm', may: { 'hive.read': ['tenant'], 'member.read': ['groups'] } } },
    { do: 'make-role', id: 'own-left', role: { label: 'Left over', may: { 'hive.read': ['own'] } } },
    ...names.slice(0, 4).map((user) => role(user, 'own-firm')),
    role('lou', 'own-left'),
    { do: 'make-group', id: 'north', name: 'North Ltd', people: ['ivo', 'ada'] },
    { do: 'make-group', id: 'south', name: 'South Ltd', people: ['ada', 'pia', 'gus'] },
    {
      do: 'set-roles',
      holder: { user: 'tobias' },
      roles: [
        { role: 'keeper', anchor: { on: 'tenant' } },
        { role: 'treasurer', anchor: { on: 'tenant' } },
      ],
    },
  ]);
  await db
    .insertInto('lintel_role')
    .values({
      tenant_id: 'alderbrook',
      id: 'own-old',
      data: JSON.stringify({ label: 'Old', includes: ['gardener'], gives: [], may: { 'hive.paint': ['tenant'], 'hive.read': ['near'] } }),
    })
    .execute();
  expect((await review({ ...apiary.data, apart })).found).toEqual(
    [
      ...sound,
      'bridge alderbrook.members.ada',
      'holds-apart alderbrook.members.tobias',
      'names-what-is-gone alderbrook.roles.own-old',
      'reads-nothing alderbrook.members.lou',
      'role-empty alderbrook.roles.own-old',
      'role-unheld alderbrook.roles.own-old',
    ].sort(),
  );
  // Somebody of the one who comes to know of the other makes them no longer kept apart.
  await maren.carryOut([{ do: 'set-group', id: 'south', people: ['ada', 'pia', 'gus', 'ivo'] }]);
  expect((await review(apiary.data)).found.filter((one) => one.startsWith('bridge'))).toEqual([]);
  await db.destroy();
});

test('the command says where, why and what to do, takes what is accepted with its reason, and writes SARIF', async () => {
  const dir = mkdtempSync(join(tmpdir(), 'lintel-'));
  const file = join(dir, 'charter.json');
  writeFileSync(file, JSON.stringify(changed((c) => void delete c.roles.treasurer.may['entry.read']).data, null, 1));
  const review = async (...args: string[]) => {
    const [out, err]: [string[], string[]] = [[], []];
    const code = await run(['review', ...args], { cwd: dir, out: (t) => out.push(t), err: (t) => err.push(t), colours: false, width: 160 });
    return { code, out: out.join('\n'), err: err.join('\n') };
  };
  const { code, out } = await review('--charter', file);
  expect([code, out]).toEqual([
    EXIT.refused,
    expect.stringMatching(
      /^error {2}roles\.treasurer\.may\["entry\.update"\] {2}acts-unread {2}charter\.json:\d+\n {2}“Correct a ledger entry” reaches nothing: none of it can be read\n/,
    ),
  ]);
  const sarif = JSON.parse((await review('--charter', file, '--format', 'sarif')).out);
  const conforms = sarifSchema();
  expect([conforms(sarif), conforms.errors ?? []]).toEqual([true, []]);
  const [{ tool, results }] = sarif.runs;
  expect([sarif.version, results.length > 3, results.every((one: any) => tool.driver.rules.some((rule: any) => rule.id === one.ruleId))]).toEqual([
    '2.1.0',
    true,
    true,
  ]);
  expect(results[0]).toMatchObject({ level: 'error', locations: [{ logicalLocations: [{ fullyQualifiedName: expect.stringContaining('roles.treasurer') }] }] });
  // Each points at the line on which it is written.
  const lines = readFileSync(file, 'utf8').split('\n');
  const { artifactLocation, region } = results[0].locations[0].physicalLocation;
  const before = lines.slice(0, region.startLine - 1);
  expect([artifactLocation.uri, lines[region.startLine - 1]?.trim(), before.some((line) => line.trim() === '"treasurer": {')]).toEqual([
    'charter.json',
    '"entry.update": [',
    true,
  ]);
  const config = async (accepted: object) => {
    const name = join(dir, `${Object.keys(accepted).length}.config.mjs`);
    writeFileSync(
      name,
      `import { readFileSync } from 'node:fs'; export default { charter: { data: JSON.parse(readFileSync(${JSON.stringify(file)})), hash: '' }, accepted: ${JSON.stringify(accepted)} };`,
    );
    return review('--config', name);
  };
  const names = results.map((one: any) => `${one.ruleId} ${one.locations[0].logicalLocations[0].fullyQualifiedName}`);
  expect(await config(Object.fromEntries(names.map((name: string) => [name, 'until spring'])))).toMatchObject({
    code: EXIT.yes,
    out: `Nothing was found. ${names.length} accepted.`,
  });
  expect((await config({ 'role-empty roles.gone': 'x' })).err).toContain('is not found any more; leave it out');
});
