import type { ClientAuth, Configuration } from 'openid-client';
import { signOnFailed } from '../../accounts/index.js';
import { hashOf, needed } from '../../base/index.js';
import type { Claims, ConnectionTerms } from '../../server/index.js';
import type { Attempt, Said } from './attempt.js';
import { type Asked, browserAddress, type FetchBounds, guardedFetch, insistOnOutside } from './guarded-fetch.js';

type Terms = Extract<ConnectionTerms, { readonly kind: 'oidc' }>;

/** What a provider says of itself is asked again after so long. */
const HOURS = 1;
/** So many are remembered. */
const MOST = 1000;
/** Clocks may differ by so many seconds. */
const SKEW = 60;

/** @throws LintelError `option-missing`. */
const library = () => needed('signing in by OpenID Connect', 'openid-client', () => import('openid-client'));

const withoutSlash = (issuer: string) => issuer.replace(/\/$/, '');

/** In the header, as every provider takes it that says nothing else (RFC 8414); else in the form. */
function authentication({ ClientSecretBasic, ClientSecretPost }: typeof import('openid-client'), secret: string): ClientAuth {
  const [basic, post] = [ClientSecretBasic(secret), ClientSecretPost(secret)];
  return (server, ...asked) => {
    const takes = server.token_endpoint_auth_methods_supported;
    return (takes && !takes.includes('client_secret_basic') && takes.includes('client_secret_post') ? post : basic)(server, ...asked);
  };
}

/** Signing in by OpenID Connect Core 1.0: the authorization code flow, with PKCE (RFC 7636) and the issuer in the answer (RFC 9207). */
export class OpenIdConnect {
  readonly #bounds: FetchBounds;
  readonly #known = new Map<string, { readonly until: number; readonly found: Promise<Configuration> }>();

  constructor(bounds: FetchBounds) {
    this.#bounds = bounds;
  }

  /** Where the browser goes. @throws LintelError `provider-away`, `address-refused`. */
  async begin(terms: Terms, secret: string | undefined, callback: string, { state, nonce, verifier, within }: Attempt, now: number): Promise<string> {
    const client = await library();
    const config = await this.#configuration(terms, secret, now);
    const url = client.buildAuthorizationUrl(config, {
      redirect_uri: callback,
      scope: ['openid', ...(terms.scopes ?? ['profile', 'email'])].join(' '),
      state,
      nonce,
      code_challenge: await client.calculatePKCECodeChallenge(verifier),
      code_challenge_method: 'S256',
      // To show it again takes a fresh sign-in there, and that it says when that was.
      ...(within !== undefined && { prompt: 'login', max_age: '0' }),
    });
    return browserAddress(url.href, this.#bounds).href;
  }

  /** What the provider says of who came back. @throws LintelError `sign-on-failed`, `provider-away`. */
  async finish(terms: Terms, secret: string | undefined, callback: URL, attempt: Attempt, now: number): Promise<Said> {
    const client = await library();
    const config = await this.#configuration(terms, secret, now);
    const { state, nonce, verifier, within, begun } = attempt;
    const tokens = await client.authorizationCodeGrant(config, callback, {
      expectedState: state,
      expectedNonce: nonce,
      pkceCodeVerifier: verifier,
      ...(within !== undefined && { maxAge: Math.ceil((now - begun) / 1000) + SKEW }),
    });
    const said = tokens.claims();
    if (!said) throw new Error('there is no ID token');
    const more = config.serverMetadata().userinfo_endpoint ? await client.fetchUserInfo(config, tokens.access_token, said.sub) : {};
    const claims: Claims = { ...more, ...said };
    const { amr, auth_time: at } = said as { readonly amr?: unknown; readonly auth_time?: unknown };
    const methods = Array.isArray(amr) ? amr.filter((one): one is string => typeof one === 'string' && /^[a-z]{2,12}$/.test(one)) : [];
    return { claims, methods, ...(typeof at === 'number' && { provenAt: Math.min(now, at * 1000) }) };
  }

  #configuration(terms: Terms, secret: string | undefined, now: number): Promise<Configuration> {
    const key = hashOf([JSON.stringify([terms, secret])]);
    const known = this.#known.get(key);
    if (known && known.until > now) return known.found;
    const found = this.#discover(terms, secret);
    if (this.#known.size >= MOST) this.#known.clear();
    this.#known.set(key, { until: now + HOURS * 3_600_000, found });
    found.catch(() => this.#known.delete(key));
    return found;
  }

  async #discover({ issuer, clientId }: Terms, secret: string | undefined): Promise<Configuration> {
    const client = await library();
    insistOnOutside(issuer, this.#bounds);
    const config = await client.discovery(new URL(issuer), clientId, undefined, secret === undefined ? client.None() : authentication(client, secret), {
      [client.customFetch]: (url: string, asked: unknown) => guardedFetch(url, asked as Asked, this.#bounds),
      ...(this.#bounds.allowLocal && { execute: [client.allowInsecureRequests] }),
    });
    const said = config.serverMetadata();
    // One that speaks for many says whoever is in any of them.
    if (withoutSlash(said.issuer) !== withoutSlash(issuer)) throw signOnFailed(new Error(`the provider calls itself ${said.issuer}`));
    // Not only that it came from there: that it is signed by the keys which it gives.
    // guard id-token-signature by arrival: The signature of an ID token would not be checked.
    client.enableNonRepudiationChecks(config);
    return config;
  }
}
