import { mkdir, readFile, rename, writeFile } from 'node:fs/promises';
import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import process from 'node:process';
import type { PGlite } from '@electric-sql/pglite';
import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import { type AppMember, copyMembers } from '../rehearsal/index.js';
import { createLintel, type Lintel, type LintelOptions, type Remedies, type Step } from '../server/index.js';
import { connect, type Database } from '../store/index.js';
import type { LintelConfig } from './define.js';
import { asConfigured } from './failing.js';

type Peopled = LintelConfig & Required<Pick<LintelConfig, 'people'>>;

const copies = new WeakSet<Lintel>();

export const isPeopled = (config: LintelConfig): config is Peopled => config.people !== undefined;

/** The configuration for what needs nobody's standing: no copy is made. */
export const withoutPeople = ({ people: _, ...config }: LintelConfig): LintelConfig => config;

/** Where a database that was laid out once is kept: beside the package that lays it out, for its version. */
async function keptFile(): Promise<string> {
  const [modules, inside] = createRequire(import.meta.url)
    .resolve('@electric-sql/pglite')
    .split(/(?<=node_modules)(?=.@electric-sql)/) as [string, string];
  const { version } = JSON.parse(await readFile(join(modules, inside.slice(0, inside.indexOf('dist')), 'package.json'), 'utf8'));
  return join(modules, '.cache', 'warm-lintel', `pglite-${version}.tar`);
}

/** A database in memory. To lay one out takes seconds, to open what was laid out once does not. @throws LintelError `no-memory`. */
export async function memory(): Promise<PGlite> {
  const { PGlite } = await import('@electric-sql/pglite').catch((error: unknown) => {
    if ((error as { code?: string }).code !== 'ERR_MODULE_NOT_FOUND') throw error;
    throw new LintelError(
      'no-memory',
      'The people are copied into a database in memory, which is not installed: npm install --save-dev @electric-sql/pglite',
      {},
      { cause: error },
    );
  });
  const file = await keptFile().catch(() => undefined);
  // What cannot be read, or not be opened, is laid out anew.
  const kept =
    file === undefined
      ? undefined
      : await readFile(file)
          .then((dump) => PGlite.create({ loadDataDir: new Blob([dump]) }))
          .catch(() => undefined);
  if (kept) return kept;
  const fresh = await PGlite.create();
  if (file !== undefined) await keep(file, await fresh.dumpDataDir('none')).catch(() => {});
  return fresh;
}

/** Written beside and moved into place: two who start at once never read half a file. */
async function keep(file: string, dump: Blob): Promise<void> {
  await mkdir(dirname(file), { recursive: true });
  const draft = `${file}.${process.pid}`;
  await writeFile(draft, Buffer.from(await dump.arrayBuffer()));
  await rename(draft, file);
}

/** The people of an application that keeps them itself, as they are now, in the database of its records. @throws LintelError `config-invalid`. */
export async function membersIn({ people }: Peopled, db: Database, records?: Kysely<any>): Promise<readonly AppMember[]> {
  const members = await asConfigured('people in the configuration', () => people(records ?? connect(db)));
  if (!Array.isArray(members)) throw new LintelError('config-invalid', 'people in the configuration does not answer a list of members.', {});
  return members;
}

/** The library over a copy of the people of an application that keeps them itself; its records are where they are: in the same database, if nothing else is said. */
export async function overCopy(
  config: Peopled,
  db: Database,
  where: Pick<LintelOptions<any>, 'records' | 'places'> = {},
): Promise<{ lintel: Lintel; close: () => Promise<void> }> {
  const members = await membersIn(config, db, where.records);
  const copy = await memory();
  const lintel = createLintel({
    charter: config.charter,
    db: copy,
    ...(where.records || where.places ? where : { records: connect(db) }),
  }) as unknown as Lintel;
  await lintel.prepare();
  await copyMembers(lintel, members);
  copies.add(lintel);
  return { lintel, close: () => copy.close() };
}

const peopleElsewhere = () =>
  new LintelError('people-elsewhere', 'The application keeps its people itself: this is done there. Here a copy of them is looked at, without their past.', {});

/** A configuration for what is done to a membership, or with its record: that is not asked of a copy. @throws LintelError `people-elsewhere`. */
export function ofOwn(config: LintelConfig): LintelConfig {
  if (isPeopled(config)) throw peopleElsewhere();
  return config;
}

/** Where the membership is a copy, what changes it, or asks for its record, asks at the wrong place. @throws LintelError `people-elsewhere`. */
export function insistOnOwn(lintel: Lintel): void {
  if (copies.has(lintel)) throw peopleElsewhere();
}

/** Of what would make something allowed, what an application can do that has the roles of the charter, each for the whole tenant, and groups and units. */
export function inApplication(found: Remedies): Remedies {
  const isItsOwn = (step: Step) =>
    step.do === 'set-group' || step.do === 'place' || (step.do === 'set-roles' && step.roles.every(({ anchor }) => anchor.on === 'tenant'));
  return { ...found, remedies: found.remedies.filter(({ steps = [] }) => steps.every(isItsOwn)) };
}

/** Whether what is looked at is a copy. */
export const isCopy = (lintel: Lintel): boolean => copies.has(lintel);
