import fc from 'fast-check';
import { expect, test } from 'vitest';
import {
  type Charter,
  defineCharter,
  defineKinds,
  type Facts,
  group,
  id,
  integer,
  maker,
  not,
  oneOf,
  owner,
  parent,
  people,
  readCharter,
  Standing,
  tenant,
  text,
  unit,
} from 'warm-lintel';
import { KnowingStanding } from '../src/standing/index.js';
import { LONG } from './long.js';

const ids = { type: 'text' } as const;
const kinds = defineKinds(
  {
    plot: {
      table: 'plots',
      label: 'name',
      base: ['own', 'tenant'],
      fields: {
        id: id(ids),
        tenantId: tenant(ids),
        ownerId: owner({ ...ids, change: 'hand' }),
        madeBy: maker(ids),
        siteId: unit({ ...ids, change: 'move' }),
        crewId: group({ ...ids, change: 'hand' }),
        tenders: people({ ...ids, table: 'tenders', tenant: 'tenant_id', record: 'plot_id', user: 'user_id', change: 'tend' }),
        name: text(),
        size: integer(),
        status: oneOf(['open', 'shut'], { change: 'shut' }),
        soil: text({ read: 'dig', change: 'dig' }),
        price: text({ read: 'appraise' }),
      },
      actions: {
        read: { label: 'See a plot' },
        create: { label: 'Add a plot' },
        update: { label: 'Change a plot' },
        hand: { label: 'Hand a plot over' },
        move: { label: 'Move a plot' },
        tend: { label: 'Say who tends a plot' },
        shut: { label: 'Shut a plot' },
        dig: { label: 'Dig a plot' },
        appraise: { label: 'See the price of a plot' },
        choose: { label: 'Name a plot' },
        bill: { label: 'Bill a plot', feature: 'billing' },
        stamp: { label: 'Stamp a plot', channels: ['desk', 'shop'] },
        burn: { label: 'Burn a plot', channels: [] },
      },
    },
    visit: {
      table: 'visits',
      label: 'words',
      fields: { id: id(ids), tenantId: tenant(ids), plotId: parent('plot', { ...ids, change: 'refile' }), madeBy: maker(ids), words: text() },
      actions: { read: { label: 'See a visit' }, update: { label: 'Correct a visit' }, refile: { label: 'File a visit' } },
    },
    sheet: { table: 'sheets', label: 'title', shared: true, fields: { id: id(ids), title: text() }, actions: { read: { label: 'Read a sheet' } } },
  },
  {
    plot: {
      own: ({ record, me }) => record.ownerId.is(me.userId),
      vacant: ({ record }) => record.ownerId.isEmpty(),
      tended: ({ record, me }) => record.tenders.includes(me.userId),
      near: ({ record, me }) => record.siteId.within(me.unitIds),
      crew: ({ record, me }) => record.crewId.in(me.groupIds),
      mates: ({ record, me }) => record.ownerId.among(me.groupIds),
      rich: ({ record }) => record.soil.is('clay'),
    },
    visit: {
      written: ({ record, me }) => record.madeBy.is(me.userId),
      ofOwnPlot: ({ record, me }) => record.plotId.parent.ownerId.is(me.userId),
      ofDear: ({ record }) => not(record.plotId.parent.price.is('1')),
    },
  },
);
const all = ['update', 'hand', 'move', 'tend', 'shut', 'dig', 'appraise', 'choose', 'bill', 'stamp', 'burn'] as const;
const charter = defineCharter(kinds, {
  areas: { plots: { label: 'Plots', perUnit: true }, till: { label: 'Till', feature: 'billing' } },
  roles: {
    viewer: { label: 'Viewer', may: { 'area.plots': 'tenant', 'plot.read': 'tenant', 'visit.read': 'followed' } },
    tiller: {
      label: 'Tiller',
      includes: ['viewer'],
      may: {
        'plot.create': 'own',
        'plot.update': ['own', 'vacant'],
        'plot.hand': 'own',
        'plot.dig': 'tended',
        'plot.tend': 'rich',
        'visit.update': ['written', 'ofDear'],
        'visit.refile': 'ofOwnPlot',
      },
    },
    scout: { label: 'Scout', may: { 'plot.read': ['near', 'crew'], 'plot.update': 'tenant', 'plot.move': 'mates', 'visit.read': 'written' } },
    base: { label: 'Base', may: { 'plot.read': 'base', 'plot.choose': 'tenant', 'plot.bill': 'base' } },
    chief: {
      label: 'Chief',
      includes: ['tiller', 'base'],
      may: { ...Object.fromEntries(all.map((action) => [`plot.${action}`, 'tenant'])), 'area.till': 'tenant', 'member.remove': 'tenant' } as {
        'member.remove': 'tenant';
      },
    },
  },
  limits: {
    plot: {
      shut: { actions: ['update', 'hand'], where: ({ record }) => record.status.is('shut'), sentence: 'a shut plot rests.' },
      bare: { actions: ['update', 'create'], where: ({ record }) => record.size.is(0), before: true, lasting: true, sentence: 'bare ground rests.' },
      ownBill: {
        actions: ['bill', 'create'],
        where: ({ record, me }) => record.tenders.includes(me.userId),
        lasting: true,
        sentence: 'nobody bills what they tend.',
      },
    },
  },
  obligations: {
    terms: { sentence: 'Read the terms.', before: 'everything' },
    proof: { sentence: 'Prove it.', before: ['plot.hand', 'member.remove'] },
    walked: { sentence: 'Walk the plots.', before: ['plot.read'] },
  },
  visitor: { 'sheet.read': 'shared' },
  signedIn: { 'sheet.read': 'shared', 'plot.read': 'vacant' },
  everyMember: { 'sheet.read': 'shared', 'plot.read': 'tended' },
});

