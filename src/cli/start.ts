import { mkdir, open as openFile, readFile, writeFile } from 'node:fs/promises';
import { dirname, join, relative, resolve } from 'node:path';
import { type Command, Option } from '@commander-js/extra-typings';
import { Kysely, MysqlDialect, SqliteDialect } from 'kysely';
import pc from 'picocolors';
import { LintelError } from '../base/index.js';
import { readCharter, snakeCase } from '../charter/index.js';
import { type ProbeTarget, routesIn } from '../rehearsal/index.js';
import { type Begun, begin, type Framework, type NewFile, probeFiles, projectFiles, type Where } from '../starting/index.js';
import { connect } from '../store/index.js';
import { isThere, load, openUrl } from './config.js';
import { asConfigured } from './failing.js';
import { gridFor } from './grid.js';
import { EXIT, type Surroundings } from './surroundings.js';

interface StartOptions {
  readonly database?: string | undefined;
  readonly people?: string | undefined;
  readonly tenants?: string | undefined;
  readonly into: string;
  readonly probe?: true | undefined;
  readonly routes?: string | undefined;
  readonly write?: true | undefined;
  readonly format: 'text' | 'json';
}

const read = (file: string) => readFile(file, 'utf8').catch(() => '');

/** The address of the database: as it is told, of the environment, or of the project's `.env`. @throws LintelError `no-database`. */
async function addressOf({ database }: StartOptions, cwd: string): Promise<string> {
  const inFile = /^\s*(?:export\s+)?DATABASE_URL\s*=\s*["']?([^"'\n\r]+)/m.exec(await read(join(cwd, '.env')))?.[1]?.trim();
  const found = database ?? process.env.DATABASE_URL ?? inFile;
  if (found !== undefined && found !== '') return found;
  throw new LintelError(
    'no-database',
    'There is no DATABASE_URL in the environment or in .env. Give --database an address (postgres://USER@HOST/NAME, mysql://USER@HOST/NAME), the directory of a PGlite, or a file of SQLite.',
    {},
  );
}

/** Whether a file begins as one of SQLite does. https://sqlite.org/fileformat2.html#magic_header_string */
async function isSqlite(path: string): Promise<boolean> {
  const file = await openFile(path).catch(() => undefined);
  if (!file) return false;
  try {
    if (!(await file.stat()).isFile()) return false;
    const { buffer } = await file.read(Buffer.alloc(15), 0, 15, 0);
    return buffer.toString('latin1') === 'SQLite format 3';
  } finally {
    await file.close();
  }
}

async function whereOf(address: string, cwd: string): Promise<Where> {
  if (/^postgres(ql)?:\/\//.test(address)) return { at: 'postgres' };
  if (/^(mysql|mariadb):\/\//.test(address)) return { at: 'mariadb' };
  const path = resolve(cwd, address.replace(/^(file|sqlite|pglite):(\/\/)?/, ''));
  const from = relative(cwd, path).replaceAll('\\', '/');
  const called = from.startsWith('..') ? from : `./${from}`;
  if (await isThere(join(path, 'PG_VERSION'))) return { at: 'pglite', directory: called };
  if (await isSqlite(path)) return { at: 'sqlite', file: called };
  throw new LintelError('config-invalid', `"${address}" is no address of a PostgreSQL or a MariaDB, no directory of a PGlite, and no file of SQLite.`, {});
}

/** One of the packages that open a file of SQLite, whichever is installed. @throws LintelError `no-driver`. */
async function sqliteDriver(): Promise<new (file: string, options: { readonly readonly: boolean }) => never> {
  for (const name of ['better-sqlite3', 'libsql']) {
    const found = await import(name).catch(() => undefined);
    if (found) return found.default;
  }
  throw new LintelError('no-driver', 'No package that opens SQLite is installed: npm install better-sqlite3', {});
}

/** @throws LintelError `no-driver`. */
async function openMariaDb(uri: string): Promise<Kysely<any>> {
  const driver = await import('mysql2').catch(() => {
    throw new LintelError('no-driver', 'The package that opens MariaDB is not installed: npm install mysql2', {});
  });
  return new Kysely({ dialect: new MysqlDialect({ pool: driver.createPool({ uri, timezone: 'Z', charset: 'utf8mb4' }) }) });
}

async function open(where: Where, address: string, cwd: string): Promise<Kysely<any>> {
  try {
    if (where.at === 'postgres') return connect<any>(await openUrl(address));
    if (where.at === 'mariadb') return await openMariaDb(address);
    if (where.at === 'sqlite')
      return new Kysely({ dialect: new SqliteDialect({ database: new (await sqliteDriver())(resolve(cwd, where.file), { readonly: true }) }) });
    const { PGlite } = await import('@electric-sql/pglite');
    return connect<any>(new PGlite(resolve(cwd, where.directory)));
  } catch (error) {
    if (error instanceof LintelError) throw error;
    throw new LintelError(
      'database-unreachable',
      `The database does not open: ${error instanceof Error ? error.message : String(error)}`,
      {},
      { cause: error },
    );
  }
}

/** The framework that the project names first, of those for which there are lines. */
async function frameworkOf(cwd: string): Promise<Framework> {
  const found: unknown = JSON.parse((await read(join(cwd, 'package.json'))) || '{}');
  const { dependencies = {}, devDependencies = {} } = found as { dependencies?: object; devDependencies?: object };
  const names = [...Object.keys(dependencies), ...Object.keys(devDependencies)];
  return (['express', 'fastify', 'hono'] as const).find((name) => names.includes(name)) ?? 'fetch';
}

const listed = (names: readonly string[]) => names.join(', ');

/** What was found, a row for each thing. */
function found({ reading: { people, tenants, members }, charter, roles, leftOut }: Begun): string[][] {
  const rows: string[][] = [];
  if (people) rows.push(['people', people.table, listed(['name', 'address', 'active'].flatMap((part) => people[part as 'name'] ?? []))]);
  if (tenants) rows.push(['organisations', tenants.table ?? '', tenants.table ? (tenants.name ?? tenants.id) : `by the column ${tenants.id} alone`]);
  if (members) {
    const called = members.roles.map((role) => `${role}${roles[role] === 'keyholder' ? ' (full control)' : ''}`);
    rows.push(['members', members.table, called.length > 0 ? `${members.role}: ${listed(called)}` : 'no roles']);
  }
  for (const [name, { table, fields, shared }] of Object.entries(charter.kinds)) {
    const told = Object.entries(fields).flatMap(([field, { role, to, through, link, column }]) => {
      const called = link?.table ?? column ?? snakeCase(field);
      if (role === 'plain' || role === 'id') return [];
      if (through) return [`of an organisation through ${called}`];
      return [role === 'tenant' ? `of an organisation by ${called}` : role === 'parent' ? `below ${to} by ${called}` : `${role} ${called}`];
    });
    rows.push([`kind ${name}`, table, shared ? 'shared by all organisations' : told.join('\n')]);
  }
  for (const { table, words } of leftOut) rows.push(['left out', table, words]);
  return rows;
}

const decisions = ({ reading, unsure }: Begun): string[] => [...reading.unsure, ...unsure.map(({ at, words }) => `${at}: ${words}`)];

/** What routes are read from: a description or a recording in JSON, or a module that exports the application as its default or as `app`. */
async function routesFrom(file: string, cwd: string): Promise<ProbeTarget['routes']> {
  const path = resolve(cwd, file);
  return asConfigured(`--routes ${file}`, async () => {
    if (file.endsWith('.json') || file.endsWith('.har')) return JSON.parse(await readFile(path, 'utf8'));
    const module = (await load(path)) as { readonly default?: unknown; readonly app?: unknown };
    return module.default ?? module.app;
  });
}

function told(begun: Begun, files: readonly NewFile[], { write, into, probe }: StartOptions, around: Surroundings): string {
  const colours = pc.createColors(around.colours);
  const open = decisions(begun);
  return [
    gridFor(around, ['what', 'table', 'by'], found(begun)),
    ...(open.length > 0 ? ['', colours.bold('To decide'), ...open.map((line) => `  ${line}`)] : []),
    ...(write ? [] : files.flatMap(({ path, text }) => ['', colours.bold(path), text.trimEnd()])),
    '',
    write
      ? `Written: ${listed(files.map(({ path }) => path))}. Next: go through ${into}/charter.ts; ${probe ? 'say in lintel.config.ts where the application is and how somebody signs in; then npx lintel probe' : `run npx tsx ${into}/intake.ts; then npx lintel table --by people`}.`
      : `Nothing was written. Write these files with: lintel start${probe ? ' --probe' : ''} --write`,
  ].join('\n');
}

/** Writes files that are not there yet, all or none. @throws LintelError `file-exists`. */
async function writeNew(files: readonly NewFile[], cwd: string): Promise<void> {
  for (const { path } of files)
    if (await isThere(join(cwd, path)))
      throw new LintelError('file-exists', `${path} is there already, and nothing was written. Move it away, or give --into another folder.`, { path });
  for (const { path, text } of files) {
    await mkdir(dirname(join(cwd, path)), { recursive: true });
    await writeFile(join(cwd, path), text, { flag: 'wx' });
  }
}

async function startCommand(options: StartOptions, around: Surroundings): Promise<number> {
  if (options.routes !== undefined && !options.probe)
    throw new LintelError('config-invalid', 'Routes are read for the probe alone: add --probe, or leave out --routes.', {});
  const address = await addressOf(options, around.cwd);
  const where = await whereOf(address, around.cwd);
  const db = await open(where, address, around.cwd);
  try {
    const begun = await begin(db, { people: options.people, tenants: options.tenants, keepsPeople: options.probe === true });
    const project = { where, framework: await frameworkOf(around.cwd), into: options.into };
    const from = options.routes === undefined ? undefined : await routesFrom(options.routes, around.cwd);
    const files = options.probe
      ? probeFiles(begun, project, from && routesIn(readCharter(begun.charter), from, begun.membership))
      : projectFiles(begun, project);
    if (options.write) await writeNew(files, around.cwd);
    const { charter, leftOut } = begun;
    around.out(
      options.format === 'json' ? JSON.stringify({ charter, undecided: decisions(begun), leftOut, files }, null, 2) : told(begun, files, options, around),
    );
    return EXIT.yes;
  } finally {
    await db.destroy();
  }
}

export function addStartCommand(program: Command, around: Surroundings, answered: (code: number) => void): void {
  program
    .command('start')
    .description('Begins in an existing project: reads its database, and writes a charter to edit, the intake of its people, and the lines for its framework.')
    .option('--database <where>', 'a postgres:// or mysql:// address, the directory of a PGlite, or a file of SQLite (default: DATABASE_URL)')
    .option('--people <table>', 'the table of the people who sign in, where it is not found')
    .option('--tenants <table>', 'the table of the organisations, where it is not found')
    .option('--into <folder>', 'the folder for the new files', 'lintel')
    .option('--probe', 'for lintel probe alone: the people stay where they are, and nothing of the application changes')
    .option('--routes <file>', 'with --probe: what the routes are read from, OpenAPI or a recording (HAR), or a module that exports the application')
    .option('--write', 'write the files, all of them new; without it they are shown')
    .addOption(new Option('--format <format>', 'how to write what was found').choices(['text', 'json'] as const).default('text' as const))
    .addHelpText('after', '\nExample:\n  lintel start --database "$DATABASE_URL"\n  lintel start --write')
    .action(async (options) => {
      answered(await startCommand(options, around));
    });
}
