import type { RoleData } from '../../charter/index.js';
import type { Assignment, Demands, DirectPermission } from '../../standing/index.js';
import type { AdmissionRule, ClaimNames, ConnectionTerms } from './admission.js';

/** Who holds something: a member; the people of a group; or those placed at a unit or below. */
export type Holder = { readonly user: string } | { readonly group: string } | { readonly unit: string };

/** A role of a tenant's own, as it is made or changed. What is left out is nothing. */
export type RoleInput = Pick<RoleData, 'label'> & Partial<Omit<RoleData, 'label'>>;

/** Who may come in without an invitation. What is left out is not so. */
export interface Joining {
  /** Whoever is signed in may ask to be let in. */
  readonly asks?: boolean;
  /** Domains of addresses: `alderbrook.example`. */
  readonly domains?: readonly string[];
  /** Only addresses of these domains come in, by whatever way; members stay. */
  readonly only?: boolean;
  /** People with a proven address of these domains come in by themselves, with `roles`. */
  readonly open?: boolean;
  readonly roles?: readonly Assignment[];
}

/** What somebody gets besides roles when they come in. What is left out is none. */
export interface Gives {
  readonly groups?: readonly string[];
  /** Units in which they are placed. */
  readonly units?: readonly string[];
  readonly permissions?: readonly DirectPermission[];
  /** Facts that the charter declares. */
  readonly attributes?: Readonly<Record<string, unknown>>;
}

