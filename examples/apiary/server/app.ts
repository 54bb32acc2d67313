import { type Context, Hono } from 'hono';
import { bodyLimit } from 'hono/body-limit';
import { csrf } from 'hono/csrf';
import { HTTPException } from 'hono/http-exception';
import { LintelError, type TypesIn } from 'warm-lintel';
import type { Accounts } from 'warm-lintel/accounts';
import { bounded, createFace, directoryPages, problemOf, problemResponse, secretsIn, senderByCookie, signOnPages } from 'warm-lintel/http';
import type { Tray } from 'warm-lintel/mail';
import type { Domains, SignOn } from 'warm-lintel/provisioning';
import type { Lintel } from 'warm-lintel/server';
import type { charter } from '../world/charter.js';
import { people } from '../world/seed.js';
import { tenantRoutes } from './tenant.js';

export type Apiary = Lintel<TypesIn<typeof charter>>;

export interface AppParts {
  readonly lintel: Apiary;
  readonly accounts: Accounts;
  /** Signing in by the associations' providers. */
  readonly signOn?: SignOn;
  /** Looks at their mail domains in the DNS. */
  readonly domains?: Domains;
  /** The development tray, where there is one. */
  readonly tray?: Tray;
  /** Everybody's password in the demo, to be shown on the sign-in page. */
  readonly demoPassword?: string;
}

/** Reads a JSON body as an object of texts and lists; anything else is told apart, not passed on. */
export async function body(c: Context): Promise<Record<string, unknown>> {
  const data: unknown = await c.req.json().catch(() => undefined);
  if (typeof data === 'object' && data !== null && !Array.isArray(data)) return data as Record<string, unknown>;
  throw new LintelError('bad-request', 'The request has no JSON object in it.', {});
}

export const str = (value: unknown): string => (typeof value === 'string' ? value : '');
export const texts = (value: unknown): string[] => (Array.isArray(value) ? value.map(str) : []);

/** The application as a function of a request: what the demo serves, and what tests call. */
export function createApp(parts: AppParts): Hono {
  const { lintel, accounts, tray } = parts;
  const app = new Hono();
  app.onError((error) => {
    if (error instanceof HTTPException)
      return problemResponse(new LintelError(error.status === 403 ? 'refused' : 'bad-request', 'This request was refused.', {}));
    if (problemOf(error).status === 500) console.error(error);
    return problemResponse(error);
  });
  app.notFound(() => problemResponse(new LintelError('not-found', 'There is no such page.', {})));
  app.use('/api/*', csrf());
  app.use(
    '/api/*',
    bodyLimit({ maxSize: 65_536, onError: () => problemResponse(new LintelError('too-large', 'The request is larger than 65536 bytes.', {})) }),
  );
  app.use('/api/*', async (c, next) => {
    // A form of another site can send no JSON, so what is not JSON changes nothing.
    if (c.req.method !== 'GET' && c.req.method !== 'DELETE' && !c.req.header('content-type')?.startsWith('application/json')) {
      throw new LintelError('bad-request', 'Send JSON, with the content type application/json.', {});
    }
    await next();
    c.header('cache-control', 'no-store');
    c.header('referrer-policy', 'no-referrer');
  });

  // On this machine, without HTTPS.
  const atFace = { accounts, secureCookies: false };
  const byCookie = senderByCookie(atFace);
  // Asked for twice, a session is looked up once.
  const known = new WeakMap<Request, ReturnType<typeof whoSent>>();
  const whoSent = async (request: Request) => {
    const who = await byCookie(request);
    const look = request.headers.get('x-look');
    return who && { ...who, ...(look && { look }) };
  };
  const sender = (request: Request) => {
    const who = known.get(request) ?? whoSent(request);
    known.set(request, who);
    return who;
  };
  app.use('/api/*', bounded({ sender, costs: (c) => (/\/(preview|access)$/.test(c.req.path) ? 10 : 1) }));

  const signedIn = (c: Context) => accounts.signedIn(secretsIn(c.req.header('cookie'), atFace).token);
  const whoever = async (c: Context) => {
    const user = await signedIn(c);
    if (user) return { user: user.userId, enters: user.enters };
    throw new LintelError('no-account', 'Sign in first.', {});
  };

  app.get('/api/me', async (c) => {
    const user = await signedIn(c);
    const demo =
      parts.demoPassword === undefined ? null : { password: parts.demoPassword, people: people.map(({ name, address, note }) => ({ name, address, note })) };
    if (!user) return c.json({ user: null, tenants: [], invitations: [], mail: lintel.hasMailer, tray: Boolean(tray), demo });
    // A session for one association alone has no invitations of its person's.
    const who = { user: user.userId, enters: user.enters };
    const [tenants, invitations] = await Promise.all([lintel.myTenants(who), user.enters ? [] : lintel.myInvitations(who)]);
    return c.json({
      user: { id: user.userId, name: user.name, address: user.address },
      tenants,
      invitations,
      mail: lintel.hasMailer,
      tray: Boolean(tray),
      demo,
    });
  });
  app.post('/api/invitation/look', async (c) => {
    const view = await lintel.lookAtInvitation(str((await body(c)).token));
    // Whoever was handed the link, and has not proven the address by it, is not told of accounts.
    const account = await lintel.personByAddress(view.address);
    return c.json({ ...view, roles: view.roles.map((r) => lintel.charter.role(r.role).label), hasAccount: view.mailed && account !== undefined });
  });
  app.post('/api/invitation/accept', async (c) => {
    const input = await body(c);
    const by = input.token === undefined ? { tenantId: str(input.tenantId), invitationId: str(input.invitationId) } : { token: str(input.token) };
    return c.json(await lintel.acceptInvitation(await whoever(c), by));
  });
  app.post('/api/invitation/decline', async (c) => {
    await lintel.declineInvitation(str((await body(c)).token));
    return c.json({});
  });

  if (tray) {
    app.get('/api/tray', (c) => c.json(tray.messages));
    app.post('/api/tray/test', async (c) => {
      await lintel.testMail(str((await body(c)).address));
      return c.json({});
    });
  }
  app.route('/api/t/:tenant', tenantRoutes(lintel, sender));
  // What is done with people: the library's own face.
  const { signOn, domains } = parts;
  if (signOn) {
    const pages = signOnPages(signOn, { ...atFace, onError: console.error });
    app.all('/sign-on/*', (c) => pages.fetch(c.req.raw, c.env as object));
  }
  // What an association's directory pushes.
  const directory = directoryPages(lintel as never, { onError: console.error });
  app.all('/scim/*', (c) => directory.fetch(c.req.raw, c.env as object));
  const face = createFace(lintel as never, {
    sender,
    accounts: atFace,
    ...(signOn && { signOn }),
    ...(domains && { domains }),
    at: '/lintel',
    title: 'Apiary',
    onError: console.error,
  });
  app.all('/lintel/*', async (c) => {
    const response = await face.fetch(c.req.raw, c.env as object);
    if (c.req.method === 'POST') void lintel.deliver().catch(() => undefined);
    return response;
  });
  return app;
}
