/* Cases are drawn with names for ids. Here each becomes what a charter's types make of it, for all that is known by an id. */
import { HOLDS } from '../../src/charter/ids.js';
import type { Case, Draw, Raw, Row, Write } from './generate.js';
import { fieldsIn, HERE, KIND_NAMES, type KindName, type OtherColumn, PEOPLE } from './world.js';

export const ID_TYPES = ['text', 'integer', 'uuid'] as const;
export type IdType = (typeof ID_TYPES)[number];
/** What is known by an id: each with its own type. */
export type Identified = 'tenant' | 'person' | 'unit' | 'group' | KindName;
export type Types = Readonly<Record<Identified, IdType>>;
export type Value = string | number;

/** Numbers at the edges of what an id may be, for some names. Those of members and tenants here fit any column. */
const EDGES: Readonly<Record<string, number>> = { u1: 5, u2: 0, U1: -5, here: 7, HERE: 70 };
const WIDE: Readonly<Record<string, number>> = { stranger: 9007199254740991, p0: 9007199254740991, h0: -9007199254740991, v0: 9007199254740990 };
const codeOf = (name: string) => [...name].reduce((code, letter) => (code * 31 + (letter.codePointAt(0) as number)) % 20_011, 7);

/** The id that a name becomes. */
export function idOf(type: IdType, name: string, narrow = false): Value {
  if (type === 'text') return name;
  if (type === 'integer') return EDGES[name] ?? (narrow ? undefined : WIDE[name]) ?? codeOf(name) + 100;
  const hex = [...name].map((letter) => (letter.codePointAt(0) as number).toString(16)).join('');
  return `abcdef00-0000-4000-8000-${hex.padStart(12, '0').slice(-12)}`;
}

/** The same id as somebody may send it who does not write it as the database does. */
const otherwise = (type: IdType, id: unknown): unknown =>
  Array.isArray(id) ? id.map((one) => otherwise(type, one)) : id === null || type === 'text' ? id : type === 'uuid' ? String(id).toUpperCase() : String(id);

const whatIs = (kind: KindName, { role, to }: { readonly role: string; readonly to?: string | undefined }): Identified | undefined =>
  role === 'id' ? kind : role === 'parent' ? (to as KindName) : HOLDS[role as keyof typeof HOLDS];

/** Names as one case has them. */
export class Names {
  readonly types: Types;
  /** Some column holds no large number. */
  readonly narrow: boolean;
  /** Ids come as somebody writes them who does not write them as the database does. */
  readonly #sent: boolean;

  constructor(types: Types, other?: OtherColumn, sent = false) {
    this.types = types;
    this.#sent = sent;
    this.narrow = other?.type === 'smallint' || other?.type === 'integer';
  }

  id(what: Identified, name: string): Value {
    return idOf(this.types[what], name, this.narrow);
  }

  /** As the membership keeps it. */
  text(what: Identified, name: string): string {
    return String(this.id(what, name));
  }

  get people(): readonly string[] {
    return PEOPLE.map((name) => this.text('person', name));
  }

  /** The fields of a kind, each id with its type. */
  fields(kind: KindName): ReturnType<typeof fieldsIn> {
    return fieldsIn(kind).map(([name, field]) => [name, { ...field, type: this.types[whatIs(kind, field) as Identified] ?? field.type }]);
  }

  cell(kind: KindName, name: string, value: unknown, narrow = this.narrow): unknown {
    const field = fieldsIn(kind).find(([field]) => field === name)?.[1];
    const what = field && whatIs(kind, field);
    if (what === undefined || value === null) return value;
    const id = (name: string) => idOf(this.types[what], name, narrow);
    return Array.isArray(value) ? value.map(id) : id(value as string);
  }

  row(kind: KindName, row: Row): Row {
    const small = (value: unknown) => (this.narrow && typeof value === 'number' ? value % 1000 : value);
    return Object.fromEntries(Object.entries(row).map(([name, value]) => [name, this.cell(kind, name, small(value))]));
  }