const ALL_MET = ['terms', 'proof', 'walked'] as const;

/** Fewer where each of a thousand changes of the source is tried. */
const CASES = Number(process.env.LINTEL_CASES ?? (LONG ? 20_000 : 100));

type Row = Record<string, any>;
const LOOKS = /^(plot|visit|sheet)\.read$|^plot\.(choose|appraise)$|^area\.|^(member|audit)\.read$/;
/** What a caretaker has unasked: no field that shows by an action of its own. */
const CARED = /^\w+\.read$|^area\./;
const belowOf = (f: Facts, units: readonly string[]) => units.flatMap((one) => f.below?.[one] ?? []);
const plotOf = (kind: string, r: Row): Row | null => (kind === 'visit' ? r.parents.plotId : r);

/** The same rules, said a second time as plain functions. */
const RULES: Record<string, (r: Row, f: Facts) => boolean> = {
  'plot own': (r, f) => r.ownerId !== null && r.ownerId === f.me.userId,
  'plot vacant': (r) => r.ownerId === null,
  'plot tended': (r, f) => r.tenders.includes(f.me.userId),
  'plot near': (r, f) => belowOf(f, f.me.unitIds).includes(r.siteId),
  'plot crew': (r, f) => f.me.groupIds.includes(r.crewId),
  'plot mates': (r, f) => r.ownerId !== null && f.me.groupIds.some((one) => f.people?.[one]?.includes(r.ownerId)),
  'plot rich': (r) => r.soil === 'clay',
  'visit ofDear': (r) => !(r.parents.plotId !== null && r.parents.plotId.price === '1'),
  'visit written': (r, f) => r.madeBy !== null && r.madeBy === f.me.userId,
  'visit ofOwnPlot': (r, f) => r.parents.plotId !== null && r.parents.plotId.ownerId === f.me.userId,
  'visit followed': (r, f) => r.parents.plotId !== null && judge(f, 'plot.read', r.parents.plotId, { asked: 'by a rule' }),
};
const LIMITS = [
  { on: ['plot.update', 'plot.hand'], before: false, holds: (r: Row) => r.status === 'shut' },
  { on: ['plot.update', 'plot.create'], before: true, holds: (r: Row) => r.size === 0 },
  { on: ['plot.bill', 'plot.create'], before: false, holds: (r: Row, f: Facts) => f.me.userId === undefined || r.tenders.includes(f.me.userId) },
];

type Way = (record: Row | undefined) => boolean;
const roleGives = (f: Facts, role: string): [string, string][] => {
  const data = f.roles?.[role] ?? charter.data.roles[role as never];
  const own = Object.entries(data?.may ?? {}).flatMap(([p, reaches]) => reaches.map((reach): [string, string] => [p, reach]));
  return [...own, ...(data?.includes ?? []).flatMap((inner: string) => roleGives(f, inner))];
};

