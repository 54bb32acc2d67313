/* Generated charters, data, standings and writes. Everything is plain data, so that a counterexample shrinks to a few lines. */
import fc from 'fast-check';
import type { Predicate } from 'warm-lintel';
import { ID_TYPES, type OtherDrawn, type Types, type Value } from './typed.js';
import {
  CODES,
  columnFields,
  DECIMALS,
  fieldsIn,
  GROUPS,
  HERE,
  ID_COUNT,
  INSTANTS,
  INTEGERS,
  ids,
  KIND_NAMES,
  type KindName,
  kindData,
  ME,
  PEOPLE,
  STRANGERS,
  TENANTS,
  TEXTS,
  UNIQUE,
  UNITS,
} from './world.js';

export interface Row {
  readonly [field: string]: unknown;
}
export type Data = Readonly<Record<KindName, readonly Row[]>>;

export interface Assigned {
  /** Through the first of their groups or units, if they are in any. */
  readonly via: 'me' | 'group' | 'unit';
  readonly role: string;
  readonly anchor: 'tenant' | 'unit' | 'record';
  readonly anchorId: string;
}

/** Who asks: what the database is told of them. */
export interface Who {
  readonly subject: 'member' | 'signedIn' | 'visitor' | 'suspended';
  readonly attributes: Readonly<Record<string, unknown>>;
  readonly units: readonly string[];
  readonly groups: readonly string[];
  readonly assigned: readonly Assigned[];
  /** What the tenant has chosen, by kind. */
  readonly bases: Readonly<Record<string, string>>;
  /** Hives of a group's people that are opened to this person. */
  readonly opened: { readonly group: string; readonly actions: readonly string[] } | undefined;
  readonly context: Readonly<Record<string, unknown>>;
}

export type Write =
  | { readonly do: 'update'; readonly kind: KindName; readonly ids: readonly unknown[]; readonly set: Row }
  | { readonly do: 'delete'; readonly kind: KindName; readonly ids: readonly unknown[] }
  | { readonly do: 'insert'; readonly kind: KindName; readonly rows: readonly Row[] };

/** A link that somebody makes or drops who has SQL in their connection. */
export type RawLink = { readonly do: 'link' | 'unlink'; readonly user: Value } & ({ readonly tenant: Value; readonly hive: Value } | { readonly note: Value });
/** What they do: a write of any fields, or to a link. */
export type Raw = Write | RawLink;

/** What is in the tables, who asks, and what they write. */
export interface Draw {
  readonly data: Data;
  readonly who: Who;
  readonly writes: readonly Write[];
  readonly raw: readonly Raw[];
}

export interface Case {
  /** A charter as JSON. */
  readonly charter: any;
  /** Of each id. In all else here ids are names. */
  readonly types: Types;
  /** Some ids in writes are written otherwise than a database writes them. */
  readonly sent: boolean;
  /** A column of another type than its field is usually kept in. */
  readonly other?: OtherDrawn | undefined;
  readonly draws: readonly Draw[];
}

/** Draws under each charter: it takes the most time to put one up. */
export const DRAWS = 4;

export const VALUES: Record<string, readonly unknown[]> = {
  text: TEXTS,
  integer: INTEGERS,
  decimal: DECIMALS,
  instant: INSTANTS,
  boolean: [true, false],
  uuid: CODES,
};
const orEmpty = <T>(all: readonly T[], weight = 3) => fc.option(fc.constantFrom(...all), { freq: weight, nil: null });

const parentsIn = (kind: KindName) => fieldsIn(kind).flatMap(([field, { to }]) => (to === undefined ? [] : [[field, to as KindName] as const]));
const parentOf = (kind: KindName, field: string) => parentsIn(kind).find(([name]) => name === field)?.[1] as KindName;

