import type { FieldData } from '../../charter/index.js';
import { readEach, type Scalar } from '../../predicate/index.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { isRegistered, type Registered } from '../support.js';
import { MARK } from './failure.js';
import type { Need } from './needs.js';
import { type Target, WRITTEN } from './target.js';

/** A check on each row as it becomes; a row that fails makes the whole statement fail. */
export interface AfterCheck {
  /** Comes back in the database's error, so that the cause can be told. */
  readonly sign: string;
  readonly holds: Fragment;
}

/** What a write names of the membership. */
export interface Named {
  /** People other than the writer to whom it gives records: each must be able to read what they get, which is so where this holds of it as it becomes. Absent for who is no active member. */
  readonly owners: ReadonlyMap<Scalar, Fragment | undefined>;
  /** Where the membership is kept in another database: the named people, units and groups that there are. */
  readonly existing?: Readonly<Record<Registered, readonly string[]>>;
}

export const NOBODY: Named = { owners: new Map() };

/** Zero for a row that passes; for one that does not, a cast that must fail. It names the row, so that no planner works it out beforehand. */
export function failOn(target: Target, checks: readonly AfterCheck[]): Fragment {
  if (checks.length === 0) return verbatim('0');
  const id = target.column(target.shape.idField);
  const whens = checks.map(({ sign, holds }) => sqlText`when (${holds}) is not true then cast('${verbatim(MARK + sign)}:' || ${id}::text as integer)`);
  return sqlText`case ${joinFragments(whens, ' ')} else 0 end`;
}

/** Which check fails, as the sign of it. */
export function failedOf(checks: readonly AfterCheck[]): Fragment {
  const whens = checks.map(({ sign, holds }) => sqlText`when (${holds}) is not true then ${sign}`);
  return sqlText`case ${joinFragments(whens, ' ')} end`;
}

/** Writes nothing to the rows of which a check fails, and so counts them: of the moment in which it stands, where a plain read may be of an earlier one. */
export function failing(target: Target, checks: readonly AfterCheck[], rows: Fragment): Fragment {
  const all = joinFragments(
    checks.map(({ holds }) => sqlText`(${holds})`),
    ' and ',
  );
  const id = target.column(target.shape.idField);
  return sqlText`update ${target.table} as ${name(WRITTEN)} set ${id} = ${id} where ${rows} and (${all}) is not true`;
}

function reaches(target: Target, action: string): AfterCheck {
  return { sign: `reach ${target.kind}`, holds: target.boundary.reached(target.kind, action, WRITTEN, 'after') };
}

/** What has to hold of rows that an update changed. */
export function updateChecks(target: Target, needs: readonly Need[], named: Named): AfterCheck[] {
  return needs.flatMap(({ action, owner, fields }): AfterCheck[] => {
    const values = fields.flatMap((field) => valueCheck(target, field, named));
    // guard after-image-in-reach by agree: A row could be changed into one that is out of reach.
    if (owner === undefined) return [...values, /* guard after-image-in-reach */ reaches(target, action as string)];
    if (owner === null || owner !== target.meIn(fields[0] as string)) return [...values, ...limitsAfter(target, action)];
    const ways = ['update', ...(action === undefined ? [] : [action])].map((a) => sqlText`(${target.reachedBy(a, WRITTEN, 'after')})`);
    return [...values, { sign: `reach ${target.kind}`, holds: joinFragments(ways, ' or ') }];
  });
}

/** A handover ends the giver's reach, but limits bind the record as it becomes too. */
function limitsAfter(target: Target, action: string | undefined): AfterCheck[] {
  if (action === undefined) return [];
  return [{ sign: `reach ${target.kind}`, holds: target.boundary.unlimited(target.kind, action, WRITTEN) }];
}

/** What has to hold of rows that were made, with values in these fields. */
export function makingChecks(target: Target, given: readonly string[], named: Named): AfterCheck[] {
  const { kind, boundary } = target;
  const guards = given.flatMap((field): AfterCheck[] => {
    const { role, change } = target.fields[field] as FieldData;
    if (change === undefined && role !== 'owner') return [];
    const column = target.column(field);
    const needless =
      role === 'owner'
        ? sqlText`${column} is null or ${boundary.writer.equals(column, target.meIn(field), target.shapeOf(field))}`
        : sqlText`${column} is null`;
    const allowed = change === undefined ? verbatim('false') : boundary.reached(kind, change, WRITTEN, 'after');
    return [{ sign: `guard ${kind} ${field}`, holds: sqlText`${needless} or (${allowed})` }];
  });
  return [...given.flatMap((field) => valueCheck(target, field, named)), ...guards, { ...reaches(target, 'create'), sign: `make ${kind}` }];
}

/** A parent, unit, group or person that is written must be one that there is for the writer; an owner must be able to read what they get. */
function valueCheck(target: Target, field: string, named: Named): AfterCheck[] {
  const { kind, boundary } = target;
  const { role, to } = target.fields[field] as FieldData;
  const { writer, support } = boundary;
  const column = target.column(field);
  const sign = `value ${kind} ${field}`;
  if (isRegistered(role)) return [{ sign, holds: sqlText`${column} is null or ${exists(target, role, field, named)}` }];
  // guard written-parent-readable by agree: A row could be put below a parent that the writer may not read.
  if (role === 'parent') return [{ sign, holds: sqlText`${column} is null or ${boundary.parentReadable(kind, field, to as string, WRITTEN)}` }];
  if (role !== 'owner') return [];
  const others = [...named.owners].map(([id, reads]) => {
    const member = support.conditions?.person(column) ?? verbatim(reads ? 'true' : 'false');
    return sqlText`(${writer.equals(column, id, target.shapeOf(field))} and ${member} and ${reads ?? verbatim('false')})`;
  });
  const me = sqlText`${column} is null or ${writer.equals(column, target.meIn(field), target.shapeOf(field))}`;
  return [{ sign, holds: joinFragments([me, ...others], ' or ') }];
}

/** The person, unit or group that a field names is there for the tenant. */
function exists(target: Target, what: Registered, field: string, named: Named): Fragment {
  const { support, writer } = target.boundary;
  if (support.conditions) return support.conditions[what](target.column(field));
  const shape = target.shapeOf(field);
  const there = readEach(shape.type, named.existing?.[what] ?? []);
  return writer.writeList(target.column(field), there, shape);
}

/** What is worked out by the database is held to what its field takes when it is there. */
export function fitCheck(target: Target, field: string): AfterCheck[] {
  const column = target.column(field);
  const fits = target.boundary.writer.fits(column, target.shapeOf(field), target.fields[field]?.options);
  return fits ? [{ sign: `fit ${target.kind} ${field}`, holds: sqlText`${column} is null or (${fits})` }] : [];
}
