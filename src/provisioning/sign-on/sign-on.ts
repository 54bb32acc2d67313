import { type Accounts, type Secrets, type Session, seal, signOnFailed, unseal } from '../../accounts/index.js';
import { hashOf, isLintelError, LintelError } from '../../base/index.js';
import type { Arrived, Claims, Lintel, OpenConnection, ServerStanding } from '../../server/index.js';
import { type Attempt, AWAY_MINUTES, countAsUsed, nameOf, newAttempt, openAttempt, pathWithin, type Said, sealAttempt } from './attempt.js';
import { type FetchBounds, providerAway } from './guarded-fetch.js';
import { OpenIdConnect } from './oidc.js';
import { beginSaml, finishSaml, type Service } from './saml.js';

/** How signing in by providers works. */
export interface SignOnOptions {
  /** The library’s own accounts, in which people sign in. */
  readonly accounts: Accounts;
  /** Keys of the application, the present one first; each has 32 characters at least. Clients' secrets are sealed under them, and what a browser brings back. */
  readonly secrets: Secrets;
  /** The address of the application, as browsers know it: `https://app.example`. It is never taken from a request. */
  readonly origin: string | (() => string);
  /** Where it is mounted. Default `/sign-on`. */
  readonly at?: string;
  /** How providers are asked. `allowLocal`: also http, and addresses of this machine: for development and tests alone. */
  readonly connections?: FetchBounds;
  /** Milliseconds since 1970. Default: the system's clock. */
  readonly clock?: () => number;
}

/** A way to sign in to a tenant, for its sign-in page. */
export interface WayIn {
  readonly id: string;
  readonly name: string;
  /** Where its button leads. */
  readonly path: string;
}

/** Where the browser goes, and what it keeps until it comes back. */
export interface Leaving {
  readonly to: string;
  /** `crossSite`: the answer comes as a form of the provider's. */
  readonly keep: { readonly name: string; readonly value: string; readonly seconds: number; readonly crossSite: boolean };
}

/** Somebody is back from their provider. */
export interface Back {
  readonly arrived: Arrived;
  /** Absent for somebody who was not let in. */
  readonly session?: Session;
  /** Where to go on: a path of the application. */
  readonly to: string;
  readonly tenantName: string;
  /** What the browser need not keep any more. */
  readonly drop: string;
}

/** The error of this library that a package has wrapped into its own. */
function ofOurs(error: unknown): LintelError | undefined {
  if (isLintelError(error)) return error;
  return error instanceof Error && error.cause !== undefined ? ofOurs(error.cause) : undefined;
}

/** Somebody is back who wants to come in by this provider too: they are asked whether this is them, and answer by {@link SignOn.connect}. */
export interface Asking {
  readonly asks: {
    /** To be sent back as it is. */
    readonly sealed: string;
    readonly connection: string;
    readonly tenantName: string;
    /** What the provider calls them. */
    readonly name: string;
  };
  readonly drop: string;
}

const CONNECTS = 'sign-on connects';

/** What a provider calls somebody, to be shown to them. */
function nameIn({ name, email, sub }: Claims): string {
  const said = [name, email, sub].flat().filter((one): one is string => typeof one === 'string' && one !== '');
  return [...new Set(said)].slice(0, 3).join(', ').slice(0, 200);
}

// guard secret-of-this-connection by arrival: A sealed secret would open for another connection.
const purposeOf = (tenantId: string, connection: string) => `client secret ${/* guard secret-of-this-connection */ JSON.stringify([tenantId, connection])}`;

/**
 * Signing in by a tenant's own provider. What it says counts in that tenant alone: a session by it enters no other and touches nothing of the person.
 *
 * @example
 * const signOn = new SignOn(lintel, { accounts, secrets: [process.env.APP_KEY], origin: 'https://app.example' });
 * app.all('/sign-on/*', (c) => signOnPages(signOn, at).fetch(c.req.raw));
 */
export class SignOn {
  readonly #lintel: Lintel<any>;
  readonly #options: SignOnOptions;
  readonly #oidc: OpenIdConnect;

  constructor(lintel: Lintel<any>, options: SignOnOptions) {
    this.#lintel = lintel;
    this.#options = options;
    this.#oidc = new OpenIdConnect(options.connections ?? {});
  }

  get #now(): number {
    return (this.#options.clock ?? Date.now)();
  }

  get origin(): string {
    const { origin } = this.#options;
    return new URL(typeof origin === 'string' ? origin : origin()).origin;
  }