function cell(kind: KindName, name: string, { role, type }: { role: string; type: string }): fc.Arbitrary<unknown> {
  switch (role) {
    case 'id':
      return fc.constantFrom(...ids[kind]);
    case 'tenant':
      return fc.oneof({ arbitrary: fc.constant(TENANTS[0]), weight: 8 }, fc.constantFrom(...TENANTS, null));
    case 'owner':
    case 'maker':
    case 'person':
      return orEmpty([...PEOPLE, ...STRANGERS]);
    case 'unit':
      return orEmpty([...UNITS, 'nowhere']);
    case 'group':
      return orEmpty([...GROUPS, 'nobody']);
    case 'parent':
      return orEmpty([...ids[parentOf(kind, name)], 'missing']);
    case 'people':
      return fc.subarray(PEOPLE);
    default:
      // The database keeps microseconds; a record in memory has milliseconds.
      if (type === 'instant') return fc.tuple(orEmpty(INSTANTS), fc.boolean()).map(([at, beyond]) => (beyond && at ? at.replace('Z', '499Z') : at));
      return orEmpty(VALUES[type] as readonly unknown[]).map((value) => (name === 'level' && typeof value === 'string' ? 0 : value));
  }
}

/** A row of a kind without its id. */
function row(kind: KindName): fc.Arbitrary<Row> {
  const fields = fieldsIn(kind).filter(([, { role }]) => role !== 'id');
  return fc.record(Object.fromEntries(fields.map(([name, field]) => [name, cell(kind, name, field)])));
}

/** Rows of one tenant have ids of their own; the same id may stand in two tenants. */
function rows(kind: KindName): fc.Arbitrary<Row[]> {
  const slots = fc.array(fc.tuple(fc.nat(ID_COUNT - 1), row(kind)), { maxLength: 8 });
  return slots.map((all) => {
    const taken = new Map<string, Row>();
    for (const [i, one] of all) taken.set(UNIQUE.includes(kind) ? `${i}` : `${one.tenantId} ${i}`, { id: ids[kind][i], ...one });
    return [...taken.values()];
  });
}
export const data: fc.Arbitrary<Data> = fc.record({ plot: rows('plot'), hive: rows('hive'), visit: rows('visit'), note: rows('note') });

const value = (to: unknown) => ({ value: to });
const constant = (type: string) => fc.constantFrom(...(VALUES[type] as readonly unknown[])).map(value);
export const ORDERED = ['is', 'before', 'after', 'atLeast', 'atMost'] as const;

function fact(type: string): fc.Arbitrary<unknown> {
  return fc.constantFrom({ me: `attributes.${type}` }, { me: 'attributes.wrong' }, { me: 'attributes.missing' }, { context: type }, { context: 'missing' });
}

function comparison(kind: KindName): fc.Arbitrary<unknown> {
  const fields = fieldsIn(kind);
  return fc.constantFrom(...fields).chain(([field, { role, type }]): fc.Arbitrary<unknown> => {
    const compare = (ops: readonly string[], to: fc.Arbitrary<unknown>) => fc.record({ op: fc.constantFrom(...ops), field: fc.constant(field), to });
    const empty = fc.constant({ op: 'isEmpty', field });
    const person = fc.oneof(fc.constantFrom(...PEOPLE).map(value), fc.constant({ me: 'userId' }), fact('person'));
    const list = (all: readonly unknown[]) => compare(['in'], fc.subarray([...all]).map(value));
    switch (role) {
      case 'people':
        return compare(['includes'], person);
      case 'owner':
      case 'maker':
      case 'person':
        return fc.oneof(empty, compare(['is'], person), list(PEOPLE), compare(['among', 'in'], fc.constant({ me: 'groupIds' })));
      case 'unit':
        return fc.oneof(empty, compare(['is'], fc.constantFrom(...UNITS).map(value)), compare(['within', 'in'], fc.constant({ me: 'unitIds' })));
      case 'group':
        return fc.oneof(empty, compare(['is'], fc.constantFrom(...GROUPS).map(value)), compare(['in'], fc.constant({ me: 'groupIds' })));
      case 'parent':
      case 'id':
        return fc.oneof(empty, compare(['is'], fc.constantFrom(...ids[role === 'id' ? kind : parentOf(kind, field)]).map(value)));
      case 'tenant':
        return compare(['is'], fc.constantFrom(...TENANTS).map(value));
    }
    const same = fields.filter(([name, f]) => name !== field && f.role === 'plain' && f.type === type).map(([name]) => ({ field: name }));
    const others = same.length > 0 ? [fc.constantFrom(...same)] : [];
    if (type === 'boolean' || type === 'uuid') return fc.oneof(empty, compare(['is'], fc.oneof(constant(type), fact(type), ...others)));
    return fc.oneof(empty, list(VALUES[type] as readonly unknown[]), compare(ORDERED, fc.oneof(constant(type), fact(type), ...others)));
  });
}

