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

export interface Assignment {
  readonly role: string;
  readonly anchor: Anchor;
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
  };
  /** A visitor is not signed in; a guest is signed in and no member here; a suspended member can do nothing. */
  readonly subject: 'visitor' | 'guest' | 'member' | 'suspended';
  readonly me: {
    readonly userId?: string;
    readonly name?: string;
    readonly groupIds: readonly string[];
    readonly unitIds: readonly string[];
    readonly attributes: Readonly<Record<string, unknown>>;
  };
  readonly assignments: readonly Assignment[];
  /** For each unit in which the person is placed or holds a role: it and all units below. Absent in a browser. */
  readonly below?: Readonly<Record<string, readonly string[]>>;
  /** For each group of the person: its people. Absent in a browser, and where no rule of the charter asks for it. */
  readonly people?: Readonly<Record<string, readonly string[]>>;
  /** Obligations that the person has met. */
  readonly fulfilled: readonly string[];
  /** ISO 8601; after it, nothing that rests on these facts counts. */
  readonly expiresAt?: string;
}

/** What a browser gets to know: the facts about the person alone, without units and other people, and with an end. */
export type Snapshot = Omit<Facts, 'below' | 'people'> & { readonly expiresAt: string };