/** Every way by which somebody has a permission, each saying which records it covers. */
function waysOf(f: Facts, permission: string): Way[] {
  const [kind = ''] = permission.split('.');
  const isRecord = ['plot', 'visit', 'sheet'].includes(kind);
  const extends_ = (reach: string, r: Row) => {
    const meant = reach === 'base' ? (f.tenant.bases?.plot ?? 'own') : reach;
    return meant === 'tenant' || meant === 'shared' ? true : (RULES[`${kind} ${meant}`]?.(r, f) ?? false);
  };
  const at = (anchor: any, r: Row) =>
    anchor.on === 'tenant' ||
    (anchor.on === 'unit' && belowOf(f, [anchor.unitId]).includes(plotOf(kind, r)?.siteId)) ||
    (anchor.on === 'record' &&
      ((anchor.kind === kind && anchor.id === r.id) || (kind === 'visit' && anchor.kind === 'plot' && plotOf(kind, r)?.id === anchor.id)));
  const counts = (anchor: any) => isRecord || anchor.on === 'tenant' || (anchor.on === 'unit' && permission === 'area.plots');
  const way = (reach: string, anchor: any): Way[] => (counts(anchor) ? [(r) => !isRecord || r === undefined || (extends_(reach, r) && at(anchor, r))] : []);
  const everybody = (may: Record<string, readonly string[]>) => (may[permission] ?? []).flatMap((reach) => way(reach, { on: 'tenant' }));
  const { data } = charter;
  if (f.subject === 'visitor') return everybody(data.visitor);
  if (f.subject === 'signedIn') return everybody(data.signedIn);
  if (f.subject === 'suspended') return [];
  if (f.subject === 'caretaker') return CARED.test(permission) || f.care?.may.includes(permission) ? [() => true] : [];
  return [
    ...f.assignments.flatMap(({ role, anchor, without = [] }) => {
      if (role === 'keyholder') return anchor.on === 'tenant' ? [() => true] : [];
      return roleGives(f, role).flatMap(([p, reach]) => (p === permission && !without.includes(p) ? way(reach, anchor) : []));
    }),
    ...(f.direct ?? []).flatMap((one) => (one.permission === permission ? way(one.reach, one.anchor) : [])),
    ...(f.opened ?? []).flatMap((o) =>
      o.actions.some((a) => `plot.${a}` === permission) ? [(r?: Row) => r === undefined || (f.people?.[`opening ${o.id}`] ?? []).includes(r.ownerId)] : [],
    ),
    ...(f.program ? [] : everybody(data.everyMember)),
    ...(isRecord ? (f.standsFor ?? []) : []).flatMap(({ permissions, facts }) =>
      permissions.includes(permission)
        ? waysOf(facts, permission).map(
            (w): Way =>
              (r) =>
                w(r) && (r === undefined || !limited(facts, permission, r, false)),
          )
        : [],
    ),
  ];
}

const limited = (f: Facts, permission: string, r: Row, becomes: boolean) =>
  LIMITS.some((limit) => limit.on.includes(permission) && !(limit.before && (becomes || permission === 'plot.create')) && limit.holds(r, f));

const GUARDS: Record<string, string> = { ownerId: 'hand', siteId: 'move', crewId: 'hand', tenders: 'tend', status: 'shut', soil: 'dig', plotId: 'refile' };

interface How {
  readonly after?: boolean;
  readonly touching?: readonly string[];
  /** As a rule asks it, without what is asked of the request. */
  readonly asked?: 'by a rule';
}

/** The order of the decision, a second time. */
function outcome(f: Facts, permission: string, r: Row | undefined, how: How = {}): string {
  const [kind = '', action = ''] = permission.split('.');
  const isRecord = ['plot', 'visit', 'sheet'].includes(kind);
  const nothing = () => permissions.every((one) => waysOf(f, one).length === 0);
  if (!f.tenant.open || f.subject === 'suspended' || (f.subject !== 'member' && nothing())) return 'no standing';
  if (f.expiresAt !== undefined) return 'expired';
  if (r && kind !== 'sheet' && r.tenantId !== f.tenant.id && !how.asked) return 'other tenant';
  const asked = isRecord && !['read', 'create', 'choose'].includes(action) ? [permission, `${kind}.read`] : [permission];
  if (r && asked.some((one) => limited(f, one, r, how.after === true && one !== `${kind}.read`))) return 'limit';
  for (const one of asked) {
    if (f.look && !LOOKS.test(one)) return 'only a look';
    const channels = { 'plot.stamp': ['desk', 'shop'], 'plot.burn': [] as string[] }[one];
    if (channels && !channels.includes(f.channel ?? '')) return 'other channel';
  }
  const waits = { terms: permissions, proof: ['plot.hand', 'member.remove'], walked: ['plot.read'] };
  if (f.demands && Object.keys(f.demands).length > 0) return 'obligation';
  if (Object.entries(waits).some(([met, before]) => !f.fulfilled.includes(met) && asked.some((one) => before.includes(one)))) return 'obligation';
  if (asked.some((one) => ['plot.bill', 'area.till'].includes(one)) && !f.tenant.features.includes('billing')) return 'plan';
  const ways = asked.map((one) => waysOf(f, one));
  if (ways.some((by) => by.length === 0)) return 'no grant';
  if (!ways.every((by) => by.some((covers) => covers(r)))) return 'out of reach';
  if (f.look?.within && !judge(f.look.within, permission, r, how)) return 'only a look';
  const free = (field: string) => GUARDS[field] === undefined || GUARDS[field] === action || judge(f, `${kind}.${GUARDS[field]}`, r, { ...how, touching: [] });
  return (how.touching ?? []).every(free) ? 'allowed' : 'guarded field';
}
const judge = (...asked: Parameters<typeof outcome>) => outcome(...asked) === 'allowed';

