import { CsvError, type Info, parse } from 'csv-parse/sync';
import { didYouMean, entryOf, isLintelError, LintelError } from '../base/index.js';
import { type AttributeData, readAttribute } from '../charter/index.js';
import { readAddress } from '../membership/index.js';
import type { NewInvitation, ServerStanding } from '../server/index.js';
import type { Anchor } from '../standing/index.js';
import { plainCell } from './people-out.js';

/** Something wrong with a line of a file: where, and what to write instead. */
export interface LineProblem {
  /** Of the file, the first being 1. */
  readonly line: number;
  /** The column by its name; absent where it is about the whole line. */
  readonly column?: string;
  readonly code: string;
  readonly words: string;
}

export interface PeopleFile {
  /** Who is to hold what, in the order of the file; only to be used where there are no problems. */
  readonly people: readonly (NewInvitation & { readonly line: number })[];
  readonly problems: readonly LineProblem[];
}

const COLUMNS = ['address', 'name', 'roles', 'groups', 'units', 'until'];
/** So many lines a file has at most. */
const MOST = 20_000;
/** So many names are told where none is near. */
const FEW = 12;
const DAY = /^\d{4}-\d\d-\d\d$/;

/** What names in a file can mean: each by its id, or as it is called. */
type Names = readonly { readonly id: string; readonly called: string }[];

interface Words {
  readonly roles: Names;
  readonly groups: Names;
  readonly units: Names;
  readonly attributes: Readonly<Record<string, AttributeData>>;
  readonly kinds: readonly string[];
}

class LineError extends LintelError {
  readonly column: string | undefined;
  constructor(code: string, words: string, column?: string) {
    super(code, words, {});
    this.column = column;
  }
}

function named(names: Names, text: string, what: string, column: string): string {
  const found = names.find(({ id }) => id === text) ?? names.find(({ called }) => called.toLowerCase() === text.toLowerCase());
  if (found) return found.id;
  const near = didYouMean(
    text,
    names.flatMap(({ id, called }) => [id, called]),
  );
  const there = names.length === 0 ? '; there is none' : names.length <= FEW ? `; there are ${names.map(({ called }) => called).join(', ')}` : '';
  throw new LineError(`unknown-${what}`, `no ${what} “${text}”${near || there}`, column);
}

/** `Keeper`, `Site warden@Orchard side`, `Inspector@hive:a-hive-02`. */
function roleIn(words: Words, text: string): NewInvitation['roles'][number] {
  const [, role = '', at] = /^([^@]*)(?:@(.*))?$/s.exec(text) as unknown as [string, string, string | undefined];
  return { role: named(words.roles, role.trim(), 'role', 'roles'), anchor: at === undefined ? { on: 'tenant' } : anchorIn(words, at.trim()) };
}

function anchorIn({ units, kinds }: Words, at: string): Anchor {
  const [, kind, id] = /^(\w+):(.+)$/s.exec(at) ?? [];
  if (kind === undefined || id === undefined || units.some(({ called }) => called === at)) return { on: 'unit', unitId: named(units, at, 'unit', 'roles') };
  if (!kinds.includes(kind)) throw new LineError('unknown-kind', `no kind “${kind}”${didYouMean(kind, kinds)}`, 'roles');
  return { on: 'record', kind, id };
}

function attributeIn(data: AttributeData, name: string, text: string, list: (text: string) => string[]): unknown {
  const plain = (one: string) =>
    data.type === 'boolean' ? ({ true: true, yes: true, false: false, no: false } as const)[one.toLowerCase()] : data.type === 'integer' ? Number(one) : one;
  const value = readAttribute(data, data.several ? list(text).map(plain) : plain(text));
  if (value !== undefined) return value;
  const takes = data.options
    ? `one of ${data.options.join(', ')}${didYouMean(text, data.options)}`
    : data.type === 'boolean'
      ? 'yes or no'
      : `of the type ${data.type}`;
  throw new LineError('bad-attribute', `“${text.slice(0, 80)}” is no ${data.label ?? name}: that is ${takes}`, name);
}

async function wordsOf(standing: ServerStanding<any>): Promise<Words> {
  const { charter } = standing;
  const [roles, units, groups] = await Promise.all([standing.tenant.roles(), standing.tenant.units(), standing.tenant.groups()]);
  const called = (all: readonly { readonly id: string; readonly name: string }[]) => all.map(({ id, name }) => ({ id, called: name }));
  return {
    roles: roles.map(({ id, label }) => ({ id, called: label })),
    groups: called(groups),
    units: called(units),
    attributes: charter.data.attributes ?? {},
    kinds: Object.keys(charter.data.kinds),
  };
}

type Row = { readonly record: Readonly<Record<string, string>>; readonly info: Info & { readonly error?: unknown } };

/** In a file whose columns are parted by semicolons, several in one cell are parted by bars. */
const partsOf = (text: string) => {
  const first = text.split(/\r?\n/, 1)[0] ?? '';
  const bySemicolon = first.includes(';') && !first.includes(',');
  return { delimiter: bySemicolon ? ';' : ',', inner: bySemicolon ? /[|]/ : /[;|]/ };
};

