/* Makes docs/screenshots anew from the demo data: pages in Chromium, commands in a terminal window under Xvfb. */
import { execFileSync, spawn } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as wait } from 'node:timers/promises';
import { fileURLToPath } from 'node:url';
import pg from 'pg';
import type { Page } from 'playwright-core';
import { run } from 'warm-lintel/cli';
import { connect, policyStatements } from 'warm-lintel/server';
import { DEMO_PASSWORD, startDemo } from '../examples/apiary/server/main.js';
import { charter } from '../examples/apiary/world/charter.js';
import { seed } from '../examples/apiary/world/seed.js';
import { launch } from '../test/chromium.js';
import { startPostgres } from '../test/setup.js';

/** `npm run screenshots -- command-probe`: only what begins so. */
const wanted = process.argv[2];
const isWanted = (name: string) => wanted === undefined || name.startsWith(wanted) || wanted.startsWith(name);
const root = fileURLToPath(new URL('..', import.meta.url));
const out = join(root, 'docs/screenshots');
mkdirSync(out, { recursive: true });

async function pages(): Promise<void> {
  const demo = await startDemo({ port: 0 });
  const browser = await launch();
  const base = `http://localhost:${demo.port}`;
  const shoot = (page: Page, name: string) => page.screenshot({ path: join(out, `${name}.png`) });
  const as = async (address: string) => {
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
    const page = await context.newPage();
    await page.goto(base);
    await page.getByLabel('E-mail address').fill(address);
    await page.getByRole('textbox', { name: 'Password' }).fill(DEMO_PASSWORD);
    await page.getByRole('button', { name: 'Sign in', exact: true }).click();
    await page.getByRole('button', { name: 'Sign out' }).waitFor();
    return page;
  };
  const tobias = await as('tobias@alderbrook.example');
  await tobias.getByRole('heading', { name: 'Hives' }).waitFor();
  await shoot(tobias, 'page-hives');
  const appeal = { action: 'hive.update', record: 'a-hive-02', words: 'Sela is away for a week, and the roof leaks.' };
  await tobias.request.post(`${base}/lintel/tenants/alderbrook/appeals`, { data: appeal, headers: { origin: base } });

  const maren = await as('maren@alderbrook.example');
  await maren.goto(`${base}/t/alderbrook/members/tobias`);
  await maren.getByRole('button', { name: 'Try as Tobias Renn' }).click();
  await maren.getByRole('status').getByText('is tried as them').waitFor();
  await maren.goto(`${base}/t/alderbrook/hives/a-hive-01`);
  await maren.getByRole('button', { name: 'Change', exact: true }).click();
  await maren.getByRole('button', { name: 'Save' }).click();
  await maren.getByText('It was taken back.').waitFor();
  await shoot(maren, 'page-tried');
  await maren.getByRole('button', { name: 'Look as yourself again' }).click();
  await maren.getByRole('heading', { name: 'Members' }).waitFor();
  await maren.getByRole('button', { name: 'Invite people' }).click();
  await maren.getByLabel('Addresses').fill('nils@alderbrook.example');
  await maren.getByLabel('Keeper', { exact: true }).check();
  await maren.getByText('Hand a hive over').waitFor();
  await shoot(maren, 'page-invite');
  await maren.getByRole('button', { name: 'Send the invitation' }).click();
  await maren.getByText('is on its way').waitFor();
  await maren.keyboard.press('Escape');
  await maren.getByRole('dialog').waitFor({ state: 'detached' });
  await wait(400);
  await maren.getByText('message sent').or(maren.getByText('message waiting')).waitFor();
  await shoot(maren, 'page-members');
  await maren.getByRole('button', { name: 'Change the roles of Tobias Renn' }).click();
  await maren.getByLabel('Treasurer').check();
  await maren.getByRole('button', { name: 'See what it does' }).click();
  await maren.getByRole('button', { name: 'Carry it out' }).waitFor();
  await wait(400);
  await shoot(maren, 'page-proposal');
  await maren.goto(`${base}/t/alderbrook/connections`);
  await maren.getByLabel('Another domain').fill('county.example');
  await maren.getByRole('button', { name: 'Add', exact: true }).click();
  await maren.getByRole('button', { name: 'Carry it out' }).click();
  await maren.getByRole('button', { name: 'Look for it' }).click();
  await maren.getByLabel('Provider for county.example').selectOption({ label: 'The county’s sign-in' });
  await maren.getByRole('button', { name: 'Carry it out' }).click();
  await maren.getByRole('dialog').waitFor({ state: 'detached' });
  await wait(400);
  await shoot(maren, 'page-providers');
  await maren.goto(`${base}/t/alderbrook/appeals`);
  await maren.getByRole('button', { name: 'Answer Tobias Renn: Change a hive' }).click();
  await maren.getByRole('list', { name: 'What would allow it' }).waitFor();
  await wait(400);
  await shoot(maren, 'page-appeal');
  await maren.goto(`${base}/me`);
  await maren.getByRole('region', { name: 'Sign-ins' }).getByRole('listitem').first().waitFor();
  await maren.screenshot({ path: join(out, 'page-me.png'), fullPage: true });
  await browser.close();
  await demo.close();
}

