import { type ExplainedGrant, type Explanation, reachBy } from '../explaining/index.js';
import { inSentence } from '../standing/index.js';
import { type Colours, grid, plain } from '../terminal/index.js';
import type { Standout } from './stray.js';
import type { AccessTable, Cell, Section } from './table.js';

const NOTHING = '·';
const NAME_WIDTH = 26;
const CELL_WIDTH = 14;

const headingOf = (name: string, total: number | null) => (total === null ? name : `${name} (${total} records)`);

/** Places that are too long for a cell become notes below the table. */
class Notes {
  readonly #lines: string[] = [];

  mark(way: string): string {
    const [how, place] = way.split(' in ');
    if (place === undefined) return way;
    const line = `only in ${place}`;
    if (!this.#lines.includes(line)) this.#lines.push(line);
    return `${how} [${this.#lines.indexOf(line) + 1}]`;
  }

  get lines(): string[] {
    return this.#lines.map((line, i) => `[${i + 1}] ${line}`);
  }
}

function cellLines(cell: Cell, notes: Notes, colours: Colours): string {
  if (cell.ways.length === 0) return colours.dim(NOTHING);
  const lines = cell.ways.map((way) => notes.mark(way));
  return `${lines.join('\n')}${cell.count === null ? '' : ` ${colours.dim(String(cell.count))}`}`;
}

/** What stands out among the records of a section, a line each. */
export function strayLines({ stray }: Section): string[] {
  if (!stray) return [];
  const { unread, left, crowded } = stray;
  const told = (found: Standout, what: string) => {
    if (found.count === 0) return [];
    const some = found.some.map(({ id, label }) => label ?? String(id)).join(', ');
    return [`${found.count} ${what}: ${some}${found.count > found.some.length ? ', …' : ''}`];
  };
  return [
    ...(unread ? told(unread, 'read by nobody but keyholders') : ['read by nobody but keyholders: not counted']),
    ...(left ? told(left, 'owned by people who left') : []),
    ...(crowded === undefined ? [] : [crowded ? `${crowded.count} read by more than ${crowded.most} people` : 'read by more than that: not counted']),
  ];
}

/** The columns of a section in as many pieces as the width takes. */
function pieces<T>(all: readonly T[], width: number): { from: number; items: readonly T[] }[] {
  const fit = Math.max(1, Math.floor((width - NAME_WIDTH) / CELL_WIDTH));
  return Array.from({ length: Math.ceil(all.length / fit) }, (_, i) => ({ from: i * fit, items: all.slice(i * fit, (i + 1) * fit) }));
}

/**
 * The table for a terminal: a grid for each section, subjects down, actions across.
 *
 * @param width columns of the terminal; a wide section is set in several pieces. Default 160.
 */
export function printTable(table: AccessTable, colours: Colours = plain, width = 160): string {
  const notes = new Notes();
  const title = `Access${table.tenant ? ` in ${table.tenant}` : ''}, by ${table.by === 'people' ? 'person' : 'role'}`;
  const grids = table.sections.flatMap((section) =>
    pieces(section.permissions, width).map(({ from, items }, at, all) => {
      const head = ['', ...items.map(({ short }) => short)];
      const rows = section.rows.map(({ subject, cells }) => {
        const name = subject.line ? `${subject.name}\n${colours.dim(subject.line)}` : subject.name;
        return [name, ...cells.slice(from, from + items.length).map((cell) => cellLines(cell, notes, colours))];
      });
      const set = grid(head, rows, { colours, widths: [NAME_WIDTH, ...items.map(() => CELL_WIDTH)] });
      const stray = at === all.length - 1 ? strayLines(section) : [];
      return [colours.bold(headingOf(section.name, section.total)), set, ...stray.map((one) => colours.magenta(one))].join('\n');
    }),
  );
  const reached = table.by === 'people' ? 'records reached now' : 'records that holders of the role reach now';
  const counted = table.sections.some((s) => s.total !== null) ? `, a number: ${reached}` : '';
  const legend = `${NOTHING} not at all, all: every record of the organisation${counted}`;
  return [colours.bold(title), ...grids, colours.dim([legend, ...notes.lines].join('\n'))].join('\n\n');
}

/** A text as Markdown shows it, in one line. */
export const escapeMarkdown = (text: string) => text.replace(/[\\|*_`<>[\]]/g, (c) => `\\${c}`).replaceAll('\n', ' ');

/** The table as Markdown, a table for each section. */
export function tableMarkdown(table: AccessTable): string {
  const parts = table.sections.map((section) => {
    const head = ['', ...section.permissions.map((p) => escapeMarkdown(p.short))];
    const rows = section.rows.map(({ subject, cells }) => [
      escapeMarkdown(subject.name),
      ...cells.map((cell) => (cell.ways.length === 0 ? '–' : escapeMarkdown(`${cell.ways.join(', ')}${cell.count === null ? '' : ` (${cell.count})`}`))),
    ]);
    const line = (cells: readonly string[]) => `| ${cells.join(' | ')} |`;
    const stray = strayLines(section).map((one) => `- ${escapeMarkdown(one)}`);
    const lines = [`## ${escapeMarkdown(headingOf(section.name, section.total))}`, '', line(head), line(head.map(() => '---')), ...rows.map(line)];
    return [...lines, ...(stray.length > 0 ? ['', ...stray] : [])].join('\n');
  });
  return [`# Access${table.tenant ? ` in ${escapeMarkdown(table.tenant)}` : ''}`, ...parts].join('\n\n');
}

