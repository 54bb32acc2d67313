/* What a predicate means on a record in hand, what it says in words, and what can be told of bounds: against a second reading that is slow and plain. */
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { disjoint, implies, type Predicate, unsatisfiable } from 'warm-lintel';
import {
  ALWAYS,
  and,
  anyOf,
  blame,
  checkPredicate,
  compile,
  forOneOf,
  NEVER,
  not,
  or,
  print,
  readValue,
  type Shapes,
  specialise,
} from '../src/predicate/index.js';
import { LONG } from './long.js';

const shapes: Shapes = {
  yard: { table: 'yards', idField: 'id', tenantField: 'tenantId', fields: { id: { type: 'text', column: 'id' }, level: { type: 'integer', column: 'level' } } },
  hive: {
    table: 'hives',
    idField: 'id',
    tenantField: 'tenantId',
    fields: {
      level: { type: 'integer', column: 'level' },
      limit: { type: 'integer', column: 'limit' },
      price: { type: 'decimal', column: 'price', scale: 2 },
      seenAt: { type: 'instant', column: 'seen_at' },
      name: { type: 'text', column: 'name' },
      open: { type: 'boolean', column: 'open' },
      yardId: { type: 'text', column: 'yard_id', to: 'yard' },
      helpers: { type: 'text', column: '', link: { table: 'l', tenant: 't', record: 'r', user: 'u' } },
    },
  },
};

/** Values of each type, in their order, each in all the ways in which a database may write it. */
const ORDERED: Record<string, readonly (readonly unknown[])[]> = {
  level: [[-1], [0], [1, '1', 1n], [2]],
  limit: [[-1], [0], [1, '1', 1n], [2]],
  price: [
    ['-0.50', '-0.5'],
    ['0.00', '0', 0],
    ['9.90', '9.9', 9.9],
    ['10.00', '10', 10],
  ],
  seenAt: [
    ['2026-01-01T00:00:00.000Z', new Date('2026-01-01T00:00:00Z'), '2026-01-01T01:00:00+01:00'],
    ['2026-01-01T00:00:00.001Z', new Date('2026-01-01T00:00:00.001Z')],
  ],
  name: [['A'], ['Z'], ['a'], ['é']],
  open: [[false], [true]],
};
const ORDERS = ['before', 'after', 'atLeast', 'atMost'] as const;

const written = (value: unknown) => (value instanceof Date ? `at ${value.getTime()}` : `${typeof value} ${value}`);
/** Where a value stands among those of its type. */
const placeOf = (field: string, value: unknown): number =>
  (ORDERED[field] as readonly (readonly unknown[])[]).findIndex((ways) => ways.some((way) => written(way) === written(value)));

function compared(op: string, a: number, b: number): boolean {
  if (op === 'before') return a < b;
  if (op === 'after') return a > b;
  if (op === 'atLeast') return !(a < b);
  if (op === 'atMost') return !(a > b);
  return a === b;
}

/** The second reading: yes, no, or that something is not at hand. */
function reads(p: Predicate, record: Record<string, any>): boolean | undefined {
  const inverted = (verdict: boolean | undefined) => (verdict === undefined ? undefined : !verdict);
  if (p.op === 'always' || p.op === 'never') return p.op === 'always';
  if (p.op === 'not') return inverted(reads(p.of, record));
  if (p.op === 'or') return inverted(reads({ op: 'and', of: p.of.map((of) => ({ op: 'not', of })) }, record));
  if (p.op === 'and') {
    const all = p.of.map((of) => reads(of, record));
    return all.includes(false) ? false : all.includes(undefined) ? undefined : true;
  }
  if (p.op === 'parent') {
    if (record[p.via] === null || record.parents?.[p.via] === null) return false;
    return record.parents?.[p.via] === undefined ? undefined : reads(p.where, record.parents[p.via]);
  }
  const { op, field, to } = p as { op: string; field: string; to: { field?: string; value?: unknown } };
  const mine = record[field];
  if (op === 'isEmpty') return mine === undefined ? undefined : mine === null;
  if (op === 'includes') return mine === undefined ? undefined : (mine as unknown[]).includes(to.value);
  const theirs = to.field === undefined ? to.value : record[to.field];
  if (mine === null || theirs === null) return false;
  if (mine === undefined || theirs === undefined) return undefined;
  if (op === 'in') return (theirs as unknown[]).some((one) => placeOf(field, one) === placeOf(field, mine));
  return compared(op, placeOf(field, mine), placeOf(field, theirs));
}

