import type { Begun } from './begin.js';
import type { Proposed } from './proposal.js';
import { charterSource } from './source.js';
import type { Reading } from './tables.js';

/** Where an application keeps its records, as it was found. */
export type Where =
  | { readonly at: 'postgres' }
  | { readonly at: 'mariadb' }
  | { readonly at: 'pglite'; readonly directory: string }
  | { readonly at: 'sqlite'; readonly file: string };

/** Frameworks for which lines are written; `fetch`: whatever takes a request of the web platform. */
export type Framework = 'express' | 'fastify' | 'hono' | 'fetch';

export interface Project {
  readonly where: Where;
  readonly framework: Framework;
  /** The folder for the new files, from the root of the project, with slashes. */
  readonly into: string;
}

/** A new file: where it goes from the root of the project, and what is in it. */
export interface NewFile {
  readonly path: string;
  readonly text: string;
}

const ticked = (text: string) => JSON.stringify(text).slice(1, -1).replaceAll("'", "\\'").replaceAll('\\"', '"');

/** How the database is opened, and how rows of it are read. */
function databaseSource({ where, into }: Project): string {
  const beside = (path: string) =>
    `fileURLToPath(new URL('${ticked(path.startsWith('./') ? `${'../'.repeat(into.split('/').length)}${path.slice(2)}` : path)}', import.meta.url))`;
  if (where.at === 'postgres')
    return `import pg from 'pg';
import { createLintel } from 'warm-lintel/server';
import { charter } from './charter.js';

/* If your application has a pool already, take that one. */
export const db = new pg.Pool({ connectionString: process.env.DATABASE_URL });

export const lintel = createLintel({ charter, db });

/** Rows of the application's own tables. */
export const rows = async (sql: string): Promise<any[]> => (await db.query(sql)).rows;
`;
  if (where.at === 'pglite')
    return `import { fileURLToPath } from 'node:url';
import { PGlite } from '@electric-sql/pglite';
import { createLintel } from 'warm-lintel/server';
import { charter } from './charter.js';

/* If your application has it open already, take that one: a directory is opened once. */
export const db = new PGlite(${beside(where.directory)});

export const lintel = createLintel({ charter, db });

/** Rows of the application's own tables. */
export const rows = async (sql: string): Promise<any[]> => (await db.query(sql)).rows;
`;
  if (where.at === 'mariadb')
    return `import { fileURLToPath } from 'node:url';
import { PGlite } from '@electric-sql/pglite';
import { Kysely, MysqlDialect } from 'kysely';
import { createPool } from 'mysql2';
import { createLintel } from 'warm-lintel/server';
import { charter } from './charter.js';

/* If your application has a pool already, take that one, with this time zone: instants are kept in UTC. */
const pool = createPool({ uri: process.env.DATABASE_URL, timezone: 'Z', charset: 'utf8mb4' });

/* The records stay where they are. The membership needs a PostgreSQL; this one is in the process, and kept in a directory. */
export const db = new PGlite(${beside('./lintel-data')});

export const records = new Kysely<any>({ dialect: new MysqlDialect({ pool }) });

export const lintel = createLintel({ charter, db, records });

/** Rows of the application's own tables. */
export const rows = async (sql: string): Promise<any[]> => (await pool.promise().query(sql))[0] as any[];
`;
  return `import { fileURLToPath } from 'node:url';
import { PGlite } from '@electric-sql/pglite';
import Database from 'better-sqlite3';
import { Kysely, SqliteDialect } from 'kysely';
import { createLintel } from 'warm-lintel/server';
import { charter } from './charter.js';

const sqlite = new Database(${beside(where.file)});

/* The records stay where they are. The membership needs a PostgreSQL; this one is in the process, and kept in a directory. */
export const db = new PGlite(${beside('./lintel-data')});

export const records = new Kysely<any>({ dialect: new SqliteDialect({ database: sqlite }) });

export const lintel = createLintel({ charter, db, records });

/** Rows of the application's own tables. */
export const rows = async (sql: string): Promise<any[]> => sqlite.prepare(sql).all();
`;
}

const quotedColumn = (name: string, quote: string) => (/^[a-z_][a-z0-9_]*$/.test(name) ? name : `${quote}${name}${quote}`);

