import { execFileSync, spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { once } from 'node:events';
import { chmodSync, existsSync, mkdtempSync, readdirSync, rmSync, statSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import pg from 'pg';
import type { TestProject } from 'vitest/node';
import { serveBrowser } from './chromium.js';

declare module 'vitest' {
  export interface ProvidedContext {
    /** Address of the throw-away PostgreSQL, without a database name. */
    postgres: string;
    /** Address of the browser that all tests share. */
    chromium: string;
  }
}

/** Where the server programs of PostgreSQL are: the newest that is installed. */
function serverPrograms(): string {
  const root = '/usr/lib/postgresql';
  const versions = existsSync(root) ? readdirSync(root).sort((a, b) => Number(b) - Number(a)) : [];
  const places = [...versions.map((v) => join(root, v, 'bin')), '/usr/local/bin', '/opt/homebrew/bin'];
  const found = places.find((place) => existsSync(join(place, 'initdb')));
  if (found) return found;
  if (process.getuid?.() === 0 && existsSync('/usr/bin/apt-get')) {
    execFileSync('apt-get', ['update'], { stdio: 'ignore' });
    execFileSync('apt-get', ['install', '-y', 'postgresql'], { stdio: 'ignore', env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' } });
    if (existsSync(root)) return serverPrograms();
  }
  throw new Error('The tests need the server programs of PostgreSQL 15 or later: install the package postgresql.');
}

export async function freePort(): Promise<number> {
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const { port } = server.address() as { port: number };
  await new Promise((resolve) => server.close(resolve));
  return port;
}

/** PostgreSQL refuses to run as root: then it runs as the user nobody. */
export function asServer(dir: string): (program: string, args: string[]) => [string, string[]] {
  if (process.getuid?.() !== 0) return (program, args) => [program, args];
  execFileSync('chown', ['-R', 'nobody', dir]);
  return (program, args) => ['setpriv', ['--reuid=nobody', '--regid=nogroup', '--clear-groups', program, ...args]];
}

export interface Cluster {
  readonly url: string;
  /** Takes the server away, with all that it has kept; and gives it back. */
  takeAway(): Promise<void>;
  giveBack(): Promise<void>;
  stop(): Promise<void>;
}

/** Starts a throw-away PostgreSQL. Its default collation is a linguistic one, so that a comparison which leans on the collation is seen. */
export async function startPostgres(): Promise<Cluster> {
  const bin = serverPrograms();
  const dir = mkdtempSync(join(tmpdir(), 'lintel-postgres-'));
  chmodSync(dir, 0o755);
  const as = asServer(dir);
  const data = join(dir, 'data');
  const run = (program: string, args: string[]) => as(join(bin, program), args);
  const [initdb, initArgs] = run('initdb', [
    '-D',
    data,
    '-U',
    'lintel',
    '--auth=trust',
    '--encoding=UTF8',
    '--locale=C.UTF-8',
    '--locale-provider=icu',
    '--icu-locale=en-US',
    '--no-sync',
  ]);
  execFileSync(initdb, initArgs, { cwd: dir, stdio: 'ignore' });
  const port = await freePort();
  const settings = [
    'fsync=off',
    'synchronous_commit=off',
    'full_page_writes=off',
    'max_connections=100',
    'jit=off',
    'autovacuum=off',
    'wal_level=minimal',
    'max_wal_senders=0',
    `unix_socket_directories=${dir}`,
  ];
  const [postgres, args] = run('postgres', ['-D', data, '-h', '127.0.0.1', '-p', String(port), ...settings.flatMap((s) => ['-c', s])]);
  // By its socket a statement takes a third less of this machine than over TCP.
  const url = `postgres://lintel@${encodeURIComponent(dir)}:${port}`;
  let server: ReturnType<typeof spawn> | undefined;
  const begin = async () => {
    server ??= spawn(postgres, args, { cwd: dir, stdio: 'ignore' });
    for (let i = 0; ; i++) {
      const client = new pg.Client(`${url}/postgres`);
      const up = await client.connect().then(
        () => true,
        () => false,
      );
      await client.end().catch(() => undefined);
      if (up) return;
      if (i > 100) throw new Error('The throw-away PostgreSQL did not start within 10 seconds.');
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
  };
  const end = async () => {
    const ended = server && once(server, 'exit');
    server?.kill('SIGINT');
    await ended;
    server = undefined;
  };
  await begin();
  return {
    url,
    takeAway: end,
    giveBack: begin,
    stop: async () => {
      await end();
      rmSync(dir, { recursive: true, force: true });
    },
  };
}

/** A database of its own on a server: its address. @param template of which it is a copy; default: an empty one. */
export async function databaseOn(server: string, template = 'template1'): Promise<string> {
  const name = `t${randomBytes(6).toString('hex')}`;
  const admin = new pg.Client(`${server}/postgres`);
  await admin.connect();
  await admin.query(`create database ${name} template ${template}`);
  await admin.end();
  return `${server}/${name}`;
}

/** Builds pages as people get them, whatever the environment of the tests. */
export function buildPages(folder: string): void {
  const args = ['node_modules/vite/bin/vite.js', 'build', '-c', `${folder}/vite.config.ts`, '--logLevel', 'error'];
  execFileSync(process.execPath, args, { stdio: 'inherit', env: { ...process.env, NODE_ENV: 'production' } });
}

/** When the newest of these files was written; 0 where there is none. */
const newest = (...folders: string[]): number =>
  Math.max(
    0,
    ...folders
      .filter((folder) => existsSync(folder))
      .flatMap((folder) => readdirSync(folder, { recursive: true, encoding: 'utf8' }).map((file) => statSync(join(folder, file)).mtimeMs)),
  );

/** Makes what `npm ci` made where it is missing, or older than its sources. */
async function buildWhatIsOld(): Promise<void> {
  const { snapshotFile } = await import('../examples/apiary/world/embedded.js');
  await snapshotFile();
  const sources = newest('src', 'examples/apiary/web', 'examples/apiary/world');
  if (newest('examples/apiary/dist') < sources) buildPages('examples/apiary');
  if (newest('desk') < sources) buildPages('src/cli/desk/page');
}

/** A fixed piece of work, in milliseconds: by it the times of two machines compare. */
function yardstick(): number {
  const began = performance.now();
  let mixed = 1;
  for (let i = 0; i < 50_000_000; i++) mixed = Math.imul(mixed ^ i, 2_654_435_761) + (mixed >>> 15);
  return Math.round(performance.now() - began + (mixed & 0));
}

export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const began = performance.now();
  const ruler = yardstick();
  const [cluster, browser] = await Promise.all([startPostgres(), serveBrowser(), buildWhatIsOld()]);
  project.provide('postgres', cluster.url);
  project.provide('chromium', browser.wsEndpoint());
  return async () => {
    await Promise.all([browser.close(), cluster.stop()]);
    console.log(`${Math.round((performance.now() - began) / 1000)} s from set-up to end; the yardstick, a fixed loop of this machine: ${ruler} ms.`);
  };
}