const of = <T>(...values: readonly T[]) => fc.constantFrom(...values);
const USERS = ['ann', 'ben', 'cas'] as const;
const plot = fc.record({
  id: of('p1', 'p2'),
  tenantId: fc.oneof({ weight: 9, arbitrary: of('t') }, { weight: 1, arbitrary: of('u', null) }),
  ownerId: of('ann', ...USERS, null),
  madeBy: of(...USERS),
  siteId: of('north', 'valley', 'south', null),
  crewId: of('red', 'blue', null),
  tenders: fc.subarray([...USERS]),
  name: of('Plot'),
  size: of(0, 1, 2, null),
  status: of('open', 'open', 'shut', null),
  soil: of('clay', 'sand', null),
  price: of('1', '2'),
});
const visit = fc
  .record({
    id: of('v1', 'p1'),
    tenantId: fc.oneof({ weight: 9, arbitrary: of('t') }, { weight: 1, arbitrary: of('u') }),
    madeBy: of(...USERS),
    words: of('w'),
    at: fc.option(plot),
  })
  .map(({ at, ...rest }) => ({ ...rest, plotId: at?.id ?? null, parents: { plotId: at && { ...at, tenantId: 't' } } }));
const sheet = of({ id: 's', title: 'S' });
const anchor = fc.oneof(
  { weight: 3, arbitrary: of({ on: 'tenant' as const }) },
  { weight: 2, arbitrary: of('north', 'valley').map((unitId) => ({ on: 'unit' as const, unitId })) },
  { weight: 1, arbitrary: of(['plot', 'p1'], ['visit', 'v1']).map(([kind, at]) => ({ on: 'record' as const, kind: kind as string, id: at as string })) },
);
const permissions = [...charter.permissions.keys()];
const held = {
  assignments: fc.array(
    fc.record({
      role: of('keyholder', 'gone', 'own-a', ...Object.keys(charter.data.roles)),
      anchor,
      without: fc.subarray(['plot.read', 'plot.update'], { maxLength: 1 }),
    }),
    { maxLength: 3 },
  ),
  direct: fc.array(
    fc.constantFrom(...permissions).chain((permission) => fc.record({ permission: of(permission), reach: of(...charter.reachesOf(permission)), anchor })),
    { maxLength: 2 },
  ),
  opened: fc.array(fc.record({ id: of('o'), kind: of('plot'), actions: fc.subarray(['read', 'update', 'hand']), group: of({ id: 'red', name: 'Red' }) }), {
    maxLength: 1,
  }),
};
const tenantFacts = fc.record({
  id: of('t'),
  name: of('T'),
  open: fc.nat(9).map((n) => n > 0),
  contact: of('Ann', null),
  features: of([], ['billing'], ['billing']),
  bases: of<Record<string, string>>({}, { plot: 'tenant' }),
});
const below = { north: ['north', 'valley'], valley: ['valley'], south: ['south'] };
const crowd = { red: ['ben'], blue: ['cas'], 'opening o': ['ben', 'cas'] };
const ROLES = { 'own-a': { label: 'A', includes: ['viewer'], may: { 'plot.update': ['mates'], 'plot.gone': ['tenant'] }, gives: [] } };
const member = (userId: string) =>
  fc
    .record({ ...held, units: fc.subarray(['north', 'valley', 'south'], { maxLength: 1 }), groups: fc.subarray(['red', 'blue']) })
    .map(({ units, groups, ...rest }) => ({
      charter: charter.hash,
      subject: 'member' as const,
      me: { userId, name: userId, groupIds: groups, unitIds: units, attributes: {} },
      roles: ROLES,
      below,
      people: crowd,
      ...rest,
    }));
const rare = <T>(arbitrary: fc.Arbitrary<T>) => fc.option(arbitrary, { nil: undefined, freq: 3 });
const facts: fc.Arbitrary<Facts> = fc
  .record({
    tenant: tenantFacts,
    mine: member('ann'),
    subject: fc.oneof(
      { weight: 6, arbitrary: of('member' as const) },
      { weight: 3, arbitrary: of('visitor' as const, 'signedIn' as const, 'suspended' as const, 'caretaker' as const) },
    ),
    fulfilled: fc.oneof({ weight: 6, arbitrary: of([...ALL_MET]) }, { weight: 2, arbitrary: fc.subarray([...ALL_MET]) }),
    demands: fc.oneof({ weight: 12, arbitrary: of(undefined) }, { weight: 1, arbitrary: of<Record<string, string>>({ secondFactor: 'give it.' }, {}) }),
    channel: rare(of('desk', 'shop', 'street')),
    program: rare(of(true as const)),
    care: of(['plot.update', 'plot.read'], []),
    principal: rare(member('ben')),
    stands: fc.subarray(['plot.read', 'plot.update', 'plot.hand', 'visit.read'], { minLength: 1 }),
    viewer: rare(member('cas')),
    wide: fc.boolean(),
  })
  .map(({ tenant: t, mine, subject, fulfilled, demands, channel, program, care, principal, stands, viewer, wide }) => ({
    ...mine,
    tenant: t,
    subject,
    fulfilled,
    ...(subject === 'visitor' && { me: { groupIds: [], unitIds: [], attributes: {} } }),
    ...(demands && { demands }),
    ...(channel && { channel }),
    ...(subject === 'caretaker' && { care: { id: 'c', may: care } }),
    ...(subject === 'member' && program && { program }),
    ...(subject === 'member' &&
      principal && { standsFor: [{ of: { userId: 'ben', name: 'Ben' }, permissions: stands, facts: { ...principal, tenant: t, fulfilled } }] }),
    ...(subject === 'member' &&
      viewer && { look: { id: 'w', by: { userId: 'cas', name: 'Cas' }, ...(!wide && { within: { ...viewer, tenant: t, fulfilled } }) } }),
  }));

