import { createHash } from 'node:crypto';
import { existsSync } from 'node:fs';
import { mkdir, readFile, rename, writeFile } from 'node:fs/promises';
import { PGlite } from '@electric-sql/pglite';
import { connect } from 'warm-lintel/server';
import { charter } from './charter.js';
import { seed } from './seed.js';

const cache = new URL('../.cache/', import.meta.url);

/** Changes when the world would come out differently: then the snapshot is made anew. */
async function fingerprint(): Promise<string> {
  const sources = ['./seed.ts', './tables.ts', '../../../src/store/migrations.ts', '../../../package-lock.json'];
  const texts = await Promise.all(sources.map((file) => readFile(new URL(file, import.meta.url), 'utf8').catch(() => '')));
  return createHash('sha256').update(charter.hash).update(texts.join('\0')).digest('hex').slice(0, 16);
}

/** Builds the world in a fresh embedded database and keeps a snapshot of it; a fresh database takes seconds, a snapshot does not. */
async function makeSnapshot(file: URL): Promise<void> {
  const pglite = new PGlite();
  await seed(connect(pglite));
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

/** The demo world in an embedded database of its own, in memory. What is done to it is gone with the process. */
export async function embeddedWorld(say?: (line: string) => void): Promise<PGlite> {
  const dump = await readFile(await snapshotFile(say));
  const pglite = new PGlite({ loadDataDir: new Blob([new Uint8Array(dump)]) });
  await pglite.waitReady;
  return pglite;
}
