import { didYouMean, LintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';

/** Who stands over a column, or at the beginning of a sentence. */
export type Actor = { readonly person: string } | { readonly role: string } | 'visitor';

/** An actor as a sentence calls them. */
export const nameOf = (actor: Actor) => (actor === 'visitor' ? 'a visitor' : 'person' in actor ? actor.person : `role ${actor.role}`);

/** How far something is expected to reach for somebody, as a table says it: `own`, `all in Orchard side`; an empty list is not at all. */
export interface ExpectedReach {
  readonly line: number;
  readonly actor: Actor;
  readonly action: string;
  readonly ways: readonly string[];
}

/** That somebody may or may not do something, to one record where one is named. */
export interface ExpectedAnswer {
  readonly line: number;
  readonly actor: Actor;
  readonly may: boolean;
  readonly action: string;
  readonly record?: string;
}

/** Where somebody is: the units in which they are placed, or the groups in which they are. What some reaches turn on. */
export interface ExpectedPlace {
  readonly line: number;
  readonly actor: Actor;
  readonly where: Place;
  readonly ids: readonly string[];
}

/** What a word of the charter means, by its name; see `meaningsOf`. */
export interface ExpectedMeaning {
  readonly line: number;
  readonly rule: string;
  readonly means: string;
}

/** What is expected of access, as a Markdown file says it. */
export interface Script {
  readonly reaches: readonly ExpectedReach[];
  readonly answers: readonly ExpectedAnswer[];
  readonly places: readonly ExpectedPlace[];
  readonly meanings: readonly ExpectedMeaning[];
}

/** Rows of a table of people that are about no action, and the fact that each is about. */
export const PLACES = { 'placed at': 'unitIds', 'in groups': 'groupIds' } as const;
export type Place = keyof typeof PLACES;
/** What a cell says for nothing; an empty cell expects nothing at all. */
export const NOT_AT_ALL = '–';
const NOTHING = new Set([NOT_AT_ALL, '-', 'no', '·']);
const SENTENCE = /^[-*] (.+?) (may not|may) (`?)([A-Za-z]+\.[A-Za-z]+)\3(?: (`?)([^\s`]+)\5)?\.?$/;

function cellsOf(line: string): string[] {
  // A bar that is written as \| is part of a name.
  const cells = line
    .trim()
    .replace(/^\||\|$/g, '')
    .split(/(?<!\\)\|/);
  return cells.map((cell) => cell.trim().replace(/\\([\\|*_`<>[\]])/g, '$1'));
}

const namesIn = (cell: string) => (NOTHING.has(cell) ? [] : cell.split(',').map((name) => name.trim()));
const bare = (cell: string) => cell.replace(/^`(.*)`$/, '$1');

/**
 * Reads expectations from Markdown that people review: tables with `person` or `role` in their first cell, names across, actions down and in each cell how
 * far it reaches; tables with `rule` and `means` over two columns; and items of a list that say it of one record: `- Tobias Renn may not hive.update a-hive-02`. All else is prose.
 *
 * @throws LintelError `script-invalid` with each line that cannot be read: an action that the charter does not have, a row that is too long.
 */
export function readScript(text: string, charter: Charter<any>): Script {
  const problems: string[] = [];
  const reaches: ExpectedReach[] = [];
  const answers: ExpectedAnswer[] = [];
  const places: ExpectedPlace[] = [];
  const meanings: ExpectedMeaning[] = [];
  let columns: readonly Actor[] | 'means' | undefined;
  const isAction = (action: string, line: number) => {
    if (charter.permissions.has(action)) return true;
    problems.push(`line ${line}: no action "${action}"${didYouMean(action, charter.permissions.keys())}`);
    return false;
  };
  for (const [i, raw] of text.split(/\r?\n/).entries()) {
    const line = i + 1;
    if (!raw.trimStart().startsWith('|')) {
      columns = undefined;
      const said = SENTENCE.exec(raw.trim());
      if (!said) continue;
      const [, who, may, , action, , record] = said as unknown as [string, string, string, string, string, string, string?];
      const actor = /^(a |the )?visitors?$/i.test(who) ? 'visitor' : { person: who.replace(/\\(.)/g, '$1') };
      if (isAction(action, line)) answers.push({ line, actor, may: may === 'may', action, ...(record !== undefined && { record }) });
      continue;
    }
    const [first = '', ...cells] = cellsOf(raw);
    if (cells.every((cell) => /^:?-+:?$/.test(cell)) && /^:?-+:?$/.test(first)) continue;
    if (!columns) {
      const by = first.toLowerCase();
      columns =
        by === 'rule'
          ? 'means'
          : by === 'person' || by === 'role'
            ? cells.map((name) => (name.toLowerCase() === 'visitor' ? 'visitor' : ({ [by]: name } as unknown as Actor)))
            : [];
      continue;
    }
    if (columns === 'means') {
      meanings.push({ line, rule: bare(first), means: cells.join(' | ') });
      continue;
    }
    if (columns.length === 0) continue;
    if (cells.length > columns.length) {
      problems.push(`line ${line}: ${cells.length} cells under ${columns.length} names`);
      continue;
    }
    // A row without an action is a heading.
    if (cells.every((cell) => cell === '')) continue;
    if (Object.hasOwn(PLACES, first)) {
      const place = first as Place;
      for (const [c, cell] of cells.entries()) if (cell !== '') places.push({ line, actor: columns[c] as Actor, where: place, ids: namesIn(cell) });
      continue;
    }
    const action = bare(first);
    if (!isAction(action, line)) continue;
    for (const [c, cell] of cells.entries()) {
      if (cell === '') continue;
      reaches.push({ line, actor: columns[c] as Actor, action, ways: namesIn(cell) });
    }
  }
  if (problems.length > 0) throw new LintelError('script-invalid', problems.join('\n'), { problems });
  if (reaches.length + answers.length + places.length + meanings.length === 0)
    throw new LintelError(
      'script-invalid',
      'nothing is expected here: write a table with person or role in its first cell, or a line like "- Tobias Renn may not hive.update a-hive-02"',
      { problems },
    );
  return { reaches, answers, places, meanings };
}
