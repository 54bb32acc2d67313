import { useCallback, useMemo, useState } from 'react';
import type { Answered, Client } from '../client/index.js';
import type { NewInvitation, RoleInput } from '../server/index.js';
import type { Assignment, Decision } from '../standing/index.js';
import { type Change, useChange } from './change.js';
import { type Doing, useDoing } from './doing.js';
import { type List, useList } from './loading.js';
import { useClient, usePlace } from './place.js';
import { useStanding, useTenant } from './standing.js';

/** What one may do with a list, and why not: a decision for each of its actions, by the last part of its name. */
export type May<A extends string> = { readonly [Name in A extends `${string}.${infer Last}` ? Last : never]: Decision };

function useMay<const A extends string>(actions: readonly A[]): May<A> {
  const standing = useStanding();
  const names = actions.join();
  return useMemo(
    () => Object.fromEntries(names.split(',').map((name) => [name.slice(name.indexOf('.') + 1), standing.decide(name)])) as May<A>,
    [standing, names],
  );
}

/** A member, as it comes over HTTP. */
export type MemberItem = Answered<'listMembers'>['items'][number];
/** An invitation, as it comes over HTTP. */
export type InvitationItem = Answered<'listInvitations'>['items'][number];
/** A role with its holders, as it comes over HTTP. */
export type RoleItem = Answered<'listRoles'>['items'][number];
/** A group with its people, as it comes over HTTP. */
export type GroupItem = Answered<'listGroups'>['items'][number];
/** A unit with its people, as it comes over HTTP. */
export type UnitItem = Answered<'listUnits'>['items'][number];
/** A role that one may give, as it comes over HTTP. */
export type RoleToGiveItem = Answered<'rolesToGive'>['items'][number];
/** How an invitation that was sent came out. */
export type InvitedItem = Answered<'invite'>['answers'][number];

/** A list of the membership of the tenant that is entered. */
function useOf<I>(
  read: (client: Client, tenant: string, after: { readonly after?: string }) => Promise<{ readonly items: readonly I[]; readonly next?: string | null }>,
): List<I> {
  const client = useClient();
  const tenant = useTenant();
  return useList(
    // biome-ignore lint/correctness/useExhaustiveDependencies: the hooks below hand in what rests on the client and the tenant alone
    useCallback((after) => read(client, tenant, after === undefined ? {} : { after }), [client, tenant]),
  );
}

/** How a list changes: by a change of one's own, or one that a page has for all its lists, so that one dialog shows them. */
export interface Changing {
  /** The page’s own change, where one dialog is to show them all. */
  readonly change?: Change;
}

function useOneChange({ change }: Changing): Change {
  const own = useChange();
  return change ?? own;
}

/** What {@link useMembers} gives. */
export interface MemberList extends List<MemberItem> {
  /** What is shown before it is carried out. */
  readonly change: Change;
  /** What one may do here, and why not. */
  readonly may: May<'member.assign' | 'member.suspend' | 'member.remove' | 'member.enrol'>;
  /** Sets all roles that they hold; what is left out is taken. */
  readonly setRoles: (user: string, roles: readonly Assignment[], about?: string) => Promise<void>;
  readonly suspend: (user: string, about?: string) => Promise<void>;
  readonly restore: (user: string, about?: string) => Promise<void>;
  readonly remove: (user: string, about?: string) => Promise<void>;
}

/**
 * The members, by name, with what is done to one. Each action shows a proposal in `change`; `about` is what your page calls it.
 *
 * @param options `change`: the page's own. `limit`: members a page, at most 200, default 200. `search`: only those of whom each of these words begins a word of their name or address.
 * `order`: `name`, the default, or `newest`: who came last first.
 */
export function useMembers(options: Changing & { readonly limit?: number; readonly search?: string; readonly order?: 'name' | 'newest' } = {}): MemberList {
  const { limit = 200, search, order } = options;
  const client = useClient();
  const tenant = useTenant();
  const list = useList(useCallback((after?: string) => client.listMembers({ tenant, limit, search, order, after }), [client, tenant, limit, search, order]));
  const change = useOneChange(options);
  return {
    ...list,
    change,
    may: useMay(['member.assign', 'member.suspend', 'member.remove', 'member.enrol']),
    setRoles: (user, roles, about) => change.show([{ do: 'set-roles', holder: { user }, roles }], about),
    suspend: (user, about) => change.show([{ do: 'suspend', user }], about),
    restore: (user, about) => change.show([{ do: 'restore', user }], about),
    remove: (user, about) => change.show([{ do: 'remove', user }], about),
  };
}

/** What {@link useInvitations} gives. */
export interface InvitationList extends Omit<List<InvitationItem>, 'error'>, Doing {
  /** What one may do here, and why not. */
  readonly may: May<'member.invite'>;
  /** How each that was sent last came out, in the same order. */
  readonly answers: readonly InvitedItem[];
  /** Sends some, at most 1,000. The same press twice, or a repeat after a lost answer, invites nobody twice. */
  readonly send: (invitations: readonly NewInvitation[]) => Promise<void>;
  readonly sendAgain: (invitation: string) => Promise<void>;
  readonly withdraw: (invitation: string) => Promise<void>;
}

