import { safeCell } from '../base/index.js';
import type { AccessTable } from './table.js';

/** An access table as CSV: a line for each person, or role, and each permission that they have. Cells are safe in a spreadsheet. */
export async function writeAccessFile(table: AccessTable): Promise<string> {
  const { stringify } = await import('csv-stringify/sync');
  const lines = table.sections.flatMap(({ permissions, rows }) =>
    rows.flatMap(({ subject, cells }) =>
      cells.flatMap(({ ways, count }, i) => {
        const permission = permissions[i];
        return permission && ways.length > 0
          ? [[subject.name, subject.id, permission.label, permission.name, ways.join('; '), count === null ? '' : String(count)]]
          : [];
      }),
    ),
  );
  const who = table.by === 'people' ? 'person' : 'role';
  return stringify([[who, 'id', 'may', 'permission', 'how far', 'records'], ...lines.map((line) => line.map(safeCell))]);
}
