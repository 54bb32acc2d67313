import { randomBytes } from 'node:crypto';
import { existsSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import type { AddressInfo } from 'node:net';
import { fileURLToPath } from 'node:url';
import { serve } from '@hono/node-server';
import { serveStatic } from '@hono/node-server/serve-static';
import type { Context } from 'hono';
import { sql } from 'kysely';
import pg from 'pg';
import { everythingMet, isLintelError } from 'warm-lintel';
import { Accounts, type AccountsOptions } from 'warm-lintel/accounts';
import { smtpMailer, startTray, type Tray } from 'warm-lintel/mail';
import { Domains, SignOn } from 'warm-lintel/provisioning';
import { connect, createLintel, type Database } from 'warm-lintel/server';
import { type County, startCounty } from '../provider/county.js';
import { type Guild, startGuild } from '../provider/guild.js';
import { charter } from '../world/charter.js';
import { embeddedWorld } from '../world/embedded.js';
import { COUNTY_RULES, people, seed } from '../world/seed.js';
import { type Apiary, createApp } from './app.js';
import { beginTelling, tellFollowers } from './followers.js';

export const DEMO_PASSWORD = 'honey and beeswax';

/** The embedded world, or a real PostgreSQL which gets the world when it has none. */
async function openWorld(url: string | undefined, say: (line: string) => void): Promise<Database> {
  if (url === undefined) return embeddedWorld(say);
  const db = connect<any>(new pg.Pool({ connectionString: url, connectionTimeoutMillis: 5000 }));
  try {
    const { rows } = await sql<{ empty: boolean }>`select to_regclass('lintel_tenant') is null as empty`.execute(db);
    if (rows[0]?.empty) {
      say('Building the demo world in your database ...');
      await seed(db);
    }
    return db;
  } catch (error) {
    throw new Error(
      `the database at LINTEL_DATABASE_URL does not answer (${error instanceof Error && error.message ? error.message : String(error)}); start it, or unset the variable to use the embedded one`,
    );
  }
}

/** What Alderbrook's keyholder does on the page of providers: names them, keeps the secret, tries each, turns it on. */
async function connectProviders(lintel: Apiary, signOn: SignOn, { issuer, clientId, clientSecret }: County, guild: Guild): Promise<void> {
  const maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: everythingMet(charter) });
  const county = { kind: 'oidc', issuer, clientId, scopes: ['profile', 'email', 'associations'] } as const;
  const byGuild = { kind: 'saml', issuer: guild.issuer, signOnUrl: guild.signOnUrl, certificates: [guild.certificate] } as const;
  // The county's directory writes with a key that is made on the page of programs: provider/directory.ts drives it.
  if (!(await maren.programs.list()).some(({ id }) => id === 'county-office'))
    await maren.carryOut([
      { do: 'make-program', id: 'county-office', name: 'The county’s office', responsible: 'maren' },
      { do: 'set-permissions', holder: { user: 'county-office' }, permissions: [{ permission: 'directory.write', reach: 'tenant', anchor: { on: 'tenant' } }] },
    ]);
  const there = (await maren.connections.list()).map(({ id }) => id);
  if (!there.includes('guild'))
    await maren.carryOut([{ do: 'make-connection', id: 'guild', name: 'The guild’s sign-in', terms: byGuild, rules: COUNTY_RULES }]);
  for (const [id, terms] of [
    ['county', county],
    ['guild', byGuild],
  ] as const) {
    await maren.connections.try({ connection: id, claims: { sub: 'x', associations: ['alderbrook'] }, terms });
    await maren.carryOut([{ do: 'edit-connection', id, terms }]);
    if (id === 'county') await signOn.keepSecret(maren, id, clientSecret);
    await maren.carryOut([{ do: 'turn-connection', id, to: 'on' }]);
  }
}

export interface Demo {
  readonly port: number;
  readonly tray: Tray;
  readonly county: County;
  readonly guild: Guild;
  readonly lintel: Apiary;
  /** Tells whoever follows a hive what was done to it since; it does so by itself every ten seconds. */
  tell(): Promise<void>;
  close(): Promise<void>;
}

