import type { PermissionWords } from './data.js';

/** The library's own operations on a tenant: permissions like any other, checked by the same engine. */
const OPERATIONS = {
  'tenant.rename': { label: 'Rename the organisation' },
  'tenant.rule': { label: 'Set the rules of the organisation' },
  'tenant.close': { label: 'Close the organisation' },
  'unit.arrange': { label: 'Arrange the units', needs: ['member.read'] },
  'group.arrange': { label: 'Arrange the groups', needs: ['member.read'] },
  'role.arrange': { label: 'Arrange the roles', needs: ['member.read'] },
  'member.read': { label: 'See the members' },
  'member.invite': { label: 'Invite people', needs: ['member.read'] },
  'member.enrol': { label: 'Enrol people', needs: ['member.read'] },
  'member.assign': { label: 'Change roles', needs: ['member.read'] },
  'deputy.name': { label: 'Name a deputy' },
  'member.suspend': { label: 'Suspend members', needs: ['member.read'] },
  'member.remove': { label: 'Remove members', needs: ['member.read'] },
  'program.arrange': { label: 'Arrange programs', needs: ['member.read'] },
  'directory.write': { label: 'Write as a directory' },
  'access.look': { label: 'Look as somebody else', needs: ['member.read'], was: ['access.view'] },
  'access.ask': { label: 'Ask about the access of others', needs: ['member.read'] },
  'audit.read': { label: 'Read the record of changes' },
} as const satisfies Record<string, PermissionWords>;

/** Operations on the platform: they are there where the charter says `platform`, and count in the tenant that is the platform. */
const PLATFORM_OPERATIONS = {
  'platform.tenants': { label: 'Open and close organisations', section: 'Platform' },
  'platform.care': { label: 'Look after organisations', section: 'Platform' },
  'platform.people': { label: 'Close or erase people', section: 'Platform' },
} as const satisfies Record<string, PermissionWords>;

/** Operations of the library, with those on the platform where the charter says so. */
export const operationsOf = (platform: boolean): Readonly<Record<string, PermissionWords>> => ({ ...OPERATIONS, ...(platform && PLATFORM_OPERATIONS) });

export type Operation = keyof typeof OPERATIONS | keyof typeof PLATFORM_OPERATIONS;

/** Operations that are about people, and so can extend to some of them only. */
export const ABOUT_PEOPLE = ['member.read', 'audit.read', 'access.ask'] as const;
export type AboutPeople = (typeof ABOUT_PEOPLE)[number];

/** To whom these extend, the widest first: everybody; who is placed where one is placed, or below; who shares a group; oneself. Or whoever holds a role: `role.inspector`. Each holds oneself. */
export const PEOPLE_REACHES = ['tenant', 'units', 'groups', 'self'] as const;

/** The role of full control. It holds every permission at `tenant`, comes with every charter, and cannot be changed. */
export const KEYHOLDER = 'keyholder';

/** Before the name of a role, as a reach: to whoever holds it. */
export const HOLDERS = 'role.';

/** Reaches with which an operation can be given, the widest first. */
export const reachesOfOperation = (name: string, roles: object): string[] =>
  (ABOUT_PEOPLE as readonly string[]).includes(name) ? [...PEOPLE_REACHES, ...[KEYHOLDER, ...Object.keys(roles)].map((role) => HOLDERS + role)] : ['tenant'];

/** Names that a kind cannot take, since permissions already begin with them. */
export const RESERVED_KINDS: readonly string[] = ['area', ...new Set(Object.keys(operationsOf(true)).map((name) => name.split('.')[0] as string))];

/** An action that shows a record's id and label and no more: enough to name it as a parent. */
export const CHOOSE = 'choose';

/** True for an action that reaches at most what `read` reaches: all but reading, making, and choosing without reading. */
export function restsOnRead(action: string | undefined): boolean {
  return action !== 'read' && action !== 'create' && action !== CHOOSE;
}