/** The desk over the demo's world. */
async function desk(): Promise<void> {
  let stop = (): void => {};
  const until = new Promise<void>((resolve) => {
    stop = resolve;
  });
  const link = await new Promise<string>((opened) => {
    const around = { cwd: root, err: () => {}, colours: false, width: 160, stopped: () => until };
    void run(['desk'], { ...around, out: (text) => opened(/http:\S+/.exec(text)?.[0] ?? text) });
  });
  const browser = await launch();
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  await page.goto(link);
  const { origin } = new URL(link);
  await page.goto(`${origin}/table?tenant=alderbrook&by=people&only=hive`);
  await page.getByText('all in Orchard side').first().waitFor();
  await page.screenshot({ path: join(out, 'desk-table.png') });
  await page.emulateMedia({ colorScheme: 'dark' });
  await page.goto(`${origin}/why?tenant=alderbrook&person=tobias&action=hive.update&record=a-hive-02`);
  await page.getByText('give it for this record alone').waitFor();
  await page.screenshot({ path: join(out, 'desk-why.png') });
  await browser.close();
  stop();
}

/** Runs a command in an xterm under Xvfb and takes a picture of the window. */
async function terminal(name: string, command: string, seconds: number): Promise<void> {
  if (!isWanted(name)) return;
  for (const [program, from] of [
    ['Xvfb', 'xvfb'],
    ['xterm', 'xterm'],
    ['import', 'imagemagick'],
  ] as const) {
    if (!existsSync(`/usr/bin/${program}`)) throw new Error(`Pictures of the terminal need ${program}: install the package ${from}.`);
  }
  const display = `:${90 + Math.floor(Math.random() * 9)}`;
  const done = join(mkdtempSync(join(tmpdir(), 'lintel-')), 'done');
  const xvfb = spawn('Xvfb', [display, '-screen', '0', '1280x800x24', '-nolisten', 'tcp'], { stdio: 'ignore' });
  await wait(800);
  const shown = `cd ${root}; printf '$ %s\\n' "${command}"; ${command} 2>&1; touch ${done}; sleep 60`;
  const xterm = spawn(
    'xterm',
    ['-bw', '0', '-geometry', '158x53+0+0', '-fa', 'DejaVu Sans Mono', '-fs', '9.5', '-bg', '#fffdf8', '-fg', '#2b2519', '-e', 'bash', '-c', shown],
    { stdio: 'ignore', env: { ...process.env, DISPLAY: display } },
  );
  for (let i = 0; i < seconds * 10 && !existsSync(done); i++) await wait(100);
  await wait(700);
  const file = join(out, `${name}.png`);
  execFileSync('import', ['-display', display, '-window', 'root', '-crop', '1268x800+0+0', '+repage', file]);
  // What stands below the last line is nothing to look at.
  const [height, , top] = execFileSync('convert', [file, '-trim', '-format', '%h %X %Y', 'info:'], { encoding: 'utf8' }).split(' ').map(Number) as [
    number,
    number,
    number,
  ];
  execFileSync('mogrify', ['-crop', `1268x${Math.min(800, top + height + 12)}+0+0`, '+repage', file]);
  xterm.kill();
  xvfb.kill();
}

