import { execFileSync, spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { once } from 'node:events';
import { chmodSync, existsSync, mkdtempSync, readdirSync, rmSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import pg from 'pg';
import type { TestProject } from 'vitest/node';
import { findChromium } from './chromium.js';

declare module 'vitest' {
  export interface ProvidedContext {
    /** Address of the throw-away PostgreSQL, without a database name. */
    postgres: string;
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
  const settings = ['fsync=off', 'synchronous_commit=off', 'full_page_writes=off', 'max_connections=100', 'jit=off', `unix_socket_directories=${dir}`];
  const [postgres, args] = run('postgres', ['-D', data, '-h', '127.0.0.1', '-p', String(port), ...settings.flatMap((s) => ['-c', s])]);
  const url = `postgres://lintel@127.0.0.1:${port}`;
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

export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  findChromium();
  // The pages and the demo's snapshot, where they are missing or older than their sources.
  execFileSync(process.execPath, ['--conditions=warm-lintel-source', '--import', 'tsx', 'examples/apiary/demo.ts', '--build-only'], { stdio: 'inherit' });
  buildPages('src/cli/desk/page');
  const cluster = await startPostgres();
  project.provide('postgres', cluster.url);
  return () => cluster.stop();
}