/** As a charter that was read holds it: in the one way in which it is kept, which stands first. */
const given = (field: string) => fc.constantFrom(...(ORDERED[field] as readonly (readonly unknown[])[]).map(([way]) => way));
const leaf: fc.Arbitrary<Predicate> = fc.oneof(
  ...Object.keys(ORDERED).map((field) =>
    fc.record({ op: fc.constantFrom('is', ...(field === 'open' ? [] : ORDERS)), field: fc.constant(field), to: given(field).map((value) => ({ value })) }),
  ),
  fc
    .record({ op: fc.constant('in'), field: fc.constantFrom('level', 'name'), to: fc.constant(undefined) })
    .chain(({ op, field }) => fc.array(given(field), { minLength: 1, maxLength: 3 }).map((value) => ({ op, field, to: { value } }))),
  fc.record({ op: fc.constantFrom('is', ...ORDERS), field: fc.constant('level'), to: fc.constant({ field: 'limit' }) }),
  fc.record({ op: fc.constant('isEmpty'), field: fc.constantFrom(...Object.keys(ORDERED)) }),
  fc.constant({ op: 'includes', field: 'helpers', to: { value: 'u1' } }),
  fc.constantFrom(
    { op: 'parent', via: 'yardId', where: { op: 'is', field: 'level', to: { value: 1 } } },
    { op: 'parent', via: 'yardId', where: { op: 'always' } },
  ),
  fc.constantFrom({ op: 'always' }, { op: 'never' }),
) as fc.Arbitrary<Predicate>;
/** Many parts at once, most of them of one field. */
const ofOneField = (field: string): fc.Arbitrary<Predicate> =>
  fc.tuple(fc.constantFrom('is', 'in', 'isEmpty'), fc.array(given(field), { minLength: 1, maxLength: 4 }), fc.boolean()).map(([op, list, isNegated]) => {
    const one = op === 'isEmpty' ? { op, field } : { op, field, to: { value: op === 'in' ? list : list[0] } };
    return (isNegated ? { op: 'not', of: one } : one) as Predicate;
  });
const crowd = fc.constantFrom('level', 'price', 'name', 'open').chain((field) =>
  fc.record({
    op: fc.constantFrom('and', 'or'),
    of: fc.array(fc.oneof(ofOneField(field), leaf), { minLength: 2, maxLength: 7 }),
  }),
) as fc.Arbitrary<Predicate>;
const rule = fc.letrec<{ r: Predicate }>((tie) => ({
  r: fc.oneof(
    { depthSize: 'small' },
    leaf,
    crowd,
    tie('r').map((of) => ({ op: 'not', of }) as Predicate),
    fc.record({ op: fc.constantFrom('and', 'or'), of: fc.array(tie('r'), { maxLength: 3 }) }) as fc.Arbitrary<Predicate>,
  ),
})).r;
const record = fc.record(
  {
    ...Object.fromEntries(Object.entries(ORDERED).map(([field, places]) => [field, fc.constantFrom(null, ...places.flat())])),
    yardId: fc.constantFrom(null, 'y1'),
    helpers: fc.constantFrom([], ['u1'], ['u2', 'u1']),
    parents: fc.constantFrom({ yardId: { level: 1 } }, { yardId: { level: 2 } }, { yardId: {} }, { yardId: null }, {}),
  },
  { requiredKeys: [] },
) as fc.Arbitrary<Record<string, any>>;

