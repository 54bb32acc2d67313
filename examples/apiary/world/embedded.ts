import { createHash } from 'node:crypto';
import { existsSync } from 'node:fs';
import { mkdir, readdir, readFile, rename, writeFile } from 'node:fs/promises';
import { setFlagsFromString } from 'node:v8';
import { PGlite } from '@electric-sql/pglite';
import { charter } from './charter.js';

const cache = new URL('../.cache/', import.meta.url);

/** Changes when the world would come out differently: then the snapshot is made anew. */
async function fingerprint(): Promise<string> {
  const migrations = new URL('../../../src/store/migrations/', import.meta.url);
  const steps = (await readdir(migrations)).sort().map((file) => new URL(file, migrations));
  const own = ['./embedded.ts', './seed.ts', './tables.ts', '../../../package-lock.json'].map((file) => new URL(file, import.meta.url));
  const texts = await Promise.all([...own, ...steps].map((file) => readFile(file, 'utf8')));
  return createHash('sha256').update(charter.hash).update(texts.join('\0')).digest('hex').slice(0, 16);
}

/** The log of a database has 16 MB, of which nearly nothing is written yet: what follows is left out, and grows again when it is written. */
async function shortenLog(pglite: PGlite): Promise<void> {
  const { rows } = await pglite.query<{ file: string; at: number }>(
    'select file_name as file, file_offset as at from pg_walfile_name_offset(pg_current_wal_insert_lsn())',
  );
  const dir = '/pglite/data/pg_wal';
  const { FS } = pglite.Module;
  for (const { file, at } of rows) {
    for (const other of FS.readdir(dir).filter((name: string) => /^[0-9A-F]{24}$/.test(name) && name !== file)) FS.unlink(`${dir}/${other}`);
    FS.truncate(`${dir}/${file}`, Math.ceil(at / 8192) * 8192);
  }
}

/** Builds the world in a fresh embedded database and keeps a snapshot of it; a fresh database takes seconds, a snapshot does not. */
async function makeSnapshot(file: URL): Promise<void> {
  // Loaded only where a world is built: whoever opens a snapshot needs neither.
  const [{ connect }, { seed }] = await Promise.all([import('warm-lintel/server'), import('./seed.js')]);
  const pglite = new PGlite();
  await seed(connect(pglite));
  // Half of the files of a fresh database are patterns for others. Nobody makes another in a snapshot, and it opens sooner without.
  for (const pattern of ['template0', 'template1']) {
    await pglite.exec(`alter database ${pattern} is_template false`);
    await pglite.exec(`drop database ${pattern}`);
  }
  // Room for 128 MB is laid out when a database opens; this one is smaller than that.
  await pglite.exec(`alter system set shared_buffers = '16MB'`);
  await pglite.exec('select pg_switch_wal()');
  await pglite.exec('checkpoint');
  await shortenLog(pglite);
  const dump = await pglite.dumpDataDir('none');
  await mkdir(cache, { recursive: true });
  // Written beside and moved into place: two who start at once never read half a file.
  const draft = new URL(`${file.href}.${process.pid}`);
  await writeFile(draft, Buffer.from(await dump.arrayBuffer()));
  await rename(draft, file);
  await pglite.close();
}

/** The file of the snapshot, which is made where it is missing. */
export async function snapshotFile(say: (line: string) => void = () => {}): Promise<URL> {
  const file = new URL(`world-${await fingerprint()}.tar`, cache);
  if (existsSync(file)) return file;
  say('Building the demo world once (about 10 seconds) ...');
  await makeSnapshot(file);
  return file;
}

/** Bytes as the Blob that PGlite takes, without a copy of them. */
class Bytes extends Blob {
  readonly #bytes: Uint8Array<ArrayBuffer>;

  constructor(bytes: Uint8Array<ArrayBuffer>) {
    super();
    this.#bytes = bytes;
  }

  override async arrayBuffer(): Promise<ArrayBuffer> {
    const { buffer, byteOffset, byteLength } = this.#bytes;
    return byteLength === buffer.byteLength ? buffer : buffer.slice(byteOffset, byteOffset + byteLength);
  }
}

/** The demo world in an embedded database of its own, in memory. What is done to it is gone with the process. */
export async function embeddedWorld(say?: (line: string) => void): Promise<PGlite> {
  const dump = await readFile(await snapshotFile(say));
  // A command is over before it would pay to compile its database a second time, for speed.
  setFlagsFromString('--wasm-tiering-budget=60000000');
  const pglite = new PGlite({ loadDataDir: new Bytes(dump) });
  await pglite.waitReady;
  return pglite;
}
