import type { Charter, CharterTypes, RoleData } from '../charter/index.js';

/** Where an assignment holds. Written out always: there is no default. */
export type Anchor =
  | { readonly on: 'tenant' }
  | { readonly on: 'unit'; readonly unitId: string; readonly name?: string }
  | { readonly on: 'record'; readonly kind: string; readonly id: string };

/** What an anchor covers, in a few words; undefined for the whole tenant. */
export function anchorWords(anchor: Anchor): string | undefined {
  if (anchor.on === 'tenant') return undefined;
  return anchor.on === 'unit' ? (anchor.name ?? anchor.unitId) : `${anchor.kind} ${anchor.id}`;
}

/** A role that somebody holds: where, and until when. */
export interface Assignment {
  readonly role: string;
  readonly anchor: Anchor;
  /** ISO 8601: from then on it gives nothing. */
  readonly until?: string;
  /** Permissions of the role that this holder does not get by it. */
  readonly without?: readonly string[];
}

/** One permission that is given by itself, beside any role. */
export interface DirectPermission {
  readonly permission: string;
  readonly reach: string;
  readonly anchor: Anchor;
  /** ISO 8601: from then on it gives nothing. */
  readonly until?: string;
}

/** The group, or the unit at or below which a person is placed, by which something comes to them. */
export interface Through {
  readonly on: 'group' | 'unit';
  readonly id: string;
  readonly name: string;
}

/** By which way something is held. */
export interface Way {
  /** Absent: given to the person themselves. */
  readonly through?: Through;
  /** Sources by which alone it came, by name: an intake. Absent: somebody in the organisation gave it. */
  readonly sources?: readonly string[];
}

export type Held<A> = A & Way;

/** Records that people of a group own, opened to others for some actions. */
export interface OpenedRecords {
  readonly id: string;
  readonly kind: string;
  readonly actions: readonly string[];
  readonly group: { readonly id: string; readonly name: string };
  /** Through which group or unit it is open to this person. */
  readonly through?: Through;
}

/** Under which name the facts hold the people whose records an opening opens. */
export const openingKey = (id: string) => `opening ${id}`;

/** Somebody stands in for another: what these permissions give the other, it gives them too, on the other's records. */
export interface StandingIn {
  readonly of: { readonly userId: string; readonly name: string };
  readonly permissions: readonly string[];
  /** What the other holds themselves. */
  readonly facts: Facts;
}

/** Somebody looks as another. Nothing is changed, and what the viewer does not reach is not shown. */
export interface Look {
  readonly id: string;
  readonly by: { readonly userId: string; readonly name: string };
  /** What says that it may be tried is carried out, and taken back. */
  readonly tries?: true;
  /** Something is being tried: it reaches what both reach. */
  readonly trying?: true;
  /** What the viewer holds. Absent for a caretaker, who sees all, unless they try; and in a browser. */
  readonly within?: Facts;
}

/** What the library knows of one subject in one tenant: everything that a decision rests on besides the charter. */
export interface Facts {
  /** Hash of the charter under which these facts were read. */
  readonly charter: string;
  readonly tenant: {
    readonly id: string;
    readonly name: string;
    readonly open: boolean;
    /** The line that tells a refused person whom to ask. */
    readonly contact: string | null;
    /** Features of the tenant's plan. */
    readonly features: readonly string[];
    /** By kind, what the tenant has chosen for the reach `base`. */
    readonly bases?: Readonly<Record<string, string>>;
  };
  /**
   * As the charter calls them: a visitor is not signed in; `signedIn` is signed in and no member here. A suspended member can do nothing; a caretaker comes from the platform for
   * a limited time.
   */
  readonly subject: 'visitor' | 'signedIn' | 'member' | 'suspended' | 'caretaker';
  /** What a caretaker may do besides looking. */
  readonly care?: { readonly id: string; readonly may: readonly string[] };
  /** Set where the person looks as these facts say, and is somebody else. */
  readonly look?: Look;
  /** By which of its ways in the application was asked. */
  readonly channel?: string;
  /** A program that came in by a key: a member that holds what it was given, and nothing that every member holds. */
  readonly program?: true;
  readonly me: {
    readonly userId?: string;
    readonly name?: string;
    readonly groupIds: readonly string[];
    readonly unitIds: readonly string[];
    readonly attributes: Readonly<Record<string, unknown>>;
  };
  readonly assignments: readonly Held<Assignment>[];
  readonly direct?: readonly Held<DirectPermission>[];
  readonly opened?: readonly OpenedRecords[];
  /** For whom the person stands in at this moment. Absent in a browser. */
  readonly standsFor?: readonly StandingIn[];
  /** What they may do in the place of others, as far as these may, where the facts of these are not here. */
  readonly inPlace?: readonly string[];
  /** Roles of the tenant's own that the assignments name, with those that they include. */
  readonly roles?: Readonly<Record<string, RoleData>>;
  /** For each unit in which the person is placed or holds a role: it and all units below. Absent in a browser. */
  readonly below?: Readonly<Record<string, readonly string[]>>;
  /**
   * For each group of the person: its people, where a rule of the charter asks for it; for each opening, under {@link openingKey}: whose
   * records it opens. Absent in a browser.
   */
  readonly people?: Readonly<Record<string, readonly string[]>>;
  /** What the tenant asks of the person's sign-in and is not met, by name with its sentence: before it is, they do nothing there. */
  readonly demands?: Readonly<Record<string, string>>;
  /** Obligations that the person has met. */
  readonly fulfilled: readonly string[];
  /** ISO 8601: the earliest moment at which something of this ends by itself. */
  readonly endsAt?: string;
  /** ISO 8601; after it, nothing that rests on these facts counts. */
  readonly expiresAt?: string;
}

/** The facts about somebody alone, without who else is where: of what comes to them by that, it is known that it may. */
export function withoutOthers({ below: _unitTree, people: _others, standsFor = [], ...facts }: Facts): Facts {
  const inPlace = [...new Set(standsFor.flatMap(({ permissions }) => permissions))];
  return { ...facts, ...(inPlace.length > 0 && { inPlace }) };
}

/** What a browser gets to know: the facts about the person alone, without units and other people, and with an end. */
export type Snapshot = Omit<Facts, 'below' | 'people' | 'standsFor'> & { readonly expiresAt: string };

/** The charter as it stands in the tenant of these facts. */
export function charterOf<T extends CharterTypes>(charter: Charter<T>, { roles, tenant: { bases } }: Facts): Charter<T> {
  return roles || bases ? charter.withRoles(roles ?? {}, bases) : charter;
}