test('a record in hand is judged as a slow reading judges it, whatever a database writes; and what is blamed is why', () => {
  fc.assert(
    fc.property(rule, record, (p, one) => {
      const verdict = compile(p, 'hive', shapes)(one);
      expect(verdict).toBe(reads(p, one));
      for (const wanted of [true, false]) {
        const blamed = blame(p, one, 'hive', shapes, wanted);
        // Each part that is blamed is not as it would have to be; and nothing is blamed where all is as wanted.
        if (verdict === wanted) expect(blamed).toEqual([]);
        for (const { part, wanted: needed } of blamed) expect([part.op, reads(part, one) === needed, 'of' in part]).toEqual([part.op, false, false]);
      }
    }),
    { numRuns: LONG ? 3000 : 800 },
  );
});

test('a value that is none of its type is told by its field, and never taken for another', () => {
  const over: Predicate = { op: 'after', field: 'level', to: { value: 1 } };
  for (const level of ['two', 1.5, {}, true, 'x'.repeat(99)])
    expect(() => compile(over, 'hive', shapes)({ level })).toThrow(
      expect.objectContaining({ details: { field: 'level' }, message: expect.stringMatching(/^hives: level holds .{1,60}, which is no integer/) }),
    );
  // Whether there is a value is not a question of its type.
  expect(compile({ op: 'isEmpty', field: 'level' }, 'hive', shapes)({ level: 'two' })).toBe(false);
  for (const op of ['within', 'among'] as const) expect(compile({ op, field: 'name', to: { value: ['A'] } }, 'hive', shapes)({ name: 'A' })).toBeUndefined();
  expect(() => compile({ op: 'is', field: 'name', to: { me: 'userId' } }, 'hive', shapes)).toThrow(/specialise/);
});

test('put together, predicates mean the same, in fewer parts', () => {
  const [a, b, c] = ['level', 'price', 'name'].map((field): Predicate => ({ op: 'isEmpty', field })) as [Predicate, Predicate, Predicate];
  const made: readonly [Predicate, Predicate][] = [
    [and(), ALWAYS],
    [or(), NEVER],
    [and(a), a],
    [or(a, NEVER, a), a],
    [and(a, ALWAYS, a), a],
    [and(a, NEVER, b), NEVER],
    [or(a, ALWAYS), ALWAYS],
    [and(a, and(b, c)), { op: 'and', of: [a, b, c] }],
    [or(a, and(b, c)), { op: 'or', of: [a, { op: 'and', of: [b, c] }] }],
    [and(a, or(a, b)), a],
    [or(a, and(a, b), c), { op: 'or', of: [a, c] }],
    [not(ALWAYS), NEVER],
    [not(NEVER), ALWAYS],
    [not(not(a)), a],
    [not(a), { op: 'not', of: a }],
  ];
  for (const [found, wanted] of made) expect(found).toEqual(wanted);
  fc.assert(
    fc.property(fc.array(rule, { maxLength: 4 }), record, (parts, one) => {
      expect(reads(and(...parts), one)).toBe(reads({ op: 'and', of: parts }, one));
      expect(reads(or(...parts), one)).toBe(reads({ op: 'or', of: parts }, one));
      for (const part of parts) expect(reads(not(part), one)).toBe(reads({ op: 'not', of: part }, one));
    }),
  );
});

