/* The packed library on the lowest and the newest Node that it names: a decision, a database, an invitation, the command. */
import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import process from 'node:process';

const root = new URL('..', import.meta.url).pathname;
const LOWEST = '20.0.0';
const NEWEST = '26.12.1';

const PROGRAM = `
import { PGlite } from '@electric-sql/pglite';
import { defineCharter, defineKinds, id, owner, tenant, text } from 'warm-lintel';
import { connect, createLintel } from 'warm-lintel/server';

const ids = { type: 'text' };
const kinds = defineKinds(
  { hive: { table: 'hives', label: 'name', fields: { id: id(ids), tenantId: tenant(ids), keeperId: owner(ids), name: text() }, actions: { read: { label: 'See' } } } },
  { hive: { own: ({ record, me }) => record.keeperId.is(me.userId) } },
);
const charter = defineCharter(kinds, { roles: { keeper: { label: 'Keeper', may: { 'hive.read': 'own' } } } });
const pglite = new PGlite();
await pglite.exec('create table hives (id text collate "C" primary key, tenant_id text collate "C", keeper_id text collate "C", name text collate "C")');
const lintel = createLintel({ charter, db: connect(pglite) });
await lintel.prepare();
for (const name of ['anna', 'bent']) await lintel.addPerson({ id: name, name, address: name + '@bees.example', confirmedAt: new Date() });
await lintel.openTenant({ id: 'bees', name: 'Bees', keyholder: 'anna' });
const anna = await lintel.enter({ tenant: 'bees', user: 'anna' });
const [{ token }] = await anna.invitations.send([{ address: 'bent@bees.example', roles: [{ role: 'keeper', anchor: { on: 'tenant' } }] }]);
await lintel.acceptInvitation('bent', { token });
await pglite.exec("insert into hives values ('h1', 'bees', 'anna', 'Birch'), ('h2', 'bees', 'bent', 'Clover')");
const bent = await lintel.enter({ tenant: 'bees', user: 'bent' });
const seen = (await bent.find('hive')).map(({ name }) => name).join();
if (seen !== 'Clover') throw new Error('bent sees ' + seen);
await pglite.close();
`;

/** The program of a version of Node, from npm's package of it for this platform; undefined where it cannot be had. */
function nodeOf(version: string): string | undefined {
  const called = `node-${process.platform === 'win32' ? 'win' : process.platform}-${process.arch}`;
  const prefix = join(root, '.cache/node', version);
  const program = join(prefix, 'node_modules', called, 'bin/node');
  if (existsSync(program)) return program;
  try {
    mkdirSync(prefix, { recursive: true });
    writeFileSync(join(prefix, 'package.json'), '{}');
    execFileSync('npm', ['install', '--no-save', '--ignore-scripts', '--prefix', prefix, `${called}@${version}`], { stdio: 'pipe' });
    return program;
  } catch {
    return undefined;
  }
}

/** A project in which the packed library is installed, with the packages that it needs. */
function project(): string {
  const [{ filename }] = JSON.parse(execFileSync('npm', ['pack', '--json', '--ignore-scripts'], { cwd: root, encoding: 'utf8', stdio: 'pipe' }));
  const folder = mkdtempSync(join(tmpdir(), 'lintel-smoke-'));
  const modules = join(folder, 'node_modules');
  mkdirSync(join(modules, 'warm-lintel'), { recursive: true });
  execFileSync('tar', ['-xzf', join(root, filename), '--strip-components=1', '-C', join(modules, 'warm-lintel')]);
  rmSync(join(root, filename));
  const { dependencies, devDependencies } = JSON.parse(readFileSync(join(root, 'package.json'), 'utf8'));
  for (const name of [...Object.keys(dependencies), ...Object.keys(devDependencies)]) {
    mkdirSync(dirname(join(modules, name)), { recursive: true });
    symlinkSync(join(root, 'node_modules', name), join(modules, name));
  }
  writeFileSync(join(folder, 'smoke.mjs'), PROGRAM);
  return folder;
}

const folder = project();
let passed = 0;
for (const version of [LOWEST, NEWEST]) {
  const node = nodeOf(version);
  if (node === undefined) {
    console.error(`Node ${version} cannot be had from npm here.`);
    if (process.env.CI) process.exit(1);
    continue;
  }
  execFileSync(node, ['smoke.mjs'], { cwd: folder, stdio: 'inherit' });
  const help = execFileSync(node, [join(folder, 'node_modules/warm-lintel/dist/cli/bin.js'), '--help'], { cwd: folder, encoding: 'utf8' });
  if (!help.includes('Usage: lintel')) throw new Error(`Node ${version}: lintel --help prints ${help}`);
  console.log(`The packed library runs on Node ${execFileSync(node, ['--version'], { encoding: 'utf8' }).trim()}.`);
  passed += 1;
}
rmSync(folder, { recursive: true, force: true });
console.log(`${passed} of 2 versions`);
