import { CHOOSE, type Charter, type FieldData } from '../../charter/index.js';
import type { KindShape, RecordData } from '../../predicate/index.js';
import type { Player } from './cast.js';
import type { Difference, Picture, Pictured } from './picture.js';

/** A text that stands in a record and that somebody is not to come to know. */
export interface Secret {
  readonly of: Pictured;
  /** The field whose value it is. */
  readonly field: string;
  /** The record itself is hidden; else it is read, and the field is not. */
  readonly hidden: boolean;
}

/** What somebody may know of the records, and what not. */
export interface Knowledge {
  readonly readable: ReadonlySet<Pictured>;
  /** By text: whose it is. What they may know by another way is in none. */
  readonly secrets: ReadonlyMap<string, Secret>;
  /** By kind and id, hidden records whose ids are numbers, and stand in nothing that they read. */
  readonly numbered: ReadonlyMap<string, ReadonlyMap<string, Pictured>>;
}

/** Shorter texts stand anywhere. */
const SHORTEST = 4;

export function tenantOf(one: Pictured, player: Player): string | undefined {
  // What belongs to no tenant is read in any of one's own.
  return one.tenant ?? player.tenants[0];
}

export function mayRead(charter: Charter<any>, player: Player, one: Pictured): boolean {
  const { shared } = charter.kind(one.kind);
  if (!shared && one.tenant === undefined) return false;
  const tenants = shared ? (player.tenants.length > 0 ? player.tenants : ['']) : [one.tenant as string];
  return charter.permissions.has(`${one.kind}.read`) && tenants.some((tenant) => player.in(tenant).may(`${one.kind}.read`, one.record as never));
}

/** Of these records, those that somebody reads without this field. */
export function maskedFrom(charter: Charter<any>, player: Player, field: string, all: readonly Pictured[], reads: (one: Pictured) => boolean): Pictured[] {
  return all.filter((one) => {
    const guard = charter.kind(one.kind).fields[field]?.read;
    const tenant = tenantOf(one, player);
    return guard !== undefined && tenant !== undefined && reads(one) && !player.in(tenant).may(`${one.kind}.${guard}`, one.record as never);
  });
}

/** How many values these have in a field. */
export const valuesIn = (all: readonly Pictured[], field: string): number =>
  new Set(all.map(({ record }) => record[field]).filter((value) => value !== null)).size;

/** The names under which a request or an answer may speak of a field: its own, and that of its column. */
export const namesOf = ({ fields }: KindShape, field: string): string[] => [...new Set([field, fields[field]?.column ?? field])];