test('a predicate in words, and its opposite', () => {
  const me = { me: 'userId' };
  const said: readonly [Predicate, yes: string, no: string, you?: string][] = [
    [{ op: 'always' }, 'always', 'never'],
    [{ op: 'never' }, 'never', 'always'],
    [{ op: 'is', field: 'ownerId', to: me }, 'owner is me', 'owner is not me', 'you are the owner'],
    [{ op: 'not', of: { op: 'is', field: 'ownerId', to: me } }, 'owner is not me', 'owner is me', 'you are not the owner'],
    [{ op: 'is', field: 'name', to: { value: 'a' } }, 'name is “a”', 'name is not “a”'],
    [{ op: 'atMost', field: 'level', to: { value: 3 } }, 'level is at most 3', 'level is above 3'],
    [
      { op: 'before', field: 'firstSeenAt', to: { context: 'startedAt' } },
      "first seen at is before the request's started at",
      "first seen at is not before the request's started at",
    ],
    [{ op: 'atLeast', field: 'level', to: { field: 'limit' } }, 'level is at least the limit', 'level is below the limit'],
    [{ op: 'in', field: 'level', to: { value: [1, 2] } }, 'level is one of (1, 2)', 'level is none of (1, 2)'],
    [{ op: 'within', field: 'unitId', to: { me: 'unitIds' } }, 'unit lies within my units', 'unit lies outside my units', 'unit lies within your units'],
    [
      { op: 'after', field: 'level', to: { me: 'attributes.maxLevel' } },
      'level is after my max level',
      'level is not after my max level',
      'level is after your max level',
    ],
    [{ op: 'is', field: 'level', to: { me: 'attributes.level' } }, 'level is my level', 'level is not my level', 'level is your level'],
    [{ op: 'isEmpty', field: 'holderIdCode' }, 'holder id code is empty', 'holder id code is not empty'],
    [
      {
        op: 'and',
        of: [
          { op: 'not', of: { op: 'isEmpty', field: 'a' } },
          { op: 'isEmpty', field: 'b' },
        ],
      },
      'a is not empty and b is empty',
      'a is empty or b is not empty',
    ],
    [{ op: 'includes', field: 'helperIds', to: me }, 'helper include me', 'helper do not include me'],
    [{ op: 'isEmpty', field: 'ownerId' }, 'owner is empty', 'owner is not empty'],
    [{ op: 'followed', via: 'yardId' }, 'the yard may be read', 'the yard may not be read'],
    [{ op: 'parent', via: 'yardId', where: { op: 'always' } }, 'the yard exists', 'the yard does not exist'],
    [
      { op: 'parent', via: 'yardId', where: { op: 'is', field: 'keeperId', to: me } },
      'the yard’s keeper is me',
      'not (the yard’s keeper is me)',
      'you are the yard’s keeper',
    ],
    [
      {
        op: 'and',
        of: [
          { op: 'isEmpty', field: 'a' },
          {
            op: 'or',
            of: [
              { op: 'isEmpty', field: 'b' },
              { op: 'isEmpty', field: 'c' },
            ],
          },
        ],
      },
      'a is empty and (b is empty or c is empty)',
      'a is not empty or (b is not empty and c is not empty)',
    ],
  ];
  for (const [p, yes, no, you] of said) {
    expect([print(p), print(p, false)]).toEqual([yes, no]);
    if (you !== undefined) expect(print(p, true, 'you')).toBe(you);
  }
});

test('between two bounds there is what there is, of each type, and nothing else', () => {
  const at = (op: string, field: string, value: unknown) => ({ op, field, to: { value } }) as Predicate;
  const empty = (...of: Predicate[]) => unsatisfiable({ op: 'and', of }, 'hive', shapes).verdict;
  // Whole numbers, cents and milliseconds have neighbours; texts have not.
  const BOUNDS: readonly [field: string, low: unknown, high: unknown, beyond: unknown][] = [
    ['level', 3, 4, 5],
    ['level', -1, 0, 1],
    ['price', '9.99', '10.00', '10.01'],
    ['price', '-0.01', '0.00', '0.01'],
    ['seenAt', '2026-01-01T00:00:00.000Z', '2026-01-01T00:00:00.001Z', '2026-01-01T00:00:00.002Z'],
  ];
  for (const [field, low, high, beyond] of BOUNDS) {
    expect([field, empty(at('after', field, low), at('before', field, high))]).toEqual([field, 'yes']);
    expect([field, empty(at('after', field, low), at('before', field, beyond))]).toEqual([field, 'no']);
    expect([field, empty(at('atLeast', field, high), at('atMost', field, high))]).toEqual([field, 'no']);
    expect([field, empty(at('atLeast', field, high), at('atMost', field, low))]).toEqual([field, 'yes']);
    expect(implies(at('after', field, low), at('atLeast', field, high), 'hive', shapes).verdict).toBe('yes');
    expect(implies(at('after', field, low), at('after', field, high), 'hive', shapes).verdict).toBe('no');
    expect(disjoint(at('atMost', field, low), at('atLeast', field, high), 'hive', shapes).verdict).toBe('yes');
    expect(disjoint(at('atMost', field, high), at('atLeast', field, high), 'hive', shapes).verdict).toBe('no');
  }
  expect(empty(at('after', 'name', 'a'), at('before', 'name', 'b'))).toBe('no');
  expect(empty(at('after', 'name', 'b'), at('before', 'name', 'a'))).toBe('yes');
  // Nothing stands between a text and the same with the least letter behind it.
  expect(empty(at('after', 'name', 'a'), at('before', 'name', 'a\u0001'))).not.toBe('no');
  expect(empty(at('is', 'open', true), at('is', 'open', false))).toBe('yes');
  expect(
    implies({ op: 'not', of: { op: 'isEmpty', field: 'open' } }, { op: 'or', of: [at('is', 'open', true), at('is', 'open', false)] }, 'hive', shapes).verdict,
  ).toBe('yes');
});

