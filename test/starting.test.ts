/* `lintel start` in projects that exist: what it takes each table for, and the files that it writes. */
import { execFileSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { PGlite } from '@electric-sql/pglite';
import fc from 'fast-check';
import { sql } from 'kysely';
import Database from 'libsql';
import { afterAll, expect, test, vi } from 'vitest';
import { readCharter } from 'warm-lintel';
import { run } from 'warm-lintel/cli';
import { APPLICATIONS } from '../properties/probed/applications.js';
import { SCHEMA } from '../properties/probed/lending.js';
import { proposeCharter } from '../src/starting/proposal.js';
import type { SchemaColumn, SchemaTable } from '../src/starting/schema.js';
import { recognise } from '../src/starting/tables.js';
import { LONG, testLong } from './long.js';
import { emptyPostgres } from './worlds.js';

mkdirSync('.cache', { recursive: true });
const folder = mkdtempSync(join(process.cwd(), '.cache', 'start-'));
afterAll(() => rmSync(folder, { recursive: true, force: true }));

const EXISTING = readFileSync('examples/existing/before/schema.sql', 'utf8');

interface Told {
  readonly charter: { kinds: Record<string, { fields: Record<string, any> }>; roles: object; keyholder?: object };
  readonly undecided: readonly string[];
  readonly leftOut: readonly { table: string; words: string }[];
}

async function lintel(args: readonly string[], cwd = folder): Promise<{ code: number; out: string; err: string }> {
  const [out, err]: [string[], string[]] = [[], []];
  const code = await run(args, { cwd, out: (text) => out.push(text), err: (text) => err.push(text), colours: false, width: 120 });
  return { code, out: out.join('\n'), err: err.join('\n') };
}
const started = async (database: string): Promise<Told> => JSON.parse((await lintel(['start', '--database', database, '--format', 'json'])).out);

async function inPostgres(schema: string): Promise<string> {
  const { pool, url } = await emptyPostgres();
  await pool.query(schema);
  await pool.end();
  return url;
}

/** What each field of a kind is for, where it is for something. */
const rolesOf = (told: Told) =>
  Object.fromEntries(
    Object.entries(told.charter.kinds).map(([kind, { fields }]) => [
      kind,
      Object.fromEntries(
        Object.entries(fields).flatMap(([field, { role, to, through, link }]) =>
          role === 'plain' || role === 'id' ? [] : [[field, [role, to, through && 'through', link?.table].filter(Boolean).join(' ')]],
        ),
      ),
    ]),
  );

const WORKSHOPS = {
  comment: { jobId: 'parent job through', authorId: 'maker' },
  job: { workshopId: 'tenant', mechanicId: 'person', openedBy: 'maker', watchers: 'people watchers' },
};

test('the workshops of examples/existing: each kind, tenant, maker, link and parent; and who the other person is, is asked', async () => {
  const told = await started(await inPostgres(EXISTING));
  expect(rolesOf(told)).toEqual(WORKSHOPS);
  expect(told.charter.kinds.job?.fields.state.options).toEqual(['open', 'done']);
  expect([Object.keys(told.charter.roles), told.charter.keyholder]).toEqual([['mechanic', 'customer'], { label: 'Manager' }]);
  expect(told.leftOut).toEqual([{ table: 'sessions', words: 'belongs to a person, and to no organisation' }]);
  expect(told.undecided).toEqual([
    'jobs.mechanic_id: names a person: is that the owner, or somebody else?',
    'jobs.opened_by: is taken for who made it, since it is never empty',
  ]);
});

test('the same in a file of SQLite is read the same', async () => {
  const file = new Database(join(folder, 'existing.db'));
  file.exec(EXISTING.replaceAll('serial primary key', 'integer primary key'));
  file.close();
  const told = await started('existing.db');
  expect(rolesOf(told)).toEqual(WORKSHOPS);
  expect([told.charter.kinds.job?.fields.state.options, Object.keys(told.charter.roles)]).toEqual([
    ['open', 'done'],
    ['mechanic', 'customer'],
  ]);
});

test('the lending of tools, without one foreign key to a person or an organisation, is told by its rows', async () => {
  const told = await started(await inPostgres(SCHEMA));
  expect(rolesOf(told)).toEqual({
    loan: { orgId: 'tenant', toolId: 'parent tool', borrowerId: 'person' },
    tool: { orgId: 'tenant', ownerId: 'owner', createdBy: 'maker' },
  });
  expect([told.charter.keyholder, Object.keys(told.charter.roles)]).toEqual([{ label: 'Admin' }, ['member', 'viewer']]);
  expect(told.undecided.some((line) => line.startsWith('loans.borrower_id: names a person'))).toBe(true);
});

test('names in quotes, in capitals and in the middle of words, as an object mapper writes them, are read alike', async () => {
  const told = await started(
    await inPostgres(`create type "Role" as enum ('OWNER', 'ADMIN', 'MEMBER');
      create table "User" (id text primary key, email text not null, name text, "passwordHash" text);
      create table "Organization" (id text primary key, name text not null);
      create table "Membership" (id text primary key, "userId" text not null references "User", "organizationId" text not null references "Organization", role "Role" not null);
      create table "TaskList" (id text primary key, "organizationId" text not null references "Organization", "ownerId" text references "User", name text not null, meta jsonb);
      create table "Task" (id text primary key, "listId" text not null references "TaskList", title text not null, "createdById" text not null references "User", "parentId" text references "Task");
      create table "_Watchers" ("A" text not null references "Task", "B" text not null references "User");
      create table "Session" (id text primary key, "userId" text not null references "User")`),
  );
  expect(rolesOf(told)).toEqual({
    task: { listId: 'parent taskList through', createdById: 'maker', watchers: 'people _Watchers' },
    taskList: { organizationId: 'tenant', ownerId: 'owner' },
  });
  expect([told.charter.keyholder, Object.keys(told.charter.roles)]).toEqual([{ label: 'Owner' }, ['admin', 'member']]);
  expect(told.undecided.some((line) => line.startsWith('Membership.role: OWNER is taken for full control, and ADMIN'))).toBe(true);
  expect(told.charter.kinds.taskList).toMatchObject({ one: 'task list', many: 'task lists' });
});

test('for the probe alone the people stay where they are: a charter, the routes and the configuration are written, and it runs', {
  timeout: 120_000,
}, async () => {
  const { choir } = APPLICATIONS as { choir: (typeof APPLICATIONS)[string] };
  const project = join(folder, 'probed');
  mkdirSync(project);
  const { pool, url } = await emptyPostgres();
  await pool.query(choir.schema);
  const { app, close } = await choir.start(pool, new Set());
  vi.stubEnv('DATABASE_URL', url);
  const get = { get: { parameters: [{ in: 'query', name: 'q' }] } };
  writeFileSync(
    join(project, 'openapi.json'),
    JSON.stringify({ openapi: '3.1.0', paths: { '/members/{memberId}': get, '/pieces': get, '/odd/{thing}': get } }),
  );
  const { out } = await lintel(['start', '--probe', '--routes', 'openapi.json', '--write'], project);
  expect(out).toContain('members          memberships  part: leader, librarian, singer');
  const written = (file: string) => readFileSync(join(project, file), 'utf8');
  expect(written('lintel/routes.ts')).toContain("{ method: 'get', path: '/members/{memberId}', query: ['q'] }, // membership");
  expect(written('lintel/routes.ts')).toContain('// To decide: what {thing} names is not known; say it in params.');
  const config = written('lintel.config.ts');
  expect(config).toContain("membership: { kind: 'membership', person: 'singerId', role: 'part' }");
  const signsIn = `const cookie = answer.headers.getSetCookie()[0]?.split(';')[0] ?? '';
      await send({ method: 'POST', path: '/choose', headers: { cookie }, body: { choirId: Number(tenant) } });
      return { cookie };`;
  const filled = config
    .replace("'http://localhost:3000'", `'${app}'`)
    .replace("// sessions: 'tenant', where", "sessions: 'tenant', // where")
    .replace('async ({ address }, send)', 'async ({ address }, send, { tenant })')
    .replace(/return \{ cookie: .*/, signsIn);
  writeFileSync(join(project, 'lintel.config.ts'), filled);
  writeFileSync(
    join(project, 'lintel/charter.ts'),
    written('lintel/charter.ts').replaceAll(
      /\/\/ Nothing yet\.[^\n]*/g,
      "'piece.read': 'tenant', 'piece.create': 'tenant', 'piece.update': 'tenant', 'piece.delete': 'tenant',",
    ),
  );
  const probed = await lintel(['probe', '--only', 'GET /pieces'], project);
  expect([probed.code, probed.out]).toEqual([0, expect.stringContaining('nothing was found')]);
  await close();
  await pool.end();
});

const PEOPLE = `insert into users (name, email, password) values ('Ada', 'ada@one.example', ''), ('Ben', 'ben@one.example', ''); insert into workshops (name) values ('One');
  insert into staff values (1, 1, 'manager'), (1, 2, 'mechanic'); insert into jobs (workshop_id, title, opened_by) values (1, 'Chain', 2)`;

async function inDirectory(directory: string, schema: string): Promise<string> {
  const db = new PGlite(directory);
  await db.exec(schema);
  await db.close();
  return './data';
}

testLong.for(['PostgreSQL', 'PGlite'])('what is written is new, runs as it stands, and is not written over: %s', { timeout: 120_000 }, async (where) => {
  const project = join(folder, where);
  mkdirSync(project);
  const address = where === 'PGlite' ? await inDirectory(join(project, 'data'), EXISTING + PEOPLE) : await inPostgres(EXISTING + PEOPLE);
  writeFileSync(join(project, 'package.json'), '{ "type": "module", "dependencies": { "express": "5.3.0" } }');
  writeFileSync(join(project, '.env'), `DATABASE_URL="${address}"\n`);
  vi.stubEnv('DATABASE_URL', undefined);
  const shown = await lintel(['start'], project);
  expect([
    shown.code,
    readdirSync(project)
      .filter((name) => name !== 'data')
      .sort(),
  ]).toEqual([0, ['.env', 'package.json']]);
  const written = await lintel(['start', '--write'], project);
  expect([written.code, readdirSync(join(project, 'lintel')).sort()]).toEqual([0, ['charter.ts', 'database.ts', 'http.ts', 'intake.ts']]);
  for (const name of ['charter.ts', 'http.ts']) expect(shown.out).toContain(readFileSync(join(project, 'lintel', name), 'utf8').trimEnd());
  const again = await lintel(['start', '--write'], project);
  expect([again.code, again.err]).toEqual([
    2,
    'lintel: lintel/charter.ts is there already, and nothing was written. Move it away, or give --into another folder.',
  ]);
  vi.stubEnv('DATABASE_URL', address);
  const tsx = join(process.cwd(), 'node_modules/.bin/tsx');
  const taken = execFileSync(tsx, ['--conditions=warm-lintel-source', 'lintel/intake.ts'], { cwd: project, encoding: 'utf8' });
  expect(taken).toMatch(/opened: 1,/);
  const table = await lintel(['table', '--by', 'people', '--only', 'job'], project);
  expect([table.err, table.code, /Ada +all 1/.test(table.out), /Ben +·/.test(table.out)]).toEqual(['', 0, true, true]);
  vi.unstubAllEnvs();

  writeFileSync(
    join(project, 'tsconfig.json'),
    JSON.stringify({
      extends: '../../../tsconfig.json',
      include: ['lintel', 'lintel.config.ts', '../../../src/**/*.d.ts'],
      compilerOptions: { incremental: false },
    }),
  );
  expect(execFileSync(join(process.cwd(), 'node_modules/.bin/tsc'), ['-p', project], { encoding: 'utf8' })).toBe('');
});

test('without a database, a driver or a table to go by, one sentence says what to do', async () => {
  vi.stubEnv('DATABASE_URL', undefined);
  expect((await lintel(['start'])).err).toMatch(/^lintel: There is no DATABASE_URL in the environment or in .env. Give --database/);
  vi.unstubAllEnvs();
  expect((await lintel(['start', '--database', 'nowhere'])).err).toBe(
    'lintel: "nowhere" is no address of a PostgreSQL or a MariaDB, no directory of a PGlite, and no file of SQLite.',
  );
  expect((await lintel(['start', '--routes', 'openapi.json'])).err).toBe('lintel: Routes are read for the probe alone: add --probe, or leave out --routes.');
  const file = new Database(join(folder, 'strange.db'));
  file.exec('create table a (id integer primary key, b text)');
  file.close();
  const told = await started('strange.db');
  expect(told.undecided).toContain('No table looks like that of the people who sign in; say which it is with --people TABLE.');
});

const column = (name: string, more: Partial<SchemaColumn> = {}): SchemaColumn => ({
  name,
  type: 'integer',
  native: 'int4',
  scale: null,
  mayBeEmpty: false,
  isKey: false,
  to: null,
  ...more,
});
const text = (name: string, more: Partial<SchemaColumn> = {}) => column(name, { type: 'text', native: 'text', ...more });
const NO_ROWS = { allIn: async () => undefined, values: async () => undefined };

test('organisations, people, members and kinds are found by foreign keys, whatever they are called', { timeout: 60_000 }, async () => {
  const word = fc.stringMatching(/^[bdfglmnprtvz][aeiou][bdfglmnprtvz][aeiou][bdfglmnprtvz]$/);
  const shape = fc.record({
    words: fc.uniqueArray(word, { minLength: 60, maxLength: 60 }),
    kinds: fc.integer({ min: 1, max: 4 }),
    // Each child hangs on a kind, or on a child before it.
    children: fc.array(fc.nat(), { maxLength: 4 }),
    lists: fc.array(fc.nat(), { maxLength: 2 }),
    lookup: fc.boolean(),
    sessions: fc.boolean(),
    order: fc.infiniteStream(fc.nat()),
  });
  await fc.assert(
    fc.asyncProperty(shape, async ({ words, kinds, children, lists, lookup, sessions, order }) => {
      const next = words[Symbol.iterator]();
      const called = () => next.next().value as string;
      const [people, tenants, members, grade] = [called(), called(), called(), called()];
      const key = () => column(called(), { isKey: true });
      const all: SchemaTable[] = [
        { name: people, columns: [key(), text('name'), text('email')] },
        { name: tenants, columns: [key(), text('name')] },
        { name: members, columns: [column(called(), { to: tenants }), column(called(), { to: people }), text(grade, { options: ['boss', 'hand'] })] },
      ];
      const direct = Array.from({ length: kinds }, called);
      for (const name of direct)
        all.push({
          name,
          columns: [key(), column(called(), { to: tenants }), text(called()), ...(lookup ? [column('grade_id', { to: 'grades', mayBeEmpty: true })] : [])],
        });
      const below: string[] = [];
      for (const at of children) {
        const name = called();
        all.push({ name, columns: [key(), column(called(), { to: [...direct, ...below][at % (kinds + below.length)] as string })] });
        below.push(name);
      }
      const listed = lists.map((at) => [called(), direct[at % kinds] as string] as const);
      for (const [name, of] of listed) all.push({ name, columns: [column(called(), { to: of }), column(called(), { to: people })] });
      if (lookup) all.push({ name: 'grades', columns: [column('id', { isKey: true }), text('name')] });
      if (sessions) all.push({ name: 'visits', columns: [text('token', { isKey: true }), column(called(), { to: people })] });
      const place = new Map(all.map((table) => [table, order.next().value as number]));
      const reading = await recognise(
        [...all].sort((a, b) => (place.get(a) as number) - (place.get(b) as number)),
        NO_ROWS,
      );
      expect([reading.people?.table, reading.tenants?.table, reading.members?.table]).toEqual([people, tenants, members]);
      const { charter, leftOut } = proposeCharter(reading);
      readCharter(charter);
      const byTable = new Map(Object.values(charter.kinds).map((kind) => [kind.table, kind]));
      expect([...byTable.keys()].sort()).toEqual([...direct, ...below, ...(lookup ? ['grades'] : [])].sort());
      for (const name of direct) expect(Object.values(byTable.get(name)?.fields ?? {}).map(({ role }) => role)).toContain('tenant');
      for (const name of below) expect(Object.values(byTable.get(name)?.fields ?? {}).some(({ through }) => through)).toBe(true);
      for (const [name, of] of listed) expect(Object.values(byTable.get(of)?.fields ?? {}).some(({ link }) => link?.table === name)).toBe(true);
      expect(leftOut.map(({ table }) => table)).toEqual(sessions ? ['visits'] : []);
    }),
    { numRuns: LONG ? 3000 : 40 },
  );
});

test('a schema that we did not make becomes a charter to edit, with what could not be told', async () => {
  const { db: other, url } = await emptyPostgres();
  for (const statement of [
    'create table organisations (id uuid primary key, name text)',
    'create table users (id uuid primary key, email text)',
    'create table projects (id uuid primary key, organisation_id uuid references organisations, owner_id uuid references users, created_by uuid references users, site_id uuid, title text, budget numeric(10, 2), starts_at timestamptz, place point, weight numeric)',
    'create table tasks (id integer primary key, organisation_id uuid references organisations, project_id uuid references projects, reviewer uuid references users, name varchar(80), done boolean)',
    'create table project_people (organisation_id uuid, project_id uuid references projects, user_id uuid references users)',
    'create table remarks (id integer primary key, task_id integer references tasks, created_by uuid references users, words text)',
    'create table task_watchers (task_id integer references tasks, user_id uuid references users, primary key (task_id, user_id))',
    'create table currencies (code text primary key, name text)',
    'create table hits (at timestamptz, path text)',
  ])
    await sql.raw(statement).execute(other);
  const { charter: proposed, undecided, leftOut } = await started(url);
  expect(leftOut).toEqual([{ table: 'hits', words: 'has no key of one column' }]);
  // What is proposed is a charter as it stands.
  expect(Object.keys(readCharter(proposed).data.kinds)).toEqual(['currency', 'project', 'remark', 'task']);
  expect(proposed.kinds.project?.fields).toMatchObject({
    organisationId: { role: 'tenant' },
    ownerId: { role: 'owner', change: 'transfer' },
    createdBy: { role: 'maker' },
    siteId: { role: 'unit' },
    budget: { type: 'decimal', scale: 2 },
    projectPeople: { role: 'people', link: { table: 'project_people', record: 'project_id', user: 'user_id', tenant: 'organisation_id' } },
  });
  expect(proposed.kinds.task?.fields).toMatchObject({
    projectId: { role: 'parent', to: 'project' },
    reviewer: { role: 'person' },
    taskWatchers: { link: { table: 'task_watchers', record: 'task_id', user: 'user_id' } },
  });
  expect(proposed.kinds.remark?.fields).toMatchObject({ taskId: { role: 'parent', to: 'task', through: true }, createdBy: { role: 'maker' } });
  for (const line of [
    /tasks.reviewer: names a person/,
    /currencies: names no organisation, and no parent that has one/,
    /projects.place: the type point/,
    /projects.weight: a number without fixed places/,
  ])
    expect(undecided.some((said) => line.test(said))).toBe(true);
  await other.destroy();
});