/** Starts the whole demo: database, mail tray, application. Port 0 takes any that is free. */
export async function startDemo(options: {
  readonly port: number;
  readonly databaseUrl?: string | undefined;
  /** The terms that count; a test changes them. */
  readonly terms?: NonNullable<AccountsOptions['terms']>;
  readonly say?: (line: string) => void;
}): Promise<Demo> {
  const say = options.say ?? (() => {});
  const dist = fileURLToPath(new URL('../dist', import.meta.url));
  if (!existsSync(`${dist}/index.html`)) throw new Error('the pages are not built; run `npm run demo`, which builds them');
  const db = await openWorld(options.databaseUrl, say);
  const tray = await startTray();
  const mailer = smtpMailer({ host: '127.0.0.1', port: tray.port, from: { name: 'Apiary', address: 'post@apiary.example' } });
  let origin = '';
  const page = (name: string) => (token: string) => `${origin}/${name}#${token}`;
  const accountLinks = { 'sign-up': page('activate'), forgotten: page('recover'), factor: page('factor'), 'keep-factors': page('keep') };
  const lintel = createLintel({ charter, db, mailer, invitationLink: page('invitation'), addressLink: page('address'), accountLinks });
  await lintel.prepare();
  // Another at each start: this is a demo. An application keeps its keys, and gives the older ones behind the present one.
  const secrets = [randomBytes(32).toString('hex')];
  const { terms } = options;
  const passkeys = { id: 'localhost', origins: () => [origin] };
  const accounts = new Accounts(lintel, { name: 'Apiary', passwords: { names: ['apiary'] }, secrets, passkeys, ...(terms && { terms }) });
  for (const { id } of people) await accounts.setPassword(id, DEMO_PASSWORD);
  // The county's provider is on this machine, without HTTPS.
  const signOn = new SignOn(lintel, { accounts, secrets, origin: () => origin, connections: { allowLocal: true } });
  // There is no DNS on this machine: whatever record an association is asked for is there.
  const resolveTxt = async (name: string) => {
    const { rows } = await sql<{ challenge: string }>`select challenge from lintel_domain where ${name} = '_lintel.' || domain`.execute(lintel.db);
    return rows.map(({ challenge }) => [`lintel-domain=${challenge}`]);
  };
  const domains = new Domains(lintel, { resolveTxt });
  const app = createApp({ lintel, accounts, signOn, domains, tray, demoPassword: DEMO_PASSWORD });
  // Their names tell what is in them.
  const kept = (_path: string, c: Context) => c.header('cache-control', 'public, max-age=31536000, immutable');
  app.get('/assets/*', serveStatic({ root: dist, onFound: kept }));
  const html = await readFile(`${dist}/index.html`, 'utf8');
  // Every other address is a page of the application; what it shows is decided by what the server then answers.
  app.get('*', (c) => (c.req.path.startsWith('/api/') ? c.notFound() : c.html(html, 200, { 'referrer-policy': 'no-referrer' })));
  const server = await new Promise<ReturnType<typeof serve>>((resolve, reject) => {
    const started = serve({ fetch: app.fetch, port: options.port, hostname: '127.0.0.1' }, () => resolve(started));
    started.once('error', reject);
  });
  const { port } = server.address() as AddressInfo;
  origin = `http://localhost:${port}`;
  const county = await startCounty({ port: options.port === 0 ? 0 : port + 1, back: [`${origin}/sign-on/alderbrook/county/back`] });
  const guild = await startGuild({ port: options.port === 0 ? 0 : port + 2 });
  // In a database that has seen another demo they may be gone, or another's.
  await connectProviders(lintel, signOn, county, guild).catch((error: unknown) => {
    if (!isLintelError(error)) throw error;
    say(`The providers are left as they are: ${error.message}`);
  });
  const followers = { lintel, mailer, origin: () => origin };
  const told = { alderbrook: 'maren', quillmoor: 'rosa' };
  for (const [tenant, keyholder] of Object.entries(told)) await beginTelling(followers, tenant, keyholder);
  const tell = async () => {
    for (const tenant of Object.keys(told))
      await tellFollowers(followers, tenant).catch((error: unknown) => say(`The followers of ${tenant} are told later: ${error}`));
  };
  const telling = setInterval(tell, 10_000);
  const stop = lintel.keepDelivering(5);
  return {
    port,
    tray,
    lintel,
    county,
    guild,
    tell,
    close: async () => {
      stop();
      clearInterval(telling);
      await Promise.all([county.close(), guild.close()]);
      await new Promise((resolve) => server.close(resolve));
      await tray.close();
    },
  };
}
