/* A provider of OpenID Connect that says whatever a test wants it to say: true things, and every lie that a tenant could have its provider tell. */
import { randomBytes, randomUUID } from 'node:crypto';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { exportJWK, generateKeyPair, SignJWT, UnsecuredJWT } from 'jose';

/** What is otherwise than an honest provider would have it. */
export interface Lies {
  readonly claims?: Readonly<Record<string, unknown>>;
  /** Of the ID token alone; null leaves one out. */
  readonly token?: Readonly<Record<string, unknown>>;
  readonly alg?: 'none' | 'HS256' | 'RS256';
  /** Signed by a key that it does not give. */
  readonly foreignKey?: boolean;
  readonly userinfo?: Readonly<Record<string, unknown>>;
  /** The `iss` of the answer; null leaves it out. */
  readonly iss?: string | null;
  readonly noToken?: boolean;
}

export interface Provider {
  readonly issuer: string;
  readonly clientId: string;
  readonly clientSecret: string;
  /** Who it says it is; set to lie. */
  metadata: Record<string, unknown>;
  /** The address to which a browser is sent back that was sent to `to`. */
  answer(to: string, claims: Readonly<Record<string, unknown>>, lies?: Lies): string;
  /** Gives other keys from now on. */
  rotate(): Promise<void>;
  /** How often it was asked, by path. */
  readonly asked: Map<string, number>;
  close(): Promise<void>;
}

export async function startProvider(): Promise<Provider> {
  const [clientId, clientSecret] = ['the application', randomBytes(24).toString('base64url')];
  const codes = new Map<string, { readonly query: URLSearchParams; readonly claims: Readonly<Record<string, unknown>>; readonly lies: Lies }>();
  const subjects = new Map<string, { readonly sub: unknown; readonly more: Readonly<Record<string, unknown>> }>();
  const asked = new Map<string, number>();
  const keyPair = async () => ({ kid: randomUUID(), ...(await generateKeyPair('RS256', { extractable: true })) });
  let keys = await keyPair();
  const foreign = await keyPair();
  let issuer = '';
  const provider: { metadata: Record<string, unknown> } = { metadata: {} };

  async function idToken(query: URLSearchParams, claims: Readonly<Record<string, unknown>>, { token, alg = 'RS256', foreignKey }: Lies): Promise<string> {
    const now = Math.floor(Date.now() / 1000);
    const body = { iss: issuer, aud: clientId, iat: now, exp: now + 300, nonce: query.get('nonce'), ...claims, ...token };
    const said = JSON.parse(JSON.stringify(body, (_, value) => (value === null ? undefined : value)));
    if (alg === 'none') return new UnsecuredJWT(said).encode();
    if (alg === 'HS256') return new SignJWT(said).setProtectedHeader({ alg }).sign(new TextEncoder().encode(clientSecret));
    return new SignJWT(said).setProtectedHeader({ alg, kid: keys.kid }).sign(foreignKey ? foreign.privateKey : keys.privateKey);
  }

  async function answer(path: string, body: URLSearchParams, bearer: string): Promise<object | undefined> {
    if (path === '/.well-known/openid-configuration') return provider.metadata;
    if (path === '/jwks') return { keys: [{ ...(await exportJWK(keys.publicKey)), kid: keys.kid, alg: 'RS256', use: 'sig' }] };
    if (path === '/userinfo') {
      const found = subjects.get(bearer);
      return found && { sub: found.sub, ...found.more };
    }
    const code = body.get('code') ?? '';
    const found = codes.get(code);
    codes.delete(code);
    if (path !== '/token' || !found) return undefined;
    const { query, claims, lies } = found;
    const verifier = Buffer.from(await crypto.subtle.digest('SHA-256', new TextEncoder().encode(body.get('code_verifier') ?? ''))).toString('base64url');
    if (query.get('code_challenge') !== verifier || query.get('redirect_uri') !== body.get('redirect_uri')) return undefined;
    const access = randomUUID();
    subjects.set(access, { sub: claims.sub, more: lies.userinfo ?? {} });
    return {
      access_token: access,
      token_type: 'Bearer',
      expires_in: 300,
      ...(!lies.noToken && { id_token: await idToken(query, { ...claims, ...lies.claims }, lies) }),
    };
  }

  const server = createServer(async (request, response) => {
    const { pathname } = new URL(request.url ?? '/', 'http://localhost');
    asked.set(pathname, (asked.get(pathname) ?? 0) + 1);
    const parts: Buffer[] = [];
    for await (const part of request) parts.push(part as Buffer);
    const said = await answer(pathname, new URLSearchParams(Buffer.concat(parts).toString()), (request.headers.authorization ?? '').replace(/^Bearer /, ''));
    response.writeHead(said ? 200 : 400, { 'content-type': 'application/json' }).end(JSON.stringify(said ?? { error: 'invalid_grant' }));
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  provider.metadata = {
    issuer,
    authorization_endpoint: `${issuer}/auth`,
    token_endpoint: `${issuer}/token`,
    jwks_uri: `${issuer}/jwks`,
    userinfo_endpoint: `${issuer}/userinfo`,
    response_types_supported: ['code'],
    subject_types_supported: ['public'],
    id_token_signing_alg_values_supported: ['RS256'],
    authorization_response_iss_parameter_supported: true,
  };
  return Object.assign(provider, {
    issuer,
    clientId,
    clientSecret,
    asked,
    answer: (to: string, claims: Readonly<Record<string, unknown>>, lies: Lies = {}) => {
      const query = new URL(to).searchParams;
      const code = randomUUID();
      codes.set(code, { query, claims, lies });
      const back = new URL(query.get('redirect_uri') ?? '');
      back.searchParams.set('code', code);
      back.searchParams.set('state', query.get('state') ?? '');
      if (lies.iss !== null) back.searchParams.set('iss', lies.iss ?? issuer);
      return back.href;
    },
    rotate: async () => {
      keys = await keyPair();
    },
    close: async () => {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
    },
  });
}
