import { CHOOSE, type Charter, followedFields, KEYHOLDER, type Permission } from '../charter/index.js';
import { type KindShape, NEVER, or, type Predicate, readValue } from '../predicate/index.js';
import {
  type Anchor,
  type Assignment,
  anchorWords,
  type DirectPermission,
  type Facts,
  type Held,
  type OpenedRecords,
  openingKey,
  type Through,
  type Way,
} from './facts.js';

/** The way by which a permission comes to somebody. */
export type Path =
  | { readonly by: 'keyholder' }
  | ({ readonly by: 'role'; readonly role: string; readonly included: readonly string[] } & Way)
  | ({ readonly by: 'direct' } & Way)
  | { readonly by: 'opening'; readonly opening: string; readonly group: string; readonly through?: Through }
  | { readonly by: 'deputy'; readonly of: string; readonly name: string }
  | { readonly by: 'everyMember' | 'signedIn' | 'visitor' | 'caretaker' };

/** One permission, held with one reach, at one anchor, by one path. */
export interface Grant {
  readonly permission: string;
  readonly reach: string;
  readonly anchor: Anchor;
  readonly path: Path;
  /** Which records, where that is not what a reach of the charter says. */
  readonly only?: Predicate;
}

const AT_TENANT: Anchor = { on: 'tenant' };

/** True for the permission that is asked about; for every one where none is. */
const isAsked = (permission: string, asked: string | undefined) => asked === undefined || asked === permission;

function fromMay(charter: Charter, by: 'everyMember' | 'signedIn' | 'visitor', asked?: string): Grant[] {
  const may = charter.data[by];
  return (asked === undefined ? Object.keys(may) : Object.hasOwn(may, asked) ? [asked] : []).flatMap((permission) =>
    (may[permission] as readonly string[]).map((reach) => ({ permission, reach: charter.reachMeant(permission, reach), anchor: AT_TENANT, path: { by } })),
  );
}

/**
 * The roles that a charter itself gives to a subject, and those assigned, as single grants. A role that is gone gives none.
 *
 * @param asked only the grants of this permission. A request asks about a few, and to make the others takes longer than to answer.
 */
export function grantsOf(charter: Charter, facts: Facts, asked?: string): Grant[] {
  switch (facts.subject) {
    case 'visitor':
    case 'signedIn':
      return fromMay(charter, facts.subject, asked);
    case 'suspended':
      return [];
    case 'caretaker':
      return forCare(charter, facts.care?.may ?? [], asked);
    case 'member':
      return [
        ...facts.assignments.flatMap((held) => (held.role === KEYHOLDER ? fullControl(charter, held.anchor, asked) : fromRole(charter, held, asked))),
        ...(facts.direct ?? []).filter((held) => isAsked(held.permission, asked) && charter.knows(held)).map((held) => fromDirect(charter, held)),
        ...(facts.opened ?? []).flatMap((opened) => fromOpening(charter, opened, asked)),
        ...(facts.program ? [] : fromMay(charter, 'everyMember', asked)),
      ];
  }
}

/** What a role gives at an anchor. */
export function fromRole(charter: Charter, { role, anchor, without = [], until: _, ...way }: Held<Assignment>, asked?: string): Grant[] {
  return charter
    .resolveRole(role)
    .grants.filter(({ permission }) => isAsked(permission, asked) && !without.includes(permission))
    .map(({ permission, reach, included }) => ({
      permission,
      reach: charter.reachMeant(permission, reach),
      anchor,
      path: { by: 'role', role, included, ...way },
    }));
}

function fromDirect(charter: Charter, { permission, reach, anchor, until: _, ...way }: Held<DirectPermission>): Grant {
  return { permission, reach: charter.reachMeant(permission, reach), anchor, path: { by: 'direct', ...way } };
}

/** An opening gives its actions on what people of the group own, wherever it lies. In a browser it is not known who they are. */
function fromOpening(charter: Charter, { id, kind, actions, group, ...way }: OpenedRecords, asked?: string): Grant[] {
  const field = Object.hasOwn(charter.data.kinds, kind) ? charter.fieldWith(kind, 'owner') : undefined;
  if (field === undefined) return [];
  const only: Predicate = { op: 'among', field, to: { value: [openingKey(id)] } };
  const path: Path = { by: 'opening', opening: id, group: group.name, ...way };
  return actions
    .filter((action) => isAsked(`${kind}.${action}`, asked) && charter.permissions.has(`${kind}.${action}`))
    .map((action) => ({ permission: `${kind}.${action}`, reach: 'opened', anchor: AT_TENANT, path, only }));
}