/** The invitations, the newest first. They are sent, sent again and withdrawn at once, without a proposal. @param options `limit` a page, at most 200, default 200. */
export function useInvitations({ limit = 200 }: { readonly limit?: number } = {}): InvitationList {
  const client = useClient();
  const tenant = useTenant();
  const { changed } = usePlace();
  const list = useOf((from, of, after) => from.listInvitations({ tenant: of, limit, ...after }));
  const [answers, setAnswers] = useState<readonly InvitedItem[]>([]);
  const [once, setOnce] = useState(() => crypto.randomUUID() as string);
  const { run, ...doing } = useDoing();
  return {
    ...list,
    ...doing,
    error: doing.error ?? list.error,
    may: useMay(['member.invite']),
    answers,
    send: (invitations) =>
      run(async () => {
        setAnswers((await client.invite({ tenant, invitations: [...invitations] }, { once })).answers);
        setOnce(crypto.randomUUID());
        changed();
      }),
    sendAgain: (invitation) => run(() => client.inviteAgain({ tenant, invitation }).then(changed)),
    withdraw: (invitation) => run(() => client.withdraw({ tenant, invitation }).then(changed)),
  };
}

/** What {@link useRoles} gives. */
export interface RoleList extends List<RoleItem> {
  /** What is shown before it is carried out. */
  readonly change: Change;
  /** What one may do here, and why not. */
  readonly may: May<'role.arrange'>;
  readonly make: (role: RoleInput, about?: string) => Promise<void>;
  /** @param id of a role of the tenant's own. */
  readonly edit: (id: string, role: RoleInput, about?: string) => Promise<void>;
  /** @param instead what its holders get in its place; default nothing. */
  readonly drop: (id: string, about?: string, instead?: string) => Promise<void>;
}

/** The roles, the keyholder's first, each with whoever holds it. @param options `change`: the page's own. */
export function useRoles(options: Changing = {}): RoleList {
  const list = useOf((client, tenant) => client.listRoles({ tenant }));
  const change = useOneChange(options);
  return {
    ...list,
    change,
    may: useMay(['role.arrange']),
    make: (role, about) => change.show([{ do: 'make-role', role }], about),
    edit: (id, role, about) => change.show([{ do: 'edit-role', id, role }], about),
    drop: (id, about, instead) => change.show([{ do: 'drop-role', id, instead: instead ?? null }], about),
  };
}

/** The roles that one may give. @param unit at which; default: for the whole tenant. */
export function useRolesToGive(unit?: string): List<RoleToGiveItem> {
  const client = useClient();
  const tenant = useTenant();
  return useList(useCallback(() => client.rolesToGive({ tenant, ...(unit !== undefined && { unit }) }), [client, tenant, unit]));
}

/** What {@link useGroups} gives. */
export interface GroupList extends List<GroupItem> {
  /** What is shown before it is carried out. */
  readonly change: Change;
  /** What one may do here, and why not. */
  readonly may: May<'group.arrange'>;
  readonly make: (name: string, people?: readonly string[], about?: string) => Promise<void>;
  /** Sets all people who are in it. */
  readonly setPeople: (id: string, people: readonly string[], about?: string) => Promise<void>;
  readonly rename: (id: string, name: string, about?: string) => Promise<void>;
  readonly drop: (id: string, about?: string) => Promise<void>;
}

/** The groups, with who is in them. @param options `change`: the page's own. */
export function useGroups(options: Changing = {}): GroupList {
  const list = useOf((client, tenant) => client.listGroups({ tenant }));
  const change = useOneChange(options);
  return {
    ...list,
    change,
    may: useMay(['group.arrange']),
    make: (name, people = [], about) => change.show([{ do: 'make-group', name, people }], about),
    setPeople: (id, people, about) => change.show([{ do: 'set-group', id, people }], about),
    rename: (id, name, about) => change.show([{ do: 'rename-group', id, name }], about),
    drop: (id, about) => change.show([{ do: 'drop-group', id }], about),
  };
}

/** What {@link useUnits} gives. */
export interface UnitList extends List<UnitItem> {
  /** What is shown before it is carried out. */
  readonly change: Change;
  /** What one may do here, and why not. */
  readonly may: May<'unit.arrange'>;
  /** @param below the unit above it; default: none is. */
  readonly add: (name: string, below?: string, about?: string) => Promise<void>;
  readonly rename: (id: string, name: string, about?: string) => Promise<void>;
  readonly move: (id: string, below: string | null, about?: string) => Promise<void>;
  /** Sets all units at which somebody is placed. */
  readonly place: (user: string, units: readonly string[], about?: string) => Promise<void>;
}

/** The units, each after the one above it, with who is placed there. @param options `change`: the page's own. */
export function useUnits(options: Changing = {}): UnitList {
  const list = useOf((client, tenant) => client.listUnits({ tenant }));
  const change = useOneChange(options);
  return {
    ...list,
    change,
    may: useMay(['unit.arrange']),
    add: (name, below, about) => change.show([{ do: 'add-unit', name, ...(below !== undefined && { below }) }], about),
    rename: (id, name, about) => change.show([{ do: 'rename-unit', id, name }], about),
    move: (id, below, about) => change.show([{ do: 'move-unit', id, below }], about),
    place: (user, units, about) => change.show([{ do: 'place', user, units }], about),
  };
}
