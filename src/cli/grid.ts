import pc from 'picocolors';
import type { Charter } from '../charter/index.js';
import { roleLabel } from '../membership/index.js';
import { escapeMarkdown } from '../rehearsal/index.js';
import { anchorWords, type HeldPermission, reachWord } from '../standing/index.js';
import { grid } from '../terminal/index.js';
import type { Surroundings } from './surroundings.js';

/** A table for the terminal in which a command was called. */
export const gridFor = ({ colours, width }: Surroundings, head: readonly string[], rows: readonly (readonly string[])[]): string =>
  grid(head, rows, { width, colours: pc.createColors(colours) });

/** A table as Markdown. */
export function markdown(head: readonly string[], rows: readonly (readonly string[])[]): string {
  const line = (cells: readonly string[]) => `| ${cells.map(escapeMarkdown).join(' | ')} |`;
  return [line(head), line(head.map(() => '---')), ...rows.map(line)].join('\n');
}

/** The same answer for a terminal, a program, or a page. */
export function answer(
  around: Surroundings,
  format: 'text' | 'json' | 'md',
  data: unknown,
  head: readonly string[],
  rows: readonly (readonly string[])[],
): string {
  if (format === 'json') return JSON.stringify(data, null, 2);
  return format === 'md' ? markdown(head, rows) : gridFor(around, head, rows);
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