export function predicate(kind: KindName, depth = 2): fc.Arbitrary<Predicate> {
  const leaves = [fc.constantFrom<unknown>({ op: 'always' }, { op: 'never' }), comparison(kind), comparison(kind), comparison(kind)];
  for (const [via, to] of parentsIn(kind)) {
    leaves.push(fc.record({ op: fc.constant('parent'), via: fc.constant(via), where: predicate(to, 0) }), fc.constant({ op: 'followed', via }));
  }
  const leaf = fc.oneof(...leaves);
  if (depth === 0) return leaf as fc.Arbitrary<Predicate>;
  const inner = predicate(kind, depth - 1);
  return fc.oneof(
    { arbitrary: leaf, weight: 2 },
    inner.map((of) => ({ op: 'not', of })),
    fc.record({ op: fc.constantFrom('and', 'or'), of: fc.array(inner, { minLength: 1, maxLength: 3 }) }),
  ) as fc.Arbitrary<Predicate>;
}

const ACTIONS: Record<KindName, readonly string[]> = {
  plot: ['read', 'create', 'update', 'delete', 'give', 'move', 'inspect', 'choose'],
  hive: ['read', 'create', 'update', 'delete', 'give', 'move', 'hang', 'inspect'],
  visit: ['read', 'create', 'update', 'delete', 'hang', 'inspect'],
  note: ['read', 'create', 'update', 'delete', 'give', 'hang', 'inspect'],
};

/** Guards and masks of one kind. */
function dressed(kind: KindName): fc.Arbitrary<Record<string, object>> {
  const entries = fieldsIn(kind).map(([name, field]): [string, fc.Arbitrary<object>] => {
    const guard = (action: string) => fc.constantFrom<object>({}, { change: action });
    const options: Record<string, fc.Arbitrary<object>> = {
      owner: guard('give'),
      unit: guard('move'),
      group: guard('move'),
      people: guard('hang'),
      parent: fc.tuple(guard('hang'), fc.constantFrom<object>({}, { follow: false })).map(([a, b]) => ({ ...a, ...b })),
      plain: fc.oneof(
        { arbitrary: fc.constant({}), weight: 4 },
        fc.constantFrom<object>({ change: 'inspect' }, { read: 'inspect' }, { read: 'inspect', change: 'inspect' }),
      ),
    };
    const extra = name === 'name' ? fc.constant({}) : (options[field.role] ?? fc.constant({}));
    return [name, extra.map((more) => ({ ...field, ...more }))];
  });
  return fc.record(Object.fromEntries(entries));
}

/** Of which a tenant may choose one. */
const BASES = ['one', 'two', 'tenant'];
const drawnKind = (kind: KindName) =>
  fc
    .record({
      fields: dressed(kind),
      reaches: fc.record({ one: predicate(kind), two: predicate(kind, 1) }),
      base: fc.option(fc.shuffledSubarray(BASES, { minLength: 2 }), { freq: 1 }),
    })
    .map(({ base, ...drawn }) => ({ ...kindData(kind, ACTIONS[kind]), ...drawn, ...(base && { base }) }));

const permissions = KIND_NAMES.flatMap((kind) => ACTIONS[kind].map((action) => [kind, action] as const));
const may = (weight: number) =>
  fc.record(
    Object.fromEntries(
      permissions.map(([kind, action]) => [
        `${kind}.${action}`,
        fc.oneof(
          { arbitrary: fc.constant(['tenant']), weight: action === 'read' ? weight * 2 : weight },
          { arbitrary: fc.constant(['one']), weight: 2 },
          { arbitrary: fc.constant(['one', 'two']), weight: 1 },
          { arbitrary: fc.constant(kind === 'plot' ? [] : ['followed']), weight: 1 },
          { arbitrary: fc.constant(['base']), weight: 1 },
          { arbitrary: fc.constant([]), weight: 1 },
        ),
      ]),
    ),
  );