/**
 * Reads a list of people as CSV: `address` and, where they are wanted, `name`, `roles` (`Keeper; Site warden@Orchard side`), `groups`, `units`, `until` (a day), and a column for
 * each attribute of the charter. Names stand by their ids or as they are called. The whole is read before anything is done: every line that is wrong is told, with its mend.
 *
 * @param text at most 20,000 lines; UTF-8, parted by commas, or by semicolons where the first line is.
 * @param standing in whose tenant it is: what the names mean there.
 * @throws LintelError `bad-file` for what is no CSV, with the line; `too-many`.
 */
export async function readPeopleFile(text: string, standing: ServerStanding<any>): Promise<PeopleFile> {
  const words = await wordsOf(standing);
  const { delimiter, inner } = partsOf(text);
  const list = (cell: string) =>
    cell
      .split(inner)
      .map((one) => one.trim())
      .filter((one) => one !== '');
  const columns: string[] = [];
  const problems: LineProblem[] = [];
  const report = (line: number, error: unknown, column?: string) => {
    if (!isLintelError(error)) throw error;
    const at = error instanceof LineError ? (error.column ?? column) : column;
    problems.push({ line, ...(at !== undefined && { column: at }), code: error.code, words: error.message });
  };
  const known = [...COLUMNS, ...Object.keys(words.attributes)];
  let rows: Row[];
  try {
    rows = parse(text, {
      bom: true,
      delimiter,
      info: true,
      trim: true,
      skip_empty_lines: true,
      relax_column_count: true,
      columns: (header: string[]) => {
        columns.push(...header);
        return header;
      },
    }) as unknown as Row[];
  } catch (error) {
    const line = error instanceof CsvError && typeof error.lines === 'number' ? ` in line ${error.lines}` : '';
    throw new LintelError('bad-file', `This is no CSV${line}: ${error instanceof Error ? error.message : String(error)}`, {}, { cause: error });
  }
  if (rows.length > MOST) throw new LintelError('too-many', `The file has ${rows.length} lines of people; at most ${MOST} can be at once.`, {});
  for (const column of columns)
    if (!known.includes(column))
      report(1, new LineError('unknown-column', `no column “${column}”${didYouMean(column, known)}; there are ${known.join(', ')}`, column));
  for (const column of new Set(columns.filter((one, i) => columns.indexOf(one) !== i)))
    report(1, new LineError('column-twice', `the column “${column}” stands twice`, column));
  if (!columns.includes('address')) report(1, new LineError('no-address', 'there is no column “address”', 'address'));
  if (problems.length > 0) return { people: [], problems };

  const seen = new Map<string, number>();
  const people: (NewInvitation & { readonly line: number })[] = [];
  for (const { record, info } of rows) {
    // A record that goes over several lines is told by its last.
    const line = info.lines;
    const before = problems.length;
    const cell = (name: string) => plainCell((record[name] ?? '').trim());
    const read = <V>(column: string, work: () => V): V | undefined => {
      try {
        return work();
      } catch (error) {
        report(line, error, column);
        return undefined;
      }
    };
    if (info.error)
      report(line, new LineError('column-count', `this line has not ${columns.length} cells, as the first has; a cell with a comma stands in quotes`));
    const address = read('address', () => readAddress(cell('address')));
    const twice = address && seen.get(address.normal);
    if (twice !== undefined) report(line, new LineError('said-twice', `${address?.written} stands in line ${twice} already`, 'address'));
    if (address && twice === undefined) seen.set(address.normal, line);
    const each = <V>(column: string, work: (one: string) => V): V[] => list(cell(column)).flatMap((one) => read(column, () => [work(one)]) ?? []);
    const roles = each('roles', (one) => roleIn(words, one));
    const groups = each('groups', (one) => named(words.groups, one, 'group', 'groups'));
    const units = each('units', (one) => named(words.units, one, 'unit', 'units'));
    const until = cell('until') === '' ? undefined : read('until', () => untilIn(cell('until')));
    const attributes = Object.fromEntries(
      Object.entries(words.attributes).flatMap(([name, data]) => {
        const value = cell(name) === '' ? undefined : read(name, () => attributeIn(data, name, cell(name), list));
        return value === undefined || entryOf(words.attributes, name) === undefined ? [] : [[name, value]];
      }),
    );
    if (problems.length > before || !address) continue;
    const name = cell('name');
    people.push({
      line,
      address: address.written,
      ...(name !== '' && { name }),
      roles,
      ...(groups.length > 0 && { groups }),
      ...(units.length > 0 && { units }),
      ...(Object.keys(attributes).length > 0 && { attributes }),
      ...(until !== undefined && { memberUntil: until }),
    });
  }
  return { people, problems };
}

/** A day counts to its end. */
function untilIn(text: string): string {
  const moment = new Date(DAY.test(text) ? `${text}T23:59:59Z` : text);
  if (Number.isNaN(moment.getTime()) || (DAY.test(text) && !moment.toISOString().startsWith(text)))
    throw new LineError('bad-end', `“${text.slice(0, 40)}” is no day; write it as 2027-01-31`, 'until');
  return moment.toISOString();
}
