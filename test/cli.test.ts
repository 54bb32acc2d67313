/* The command, run on the demo data through its own interface; once as a process. */
import { execFile } from 'node:child_process';
import { mkdtempSync, writeFileSync } from 'node:fs';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { type ServerType, serve } from '@hono/node-server';
import pg from 'pg';
import { beforeAll, expect, test } from 'vitest';
import { everythingMet, readCharter } from 'warm-lintel';
import { EXIT, run } from 'warm-lintel/cli';
import { directoryPages } from 'warm-lintel/http';
import { connect, createLintel } from 'warm-lintel/server';
import { push } from '../examples/apiary/provider/directory.js';
import { charter } from '../examples/apiary/world/charter.js';
import { testLong } from './long.js';
import { apiaryOnPostgres, barePostgres } from './worlds.js';

let url: string;
beforeAll(async () => {
  const { url: made, db } = await apiaryOnPostgres();
  url = made;
  await db.destroy();
});

async function lintel(...args: string[]) {
  const [out, err]: [string[], string[]] = [[], []];
  const code = await run(args, { cwd: process.cwd(), out: (t) => out.push(t), err: (t) => err.push(t), colours: false, width: 160 });
  return { code, out: out.join('\n'), err: err.join('\n') };
}
const onPostgres = (...args: string[]) => lintel(...args, '--database', url);

test('a database without the tables is told apart from one that does not answer', async () => {
  const { url: empty, db } = await barePostgres();
  const dir = mkdtempSync(join(tmpdir(), 'lintel-'));
  writeFileSync(join(dir, 'charter.json'), JSON.stringify(charter.data));
  const err: string[] = [];
  const around = { cwd: dir, out: (t: string) => err.push(t), err: (t: string) => err.push(t), colours: false, width: 160 };
  const table = () => run(['table', '--tenant', 'alderbrook', '--charter', 'charter.json', '--database', empty], around);
  expect([await table(), err.at(-1)]).toEqual([EXIT.failed, expect.stringContaining('The membership is not in this database')]);
  const lintel = createLintel({ charter: readCharter({ kinds: {} }), db });
  await lintel.prepare();
  await lintel.addPerson({ id: 'maren', name: 'Maren', address: 'maren@alderbrook.example' });
  await lintel.openTenant({ id: 'alderbrook', name: 'Alderbrook', keyholder: 'maren' });
  expect([await table(), err.at(-1)]).toEqual([EXIT.failed, expect.stringContaining('There is no table hives in this database')]);
  await db.destroy();
});

test('the table says how far each reaches, with counts of the real records', async () => {
  const { code, out } = await onPostgres('table', '--by', 'people', '--only', 'hive', '--tenant', 'alderbrook');
  expect(code).toBe(EXIT.yes);
  expect(out).toMatch(/^Access in Alderbrook Beekeepers, by person$/m);
  expect(out).toMatch(/^Ingrid Oakes +appointed 5 +· +· .* appointed 5 +appointed 5 +·$/m);
  expect(out).toMatch(/^Maren Holt +all 24 +all +all 22 +all 22 /m);
  expect(out).toMatch(/^Otto Feld +all 24 +all \[1\] +all \[1\] 10 /m);
  expect(out).toMatch(/\[1\] only in Orchard side$/);
});

test('the same table is data, Markdown, and roles without a database', async () => {
  const json = JSON.parse((await onPostgres('table', '--tenant', 'Alderbrook Beekeepers', '--format', 'json')).out);
  const hives = json.sections.find((s: any) => s.name === 'Hives');
  const column = hives.permissions.findIndex((p: any) => p.name === 'hive.update');
  expect(hives.total).toBe(24);
  expect(hives.rows.find((r: any) => r.subject.id === 'keeper').cells[column]).toEqual({ ways: ['own', 'unclaimed'], count: 16 });
  expect((await onPostgres('table', '--only', 'member', '--format', 'md', '--tenant', 'alderbrook')).out).toContain(
    '| Secretary | yes | yes | – | yes | – | – |',
  );
  const file = join(mkdtempSync(join(tmpdir(), 'lintel-')), 'charter.json');
  writeFileSync(file, JSON.stringify(charter.data));
  const { code, out } = await lintel('table', '--charter', file, '--only', 'entry');
  expect([code, out.includes('Treasurer                 all           all')]).toEqual([EXIT.yes, true]);
});

