import type { Kysely } from 'kysely';
import { type Secrets, seal, signOnFailed, unseal } from '../../accounts/index.js';
import { hashOf, randomSecret } from '../../base/index.js';
import type { Claims, LintelTables } from '../../server/index.js';

/** One try to sign in, from leaving for the provider until coming back. It lies in the browser, sealed: nothing is written before somebody comes back. */
export interface Attempt {
  readonly tenant: string;
  readonly connection: string;
  /** What comes back with the answer: the state, or the relay state. */
  readonly state: string;
  /** What the answer has to name: the nonce, or the id of the request. */
  readonly nonce: string;
  /** RFC 7636. */
  readonly verifier: string;
  /** Where to go on: a path. */
  readonly back: string;
  /** Milliseconds since 1970. */
  readonly begun: number;
  /** The hash of a session's secret within which somebody shows again who they are. */
  readonly within?: string;
  /** The hash of a session's secret whose owner wants to come in by this provider too. */
  readonly connects?: string;
}

/** What a provider has said, once it is verified. */
export interface Said {
  readonly claims: Claims;
  readonly methods: readonly string[];
  readonly provenAt?: number;
}

/** For so many minutes somebody may be away. */
export const AWAY_MINUTES = 10;
const PURPOSE = 'sign-on attempt';

export const newAttempt = (of: Pick<Attempt, 'tenant' | 'connection' | 'back' | 'within' | 'connects'>, now: number): Attempt => ({
  ...of,
  state: randomSecret(),
  nonce: `_${randomSecret()}`,
  verifier: randomSecret(),
  begun: now,
});

/** Under which name a browser keeps it: several tabs have several. */
export const nameOf = (state: string): string => `sign-on-${hashOf([state]).slice(0, 12)}`;

export const sealAttempt = (secrets: Secrets, attempt: Attempt): string => seal(secrets, PURPOSE, JSON.stringify(attempt));

/** The browser that began the attempt is another, or has lost it. */
// guard attempt-of-this-browser by arrival: An answer would count in a browser that did not ask for it.
const noAttempt = /* guard attempt-of-this-browser (replaced) */ (_of: object, _now: number): Attempt => {
  throw signOnFailed(new Error('the browser brings no attempt back'));
};

/** What was sealed for this browser, this state and this connection, not long ago. @throws LintelError `sign-on-failed`. */
export function openAttempt(secrets: Secrets, sealed: string | undefined, of: Pick<Attempt, 'tenant' | 'connection' | 'state'>, now: number): Attempt {
  if (sealed === undefined) return noAttempt(of, now);
  let attempt: Attempt;
  try {
    attempt = JSON.parse(unseal(secrets, PURPOSE, sealed)) as Attempt;
  } catch (cause) {
    throw signOnFailed(cause);
  }
  // guard attempt-of-this-connection by arrival: An answer would count for another connection.
  const isOf =
    /* guard attempt-of-this-connection */ attempt.tenant === of.tenant &&
    /* guard attempt-of-this-connection */ attempt.connection === of.connection &&
    attempt.state === of.state;
  if (!isOf) throw signOnFailed(new Error('the answer is for another connection, or another attempt'));
  // guard attempt-expires by arrival: An answer would count however late it comes.
  if (attempt.begun > now || /* guard attempt-expires */ attempt.begun + AWAY_MINUTES * 60_000 <= now)
    throw signOnFailed(new Error('it took longer than ten minutes'));
  return attempt;
}

/** Counts an answer as used; of two of it at once, one is. @throws LintelError `sign-on-failed` for one that was used before. */
export async function countAsUsed(db: Kysely<LintelTables>, of: readonly string[], now: number, until: number): Promise<void> {
  const mark = hashOf([JSON.stringify(of)]);
  const made = await db
    .insertInto('lintel_used')
    .values({ mark, until: new Date(until) })
    .onConflict((c) => c.doNothing())
    .returning('mark')
    .executeTakeFirst();
  if (!made) throw signOnFailed(new Error('this answer was used before'));
  await db.deleteFrom('lintel_used').where('until', '<', new Date(now)).execute();
}

/** A path of the application, and nothing that leads out of it. */
export function pathWithin(origin: string, back: string | undefined): string {
  // guard path-leads-within by arrival: A link could lead people to another site after they signed in.
  return /* guard path-leads-within (unwrapped) */ within(origin, back ?? '/');
}

function within(origin: string, text: string): string {
  // What browsers read as the beginning of another host, or leave out while they read.
  if (!text.startsWith('/') || /^\/[/\\]|[\\\p{Cc}\s]/u.test(text) || text.length > 500) return '/';
  const url = new URL(text, origin);
  return url.origin === new URL(origin).origin ? `${url.pathname}${url.search}${url.hash}` : '/';
}
