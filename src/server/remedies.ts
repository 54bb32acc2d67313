import { entryOf } from '../base/index.js';
import { type Charter, restsOnRead } from '../charter/index.js';
import type { GroupView, Proposal, Proposed, Step, UnitView } from '../membership/index.js';
import type { RecordData } from '../predicate/index.js';
import { type Anchor, type Assignment, anchorWords, type Decision, type DirectPermission, type Facts, type Held, Standing } from '../standing/index.js';

/** Something that would make a refused action allowed. */
export interface Remedy {
  /** `give the role Keeper for this record`. */
  readonly words: string;
  /** Changes of the membership. Absent for a change of the record itself. */
  readonly steps?: readonly Step[];
  /** A field of the record that would have to hold this value. */
  readonly change?: { readonly field: string; readonly value: unknown };
  /** What it would open besides: permissions that somebody gains, and records that come to be reached by them, each time counted. */
  readonly opens?: { readonly permissions: number; readonly records: number };
  /** Why the asking person may not make it themselves; undefined where they may. */
  readonly refused?: string;
  /** What it does, to be shown and carried out: for who may make it. */
  readonly proposal?: Proposal;
}

/** What was looked for: what is so now, and what would change it, the least that it opens first. */
export interface Remedies {
  readonly decision: Decision;
  /** A limit, a plan or another cause that no change of somebody's powers takes away. */
  readonly cause?: string;
  readonly remedies: readonly Remedy[];
}

interface Candidate {
  readonly words: string;
  readonly steps: readonly Step[];
  /** What somebody would hold by it, where that is known without trying it. */
  readonly holding?: Facts;
}

const own = <A extends object>(held: readonly Held<A>[]): A[] =>
  held.filter(({ through }) => through === undefined).map(({ through: _, sources: __, ...given }) => given as unknown as A);
const placeWords = (anchor: Anchor) => (anchor.on === 'record' ? 'for this record' : `for ${anchorWords(anchor) ?? 'the whole organisation'}`);
const bare = (anchor: Anchor): Anchor => (anchor.on === 'unit' ? { on: 'unit', unitId: anchor.unitId } : anchor);

/** Changes of the membership by which somebody could come to an action on a record: each is still to be tried, but for those of which it is known that they do not help. */
export function candidates(
  charter: Charter<any>,
  facts: Facts,
  action: string,
  record: RecordData | undefined,
  around: { readonly groups: readonly GroupView[]; readonly units: readonly UnitView[] },
): Candidate[] {
  const found = record ? forRecord(charter, facts, action, record, around) : forTenant(charter, facts, action, around);
  return found.filter(({ holding }) => !holding || allowedBy(charter, holding, action, record));
}

const heldAlone = (held: readonly Held<DirectPermission>[]): DirectPermission[] =>
  own<DirectPermission>(held).map((one) => ({ ...one, anchor: bare(one.anchor) }));

/** Into which groups somebody could be taken. */
const joining = (user: string, groups: readonly GroupView[]): Candidate[] =>
  groups.flatMap(({ id, name, people }) => {
    const ids = people.map((one) => one.id);
    return ids.includes(user) ? [] : [{ words: `take them into the group ${name}`, steps: [{ do: 'set-group', id, people: [...ids, user] } as const] }];
  });

