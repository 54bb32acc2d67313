import type * as z from 'zod';
import type { ACCOUNT } from '../http/accounts.js';
import type { OPERATIONS } from '../http/operations.js';
import type { OperationId, ROUTES } from '../http/routes.js';

type Described = typeof OPERATIONS & typeof ACCOUNT;

/** What a value is after it has gone over HTTP: moments are texts (ISO 8601). */
export type Sent<T> = 0 extends 1 & T ? T : T extends Date ? string : T extends object ? { [K in keyof T]: Sent<T[K]> } : T;

type PartsOf<Route extends string> = Route extends `${string}{${infer Part}}${infer Rest}` ? Part | PartsOf<Rest> : never;
type InPath<Id extends OperationId> = { readonly [Part in PartsOf<(typeof ROUTES)[Id]>]: string };
type InQuery<O> = O extends { readonly query: infer Q extends z.ZodType } ? z.input<Q> : unknown;
type InBody<O> = O extends { readonly body: infer B extends z.ZodType } ? z.input<B> : unknown;

/** What an operation is asked with: the parts of its path, its query and its body, in one object. */
export type Asked<Id extends OperationId> = InPath<Id> & InQuery<Described[Id]> & InBody<Described[Id]>;

type Given<O> = O extends { readonly run: (asked: never) => Promise<infer A> }
  ? O extends { readonly in: 'account' }
    ? A extends { readonly answer: infer G }
      ? G
      : never
    : A
  : never;

/** What an operation answers, as it comes over HTTP. */
export type Answered<Id extends OperationId> = Sent<Given<Described[Id]>>;

/** What goes with one call. */
export interface CallOptions {
  /** A key of your choice: the same call again under it does nothing, and is answered as the first time, for 24 hours (`invite`). */
  readonly once?: string;
  /** An earlier answer: where anything has changed since, nothing is done, and the call is refused with `changed-meanwhile` (`change`). */
  readonly seen?: object;
  /** Ends the call before it is answered. */
  readonly signal?: AbortSignal;
}

/** One method for each operation of the face, under its name. Each is refused with a {@link Refusal}. */
export type Client = {
  readonly [Id in OperationId]: (
    ...asked: Record<never, never> extends Asked<Id> ? [asked?: Asked<Id>, options?: CallOptions] : [asked: Asked<Id>, options?: CallOptions]
  ) => Promise<Answered<Id>>;
};
