import type { Sent } from './send.js';

/** What can be found, why it matters, and what to do. */
export const PROBE_CODES = {
  'shows-hidden': {
    severity: 'error',
    why: 'The answer shows a record that this person may not read.',
    remedy: 'Read through scope, or ask the standing before the answer goes out.',
  },
  'shows-masked': {
    severity: 'error',
    why: 'The answer shows a field that this person may not read, of a record that they may.',
    remedy: 'Read through scope, or leave the field out.',
  },
  'changes-unlawfully': {
    severity: 'error',
    why: 'The request changed something that this person may not change.',
    remedy: 'Write through scope, and take from the request only what a form of this page may send.',
  },
  'open-after-removal': {
    severity: 'error',
    why: 'A session of somebody who was removed still works.',
    remedy: 'Resolve the standing anew with each request.',
  },
  'open-after-change': {
    severity: 'error',
    why: 'A session still opens what this person held before, and does not hold any more.',
    remedy: 'Resolve the standing anew with each request, and keep no role in a session.',
  },
  'lets-in': {
    severity: 'error',
    why: 'The route lets somebody in who lacks the permission that it needs.',
    remedy: 'Insist on the permission before anything is answered.',
  },
  'neither-order': {
    severity: 'error',
    why: 'Two requests at the same moment leave what neither order of them would: one of them was checked before the other took away what it rests on.',
    remedy: 'Check and write in one transaction, and lock what the check rests on first.',
  },
  'other-tenant': {
    severity: 'error',
    why: 'A request for one organisation shows or changes another: a form from an old tab hits the wrong one.',
    remedy: 'Take the organisation from the request, and never from what the account last looked at.',
  },
  'tells-existence': {
    severity: 'warning',
    why: 'A hidden record is answered otherwise than a missing one: whoever guesses an id learns that it exists.',
    remedy: 'Answer both alike: not found.',
  },
  'count-tells': {
    severity: 'warning',
    why: 'A number counts records that this person may not read.',
    remedy: 'Count through scope.',
  },
  'filter-tells': {
    severity: 'warning',
    why: 'A search by a field that this person may not read finds records: they can guess its value.',
    remedy: 'Search through scope, which takes a masked field for empty.',
  },
  'order-tells': {
    severity: 'warning',
    why: 'Records can be sorted by a field that this person may not read: they learn which has more of it.',
    remedy: 'Sort through scope, which takes a masked field for empty, or by fields of a list.',
  },
  'under-another': {
    severity: 'warning',
    why: 'A record is answered under a parent on which it does not hang: what the address says is not looked at.',
    remedy: 'Look the record up by its own id and its parent’s.',
  },
  'rests-on-hidden': {
    severity: 'warning',
    why: 'The answer is another once a number or a text changes that this person may not read, or a hidden record is gone.',
    remedy: 'Work out sums, means and counts through scope.',
  },
  breaks: { severity: 'warning', why: 'The application fails, instead of refusing.', remedy: 'Check what comes in before it is used.' },
} as const;

export type ProbeCode = keyof typeof PROBE_CODES;

/** Something that an application does and its charter does not mean. */
export interface ProbeFinding {
  readonly code: ProbeCode;
  readonly severity: 'error' | 'warning';
  readonly route: string;
  /** What it is about, where there are several things on a route: a kind, a field, a parameter. Empty: the route as a whole. */
  readonly about: string;
  /** The first person to whom it happened. */
  readonly person: { readonly id: string | null; readonly name: string };
  /** Everybody to whom it happened. */
  readonly people: readonly string[];
  readonly message: string;
  readonly request: Sent;
  readonly status: number;
}

/** How often a route was called as somebody, and what came of it. */
export interface Covered {
  readonly calls: number;
  readonly answered: number;
}

/** What a probe tried, and what it found. */
export interface ProbeReport {
  readonly findings: readonly ProbeFinding[];
  readonly people: readonly string[];
  /** By route, for each of the people. */
  readonly coverage: readonly { readonly route: string; readonly by: readonly Covered[] }[];
  /** What could not be tried, and why. */
  readonly unreached: readonly { readonly route: string; readonly why: string }[];
  readonly calls: number;
}

/** How far a walk has come. A step is one route as one of the people. */
export interface ProbeProgress {
  /** What is tried next. */
  readonly what: string;
  /** Steps that are behind, and steps in all. */
  readonly done: number;
  readonly of: number;
  /** What was found until now. */
  readonly found: number;
}