/** By which changes somebody could come to what is about no record, or about one that is to be made. */
function forTenant(
  charter: Charter<any>,
  facts: Facts,
  action: string,
  { groups, units }: { readonly groups: readonly GroupView[]; readonly units: readonly UnitView[] },
): Candidate[] {
  const user = facts.me.userId as string;
  const { kind, perUnit } = charter.permission(action);
  const anchor = { on: 'tenant' } as const;
  const roles = own<Assignment>(facts.assignments).map((held) => ({ ...held, anchor: bare(held.anchor) }));
  const given = Object.entries(charter.data.roles).flatMap(([role, { label }]): Candidate[] => {
    if (!charter.resolveRole(role).grants.some(({ permission }) => permission === action)) return [];
    if (roles.some((held) => held.role === role && held.anchor.on === 'tenant')) return [];
    const holding = { ...facts, assignments: [...facts.assignments, { role, anchor }] };
    return [
      { words: `give the role ${label} ${placeWords(anchor)}`, steps: [{ do: 'set-roles', holder: { user }, roles: [...roles, { role, anchor }] }], holding },
    ];
  });
  const permission: DirectPermission = { permission: action, reach: kind ? charter.widestReach(kind) : 'tenant', anchor };
  const places = perUnit ? units.filter(({ id }) => !facts.me.unitIds.includes(id)) : [];
  return [
    ...given,
    {
      words: 'give it alone',
      steps: [{ do: 'set-permissions', holder: { user }, permissions: [...heldAlone(facts.direct ?? []), permission] }],
      holding: { ...facts, direct: [...(facts.direct ?? []), permission] },
    },
    ...joining(user, groups),
    ...places.map(({ id, name }): Candidate => ({ words: `place them at ${name}`, steps: [{ do: 'place', user, units: [...facts.me.unitIds, id] }] })),
    ...(facts.subject === 'suspended' ? [{ words: 'bring them back', steps: [{ do: 'restore', user } as const] }] : []),
  ];
}

function forRecord(
  charter: Charter<any>,
  facts: Facts,
  action: string,
  record: RecordData,
  { groups, units }: { readonly groups: readonly GroupView[]; readonly units: readonly UnitView[] },
): Candidate[] {
  const { kind, action: name } = charter.permission(action) as { kind: string; action: string };
  const user = facts.me.userId as string;
  const id = String(record[charter.shapes[kind]?.idField as string]);
  const unitField = charter.fieldWith(kind, 'unit');
  const unit = unitField === undefined ? null : (record[unitField] as string | null);
  const anchors: Anchor[] = [{ on: 'record', kind, id }, ...(unit === null ? [] : [{ on: 'unit', unitId: unit } as const]), { on: 'tenant' }];
  const unitName = units.find((one) => one.id === unit)?.name ?? unit ?? '';
  const place = (anchor: Anchor) => placeWords(anchor.on === 'unit' ? { ...anchor, name: unitName } : anchor);
  const roles = own<Assignment>(facts.assignments).map((held) => ({ ...held, anchor: bare(held.anchor) }));
  // Whoever comes to hold something for a unit has at least the records of the unit itself.
  const standing = { ...facts, ...(unit !== null && { below: { ...facts.below, [unit]: entryOf(facts.below, unit) ?? [unit] } }) };
  const found: Candidate[] = [];
  for (const [role, { label }] of Object.entries(charter.data.roles)) {
    if (!charter.resolveRole(role).grants.some(({ permission }) => permission === action || permission === `${kind}.read`)) continue;
    for (const anchor of anchors) {
      if (roles.some((held) => held.role === role && JSON.stringify(held.anchor) === JSON.stringify(anchor))) continue;
      found.push({
        words: `give the role ${label} ${place(anchor)}`,
        steps: [{ do: 'set-roles', holder: { user }, roles: [...roles, { role, anchor }] }],
        holding: { ...standing, assignments: [...facts.assignments, { role, anchor }] },
      });
    }
  }
  const wanted = restsOnRead(name) ? [action, `${kind}.read`] : [action];
  const direct = heldAlone(facts.direct ?? []);
  const permissions = wanted.map((permission): DirectPermission => ({ permission, reach: charter.widestReach(kind), anchor: { on: 'record', kind, id } }));
  const without = direct.filter(
    (held) => !permissions.some((p) => p.permission === held.permission && p.reach === held.reach && JSON.stringify(p.anchor) === JSON.stringify(held.anchor)),
  );
  found.push({
    words: 'give it for this record alone',
    steps: [{ do: 'set-permissions', holder: { user }, permissions: [...without, ...permissions] }],
    holding: { ...facts, direct: [...(facts.direct ?? []), ...permissions] },
  });
  if (unit !== null && !facts.me.unitIds.includes(unit))
    found.push({ words: `place them at ${unitName}`, steps: [{ do: 'place', user, units: [...facts.me.unitIds, unit] }] });
  const ownerField = charter.fieldWith(kind, 'owner');
  const owner = ownerField === undefined ? null : record[ownerField];
  found.push(...joining(user, groups));
  for (const { id: group, name: called, people } of groups) {
    const ids = people.map((one) => one.id);
    if (owner !== null && ids.includes(String(owner)) && owner !== user)
      found.push({
        words: `open to them what people of ${called} own`,
        steps: [{ do: 'open-records', group, to: { user }, kind, actions: [...new Set(wanted.map((one) => one.split('.')[1] as string))], keeps: false }],
      });
  }
  if (facts.subject === 'suspended') found.push({ words: 'bring them back', steps: [{ do: 'restore', user }] });
  return found;
}

