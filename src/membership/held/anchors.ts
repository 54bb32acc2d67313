import type { Selectable } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { Anchor, Assignment } from '../../standing/index.js';
import type { AssignmentRow } from '../terms/index.js';

/** The anchor as a standing names it. */
export function anchorOf(anchor: AssignmentRow['anchor'], id: string, name?: string | null): Anchor {
  if (anchor === 'tenant') return { on: 'tenant' };
  if (anchor === 'unit') return { on: 'unit', unitId: id, ...(name ? { name } : {}) };
  const colon = id.indexOf(':');
  return { on: 'record', kind: id.slice(0, colon), id: id.slice(colon + 1) };
}

/** The anchor as it is stored. @throws LintelError `bad-anchor`. */
export function anchorColumns(tenantId: string, anchor: Anchor): Pick<AssignmentRow, 'anchor' | 'anchor_id'> {
  if (anchor.on === 'tenant') return { anchor: 'tenant', anchor_id: tenantId };
  if (anchor.on === 'unit' && anchor.unitId !== undefined) return { anchor: 'unit', anchor_id: anchor.unitId };
  if (anchor.on === 'record' && anchor.kind !== undefined && anchor.id !== undefined) return { anchor: 'record', anchor_id: `${anchor.kind}:${anchor.id}` };
  throw new LintelError(
    'bad-anchor',
    `${JSON.stringify(anchor)} says no place; write { on: 'tenant' }, { on: 'unit', unitId: '…' } or { on: 'record', kind: '…', id: '…' }`,
    {},
  );
}

/** An assignment of a role, from its row. */
export function assignmentOf(
  row: Pick<Selectable<AssignmentRow>, 'role' | 'anchor' | 'anchor_id' | 'until' | 'without'> & { name?: string | null },
): Assignment {
  return {
    role: row.role as string,
    anchor: anchorOf(row.anchor, row.anchor_id, row.name),
    ...(row.until && { until: row.until.toISOString() }),
    ...(row.without.length > 0 && { without: row.without }),
  };
}