test('for one person each fact stands as it is, and one that is missing makes a reach smaller and a limit larger', () => {
  const known = {
    me: { userId: 'u1', unitIds: ['n1', 'n2'], groupIds: ['g1'], attributes: { level: 2, tags: ['x', 7], none: [] } },
    context: { level: 3 },
    below: (id: string) => ({ n1: ['n1', 'n3'], n2: ['n2'] })[id],
    peopleOf: (id: string) => (id === 'g1' ? ['u2', 'u1', 'u2'] : undefined),
    readable: (kind: string): Predicate => (kind === 'yard' ? { op: 'is', field: 'level', to: { value: 1 } } : NEVER),
  };
  const one = (p: Predicate, bias: 'shrink' | 'grow' = 'shrink', of: Partial<typeof known> = {}) => specialise(p, 'hive', shapes, { ...known, ...of }, bias);
  const level = (to: object) => ({ op: 'atMost', field: 'level', to }) as Predicate;
  const list = (op: string, to: object) => ({ op, field: 'name', to }) as Predicate;
  const yard: Predicate = { op: 'parent', via: 'yardId', where: level({ me: 'attributes.level' }) };
  expect(one(level({ me: 'attributes.level' }))).toEqual(level({ value: 2 }));
  expect(one(level({ context: 'level' }))).toEqual(level({ value: 3 }));
  expect(one(level({ field: 'limit' }))).toEqual(level({ field: 'limit' }));
  // What is not there, is of another type, or stands in what every object has, is missing.
  for (const to of [
    { me: 'attributes.weight' },
    { me: 'attributes.tags' },
    { me: 'userId' },
    { me: 'attributes.constructor.length' },
    { me: 'toString.length' },
    { context: 'level.more' },
    { context: 'none' },
  ]) {
    expect([to, one(level(to)), one(level(to), 'grow')]).toEqual([to, NEVER, ALWAYS]);
    expect([to, one(not(level(to))), one(not(level(to)), 'grow'), one(not(not(level(to))))]).toEqual([to, NEVER, ALWAYS, NEVER]);
    expect(one(and(level(to), level({ value: 1 })), 'grow')).toEqual(level({ value: 1 }));
    expect(one({ op: 'parent', via: 'yardId', where: level(to) })).toEqual(NEVER);
  }
  expect(one(level({ me: 'attributes.level' }), 'shrink', { me: { ...known.me, attributes: null } as never })).toEqual(NEVER);
  // Units with what is below them, groups with their people; each once.
  expect(one(list('within', { me: 'unitIds' }))).toEqual(list('in', { value: ['n1', 'n3', 'n2'] }));
  expect(one(list('in', { me: 'unitIds' }))).toEqual(list('in', { value: ['n1', 'n2'] }));
  expect(one(list('among', { me: 'groupIds' }))).toEqual(list('in', { value: ['u2', 'u1'] }));
  expect(one(list('in', { me: 'groupIds' }))).toEqual({ op: 'is', field: 'name', to: { value: 'g1' } });
  for (const op of ['in', 'within', 'among'])
    expect([op, one(list(op, { me: 'attributes.none' })), one(list(op, { me: 'attributes.tags' })), one(list(op, { me: 'userId' }))]).toEqual([
      op,
      NEVER,
      NEVER,
      NEVER,
    ]);
  // Where the tree or the groups are not known here, the question stays open.
  for (const op of ['within', 'among']) {
    const open = one(list(op, { value: ['n1', 'elsewhere'] }));
    expect([open, compile(open, 'hive', shapes)({ name: 'n1' })]).toEqual([list(op, { value: ['n1', 'elsewhere'] }), undefined]);
  }
  expect(one(yard)).toEqual({ op: 'parent', via: 'yardId', where: level({ value: 2 }) });
  expect(one({ op: 'followed', via: 'yardId' })).toEqual({ op: 'parent', via: 'yardId', where: { op: 'is', field: 'level', to: { value: 1 } } });
  expect(one({ op: 'followed', via: 'yardId' }, 'shrink', { readable: () => NEVER })).toEqual(NEVER);
});

