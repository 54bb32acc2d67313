import type { Context } from 'hono';
import { deleteCookie, setCookie } from 'hono/cookie';
import { parse } from 'hono/utils/cookie';
import type { Accounts } from '../accounts/index.js';

/** How the library keeps people signed in. */
export interface AccountsAtFace {
  readonly accounts: Accounts;
  /** False: cookies go over plain HTTP, for development on one machine. Default true: they are `__Host-` cookies, which a browser takes and sends by HTTPS alone. */
  readonly secureCookies?: boolean;
}

const YEAR = 365 * 86_400;
const nameOf = (what: 'session' | 'device', secure: boolean) => (secure ? `__Host-lintel-${what}` : `lintel-${what}`);

/** The secrets of the session and of the device, as a browser sends them. */
export function secretsIn(cookies: string | null | undefined, { secureCookies = true }: AccountsAtFace): { readonly token: string; readonly device: string } {
  const all = parse(cookies ?? '');
  return { token: all[nameOf('session', secureCookies)] ?? '', device: all[nameOf('device', secureCookies)] ?? '' };
}

/**
 * Who sends a request, by the library's own cookies: what `sender` of the face, of middleware and of adapters takes.
 *
 * @example
 * const accounts = { accounts: new Accounts(lintel) };
 * const sender = senderByCookie(accounts);
 * app.use('/t/:tenant/*', withStanding(lintel, { sender }));
 */
export const senderByCookie =
  (at: AccountsAtFace) =>
  (request: { readonly headers: Headers | Readonly<Record<string, unknown>> }): ReturnType<Accounts['sender']> => {
    const { headers } = request;
    return at.accounts.sender(secretsIn(headers instanceof Headers ? headers.get('cookie') : (headers.cookie as string | undefined), at).token);
  };

/** What an operation leaves in the browser. `session` null: nobody is signed in any more. */
export interface Left {
  readonly session?: { readonly token: string; readonly expiresAt: Date } | null;
  readonly device?: string;
}

export function leave(c: Context, { session, device }: Left, { secureCookies: secure = true }: AccountsAtFace): void {
  const common = { httpOnly: true, sameSite: 'Lax', path: '/', secure } as const;
  if (session) setCookie(c, nameOf('session', secure), session.token, { ...common, expires: session.expiresAt });
  if (session === null) deleteCookie(c, nameOf('session', secure), common);
  if (device !== undefined) setCookie(c, nameOf('device', secure), device, { ...common, maxAge: YEAR });
}
