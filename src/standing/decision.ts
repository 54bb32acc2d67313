import type { Anchor } from './facts.js';
import type { Grant } from './grants.js';

/** Why a decision came out as it did: the first that applies, in this order. */
export type Outcome =
  | 'no standing'
  | 'expired'
  | 'other tenant'
  | 'limit'
  | 'only a look'
  | 'other channel'
  | 'obligation'
  | 'plan'
  | 'no grant'
  | 'out of reach'
  | 'guarded field'
  | 'not loaded'
  | 'missing'
  | 'unknown'
  | 'allowed';

/** One grant that was looked at for a decision. */
export interface LookedAt extends Grant {
  /** Whether it extends to the record; without a record, whether there could be one; undefined: not loaded. */
  readonly holds: boolean | undefined;
  /** The records it extends to, as a line. */
  readonly where: string;
  /** The parts that failed on this record, each as a line that says what is the case. */
  readonly failed: readonly string[];
}

/** The answer to *may this person do this?*, with its reasons. */
export interface Decision {
  readonly allowed: boolean;
  readonly outcome: Outcome;
  readonly action: string;
  /** Hidden: the answer to the person must be that of a record that does not exist. */
  readonly visibility: 'visible' | 'hidden';
  /** For the person concerned: what was refused on what, by which rule, and whom to ask. Tells nothing that they cannot see. */
  readonly words: string;
  readonly record?: { readonly kind: string; readonly id: unknown; readonly label: string };
  /** Name of the limit, obligation, feature or guarded field that decided; the channels by which it is done. */
  readonly rule?: string;
  /** The permission that a guarded field takes. */
  readonly needs?: string;
  /** The full trace: every grant of this action. For those who may read it. */
  readonly looked: readonly LookedAt[];
  /** The same for `read`, where the action also rests on it. */
  readonly lookedForRead: readonly LookedAt[];
  /** In a look as somebody else: what they could do, which is not done in it. */
  readonly could?: Could;
}

/**
 * What somebody could do by their own rules, whatever they have to do first, for whoever looks as them. `unknown` where it rests on what whoever looks may not know: fields and parents
 * that are hidden from them; who else is in a group, a unit, or stood in for, if they may not know of everybody.
 */
export interface Could extends Omit<Decision, 'allowed' | 'could'> {
  readonly allowed: boolean | 'unknown';
}

/** What a form needs to know of one field. */
export interface FieldAccess {
  readonly readable: boolean;
  readonly changeable: boolean;
  /** True for a field that the library fills in, whatever a form sends. */
  readonly setByLibrary: boolean;
  /** Why it cannot be changed, for the person; empty where it can. */
  readonly reason: string;
  /** In a look as somebody else: whether they could change it. */
  readonly could?: Could['allowed'];
}

/** A permission that a person holds, with every path by which it comes. */
export interface HeldPermission {
  readonly permission: string;
  readonly label: string;
  readonly section: string;
  readonly ways: readonly { readonly reach: string; readonly anchor: Anchor; readonly path: Grant['path'] }[];
}