  /** A row as it comes in: in the body of a request. */
  sent(kind: KindName, row: Row): Row {
    if (!this.#sent) return row;
    const types = Object.fromEntries(this.fields(kind).flatMap(([name, { role, type }]) => (role === 'plain' ? [] : [[name, type as IdType]])));
    return Object.fromEntries(Object.entries(row).map(([name, value]) => [name, types[name] ? otherwise(types[name], value) : value]));
  }

  predicate(kind: KindName, p: any): any {
    if (p.op === 'and' || p.op === 'or') return { ...p, of: p.of.map((inner: any) => this.predicate(kind, inner)) };
    if (p.op === 'not') return { ...p, of: this.predicate(kind, p.of) };
    if (p.op === 'parent') return { ...p, where: this.predicate(fieldsIn(kind).find(([name]) => name === p.via)?.[1].to as KindName, p.where) };
    if (p.to === undefined || !('value' in p.to)) return p;
    // A rule may name a number that a small column cannot hold; a row cannot.
    return { ...p, to: { value: this.cell(kind, p.field, p.to.value, false) } };
  }

  charter(json: any): any {
    const kinds = KIND_NAMES.map((kind) => {
      const { fields, reaches, ...data } = json.kinds[kind];
      const types = Object.fromEntries(this.fields(kind).map(([name, { type }]) => [name, type]));
      const rules = Object.entries<any>(reaches).map(([name, rule]) => [name, this.predicate(kind, rule)]);
      const typed = Object.entries<any>(fields).map(([name, field]) => [name, { ...field, type: types[name] }]);
      return [kind, { ...data, fields: Object.fromEntries(typed), reaches: Object.fromEntries(rules) }];
    });
    const limits = Object.entries<any>(json.limits ?? {}).map(([kind, { held }]) => [
      kind,
      { held: { ...held, where: this.predicate(kind as KindName, held.where) } },
    ]);
    return { ...json, kinds: Object.fromEntries(kinds), limits: Object.fromEntries(limits) };
  }

  #write<W extends Write>(write: W): W {
    const { kind } = write;
    const named = 'ids' in write ? { ids: write.ids.map((id) => this.id(kind, id as string)) } : {};
    const given = 'set' in write ? { set: this.row(kind, write.set) } : 'rows' in write ? { rows: write.rows.map((row) => this.row(kind, row)) } : {};
    return { ...write, ...named, ...given };
  }

  #raw(raw: Raw): Raw {
    if (!('user' in raw)) return this.#write(raw);
    const user = this.id('person', `${raw.user}`);
    if ('note' in raw) return { ...raw, note: this.id('note', `${raw.note}`), user };
    return { ...raw, tenant: this.id('tenant', `${raw.tenant}`), hive: this.id('hive', `${raw.hive}`), user };
  }

  #facts(facts: Readonly<Record<string, unknown>>): Record<string, unknown> {
    return { ...facts, ...(facts.person !== undefined && { person: this.id('person', facts.person as string) }) };
  }

  draw({ data, who, writes, raw }: Draw): Draw {
    const anchorId = (anchor: string, id: string) => {
      const [kind, name] = id.split(':') as [KindName, string | undefined];
      return name === undefined ? this.text(anchor as 'tenant' | 'unit', id) : `${kind}:${this.id(kind, name)}`;
    };
    return {
      data: Object.fromEntries(KIND_NAMES.map((kind) => [kind, data[kind].map((row) => this.row(kind, row))])) as unknown as Draw['data'],
      who: {
        ...who,
        attributes: this.#facts(who.attributes),
        context: this.#facts(who.context),
        units: who.units.map((unit) => this.text('unit', unit)),
        groups: who.groups.map((group) => this.text('group', group)),
        assigned: who.assigned.map((one) => ({ ...one, anchorId: anchorId(one.anchor, one.anchorId) })),
        opened: who.opened && { ...who.opened, group: this.text('group', who.opened.group) },
      },
      writes: writes.map((write) => this.#write(write)),
      raw: raw.map((one) => this.#raw(one)),
    };
  }

  get here(): Value {
    return this.id('tenant', HERE);
  }
}

/** Types of column that somebody may have chosen for a field of each type, fitting or not. */
const COLUMNS: Readonly<Record<string, readonly string[]>> = {
  text: ['text', 'varchar', 'varchar(40)', 'char(8)', 'char(36)', 'name', '"char"', 'jsonb'],
  integer: ['integer', 'smallint', 'integer', 'bigint', 'numeric', 'double precision'],
  decimal: ['numeric', 'numeric(20, 1)', 'numeric(20, 2)', 'numeric(20, 3)', 'real', 'money'],
  instant: ['timestamptz', 'timestamptz(0)', 'timestamptz(3)', 'timestamp', 'date'],
  boolean: ['boolean', 'smallint'],
  uuid: ['uuid', 'char(36)', 'varchar(36)', 'text'],
};

/** Which column, and which type of those for its field, or of all. */
export interface OtherDrawn {
  readonly slot: number;
  readonly column: number;
  readonly fits: boolean;
}

export function otherColumn({ slot, column, fits }: OtherDrawn, names: Names): OtherColumn {
  const all = KIND_NAMES.flatMap((kind) => names.fields(kind).flatMap(([field, { role, type }]) => (role === 'people' ? [] : [{ kind, field, type }])));
  // Numbers come in most sizes, and moments too.
  const slots = [...all, ...all.filter(({ type }) => ['integer', 'decimal', 'instant'].includes(type))];
  const { kind, field, type } = slots[slot % slots.length] as (typeof slots)[number];
  const choice = fits ? (COLUMNS[type] as readonly string[]) : Object.values(COLUMNS).flat();
  return { kind, field, type: choice[column % choice.length] as string };
}

/** A case as it is asked. */
export interface TypedCase {
  readonly names: Names;
  readonly charter: any;
  readonly draws: readonly Draw[];
  readonly other?: OtherColumn | undefined;
}

export function typed({ charter, draws, types, sent, other: drawn }: Case): TypedCase {
  const other = drawn && otherColumn(drawn, new Names(types));
  const names = new Names(types, other, sent);
  return { names, charter: names.charter(charter), draws: draws.map((draw) => names.draw(draw)), other };
}
