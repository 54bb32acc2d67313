import { type Context, Hono } from 'hono';
import { bodyLimit } from 'hono/body-limit';
import { deleteCookie, setCookie } from 'hono/cookie';
import { html } from 'hono/html';
import { parse } from 'hono/utils/cookie';
import { signOnFailed } from '../accounts/index.js';
import { isLintelError } from '../base/index.js';
import type { Asking, SignOn } from '../provisioning/index.js';
import { type AccountsAtFace, leave, secretsIn } from './cookies.js';
import { placeOf } from './face.js';
import { problemOf } from './problem.js';
import { Rates } from './rates.js';

/** Somebody could not sign in: what they are told. */
export interface NotIn {
  readonly code: string;
  /** In the words of the tenant's rules, where these refused them. */
  readonly words: string;
  readonly status: number;
  /** Absent where it is of no tenant. */
  readonly tenantName?: string;
}

export interface SignOnPagesOptions extends AccountsAtFace {
  /** The page for somebody who could not sign in. Default: a plain one, in English. */
  readonly notIn?: (told: NotIn) => Response | Promise<Response>;
  /** Whence a request comes, as for {@link createFace}. */
  readonly from?: (request: Request) => string | undefined;
  /** Told why an answer did not hold, and of what went wrong here. */
  readonly onError?: (error: unknown) => void;
}

/** So large a form of a provider may be. */
const MOST_FORM = 400_000;
/** 256 bits in base64url. */
const STATE_LENGTH = 43;

/** Nothing of it is loaded from elsewhere, and it runs nothing. */
const HEADERS = { 'content-security-policy': "default-src 'none'; style-src 'unsafe-inline'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'" };

async function plainPage({ words, status, tenantName }: NotIn): Promise<Response> {
  const title = tenantName === undefined ? 'Not signed in' : `Not signed in to ${tenantName}`;
  const page = html`<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${title}</title>
<style>body{font:1.1rem/1.5 system-ui,sans-serif;max-width:36rem;margin:15vh auto;padding:0 1.5rem;color:#222;background:#fff}a{color:#1a4f8b}</style>
<main><h1>${title}</h1><p>${words}</p><p><a href="/">To the start page</a></p></main></html>`;
  return new Response(String(await page), { status, headers: { ...HEADERS, 'content-type': 'text/html; charset=utf-8' } });
}

/** Asks whether it is them, in the words of the provider. */
async function asksPage({ asks: { sealed, connection, tenantName, name } }: Asking, to: string): Promise<Response> {
  const title = `Sign in to ${tenantName} by ${connection} too?`;
  const page = html`<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${title}</title>
<style>body{font:1.1rem/1.5 system-ui,sans-serif;max-width:36rem;margin:15vh auto;padding:0 1.5rem;color:#222;background:#fff}a{color:#1a4f8b}button{font:inherit;padding:.4rem 1rem}</style>
<main><h1>${title}</h1><p>There you are <strong>${name}</strong>. If that is not you, do not go on: whoever it is would come in as you.</p>
<form method="post" action="${to}"><input type="hidden" name="sealed" value="${sealed}"><button>This is me</button></form><p><a href="/">Leave it</a></p></main></html>`;
  const headers = {
    ...HEADERS,
    'content-security-policy': HEADERS['content-security-policy'].replace("form-action 'none'", "form-action 'self'"),
    'content-type': 'text/html; charset=utf-8',
  };
  return new Response(String(await page), { headers });
}

/**
 * The pages by which people leave for their tenant's provider and come back: mount them where {@link SignOn} says it is.
 *
 * @example
 * const pages = signOnPages(signOn, { accounts });
 * app.all('/sign-on/*', (c) => pages.fetch(c.req.raw, c.env));
 */
