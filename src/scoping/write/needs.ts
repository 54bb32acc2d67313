import type { ColumnUpdateNode, OperationNode } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { FieldData } from '../../charter/index.js';
import type { Scalar } from '../../predicate/index.js';
import { type Fragment, joinFragments, sqlText, verbatim } from '../fragment.js';
import { refuse } from '../read/refuse.js';
import { fitting } from './fitting.js';
import type { Target } from './target.js';

/** One action that an update needs, with the fields that need it. */
export interface Need {
  readonly action: string | undefined;
  readonly fields: readonly string[];
  /** Set when this is a change of the owner: the new one. */
  readonly owner?: Scalar | null;
}

/** A value that is given as it is; undefined for one that is worked out. */
export function constant(node: OperationNode | undefined): unknown {
  return node?.kind === 'ValueNode' ? (node as { value?: unknown }).value : undefined;
}

/** The id that a value is, as the field holds it. @throws LintelError `scope-refused` for one that is worked out; `bad-value`. */
export function constantId(target: Target, field: string, node: OperationNode | undefined): Scalar | null {
  const value = constant(node);
  if (value === undefined) refuse(`a value of ${field} that is not plain`, 'give the id itself');
  return fitting(target, field, value) as Scalar | null;
}

/** The actions that an update needs, one for each guarded field and `update` for the rest. A column that is set counts as changed. */
export function needsOf(target: Target, updates: readonly ColumnUpdateNode[]): Need[] {
  const fields = updates.map((update) => ({ field: target.fieldOf(update.column), value: update.value }));
  const owner = fields.find(({ field }) => target.fields[field]?.role === 'owner');
  if (owner) {
    if (fields.length > 1) refuse('a new owner together with other changes', 'hand the record over in a statement of its own');
    return [{ action: target.fields[owner.field]?.change, owner: constantId(target, owner.field, owner.value), fields: [owner.field] }];
  }
  const byAction = new Map<string, string[]>();
  for (const { field } of fields) {
    const data = target.fields[field] as FieldData;
    if (data.role === 'id' || data.role === 'tenant' || data.role === 'maker') {
      throw new LintelError('field-set-by-library', `${field} of a ${target.kind} never changes; leave it out of the update`, { field });
    }
    if ((data.role === 'unit' || data.role === 'group' || data.role === 'parent') && data.change === undefined) {
      refuse(`a change of ${field}`, 'declare in the charter which action changes it: { change: "move" }');
    }
    const action = data.change ?? 'update';
    byAction.set(action, [...(byAction.get(action) ?? []), field]);
  }
  return [...byAction].map(([action, names]) => ({ action, fields: names }));
}

/** The rows that a need reaches, as they are before. */
export function before(target: Target, { action, owner, fields }: Need, alias: string): Fragment {
  if (owner === undefined) return target.boundary.reached(target.kind, action as string, alias);
  const handOver = action === undefined ? verbatim('false') : target.reachedBy(action, alias);
  if (owner === null || owner !== target.meIn(fields[0] as string)) return sqlText`(${handOver})`;
  // To take what nobody owns is an ordinary update; two at once meet at the row, and the second finds it owned.
  const column = target.boundary.writer.column(target.shape, fields[0] as string, alias);
  return sqlText`((${column} is null and ${target.reachedBy('update', alias)}) or (${handOver}))`;
}

export const allBefore = (target: Target, needs: readonly Need[], alias = target.alias) =>
  joinFragments(
    needs.map((need) => before(target, need, alias)),
    ' and ',
  );
