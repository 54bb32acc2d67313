/* What is wrong with rules, with what people hold, or with the wall, and which of review and rehearse tells: `npm run properties -- probed rules`. */
import { mkdtempSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { connect, createLintel, policyStatements, type Step } from 'warm-lintel/server';
import { charter } from '../../examples/apiary/world/charter.js';
import { seed } from '../../examples/apiary/world/seed.js';
import { command, is, me } from './command.js';

const put = (into: Record<string, unknown>, key: string, value: unknown) => {
  into[key] = value;
};
const drop = (from: Record<string, unknown>, key: string) => {
  delete from[key];
};

/** The charter as data, to be spoiled. */
type Data = any;

interface Fault {
  readonly name: string;
  readonly what: string;
  readonly charter?: (data: Data) => void;
  readonly steps?: readonly Step[];
  readonly wall?: string;
}

const RULES: readonly Fault[] = [
  { name: 'keeper-changes-all', what: 'a role reaches all instead of its own', charter: (c) => put(c.roles.keeper.may, 'hive.update', ['tenant']) },
  { name: 'reader-sees-money', what: 'a role gains a permission of another', charter: (c) => put(c.roles.reader.may, 'entry.read', ['tenant']) },
  { name: 'visitor-reads', what: 'visitors see records', charter: (c) => put(c, 'visitor', { 'hive.read': ['tenant'] }) },
  {
    name: 'everybody-books',
    what: 'every member changes what some should',
    charter: (c) => Object.assign(c.everyMember, { 'entry.read': ['tenant'], 'entry.book': ['tenant'] }),
  },
  { name: 'update-without-read', what: 'a change without sight of it', charter: (c) => drop(c.roles.treasurer.may, 'entry.read') },
  { name: 'area-closed', what: 'an area whose data is closed', charter: (c) => drop(c.roles.healthOfficer.may, 'report.read') },
  { name: 'area-missing', what: 'data open, and its area closed', charter: (c) => drop(c.roles.treasurer.may, 'area.ledger') },
  {
    name: 'own-turned-round',
    what: 'a rule turned round: of others instead of own',
    charter: (c) => put(c.kinds.hive.reaches, 'own', { op: 'not', of: is('keeperId', me) }),
  },
  { name: 'own-by-maker', what: 'a rule about another field than was meant', charter: (c) => put(c.kinds.hive.reaches, 'own', is('madeBy', me)) },
  {
    name: 'unclaimed-turned-round',
    what: 'a rule that holds for all but what was meant',
    charter: (c) => put(c.kinds.hive.reaches, 'unclaimed', { op: 'not', of: { op: 'isEmpty', field: 'keeperId' } }),
  },
  {
    name: 'own-or-anything',
    what: 'a rule that holds for everything',
    charter: (c) =>
      put(c.kinds.hive.reaches, 'own', {
        op: 'or',
        of: [is('keeperId', me), { op: 'isEmpty', field: 'keeperId' }, { op: 'not', of: { op: 'isEmpty', field: 'keeperId' } }],
      }),
  },
  {
    name: 'own-and-never',
    what: 'a rule that holds for nothing',
    charter: (c) => put(c.kinds.hive.reaches, 'own', { op: 'and', of: [is('keeperId', me), { op: 'isEmpty', field: 'keeperId' }] }),
  },
  { name: 'limit-gone', what: 'a limit left out', charter: (c) => drop(c.limits.hive, 'archived') },
  { name: 'limit-for-ever', what: 'a limit that nobody can leave', charter: (c) => void c.limits.hive.archived.actions.push('archive') },
  {
    name: 'limit-turned-round',
    what: 'a limit on everything but what was meant',
    charter: (c) => put(c.limits.hive.archived, 'where', { op: 'not', of: c.limits.hive.archived.where }),
  },
  { name: 'number-for-all', what: 'a masked field without its mask', charter: (c) => drop(c.kinds.hive.fields.registrationNo, 'read') },
  { name: 'owner-by-change', what: 'an owner that whoever changes may change', charter: (c) => drop(c.kinds.hive.fields.keeperId, 'change') },
  { name: 'secretary-gives-all', what: 'a right to give what is more than one holds', charter: (c) => void c.roles.secretary.gives.push('treasurer') },
  { name: 'secretary-arranges', what: 'a role that may write roles', charter: (c) => put(c.roles.secretary.may, 'role.arrange', ['tenant']) },
  {
    name: 'two-raise-each-other',
    what: 'two roles that give one another',
    charter: (c) => {
      c.roles.treasurer.gives = ['secretary'];
      c.roles.treasurer.may['member.assign'] = ['tenant'];
      c.roles.treasurer.may['member.read'] = ['tenant'];
      c.roles.secretary.gives.push('treasurer');
    },
  },
  { name: 'same-role-twice', what: 'two roles that are the same', charter: (c) => put(c.roles, 'looker', { ...c.roles.reader, label: 'Looker' }) },
  { name: 'nobody-appoints', what: 'an action that no role has any more', charter: (c) => drop(c.roles.inspector.may, 'hive.register') },
  { name: 'keeper-is-warden', what: 'a role that includes one too many', charter: (c) => void c.roles.keeper.includes.push('warden') },
  {
    name: 'apart-by-nobody',
    what: 'what was to be apart is held by one role',
    charter: (c) => put(c, 'apart', { checks: { hold: ['treasurer', 'healthOfficer'], sentence: 'money and health are apart.' } }),
  },
];

const whole = (role: string) => ({ role, anchor: { on: 'tenant' as const } });
const HELD: readonly Fault[] = [
  {
    name: 'junior-is-keeper',
    what: 'somebody given a role too many',
    steps: [{ do: 'set-roles', holder: { user: 'junia' }, roles: [whole('junior'), whole('keeper')] }],
  },
  {
    name: 'second-keyholder',
    what: 'somebody given full control',
    steps: [{ do: 'set-roles', holder: { user: 'wim' }, roles: [whole('secretary'), whole('keyholder')] }],
  },
  {
    name: 'group-opens-ledger',
    what: 'a group with a role, and everybody in it',
    steps: [
      { do: 'make-group', id: 'all', name: 'All', people: ['tobias', 'sela', 'junia', 'lene'] },
      { do: 'set-roles', holder: { group: 'all' }, roles: [whole('treasurer')] },
    ],
  },
  {
    name: 'opened-to-a-unit',
    what: 'what a group owns, opened to a unit',
    steps: [
      { do: 'make-group', id: 'keepers', name: 'Keepers', people: ['tobias', 'sela'] },
      { do: 'open-records', group: 'keepers', to: { unit: 'junior-yard' }, kind: 'hive', actions: ['read', 'update'], keeps: true },
    ],
  },
  {
    name: 'permission-by-hand',
    what: 'a permission given to one person directly',
    steps: [{ do: 'set-permissions', holder: { user: 'lene' }, permissions: [{ permission: 'report.read', reach: 'tenant', anchor: { on: 'tenant' } }] }],
  },
  { name: 'placed-too-high', what: 'somebody placed further up than was meant', steps: [{ do: 'place', user: 'junia', units: ['junior-yard', 'orchards'] }] },
  {
    name: 'own-role-grew',
    what: 'a role of the tenant’s own with a permission too many',
    steps: [
      { do: 'make-role', id: 'own-helper', role: { label: 'Helper', may: { 'hive.read': ['tenant'], 'entry.read': ['tenant'], 'entry.update': ['tenant'] } } },
      { do: 'set-roles', holder: { user: 'lene' }, roles: [whole('own-helper')] },
    ],
  },
];

const WALL: readonly Fault[] = [
  { name: 'wall-off', what: 'row policies switched off for a table', wall: 'alter table hives disable row level security' },
  { name: 'wall-open', what: 'a policy that lets all through', wall: 'create policy everything on hives for select to probed_app using (true)' },
  {
    name: 'wall-dropped',
    what: 'a policy that is gone',
    wall: "do $$ declare p record; begin for p in select policyname from pg_policies where tablename = 'hives' and cmd in ('SELECT', 'ALL') loop execute format('drop policy %I on hives', p.policyname); end loop; end $$",
  },
  { name: 'wall-owned', what: 'the application owns the table', wall: 'alter table hives owner to probed_app' },
  { name: 'wall-passed', what: 'the application’s role passes row policies', wall: 'alter role probed_app bypassrls' },
];

/** A database that is dropped breaks what is still open to it: that is no failure here. */
function quietPool(connectionString: string): pg.Pool {
  const pool = new pg.Pool({ connectionString, max: 2 });
  pool.on('error', () => {});
  return pool;
}

const dir = mkdtempSync(join(tmpdir(), 'lintel-rules-'));
const file = (name: string, text: string) => {
  const path = join(dir, name);
  writeFileSync(path, text);
  return path;
};

/** A copy of the world, spoiled, and what the tools say. */
async function score(cluster: string, fault: Fault, script: string): Promise<{ review: string[]; differs: string[]; wall: string[]; check: string[] }> {
  const name = `rules_${fault.name.replaceAll('-', '_')}`;
  const admin = new pg.Client(`${cluster}/postgres`);
  await admin.connect();
  await admin.query(`create database ${name} template rules_world`);
  const url = `${cluster}/${name}`;
  const db: Kysely<any> = connect<any>(quietPool(url));
  const data = structuredClone(charter.data);
  fault.charter?.(data);
  const spoiled = file(`${fault.name}.json`, JSON.stringify(data));
  try {
    if (fault.steps) {
      const maren = await createLintel({ charter, db }).enter({ tenant: 'alderbrook', user: 'maren' });
      await maren.carryOut(fault.steps);
    }
    if (fault.wall) await sql.raw(fault.wall).execute(db);
    const at = ['--charter', spoiled, '--database', url];
    const read = await command('review', ...at, '--tenant', 'alderbrook', '--format', 'json');
    const review = read.out.startsWith('[')
      ? (JSON.parse(read.out) as { code: string; place: string }[]).map(({ code, place }) => `${code} ${place}`)
      : ['charter-refused charter'];
    const told = (out: string) => out.split('\n').filter((line) => line.startsWith('differs') || line.startsWith('error'));
    const rehearsed = await command('rehearse', script, ...at, '--tenant', 'alderbrook');
    const walled = fault.wall
      ? await command('rehearse', script, ...at, '--tenant', 'alderbrook', '--wall', url.replace('lintel@', 'probed_app@'))
      : { out: '' };
    const checked = fault.wall ? await command('policies', ...at, '--role', 'probed_app', '--check') : { code: 0, out: '' };
    return { review, differs: told(rehearsed.out), wall: told(walled.out), check: checked.code === 0 ? [] : checked.out.split('\n') };
  } finally {
    await sql.raw('alter role probed_app nobypassrls').execute(db);
    await db.destroy();
    await admin.end();
  }
}

/** Scores every fault, and prints a row for each. */
export async function scoreRules(cluster: string): Promise<void> {
  const admin = new pg.Client(`${cluster}/postgres`);
  await admin.connect();
  await admin.query('create database rules_world');
  await admin.query('create role probed_app login');
  const db = connect<any>(quietPool(`${cluster}/rules_world`));
  await seed(db);
  for (const statement of policyStatements(charter as never, { role: 'probed_app' })) await sql.raw(statement).execute(db);
  const script = join(dir, 'access.md');
  await command(
    'rehearse',
    script,
    '--record',
    '--charter',
    file('sound.json', JSON.stringify(charter.data)),
    '--database',
    `${cluster}/rules_world`,
    '--tenant',
    'alderbrook',
  );
  await db.destroy();
  await admin.end();
  const sound = await score(cluster, { name: 'sound', what: '', wall: 'select 1' }, script);
  console.log(
    `sound: review ${sound.review.join('; ') || 'nothing'}; rehearse ${sound.differs.length + sound.wall.length} differ; policies --check ${sound.check.length === 0 ? 'nothing' : sound.check.join(' ')}\n`,
  );
  console.log('| fault | what is wrong | review | rehearse |\n| --- | --- | --- | --- |');
  let found = 0;
  const all = [...RULES, ...HELD, ...WALL];
  for (const fault of all) {
    const { review, differs, wall, check } = await score(cluster, fault, script);
    const fresh = [...new Set(review.filter((one) => !sound.review.includes(one)).map((one) => one.split(' ')[0]))];
    const cells = differs.length + wall.length;
    if (fresh.length > 0 || cells > 0 || check.length > 0) found += 1;
    const said = [...fresh, ...(check.length > 0 ? ['`policies --check`'] : [])].join(', ') || '–';
    console.log(
      `| ${fault.name} | ${fault.what} | ${said} | ${cells > 0 ? `${cells} ${cells === 1 ? 'cell' : 'cells'}${wall.length > 0 ? ', at the wall' : ''}` : '–'} |`,
    );
  }
  console.log(`\n${found} of ${all.length} found by one of them`);
}