export function signOnPages(signOn: SignOn, options: SignOnPagesOptions): { readonly fetch: (request: Request, env?: object) => Promise<Response> } {
  const { secureCookies: secure = true, notIn = plainPage } = options;
  const rates = new Rates();
  const app = new Hono().basePath(signOn.at);
  const nameOf = (name: string) => (secure ? `__Host-lintel-${name}` : `lintel-${name}`);
  const common = { httpOnly: true, sameSite: 'Lax', path: '/', secure } as const;

  app.onError(async (error) => {
    // Why an answer did not hold is nobody's business outside.
    if (!isLintelError(error) || error.cause !== undefined) options.onError?.(isLintelError(error) ? (error.cause ?? error) : error);
    const { status, detail, code } = problemOf(error);
    return notIn({ code, words: detail, status });
  });
  app.notFound(() => notIn({ code: 'not-found', words: 'There is no such page.', status: 404 }) as Promise<Response>);
  app.use('*', async (c, next) => {
    await rates.count(undefined, false, placeOf(c, options), 1);
    await next();
    c.header('cache-control', 'no-store');
    c.header('referrer-policy', 'no-referrer');
    c.header('x-content-type-options', 'nosniff');
  });
  const named = (c: Context) => ({ tenant: c.req.param('tenant') ?? '', connection: c.req.param('connection') ?? '' });
  async function leaveFor(c: Context): Promise<Response> {
    const { tenant, connection } = named(c);
    const within = c.req.query('again') === undefined ? undefined : secretsIn(c.req.header('cookie'), options).token;
    const connects = c.req.query('connect') === undefined ? undefined : secretsIn(c.req.header('cookie'), options).token;
    const { to, keep } = await signOn.begin(tenant, connection, { back: c.req.query('back'), within, connects });
    // With a form of another site a browser sends what says so, and that over HTTPS or to this machine alone.
    const { name, value, seconds, crossSite } = keep;
    setCookie(c, nameOf(name), value, { ...common, ...(crossSite && { sameSite: 'None', secure: true }), maxAge: seconds });
    return c.redirect(to, 303);
  }

  async function comeBack(c: Context, query: URLSearchParams): Promise<Response> {
    const { tenant, connection } = named(c);
    const cookies = parse(c.req.header('cookie') ?? '');
    const back = await signOn.finish(tenant, connection, {
      query,
      kept: (name) => cookies[nameOf(name)],
      from: placeOf(c, options),
      label: c.req.header('user-agent'),
    });
    deleteCookie(c, nameOf(back.drop), common);
    if ('asks' in back) return asksPage(back, `${new URL(c.req.url).pathname.replace(/back$/, '')}connect`);
    if (!back.session) {
      const { code, words } = back.arrived.said ?? { code: 'not-admitted', words: 'You are not let in.' };
      return notIn({ code, words, status: 403, tenantName: back.tenantName });
    }
    leave(c, { session: back.session }, options);
    return c.redirect(back.to, 303);
  }

  app.get('/:tenant/:connection', leaveFor);
  app.get('/:tenant/:connection/back', (c) => comeBack(c, new URL(c.req.url).searchParams));
  // The one path that takes a form of another site.
  app.post('/:tenant/:connection/back', bodyLimit({ maxSize: MOST_FORM }), async (c) => {
    const form = new URLSearchParams(await c.req.text());
    // Nobody here asked for it, and it says of nobody that they did: it is asked for, and what was said is not gone by.
    if (form.get('RelayState')?.length !== STATE_LENGTH) return leaveFor(c);
    return comeBack(c, form);
  });
  // A form of ours, sent from a page of ours.
  app.post('/:tenant/:connection/connect', bodyLimit({ maxSize: MOST_FORM }), async (c) => {
    const { tenant, connection } = named(c);
    // guard connect-form-same-origin by arrival: A form on another page could connect an identity.
    if (c.req.header('origin') !== signOn.origin) throw signOnFailed(new Error('the form comes from another page'));
    const form = new URLSearchParams(await c.req.text());
    return c.redirect(await signOn.connect(tenant, connection, form.get('sealed') ?? '', secretsIn(c.req.header('cookie'), options).token), 303);
  });
  return { fetch: async (request, env) => app.fetch(request, env) };
}