/** Which records of a kind a grant reaches, by its rule alone. */
export function ruleOf(charter: Charter, kind: string, { reach, only }: Pick<Grant, 'reach' | 'only'>): Predicate {
  return only ?? charter.reach(kind, reach);
}

const whole = (charter: Charter, permission: Permission, by: 'keyholder' | 'caretaker'): Grant => ({
  permission: permission.name,
  reach: permission.kind ? charter.widestReach(permission.kind) : 'tenant',
  anchor: AT_TENANT,
  path: { by },
});

const permissionsAsked = (charter: Charter, asked: string | undefined) =>
  asked === undefined ? [...charter.permissions.values()] : charter.permissions.has(asked) ? [charter.permission(asked)] : [];

function fullControl(charter: Charter, anchor: Anchor, asked?: string): Grant[] {
  if (anchor.on !== 'tenant') return [];
  return permissionsAsked(charter, asked).map((p) => whole(charter, p, 'keyholder'));
}

/** A caretaker reads every record, and does what was named; so is a field seen that shows by an action of its own. */
function forCare(charter: Charter, may: readonly string[], asked?: string): Grant[] {
  return permissionsAsked(charter, asked)
    .filter((p) => may.includes(p.name) || p.action === 'read' || (!p.kind && onlyLooks(charter, p)))
    .map((p) => whole(charter, p, 'caretaker'));
}

/** True for what changes nothing: reading, choosing, an area, a look at people. A field that is shown by an action that also changes something is not. */
export function onlyLooks(charter: Charter, { name, kind, action }: Permission): boolean {
  if (!kind) return /^area\.|^(member|audit)\.read$/.test(name);
  const fields = Object.values(charter.kind(kind).fields);
  return action === 'read' || action === CHOOSE || (fields.some((f) => f.read === action) && !fields.some((f) => f.change === action));
}

/** Which records of a kind an anchor covers: those whose unit, or whose parent's, lies at or below it; the record itself, and what follows it. */
export function anchorPredicate(charter: Charter, kind: string, anchor: Anchor): Predicate {
  if (anchor.on === 'tenant') return { op: 'always' };
  const ways: Predicate[] = [];
  if (anchor.on === 'record') {
    const { idField, fields } = charter.shapes[kind] as KindShape;
    const value = anchor.kind === kind ? readValue(fields[idField]?.type ?? 'text', anchor.id) : undefined;
    if (value !== undefined) ways.push({ op: 'is', field: idField, to: { value } });
  } else {
    const field = charter.fieldWith(kind, 'unit');
    // guard unit-anchor by agree: A role at a unit would cover records elsewhere.
    if (field) ways.push(/* guard unit-anchor (replaced) */ { op: 'within', field, to: { value: [anchor.unitId] } });
  }
  for (const via of followedFields(charter.kind(kind))) {
    const where = anchorPredicate(charter, charter.kind(kind).fields[via]?.to as string, anchor);
    if (where.op !== 'never') ways.push({ op: 'parent', via, where });
  }
  return ways.length === 0 ? NEVER : or(...ways);
}

/** How far a reach is called to go: what is about no record is held, or not. */
export function reachWord(reach: string, { kind }: Permission): string {
  if (kind === undefined && reach === 'tenant') return 'yes';
  return reach === 'tenant' || reach === 'shared' ? 'all' : reach;
}

/** How far a permission extends, one way each, in words: `all`, `own`, `all in Orchard side`; `yes` where it is about no record. */
export function wayWords(ways: readonly Pick<Grant, 'reach' | 'anchor' | 'path'>[], permission: Permission): string[] {
  const lines = ways.map(({ reach, anchor, path }) => {
    const how = reachWord(reach, permission);
    if (path.by === 'deputy' && how !== 'all') return `${how} of ${path.name}`;
    const place = anchorWords(anchor);
    return place !== undefined && (path.by === 'role' || path.by === 'direct') ? `${how} in ${place}` : how;
  });
  // Whoever reaches all reaches the rest by that.
  const whole = ['all', 'yes'].find((line) => lines.includes(line));
  return whole ? [whole] : [...new Set(lines)];
}
