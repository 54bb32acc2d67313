/*
 * The demo's own application, wrong in ways of which each is a text of its server that became another, in a copy: `npm run properties -- probed apiary`. It reads and writes
 * through scope, so that most of them are ways around it.
 */
import { cpSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import pg from 'pg';
import { type ProbeReport, type ProbeTarget, probe } from 'warm-lintel/rehearsal';
import { connect, createLintel, type Database } from 'warm-lintel/server';
import { charter } from '../../examples/apiary/world/charter.js';
import { seed } from '../../examples/apiary/world/seed.js';
import { databaseOn } from '../../test/setup.js';

const example = new URL('../../examples/apiary/', import.meta.url).pathname;
const cache = new URL('../../.cache/probed/', import.meta.url).pathname;

interface Planted {
  readonly name: string;
  readonly what: string;
  /** The routes that are tried. */
  readonly only: readonly string[];
  /** Three by three: in which file of the server this text becomes that. */
  readonly edits: readonly string[];
}

const at = (rest: string) => `/api/t/{tenant}/${rest}`;
const TENANT = 'tenant.ts';
const HIVES = 'hives.ts';
const AROUND = 'here.ts';
const HERE = `where('tenant_id', '=', standing.facts.tenant.id)`;
const LIST = `standing.find('hive', { order: 'name', limit: 200, may: MAY })`;
const ONE = `await standing.findOne('hive', id, { may: MAY })`;
const ADDED = `app.get('/records/:area'`;
const ROUTES = `  { method: 'get', path: '/api/t/:tenant/access', needs: 'area.members' },`;
/** A route more, in the server and in the list of what is tried. */
const added = (code: string, route: string) => [TENANT, ADDED, `${code}\n  ${ADDED}`, 'probed.ts', ROUTES, `${ROUTES}\n  ${route},`];

export const PLANTED: readonly Planted[] = [
  {
    name: 'list-without-scope',
    what: 'a list by plain SQL, of the right organisation',
    only: [`GET ${at('hives')}`],
    edits: [HIVES, LIST, `lintel.db.selectFrom('hives').selectAll().${HERE}.execute()`],
  },
  {
    name: 'list-of-all',
    what: 'the same without the organisation',
    only: [`GET ${at('hives')}`],
    edits: [HIVES, LIST, `lintel.db.selectFrom('hives').select(['id', 'name', 'tenant_id']).execute()`],
  },
  {
    name: 'area-for-all',
    what: 'a page that does not ask whether it is open, and reads by plain SQL',
    only: [`GET ${at('ledger')}`],
    edits: [
      'ledger.ts',
      `standing.insist('area.ledger');`,
      '',
      'ledger.ts',
      `standing.find('entry', { order: 'id', limit: 200, may: ['entry.update', 'entry.book'] })`,
      `lintel.db.selectFrom('entries').selectAll().${HERE}.execute()`,
    ],
  },
  {
    name: 'detail-by-guessed-id',
    what: 'a record by its id, of whatever organisation',
    only: [`GET ${at('hives/{id}')}`],
    edits: [
      HIVES,
      ONE,
      `await lintel.db.selectFrom('hives').selectAll().where('id', '=', id).executeTakeFirst().then((one) => one ?? standing.findOne('hive', id))`,
    ],
  },
  {
    name: 'detail-with-number',
    what: 'a record with the number that only some may read',
    only: [`GET ${at('hives/{id}')}`],
    edits: [HIVES, ONE, `{ ...(${ONE}), ...(await lintel.db.selectFrom('hives').select('registration_no').where('id', '=', id).executeTakeFirst()) }`],
  },
  {
    name: 'nested-without-scope',
    what: 'what hangs on a record, before the record itself is asked for',
    only: [`GET ${at('hives/{id}')}`],
    edits: [
      HIVES,
      `const hive = ${ONE};`,
      `const written = await lintel.db.selectFrom('inspections').selectAll().where('hive_id', '=', id).execute();\n    const hive = await standing.findOne('hive', id, { may: MAY }).catch(() => null);\n    if (written.length > 0) return c.json({ hive, written });`,
    ],
  },
  {
    name: 'join-leaks',
    what: 'a list joined with disease reports, which few may read',
    only: [`GET ${at('hives')}`],
    edits: [
      HIVES,
      LIST,
      `lintel.db.selectFrom('hives as h').leftJoin('reports as r', 'r.hive_id', 'h.id').select(['h.id', 'h.name', 'r.disease', 'r.findings']).where('h.tenant_id', '=', standing.facts.tenant.id).where('h.id', 'in', (await standing.find('hive', { limit: 200 })).map((one) => one.id)).execute()`,
    ],
  },
  {
    name: 'count-betrays',
    what: 'a number of all hives beside the list of one’s own',
    only: [`GET ${at('hives')}`],
    edits: [
      HIVES,
      'return c.json({ hives, people, sites });',
      `const [{ total }] = await lintel.db.selectFrom('hives').select((eb) => eb.fn.countAll().as('total')).${HERE}.execute();\n    return c.json({ hives, people, sites, total: Number(total) });`,
    ],
  },
  {
    name: 'hidden-is-refused',
    what: 'hidden records are refused, and not missing',
    only: [`GET ${at('hives/{id}')}`],
    edits: [
      HIVES,
      `const hive = ${ONE};`,
      `const there = await lintel.db.selectFrom('hives').select('id').where('id', '=', id).executeTakeFirst();\n    const hive = await standing.findOne('hive', id, { may: MAY }).catch((error) => {\n      if (there) throw new LintelError('refused', 'You may not see this hive.', {});\n      throw error;\n    });`,
    ],
  },
  {
    name: 'update-by-guessed-id',
    what: 'a change that asks for nothing',
    only: [`PATCH ${at('hives/{id}')}`],
    edits: [
      HIVES,
      `await standing.insistById('hive.update', id, { fields: Object.keys(input) });`,
      '',
      HIVES,
      `standing.scope<ApiaryTables>().updateTable('hives').set(change)`,
      `lintel.db.updateTable('hives').set(change)`,
    ],
  },
  {
    name: 'update-past-the-limit',
    what: 'a change that asks who keeps it, and not whether it is archived',
    only: [`PATCH ${at('hives/{id}')}`],
    edits: [
      HIVES,
      `await standing.insistById('hive.update', id, { fields: Object.keys(input) });`,
      `await standing.insistById('hive.archive', id);`,
      HIVES,
      `standing.scope<ApiaryTables>().updateTable('hives').set(change)`,
      `lintel.db.updateTable('hives').set(change)`,
    ],
  },
  {
    name: 'update-takes-the-owner',
    what: 'a change that takes whatever the body holds',
    only: [`PATCH ${at('hives/{id}')}`],
    edits: [
      HIVES,
      `await standing.insistById('hive.update', id, { fields: Object.keys(input) });`,
      `await standing.insistById('hive.update', id);`,
      HIVES,
      `standing.scope<ApiaryTables>().updateTable('hives').set(change)`,
      `lintel.db.updateTable('hives').set({ ...change, ...(typeof input.keeperId === 'string' && { keeper_id: input.keeperId }), ...(input.status && { status: input.status }) })`,
    ],
  },
  {
    name: 'create-takes-the-tenant',
    what: 'a new record of whatever organisation the body names',
    only: [`POST ${at('hives')}`],
    edits: [
      HIVES,
      `const [made] = await standing`,
      `standing.insist('hive.create', { keeperId: standing.userId, tenantId: standing.facts.tenant.id });\n    Object.assign(values, { keeper_id: standing.userId, made_by: standing.userId, status: 'active', tenant_id: str(rest.tenantId) || standing.facts.tenant.id });\n    const [made] = await ({ scope: () => lintel.db })`,
    ],
  },
  {
    name: 'handed-over-by-readers',
    what: 'a handover that asks for sight alone',
    only: [`POST ${at('hives/{id}/keeper')}`],
    edits: [
      HIVES,
      `await standing.insistById(hive.keeperId === null && to === standing.userId ? 'hive.update' : 'hive.transfer', id);`,
      '',
      HIVES,
      `standing.scope<ApiaryTables>().updateTable('hives').set({ keeper_id: to })`,
      `lintel.db.updateTable('hives').set({ keeper_id: to })`,
    ],
  },
  {
    name: 'archived-by-readers',
    what: 'an action that asks for sight alone',
    only: [`POST ${at('hives/{id}/archive')}`],
    edits: [
      HIVES,
      `await standing.insistById('hive.archive', id);`,
      `await standing.insistById('hive.read', id);`,
      HIVES,
      `standing.scope<ApiaryTables>().updateTable('hives').set({ status })`,
      `lintel.db.updateTable('hives').set({ status })`,
    ],
  },
  {
    name: 'standing-kept',
    what: 'what somebody holds is kept from one request to the next',
    only: [`GET ${at('hives')}`, `PATCH ${at('hives/{id}')}`],
    edits: [
      AROUND,
      `return standingOfRequest(lintel, sender, c.req.raw, c.req.param('tenant') ?? '');`,
      `const key = \`\${c.req.header('cookie')} \${c.req.param('tenant')}\`;\n    if (!kept.has(key)) kept.set(key, await standingOfRequest(lintel, sender, c.req.raw, c.req.param('tenant') ?? ''));\n    return kept.get(key) as Here;`,
      AROUND,
      `): Around {`,
      `): Around {\n  const kept = new Map<string, Here>();`,
    ],
  },
  {
    name: 'answer-kept',
    what: 'an answer that is kept for whoever asks next',
    only: [`GET ${at('hives')}`],
    edits: [
      HIVES,
      `return c.json({ hives, people, sites });`,
      `last ??= { hives, people, sites };\n    return c.json(last);`,
      HIVES,
      `const app = new Hono<OfRequest>();`,
      `const app = new Hono<OfRequest>();\n  let last: object | undefined;`,
    ],
  },
  {
    name: 'first-tenant-taken',
    what: 'the organisation is the first of the account’s, and not the one in the address',
    only: [`GET ${at('hives')}`, `PATCH ${at('hives/{id}')}`],
    edits: [
      AROUND,
      `return standingOfRequest(lintel, sender, c.req.raw, c.req.param('tenant') ?? '');`,
      `const who = await sender(c.req.raw);\n    const [first] = who?.user ? await lintel.myTenants(who.user) : [];\n    return standingOfRequest(lintel, sender, c.req.raw, first?.id ?? c.req.param('tenant') ?? '');`,
    ],
  },
  {
    name: 'export-of-all',
    what: 'an export without the scope',
    only: [`GET ${at('hives.csv')}`],
    edits: added(
      `app.get('/hives.csv', async (c) => {\n    const standing = await enter(c);\n    const all = await lintel.db.selectFrom('hives').select(['id', 'name', 'registration_no']).${HERE}.execute();\n    return c.text(all.map((one) => Object.values(one).join(',')).join('\\n'));\n  });`,
      `{ method: 'get', path: '/api/t/:tenant/hives.csv', kind: 'hive' }`,
    ),
  },
  {
    name: 'search-of-all',
    what: 'a search without the scope',
    only: [`GET ${at('search')}`],
    edits: added(
      `app.get('/search', async (c) => {\n    const standing = await enter(c);\n    const like = \`%\${c.req.query('q') ?? ''}%\`;\n    return c.json(await lintel.db.selectFrom('inspections').select(['id', 'summary']).${HERE}.where('summary', 'like', like).limit(20).execute());\n  });`,
      `{ method: 'get', path: '/api/t/:tenant/search', kind: 'inspection', query: ['q'] }`,
    ),
  },
  {
    name: 'sorted-by-number',
    what: 'a list in whatever order the address names, of what one reads',
    only: [`GET ${at('sorted')}`],
    edits: added(
      `app.get('/sorted', async (c) => {\n    const standing = await enter(c);\n    const order = ['name', 'registration_no'].find((one) => one === c.req.query('sort')) ?? 'name';\n    const ids = (await standing.find('hive', { limit: 200 })).map((one) => one.id as string);\n    return c.json(await lintel.db.selectFrom('hives').select(['id', 'name']).where('id', 'in', [...ids, '']).orderBy(order as 'name').execute());\n  });`,
      `{ method: 'get', path: '/api/t/:tenant/sorted', kind: 'hive', query: ['sort'] }`,
    ),
  },
  {
    name: 'upload-to-any',
    what: 'a text that is put to whatever record the body names',
    only: [`POST ${at('notes')}`],
    edits: added(
      `app.post('/notes', async (c) => {\n    const standing = await enter(c);\n    standing.insist('area.hives');\n    const { hiveId, summary } = await body(c);\n    await lintel.db.updateTable('inspections').set({ summary: str(summary) }).where('hive_id', '=', str(hiveId)).execute();\n    return c.json({});\n  });`,
      `{ method: 'post', path: '/api/t/:tenant/notes', kind: 'inspection', body: { hiveId: 'a-hive-01', summary: 'Probe' } }`,
    ),
  },
  {
    name: 'nested-write',
    what: 'what hangs on a record is written with it, under whatever record it names',
    only: [`POST ${at('rounds')}`],
    edits: added(
      `app.post('/rounds', async (c) => {\n    const standing = await enter(c);\n    standing.insist('area.hives');\n    const { inspections } = await body(c);\n    for (const one of Array.isArray(inspections) ? inspections : [])\n      await lintel.db.insertInto('inspections').values({ id: crypto.randomUUID(), tenant_id: standing.facts.tenant.id, hive_id: str(one.hiveId), made_by: standing.userId as string, held_at: new Date(), summary: str(one.summary) }).execute();\n    return c.json({});\n  });`,
      `{ method: 'post', path: '/api/t/:tenant/rounds', kind: 'inspection', body: { inspections: [{ hiveId: 'a-hive-01', summary: 'Probe' }] } }`,
    ),
  },
  {
    name: 'sites-of-all',
    what: 'the sites of all organisations beside the hives',
    only: [`GET ${at('hives')}`],
    edits: [AROUND, `        .where('tenant_id', '=', standing.facts.tenant.id)\n        .orderBy('name')`, `        .orderBy('name')`],
  },
  {
    name: 'page-for-all',
    what: 'a page that shows no records, and does not ask whether it is open',
    only: [`GET ${at('access')}`],
    edits: [TENANT, `standing.insist('area.members');`, ''],
  },
  {
    name: 'signed-out-is-somebody',
    what: 'whoever is not signed in is taken for the one who was last',
    only: [`GET ${at('hives')}`],
    edits: [
      'app.ts',
      `const who = await byCookie(request);`,
      `const who = (await byCookie(request)) ?? before;\n    before = who;`,
      'app.ts',
      `const whoSent = async`,
      `let before: Awaited<ReturnType<typeof byCookie>>;\n  const whoSent = async`,
    ],
  },
];

/** What becomes of the text of a file of the server. */
type Change = (file: string, text: string) => string;

/** What one of them makes of the server. */
export function edited({ name, edits }: Planted): Change {
  return (file, text) => {
    let becomes = text;
    for (let i = 0; i < edits.length; i += 3) {
      const [where, from, to] = edits.slice(i, i + 3) as [string, string, string];
      if (where !== file) continue;
      if (!becomes.includes(from)) throw new Error(`${name}: there is no "${from}" in ${file}`);
      becomes = becomes.replace(from, () => to);
    }
    return becomes;
  };
}

/** A copy of the example with a change, as it is given to the probe. */
async function targetOf(db: Database, name: string, change: Change): Promise<ProbeTarget> {
  const dir = join(cache, `apiary-${name}`);
  rmSync(dir, { recursive: true, force: true });
  for (const part of ['server', 'world', 'package.json']) cpSync(join(example, part), join(dir, part), { recursive: true });
  for (const file of readdirSync(join(dir, 'server'))) {
    const path = join(dir, 'server', file);
    writeFileSync(path, change(file, readFileSync(path, 'utf8')));
  }
  const { probed } = (await import(pathToFileURL(join(dir, 'server', 'probed.ts')).href)) as { probed(db: Database): Promise<ProbeTarget> };
  return probed(db);
}

/** Tries the demo's application with a change, on a copy of its world. */
export async function probeApiary(cluster: string, name = 'sound', change: Change = (_, text) => text, only: readonly string[] = []): Promise<ProbeReport> {
  const pool = new pg.Pool({ connectionString: await databaseOn(cluster), max: 4 });
  pool.on('error', () => {});
  const db = connect<any>(pool);
  try {
    await seed(db);
    const target = await targetOf(pool, name, change);
    return await probe(createLintel({ charter, db }) as never, db, { ...target, ...(only.length > 0 && { only }) });
  } finally {
    await db.destroy();
  }
}

/** Scores every one, or those that are wanted, and prints a row for each. */
export async function scoreApiary(cluster: string, wanted: readonly string[] = []): Promise<void> {
  const sound = await probeApiary(cluster);
  console.log(`without a fault: ${sound.findings.map(({ code, route }) => `${code} ${route}`).join('; ') || 'nothing was found'}; ${sound.calls} calls\n`);
  console.log('| fault | what is wrong | found as |\n| --- | --- | --- |');
  let found = 0;
  const all = PLANTED.filter(({ name }) => wanted.length === 0 || wanted.includes(name));
  for (const planted of all) {
    const { findings } = await probeApiary(cluster, planted.name, edited(planted), planted.only);
    if (findings.length > 0) found += 1;
    console.log(`| ${planted.name} | ${planted.what} | ${[...new Set(findings.map(({ code }) => code))].join(', ') || '**missed**'} |`);
  }
  console.log(`\n${found} of ${all.length} found`);
}
