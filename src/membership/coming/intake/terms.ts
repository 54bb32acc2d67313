import type { Assignment } from '../../../standing/index.js';
import type { Id } from '../../terms/index.js';

/** Somebody whom an application has already. */
export interface IntakePerson {
  readonly id: Id;
  readonly name: string;
  readonly address: string;
  /** When the application has proven that the address is theirs. */
  readonly confirmedAt?: Date;
}

/** An organisation that an application has already. Units come after those that they lie below. */
export interface IntakeTenant {
  readonly id: Id;
  readonly name: string;
  readonly contact?: string;
  /** Where its records are, of the `places` that `createLintel` was given; for good. */
  readonly place?: string;
  readonly groups?: readonly { readonly id: Id; readonly name: string }[];
  readonly units?: readonly { readonly id: Id; readonly name: string; readonly below?: Id }[];
}

/** What somebody holds in a tenant of the application. */
export interface IntakeMember {
  readonly user: Id;
  readonly tenant: Id;
  /** Of the charter; a name alone is held for the whole tenant. `keyholder`: full control, which somebody has to hold before the tenant is open. */
  readonly roles?: readonly (string | Assignment)[];
  readonly groups?: readonly Id[];
  readonly units?: readonly Id[];
  readonly attributes?: Readonly<Record<string, unknown>>;
  /** False: they are a member, and can do nothing until this source says otherwise or somebody in the organisation brings them back. Default true. */
  readonly active?: boolean;
}

export type Each<T> = Iterable<T> | AsyncIterable<T>;

/** What an application has, in any order within each; streams are read as they come. */
export interface Intake {
  readonly people?: Each<IntakePerson>;
  readonly tenants?: Each<IntakeTenant>;
  readonly members?: Each<IntakeMember>;
}

/** How an intake is done. */
export interface IntakeOptions {
  /** True: says what it would do, and does nothing. It holds one transaction meanwhile. */
  readonly dryRun?: boolean;
  /** What it comes by: it stands with what it gives. What people gave, and what another source brought, is left alone. Default `intake`; 1 to 60 letters, digits, `-`, `_`, `.`. */
  readonly source?: string;
  /** Told of each that was not taken; the report holds the first 1000. */
  readonly refused?: (one: IntakeRefusal) => void;
}

/** Something that was not taken, and why. */
export interface IntakeRefusal {
  readonly what: 'person' | 'tenant' | 'member';
  readonly id: string;
  readonly tenant?: string;
  readonly code: string;
  readonly words: string;
}

/** How many of one sort an intake brought, changed and left. */
export interface IntakeCount {
  readonly brought: number;
  /** Brought earlier, and otherwise now. */
  readonly changed: number;
  readonly same: number;
  /** Changed here by somebody since it was brought, or (a person, an organisation) here by another way: left as it is. */
  readonly kept: number;
  readonly refused: number;
}

/** What an intake did, or would do. */
export interface IntakeReport {
  readonly people: IntakeCount;
  readonly tenants: IntakeCount;
  readonly members: IntakeCount;
  /** Tenants that somebody has full control of now, and that were opened. */
  readonly opened: number;
  /** Tenants that were brought and that nobody has full control of: they stay closed, and each is told with what was not taken. */
  readonly closed: number;
  readonly refused: readonly IntakeRefusal[];
}