/** Parts of a few sorts and values, so that rules made of them often agree in all but one. */
const part = (who: readonly string[]) =>
  fc.oneof(
    fc.constantFrom(...who).map((value) => ({ op: 'is', field: 'name', to: { value } })),
    fc.constantFrom(...who).map((value) => ({ op: 'includes', field: 'helpers', to: { value } })),
    fc.constantFrom(...who).map((value) => ({ op: 'parent', via: 'yardId', where: { op: 'is', field: 'id', to: { value } } })),
    fc.constantFrom(0, 1).map((value) => ({ op: 'is', field: 'level', to: { value } })),
    fc.constantFrom({ op: 'isEmpty', field: 'price' }, { op: 'after', field: 'limit', to: { value: 0 } }),
  ) as fc.Arbitrary<Predicate>;
const WHO = ['A', 'Z', 'a'] as const;
const crowded = fc.record({
  name: fc.constantFrom(null, ...WHO),
  helpers: fc.subarray([...WHO]),
  yardId: fc.constantFrom(null, 'y'),
  parents: fc.constantFrom(...WHO).map((id) => ({ yardId: { id } })),
  level: fc.constantFrom(0, 1),
  limit: fc.constantFrom(0, 1),
  price: fc.constantFrom(null, '1.00'),
});
const holdsOn = (p: Predicate, one: object) => compile(p, 'hive', shapes)(one as never) === true;

test('rules that agree in all but one part become one rule, which holds where one of them did and nowhere else', () => {
  let shorter = 0;
  fc.assert(
    fc.property(
      fc.array(fc.uniqueArray(part(WHO), { minLength: 1, maxLength: 3, selector: (p) => JSON.stringify(p) }), { minLength: 2, maxLength: 6 }),
      crowded,
      (rules, one) => {
        const each = rules.map((of) => and(...of));
        const all = anyOf(each);
        expect(holdsOn(all, one)).toBe(each.some((p) => holdsOn(p, one)));
        if (JSON.stringify(all).length < JSON.stringify(or(...each)).length) shorter += 1;
      },
    ),
    { numRuns: LONG ? 3000 : 800 },
  );
  expect(shorter).toBeGreaterThan(LONG ? 150 : 30);
});

