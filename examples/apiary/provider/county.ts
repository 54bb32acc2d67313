/* The county's sign-in: a provider of OpenID Connect as an organisation has one, small, for the demo and for tests. Whoever opens it says who they are, and it believes them. */
import { generateKeyPairSync, randomBytes } from 'node:crypto';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { Provider } from 'oidc-provider';
import { type Listed, textOf, whoPage } from './who.js';

export const COUNTY_PEOPLE: Readonly<Record<string, Listed>> = {
  'c-1017': {
    name: 'Nora Fern',
    email: 'nora@county.example',
    associations: ['alderbrook'],
    groups: ['beekeepers', 'site-wardens', 'choir'],
    site: 'Heath edge',
  },
  'c-1018': { name: 'Piet Alder', email: 'piet@county.example', associations: ['alderbrook'], groups: ['juniors'] },
  'c-1019': { name: 'Ulla Brandt', email: 'ulla@county.example', associations: ['moorland'], groups: ['beekeepers'] },
  'c-1020': { name: 'Finn Dorn', email: 'finn@county.example', associations: ['alderbrook'], groups: ['site-wardens'], site: 'Far meadow' },
};

export interface County {
  readonly issuer: string;
  readonly clientId: string;
  readonly clientSecret: string;
  /** As it is, and as it is changed. */
  readonly people: Record<string, Listed>;
  close(): Promise<void>;
}

/** Starts it on this machine. @param back where it sends people back to. */
export async function startCounty({ port, back }: { readonly port: number; readonly back: readonly string[] }): Promise<County> {
  const people = structuredClone(COUNTY_PEOPLE) as Record<string, Listed>;
  const clientId = 'apiary';
  const clientSecret = randomBytes(24).toString('base64url');
  let answer: (request: IncomingMessage, response: ServerResponse) => unknown = () => undefined;
  const server = createServer((request, response) => void answer(request, response));
  await new Promise<void>((resolve, reject) => server.listen(port, '127.0.0.1', resolve).once('error', reject));
  const issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  const { privateKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
  const provider = new Provider(issuer, {
    clients: [{ client_id: clientId, client_secret: clientSecret, redirect_uris: [...back], grant_types: ['authorization_code'], response_types: ['code'] }],
    jwks: { keys: [{ ...privateKey.export({ format: 'jwk' }), use: 'sig', alg: 'RS256', kid: randomBytes(6).toString('hex') }] } as never,
    cookies: { keys: [randomBytes(24).toString('hex')] },
    claims: { profile: ['name'], email: ['email', 'email_verified'], associations: ['associations', 'groups', 'site'] },
    scopes: ['openid', 'profile', 'email', 'associations'],
    features: { devInteractions: { enabled: false } },
    interactions: { url: (_, { uid }) => `/who/${uid}` },
    findAccount: (_, id) => {
      const one = Object.hasOwn(people, id) ? people[id] : undefined;
      return one && { accountId: id, claims: () => ({ sub: id, ...one, email_verified: true }) };
    },
    // Nobody is asked what the application may know of them.
    loadExistingGrant: async (ctx) => {
      const { client, session } = ctx.oidc;
      const grant = new ctx.oidc.provider.Grant({ clientId: client?.clientId, accountId: session?.accountId });
      grant.addOIDCScope('openid profile email associations');
      await grant.save();
      return grant;
    },
    pkce: { required: () => true },
    ttl: { AccessToken: 600, AuthorizationCode: 60, IdToken: 600, Session: 3600, Interaction: 600, Grant: 3600 },
  });
  const callback = provider.callback();
  answer = async (request, response) => {
    if (!request.url?.startsWith('/who/')) return callback(request, response);
    try {
      if (request.method === 'POST') {
        const who = new URLSearchParams(await textOf(request)).get('who') ?? '';
        await provider.interactionFinished(request, response, { login: { accountId: who, remember: false } }, { mergeWithLastSubmission: false });
        return;
      }
      await provider.interactionDetails(request, response);
      response.writeHead(200, { 'content-type': 'text/html; charset=utf-8' }).end(whoPage('The county’s sign-in', people));
    } catch {
      response.writeHead(400, { 'content-type': 'text/plain; charset=utf-8' }).end('This page is over. Begin once more.');
    }
  };
  return {
    issuer,
    clientId,
    clientSecret,
    people,
    close: async () => {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
    },
  };
}
