import type { Charter } from '../charter/index.js';
import { type Standing, wayWords } from '../standing/index.js';
import { meaningsOf } from './meanings.js';
import { escapeMarkdown } from './print.js';
import { NOT_AT_ALL, PLACES } from './script.js';

/** So many names stand over one table. */
const ACROSS = 8;

interface Column {
  readonly name: string;
  readonly standing: Standing<any>;
}

function table(charter: Charter<any>, by: 'person' | 'role', columns: readonly Column[]): string {
  const held = columns.map(({ standing }) => new Map(standing.describe().permissions.map((p) => [p.permission, p.ways])));
  const row = (cells: readonly string[]) => `| ${cells.join(' | ')} |`;
  const lines = [row([by, ...columns.map(({ name }) => escapeMarkdown(name))]), row(['---', ...columns.map(() => '---')])];
  if (by === 'person')
    for (const [place, fact] of Object.entries(PLACES)) {
      const ids = columns.map(({ standing: { facts } }) => facts.me[fact]);
      lines.push(row([place, ...ids.map((each) => (each.length === 0 ? NOT_AT_ALL : escapeMarkdown(each.join(', '))))]));
    }
  let section = '';
  for (const permission of charter.permissions.values()) {
    if (permission.section !== section) {
      section = permission.section;
      lines.push(row([`**${escapeMarkdown(section)}**`, ...columns.map(() => '')]));
    }
    const cells = held.map((ways) => wayWords(ways.get(permission.name) ?? [], permission));
    lines.push(row([permission.name, ...cells.map((ways) => (ways.length === 0 ? NOT_AT_ALL : escapeMarkdown(ways.join(', '))))]));
  }
  return lines.join('\n');
}

function tables(charter: Charter<any>, by: 'person' | 'role', columns: readonly Column[]): string[] {
  return columns.length === 0 ? [] : [table(charter, by, columns.slice(0, ACROSS)), ...tables(charter, by, columns.slice(ACROSS))];
}

/** The present access as a script: what it says holds now, and a change of it shows by the cells that no longer do. */
export function recordScript(charter: Charter<any>, tenant: string, roles: readonly Column[], people: readonly Column[]): string {
  return [
    `# Access in ${escapeMarkdown(tenant)}`,
    'Who may do what, and how far. `lintel rehearse` holds this file against what is so. Lines of the form “- NAME may not ACTION ID” can be added for single records.',
    '## Roles',
    ...tables(charter, 'role', roles),
    '## People',
    ...tables(charter, 'person', people),
    '## What the words mean',
    ['| rule | means |', '| --- | --- |', ...[...meaningsOf(charter)].map(([rule, means]) => `| ${escapeMarkdown(rule)} | ${escapeMarkdown(means)} |`)].join(
      '\n',
    ),
    '',
  ].join('\n\n');
}