/** As if everything had been done that has to be done first. */
const met = (f: Facts): Facts => ({
  ...f,
  demands: {},
  fulfilled: [...ALL_MET],
  ...(f.standsFor && { standsFor: f.standsFor.map((one) => ({ ...one, facts: met(one.facts) })) }),
  ...(f.look && { look: { ...f.look, ...(f.look.within && { within: met(f.look.within) }) } }),
});

function holds(p: any, r: Row): boolean {
  if (p.op === 'and') return p.of.every((q: any) => holds(q, r));
  if (p.op === 'or') return p.of.some((q: any) => holds(q, r));
  if (p.op === 'not') return !holds(p.of, r);
  if (p.op === 'isEmpty') return r[p.field] === null;
  if (p.op === 'is') return r[p.field] !== null && r[p.field] === p.to.value;
  if (p.op === 'in') return r[p.field] !== null && p.to.value.includes(r[p.field]);
  if (p.op === 'parent') return r.parents[p.via] !== null && holds(p.where, r.parents[p.via]);
  return p.op === 'includes' ? r[p.field].includes(p.to.value) : p.op === 'always';
}

/** What each id in the draws is of. */
const WHAT: Readonly<Record<string, string>> = {
  ...Object.fromEntries(USERS.map((one) => [one, 'person'])),
  ...Object.fromEntries(['t', 'u'].map((one) => [one, 'tenant'])),
  ...Object.fromEntries(['north', 'valley', 'south'].map((one) => [one, 'unit'])),
  ...Object.fromEntries(['red', 'blue'].map((one) => [one, 'group'])),
  ...Object.fromEntries(['p1', 'p2', 'v1'].map((one) => [one, 'record'])),
};
const OF_ROLE: Readonly<Record<string, string>> = { owner: 'person', maker: 'person', people: 'person', id: 'record', parent: 'record' };
const NAMES = Object.keys(WHAT);
const idTypes = fc.record(Object.fromEntries(['person', 'tenant', 'unit', 'group', 'record'].map((what) => [what, of('text', 'integer', 'uuid')])));
const typedCharters = new Map<string, Charter<any>>();

/** The same charter, facts and records with ids of other types; and records as the body of a request writes them. */
function withTypes(types: Readonly<Record<string, string>>) {
  const asId = (name: string): unknown => {
    const [type, i] = [types[WHAT[name] as string], NAMES.indexOf(name)];
    return type === 'text' ? name : type === 'integer' ? i - 3 : `0000000${i.toString(16)}-00ab-4000-8000-000000000000`;
  };
  const walk = (value: any, leaf: (id: unknown) => unknown): any => {
    if (typeof value === 'string') return Object.hasOwn(WHAT, value) ? leaf(asId(value)) : value;
    if (Array.isArray(value)) return value.map((one) => walk(one, leaf));
    if (typeof value !== 'object' || value === null) return value;
    return Object.fromEntries(Object.entries(value).map(([key, inner]) => [Object.hasOwn(WHAT, key) ? String(asId(key)) : key, walk(inner, leaf)]));
  };
  const key = JSON.stringify(types);
  const { data } = charter;
  const retyped = ({ fields, ...kind }: any) => ({
    ...kind,
    fields: Object.fromEntries(
      Object.entries<any>(fields).map(([name, field]) => [
        name,
        field.role === 'plain' || kind.shared ? field : { ...field, type: types[OF_ROLE[field.role] ?? field.role] },
      ]),
    ),
  });
  const made =
    typedCharters.get(key) ?? readCharter({ ...data, kinds: Object.fromEntries(Object.entries(data.kinds).map(([name, kind]) => [name, retyped(kind)])) });
  typedCharters.set(key, made);
  return {
    charter: made,
    facts: (f: Facts): Facts => JSON.parse(JSON.stringify(walk(f, String)).replaceAll(charter.hash, made.hash)),
    row: (r: Row): Row => walk(r, (id) => id),
    sent: (r: Row): Row => walk(r, (id) => (typeof id === 'number' ? String(id) : String(id).includes('-4000-') ? String(id).toUpperCase() : id)),
  };
}

