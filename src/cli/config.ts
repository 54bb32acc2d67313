import { access, readFile } from 'node:fs/promises';
import { createRequire } from 'node:module';
import { dirname, join, relative, resolve } from 'node:path';
import { pathToFileURL } from 'node:url';
import type { createJiti } from 'jiti';
import { LintelError } from '../base/index.js';
import { Charter, readCharter } from '../charter/index.js';
import { connect, type Database } from '../store/index.js';
import type { LintelConfig } from './define.js';
import { asConfigured, sentenceOf } from './failing.js';

const NAMES = ['lintel.config.ts', 'lintel.config.mts', 'lintel.config.js', 'lintel.config.mjs'];

export const isThere = (file: string) =>
  access(file).then(
    () => true,
    () => false,
  );

async function search(from: string): Promise<string | undefined> {
  for (const name of NAMES) {
    const file = join(from, name);
    if (await isThere(file)) return file;
  }
  const above = dirname(from);
  return above === from ? undefined : search(above);
}

/** Imports a module, as it is where the runtime takes TypeScript, else through a translator. */
export async function load(file: string): Promise<{ readonly default?: unknown; readonly charter?: unknown }> {
  try {
    return await import(pathToFileURL(file).href);
  } catch (error) {
    if ((error as { code?: string }).code !== 'ERR_UNKNOWN_FILE_EXTENSION') throw error;
    // Required, and not imported: a large module of the older kind loads sooner so.
    const jiti = createRequire(import.meta.url)('jiti') as { createJiti: typeof createJiti };
    return jiti.createJiti(import.meta.url).import(file);
  }
}

/** Where a command finds its charter and its database: flags first, then the configuration file. */
export interface Sources {
  readonly config?: string | undefined;
  readonly charter?: string | undefined;
  readonly database?: string | undefined;
}

/** The file that the charter stands in, or is named by. @throws LintelError `no-config`. */
export async function findCharterFile(sources: Sources, cwd: string): Promise<string> {
  const told = sources.charter ?? sources.config;
  const file = told === undefined ? await search(cwd) : resolve(cwd, told);
  if (file === undefined)
    throw new LintelError(
      'no-config',
      'There is no lintel.config.ts here or above. Make one that exports defineConfig({ charter, database }), or give --charter FILE.',
      {},
    );
  if (sources.charter === undefined && !(await isThere(file)))
    throw new LintelError('no-config', `There is no file ${told}. Give --config the path of your lintel.config.ts.`, {});
  return file;
}

/** @throws LintelError `no-config`, `config-invalid`, `config-failed`. */
export async function readConfig(sources: Sources, cwd: string): Promise<LintelConfig> {
  const database = sources.database === undefined ? {} : { database: () => openUrl(sources.database as string) };
  const file = await findCharterFile(sources, cwd);
  if (sources.charter !== undefined) return { charter: await readCharterFile(file), ...database };
  const config = (await asConfigured(relative(cwd, file), () => load(file))).default as LintelConfig | undefined;
  if (!isCharter(config?.charter)) {
    throw new LintelError('config-invalid', `${file} does not export a charter. Its default export must be defineConfig({ charter, database }).`, {});
  }
  return { ...config, charter: ofThisCopy(config.charter), ...database };
}

/** Also a charter that another copy of the library made: its data is checked again. */
function isCharter(value: unknown): value is Charter {
  return value instanceof Charter || (typeof value === 'object' && value !== null && 'data' in value && 'hash' in value);
}

/** Reads a charter: JSON, or a module that exports it as its default or as `charter`. @throws LintelError `no-config`, `charter-invalid`. */
export async function readCharterFile(file: string): Promise<Charter> {
  const found = await (file.endsWith('.json') ? readFile(file, 'utf8').then(JSON.parse) : load(file).then((module) => module.default ?? module.charter)).catch(
    (error: unknown) => {
      const why = (error as { code?: string }).code === 'ENOENT' ? 'there is no such file' : sentenceOf(error);
      throw new LintelError('no-config', `The charter in ${file} cannot be read: ${why}`, {}, { cause: error });
    },
  );
  if (isCharter(found)) return ofThisCopy(found);
  if (typeof found === 'object' && found !== null && 'kinds' in found) return readCharter(found);
  throw new LintelError('no-config', `There is no charter in ${file}: give a JSON file, or a module that exports one as its default or as charter.`, {});
}

const ofThisCopy = (charter: Charter<any>): Charter<any> => (charter instanceof Charter ? charter : readCharter((charter as Charter<any>).data));

export async function openUrl(url: string): Promise<Database> {
  if (!/^postgres(ql)?:\/\//.test(url)) throw new LintelError('config-invalid', `--database takes postgres://USER@HOST/NAME, not "${url}".`, {});
  const { default: pg } = await import('pg');
  return new pg.Pool({ connectionString: url, max: 2, connectionTimeoutMillis: 5000 });
}

/** The database of a configuration, with a function that closes it. @throws LintelError `no-database`, `database-unreachable`. */
export async function openDatabase(config: LintelConfig): Promise<{ db: Database; close: () => Promise<void> }> {
  if (!config.database) throw new LintelError('no-database', 'This needs a database. Give --database URL, or a database in lintel.config.ts.', {});
  try {
    const db = await config.database();
    const kysely = connect(db);
    await kysely.selectNoFrom((eb) => eb.lit(1).as('one')).execute();
    return {
      db,
      close: async () => {
        await kysely.destroy();
        if ('close' in db && typeof db.close === 'function') await db.close();
      },
    };
  } catch (error) {
    throw new LintelError(
      'database-unreachable',
      `The database does not answer: ${sentenceOf(error)}. Is it running, and is the address right?`,
      {},
      { cause: error },
    );
  }
}