/** The same as programs spell them: `choirId`, `choir_id`; and of what it is the id: `choir`. */
export function spellingsOf(shape: KindShape, field: string): string[] {
  const camel = (name: string) => name.replace(/_(\w)/g, (_, letter: string) => letter.toUpperCase());
  const snake = (name: string) => name.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`);
  const all = namesOf(shape, field).flatMap((name) => [name, camel(name), snake(name), name.replace(/_?id$/i, '')]);
  return [...new Set(all)].filter((name) => name !== '' && name !== 'id');
}

/** The texts of a record by field; ids of others are no secret of this one. */
function textsOf(charter: Charter<any>, { kind, record }: Pictured): [field: string, text: string][] {
  return Object.entries(charter.kind(kind).fields).flatMap(([field, { role, type, options }]): [string, string][] => {
    const value = record[field];
    if (typeof value !== 'string' || value.length < SHORTEST || options) return [];
    return role === 'id' || (role === 'plain' && (type === 'text' || type === 'uuid')) ? [[field, value]] : [];
  });
}

/** By text, what somebody reads in other organisations of theirs and not in this one. */
export function readElsewhere(charter: Charter<any>, { readable }: Pick<Knowledge, 'readable'>, tenant: string): ReadonlyMap<string, Secret> {
  const all = [...readable].filter((one) => one.tenant !== undefined);
  const here = new Set(all.filter((one) => one.tenant === tenant).flatMap((one) => Object.values(one.record).flat().map(String)));
  const texts = all
    .filter((one) => one.tenant !== tenant)
    .flatMap((of) => textsOf(charter, of).map(([field, text]) => [text, { of, field, hidden: false }] as const));
  return new Map(texts.filter(([text]) => !here.has(text)));
}

/** Works out what somebody may know: everything that stands in what they read, and what is chosen by its label. */
export function knowledgeOf(charter: Charter<any>, picture: Picture, player: Player): Knowledge {
  const readable = new Set<Pictured>();
  const known = new Set<string>();
  const secret: [string, Secret][] = [];
  const numbered = new Map(Object.keys(charter.data.kinds).map((kind) => [kind, new Map<string, Pictured>()]));
  const named: [kind: string, id: string][] = [];
  for (const [kind, { fields, label, actions }] of Object.entries(charter.data.kinds)) {
    for (const one of picture.all(kind)) {
      const reads = mayRead(charter, player, one);
      const standing = reads ? player.in(tenantOf(one, player) ?? '') : undefined;
      const shows = (field: string) => {
        const guard = fields[field]?.read;
        return reads && (guard === undefined || standing?.may(`${kind}.${guard}`, one.record as never) === true);
      };
      if (reads) readable.add(one);
      else if (/^\d+$/.test(one.id)) numbered.get(kind)?.set(one.id, one);
      for (const [field, { to }] of Object.entries(fields)) if (to && shows(field)) named.push([to, String(one.record[field])]);
      for (const field of Object.keys(fields)) if (shows(field)) for (const value of [one.record[field]].flat()) known.add(String(value));
      if (!reads && Object.hasOwn(actions, CHOOSE) && one.tenant !== undefined && player.in(one.tenant).may(`${kind}.${CHOOSE}`, one.record as never)) {
        known.add(one.id);
        named.push([kind, one.id]);
        known.add(String(one.record[label]));
      }
      for (const [field, text] of textsOf(charter, one)) if (!shows(field)) secret.push([text, { of: one, field, hidden: !reads }]);
    }
  }
  // A number may be that of another here: where it is unique within a tenant only.
  for (const [kind, id] of [...named, ...[...readable].map((one) => [one.kind, one.id] as const)]) numbered.get(kind)?.delete(id);
  return { readable, secrets: new Map(secret.filter(([text]) => !known.has(text))), numbered };
}

/** Hidden records that an answer names by a number, under a name that says of which kind: `toolId`, `tool_id`. */
export function numbersIn(answer: string, sent: string, { numbered }: Knowledge): Pictured[] {
  const found = new Set<Pictured>();
  const walk = (value: unknown, name: string): void => {
    const kind = /^(\w+?)_?id$/i.exec(name)?.[1];
    const hidden = kind === undefined ? undefined : numbered.get(kind)?.get(String(value));
    if (hidden && !new RegExp(`\\b${String(value)}\\b`).test(sent)) found.add(hidden);
    if (Array.isArray(value)) for (const one of value) walk(one, name);
    else if (typeof value === 'object' && value !== null) for (const [inner, one] of Object.entries(value)) walk(one, inner);
  };
  try {
    walk(JSON.parse(answer), '');
  } catch {
    // A number in a page or a table says of nothing what it is.
  }
  return [...found];
}

/** What of the secrets stands in an answer, by its text. What was sent with the request is not told by it. */
export function secretsIn<S>(answer: string, sent: string, { secrets }: { readonly secrets: ReadonlyMap<string, S> }): S[] {
  const found = new Map<string, S>();
  const look = (text: string) => {
    const secret = secrets.get(text);
    if (secret && !sent.includes(text)) found.set(text, secret);
  };
  const walk = (value: unknown): void => {
    if (typeof value === 'string') look(value);
    else if (typeof value === 'number') look(String(value));
    else if (Array.isArray(value)) for (const one of value) walk(one);
    else if (typeof value === 'object' && value !== null) {
      for (const [name, one] of Object.entries(value)) {
        look(name);
        walk(one);
      }
    }
  };
  try {
    walk(JSON.parse(answer));
  } catch {
    // Not JSON: a page, a table. A text counts where nothing of a word goes on before or behind it.
    for (const [text, secret] of secrets) {
      const at = answer.indexOf(text);
      if (at >= 0 && !/\w/.test(answer[at - 1] ?? ' ') && !/\w/.test(answer[at + text.length] ?? ' ') && !sent.includes(text)) found.set(text, secret);
    }
  }
  return [...found.values()];
}

/** The ids in the list that an answer holds, in its order; none where there is no list of records. */
function listedIds(answer: string, idNames: readonly string[]): string[] {
  const walk = (value: unknown): string[] | undefined => {
    if (typeof value !== 'object' || value === null) return undefined;
    if (!Array.isArray(value)) return Object.values(value).map(walk).find(Boolean);
    const ids = value.flatMap((one) => idNames.filter((name) => typeof one === 'object' && one !== null && name in one).map((name) => String(one[name])));
    return ids.length > 1 ? ids : undefined;
  };
  try {
    return walk(JSON.parse(answer)) ?? [];
  } catch {
    return [];
  }
}

/** Fewer stand in some order by chance. */
export const FEWEST_ORDERED = 4;

/** Whether the records of an answer stand in the order of a field, upwards or downwards, as far as their values differ. */
export function isOrderedBy(answer: string, shape: KindShape, field: string, of: readonly Pictured[]): boolean {
  const value = new Map(of.filter(({ record }) => record[field] !== null).map(({ id, record }) => [id, record[field] as string | number]));
  const values = listedIds(answer, namesOf(shape, shape.idField)).flatMap((id) => value.get(id) ?? []);
  if (new Set(values).size < FEWEST_ORDERED) return false;
  const isNumber = ['integer', 'decimal'].includes(shape.fields[field]?.type ?? '');
  const way = (a: string | number, b: string | number) => (isNumber ? Number(a) - Number(b) : String(a).localeCompare(String(b)));
  const steps = values.slice(1).map((one, i) => way(values[i] as string | number, one));
  return steps.every((step) => step <= 0) || steps.every((step) => step >= 0);
}

/** Why somebody may not make a record; undefined where they may. What a guarded field got by itself, and not by the request, is the application's doing. */
function whyNotMade(player: Player, { kind, tenant, record, row }: Pictured, sent: unknown): string | undefined {
  const standing = player.in(tenant as string);
  const asked = JSON.stringify(sent ?? '');
  const { fields } = standing.charter.shapes[kind] as KindShape;
  const toBe: Record<string, unknown> = { ...record };
  for (;;) {
    const { allowed, outcome, rule } = standing.decide(`${kind}.create`, toBe as never);
    if (allowed) return undefined;
    if (outcome !== 'guarded field' || rule === undefined || toBe[rule] === null) return 'was not theirs to make';
    // A field that is named and not obeyed got its value by itself too.
    const is = row[fields[rule]?.column ?? rule];
    if ([is, String(is)].some((value) => asked.includes(JSON.stringify(value))))
      return `its ${rule} takes ${kind}.${standing.charter.kind(kind).fields[rule]?.change}`;
    toBe[rule] = null;
  }
}

/** Something that the charter does not let somebody do to a record. */
export interface Unlawful {
  /** What is meant by it, whichever record it is: `hive.status`, `a hive made`. */
  readonly about: string;
  readonly why: string;
}

/** What of a change the charter does not let somebody do: nothing where it lets them. */
export function unlawfulIn(
  charter: Charter<any>,
  before: Picture,
  player: Player,
  { kind, before: was, after: is, fields }: Difference,
  all: readonly Difference[],
  sent: unknown,
  isStranger: (userId: unknown, tenant: string) => boolean,
): readonly Unlawful[] {
  const data = charter.kind(kind);
  const called = (one: Pictured) => `${data.one} ${one.id}`;
  const one = (about: string, why: string) => [{ about: `${kind} ${about}`, why }];
  if (data.shared) return one('changed', `a ${data.one} belongs to no organisation, and only the platform changes it`);
  if (was && is && was.tenant !== is.tenant) return one('to another tenant', `${called(was)} went from ${was.tenant} to ${is.tenant}`);
  const tenant = (is ?? was)?.tenant;
  if (tenant === undefined) return one('of nobody', `${called((is ?? was) as Pictured)} belongs to no organisation`);
  const standing = player.in(tenant);
  const may = (action: string, record: RecordData, after = false) =>
    charter.permissions.has(`${kind}.${action}`) && standing.may(`${kind}.${action}`, record as never, after ? { after: true } : undefined);
  // What hangs on a record goes with it.
  const hung = (one: Pictured) =>
    Object.entries(data.fields).some(([field, { to }]) =>
      all.some((other) => other.kind === to && !other.after && other.before?.id === String(one.record[field])),
    );
  if (was && !is && hung(was)) return [];
  if (!is) return may('delete', (was as Pictured).record) ? [] : one('gone', `${called(was as Pictured)} is gone, and was not theirs to delete`);
  const unread = Object.entries(data.fields).find(([field, { role, to }]) => {
    const value = is.record[field];
    if (role !== 'parent' || value === null || !fields.includes(field)) return false;
    const parent = before.find(to as string, String(value), tenant);
    // What was made along with it is judged by itself.
    if (all.some((other) => other.kind === to && !other.before && other.after?.id === String(value))) return false;
    if (!parent || mayRead(charter, player, parent)) return !parent;
    return !(charter.permissions.has(`${to}.${CHOOSE}`) && standing.may(`${to}.${CHOOSE}`, parent.record as never));
  });
  if (unread) return one(`under ${unread[0]}`, `${called(is)} was put under a ${data.fields[unread[0]]?.to} that they do not read`);
  const owner = charter.fieldWith(kind, 'owner');
  if (owner !== undefined && fields.includes(owner) && isStranger(is.record[owner], tenant))
    return one(`${owner} from elsewhere`, `${called(is)} was given to ${String(is.record[owner])}, who does not belong to ${tenant}`);
  if (!was) {
    const maker = charter.fieldWith(kind, 'maker');
    if (maker !== undefined && is.record[maker] !== standing.idIn(data.fields[maker] as FieldData))
      return one('made for another', `${called(is)} was made in the name of ${String(is.record[maker])}`);
    const why = whyNotMade(player, is, sent);
    return why === undefined ? [] : one('made', `${called(is)} was made, and ${why}`);
  }
  return fields.flatMap((field) => {
    const { role, change, type } = data.fields[field] as (typeof data.fields)[string];
    if (role === 'id' || role === 'tenant' || role === 'maker') return one(field, `${field} of ${called(was)} changed, which it never does`);
    const action = change ?? 'update';
    if (role === 'owner') {
      const takes = was.record[field] === null && is.record[field] === standing.idIn({ type }) && may('update', was.record);
      if (takes || (change !== undefined && may(change, was.record))) return [];
    } else if (may(action, was.record) && may(action, is.record, true)) return [];
    const takes = role === 'owner' ? (change ?? 'an action that the charter does not have') : action;
    return one(field, `${field} of ${called(was)} changed, which takes ${kind}.${takes}`);
  });
}