test('every decision is what a second reading of the rules makes of it, whatever somebody holds, stands in for, looks as, and comes by', () => {
  const onRecords = permissions.filter((one) => /^(plot|visit|sheet)\./.test(one));
  const asked = fc.oneof({ weight: 4, arbitrary: of(...onRecords) }, { weight: 1, arbitrary: of(...permissions) }).chain((permission) => {
    const [kind] = permission.split('.');
    const record = kind === 'plot' ? plot : kind === 'visit' ? visit : kind === 'sheet' ? sheet : of(undefined);
    return fc.record({
      permission: of(permission),
      record: record as fc.Arbitrary<Row | undefined>,
      touching: fc.subarray(['name', 'ownerId', 'siteId', 'soil', 'status', 'tenders'], { maxLength: 2 }),
    });
  });
  let allowed = 0;
  fc.assert(
    fc.property(facts, asked, idTypes, fc.boolean(), (f, { permission, record: row, touching }, types, isSent) => {
      const as = withTypes(types);
      const standing = new Standing(as.charter, as.facts(f)) as Standing<any>;
      const [kind, action] = permission.split('.');
      const record = row && (isSent ? as.sent(row) : as.row(row));
      if (record === undefined || action === 'create') {
        if (action !== 'create') expect(standing.decide(permission).outcome).toBe(outcome(f, permission, undefined));
        return;
      }
      const wanted = judge(f, permission, row);
      allowed += wanted ? 1 : 0;
      const decision = standing.decide(permission, record);
      expect([decision.allowed, standing.may(permission, record), standing.keep(permission, [record]).length === 1]).toEqual([wanted, wanted, wanted]);
      expect(decision.outcome).toBe(outcome(f, permission, row));
      expect(standing.decide(permission, record, { after: true }).outcome).toBe(outcome(f, permission, row, { after: true }));
      if (kind === 'plot') expect(standing.decide(permission, record, { fields: touching }).outcome).toBe(outcome(f, permission, row, { touching }));
      expect(holds(standing.filter(permission), as.row(row as Row))).toBe(wanted);
      expect(decision.visibility).toBe(judge(met(f), `${kind}.read`, row) ? 'visible' : 'hidden');
      // What is hidden is never named; and where only yes will do, a refusal is an error by its sort.
      const hides = decision.visibility === 'hidden';
      if (hides && !wanted) expect(decision.words).toBe(`There is no such ${kind}.`);
      const code = hides ? 'not-found' : decision.outcome === 'obligation' ? 'obligation-open' : 'refused';
      const insists = () => standing.insist(permission, record);
      if (wanted) insists();
      else expect(insists).toThrow(expect.objectContaining({ code, details: { decision } }));
      // A bound that holds without a record holds with each.
      if (wanted) expect(standing.may(permission)).toBe(true);
      // What ends is over.
      expect(
        new Standing(as.charter, { ...as.facts(f), expiresAt: '2026-01-01T00:00:00Z' }, { now: () => Date.UTC(2026, 0, 2) }).may(
          permission as never,
          record as never,
        ),
      ).toBe(false);
    }),
    { numRuns: CASES },
  );
  expect(allowed).toBeGreaterThan(CASES / 25);
});

test('what is made is judged as the library will stamp it; forms and lists of powers say the same', () => {
  const GIVEN = ['tenantId', 'ownerId', 'siteId', 'crewId', 'tenders', 'size', 'status', 'soil', 'price'];
  let made = 0;
  fc.assert(
    fc.property(facts, plot, fc.subarray(GIVEN), idTypes, fc.boolean(), (f, whole, given, types, isSent) => {
      const as = withTypes(types);
      const comes = (r: Row) => (isSent ? as.sent(r) : as.row(r));
      const standing = new Standing(as.charter, as.facts(f)) as Standing<any>;
      const me = f.me.userId ?? null;
      const input = Object.fromEntries(given.map((field) => [field, whole[field as keyof typeof whole]]));
      const stamped = {
        id: null,
        name: null,
        siteId: null,
        crewId: null,
        size: null,
        status: null,
        soil: null,
        price: null,
        tenders: [],
        ownerId: me,
        ...input,
        madeBy: me,
        tenantId: input.tenantId ?? 't',
      };
      const touching = Object.keys(GUARDS).filter(
        (field) => ![undefined, null, ''].includes(input[field] as never) && String(input[field]) !== '' && !(field === 'ownerId' && input.ownerId === me),
      );
      const wanted = outcome(f, 'plot.create', stamped, { after: true, touching });
      made += wanted === 'allowed' ? 1 : 0;
      expect(standing.decide('plot.create', comes(input)).outcome).toBe(wanted);
      expect(standing.may('plot.create', comes(input))).toBe(wanted === 'allowed');
      expect(standing.describe().permissions.map(({ permission }) => permission)).toEqual(
        f.tenant.open ? permissions.filter((one) => waysOf(f, one).length > 0) : [],
      );

      const fields = standing.fields('plot.update', comes(whole));
      const reads = judge(f, 'plot.read', whole);
      for (const [field, { readable, changeable, setByLibrary, reason }] of Object.entries(fields)) {
        const kept = ['id', 'tenantId', 'madeBy'].includes(field);
        const shows = { soil: 'plot.dig', price: 'plot.appraise' }[field];
        expect([field, readable, setByLibrary]).toEqual([
          field,
          reads && (shows === undefined || judge(f, shows, whole)),
          field === 'tenantId' || field === 'madeBy',
        ]);
        expect([field, changeable]).toEqual([field, !kept && judge(f, `plot.${GUARDS[field] ?? 'update'}`, whole)]);
        expect(reason === '').toBe(kept || changeable);
      }
      const { ownerId } = standing.fields('plot.create', comes(input));
      expect([ownerId?.readable, ownerId?.changeable]).toEqual([true, wanted === 'allowed']);
    }),
    { numRuns: CASES },
  );
  expect(made).toBeGreaterThan(CASES / 300);
});

