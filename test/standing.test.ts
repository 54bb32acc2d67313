import { expect, test } from 'vitest';
import { type Facts, openStanding, readCharter, Standing } from 'warm-lintel';
import { charter } from '../examples/apiary/world/charter.js';

const tenantFacts = { id: 'alderbrook', name: 'Alderbrook', open: true, contact: 'Maren', features: [] as string[] };
const facts = (over: Partial<Facts> = {}): Facts => ({
  charter: charter.hash,
  tenant: tenantFacts,
  subject: 'member',
  me: { userId: 'tobias', name: 'Tobias', groupIds: [], unitIds: ['orchards'], attributes: {} },
  assignments: [{ role: 'keeper', anchor: { on: 'tenant' } }],
  below: { orchards: ['orchards', 'upper-orchard'] },
  fulfilled: ['recentSignIn'],
  ...over,
});
const keeper = new Standing(charter, facts());
const hive = {
  id: 'h1',
  tenantId: 'alderbrook',
  keeperId: 'tobias',
  madeBy: 'maren',
  siteId: null,
  name: 'Amber',
  colonies: 1,
  status: 'active',
  registrationNo: null,
  inspectors: [],
} as const;
const outcome = (standing: Standing<any>, action: string, record?: object, options?: object) => standing.decide(action, record, options).outcome;

test('the first that applies decides, in the order of the design', () => {
  const by = (role: string, over: Partial<Facts> = {}) => new Standing(charter, facts({ assignments: [{ role, anchor: { on: 'tenant' } }], ...over }));
  expect(() => keeper.may('hive.updte' as never)).toThrow('no action "hive.updte"; did you mean hive.update?');
  for (const nobody of [
    facts({ subject: 'suspended' }),
    facts({ subject: 'signedIn' }),
    facts({ subject: 'visitor' }),
    facts({ tenant: { ...tenantFacts, open: false } }),
  ]) {
    expect(new Standing(charter, nobody).decide('hive.read', hive)).toMatchObject({ outcome: 'no standing', visibility: 'hidden', allowed: false });
  }
  expect(keeper.decide('hive.update', { ...hive, tenantId: 'quillmoor' })).toMatchObject({ outcome: 'other tenant', visibility: 'hidden' });
  expect(keeper.decide('hive.update', { ...hive, tenantId: null })).toMatchObject({ outcome: 'other tenant', visibility: 'hidden' });
  // A record that is to be made gets its tenant, whether none is named or an empty one.
  for (const tenantId of [undefined, null]) expect(keeper.may('hive.create', { name: 'New', tenantId } as never)).toBe(true);
  expect(keeper.decide('hive.update', { ...hive, status: 'archived' })).toMatchObject({ outcome: 'limit', rule: 'archived', visibility: 'visible' });
  expect(outcome(by('keyholder'), 'hive.update', { ...hive, status: 'archived' })).toBe('limit');
  expect(outcome(by('keyholder', { fulfilled: [] }), 'member.remove')).toBe('obligation');
  expect(outcome(by('reader'), 'hive.update', hive)).toBe('no grant');
  expect(outcome(keeper, 'hive.update', { ...hive, keeperId: 'sela' })).toBe('out of reach');
  expect(keeper.decide('hive.update', hive, { fields: ['name', 'registrationNo'] })).toMatchObject({
    outcome: 'guarded field',
    rule: 'registrationNo',
    needs: 'hive.register',
  });
  expect(outcome(keeper, 'hive.update', hive, { fields: ['name', 'keeperId'] })).toBe('allowed');
  expect(outcome(keeper, 'hive.update', { ...hive, keeperId: null })).toBe('allowed');
});

test('a plan that lacks a feature refuses for that reason', () => {
  const data = JSON.parse(JSON.stringify(charter.data));
  data.kinds.hive.actions.update.feature = 'editing';
  const other = readCharter(data);
  expect(new Standing(other, facts({ charter: other.hash })).decide('hive.update', hive)).toMatchObject({ outcome: 'plan', rule: 'editing' });
  expect(new Standing(other, facts({ charter: other.hash, tenant: { ...tenantFacts, features: ['editing'] } })).may('hive.update', hive)).toBe(true);
});

test('what is hidden answers like what is missing, to the letter', () => {
  const inspector = new Standing(charter, facts({ assignments: [{ role: 'inspector', anchor: { on: 'tenant' } }] }));
  const answers = [
    inspector.decide('hive.update', hive),
    inspector.decide('hive.update', { ...hive, tenantId: 'quillmoor' }),
    keeper.decide('hive.read', { ...hive, tenantId: 'quillmoor' }),
  ];
  for (const answer of answers)
    expect(JSON.stringify({ words: answer.words, visibility: answer.visibility })).toBe('{"words":"There is no such hive.","visibility":"hidden"}');
  expect(() => inspector.insist('hive.update', hive)).toThrow(expect.objectContaining({ code: 'not-found', message: 'There is no such hive.' }));
});

test('a refusal on a visible record names the act, the rule and whom to ask', () => {
  const answer = keeper.decide('hive.update', { ...hive, keeperId: 'sela' });
  expect(answer.words).toBe('You may change a hive only where you are the keeper or keeper is empty. That is not so for Amber. Ask Maren.');
  expect(answer.looked.map((g) => [g.reach, g.failed])).toEqual([
    ['own', ['keeper is not “tobias” (it is “sela”)']],
    ['unclaimed', ['keeper is not empty']],
  ]);
  // Only a text stands in marks.
  const data = structuredClone(charter.data) as any;
  data.kinds.hive.reaches.own = { op: 'is', field: 'colonies', to: { value: 3 } };
  const counting = readCharter(data);
  const [own] = new Standing(counting, { ...keeper.facts, charter: counting.hash }).decide('hive.update', { ...hive, keeperId: 'sela', colonies: 1 }).looked;
  expect(own?.failed).toEqual(['colonies is not 3 (it is 1)']);
});