test('a rule for one person becomes the rule for any of many, where it can', () => {
  let widened = 0;
  const mine = fc.letrec<{ r: Predicate }>((tie) => ({
    r: fc.oneof(
      { depthSize: 'small' },
      part(['?me']),
      tie('r').map((of): Predicate => ({ op: 'not', of })),
      fc.record({ op: fc.constantFrom('and' as const, 'or' as const), of: fc.array(tie('r'), { minLength: 2, maxLength: 3 }) }),
      tie('r').map((of): Predicate => ({ op: 'and', of: [of, { op: 'isEmpty', field: 'price' }] })),
    ),
  })).r;
  fc.assert(
    fc.property(mine, fc.subarray([...WHO], { minLength: 1 }), crowded, (rule, many, one) => {
      const found = forOneOf(rule, '?me', many);
      if (!found) return;
      widened += 1;
      const of = (who: string) => JSON.parse(JSON.stringify(rule).replaceAll('?me', who)) as Predicate;
      expect(holdsOn(found, one)).toBe(many.some((who) => holdsOn(of(who), one)));
    }),
    { numRuns: LONG ? 3000 : 800 },
  );
  expect(widened).toBeGreaterThan(LONG ? 1000 : 200);
});

test('a value has one normal form, and at the edges of its type it is told from what is none', () => {
  const read =
    (type: Parameters<typeof readValue>[0], scale = 0) =>
    (raw: unknown) =>
      readValue(type, raw, scale);
  const cases: readonly (readonly [(raw: unknown) => unknown, readonly (readonly [unknown, unknown])[]])[] = [
    [
      read('integer'),
      [
        ['007', undefined],
        ['1x', undefined],
        ['x1', undefined],
        ['-12', -12],
        [2n ** 53n, undefined],
        [2 ** 53 - 1, 2 ** 53 - 1],
        [1.5, undefined],
        [true, undefined],
      ],
    ],
    [
      read('decimal', 2),
      [
        ['1', '1.00'],
        ['1.500', '1.50'],
        ['1.005', undefined],
        ['1.50', '1.50'],
        [1.5, '1.50'],
        [2n, '2.00'],
        ['-0.00', '0.00'],
        ['-0.01', '-0.01'],
        ['-10.0', '-10.00'],
        ['01', undefined],
        [{}, undefined],
      ],
    ],
    [
      read('decimal'),
      [
        ['12', '12'],
        ['12.0', '12'],
        ['12.1', undefined],
        ['-0', '0'],
      ],
    ],
    [
      read('instant'),
      [
        ['1970-01-01T00:00:00Z', '1970-01-01T00:00:00.000Z'],
        ['1969-12-31T23:59:59.999Z', undefined],
        ['2037-12-31T23:59:59.999Z', '2037-12-31T23:59:59.999Z'],
        ['2038-01-01T00:00:00Z', undefined],
        ['2026-05-01', undefined],
        ['2026-05-01 10:00:00+02', '2026-05-01T08:00:00.000Z'],
        [new Date(0), '1970-01-01T00:00:00.000Z'],
        [0, undefined],
      ],
    ],
    [
      read('boolean'),
      [
        [true, true],
        [1, undefined],
        ['true', undefined],
      ],
    ],
    [
      read('text'),
      [
        ['\u0000', undefined],
        ['\ud800', undefined],
        ['\udc00x', undefined],
        ['\u{10000}', '\u{10000}'],
        [7, undefined],
      ],
    ],
    [
      read('uuid'),
      [
        ['00000000-0000-4000-8000-00000000ABCD', '00000000-0000-4000-8000-00000000abcd'],
        ['00000000', undefined],
      ],
    ],
  ];
  for (const [of, pairs] of cases) for (const [raw, wanted] of pairs) expect([raw, of(raw)]).toEqual([raw, wanted]);
  // By code point, as databases order it: what is beyond the basic plane stands after all that is in it.
  const before = (a: string, b: string) => compile({ op: 'before', field: 'name', to: { value: b } }, 'hive', shapes)?.({ name: a }) === true;
  const inOrder = ['a', 'ab', 'b', '\ud7ff', '\ue000', '\uffff', '\u{10000}', '\u{10001}', '\u{1f41d}'];
  for (const [i, a] of inOrder.entries()) for (const [k, b] of inOrder.entries()) expect([a, b, before(a, b)]).toEqual([a, b, i < k]);
});