test('the table goes out as CSV, a line for each permission that somebody has, safe in a spreadsheet', async () => {
  const { out } = await onPostgres('table', '--by', 'people', '--only', 'hive', '--tenant', 'alderbrook', '--format', 'csv');
  const lines = out.split('\n');
  expect(lines[0]).toBe('person,id,may,permission,how far,records');
  expect(lines).toContain('Otto Feld,otto,Change a hive,hive.update,all in Orchard side,10');
  expect(lines).toContain('Maren Holt,maren,See a hive,hive.read,all,24');
  expect(lines.filter((line) => line.startsWith('Lene'))).toEqual([]);
});

test('a record is named by its id, by what it is called, or by its address; and who may do something to it is told with every way', async () => {
  const { out } = await onPostgres('who', 'hive.update', 'Bramble hive', '--tenant', 'alderbrook');
  expect(out).toMatch(/Otto Feld\s+all\s+role Site warden, at Orchard side/);
  expect(out).toMatch(/Sela Vardy\s+own\s+role Keeper, for the whole organisation/);
  for (const named of ['a-hive-02', 'http://localhost:4173/t/alderbrook/hives/a-hive-02?tab=1#top', '/api/hives/a-hive-02/notes'])
    expect((await onPostgres('who', 'hive.update', named, '--tenant', 'alderbrook')).out).toBe(out);
  // Of several tenants the one is meant in which there is such a record.
  expect((await onPostgres('who', 'hive.update', 'a-hive-02')).out).toBe(out);
  expect((await onPostgres('who', 'hive.update', 'Nowhere hive')).err).toContain('which tenant?');
  expect((await onPostgres('why', 'tobias', 'hive.update', 'Bramble hive')).out).toBe((await onPostgres('why', 'tobias', 'hive.update', 'a-hive-02')).out);
  // Of another organisation nothing is told, by whatever name.
  for (const named of ['q-hive-02', 'nowhere', 'http://localhost:4173/t/quillmoor/hives/q-hive-02', '%%%'])
    expect(await onPostgres('who', 'hive.update', named, '--tenant', 'alderbrook')).toMatchObject({ code: EXIT.failed, err: 'lintel: There is no such hive.' });
  expect((await onPostgres('who', 'member.remove', 'x', '--tenant', 'alderbrook')).err).toContain('lintel gives member.remove says who has it');
});

test('why tells each grant that was looked at, the part that failed, what they are told and whom to ask', async () => {
  const { code, out } = await onPostgres('why', 'Tobias Renn', 'hive.update', 'a-hive-02');
  expect(code).toBe(EXIT.refused);
  expect(out).toBe(`Tobias Renn may not change a hive: Bramble hive (a-hive-02)
in Alderbrook Beekeepers, as Keeper

Because it is given, but not for this record.

hive.update
  no   own, by role Keeper, for the whole organisation  where keeper is me
       but keeper is not Tobias Renn (it is Sela Vardy)
  no   unclaimed, by role Keeper, for the whole organisation  where keeper is empty
       but keeper is not empty
hive.read, on which it rests
  yes  all records, by role Keeper, which includes Reader, for the whole organisation

They are told: You may change a hive only where you are the keeper or keeper is empty. That is not so for Bramble hive. Ask Maren Holt, maren@alderbrook.example.
Who could change it: Maren Holt (keyholder)`);
  expect((await onPostgres('why', 'tobias', 'hive.update', 'a-hive-01')).code).toBe(EXIT.yes);
  expect((await onPostgres('why', 'maren', 'hive.update', 'a-hive-09')).out).toContain('Because the limit “archived” holds');
  expect((await onPostgres('why', 'rosa@quillmoor.example', 'hive.read', 'a-hive-01')).out).toContain('there is no such record in this organisation');
  expect((await onPostgres('why', 'rosa', 'hive.read', 'a-hive-01', '--tenant', 'alderbrook')).out).toContain('no standing here');
  expect(JSON.parse((await onPostgres('why', 'lene', 'area.ledger', '--format', 'json')).out)).toMatchObject({
    allowed: false,
    outcome: 'no grant',
    ask: ['Maren Holt (keyholder)'],
  });
});