function grantLines(grant: ExplainedGrant, colours: Colours): string[] {
  const mark = { yes: colours.green('yes'), no: colours.red('no '), 'not loaded': colours.magenta('?  ') }[grant.holds];
  const reach = grant.reach === 'tenant' || grant.reach === 'shared' ? 'all records' : grant.reach;
  const rule = grant.where === 'always' || grant.where === 'never' ? '' : colours.dim(`  where ${grant.where}`);
  return [`  ${mark}  ${reachBy(reach, grant.by)}${rule}`, ...grant.failed.map((line) => `       but ${line}`)];
}

function headline(e: Explanation): string {
  const record = e.record ? `: ${e.record.label ? `${e.record.label} (${e.record.id})` : e.record.id}` : '';
  return `${e.who.name} ${e.allowed ? 'may' : 'may not'} ${inSentence(e.action.label)}${record}`;
}

/** An explanation for a terminal. */
export function printExplanation(e: Explanation, colours: Colours = plain): string {
  const looked = (grants: readonly ExplainedGrant[], name: string, none: string) =>
    grants.length === 0 ? [] : [`${name}${none}`, ...grants.flatMap((g) => grantLines(g, colours))];
  return [
    colours.bold(headline(e)),
    colours.dim(`in ${e.tenant}, as ${e.who.powers}`),
    '',
    `Because ${e.reason}.`,
    '',
    ...(e.grants.length === 0 && e.outcome === 'no grant' ? [`${e.action.name}: no grant`] : looked(e.grants, e.action.name, '')),
    ...looked(e.readGrants, `${e.action.name.split('.')[0]}.read`, ', on which it rests'),
    ...(e.allowed ? [] : ['', `They are told: ${e.told}`]),
    ...(e.ask.length === 0 ? [] : [`Who could change it: ${e.ask.join(', ')}`]),
  ].join('\n');
}

/** An explanation as Markdown. */
export function explanationMarkdown(e: Explanation): string {
  const row = (g: ExplainedGrant) => `| ${g.holds} | ${escapeMarkdown(g.reach)} | ${escapeMarkdown(g.by)} | ${escapeMarkdown(g.failed.join('; '))} |`;
  const grants = [...e.grants, ...e.readGrants];
  return [
    `**${escapeMarkdown(headline(e))}** in ${escapeMarkdown(e.tenant)}, because ${escapeMarkdown(e.reason)}.`,
    ...(grants.length === 0 ? [] : ['', '| extends to it | reach | by | but |', '| --- | --- | --- | --- |', ...grants.map(row)]),
    ...(e.allowed ? [] : ['', `They are told: ${escapeMarkdown(e.told)}`]),
    ...(e.ask.length === 0 ? [] : ['', `Who could change it: ${escapeMarkdown(e.ask.join(', '))}`]),
  ].join('\n');
}