test('in a look every decision says what the person could do, where whoever looks may know of what it rests on; what is hidden from them changes no word of it', () => {
  const SHOWS = { soil: 'plot.dig', price: 'plot.appraise' };
  const sees = (v: Facts | undefined, permission: string, r?: Row) => v === undefined || judge(v, permission, r);
  /** What somebody sees of a plot. */
  const seenOf = (v: Facts | undefined, r: Row | null) => [
    r && sees(v, 'plot.read', r) && Object.entries(r).filter(([field]) => !(field in SHOWS) || sees(v, SHOWS[field as 'soil'], r)),
  ];
  /** The same plot to whoever looks, and otherwise the other. */
  const elsewise = (v: Facts | undefined, r: Row | null, other: Row) => {
    const [seen] = seenOf(v, r);
    return seen ? { ...other, ...Object.fromEntries(seen) } : r && { ...other, id: r.id };
  };
  const told = { all: 0, something: 0 };
  // Often one whom they may see, of a plot that they may not.
  const looks = facts.filter((f) => f.look !== undefined);
  const WRITTEN = [{ role: 'scout', anchor: { on: 'tenant' as const }, without: [] }];
  const narrow = (f: Facts): Facts => ({
    ...f,
    look: {
      ...(f.look as NonNullable<Facts['look']>),
      within: {
        ...f,
        ...f.look?.within,
        look: undefined,
        me: { userId: 'cas', groupIds: [], unitIds: [], attributes: {} },
        subject: 'member',
        assignments: WRITTEN,
        direct: [],
        opened: [],
        standsFor: [],
      } as never,
    },
  });
  const looking = fc.oneof(looks, looks.map(narrow));
  const visits = fc.tuple(visit, fc.boolean()).map(([one, isTheirs]) => (isTheirs ? { ...one, madeBy: 'cas' as const } : one));
  const asked = fc.oneof(of(...permissions), of('visit.update', 'visit.refile', 'visit.read', 'plot.tend'));
  fc.assert(
    fc.property(looking, plot, plot, visits, member('ben'), asked, fc.boolean(), (f, row, other, call, principal, permission, isWhole) => {
      const { look, ...own } = f;
      const v = look?.within;
      const kind = permission.split('.')[0] as string;
      const ofPlot = kind === 'plot';
      if (!['plot', 'visit'].includes(kind) || (isWhole && !permission.endsWith('.create'))) call = undefined as never;
      const record = call && (ofPlot ? row : call);
      const ask = (facts_: Facts, r: Row | undefined) => (new KnowingStanding(charter, facts_) as Standing<any>).decide(permission, r);
      const { could } = ask(f, record);
      const decided = ask({ ...own, demands: {}, fulfilled: [...ALL_MET] }, record).allowed;
      if (could?.allowed !== 'unknown') expect(could?.allowed).toBe(decided);
      const wide = [
        ...(v?.assignments ?? []).map(({ role, anchor: at }) => [role, at.on]),
        ...(v?.direct ?? []).map((d) => [d.permission + d.reach, d.anchor.on]),
      ];
      const ofAll = ['keyholder', 'member.readtenant'];
      const knowsAll = sees(v, 'member.read') && (v === undefined || wide.some(([what, on]) => on === 'tenant' && ofAll.includes(what as string)));
      const at = ofPlot ? row : (call?.parents.plotId ?? null);
      const seesAll =
        permission.endsWith('.create') || !record || (sees(v, `${kind}.read`, record) && (!at || (seenOf(v, at)[0] || []).length === Object.keys(at).length));
      if (knowsAll && seesAll) expect(could?.allowed).toBe(decided);
      told.all += 1;
      told.something += could?.allowed === 'unknown' ? 0 : 1;
      // Another world, which to whoever looks is the same.
      const twin = elsewise(v, at, other);
      const readsCall = call && !ofPlot && sees(v, 'visit.read', call);
      const recordThere =
        record &&
        (ofPlot
          ? permission === 'plot.create'
            ? record
            : (twin as Row)
          : readsCall
            ? { ...call, parents: { plotId: twin } }
            : { ...call, madeBy: other.ownerId });
      fc.pre(JSON.stringify(seenOf(v, at)) === JSON.stringify(seenOf(v, twin)));
      if (recordThere && !ofPlot) fc.pre(sees(v, 'visit.read', recordThere) === readsCall);
      const there: Facts = knowsAll
        ? f
        : {
            ...f,
            people: { red: ['ann', 'cas'], blue: [], 'opening o': ['ann'] },
            below: { north: ['north'], valley: ['valley', 'south'], south: [] },
            ...(f.standsFor && { standsFor: f.standsFor.map((one) => ({ ...one, facts: { ...one.facts, ...principal } as Facts })) }),
          };
      expect(ask(there, recordThere).could).toEqual(could);
    }),
    { numRuns: CASES },
  );
  expect(told.something).toBeGreaterThan(told.all / 4);
  expect(told.all - told.something).toBeGreaterThan(told.all / 20);
});