  /** Where it is mounted. */
  get at(): string {
    return this.#options.at ?? '/sign-on';
  }

  #pathOf(tenantId: string, connection: string): string {
    return `${this.at}/${encodeURIComponent(tenantId)}/${encodeURIComponent(connection)}`;
  }

  /** The ways in to a tenant by its providers, by name; none for a tenant that is not there. */
  async waysInto(tenantId: string): Promise<WayIn[]> {
    const all = await this.#lintel.openConnections(tenantId);
    return all.map(({ id, name }) => ({ id, name, path: this.#pathOf(tenantId, id) }));
  }

  /**
   * Where somebody with such an address signs in: by the provider to which its domain is sent. It depends on the domain alone, whether or not there is anybody of that address.
   *
   * @returns undefined where nobody has shown that the domain is theirs, or it is sent nowhere.
   */
  async wayFor(address: string): Promise<(WayIn & { readonly tenantId: string }) | undefined> {
    const holder = await this.#lintel.domainHolder(
      address
        .slice(address.lastIndexOf('@') + 1)
        .trim()
        .toLowerCase(),
    );
    if (!holder || holder.connection === null) return undefined;
    const way = (await this.waysInto(holder.tenantId)).find(({ id }) => id === holder.connection);
    return way && { ...way, tenantId: holder.tenantId };
  }

  /**
   * Keeps the secret by which the application is known to a provider, sealed: it is shown to nobody again.
   *
   * @throws LintelError `refused` without full control, `prove-first`, `not-found`, `option-missing` without a key.
   */
  async keepSecret(standing: ServerStanding<any>, connection: string, secret: string): Promise<void> {
    if (secret.trim() === '' || secret.length > 2000) throw new LintelError('bad-connection', 'the secret is missing, or longer than 2000 characters', {});
    await standing.connections.keepSealed(connection, seal(this.#options.secrets, purposeOf(standing.facts.tenant.id, connection), secret));
  }

  /** @throws LintelError `not-found`. */
  async #connection(tenantId: string, id: string): Promise<OpenConnection> {
    const found = (await this.#lintel.openConnections(tenantId)).find((one) => one.id === id);
    if (found) return found;
    throw new LintelError('not-found', 'There is no such page.', {});
  }

  #secretOf(tenantId: string, { id, sealed }: OpenConnection): string | undefined {
    return sealed === null ? undefined : unseal(this.#options.secrets, purposeOf(tenantId, id), sealed);
  }

  #callback(tenantId: string, connection: string): string {
    return `${this.origin}${this.#pathOf(tenantId, connection)}/back`;
  }

  /** By what a SAML provider knows the application: its entity id, and where it sends answers (the assertion consumer service). */
  #service(tenantId: string, connection: string): Service {
    return { entityId: `${this.origin}${this.#pathOf(tenantId, connection)}`, callback: this.#callback(tenantId, connection) };
  }

  /**
   * Begins to sign in. Whoever is sent here by a provider, or by a link, begins anew too: nothing that comes along is gone by.
   *
   * @param how `back`: a path of the application to go on to; anything else is `/`. `within`: the secret of a session by this connection, to show again who one is.
   *   `connects`: the secret of a session by something of one's own, to come in by this provider too.
   * @throws LintelError `not-found`, `provider-away`, `address-refused`.
   */
  async begin(
    tenantId: string,
    connection: string,
    { back, within, connects }: { readonly back?: string | undefined; readonly within?: string | undefined; readonly connects?: string | undefined } = {},
  ): Promise<Leaving> {
    if (connects !== undefined) await this.#options.accounts.provenLately(connects);
    const found = await this.#connection(tenantId, connection);
    const attempt = newAttempt(
      {
        tenant: tenantId,
        connection,
        back: pathWithin(this.origin, back),
        ...(within !== undefined && { within: hashOf([within]) }),
        ...(connects !== undefined && { connects: hashOf([connects]) }),
      },
      this.#now,
    );
    const to = await this.#leave(found, tenantId, attempt);
    return {
      to,
      keep: {
        name: nameOf(attempt.state),
        value: sealAttempt(this.#options.secrets, attempt),
        seconds: AWAY_MINUTES * 60,
        crossSite: found.terms.kind === 'saml',
      },
    };
  }

  async #leave(found: OpenConnection, tenantId: string, attempt: Attempt): Promise<string> {
    const { terms } = found;
    try {
      if (terms.kind === 'saml') return await beginSaml(terms, this.#service(tenantId, found.id), attempt, this.#options.connections ?? {});
      return await this.#oidc.begin(terms, this.#secretOf(tenantId, found), this.#callback(tenantId, found.id), attempt, this.#now);
    } catch (error) {
      throw ofOurs(error) ?? providerAway(error);
    }
  }

  /**
   * Somebody comes back from a provider.
   *
   * @param given what came with the answer, in the address or in a form; `kept`: what the browser keeps, by name.
   * @throws LintelError `sign-on-failed` for whatever does not hold: the cause says what; `not-found`.
   */
  async finish(
    tenantId: string,
    connection: string,
    given: {
      readonly query: URLSearchParams;
      readonly kept: (name: string) => string | undefined;
      readonly from?: string | undefined;
      readonly label?: string | undefined;
    },
  ): Promise<Back | Asking> {
    const { query, kept, from, label } = given;
    const { secrets, accounts } = this.#options;
    const found = await this.#connection(tenantId, connection);
    const state = query.get('state') ?? query.get('RelayState') ?? '';
    const attempt = openAttempt(secrets, kept(nameOf(state)), { tenant: tenantId, connection, state }, this.#now);
    const said = await this.#heard(found, tenantId, attempt, query);
    await countAsUsed(this.#lintel.db, [tenantId, connection, state], this.#now, attempt.begun + AWAY_MINUTES * 60_000);
    if (attempt.connects !== undefined) {
      const { connects, back: to } = attempt;
      const sealed = seal(
        secrets,
        CONNECTS,
        JSON.stringify({ tenant: tenantId, connection, claims: said.claims, connects, to, until: this.#now + AWAY_MINUTES * 60_000 }),
      );
      return { asks: { sealed, connection: found.name, tenantName: found.tenantName, name: nameIn(said.claims) }, drop: nameOf(state) };
    }
    const arrived = await this.#lintel.arrive({ tenantId, connectionId: connection, claims: said.claims });
    const back = { arrived, to: attempt.back, tenantName: found.tenantName, drop: nameOf(state) };
    if (arrived.outcome === 'refused' || arrived.userId === undefined) return back;
    const { claims: _, ...shown } = said;
    const by = { ...shown, userId: arrived.userId, tenantId, connectionId: connection, from, label, within: attempt.within };
    return { ...back, session: await accounts.enterByConnection(by) };
  }

  /**
   * Somebody has said that they are who the provider named: from now on they come by it too, as the account that they have.
   *
   * @param session the secret of the session in which they asked for it.
   * @returns where to go on.
   * @throws LintelError `sign-on-failed` for what was sealed for another session, or too long ago; `prove-first`, `session-bound`, `identity-taken`, `removed-here`, `not-admitted`.
   */
  async connect(tenantId: string, connection: string, sealed: string, session: string): Promise<string> {
    let asked: {
      readonly tenant: string;
      readonly connection: string;
      readonly claims: Claims;
      readonly connects: string;
      readonly to: string;
      readonly until: number;
    };
    try {
      asked = JSON.parse(unseal(this.#options.secrets, CONNECTS, sealed));
    } catch (cause) {
      throw signOnFailed(cause);
    }
    // guard connect-in-same-session by arrival: Somebody else could connect their own identity to an account.
    const isMeant =
      asked.tenant === tenantId &&
      asked.connection === connection &&
      /* guard connect-in-same-session */ asked.connects === hashOf([session]) &&
      asked.until > this.#now;
    if (!isMeant) throw signOnFailed(new Error('it was asked in another session, or too long ago'));
    const { userId, enters } = await this.#options.accounts.provenLately(session);
    // An account that the tenant keeps is of that tenant, as what it is bound to.
    await this.#lintel.bindIdentity(enters === undefined || enters.join() === tenantId ? userId : { user: userId, enters }, {
      tenantId,
      connectionId: connection,
      claims: asked.claims,
    });
    return asked.to;
  }

  async #heard(found: OpenConnection, tenantId: string, attempt: Attempt, query: URLSearchParams): Promise<Said> {
    const { terms } = found;
    try {
      if (terms.kind === 'saml') return await finishSaml(terms, this.#service(tenantId, found.id), attempt, query.get('SAMLResponse') ?? '', this.#now);
      const callback = new URL(`${this.#callback(tenantId, found.id)}?${query}`);
      return await this.#oidc.finish(terms, this.#secretOf(tenantId, found), callback, attempt, this.#now);
    } catch (error) {
      throw ofOurs(error) ?? signOnFailed(error);
    }
  }
}