/** One change of a tenant's membership, as a value: it can be sent, shown, proposed, and carried out together with others. */
export type Step =
  /** Replaces what roles a holder has, in one step. It takes `member.assign`; to give up one’s own takes nothing. */
  | { readonly do: 'set-roles'; readonly holder: Holder; readonly roles: readonly Assignment[] }
  /** Replaces the permissions that a holder has beside any role. */
  | { readonly do: 'set-permissions'; readonly holder: Holder; readonly permissions: readonly DirectPermission[] }
  /** Makes a role of the tenant’s own. What is left out of it is nothing. */
  | { readonly do: 'make-role'; readonly id?: string; readonly role: RoleInput }
  /** Replaces a role of the tenant’s own. Whoever holds it holds what it is now. */
  | { readonly do: 'edit-role'; readonly id: string; readonly role: RoleInput }
  /** Drops a role of the tenant’s own. `instead`: the role that its holders get; null: none. It must be said where somebody holds it. */
  | { readonly do: 'drop-role'; readonly id: string; readonly instead?: string | null }
  /** Makes a group, with people in it where they are named. */
  | { readonly do: 'make-group'; readonly id?: string; readonly name: string; readonly people?: readonly string[] }
  /** Gives a group another name. */
  | { readonly do: 'rename-group'; readonly id: string; readonly name: string }
  /** Replaces the people of a group. */
  | { readonly do: 'set-group'; readonly id: string; readonly people: readonly string[] }
  /** Drops a group, with all that its people held by it and what was opened to it. */
  | { readonly do: 'drop-group'; readonly id: string }
  /** Adds a unit. Without `below`: at the top. */
  | { readonly do: 'add-unit'; readonly id?: string; readonly name: string; readonly below?: string }
  /** Gives a unit another name. */
  | { readonly do: 'rename-unit'; readonly id: string; readonly name: string }
  /** Moves a unit below another. Members and records move along, since they name the unit. `below` null: to the top. */
  | { readonly do: 'move-unit'; readonly id: string; readonly below: string | null }
  /** Replaces the units at which a member is placed. */
  | { readonly do: 'place'; readonly user: string; readonly units: readonly string[] }
  /**
   * Says facts about a member that the charter declares, those that are named; null takes one back. What a source says stays beside. A member says of themselves what the
   * charter lets members say.
   */
  | { readonly do: 'set-attributes'; readonly user: string; readonly attributes: Readonly<Record<string, unknown>> }
  /** Suspends a member: they can do nothing, and nothing of theirs is lost. `until`, ISO 8601: ends by itself. */
  | { readonly do: 'suspend'; readonly user: string; readonly until?: string }
  /** Brings a suspended member back, with all that they held. */
  | { readonly do: 'restore'; readonly user: string }
  /** Sets when a membership ends by itself, ISO 8601; null: it does not. */
  | { readonly do: 'set-end'; readonly user: string; readonly at: string | null }
  /** Removes a member: roles, groups, places and lists go, so that nothing comes back with them. Their records stay theirs until they are handed over. */
  | { readonly do: 'remove'; readonly user: string }
  /** Removes whoever asks. It takes nothing. */
  | { readonly do: 'leave' }
  /** Takes a program in: it holds what it is given, comes in by keys, and is suspended with the member who answers for it. */
  | { readonly do: 'make-program'; readonly id?: string; readonly name: string; readonly responsible: string }
  /** Says which member answers for a program from now on. */
  | { readonly do: 'entrust-program'; readonly program: string; readonly responsible: string }
  /** Makes a key for a program; it is answered once. `ends`, ISO 8601: at most a year ahead; by default 90 days. To change keys, make another and end the first later. */
  | { readonly do: 'make-key'; readonly program: string; readonly label?: string; readonly ends?: string }
  /** Ends a key. `at`, ISO 8601: later, for an overlap. Without: now. */
  | { readonly do: 'end-key'; readonly key: string; readonly at?: string }
  /** Opens records of a kind that people of a group own, for these actions. `keeps`: also when an owner leaves the group later. */
  | {
      readonly do: 'open-records';
      readonly id?: string;
      readonly group: string;
      readonly to: Holder;
      readonly kind: string;
      readonly actions: readonly string[];
      readonly keeps: boolean;
      readonly until?: string;
    }
  /** Closes what was opened. */
  | { readonly do: 'close-records'; readonly id: string }
  /** Lets `to` do on the records of `of` what these permissions let `of` do, from `since` (now) until `until`, ISO 8601. Again for the two: instead. It takes
   * `deputy.name` for oneself, `member.assign` for another. */
  | {
      readonly do: 'name-deputy';
      readonly of: string;
      readonly to: string;
      readonly permissions: readonly string[];
      readonly since?: string;
      readonly until: string;
    }
  /** Ends that somebody stands in for another. Each of the two may do it. */
  | { readonly do: 'end-deputy'; readonly of: string; readonly to: string }
  /** Gives the tenant another name, or says whom its people are to ask. */
  | { readonly do: 'rename-tenant'; readonly name?: string; readonly contact?: string }
  /** Closes the tenant for everybody. Whoever runs the platform can open it again. */
  | { readonly do: 'close-tenant' }
  /** Sets the rules of the tenant. What is left out stays as it is. */
  | {
      readonly do: 'set-rules';
      /** At most one role a member. */
      readonly oneRole?: boolean;
      readonly joining?: Joining;
      /** By kind, which reach is meant by `base`: one of those that the charter lets the tenant choose. */
      readonly bases?: Readonly<Record<string, string>>;
      /** What is asked of every member's sign-in before anything else; all of it anew. */
      readonly demands?: Demands;
    }
  /** Invites an address. `memberUntil`, ISO 8601: when the membership that comes of it ends by itself. For many at once there is `invitations.send`. What comes with it takes the right that its own
   * step takes, now and when it is accepted. */
  | ({ readonly do: 'invite'; readonly address: string; readonly name?: string; readonly roles: readonly Assignment[]; readonly memberUntil?: string } & Gives)
  /**
   * Prepares for somebody who comes by a provider: nobody is sent anything, no seat is taken. It is taken up at their first sign-in, once, where the provider says that it has looked at the address, whose
   * domain was shown to be ours and is sent to it. It is listed with the invitations, expires and is withdrawn as they are.
   */
  | ({ readonly do: 'expect'; readonly address: string; readonly name?: string; readonly roles: readonly Assignment[]; readonly memberUntil?: string } & Gives)
  /**
   * Makes somebody a member at once, by an account that the organisation keeps: it enters no other. The way in is answered once, as `secret`, to hand over: it counts for seven days,
   * and for one use. `memberUntil`, ISO 8601: when the membership ends by itself.
   */
  | {
      readonly do: 'enrol';
      readonly id?: string;
      readonly address: string;
      readonly name: string;
      readonly roles: readonly Assignment[];
      readonly memberUntil?: string;
    }
  /** A new way in to an account that the organisation keeps, in the place of the one before: whoever uses it chooses a new password. */
  | { readonly do: 'make-activation'; readonly user: string }
  /** Before they do anything here, they choose a new password. */
  | { readonly do: 'ask-password'; readonly user: string }
  /** Sends an invitation again, with a new link and a new term; the old link is dead. */
  | { readonly do: 'send-again'; readonly invitation: string }
  /** Takes a pending invitation back. */
  | { readonly do: 'withdraw'; readonly invitation: string }
  /** Lets somebody in who asked to be, with these roles. */
  | { readonly do: 'let-in'; readonly user: string; readonly roles: readonly Assignment[] }
  /** Answers somebody with no who asked to be let in. */
  | { readonly do: 'turn-away'; readonly user: string }
  /** Prepares a provider by which people sign in, as a draft. Its rules say who comes in, and with what: without any nobody gets anything. This and
   * all that is about providers and domains takes full control, and a proof of one’s own that was given lately. */
  | {
      readonly do: 'make-connection';
      readonly id?: string;
      readonly name: string;
      readonly terms: ConnectionTerms;
      readonly claims?: ClaimNames;
      readonly rules?: readonly AdmissionRule[];
    }
  /** Changes a provider. What is left out stays as it is. Of one that is on, the rules are tried with claims first. */
  | {
      readonly do: 'edit-connection';
      readonly id: string;
      readonly name?: string;
      readonly terms?: ConnectionTerms;
      readonly claims?: ClaimNames;
      readonly rules?: readonly AdmissionRule[];
    }
  /** Turns a provider on or off. `on`: people come in by it, once it was tried with claims as it is. `off`: nobody does, and who is signed in by it is out. */
  | { readonly do: 'turn-connection'; readonly id: string; readonly to: 'on' | 'off' }
  /** Drops a provider. What came by it goes; who came by it stays a member, and gets in by other ways alone. */
  | { readonly do: 'drop-connection'; readonly id: string }
  /** Says that a mail domain is ours: it counts once that is shown, by a record in the DNS. */
  | { readonly do: 'claim-domain'; readonly domain: string }
  /** People of a domain that was shown to be ours are sent to this connection; null: to none. */
  | { readonly do: 'send-domain'; readonly domain: string; readonly connection: string | null }
  /** Says that a mail domain is ours no longer. */
  | { readonly do: 'give-up-domain'; readonly domain: string }
  /** Lets somebody who was removed here come in again by a connection. */
  | { readonly do: 'unbar'; readonly connection: string; readonly subject: string }
  /** Hands what one member owns over to another, by kind, by the rules of scope: it takes the action that guards the owner, and the new one has to be able to read it. */
  | { readonly do: 'hand-over'; readonly from: string; readonly to: string; readonly kinds: readonly string[] };