test('what is unknown is answered with the near match, on standard error, with exit code 2', async () => {
  const cases: [string[], string][] = [
    [['why', 'tobias', 'hive.updte'], 'no action "hive.updte"; did you mean hive.update?'],
    [['why', 'tobais', 'hive.read', '--tenant', 'alderbrook'], 'no person "tobais"; did you mean tobias?'],
    [['why', 'ingrid', 'hive.read'], 'which tenant? Give --tenant with one of alderbrook, quillmoor'],
    [['table', '--tenant', 'alderbrok'], 'no tenant "alderbrok"; did you mean alderbrook?'],
    [['table', '--only', 'hvie'], 'no kind "hvie"; did you mean hive?'],
    [['tabel'], "unknown command 'tabel'"],
    [['table', '--format', 'xml'], 'Allowed choices are text, json, md'],
  ];
  for (const [args, message] of cases) {
    const { code, out, err } = await onPostgres(...args).catch((e) => ({ code: String(e), out: '', err: '' }));
    expect({ args, code, out, told: err.includes(message) || err }).toEqual({ args, code: EXIT.failed, out: '', told: true });
  }
  expect((await lintel('why', 'x', 'hive.read', '--database', 'postgres://nobody@127.0.0.1:1/none')).err).toContain('The database does not answer');
  expect((await lintel('table', '--database', 'mysql://x')).err).toContain('--database takes postgres://');
  expect((await lintel('table', '--config', 'nowhere.ts')).err).toContain('There is no file nowhere.ts');
  expect((await lintel('why', '--help')).out).toMatch(/Example:[\s\S]*Exit codes:/);
  // In the order of the work; whatever is a command stands in one of these groups.
  const { out: all } = await lintel('--help');
  expect(all.match(/^[A-Z][a-z ]+:$/gm)).toEqual(['Options:', 'Look:', 'Hold:', 'Change:', 'Set up:', 'Help:', 'Exit codes:']);
  expect(all.match(/^Help:\n(.+)\n\n/m)?.[1]).toMatch(/^ {2}help /);
});

test('what a configuration throws is one sentence with its place, and a package that is missing says what to install', async () => {
  const dir = mkdtempSync(join(tmpdir(), 'lintel-'));
  const charterFile = `const charter = { data: ${JSON.stringify(charter.data)}, hash: '' };`;
  const cases: [string, string][] = [
    [`import pg from 'no-such-package';`, 'the package no-such-package is not installed; npm install no-such-package'],
    [`import { app } from './app.js';`, 'there is no file'],
    [`${charterFile}\nthrow new TypeError('oh');`, 'failed: oh ('],
    [`${charterFile} export default { charter, database: () => import('no-such-package'), probe: () => ({}) };`, 'npm install no-such-package'],
    [
      `${charterFile} export default { charter, database, people: () => { throw new TypeError('oh'); }, probe: () => ({}) };`,
      'people in the configuration failed: oh (',
    ],
    [`${charterFile} export default { charter, database, probe: () => ({}).app() };`, 'probe in the configuration failed: '],
  ];
  for (const [i, [text, told]] of cases.entries()) {
    const file = join(dir, `wrong-${i}.config.mjs`);
    writeFileSync(file, `const database = () => {};\n${text}`);
    const args = ['probe', '--config', file, ...(text.includes('database,') ? ['--database', url] : [])];
    expect({ i, ...(await lintel(...args)) }).toEqual({ i, code: EXIT.failed, out: '', err: expect.stringContaining(told) });
  }
});

testLong('as a process it finds its configuration, and ends with the exit code', async () => {
  const ended = await promisify(execFile)(
    'node',
    ['--conditions=warm-lintel-source', '--import', 'tsx', 'src/cli/bin.ts', 'why', 'otto', 'hive.update', 'a-hive-04'],
    { encoding: 'utf8' },
  ).catch((e) => e);
  expect(ended.code).toBe(1);
  expect(ended.stdout).toContain('no   all records, by role Site warden, at Orchard side\n       but site is none of (');
});

