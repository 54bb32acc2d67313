import { sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import { KEYHOLDER, nameNow } from '../../charter/index.js';
import type { Assignment, DirectPermission } from '../../standing/index.js';
import { type Change, type Handlers, insistOn, insistOnRules } from '../change/index.js';
import { anchorColumns, assignmentOf, existing, insistOnGiving } from '../held/index.js';
import { type Holder, isLastingIn, type Touched } from '../terms/index.js';

/** The columns of an assignment that say who holds it. */
export function holderColumns(holder: Holder): Readonly<Record<'user_id' | 'group_id' | 'unit_id', string | null>> {
  return {
    user_id: 'user' in holder ? holder.user : null,
    group_id: 'group' in holder ? holder.group : null,
    unit_id: 'unit' in holder ? holder.unit : null,
  };
}

/** An assignment `a` is of this holder. */
function isOf(tenantId: string, holder: Holder) {
  const [on, id] = 'user' in holder ? ['user', holder.user] : 'group' in holder ? ['group', holder.group] : ['unit', holder.unit];
  return sql<boolean>`(a.tenant_id = ${tenantId} and a.holder_id = ${id} and a.holder_on = ${on})`;
}

/** The people behind what stands before it as `holder (via, id)`: themselves, those in a group, those placed at a unit or below. */
export const peopleOfHolders = (tenantId: string) => sql`select id as user_id from holder where via = 'user'
    union select g.user_id from holder h join lintel_group_member g on g.tenant_id = ${tenantId} and g.group_id = h.id where h.via = 'group'
    union select p.user_id from holder h join lintel_unit_below b on b.tenant_id = ${tenantId} and b.above_id = h.id
      join lintel_placement p on p.tenant_id = ${tenantId} and p.unit_id = b.below_id where h.via = 'unit'`;

export function touchesHolder(holder: Holder): Touched {
  return 'user' in holder ? { users: [holder.user] } : 'group' in holder ? { groups: [holder.group] } : { units: [holder.unit] };
}

/** @throws LintelError `not-found` unless there is such a member, group or unit in the tenant. */
export async function insistOnHolder({ tx, tenantId }: Change, holder: Holder): Promise<void> {
  const [table, column, id, what] =
    'user' in holder
      ? (['lintel_member', 'user_id', holder.user, 'member'] as const)
      : 'group' in holder
        ? (['lintel_group', 'id', holder.group, 'group'] as const)
        : (['lintel_unit', 'id', holder.unit, 'unit'] as const);
  const found = await tx
    .selectFrom(table as 'lintel_group')
    .select('tenant_id')
    .where('tenant_id', '=', tenantId)
    .where(column as 'id', '=', id)
    .executeTakeFirst();
  if (!found) throw new LintelError('not-found', `There is no such ${what}.`, {});
}

/** @throws LintelError `keyholder-alone` for a program. */
async function insistOnNoProgram({ tx, tenantId }: Change, user: string): Promise<void> {
  const found = await tx.selectFrom('lintel_member').select('responsible_id').where('tenant_id', '=', tenantId).where('user_id', '=', user).executeTakeFirst();
  if (found && found.responsible_id !== null) throw new LintelError('keyholder-alone', 'Full control is held by a person, never by a program.', {});
}

/** What makes two assignments the same. */
const keyOf = ({ role, anchor, until, without }: Assignment) => JSON.stringify([role, anchorColumns('', anchor), until ?? null, [...(without ?? [])].sort()]);

/** An anchor in an event: ids alone. */
const placeOf = ({ anchor }: { readonly anchor: Assignment['anchor'] }) =>
  anchor.on === 'tenant' ? { on: 'tenant' } : { [anchor.on]: anchor.on === 'unit' ? anchor.unitId : `${anchor.kind}:${anchor.id}` };
const more = ({ until }: { readonly until?: string }) => (until === undefined ? {} : { until });

/** Roles as an event holds them. */
export const rolesOnRecord = (roles: readonly Assignment[]) =>
  roles.map((r) => ({ role: r.role, ...placeOf(r), ...more(r), ...(r.without && { without: r.without }) }));

export function readUntil(until: string | undefined, { at }: Change): Date | null {
  if (until === undefined) return null;
  const moment = new Date(until);
  if (Number.isNaN(moment.getTime()) || moment <= at) throw new LintelError('bad-end', `“${until}” is no moment to come; write it as 2027-01-31T00:00:00Z`, {});
  return moment;
}

/** @throws LintelError `no-such-unit`, `no-such-kind` for an anchor that is not there. */
async function insistOnAnchors({ tx, tenantId, setting, at }: Change, held: readonly { readonly anchor: Assignment['anchor'] }[]): Promise<void> {
  const unitIds = [...new Set(held.flatMap(({ anchor }) => (anchor.on === 'unit' ? [anchor.unitId] : [])))];
  const known = await existing(tx, tenantId, 'unit', unitIds, at.getTime());
  if (known.length !== unitIds.length) throw new LintelError('no-such-unit', 'One of the units where this is to hold does not exist.', { unitIds });
  for (const { anchor } of held) if (anchor.on === 'record') setting.charter.kind(anchor.kind);
}

export const keyholderEnds = () =>
  new LintelError('keyholder-ends', 'Neither full control nor the membership of whoever holds it ends by itself: somebody always holds it.', {});

/** The rows that hold assignments; each is checked. @throws LintelError `keyholder-ends`, and as what is checked. */
export async function assignmentRows(change: Change, roles: readonly Assignment[]) {
  if (roles.some(({ role, until }) => role === KEYHOLDER && until !== undefined)) throw keyholderEnds();
  await insistOnAnchors(change, roles);
  const rows = roles.map((r) => ({
    role: r.role,
    ...anchorColumns(change.tenantId, r.anchor),
    until: readUntil(r.until, change),
    without: r.without ?? [],
  }));
  return onceEach(rows);
}

/** The same, said twice, is once. @throws LintelError `said-twice` where the two differ in their end or in what is left out. */
function onceEach<
  R extends { readonly role?: string; readonly permission?: string; readonly reach?: string; readonly anchor: string; readonly anchor_id: string },
>(rows: readonly R[]): R[] {
  const once = new Map<string, R>();
  for (const row of rows) {
    const { role, permission, reach, anchor, anchor_id } = row;
    const key = JSON.stringify([role, permission, reach, anchor, anchor_id]);
    const other = once.get(key);
    if (other && JSON.stringify(other) !== JSON.stringify(row))
      throw new LintelError('said-twice', `“${role ?? permission}” is given twice at the same place, and not alike; say it once`, {});
    once.set(key, row);
  }
  return [...once.values()];
}

/** @param by whose: what sources give that go on saying so; or all but that. Left out: all. */
export async function rolesHeld({ tx, tenantId, setting }: Change, holder: Holder, by?: 'lasting' | 'people'): Promise<Assignment[]> {
  const rows = await tx
    .selectFrom('lintel_assignment as a')
    .select(['role', 'anchor', 'anchor_id', 'until', 'without'])
    // What several sources give alike is held once.
    .distinct()
    .where(isOf(tenantId, holder))
    .where('role', 'is not', null)
    .$if(by !== undefined, (qb) => qb.where(isLastingIn('source'), '=', by === 'lasting'))
    .orderBy('role')
    .orderBy('anchor_id')
    .execute();
  return rows.map((row) => assignmentOf({ ...row, role: nameNow(setting.charter, row.role as string) }));
}

/** What stays keeps the source by which it came; what is new is somebody's gift here. */
async function replace(change: Change, holder: Holder, what: 'role' | 'permission', rows: readonly object[]): Promise<void> {
  const { tx, tenantId } = change;
  const columns = holderColumns(holder);
  const wanted = sql`json_populate_recordset(null::lintel_assignment, ${JSON.stringify(rows.map((row) => ({ tenant_id: tenantId, ...columns, without: [], ...row })))}) w`;
  const ofHolder = isOf(tenantId, holder);
  const alike = sql`(a.role, a.permission, a.reach, a.anchor, a.anchor_id, a.until, a.without) is not distinct from (w.role, w.permission, w.reach, w.anchor, w.anchor_id, w.until, w.without)`;
  await sql`delete from lintel_assignment a where ${ofHolder} and a.${sql.ref(what)} is not null and not ${isLastingIn('a.source')} and not exists (select from ${wanted} where ${alike})`.execute(
    tx,
  );
  await sql`insert into lintel_assignment (tenant_id, user_id, group_id, unit_id, role, permission, reach, anchor, anchor_id, until, without)
    select w.tenant_id, w.user_id, w.group_id, w.unit_id, w.role, w.permission, w.reach, w.anchor, w.anchor_id, w.until, w.without
    from ${wanted} where not exists (select from lintel_assignment a where ${ofHolder} and ${alike})`.execute(tx);
}

export const holderSteps: Handlers<'set-roles' | 'set-permissions'> = {
  'set-roles': {
    // To give up what is one's own takes no permission.
    needs: ({ holder }, { actor }) => ('user' in holder && holder.user === actor.userId && actor.facts.subject === 'member' ? undefined : 'member.assign'),
    touches: ({ holder }) => touchesHolder(holder),
    run: async (change, { holder, roles }) => {
      const { actor } = change;
      await insistOnHolder(change, holder);
      const before = await rolesHeld(change, holder, 'people');
      const lasting = await rolesHeld(change, holder, 'lasting');
      const [had, wanted] = [new Set([...before, ...lasting].map(keyOf)), new Set(roles.map(keyOf))];
      const given = roles.filter((r) => !had.has(keyOf(r)));
      const taken = before.filter((r) => !wanted.has(keyOf(r)));
      const own = 'user' in holder && holder.user === actor.userId;
      // Somebody may step down by another role; what they gain by it is judged with all the rest.
      if (own && given.length > 0) insistOn(change, 'member.assign');
      if (!('user' in holder) && roles.some((r) => r.role === KEYHOLDER))
        throw new LintelError('keyholder-alone', 'Full control is held by a person, not through a group or a unit.', {});
      if ('user' in holder && given.some((r) => r.role === KEYHOLDER)) await insistOnNoProgram(change, holder.user);
      if ('user' in holder && given.length > 0) insistOnRules(change, [...roles, ...lasting.filter((r) => !wanted.has(keyOf(r)))]);
      if (!own) insistOnGiving(change.giver, given);
      for (const { role, without = [] } of given) insistOnParts(change, role, without);
      // What the charter no longer knows gives nothing, so anybody who may change roles can take it away.
      if (!own)
        insistOnGiving(
          change.giver,
          taken
            .filter((r) => r.role === KEYHOLDER || Object.hasOwn(actor.charter.data.roles, r.role))
            // To take away is judged by what one holds now.
            .map((r) => ({ ...r, until: change.at.toISOString() })),
        );
      await replace(change, holder, 'role', await assignmentRows(change, roles));
      return { what: 'roles changed', event: { ...holder, after: rolesOnRecord(roles) }, was: { before: rolesOnRecord(before) } };
    },
  },
  'set-permissions': {
    needs: () => 'member.assign',
    touches: ({ holder }) => touchesHolder(holder),
    run: async (change, { holder, permissions }) => {
      await insistOnHolder(change, holder);
      const places = permissions.map(({ anchor }) => anchorColumns(change.tenantId, anchor));
      await insistOnAnchors(change, permissions);
      for (const { permission, reach, anchor } of permissions) {
        const { label, kind, perUnit } = change.actor.charter.permission(permission);
        if (kind === undefined && anchor.on !== 'tenant' && !(anchor.on === 'unit' && perUnit))
          throw new LintelError(
            'anchor-gives-nothing',
            `“${label}” is about no record, and gives nothing ${anchor.on === 'unit' ? 'at a unit' : 'on a record'}; give it for the whole organisation`,
            { permission },
          );
        const reaches = change.actor.charter.reachesOf(permission);
        if (!reaches.includes(reach))
          throw new LintelError('unknown-reach', `“${label}” has no reach “${reach}”; it can be given for ${reaches.join(', ')}`, {});
      }
      const rows = permissions.map((p, i) => ({
        permission: p.permission,
        reach: p.reach,
        ...(places[i] as (typeof places)[number]),
        until: readUntil(p.until, change),
      }));
      await replace(change, holder, 'permission', onceEach(rows));
      const after = permissions.map((p: DirectPermission) => ({ permission: p.permission, reach: p.reach, ...placeOf(p), ...more(p) }));
      return { what: 'permissions changed', event: { ...holder, after } };
    },
  },
};

/** @throws LintelError `not-in-role` for a permission that is to be left out and that the role does not have. */
function insistOnParts({ actor }: Change, role: string, without: readonly string[]): void {
  const parts = new Set(actor.charter.resolveRole(role).grants.map(({ permission }) => permission));
  const foreign = without.find((permission) => !parts.has(permission));
  if (foreign !== undefined)
    throw new LintelError('not-in-role', `the role “${actor.charter.role(role).label}” does not hold “${foreign}”, so it cannot be left out`, { role });
}