/** What candidates are tried by, several at a time. */
export interface Trials {
  /** What each would do, as the asking person. */
  propose(many: readonly (readonly Step[])[]): Promise<Proposed[]>;
  /** What somebody would hold by each if somebody made it who may all; undefined where it cannot be. */
  attempt(many: readonly (readonly Step[])[]): Promise<(Facts | undefined)[]>;
  allowed(facts: Facts, charter?: Charter<any>): boolean;
}

/** Of the candidates those that help, each with what it would do. What is known to help is looked at once; what may touch many people is tried on this one first. */
export async function helpful(all: readonly Candidate[], user: string, { propose, attempt, allowed }: Trials): Promise<(Candidate & Proposed)[]> {
  const steps = (some: readonly Candidate[]) => some.map((one) => one.steps);
  const known = all.filter(({ holding }) => holding);
  const looked = new Map((await propose(steps(known))).map((proposed, i) => [known[i], proposed]));
  const seen = (one: Candidate) => (looked.get(one)?.proposal.problems.length === 0 ? looked.get(one)?.after.get(user) : undefined);
  const unseen = all.filter((one) => !seen(one));
  const tried = new Map((await attempt(steps(unseen))).map((facts, i) => [unseen[i], facts]));
  const helps = all.filter((one) => {
    const [reading, facts] = [seen(one), tried.get(one)];
    return reading ? allowed(reading.facts, reading.charter) : facts !== undefined && allowed(facts);
  });
  const later = helps.filter((one) => !looked.has(one));
  for (const [i, proposed] of (await propose(steps(later))).entries()) looked.set(later[i], proposed);
  return helps.map((one) => ({ ...one, ...(looked.get(one) as Proposed) }));
}

/** Changes of the record by which somebody would come to an action on it: handing it over, or adding them to a list of people. */
export function changesOfRecord(standing: Standing<any>, action: string, record: RecordData): Remedy[] {
  const { kind } = standing.charter.permission(action) as { kind: string };
  const user = standing.userId as string;
  return Object.entries(standing.charter.kind(kind).fields).flatMap(([field, { role, label }]): Remedy[] => {
    if (role !== 'owner' && role !== 'people') return [];
    const value = role === 'owner' ? user : [...new Set([...((record[field] as string[] | undefined) ?? []), user])];
    if (!standing.may(action, { ...record, [field]: value } as never)) return [];
    return [{ words: role === 'owner' ? `make them its ${label ?? 'owner'}` : `add them to its ${label ?? field}`, change: { field, value } }];
  });
}

const CAUSES: Partial<Record<Decision['outcome'], string>> = {
  limit: 'a limit holds, whatever somebody holds',
  obligation: 'they have something to do first',
  plan: 'the plan of the organisation lacks it',
  'other channel': 'it is done from elsewhere',
  missing: 'there is no such record here',
};

/** What stands in the way besides somebody's powers. */
export const causeOf = ({ outcome, rule }: Decision): string | undefined => CAUSES[outcome] && `${CAUSES[outcome]}${rule === undefined ? '' : ` (${rule})`}`;

/** What a proposal opens: to everybody to whom something happens. */
export function opensOf({ effects }: Proposal): { readonly permissions: number; readonly records: number } {
  const gained = effects.flatMap(({ permissions, people }) =>
    permissions.filter(({ change }) => change !== 'loses').map((p) => ({ ...p, people: people.count })),
  );
  return {
    permissions: gained.reduce((sum, { people }) => sum + people, 0),
    records: gained.reduce((sum, { records }) => sum + Math.max(0, (records?.becomes ?? 0) - (records?.was ?? 0)), 0),
  };
}

export const allowedBy = (charter: Charter<any>, facts: Facts, action: string, record: RecordData | undefined): boolean =>
  new Standing(charter, facts).may(action, record as never);
