import { CsvError, type Info, parse } from 'csv-parse/sync';
import { didYouMean, isLintelError, LintelError, plainCell } from '../base/index.js';

/** Something wrong with a line of a file: where, and what to write instead. */
export interface LineProblem {
  /** Of the file, the first being 1. */
  readonly line: number;
  /** The column by its name; absent where it is about the whole line. */
  readonly column?: string;
  readonly code: string;
  readonly words: string;
}

/** So many lines a file has at most. */
const MOST = 20_000;
/** So many names are told where none is near. */
const FEW = 12;

export class LineError extends LintelError {
  readonly column: string | undefined;
  constructor(code: string, words: string, column?: string) {
    super(code, words, {});
    this.column = column;
  }
}

/** What names in a file can mean: each by its id, or as it is called. */
export type Names = readonly { readonly id: string; readonly called: string }[];

/** The id of what is named. @throws LineError `unknown-…` with the near match, or with what there is. */
export function named(names: Names, text: string, what: string, column: string): string {
  const found = names.find(({ id }) => id === text) ?? names.find(({ called }) => called.toLowerCase() === text.toLowerCase());
  if (found) return found.id;
  const near = didYouMean(
    text,
    names.flatMap(({ id, called }) => [id, called]),
  );
  const there = names.length === 0 ? '; there is none' : names.length <= FEW ? `; there are ${names.map(({ called }) => called).join(', ')}` : '';
  throw new LineError(`unknown-${what}`, `no ${what} “${text}”${near || there}`, column);
}

/** One line of a file, with what is wrong in it. */
export interface Line {
  readonly line: number;
  readonly cell: (column: string) => string;
  /** Several in one cell. */
  readonly list: (text: string) => string[];
  /** What a column says; undefined where it is wrong, which is told. */
  readonly read: <V>(column: string, work: () => V) => V | undefined;
  readonly report: (error: unknown, column?: string) => void;
  /** True where nothing was wrong so far. */
  readonly isSound: () => boolean;
}

/**
 * The lines of a file as CSV: UTF-8, parted by commas, or by semicolons where the first line is; then several in one cell are parted by bars.
 *
 * @param known the columns that there can be; `needed`: the one that there has to be.
 * @throws LintelError `bad-file` for what is no CSV, with the line; `too-many`.
 */
export function readLines(text: string, known: readonly string[], needed: string): { readonly lines: readonly Line[]; readonly problems: LineProblem[] } {
  const first = text.split(/\r?\n/, 1)[0] ?? '';
  const bySemicolon = first.includes(';') && !first.includes(',');
  const list = (cell: string) =>
    cell
      .split(bySemicolon ? /[|]/ : /[;|]/)
      .map((one) => one.trim())
      .filter((one) => one !== '');
  const problems: LineProblem[] = [];
  const tell = (line: number, error: unknown, column?: string) => {
    if (!isLintelError(error)) throw error;
    const at = error instanceof LineError ? (error.column ?? column) : column;
    problems.push({ line, ...(at !== undefined && { column: at }), code: error.code, words: error.message });
  };
  const columns: string[] = [];
  const options = { bom: true, delimiter: bySemicolon ? ';' : ',', info: true, trim: true, skip_empty_lines: true, relax_column_count: true } as const;
  const named = (header: string[]) => {
    columns.push(...header);
    return header;
  };
  type Row = { readonly record: Readonly<Record<string, string>>; readonly info: Info & { readonly error?: unknown } };
  let rows: Row[];
  try {
    rows = parse(text, { ...options, columns: named }) as unknown as Row[];
  } catch (error) {
    const line = error instanceof CsvError && typeof error.lines === 'number' ? ` in line ${error.lines}` : '';
    throw new LintelError('bad-file', `This is no CSV${line}: ${error instanceof Error ? error.message : String(error)}`, {}, { cause: error });
  }
  if (rows.length > MOST) throw new LintelError('too-many', `The file has ${rows.length} lines; at most ${MOST} can be at once.`, {});
  for (const column of columns)
    if (!known.includes(column))
      tell(1, new LineError('unknown-column', `no column “${column}”${didYouMean(column, known)}; there are ${known.join(', ')}`, column));
  for (const column of new Set(columns.filter((one, i) => columns.indexOf(one) !== i)))
    tell(1, new LineError('column-twice', `the column “${column}” stands twice`, column));
  if (!columns.includes(needed)) tell(1, new LineError(`no-${needed}`, `there is no column “${needed}”`, needed));
  if (problems.length > 0) return { lines: [], problems };
  const lines = rows.map(({ record, info }): Line => {
    // A record that goes over several lines is told by its last.
    const line = info.lines;
    const report = (error: unknown, column?: string) => tell(line, error, column);
    return {
      line,
      list,
      report,
      cell: (column) => plainCell((record[column] ?? '').trim()),
      isSound: () => problems.at(-1)?.line !== line,
      read: (column, work) => {
        if (info.error && problems.at(-1)?.line !== line)
          report(new LineError('column-count', `this line has not ${columns.length} cells, as the first has; a cell with a comma stands in quotes`));
        try {
          return work();
        } catch (error) {
          report(error, column);
          return undefined;
        }
      },
    };
  });
  return { lines, problems };
}
