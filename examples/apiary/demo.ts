/* Builds the pages where they are missing or older than their sources, then starts the demo. */
import { fork } from 'node:child_process';
import { readdirSync, statSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { snapshotFile } from './world/embedded.js';

const newest = (dir: string): number => {
  try {
    return Math.max(
      0,
      ...readdirSync(dir, { recursive: true, withFileTypes: true })
        .filter((f) => f.isFile())
        .map((f) => statSync(`${f.parentPath}/${f.name}`).mtimeMs),
    );
  } catch {
    return 0;
  }
};
const at = (path: string) => fileURLToPath(new URL(path, import.meta.url));

/** In a process of its own, beside the building of the demo world. */
function buildPages(): Promise<void> {
  console.log('Building the pages (a few seconds) ...');
  const vite = fork(
    fileURLToPath(new URL('../../bin/vite.js', import.meta.resolve('vite'))),
    ['build', '--config', at('vite.config.ts'), '--logLevel', 'warn'],
    // Whoever starts this may have another environment, such as that of tests: the pages are those that people get.
    { execArgv: [], env: { ...process.env, NODE_ENV: 'production' } },
  );
  return new Promise((resolve, reject) => vite.once('exit', (code) => (code === 0 ? resolve() : reject(new Error('the pages could not be built')))));
}

const stale = newest(at('dist')) < Math.max(newest(at('web')), newest(at('../../src')), newest(at('world')));
const world = process.env.LINTEL_DATABASE_URL ? undefined : snapshotFile((line) => console.log(line));
await Promise.all([world, stale ? buildPages() : undefined]);
if (!process.argv.includes('--build-only')) await import('./server/start.js');