test('an assignment reaches its reach within its anchor, and a tenant action takes the whole tenant', () => {
  const warden = new Standing(charter, facts({ assignments: [{ role: 'warden', anchor: { on: 'unit', unitId: 'orchards' } }] }));
  expect(warden.may('hive.update', { ...hive, siteId: 'upper-orchard' })).toBe(true);
  expect(warden.may('hive.update', { ...hive, siteId: 'heath' })).toBe(false);
  expect(warden.may('hive.update', { ...hive, siteId: null })).toBe(false);
  expect([warden.may('member.read'), warden.may('area.hives')]).toEqual([false, true]);
  const inspectionIn = (siteId: string) => ({ id: 'i', tenantId: 'alderbrook', hiveId: 'h1', madeBy: 'x', parents: { hiveId: { ...hive, siteId } } });
  expect([warden.may('inspection.read', inspectionIn('upper-orchard')), warden.may('inspection.read', inspectionIn('heath'))]).toEqual([true, false]);
});

test('a decision about what is not loaded says so, and never guesses', () => {
  const inspection = { id: 'i', tenantId: 'alderbrook', hiveId: 'h1', madeBy: 'tobias' };
  expect(outcome(keeper, 'inspection.read', inspection)).toBe('not loaded');
  expect(outcome(keeper, 'hive.update', { id: 'h1', tenantId: 'alderbrook', keeperId: 'tobias' })).toBe('not loaded');
  expect(keeper.may('hive.update', { id: 'h1', tenantId: 'alderbrook', keeperId: 'tobias' })).toBe(false);
});

test('a record that is to be made is judged as the library will stamp it', () => {
  expect(keeper.may('hive.create', { name: 'New' })).toBe(true);
  expect(keeper.may('hive.create', { name: 'New', keeperId: 'sela' })).toBe(false);
  expect(keeper.may('hive.create', { name: 'New', tenantId: 'quillmoor' })).toBe(false);
  expect(keeper.decide('hive.create', { name: 'New', registrationNo: 'R-1' })).toMatchObject({ outcome: 'guarded field', rule: 'registrationNo' });
});

test('fields tell a form what it can offer, with the reason', () => {
  const fields = keeper.fields('hive.update', hive);
  expect(fields.madeBy).toMatchObject({ changeable: false, setByLibrary: true });
  expect(fields.name).toMatchObject({ changeable: true, reason: '' });
  expect(fields.registrationNo).toMatchObject({ readable: true, changeable: false, reason: 'No role of yours lets you register a hive. Ask Maren.' });
  expect(keeper.fields('hive.update', { ...hive, keeperId: 'sela' }).registrationNo?.readable).toBe(false);
});

test('a snapshot answers what rests on the person and the record alone, takes the rest from the server, and ends', () => {
  let now = Date.UTC(2026, 5, 1);
  const junior = new Standing(
    charter,
    facts({
      assignments: [
        { role: 'junior', anchor: { on: 'tenant' } },
        { role: 'keeper', anchor: { on: 'unit', unitId: 'orchards' } },
      ],
    }),
    { now: () => now },
  );
  const snapshot = JSON.parse(JSON.stringify(junior.snapshot(60)));
  expect(Object.keys(snapshot)).not.toContain('below');
  const opened = openStanding(charter, snapshot, { now: () => now });
  const onSite = { ...hive, siteId: 'upper-orchard' };
  expect(outcome(opened, 'hive.update', onSite)).toBe('not loaded');
  expect(opened.may('hive.update', { ...onSite, may: ['hive.read', 'hive.update'] })).toBe(true);
  expect(opened.decide('hive.update', { ...onSite, may: ['hive.read'] })).toMatchObject({ allowed: false, visibility: 'visible' });
  // What can be worked out here is not taken on trust.
  expect(opened.may('hive.update', { ...onSite, tenantId: 'quillmoor', may: ['hive.update'] })).toBe(false);
  expect(opened.may('hive.update', { ...onSite, status: 'archived', may: ['hive.update'] })).toBe(false);
  now += 60_000;
  expect(outcome(opened, 'hive.update', { ...onSite, may: ['hive.update'] })).toBe('expired');
  expect(() => openStanding(charter, { ...snapshot, charter: 'another' })).toThrow(expect.objectContaining({ code: 'charter-mismatch' }));
});

test('powers can be said in one line, and every permission with the way it came', () => {
  const { line, permissions } = new Standing(
    charter,
    facts({
      assignments: [
        { role: 'keeper', anchor: { on: 'tenant' } },
        { role: 'warden', anchor: { on: 'unit', unitId: 'orchards', name: 'Orchard side' } },
      ],
    }),
  ).describe();
  expect(line).toBe('Keeper, Site warden at Orchard side');
  const read = permissions.find((p) => p.permission === 'hive.read');
  expect(read?.ways.map((w) => w.path)).toEqual([
    { by: 'role', role: 'keeper', included: ['reader'] },
    { by: 'role', role: 'warden', included: [] },
  ]);
  expect(new Standing(charter, facts({ assignments: [{ role: 'gone', anchor: { on: 'tenant' } }] })).describe().line).toBe('no role');
});
