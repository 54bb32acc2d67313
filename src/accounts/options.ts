import type { PasswordRules } from './passwords.js';
import type { Secrets } from './sealed.js';
import type { Session, SessionTerms } from './sessions.js';

/** Where passkeys of the application count (WebAuthn level 3). */
export interface PasskeyTerms {
  /** The domain of the application: `app.example`. A passkey that was made under another is none. */
  readonly id: string;
  /** The addresses of its pages: `https://app.example`. */
  readonly origins: readonly string[] | (() => readonly string[]);
}

/** How accounts of the library’s own work. */
export interface AccountsOptions {
  /** Milliseconds since 1970. Default: the system's clock. */
  readonly clock?: () => number;
  /** What the application is called, for an authenticator's list. Default: what its messages come from says nothing of it, so `Account`. */
  readonly name?: string;
  /** How long sessions last, and whether addresses are kept. */
  readonly sessions?: SessionTerms;
  /** What a password has to be, and how it is hashed. */
  readonly passwords?: PasswordRules;
  /**
   * What comes of a sign-up: an account with a tenant of its own (`tenant`, the default), an account alone, or nothing (`closed`): then people come by invitation.
   */
  readonly signUp?: 'tenant' | 'account' | 'closed';
  /** For so many minutes a sign-in, or a proof, is recent: the obligation `recentSignIn`, and what changes a credential. Default 15. */
  readonly recentMinutes?: number;
  /** The version of the terms that is to be accepted, and from when on: the obligation `acceptTerms`. */
  readonly terms?: { readonly version: string; readonly from: Date };
  /** For so many days it is kept when and how somebody signed in. Default 90. */
  readonly signInsDays?: number;
  /** Where passkeys count. Without it there are none. */
  readonly passkeys?: PasskeyTerms;
  /** Keys under which secrets of second factors are sealed. Needed for a second factor. */
  readonly secrets?: Secrets;
}

/** How a request comes in. */
export interface Coming {
  /** The client's address: tries of one place are counted, and one that sends many waits by itself. */
  readonly from?: string | undefined;
  /** What the device is called, for its owner: the browser's name. */
  readonly label?: string | undefined;
}

/** A session that somebody began by showing who they are, and what tells this device from others the next time. */
export interface Entered extends Session {
  /** For a cookie of its own, for a year: from this device its owner gets in also while others guess. It is no factor. */
  readonly device: string;
  readonly next?: undefined;
}

/** The password was right, and a second factor is asked for: nobody is signed in yet. `token`: for `giveCode`, for ten minutes. */
export interface HalfWay extends Session {
  readonly next: 'secondFactor';
  /** By what it can be given; a recovery code always. */
  readonly by: readonly ('code' | 'passkey')[];
}

/** One time that somebody signed in, or was not let in. */
export interface SignInOnRecord {
  readonly at: Date;
  readonly method: string;
  readonly outcome: 'in' | 'refused';
  readonly place: string | null;
}
