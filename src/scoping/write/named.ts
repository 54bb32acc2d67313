import type { Kysely, OperationNode } from 'kysely';
import type { Scalar } from '../../predicate/index.js';
import type { Boundary } from '../boundary.js';
import { isRegistered, type Registered } from '../support.js';
import type { Named } from './checks.js';
import { constantId } from './needs.js';
import { givenFields, rowsOf } from './rows.js';
import { Target, WRITTEN, type WriteNode } from './target.js';

/** The ids that are written, by what their field is. Those of people, units and groups only where they have to be known beforehand. */
function idsIn(target: Target, node: WriteNode): Readonly<Record<'owner' | Registered, ReadonlySet<Scalar>>> {
  const ids = { owner: new Set<Scalar>(), person: new Set<Scalar>(), unit: new Set<Scalar>(), group: new Set<Scalar>() };
  const add = (field: string, value: OperationNode | undefined) => {
    const role = target.fields[field]?.role;
    if (role !== 'owner' && (target.boundary.support.conditions || !isRegistered(role))) return;
    const id = constantId(target, field, value);
    if (id !== null && !(role === 'owner' && id === target.meIn(field))) ids[role].add(id);
  };
  if (node.kind === 'UpdateQueryNode') for (const { column, value } of node.updates ?? []) add(target.fieldOf(column), value);
  if (node.kind === 'InsertQueryNode') {
    const fields = givenFields(target, node);
    for (const row of rowsOf(target, node))
      fields.forEach((field, i) => {
        if (row[i]?.kind !== 'DefaultInsertValueNode') add(field, row[i]);
      });
  }
  return ids;
}

/** Finds out about the people, units and groups that a write names. Answers undefined if it names none, so that nothing has to wait. */
export async function lookUpNamed(node: WriteNode, boundary: Boundary, db: Kysely<any>): Promise<Named | undefined> {
  if (node.kind === 'DeleteQueryNode') return undefined;
  const { support } = boundary;
  const target = new Target(boundary, node);
  const given = idsIn(target, node);
  const elsewhere = support.conditions === undefined && given.person.size + given.unit.size + given.group.size > 0;
  if (given.owner.size === 0 && !elsewhere) return undefined;
  const reads = async (id: Scalar) => {
    const them = await support.standingOf(String(id), db);
    return them && boundary.readBy(them, target.kind, WRITTEN, db);
  };
  const owners = new Map(await Promise.all([...given.owner].map(async (id) => [id, await reads(id)] as const)));
  if (!elsewhere) return { owners };
  const [person, unit, group] = await Promise.all((['person', 'unit', 'group'] as const).map((what) => support.existing(what, [...given[what]].map(String))));
  return { owners, existing: { person, unit, group } as Record<Registered, readonly string[]> };
}
