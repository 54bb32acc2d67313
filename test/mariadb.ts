import { execFileSync, spawn } from 'node:child_process';
import { chmodSync, existsSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type Kysely, Kysely as KyselyClass, MysqlDialect } from 'kysely';
import { createPool } from 'mysql2';
import { asServer, freePort } from './setup.js';

/** The server's program: Debian's package, installed where it is missing. */
function serverProgram(): string {
  const found = ['/usr/sbin/mariadbd', '/usr/local/sbin/mariadbd', '/opt/homebrew/bin/mariadbd'].find((place) => existsSync(place));
  if (found) return found;
  if (process.getuid?.() === 0 && existsSync('/usr/bin/apt-get')) {
    execFileSync('apt-get', ['update'], { stdio: 'ignore' });
    execFileSync('apt-get', ['install', '-y', 'mariadb-server'], { stdio: 'ignore', env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' } });
    if (existsSync('/usr/sbin/mariadbd')) return serverProgram();
  }
  throw new Error('These tests need the server program of MariaDB 10.11 or later: install the package mariadb-server.');
}

export interface MariaDb {
  /** A database of its own, as an application opens it. */
  open(options?: object): Promise<Kysely<any>>;
  stop(): Promise<void>;
}

/** Starts a throw-away MariaDB. Its default collation is blind to case, so that a comparison which leans on it is seen. */
export async function startMariaDb(): Promise<MariaDb> {
  const program = serverProgram();
  const dir = mkdtempSync(join(tmpdir(), 'lintel-mariadb-'));
  chmodSync(dir, 0o755);
  const as = asServer(dir);
  const data = join(dir, 'data');
  const [install, installArgs] = as('mariadb-install-db', ['--no-defaults', `--datadir=${data}`, '--auth-root-authentication-method=normal', '--skip-test-db']);
  execFileSync(install, installArgs, { cwd: dir, stdio: 'ignore' });
  const port = await freePort();
  const socket = join(dir, 'socket');
  const settings = [
    'innodb-flush-log-at-trx-commit=0',
    'innodb-doublewrite=0',
    'sync-binlog=0',
    'innodb-lock-wait-timeout=10',
    'character-set-server=utf8mb4',
    'collation-server=utf8mb4_general_ci',
  ];
  const [server, args] = as(program, [
    '--no-defaults',
    `--datadir=${data}`,
    `--port=${port}`,
    '--bind-address=127.0.0.1',
    `--socket=${socket}`,
    `--pid-file=${join(dir, 'pid')}`,
    `--tmpdir=${dir}`,
    ...settings.map((one) => `--${one}`),
  ]);
  const running = spawn(server, args, { cwd: dir, stdio: 'ignore' });
  let count = 0;
  const poolOf = (options: object) => createPool({ host: '127.0.0.1', port, user: 'root', timezone: 'Z', connectionLimit: 5, ...options });
  const admin = poolOf({ connectionLimit: 1 }).promise();
  for (let i = 0; ; i++) {
    const up = await admin.query("create user if not exists 'app'@'%'").then(
      () => true,
      () => false,
    );
    if (up) break;
    if (i > 200) throw new Error('The throw-away MariaDB did not start within 20 seconds.');
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
  return {
    open: async (options = {}) => {
      count += 1;
      await admin.query(`create database d${count}`);
      return new KyselyClass<any>({ dialect: new MysqlDialect({ pool: poolOf({ database: `d${count}`, ...options }) }) });
    },
    stop: async () => {
      await admin.end();
      const ended = new Promise((resolve) => running.once('exit', resolve));
      running.kill('SIGTERM');
      await ended;
      rmSync(dir, { recursive: true, force: true });
    },
  };
}
