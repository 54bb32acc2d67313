/* What can be said of rules without a record in hand: tried against every record of a small world. */
import fc from 'fast-check';
import { expect, test } from 'vitest';
import { disjoint, implies, type Predicate, unsatisfiable } from 'warm-lintel';
import { anyOf, compile, forOneOf, type Shapes, specialise } from '../src/predicate/index.js';
import { LONG } from './long.js';

const shapes: Shapes = {
  yard: { table: 'yards', idField: 'id', tenantField: 'tenantId', fields: { id: { type: 'text', column: 'id' }, level: { type: 'integer', column: 'level' } } },
  hive: {
    table: 'hives',
    idField: 'id',
    tenantField: 'tenantId',
    fields: {
      ownerId: { type: 'text', column: 'owner_id', person: true },
      unitId: { type: 'text', column: 'unit_id', unit: true },
      yardId: { type: 'text', column: 'yard_id', to: 'yard' },
      level: { type: 'integer', column: 'level' },
      limit: { type: 'integer', column: 'limit' },
      open: { type: 'boolean', column: 'open' },
      helpers: { type: 'text', column: '', link: { table: 'l', tenant: 't', record: 'r', user: 'u' } },
    },
  },
};
const is = (field: string, to: object, op = 'is') => ({ op, field, to }) as Predicate;
const mine = is('ownerId', { me: 'userId' });
const not = (of: Predicate): Predicate => ({ op: 'not', of });
const both = (...of: Predicate[]): Predicate => ({ op: 'and', of });
const any = (...of: Predicate[]): Predicate => ({ op: 'or', of });

test('what one would say of rules by looking at them', () => {
  const says = (p: Predicate, q: Predicate) => implies(p, q, 'hive', shapes).verdict;
  const over = (n: number) => is('level', { value: n }, 'after');
  expect(says(both(mine, over(3)), mine)).toBe('yes');
  expect(says(mine, both(mine, over(3)))).toBe('no');
  expect(says(over(3), over(2))).toBe('yes');
  expect(says(over(3), is('level', { value: 4 }, 'atLeast'))).toBe('yes'); // whole numbers
  expect(says(both(is('level', { field: 'limit' }, 'after'), is('limit', { value: 5 }, 'atLeast')), over(5))).toBe('yes');
  expect(says(not(mine), not(is('ownerId', { value: 'u1' })))).toBe('no');
  expect(says(is('unitId', { me: 'unitIds' }, 'within'), not({ op: 'isEmpty', field: 'unitId' }))).toBe('yes');
  expect(says(is('unitId', { me: 'unitIds' }, 'in'), is('unitId', { me: 'unitIds' }, 'within'))).toBe('yes');
  expect(says({ op: 'followed', via: 'yardId' }, { op: 'parent', via: 'yardId', where: { op: 'always' } })).toBe('yes');
  // What is missing of the person makes a reach smaller, also behind a "not".
  expect(says(not(is('level', { me: 'attributes.level' }, 'atMost')), not({ op: 'never' }))).toBe('yes');
  expect(disjoint(mine, { op: 'isEmpty', field: 'ownerId' }, 'hive', shapes).verdict).toBe('yes');
  expect(disjoint(over(3), is('level', { value: 3 }, 'before'), 'hive', shapes).verdict).toBe('yes');
  expect(unsatisfiable(both(over(3), is('level', { value: 4 }, 'before')), 'hive', shapes).verdict).toBe('yes');
  const parted = implies(mine, is('helpers', { me: 'userId' }, 'includes'), 'hive', shapes);
  expect(parted).toMatchObject({ verdict: 'no', example: { record: { ownerId: expect.any(String) } } });
});

test('too large to try is undecided, and said to be', () => {
  const wide = both(
    ...Array.from({ length: 40 }, (_, i) => any(is('level', { value: i * 10 }), is('limit', { value: i * 7 }), is('level', { field: 'limit' }))),
  );
  expect(implies(wide, not(mine), 'hive', shapes).verdict).toBe('undecided');
});

const LEVELS = [null, -1, 0, 1, 2, 3];
const PEOPLE = [null, 'u1', 'u2'];
const leaf: fc.Arbitrary<Predicate> = fc.oneof(
  fc.record({
    op: fc.constantFrom('is', 'before', 'after', 'atLeast', 'atMost'),
    field: fc.constantFrom('level', 'limit'),
    to: fc.oneof(
      fc.constantFrom(0, 1, 2).map((value) => ({ value })),
      fc.constant({ field: 'limit' }),
      fc.constant({ me: 'attributes.level' }),
    ),
  }),
  fc.record({ op: fc.constant('is'), field: fc.constant('ownerId'), to: fc.constantFrom<object>({ value: 'u1' }, { me: 'userId' }) }),
  fc.record({ op: fc.constant('isEmpty'), field: fc.constantFrom('ownerId', 'level') }),
  fc.constantFrom({ op: 'is', field: 'open', to: { value: true } }),
  fc.record({ op: fc.constant('parent'), via: fc.constant('yardId'), where: fc.constantFrom(is('level', { value: 1 }, 'after'), { op: 'always' }) }),
) as fc.Arbitrary<Predicate>;
const rule = fc.letrec<{ r: Predicate }>((tie) => ({
  r: fc.oneof(
    { depthSize: 'small' },
    leaf,
    tie('r').map(not),
    fc.record({ op: fc.constantFrom('and', 'or'), of: fc.array(tie('r'), { minLength: 1, maxLength: 2 }) }) as fc.Arbitrary<Predicate>,
  ),
})).r;

