/* Rules and people of the lending application that are wrong, and which of review and rehearse tells: `npm run properties -- probed lending-rules`. */
import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import pg from 'pg';
import { databaseOn } from '../../test/setup.js';
import { charter } from './charter.js';
import { command, is, me } from './command.js';
import { SCHEMA } from './lending.js';

/** The charter as data, to be spoiled. */
type Data = any;

interface Fault {
  readonly name: string;
  readonly what: string;
  readonly charter?: (data: Data) => void;
  /** What is done to the application's own tables. */
  readonly people?: string;
}

const FAULTS: readonly Fault[] = [
  {
    name: 'member-changes-all',
    what: 'a role reaches all instead of its own',
    charter: (c) => Object.assign(c.roles.member.may, { 'tool.update': ['tenant'] }),
  },
  { name: 'viewer-sees-worth', what: 'a role gains a permission of another', charter: (c) => Object.assign(c.roles.viewer.may, { 'tool.value': ['lent'] }) },
  { name: 'lent-turned-round', what: 'a rule turned round', charter: (c) => Object.assign(c.kinds.tool.reaches, { lent: is('shared', { value: false }) }) },
  {
    name: 'own-by-maker',
    what: 'a rule about another field than was meant',
    charter: (c) => Object.assign(c.kinds.tool.reaches, { own: is('createdBy', me) }),
  },
  {
    name: 'lent-or-anything',
    what: 'a rule that holds for everything',
    charter: (c) =>
      Object.assign(c.kinds.tool.reaches, { lent: { op: 'or', of: [is('shared', { value: true }), { op: 'not', of: is('shared', { value: true }) }] } }),
  },
  { name: 'limit-gone', what: 'a limit left out', charter: (c) => delete c.limits },
  { name: 'worth-for-all', what: 'a masked field without its mask', charter: (c) => delete c.kinds.tool.fields.price.read },
  { name: 'change-without-read', what: 'a change without sight of it', charter: (c) => delete c.roles.member.may['tool.read'] },
  { name: 'same-role-twice', what: 'two roles that are the same', charter: (c) => Object.assign(c.roles.viewer, { may: c.roles.member.may }) },
  { name: 'lends-for-another', what: 'a record made in the name of another', charter: (c) => Object.assign(c.roles.member.may, { 'loan.create': ['tenant'] }) },
  { name: 'viewer-is-admin', what: 'somebody given a role too many', people: "update users set role = 'admin' where id = 'dora'" },
  { name: 'in-the-wrong-place', what: 'somebody put into the other organisation', people: "update users set org_id = 'south' where id = 'cleo'" },
  {
    name: 'admin-of-both',
    what: 'somebody who comes in besides',
    people: "insert into users values ('gus', 'north', 'Gus Fell', 'gus@north.example', 'admin')",
  },
];

const dir = join('.cache', 'lending');

/** A configuration of the application as it stands in a database, with a charter. @returns its path. */
export function lendingConfig(name: string, url: string, data: unknown = charter.data): string {
  mkdirSync(dir, { recursive: true });
  const file = join(dir, `${name}.config.ts`);
  writeFileSync(
    file,
    `import pg from 'pg';
import { readCharter } from 'warm-lintel';
import { defineConfig } from 'warm-lintel/cli';
import { peopleOf } from '../../properties/probed/target.js';

const pool = new pg.Pool({ connectionString: ${JSON.stringify(url)}, max: 2 });
pool.on('error', () => {});
export default defineConfig({ charter: readCharter(${JSON.stringify(data)}), database: () => pool, people: peopleOf });
`,
  );
  return file;
}

/** The application's tables in a database of their own. @returns its address. */
export async function lendingDatabase(cluster: string, ...changes: readonly string[]): Promise<string> {
  const url = await databaseOn(cluster);
  const client = new pg.Client(url);
  await client.connect();
  for (const text of [SCHEMA, ...changes]) await client.query(text);
  await client.end();
  return url;
}

/** What review and rehearse say of a copy of the application. */
async function told(cluster: string, script: string, { name, charter: spoil, people }: Fault): Promise<{ review: Set<string>; cells: number }> {
  const data = structuredClone(charter.data);
  spoil?.(data);
  const config = (what: string, url: string) => lendingConfig(`${name}-${what}`, url, data);
  const changes = people === undefined ? [] : [people];
  const at = async (what: string) => ['--config', config(what, await lendingDatabase(cluster, ...changes)), '--tenant', 'north'];
  const { out: found } = await command('review', ...(await at('review')), '--format', 'json');
  const review = found.startsWith('[') ? (JSON.parse(found) as { code: string }[]).map(({ code }) => code) : [found];
  const lines = (await command('rehearse', script, ...(await at('rehearse')))).out.split('\n');
  return { review: new Set(review), cells: lines.filter((line) => line.startsWith('differs')).length };
}

/** Scores every fault, and prints a row for each. */
export async function scoreLendingRules(cluster: string): Promise<void> {
  const script = join(dir, 'access.md');
  await command('rehearse', script, '--record', '--config', lendingConfig('record', await lendingDatabase(cluster)), '--tenant', 'north');
  const sound = await told(cluster, script, { name: 'sound', what: '' });
  console.log(`sound: review ${[...sound.review].join('; ') || 'nothing'}; rehearse ${sound.cells} differ\n`);
  console.log('| fault | what is wrong | review | rehearse |\n| --- | --- | --- | --- |');
  let found = 0;
  for (const fault of FAULTS) {
    const { review, cells } = await told(cluster, script, fault);
    if (review.size > 0 || cells > 0) found += 1;
    console.log(`| ${fault.name} | ${fault.what} | ${[...review].join(', ') || '–'} | ${cells > 0 ? `${cells} ${cells === 1 ? 'cell' : 'cells'}` : '–'} |`);
  }
  console.log(`\n${found} of ${FAULTS.length} found by one of them`);
  rmSync(dir, { recursive: true, force: true });
}