/** The commands that look at a PostgreSQL: the demo's world, in which somebody opened the wall in a few places. */
async function onPostgres(): Promise<void> {
  const cluster = await startPostgres();
  const pool = new pg.Pool({ connectionString: `${cluster.url}/postgres`, max: 2 });
  pool.on('error', () => {});
  await seed(connect<any>(pool));
  await pool.query('create role apiary_app login');
  for (const statement of policyStatements(charter as never, { role: 'apiary_app' })) await pool.query(statement);
  for (const statement of [
    'create view hive_report as select * from hives',
    'grant select on hive_report to apiary_app',
    'grant truncate on entries to apiary_app',
    'alter table reports disable row level security',
    'create policy for_the_county on hives using (true)',
  ])
    await pool.query(statement);
  process.env.DATABASE_URL = `${cluster.url}/postgres`;
  await terminal('command-policies', 'npm run --silent lintel -- policies --role apiary_app --check --database $DATABASE_URL', 60);
  await pool.query('create database workshops');
  process.env.DATABASE_URL = `${cluster.url}/workshops`;
  const workshops = new pg.Pool({ connectionString: process.env.DATABASE_URL, max: 1 });
  await workshops.query(readFileSync('examples/existing/before/schema.sql', 'utf8'));
  await workshops.end();
  await terminal('command-start', 'npm run --silent lintel -- start --database $DATABASE_URL | head -n 44', 44);
  await pool.end();
  await cluster.stop();
}

if (isWanted('page')) await pages();
if (isWanted('desk')) await desk();
if (wanted === undefined || wanted.startsWith('command')) {
  await terminal('command-tour', 'npm run --silent tour | tail -n 50', 60);
  await terminal('command-table', 'npm run --silent lintel -- table --by people --only hive --tenant alderbrook', 60);
  await terminal(
    'command-why',
    'npm run --silent lintel -- why tobias hive.update a-hive-02; npm run --silent lintel -- why otto hive.update a-hive-09; npm run --silent lintel -- who hive.update a-hive-02',
    60,
  );
  await terminal(
    'command-members',
    'npm run --silent lintel -- members otto --tenant alderbrook; npm run --silent lintel -- members tobias --roles keeper warden@orchards --as maren --tenant alderbrook --dry-run; npm run --silent lintel -- audit --verify --tenant alderbrook',
    90,
  );
  await terminal(
    'command-compare',
    'npm run --silent lintel -- compare tobias otto --on hive.update --tenant alderbrook; npm run --silent lintel -- remedy tobias hive.update a-hive-02',
    60,
  );
  // What was so once, and what somebody expects of it.
  const dir = mkdtempSync(join(tmpdir(), 'lintel-'));
  const before = structuredClone(charter.data) as any;
  before.roles.keeper.may['hive.update'] = ['own'];
  before.roles.junior.may['hive.read'] = ['tenant'];
  delete before.roles.treasurer.may['entry.read'];
  writeFileSync(join(dir, 'before.json'), JSON.stringify(before, null, 1));
  const expected = ['- Tobias Renn may hive.update a-hive-01', '- Tobias Renn may hive.update a-hive-02', '- Junia Marsh may not hive.read a-hive-01'];
  writeFileSync(
    join(dir, 'access.md'),
    ['| role | Keeper | Junior |', '| --- | --- | --- |', '| hive.read | all | onSite |', '| hive.update | own | – |', '', ...expected].join('\n'),
  );
  process.env.PLACE = dir;
  await terminal(
    'command-rehearse',
    'cat $PLACE/access.md; echo; npm run --silent lintel -- rehearse $PLACE/access.md --tenant alderbrook; npm run --silent lintel -- changes $PLACE/before.json --tenant alderbrook; npm run --silent lintel -- review --charter $PLACE/before.json',
    90,
  );
  await terminal('command-probe', 'npm run --silent lintel -- probe --config properties/probed/careless.config.ts', 90);
  await onPostgres();
}
process.exit(0);