const limit = (kind: KindName) =>
  fc.record({
    actions: fc.subarray([...ACTIONS[kind]], { minLength: 1 }),
    where: predicate(kind, 1),
    sentence: fc.constant('no'),
    before: fc.boolean(),
    lasting: fc.constant(true),
  });

/** A parent that is not followed has no reach `followed`, and nothing is a `base` where none can be chosen; drawn charters name both all the same, and they are dropped here. */
function sound(charter: any): any {
  const follows = (kind: KindName) => Object.values<any>(charter.kinds[kind].fields).some((f) => f.role === 'parent' && f.follow !== false);
  const isThere = (kind: KindName, reach: string) => (reach === 'followed' ? follows(kind) : reach !== 'base' || charter.kinds[kind].base !== undefined);
  const clean = (drawn: Record<string, string[]>) =>
    Object.fromEntries(Object.entries(drawn).map(([p, reaches]) => [p, reaches.filter((r) => isThere(p.split('.')[0] as KindName, r))]));
  const roles = Object.fromEntries(Object.entries<any>(charter.roles).map(([name, role]) => [name, { ...role, may: clean(role.may) }]));
  return { ...charter, roles };
}

const charter = fc
  .record({
    kinds: fc.record({ plot: drawnKind('plot'), hive: drawnKind('hive'), visit: drawnKind('visit'), note: drawnKind('note') }),
    roles: fc.record({ main: fc.record({ label: fc.constant('Main'), may: may(4) }), second: fc.record({ label: fc.constant('Second'), may: may(1) }) }),
    limits: fc.record({ hive: fc.option(limit('hive'), { nil: undefined }), plot: fc.option(limit('plot'), { nil: undefined }) }).map(({ hive, plot }) => ({
      ...(hive && { hive: { held: hive } }),
      ...(plot && { plot: { held: plot } }),
    })),
    everyMember: fc.constantFrom({}, { 'plot.read': ['one'] }),
    visitor: fc.constantFrom({}, { 'hive.read': ['one'], 'plot.read': ['tenant'] }),
    signedIn: fc.constantFrom({}, { 'hive.read': ['two'], 'plot.read': ['one'] }),
  })
  .map(sound);

const attributes = fc.record(
  {
    text: fc.constantFrom(...TEXTS),
    integer: fc.constantFrom(...INTEGERS),
    decimal: fc.constantFrom(...DECIMALS),
    instant: fc.constantFrom(...INSTANTS),
    boolean: fc.boolean(),
    uuid: fc.constantFrom(...CODES),
    person: fc.constantFrom(...PEOPLE),
    wrong: fc.constantFrom<unknown>([], {}, 1.5, null, ['a']),
  },
  { requiredKeys: [] },
);
const anchor = fc.oneof(
  { arbitrary: fc.constant({ anchor: 'tenant', anchorId: 'here' } as const), weight: 4 },
  fc.constantFrom(...UNITS).map((anchorId) => ({ anchor: 'unit', anchorId }) as const),
  fc
    .constantFrom(...ids.plot.map((id) => `plot:${id}`), ...ids.hive.map((id) => `hive:${id}`), ...ids.visit.map((id) => `visit:${id}`))
    .map((anchorId) => ({ anchor: 'record', anchorId }) as const),
);
const who: fc.Arbitrary<Who> = fc.record({
  subject: fc.oneof({ arbitrary: fc.constant('member' as const), weight: 12 }, fc.constantFrom('signedIn' as const, 'visitor' as const, 'suspended' as const)),
  attributes,
  units: fc.subarray(UNITS),
  groups: fc.subarray(GROUPS),
  assigned: fc.uniqueArray(
    fc
      .tuple(fc.constantFrom('main', 'second'), anchor, fc.constantFrom('me', 'me', 'group', 'unit'))
      .map(([role, at, via]): Assigned => ({ role, ...at, via })),
    { minLength: 1, maxLength: 2, selector: (a) => JSON.stringify(a) },
  ),
  bases: fc.dictionary(fc.constantFrom(...KIND_NAMES), fc.constantFrom(...BASES)),
  opened: fc.option(fc.record({ group: fc.constantFrom(...GROUPS), actions: fc.subarray([...ACTIONS.hive], { minLength: 1 }) }), { nil: undefined, freq: 3 }),
  context: attributes,
});

const STAMPED = ['id', 'tenant', 'maker'];