test('each mistake of a rule is told at its place', () => {
  const is = (field: string, to: unknown, op = 'is') => ({ op, field, to });
  const many = (n: number) => Array.from({ length: n }, (_, i) => i);
  const MISTAKES: readonly (readonly [rule: unknown, path: string, message: string])[] = [
    [null, '', 'is no predicate'],
    [[], '', 'is no predicate'],
    ['always', '', 'is no predicate'],
    [{ op: 'iss' }, '.op', 'no such operator "iss"'],
    [{ op: 'and', of: [] }, '.of', 'must be a list that is not empty'],
    [is('levle', { value: 1 }), '.field', 'did you mean level?'],
    [is(7 as never, { value: 1 }), '.field', 'no such field 7'],
    [is('level', null), '.to', 'give exactly one of'],
    [is('level', 7), '.to', 'give exactly one of'],
    [is('level', { me: 'userId', value: 1 }), '.to', 'give exactly one of'],
    [is('level', { us: 1 }), '.to', 'give exactly one of'],
    [is('name', { me: 'userid' }), '.to.me', 'no such fact'],
    [is('name', { me: 'attributes.' }), '.to.me', 'no such fact'],
    [is('name', { me: 'my.attributes.team' }), '.to.me', 'no such fact'],
    [is('name', { me: 'attributes.team.x' }), '.to.me', 'no such fact'],
    [is('name', { me: 'groupIds' }), '.to.me', 'is a list'],
    [is('name', { me: 'userId' }, 'in'), '.to.me', 'needs a list'],
    [is('name', { context: 7 }), '.to.context', 'is no name'],
    [is('name', { field: 'level' }), '.to.field', 'is of another type (integer) than text'],
    [is('name', { field: 'name' }, 'in'), '.to', 'cannot be asked of another field'],
    [is('level', { value: 'x' }), '.to.value', '"x" is no integer'],
    [is('level', { value: [1, 'x'] }, 'in'), '.to.value[1]', '"x" is no integer'],
    [is('level', { value: [1] }), '.to.value', 'must be one value'],
    [is('level', { value: 1 }, 'in'), '.to.value', 'must be a list'],
    [is('level', { value: many(1001) }, 'in'), '.to.value', 'at most'],
    [is('helpers', { value: 'a' }), '.op', 'is a list; write includes'],
    [is('name', { value: 'a' }, 'includes'), '.op', 'is no list; write is'],
    [is('name', { me: 'groupIds' }, 'among'), '.op', 'holds no person'],
    [is('name', { me: 'unitIds' }, 'within'), '.op', 'holds no unit'],
    [is('open', { value: true }, 'before'), '.op', 'has no order'],
    [{ op: 'isEmpty', field: 'helpers' }, '.field', 'a list is asked with includes'],
    [{ op: 'followed', via: 'name' }, '.via', 'points to no parent record'],
    [{ op: 'parent', via: 'nowhere', where: { op: 'always' } }, '.via', 'no such field'],
    [{ op: 'parent', via: 'yardId', where: is('open', { value: true }) }, '.where.field', 'no such field "open"'],
    [many(40).reduce((inner: unknown) => ({ op: 'not', of: inner }), { op: 'always' }), '.of'.repeat(17), 'is nested deeper'],
  ];
  for (const [rule, path, message] of MISTAKES) {
    const [first] = checkPredicate(rule, 'hive', shapes, 'rule');
    expect([JSON.stringify(rule).slice(0, 80), first?.path, first?.message]).toEqual([
      JSON.stringify(rule).slice(0, 80),
      `rule${path}`,
      expect.stringContaining(message),
    ]);
  }
  const SOUND: readonly unknown[] = [
    is('name', { me: 'userId' }),
    is('name', { me: 'attributes.team' }),
    is('name', { me: 'groupIds' }, 'in'),
    is('name', { context: 'channel' }),
    is('level', { field: 'limit' }),
    is('level', { value: [] }, 'in'),
    is('helpers', { me: 'userId' }, 'includes'),
    is('price', { value: '1.50' }, 'atLeast'),
    { op: 'followed', via: 'yardId' },
  ];
  for (const rule of SOUND) expect([rule, checkPredicate(rule, 'hive', shapes, 'rule')]).toEqual([rule, []]);
});
