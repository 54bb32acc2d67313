import { didYouMean } from '../base/index.js';
import { type AttributeData, attributeFromText, readAttribute } from '../charter/index.js';
import { readAddress } from '../membership/index.js';
import type { NewInvitation, ServerStanding } from '../server/index.js';
import type { Anchor } from '../standing/index.js';
import { LineError, type LineProblem, type Names, named, readLines } from './lines.js';

/** What a list of people says. */
export interface PeopleFile {
  /** Who is to hold what, in the order of the file; only to be used where there are no problems. */
  readonly people: readonly (NewInvitation & { readonly line: number })[];
  readonly problems: readonly LineProblem[];
}

const COLUMNS = ['address', 'name', 'roles', 'groups', 'units', 'until'];
const DAY = /^\d{4}-\d\d-\d\d$/;

interface Words {
  readonly roles: Names;
  readonly groups: Names;
  readonly units: Names;
  readonly attributes: Readonly<Record<string, AttributeData>>;
  readonly kinds: readonly string[];
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
  const plain = (one: string) => attributeFromText(data, one);
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
  const { lines, problems } = readLines(text, [...COLUMNS, ...Object.keys(words.attributes)], 'address');
  const seen = new Map<string, number>();
  const people: (NewInvitation & { readonly line: number })[] = [];
  for (const { line, cell, list, read, report, isSound } of lines) {
    const address = read('address', () => readAddress(cell('address')));
    const twice = address && seen.get(address.normal);
    if (twice !== undefined) report(new LineError('said-twice', `${address?.written} stands in line ${twice} already`, 'address'));
    if (address && twice === undefined) seen.set(address.normal, line);
    const each = <V>(column: string, work: (one: string) => V): V[] => list(cell(column)).flatMap((one) => read(column, () => [work(one)]) ?? []);
    const roles = each('roles', (one) => roleIn(words, one));
    const groups = each('groups', (one) => named(words.groups, one, 'group', 'groups'));
    const units = each('units', (one) => named(words.units, one, 'unit', 'units'));
    const until = cell('until') === '' ? undefined : read('until', () => untilIn(cell('until')));
    const attributes = Object.fromEntries(
      Object.entries(words.attributes).flatMap(([name, data]) => {
        const value = cell(name) === '' ? undefined : read(name, () => attributeIn(data, name, cell(name), list));
        return value === undefined ? [] : [[name, value]];
      }),
    );
    if (!isSound() || !address) continue;
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