test('a change is shown before it is made, made in somebody’s name, and refused in the name of who may not', async () => {
  const shown = await onPostgres('members', 'lene', '--roles', 'keeper', 'warden@orchards', '--as', 'maren', '--tenant', 'alderbrook', '--dry-run');
  expect([shown.code, shown.err]).toEqual([EXIT.yes, '']);
  expect(shown.out).toMatch(/^1 person gains or loses something by it\.\n\nLene Arp\n {2}\+ See a hive +not at all -> all {2}\(0 -> 24, such as /);
  expect((await onPostgres('members', 'lene', '--tenant', 'alderbrook')).out).toContain('Lene Arp: no role');
  const refused = await onPostgres('members', 'lene', '--remove', '--as', 'wim', '--tenant', 'alderbrook');
  expect([refused.code, refused.out]).toEqual([
    EXIT.refused,
    'It cannot be carried out.\nNo role of yours lets you remove members. Ask Maren Holt, maren@alderbrook.example.  refused',
  ]);
  const made = await onPostgres('members', 'lene', '--roles', 'keeper', '--as', 'maren', '--reason', 'has a hive now', '--tenant', 'alderbrook');
  expect([made.code, made.err]).toEqual([EXIT.yes, 'Done: roles changed.']);
  expect((await onPostgres('roles', 'keeper', '--tenant', 'alderbrook', '--format', 'json')).out).toContain('"name": "Lene Arp"');
  expect((await onPostgres('members', '--tenant', 'alderbrook', '--format', 'md')).out).toContain('| Lene Arp | lene@alderbrook.example | Keeper | active |');
  expect((await onPostgres('audit', '--tenant', 'alderbrook', '--limit', '1')).out).toMatch(/Maren Holt +roles changed[\s\S]*“has a hive now”/);
  expect((await onPostgres('members', 'lene', '--roles', 'keper', '--as', 'maren', '--tenant', 'alderbrook')).err).toBe(
    'lintel: no role "keper"; did you mean keeper?',
  );
});

test('many are invited from a file, each told what became of it; on a dry run nobody is', async () => {
  const file = join(mkdtempSync(join(tmpdir(), 'lintel-')), 'people.csv');
  writeFileSync(
    file,
    'address,name,roles\nanna@new.example,Anna New,keeper reader\nmaren@alderbrook.example,,\nno-address,,\nben@new.example,=Ben,warden@orchards\n',
  );
  const invite = (...more: string[]) => onPostgres('invite', '--file', file, '--as', 'maren', '--tenant', 'alderbrook', '--format', 'json', ...more);
  const outcomes = (out: string) => JSON.parse(out).map(({ outcome }: any) => outcome);
  const dry = await invite('--dry-run');
  expect(dry.out).not.toContain('token');
  const sent = await invite();
  expect([outcomes(dry.out), sent.code]).toEqual([outcomes(sent.out), EXIT.refused]);
  expect(outcomes(sent.out)).toEqual(['invited', 'already a member', 'refused', 'invited']);
  expect(outcomes((await invite()).out)).toEqual(['already pending', 'already a member', 'refused', 'already pending']);
  writeFileSync(file, 'mail\nanna@new.example\n');
  expect((await invite()).err).toContain('there is no column “address”');
});

test('somebody is enrolled in somebody’s name: shown before, and the way in is printed once', async () => {
  const enrol = (...more: string[]) =>
    onPostgres('enrol', 'bram@oakley.example', '--name', 'Bram Oakley', '--role', 'keeper', '--as', 'maren', '--tenant', 'alderbrook', ...more);
  const dry = await enrol('--dry-run');
  expect([dry.code, dry.err]).toEqual([EXIT.yes, '']);
  expect(dry.out).toMatch(/Bram Oakley[\s\S]*Change a hive/);
  const done = await enrol();
  expect([done.code, done.err]).toEqual([EXIT.yes, 'Done: member enrolled.']);
  expect(done.out.split('\n').at(-1)).toMatch(/^[\w-]+\.[\w-]+\.[\w-]{50,}$/);
  const [one] = JSON.parse((await enrol('--format', 'json')).out).problems;
  expect(one.code).toBe('already-member');
  expect((await enrol()).out).toContain('bram@oakley.example is a member already.');
  expect((await onPostgres('enrol', 'x@oakley.example', '--as', 'maren', '--tenant', 'alderbrook')).err).toContain('--name');
});

test('people are brought from a list, with every mistake told first; without a list the members are written as one', async () => {
  const dir = mkdtempSync(join(tmpdir(), 'lintel-'));
  const list = (text: string, ...more: string[]) => {
    writeFileSync(join(dir, 'people.csv'), text);
    return onPostgres('people', join(dir, 'people.csv'), '--as', 'maren', '--tenant', 'alderbrook', ...more);
  };
  const wrong = await list('address,roles\nida@list.example,Keepr\n');
  expect([wrong.code, wrong.err]).toEqual([EXIT.refused, '1 mistake; nothing was done.']);
  expect(wrong.out).toMatch(/2 +roles +no role “Keepr”; did you mean keeper\?/);
  const right = 'address,roles\nida@list.example,Keeper\nsela@alderbrook.example,Keeper\n';
  expect([(await list(right, '--dry-run')).out, (await list(right)).out, (await list(right)).out]).toEqual([
    'It would be so; nothing was done: 1 invited, 0 changed, 1 as they are, 0 refused.',
    '1 invited, 0 changed, 1 as they are, 0 refused.',
    '0 invited, 0 changed, 2 as they are, 0 refused.',
  ]);
  const { out } = await onPostgres('people', '--as', 'maren', '--tenant', 'alderbrook');
  expect([(await list(out)).code, out]).toEqual([EXIT.yes, expect.stringContaining('Otto Feld,Reader; Site warden@Orchard side,,Junior yard,')]);
});

test('what a provider’s claims would give is told before anybody comes: the rules that spoke, what is not known, what is refused and why', async () => {
  const dir = mkdtempSync(join(tmpdir(), 'lintel-'));
  const file = (name: string, content: unknown) => {
    writeFileSync(join(dir, name), typeof content === 'string' ? content : JSON.stringify(content));
    return join(dir, name);
  };
  const nora = { sub: 'c-1017', name: 'Nora Fern', associations: ['alderbrook'], groups: ['site-wardens', 'choir'], site: 'Heath edge' };
  const admit = (claims: unknown, ...more: string[]) => onPostgres('admit', file('claims.json', claims), '--as', 'maren', '--tenant', 'alderbrook', ...more);
  const { code, out } = await admit(nora);
  expect(code).toBe(EXIT.yes);
  expect(out).toMatch(/^Would come in by The county’s sign-in\.$/m);
  expect(out).toMatch(/^rule 3 +groups is site-wardens$/m);
  expect(out).toMatch(/^role +Site warden, for Heath edge$/m);
  expect(out).toMatch(/^not known +groups: choir; that gives nothing$/m);
  expect(out).toMatch(/^ {2}\+ See a hive +not at all -> all in Heath edge {2}\(0 -> 6, such as /m);
  const elsewhere = await admit({ ...nora, site: 'Far meadow' });
  expect([elsewhere.code, elsewhere.out]).toEqual([
    EXIT.refused,
    expect.stringContaining('“Far meadow”, and there is none of that name, or more than one. Nothing is given instead.  (no-such-unit)'),
  ]);
  expect((await admit({ sub: 'x' })).out).toBe(
    'Would be refused by The county’s sign-in. The county does not list you as a member of Alderbrook. Ask the secretary.  (not-admitted)',
  );
  const data = JSON.parse((await admit(nora, '--format', 'json')).out);
  expect(data.arrived.admission.gives.roles).toEqual([{ role: 'warden', anchor: { on: 'unit', unitId: 'heath' } }]);
  const failed = async (...more: string[]) => (await admit(nora, ...more)).err;
  expect(await failed('--rules', file('rules.json', [{ when: 'a', gives: { roles: [{ role: 'kepeer', anchor: { on: 'tenant' } }] } }]))).toBe(
    'lintel: rules[0].gives.roles[0].role: no role "kepeer"; did you mean keeper?',
  );
  expect(await failed('--rules', file('rules.json', [{ whne: 'a' }]))).toBe(
    'lintel: rules[0]: a rule is { requires, is, words }, { when, is, gives } or { says, by, as }',
  );
  expect(await failed('--connection', 'couny')).toContain('did you mean county?');
  expect((await onPostgres('admit', file('no.json', '{'), '--as', 'maren', '--tenant', 'alderbrook')).err).toContain('is no JSON');
  expect((await onPostgres('admit', file('claims.json', nora), '--as', 'wim', '--tenant', 'alderbrook')).err).toBe(
    'lintel: Only a keyholder sees how people sign in.',
  );
});

test('what a directory has brought is told, with the groups that nobody has given a role, and what of it is not known', async () => {
  expect((await onPostgres('directory', '--tenant', 'alderbrook')).out).toContain('No directory has brought anybody.');
  const db = connect<any>(new pg.Pool({ connectionString: url }));
  const library = createLintel({ charter, db });
  const maren = await library.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: everythingMet(charter) });
  await maren.carryOut([
    { do: 'make-program', id: 'office', name: 'The county’s office', responsible: 'maren' },
    { do: 'set-permissions', holder: { user: 'office' }, permissions: [{ permission: 'directory.write', reach: 'tenant', anchor: { on: 'tenant' } }] },
  ]);
  const { key } = await maren.programs.makeKey('office');
  const pages = directoryPages(library as never);
  const server = await new Promise<ServerType>((resolve) => {
    const started = serve({ fetch: pages.fetch, port: 0, hostname: '127.0.0.1' }, () => resolve(started));
  });
  const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}/scim/alderbrook/v2`;
  expect(await push(base, key)).toEqual([
    'Nora Fern: brought',
    'Ida Rowe: brought',
    'Karl Venn: brought',
    'Lotte Hale: brought',
    'Beekeepers: 3 people',
    'Site wardens: 1 people',
  ]);
  expect(await push(base, key)).toEqual([
    'Nora Fern: as before',
    'Ida Rowe: as before',
    'Karl Venn: as before',
    'Lotte Hale: as before',
    'Beekeepers: 3 people',
    'Site wardens: 1 people',
  ]);
  await fetch(`${base}/Users`, { method: 'POST', headers: { authorization: `Bearer ${key}` }, body: JSON.stringify({ userName: 'x', costCenter: '17' }) });
  await new Promise((resolve) => server.close(resolve));
  const { out } = await onPostgres('directory', '--tenant', 'alderbrook');
  expect(out).toContain('The county’s office: 5 people, of whom 4 are active and 0 have come in.');
  expect(out).toMatch(/^Beekeepers +3 +no role is given to it$/m);
  expect(out).toContain('Not known here, and kept out: costCenter');
  await db.destroy();
});

test('the record is verified, taken along, and asked about a day', async () => {
  const verified = await onPostgres('audit', '--verify', '--tenant', 'alderbrook');
  expect([verified.code, verified.out]).toEqual([EXIT.yes, expect.stringMatching(/^\d+ events hold, each on the one before it\.\nhead [0-9a-f]{64}$/)]);
  const head = verified.out.split(' ').at(-1) as string;
  expect((await onPostgres('audit', '--verify', '--head', head, '--tenant', 'alderbrook')).code).toBe(EXIT.yes);
  const foreign = await onPostgres('audit', '--verify', '--head', 'f'.repeat(64), '--tenant', 'alderbrook');
  expect([foreign.code, foreign.out]).toEqual([EXIT.refused, expect.stringContaining('the hash that was kept is not among them')]);
  const lines = (await onPostgres('audit', '--export', 'jsonl', '--tenant', 'alderbrook')).out.split('\n');
  expect(lines.map((line) => JSON.parse(line).number)).toEqual(lines.map((_, i) => i + 1));
  const csv = (await onPostgres('audit', '--export', 'csv', '--tenant', 'alderbrook')).out;
  expect(csv.split('\n')[0]).toBe('number,at,actor,what,event,words,hash');
  expect((await onPostgres('audit', '--held', 'lene', '--tenant', 'alderbrook')).out).toMatch(/^lene, member: Keeper\n/);
  expect((await onPostgres('audit', '--held', 'lene', '--on', '2001-01-01', '--tenant', 'alderbrook')).err).toContain('No charter was in force');
  expect((await onPostgres('audit', '--held', 'lene', '--on', 'monday', '--tenant', 'alderbrook')).err).toContain('write it as 2026-06-30');
});
