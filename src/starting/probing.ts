import { type CharterData, type FieldData, snakeCase } from '../charter/index.js';
import type { Begun } from './begin.js';
import type { NewFile, Project } from './project.js';
import { charterSource, literal } from './source.js';

/** A route of the application as it was read, and what of it is not known. */
export interface ReadRoute {
  readonly route: object;
  readonly kind?: string | undefined;
  readonly why?: string;
}

const routesSource = (routes: readonly ReadRoute[]): string =>
  `/* Read from what there is. What a parameter names is told by its own name, or the part before it; where it is not, params says so: { no: 'repair' }. */
export const routes = [
${routes.map(({ route, kind, why }) => `${why === undefined ? '' : `  // To decide: ${why}.\n`}  ${literal(route)},${kind === undefined ? '' : ` // ${kind}`}\n`).join('')}];
`;

/** Who there is, as a query of the application's own tables. */
function peopleSource({ reading: { people, members }, roles }: Begun): string {
  if (!people || !members) return `  people: async () => [], // To decide: id, name, address, tenant and roles of each\n`;
  const isOne = members.table === people.table;
  const [p, m] = isOne ? ['p', 'p'] : ['p', 'm'];
  const columns = [
    `${p}.${people.id} as id`,
    `${p}.${people.name ?? people.address ?? people.id} as name`,
    `${p}.${people.address ?? people.id} as address`,
    `${m}.${members.tenant} as tenant`,
    ...(members.role === undefined ? [] : [`${m}.${members.role} as role`]),
  ];
  const from = isOne
    ? `db.selectFrom('${people.table} as p')`
    : `db.selectFrom('${members.table} as m').innerJoin('${people.table} as p', 'p.${people.id}', 'm.${members.user}')`;
  const only = [
    ...(isOne ? [`.where('p.${members.tenant}', 'is not', null)`] : []),
    ...(members.active === undefined ? [] : [`.where('${m}.${members.active}', '=', true)`]),
  ].join('');
  const renamed = Object.entries(roles).filter(([value, role]) => value !== role);
  const role = renamed.length > 0 ? `(${literal(Object.fromEntries(renamed))} as Record<string, string>)[role] ?? role` : 'role';
  const each =
    members.role === undefined
      ? '(member) => ({ ...member, roles: [] /* To decide */ })'
      : `({ role, ...member }) => ({ ...member, roles: role === null ? [] : [${role}] })`;
  return `  // Who there is, read each time.
  people: async (db) =>
    (await ${from}${only}.select(${literal(columns)}).execute())
      .map(${each}),
`;
}

/** Fields of the membership by what is in them. */
function membershipSource({ membership, charter, reading: { members } }: Begun): string {
  if (membership === undefined || !members) return '';
  const { fields } = charter.kinds[membership] as CharterData['kinds'][string];
  const fieldOf = (column: string | undefined) =>
    Object.entries(fields).find(([name, data]: [string, FieldData]) => (data.column ?? snakeCase(name)) === column)?.[0];
  const said = { kind: membership, person: fieldOf(members.user), ...(members.role !== undefined && { role: fieldOf(members.role) }) };
  return `    membership: ${literal(said)},\n`;
}

/** Records that are in another database than the membership. */
function recordsSource(where: Project['where']): string {
  if (where.at === 'sqlite') return `  // To decide: records, a Kysely of ${where.file}.\n`;
  if (where.at !== 'mariadb') return '';
  return `  records: async () => {
    const [{ Kysely, MysqlDialect }, { createPool }] = [await import('kysely'), await import('mysql2')];
    return new Kysely({ dialect: new MysqlDialect({ pool: createPool({ uri: process.env.DATABASE_URL, timezone: 'Z', charset: 'utf8mb4' }) }) });
  },
`;
}

/** What `lintel probe` takes, of an application that keeps its people itself and in which nothing changes. @param routes of the application, where there is something that they are read from. */
export function probeFiles(begun: Begun, { where, into }: Project, routes: readonly ReadRoute[] | undefined): NewFile[] {
  const opened =
    where.at === 'postgres'
      ? "async () => new (await import('pg')).default.Pool({ connectionString: process.env.DATABASE_URL })"
      : `async () => new (await import('@electric-sql/pglite')).PGlite(${literal(where.at === 'pglite' ? where.directory : './lintel-data')})`;
  const config = `import { defineConfig } from 'warm-lintel/cli';
import { charter } from './${into}/charter.js';
${routes ? `import { routes } from './${into}/routes.js';\n` : ''}
export default defineConfig({
  charter,
  database: ${opened},
${recordsSource(where)}${peopleSource(begun)}  probe: () => ({
    // sessions: 'tenant', where a session is of one organisation at a time
    app: 'http://localhost:3000', // To decide: its address on this machine, or the application as a function of a Request
    // To decide: how somebody signs in. What comes back are the headers that their requests carry.
    signIn: async ({ address }, send) => {
      const answer = await send({ method: 'POST', path: '/sign-in', body: { email: address } });
      return { cookie: answer.headers.getSetCookie()[0]?.split(';')[0] ?? '' };
    },
${membershipSource(begun)}    ${routes ? 'routes,' : "routes: [], // To decide: { method: 'get', path: '/…/:id' } of each; or lintel start --probe --routes FILE"}
  }),
});
`;
  return [
    { path: `${into}/charter.ts`, text: charterSource(begun) },
    ...(routes ? [{ path: `${into}/routes.ts`, text: routesSource(routes) }] : []),
    { path: 'lintel.config.ts', text: config },
  ];
}