export type StepOf<D extends Step['do']> = Extract<Step, { readonly do: D }>;

/** Whose standing a step may change: found before and after it, so that the two can be compared. */
export interface Touched {
  readonly users?: readonly string[];
  /** The people of these groups. */
  readonly groups?: readonly string[];
  /** The people placed at these units or below. */
  readonly units?: readonly string[];
  /** Whoever holds something at these units or above, and who is placed right there. */
  readonly above?: readonly string[];
  /** Those to whom records of these groups are opened. */
  readonly opened?: readonly string[];
  /** Every member. */
  readonly everybody?: boolean;
  /** Holders of these roles of the tenant's own, by whatever way. */
  readonly roles?: readonly string[];
}

/** How many records of a kind get another owner, and how many stay since the actor may not hand them over. */
export interface Handed {
  readonly kind: string;
  /** What so many of the kind are called: `hives`. */
  readonly called: string;
  readonly from: string;
  readonly to: string;
  readonly handed: number;
  readonly left: number;
}

/** What came of a step: what goes on record, and an id where something was made. */
export interface Done {
  readonly what: string;
  /** Ids and values. No names, no addresses, no free text: those are words. */
  readonly event: Readonly<Record<string, unknown>>;
  /** What was before, which goes on record with it: whoever makes a change need not know that. */
  readonly was?: Readonly<Record<string, unknown>>;
  readonly words?: Readonly<Record<string, string>>;
  readonly id?: string;
  readonly handed?: readonly Handed[];
  /** A secret that was made: it is on no record and cannot be had again. */
  readonly secret?: string;
}
