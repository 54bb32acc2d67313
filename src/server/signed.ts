import { LintelError } from '../base/index.js';
import type { Id } from '../membership/index.js';

/** Somebody who is signed in, as the application has verified it, and what their sign-in session is good for. */
export interface Signed {
  readonly user: Id;
  /**
   * The tenants that the session enters. Absent: all of the person's. An empty list is none. A session that names some touches nothing of the person: neither their name,
   * address and invitations, nor the platform.
   */
  readonly enters?: readonly Id[] | undefined;
  /** What names the sign-in session, and is no secret: it is noted when somebody last came into a tenant by one. Absent: it is not. */
  readonly session?: string | undefined;
}

/** Who asks for something of their own: signed in with a session that enters every tenant of theirs, where the id stands alone. */
export type Asker = Id | Signed;

export const signedOf = (asker: Asker): Signed => (typeof asker === 'object' ? asker : { user: asker });

/** The person, of a session that is not bound to tenants. @throws LintelError `session-bound`. */
export function wholly(asker: Asker): Id {
  const { user, enters } = signedOf(asker);
  // guard bound-session-not-person by accounts: A session bound to one tenant would be told what is about its person.
  if (enters !== undefined) throw sessionBound();
  return user;
}

/** A session that is bound to tenants would touch what is the person's own. */
export const sessionBound = (): LintelError =>
  new LintelError(
    'session-bound',
    'You are signed in by your organisation, and for it alone. To do this, sign in with a password or a passkey of your own.',
    {},
  );

/** What changes by what somebody comes in takes that they have shown lately who they are. */
export const proveFirst = (): LintelError =>
  new LintelError('prove-first', 'This takes a password, or a code, that was given a few minutes ago at most. Give it once more.', {});