test('each refusal says what, by which rule, and whom to ask', () => {
  const whole = { on: 'tenant' } as const;
  const base: Facts = {
    charter: charter.hash,
    tenant: { id: 't', name: 'Tower allotments', open: true, contact: null, features: [] },
    subject: 'member',
    me: { userId: 'ann', name: 'Ann', groupIds: [], unitIds: [], attributes: {} },
    assignments: [{ role: 'chief', anchor: whole }],
    below: {},
    people: {},
    fulfilled: [...ALL_MET],
  };
  const row = {
    id: 'p1',
    tenantId: 't',
    ownerId: 'ben',
    madeBy: 'ben',
    siteId: null,
    crewId: null,
    tenders: [],
    name: 'Bean row',
    size: 1,
    status: 'open',
    soil: null,
    price: null,
  };
  const said = (more: Partial<Facts>, permission: string, over: object = {}, options?: object) => {
    const {
      words,
      outcome: is,
      record,
      rule,
      needs,
    } = (new Standing(charter, { ...base, ...more }) as Standing<any>).decide(permission, { ...row, ...over }, options);
    return [is, words, record?.label, rule, needs].filter((one) => one !== undefined);
  };
  const tiller = { assignments: [{ role: 'tiller', anchor: whole }] };
  const view = { look: { id: 'v', by: { userId: 'cas', name: 'Cas' } } };
  const { name: _, ...unnamed } = row;
  const ONLY_OWN = 'You may change a plot only where you are the owner or owner is empty.';
  const ASK = 'Ask a keyholder of Tower allotments.';
  expect([
    said({}, 'plot.update'),
    said({}, 'plot.update', { status: 'shut' }),
    said(view, 'plot.update'),
    said({}, 'plot.stamp'),
    said({}, 'plot.burn'),
    said({ fulfilled: ['terms', 'walked'] }, 'plot.hand'),
    said({}, 'plot.bill'),
    said(tiller, 'plot.move'),
    said(tiller, 'plot.update'),
    said({ ...tiller, tenant: { ...base.tenant, contact: 'Maud' } }, 'plot.update', { ownerId: 'ann', name: '' }, { fields: ['name', 'status'] }),
    said({}, 'plot.update', { status: undefined }),
    said({ expiresAt: '2020-01-01T00:00:00Z' }, 'plot.update'),
    said({}, 'plot.update', { tenantId: 'u' }),
    (new Standing(charter, { ...base, ...tiller }) as Standing<any>).decide('plot.update', unnamed).words,
  ]).toEqual([
    ['allowed', 'You may change a plot.', 'Bean row'],
    ['limit', 'Bean row stays as it is: a shut plot rests.', 'Bean row', 'shut'],
    ['only a look', 'You look as Ann: you change nothing, and see no more than before.', 'Bean row'],
    ['other channel', 'From here you cannot stamp a plot. It is done by: desk, shop.', 'Bean row', 'desk, shop'],
    ['other channel', 'Nobody can burn a plot at present.', 'Bean row', ''],
    ['obligation', 'One thing first: Prove it.', 'Bean row', 'proof'],
    ['plan', '“billing” is not part of the plan of Tower allotments. Ask a keyholder of Tower allotments.', 'Bean row', 'billing'],
    ['no grant', 'No role of yours lets you move a plot. Ask a keyholder of Tower allotments.', 'Bean row'],
    ['out of reach', `${ONLY_OWN} That is not so for Bean row. ${ASK}`, 'Bean row'],
    ['guarded field', 'You may change a plot, but status takes the right to shut a plot. Ask Maud.', 'this plot', 'status', 'plot.shut'],
    ['not loaded', 'Whether you may change a plot shows when the record is loaded.', 'Bean row'],
    ['expired', 'This page is out of date. Load it again.', 'Bean row'],
    ['other tenant', 'There is no such plot.', 'Bean row'],
    `${ONLY_OWN} That is not so for this plot. ${ASK}`,
  ]);
  const powers = (more: Partial<Facts>) => new Standing(charter, { ...base, assignments: [], ...more }).describe().line;
  const direct = [
    { permission: 'plot.move', reach: 'tenant', anchor: whole },
    { permission: 'plot.hand', reach: 'own', anchor: whole },
  ];
  expect([
    powers({ direct }),
    powers({ ...tiller, direct }),
    powers({ subject: 'signedIn' }),
    powers({ assignments: [{ role: 'keyholder', anchor: whole }] }),
  ]).toEqual(['2 more', 'Tiller, and 1 more', 'signed in', 'Keyholder']);
});
