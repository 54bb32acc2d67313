import type { Predicate } from '../predicate/index.js';
import type { AttributeData } from './attributes.js';
import type { FieldData } from './field.js';

/** Words by which somebody who reads no code chooses a permission. */
export interface PermissionWords {
  /** A few words: "Change a hive". */
  readonly label: string;
  /** What its holder can do, as a sentence. */
  readonly sentence?: string;
  /** The heading under which it is listed; by default the kind's or "Areas". */
  readonly section?: string;
  /** What it drags along unnoticed: "is sent every notice". */
  readonly brings?: string;
  /** Permissions without which this one leads nowhere. */
  readonly needs?: readonly string[];
  /** The feature that the tenant's plan must have. */
  readonly feature?: string;
  /** From where it may be done, by names that the application gives to its ways in. Absent: from everywhere; an empty list: from nowhere. */
  readonly channels?: readonly string[];
  /** Permissions that are called this now: what was given under their names counts on. */
  readonly was?: readonly string[];
}

export interface AreaData extends PermissionWords {
  /** True: also opened by a role that is held for one unit only. */
  readonly perUnit?: boolean;
}

/** What is put down of each change of a kind's records, and to whom it is shown. */
export interface JournalData {
  /** Fields of which it is told. Absent: all that are columns. */
  readonly fields?: readonly string[];
  /** The action that shows it. Default `read`: whoever reads the record reads its journal. */
  readonly shownBy?: string;
  /** `hidden`: of the time in which a record was out of somebody's reach they are not told. Default: whoever reaches a record now is told all of it. */
  readonly earlier?: 'hidden';
  /** How many days it is kept. Absent: for good. */
  readonly days?: number;
}

/** A kind of record, as plain data. */
export interface KindData {
  readonly table: string;
  readonly schema?: string;
  /** The field whose value names a record to people. */
  readonly label: string;
  /** The kind as people call one, and several: "hive", "hives". */
  readonly one: string;
  readonly many: string;
  /** Belongs to no tenant; everybody reads the same records, and only the platform writes them. */
  readonly shared?: boolean;
  readonly fields: Readonly<Record<string, FieldData>>;
  readonly actions: Readonly<Record<string, PermissionWords>>;
  readonly reaches: Readonly<Record<string, Predicate>>;
  /** Reaches of which a tenant chooses one for what is given at the reach `base`; the first where it has not chosen. */
  readonly base?: readonly string[];
  /** Each making, change and deletion of its records is put down. */
  readonly journal?: JournalData;
}

/** Permissions, each with the reaches to which it extends. An empty list is none. */
export type May = Readonly<Record<string, readonly string[]>>;

/** A role, as plain data. */
export interface RoleData {
  readonly label: string;
  readonly sentence?: string;
  /** The area that a holder sees first. */
  readonly startsAt?: string;
  /** Roles whose permissions are part of this one. */
  readonly includes: readonly string[];
  readonly may: May;
  /** Roles that a holder may give, within the anchor of this role, without holding them. */
  readonly gives: readonly string[];
  /** Roles that are called this now: whoever holds one of them holds this. */
  readonly was?: readonly string[];
}

/** What takes away from every role, as plain data. */
export interface LimitData {
  readonly actions: readonly string[];
  /** Where it holds, the actions are refused. */
  readonly where: Predicate;
  /** Why, for the person who is refused: "An archived hive does not change." */
  readonly sentence: string;
  /** True: asked only of the record as it was before a change. Default: of both images. */
  readonly before?: boolean;
  /** True: meant to be without a way back. Default: it is an error when no action leads out of it. */
  readonly lasting?: boolean;
}

/** Something that has to be done before actions count, as plain data. */
export interface ObligationData {
  /** What the person has to do first: "Confirm your e-mail address." */
  readonly sentence: string;
  /** The permissions that wait for it, or `everything`. */
  readonly before: readonly string[] | 'everything';
}

/** Roles and permissions of which nobody may hold two together, by whatever ways they come. Full control is not counted. */
export interface ApartData {
  readonly hold: readonly string[];
  /** Why: "Who books an entry does not audit it." */
  readonly sentence: string;
}

/** What full control is called in an application, and where who holds it begins. What they may not do is a limit. */
export interface KeyholderData {
  readonly label: string;
  readonly sentence?: string;
  readonly startsAt?: string;
}

/** A charter as plain data: what is stored, hashed, compared and sent. */
export interface CharterData {
  readonly kinds: Readonly<Record<string, KindData>>;
  readonly areas: Readonly<Record<string, AreaData>>;
  readonly roles: Readonly<Record<string, RoleData>>;
  /** By kind, then by name. */
  readonly limits: Readonly<Record<string, Readonly<Record<string, LimitData>>>>;
  readonly keyholder: KeyholderData;
  readonly obligations: Readonly<Record<string, ObligationData>>;
  /** Names of roles and permissions that are gone, and that are not to come to mean something else. */
  readonly retired: readonly string[];
  readonly apart: Readonly<Record<string, ApartData>>;
  /** Facts about members that rules can ask. Absent: a rule may name any, and whatever is brought counts. */
  readonly attributes?: Readonly<Record<string, AttributeData>>;
  /** True: it holds the operations of a platform, for the tenant that is the platform. */
  readonly platform?: boolean;
  /** What somebody may do who is not signed in. */
  readonly visitor: May;
  /** What somebody may do who is signed in and no member here. */
  readonly signedIn: May;
  /** What every active member may do. */
  readonly everyMember: May;
}