/** Every record and person of the small world on which a rule holds. */
function* everything(): Generator<{ record: object; me: object }> {
  for (const level of LEVELS)
    for (const limit of LEVELS)
      for (const ownerId of PEOPLE)
        for (const open of [null, true])
          for (const yard of [null, { level: 1 }, { level: 2 }])
            for (const userId of [undefined, 'u1'])
              for (const mineLevel of [undefined, 0, 2])
                yield {
                  record: { level, limit, ownerId, open, yardId: yard && 'y', parents: { yardId: yard } },
                  me: { ...(userId && { userId }), attributes: mineLevel === undefined ? {} : { level: mineLevel } },
                };
}
const holds = (p: Predicate, { record, me }: { record: any; me: any }, context = {}) =>
  compile(
    specialise(p, 'hive', shapes, { me, context, below: () => [], peopleOf: () => [], readable: () => ({ op: 'never' }) }, 'shrink'),
    'hive',
    shapes,
  )(record);
const all = [...everything()];

test('an answer of yes has no exception, and an answer of no shows one', () => {
  let [yes, no] = [0, 0];
  fc.assert(
    fc.property(rule, rule, (p, q) => {
      const answer = implies(p, q, 'hive', shapes);
      if (answer.verdict === 'undecided') return;
      if (answer.verdict === 'yes') {
        yes += 1;
        expect(all.find((one) => holds(p, one) === true && holds(q, one) === false)).toBeUndefined();
      } else {
        no += 1;
        expect(holds(p, answer.example)).toBe(true);
        expect(holds(q, answer.example)).toBe(false);
      }
    }),
    { numRuns: LONG ? 3000 : 150 },
  );
  expect(Math.min(yes, no)).toBeGreaterThan(LONG ? 20 : 5);
});

test('many rules as one hold where one of them does, and what differs by person alone is one list', () => {
  const known = (userId: string) => ({
    me: { userId, attributes: {} },
    context: {},
    below: () => [],
    peopleOf: () => [],
    readable: () => not(is('open', { value: true })),
  });
  const of = (p: Predicate, userId: string) => specialise(p, 'hive', shapes, known(userId), 'shrink');
  const mineOrHelped = any(both(mine, not(is('open', { value: true }))), is('helpers', { me: 'userId' }, 'includes'));
  const behind: Predicate = any({ op: 'parent', via: 'yardId', where: is('level', { value: 1 }) }, mine);
  const every7th = all.filter((_, i) => i % 7 === 0);
  fc.assert(
    fc.property(fc.array(fc.tuple(fc.oneof(rule, fc.constantFrom(mineOrHelped, behind)), fc.constantFrom('u1', 'u2', 'u3')), { maxLength: 6 }), (rules) => {
      const each = rules.map(([p, user]) => of(p, user));
      const [one, apart] = [compile(anyOf(each), 'hive', shapes), each.map((p) => compile(p, 'hive', shapes))];
      for (const { record } of every7th) {
        const full = { ...record, helpers: ['u3'] };
        expect(one(full)).toBe(apart.some((holdsFor) => holdsFor(full) === true));
      }
    }),
    { numRuns: LONG ? 1000 : 12 },
  );
  const people = Array.from({ length: 5000 }, (_, i) => `p${i}`);
  const text = JSON.stringify(anyOf(people.map((user) => of(any(mineOrHelped, behind), user))));
  expect(text.match(/"value"/g)?.length).toBe(3);
});

test('a rule for one person becomes that of any of many, or it is said that it does not', () => {
  const notes = {
    note: {
      table: 'n',
      idField: 'id',
      fields: { id: { type: 'text', column: 'id' }, owner: { type: 'text', column: 'owner' }, maker: { type: 'text', column: 'maker' } },
    },
  } as Shapes;
  const ME = '?me';
  const { leaf } = fc.letrec<{ leaf: Predicate }>((tie) => ({
    leaf: fc.oneof(
      { depthSize: 'small' },
      fc.constantFrom<Predicate>(
        { op: 'is', field: 'owner', to: { value: ME } },
        { op: 'is', field: 'maker', to: { value: ME } },
        { op: 'is', field: 'owner', to: { value: 'fixed' } },
        { op: 'isEmpty', field: 'owner' },
        { op: 'in', field: 'maker', to: { value: ['a', ME] } },
      ),
      tie('leaf').map((of): Predicate => ({ op: 'not', of })),
      fc
        .tuple(fc.constantFrom('and' as const, 'or' as const), fc.array(tie('leaf'), { minLength: 2, maxLength: 3 }))
        .map(([op, of]): Predicate => ({ op, of })),
    ),
  }));
  const as = (p: Predicate, who: string): Predicate => JSON.parse(JSON.stringify(p).replaceAll(ME, who));
  const values = ['a', 'b', 'c', 'fixed', null];
  let [widened, all] = [0, 0];
  fc.assert(
    fc.property(leaf, (p) => {
      const many = ['a1', 'b1', 'c1'];
      const together = forOneOf(as(p, 'a1'), 'a1', many);
      all += 1;
      if (!together) return;
      widened += 1;
      for (const owner of [...values, ...many]) {
        for (const maker of [...values, ...many]) {
          const record = { id: 'x', owner, maker };
          const each = many.some((who) => compile(as(p, who), 'note', notes)(record) === true);
          expect([p, record, compile(together, 'note', notes)(record)]).toEqual([p, record, each]);
        }
      }
    }),
    { numRuns: 400 },
  );
  expect(widened).toBeGreaterThan(all / 5);
});
