import * as z from 'zod';
import type { Accounts, Coming } from '../accounts/index.js';
import type { Domains, SignOn } from '../provisioning/index.js';
import type { Lintel, ServerStanding, Signed } from '../server/index.js';
import type { Left } from './cookies.js';
import { type OperationId, routeOf } from './routes.js';

/** What an operation works with: the request, read and checked. */
export interface Asked {
  readonly lintel: Lintel<any>;
  readonly standing: ServerStanding<any>;
  readonly path: Readonly<Record<string, string>>;
  readonly query: any;
  readonly body: any;
  /** From `If-Match`: the mark of the latest change that the caller has seen. */
  readonly seen: string | undefined;
  readonly idempotencyKey: string | undefined;
  /** Signing in by providers, where the application has it. */
  readonly signOn: SignOn | undefined;
  readonly domains: Domains | undefined;
}

/** What somebody without a standing asks, with nobody signed in. */
export type AskedBefore = Omit<Asked, 'standing' | 'seen' | 'idempotencyKey'>;

/** What somebody asks of their own: handed on whole, so that what their session is bound to is obeyed. */
export interface AskedByPerson extends AskedBefore {
  readonly who: Signed;
}

/** What somebody asks of their account, or to come to one. */
export interface AskedOfAccount {
  readonly accounts: Accounts;
  readonly lintel: Lintel<any>;
  /** Of the session; empty for none. */
  readonly token: string;
  readonly device: string;
  readonly body: any;
  readonly coming: Coming;
}

/** So many bytes may a body have, unless an operation says more. */
export const MOST_BYTES = 65_536;
/** So many may one with thousands of ids have. */
export const LARGE = 524_288;
/** How deep what is sent may be nested. */
export const DEEPEST = 32;

interface Described {
  readonly summary: string;
  readonly query?: z.ZodObject;
  readonly body?: z.ZodType;
  readonly answers: z.ZodType;
  /** Bytes that the body may have; default {@link MOST_BYTES}. */
  readonly most?: number;
  /** As how many requests it counts; default one. */
  readonly costs?: number;
  /** There where the face has this alone. */
  readonly with?: 'signOn' | 'domains';
}

/** One thing that can be asked: what it takes and gives is said once, for the check, the answer and the description. */
export type Operation =
  | (Described & {
      readonly in: 'tenant';
      /** It changes the membership: it takes `If-Match`, or an `Idempotency-Key`. */
      readonly takes?: 'if-match' | 'idempotency-key';
      /** It may be tried by somebody who looks as another. */
      readonly tries?: true;
      /** It rests on records, or on the hour, and so is never answered with not modified. */
      readonly fresh?: true;
      readonly run: (asked: Asked) => Promise<unknown>;
    })
  | (Described & {
      readonly in: 'person';
      /** With accounts of the library's own: takes that they have shown lately who they are. */
      readonly lately?: true;
      readonly run: (asked: AskedByPerson) => Promise<unknown>;
    })
  | (Described & { readonly in: 'nobody'; readonly run: (asked: AskedBefore) => Promise<unknown> })
  | (Described & { readonly in: 'account'; readonly run: (asked: AskedOfAccount) => Promise<{ readonly answer: object } & Left> });

/** Operations by their names: each has its place in `ROUTES`. */
export type Operations = Readonly<Partial<Record<OperationId, Operation>>>;

/** An operation with its name and its place. */
export type Placed<O extends Operation = Operation> = O & ReturnType<typeof routeOf> & { readonly id: OperationId };

export const placed = (operations: Operations): readonly Placed[] =>
  (Object.entries(operations) as [OperationId, Operation][]).map(([id, operation]) => ({ ...operation, id, ...routeOf(id) }));

export const nothing = z.object({});
export const listed = <T extends z.ZodType>(item: T) => z.object({ items: z.array(item) });
