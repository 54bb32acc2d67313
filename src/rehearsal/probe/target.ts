import type { AppMember } from '../copy-members.js';

/** A route of an application, as far as it has to be known to be tried. */
export interface ProbeRoute {
  readonly method: string;
  /** With its parameters as `{id}` or `:id`. */
  readonly path: string;
  /** What a parameter names where that cannot be told by its name and the part before it: `tenant`, or a kind. */
  readonly params?: Readonly<Record<string, string>>;
  /** The kind of record that it is about, where the path does not tell. */
  readonly kind?: string;
  /** Names of what may follow the question mark. */
  readonly query?: readonly string[];
  /** A permission without which nobody is answered with success, as for a page that shows no records: `area.members`. In OpenAPI: `x-needs` of the operation. */
  readonly needs?: string;
  /** A body that is taken. Left out: the plain fields of the kind, by their names. */
  readonly body?: Readonly<Record<string, unknown>>;
}

/** Somebody as whom the application is called. */
export interface ProbePerson {
  readonly id: string;
  readonly name: string;
  readonly address: string;
}

/** Sends one request to the application. A redirection is not followed. */
export type Send = (request: {
  readonly method: string;
  readonly path: string;
  readonly headers?: Record<string, string>;
  readonly body?: unknown;
}) => Promise<Response>;

/**
 * Routes as a list, or what they are read from: a description by OpenAPI 3, a recording of requests (HAR 1.2), or the application itself, of Express, of Fastify once it is
 * ready, or of Hono.
 */
export type RoutesDescribed =
  | readonly ProbeRoute[]
  | { readonly openapi: string; readonly paths?: object }
  | { readonly log: { readonly entries: readonly object[] } }
  | { readonly routes: readonly { readonly method: string; readonly path: string }[] }
  | { printRoutes(): string }
  | ((...request: any[]) => unknown);

/** An application to be tried, beside the database that it works on. */
export interface ProbeTarget {
  /** The application as a function of a request, or its address on this machine: `http://localhost:4173`. */
  readonly app: ((request: Request) => Response | Promise<Response>) | string;
  /** Signs somebody in, and answers the headers that their requests carry. `tenant` is the one for which, where {@link sessions} are of one. */
  readonly signIn: (person: ProbePerson, send: Send, of: { readonly tenant: string }) => Promise<Record<string, string>>;
  /** Whether a session is of one tenant: then everybody is signed in for each of theirs. Default `person`: one session is for all, and the address names the tenant, if any. */
  readonly sessions?: 'person' | 'tenant';
  /** Its routes, or what they are read from. */
  readonly routes: RoutesDescribed;
  /** Only these routes, and their paths with verbs that are not described: `GET /api/hives/{id}`. Such a verb can be named by itself. */
  readonly only?: readonly string[];
  /** The people, where the membership is not the library's: without it, they are read from the database. */
  readonly people?: readonly AppMember[];
  /** The kind whose records say who belongs to a tenant, where the charter has one: by it somebody is put out, or given another role, to see what their old session still opens. */
  readonly membership?: {
    readonly kind: string;
    /** The field that holds the id of the person. */
    readonly person: string;
    /** The field that holds the role, by the names of the charter. */
    readonly role?: string;
  };
  /** Whether records that tries need and that are not there may be made, for as long as it takes: each like one that is there, in the same table. Default false: then it is told what was not tried. */
  readonly makeMissing?: boolean;
  /** Puts somebody out, and takes them in again: to see what their old session still opens. Where the membership is the library's, or {@link membership} says, it is known how; else left out, it is not tried. */
  readonly putOut?: ProbeTurn['make'];
  /** More that may happen to somebody while they are signed in. */
  readonly turns?: readonly ProbeTurn[];
}

/** Something that happens to somebody in a tenant while they are signed in: they get another role, are suspended, or come back with less than they had. */
export interface ProbeTurn {
  /** What happened, as it is told: `was given the role of a reader`. */
  readonly what: string;
  /** All roles that they hold in the tenant after it. None: they do not belong to it. */
  readonly roles: readonly string[];
  /** Makes it so, and answers how it is undone. */
  readonly make: (person: ProbePerson, tenant: string) => Promise<() => Promise<void>>;
}