/** The values that a write gives to fields: mostly one at a time, as forms do. */
function written(kind: KindName, atMost: number, except: readonly string[]): fc.Arbitrary<Row> {
  const fields = columnFields(kind).filter(([, { role }]) => !except.includes(role));
  return fc
    .array(
      fc.constantFrom(...fields).chain(([name, field]) => fc.tuple(fc.constant(name), cell(kind, name, field))),
      { minLength: 1, maxLength: atMost },
    )
    .map((entries) => Object.fromEntries(entries));
}
/** @param stamps what stands in new rows beside what was drawn; without, a write leaves to scope what scope stamps. */
function write(kind: KindName, stamps?: Row): fc.Arbitrary<Write> {
  const some = fc.subarray<unknown>([...ids[kind]], { minLength: 1 });
  const set = written(kind, 2, stamps ? [] : STAMPED);
  // One record to somebody who may see what the writer does not.
  const one = fc.constantFrom(...ids[kind]).map((id): unknown[] => [id]);
  const handOver = { do: fc.constant('update' as const), kind: fc.constant(kind), ids: one, set: fc.record({ ownerId: fc.constantFrom('u2', 'boss') }) };
  return fc.oneof(
    ...(fieldsIn(kind).some(([field]) => field === 'ownerId') && !stamps ? [{ arbitrary: fc.record(handOver), weight: 2 }] : []),
    { arbitrary: fc.record({ do: fc.constant('update' as const), kind: fc.constant(kind), ids: some, set }), weight: 4 },
    { arbitrary: fc.record({ do: fc.constant('delete' as const), kind: fc.constant(kind), ids: some }), weight: 1 },
    {
      arbitrary: fc.record({
        do: fc.constant('insert' as const),
        kind: fc.constant(kind),
        rows: fc
          .array(written(kind, 3, stamps ? ['id'] : STAMPED), { minLength: 1, maxLength: 2 })
          .map((all) => all.map((one, i) => ({ id: `new${i}`, ...stamps, ...one }))),
      }),
      weight: 2,
    },
  );
}

const raw: fc.Arbitrary<Raw> = fc.oneof(
  { arbitrary: write('plot', { tenantId: HERE }), weight: 2 },
  { arbitrary: write('hive', { tenantId: HERE, madeBy: ME }), weight: 4 },
  { arbitrary: write('visit', { tenantId: HERE, madeBy: ME }), weight: 2 },
  { arbitrary: write('note', { madeBy: ME }), weight: 2 },
  {
    arbitrary: fc.record({
      do: fc.constantFrom('link' as const, 'unlink' as const),
      tenant: fc.constantFrom(HERE, HERE, HERE, 'there'),
      hive: fc.constantFrom(...ids.hive),
      user: fc.constantFrom(...PEOPLE, ...STRANGERS),
    }),
    weight: 2,
  },
  {
    arbitrary: fc.record({
      do: fc.constantFrom('link' as const, 'unlink' as const),
      note: fc.constantFrom(...ids.note),
      user: fc.constantFrom(...PEOPLE, ...STRANGERS),
    }),
    weight: 1,
  },
);

const draw: fc.Arbitrary<Draw> = fc.record({
  data,
  who,
  writes: fc.array(
    fc.constantFrom(...KIND_NAMES).chain((kind) => write(kind)),
    { minLength: 3, maxLength: 6, size: 'max' },
  ),
  raw: fc.array(raw, { minLength: 3, maxLength: 6, size: 'max' }),
});

const type = fc.constantFrom(...ID_TYPES);
const types: fc.Arbitrary<Types> = fc.record({ tenant: type, person: type, unit: type, group: type, plot: type, hive: type, visit: type, note: type });

/** A column and its type, as numbers that {@link otherColumn} reads. */
const other = fc.record({ slot: fc.nat(999), column: fc.nat(999), fits: fc.oneof({ arbitrary: fc.constant(true), weight: 5 }, fc.constant(false)) });

export const generated: fc.Arbitrary<Case> = fc.record({
  charter,
  types,
  sent: fc.boolean(),
  other: fc.option(other, { freq: 2, nil: undefined }),
  draws: fc.array(draw, { minLength: DRAWS, maxLength: DRAWS }),
});
