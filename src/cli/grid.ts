import Table from 'cli-table3';
import type { Charter } from '../charter/index.js';
import { roleLabel } from '../membership/index.js';
import { escapeMarkdown } from '../rehearsal/index.js';
import { anchorWords, type HeldPermission, reachWord } from '../standing/index.js';

/** A table for a terminal. @param widths of the columns, where long cells are to be broken. */
export function grid(head: readonly string[], rows: readonly (readonly string[])[], widths?: readonly number[]): string {
  const table = new Table({
    chars: { mid: '', 'left-mid': '', 'mid-mid': '', 'right-mid': '' },
    style: { head: [], border: [] },
    head: [...head],
    ...(widths && { colWidths: [...widths], wordWrap: true, wrapOnWordBoundary: false }),
  });
  table.push(...rows.map((row) => [...row]));
  return table.toString();
}

/** A table as Markdown. */
export function markdown(head: readonly string[], rows: readonly (readonly string[])[]): string {
  const line = (cells: readonly string[]) => `| ${cells.map(escapeMarkdown).join(' | ')} |`;
  return [line(head), line(head.map(() => '---')), ...rows.map(line)].join('\n');
}

/** The same answer for a terminal, a program, or a page. */
export function answer(format: 'text' | 'json' | 'md', data: unknown, head: readonly string[], rows: readonly (readonly string[])[]): string {
  return format === 'json' ? JSON.stringify(data, null, 2) : (format === 'md' ? markdown : grid)(head, rows);
}

export const HELD = ['may', 'how far', 'by'] as const;

/** What somebody holds, a row for each way by which it comes. */
export function heldRows(permissions: readonly HeldPermission[], charter: Charter<any>): string[][] {
  const by = (path: HeldPermission['ways'][number]['path']) => {
    const through = 'through' in path && path.through ? ` through ${path.through.on} ${path.through.name}` : '';
    if (path.by === 'role') return `role ${roleLabel(charter, path.role)}${through}`;
    if (path.by === 'deputy') return `standing in for ${path.name}`;
    if (path.by === 'opening') return `opened by ${path.group}${through}`;
    return `${{ direct: 'given alone', keyholder: 'full control', everyMember: 'every member', signedIn: 'whoever is signed in', visitor: 'everybody', caretaker: 'looking after it' }[path.by]}${through}`;
  };
  return permissions.flatMap((held) =>
    held.ways.map(({ reach, anchor, path }, i) => {
      const place = anchorWords(anchor);
      return [i === 0 ? held.label : '', `${reachWord(reach, charter.permission(held.permission))}${place === undefined ? '' : ` in ${place}`}`, by(path)];
    }),
  );
}

/** `1 route`, `12 routes`. */
export const counted = (number: number, one: string, many = `${one}s`): string => `${number} ${number === 1 ? one : many}`;