/** The people, organisations and members that are there, as `lintel.intake` takes them. */
function intakeSource({ people, tenants, members }: Reading, roles: Proposed['roles'], { where }: Project): string {
  const closes = where.at === 'postgres' ? 'end' : 'close';
  // In a template of the new file a backtick has to be escaped.
  const c = (name: string) => quotedColumn(name, where.at === 'mariadb' ? '\\`' : '"');
  const select = (columns: readonly (string | false | undefined)[], table: string, distinct = false) =>
    `select ${distinct ? 'distinct ' : ''}${columns.filter(Boolean).join(', ')} from ${c(table)}`;
  const as = (column: string | undefined, name: string) =>
    column !== undefined && (column === name ? c(column) : `${c(column)} as ${name === 'user' ? '"user"' : name}`);
  const ofPeople = people && select([as(people.id, 'id'), as(people.name ?? people.address ?? people.id, 'name'), as(people.address, 'address')], people.table);
  const ofTenants =
    tenants &&
    (tenants.table
      ? select([as(tenants.id, 'id'), as(tenants.name ?? tenants.id, 'name')], tenants.table)
      : members && select([as(members.tenant, 'id'), as(members.tenant, 'name')], members.table, true));
  const isOpen = members?.table === people?.table && members && `${c(members.tenant)} is not null`;
  const ofMembers =
    members &&
    `${select([as(members.tenant, 'tenant'), as(members.user, 'user'), as(members.role, 'role'), as(members.active, 'active')], members.table)}${isOpen ? ` where ${isOpen}` : ''}`;
  const names = Object.entries(roles).map(([value, role]) => `  ${/^[A-Za-z_$][\w$]*$/.test(value) ? value : `'${ticked(value)}'`}: '${role}',\n`);
  const mapped = members?.role
    ? `.map(({ role, ${members.active ? 'active, ' : ''}...member }) => ({ ...member, roles: role === null ? [] : [ROLES[role] ?? role]${members.active ? ', active: Boolean(active)' : ''} }))`
    : '';
  return `import { db, lintel, ${where.at === 'mariadb' ? 'records, ' : ''}rows } from './database.js';

${members?.role ? `/** What your application calls them, and what the charter does. \`keyholder\` is full control: an organisation is open once somebody has it. */\nconst ROLES: Readonly<Record<string, string>> = {\n${names.join('')}};\n\n` : ''}/** Takes in who is there already, under their ids. It sends no mail, and can run again: with the same rows it does nothing. */
await lintel.prepare();
const report = await lintel.intake({
  people: ${ofPeople ? `await rows(\`${ofPeople}\`)` : '[] /* To decide: id, name and address of each */'}${people && !people.address ? ' /* To decide: where is the address? */' : ''},
  tenants: ${ofTenants ? `await rows(\`${ofTenants}\`)` : '[] /* To decide: id and name of each organisation */'},
  members: ${ofMembers ? `(await rows(\`${ofMembers}\`))${mapped}` : '[] /* To decide: tenant, user and roles of each member */'},
});
console.log(report);
await db.${closes}();
${where.at === 'mariadb' ? 'await records.destroy();\n' : ''}`;
}

const ROUTE = (read: string) => `.selectFrom('${read}').selectAll().execute()`;

/** The lines for the framework: on every request who asks and what they reach. */
function httpSource({ framework }: Project, table: string): string {
  const who = (request: string) => `/** To decide: who is signed in? Answer their id as your own sign-in has it, or undefined for nobody. */
async function signedIn(request: ${request}): Promise<string | number | undefined> {
  throw new Error(\`Say in lintel/http.ts who sent \${request.url}\`);
}

/** Who sends a request. */
const sender = async (request: ${request}) => {
  const user = await signedIn(request);
  return user === undefined ? undefined : { user };
};
`;
  if (framework === 'express')
    return `import type { Request } from 'express';
import { forExpress } from 'warm-lintel/express';
import { lintel } from './database.js';

${who('Request')}
export const at = forExpress(lintel, { sender });

/*
 * In your application:
 *
 *   app.use('/lintel', at.face());
 *   app.use('/t/:tenant', at.standing);
 *   app.get('/t/:tenant/${table}', async (req, res) => {
 *     res.json(await req.scope${ROUTE(table)});
 *   });
 */
`;
  if (framework === 'fastify')
    return `import type { FastifyRequest } from 'fastify';
import { forFastify } from 'warm-lintel/fastify';
import { lintel } from './database.js';

${who('FastifyRequest')}
export const at = forFastify(lintel, { sender });

/*
 * In your application:
 *
 *   app.register(at.face, { prefix: '/lintel' });
 *   app.get('/t/:tenant/${table}', { preHandler: at.standing }, async (request) => request.scope${ROUTE(table)});
 */
`;
  if (framework === 'hono')
    return `import { createFace, withStanding } from 'warm-lintel/http';
import { lintel } from './database.js';

${who('Request')}
export const face = createFace(lintel, { sender, at: '/lintel' });
export const standing = withStanding(lintel, { sender });

/*
 * In your application:
 *
 *   app.all('/lintel/*', (c) => face.fetch(c.req.raw, c.env));
 *   app.use('/t/:tenant/*', standing);
 *   app.get('/t/:tenant/${table}', async (c) => c.json(await c.var.scope${ROUTE(table)}));
 */
`;
  return `import { createFace, standingOfRequest } from 'warm-lintel/http';
import { lintel } from './database.js';

${who('Request')}
/** The membership: give it the requests below /lintel. */
export const face = createFace(lintel, { sender, at: '/lintel' });

/** Who sends a request, and what they reach: \`(await standingOf(request, tenant)).scope()${ROUTE(table)}\` */
export const standingOf = (request: Request, tenant: string) => standingOfRequest(lintel, sender, request, tenant);
`;
}

/** The commands open what the application opens. */
const configSource = ({ where, into }: Project): string => `import { defineConfig } from 'warm-lintel/cli';
import { charter } from './${into}/charter.js';

export default defineConfig({
  charter,
  database: async () => (await import('./${into}/database.js')).db,
${where.at === 'sqlite' || where.at === 'mariadb' ? `  records: async () => (await import('./${into}/database.js')).records,\n` : ''}});
`;

/** All that is new in a project that begins. */
export function projectFiles(begun: Begun, project: Project): NewFile[] {
  const [first] = Object.values(begun.charter.kinds).filter(({ shared }) => !shared);
  const { into } = project;
  return [
    { path: `${into}/charter.ts`, text: charterSource(begun) },
    { path: `${into}/database.ts`, text: databaseSource(project) },
    { path: `${into}/intake.ts`, text: intakeSource(begun.reading, begun.roles, project) },
    { path: `${into}/http.ts`, text: httpSource(project, first?.table ?? 'records') },
    { path: 'lintel.config.ts', text: configSource(project) },
  ];
}
