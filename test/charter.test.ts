import { createHash } from 'node:crypto';
import fc from 'fast-check';
import ts from 'typescript';
import { expect, test } from 'vitest';
import { defineCharter, defineKinds, id, implies, isLintelError, oneOf, owner, parent, readCharter, tenant, text } from 'warm-lintel';
import { charter } from '../examples/apiary/world/charter.js';
import { sha256 } from '../src/base/sha256.js';
import { canonicalJson } from '../src/charter/canonical.js';
import { edited, placesIn } from './edited.js';
import { LONG, testLong } from './long.js';

const json = () => JSON.parse(JSON.stringify(charter.data));

function problemsOf(data: unknown): string[] {
  try {
    readCharter(data);
    return [];
  } catch (error) {
    if (!isLintelError(error, 'charter-invalid')) throw error;
    return (error.details.problems as { path: string; message: string }[]).map((p) => `${p.path}: ${p.message}`);
  }
}

test('a charter round-trips through JSON with the same hash, and any change of meaning changes it', () => {
  expect(readCharter(json()).hash).toBe(charter.hash);
  expect(readCharter(readCharter(json()).data).data).toEqual(charter.data);
  const changed = json();
  changed.roles.reader.may['hive.read'] = ['appointed'];
  expect(readCharter(changed).hash).not.toBe(charter.hash);
});

test('the hash is SHA-256, for texts of any length and any letters', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'binary', maxLength: 300 }), (s) => {
      expect(sha256(s)).toBe(createHash('sha256').update(s).digest('hex'));
    }),
  );
});

test.each<[string, (data: any) => void, string]>([
  ['a misspelt action', (d) => (d.roles.keeper.may['hive.updte'] = ['own']), 'roles.keeper.may["hive.updte"]: no such action; did you mean hive.update?'],
  ['a misspelt reach', (d) => (d.roles.keeper.may['hive.update'] = ['onw']), 'roles.keeper.may["hive.update"][0]: no such reach; did you mean own?'],
  [
    'a misspelt field in a rule',
    (d) => (d.kinds.hive.reaches.own.field = 'keperId'),
    'kinds.hive.reaches.own.field: no such field "keperId"; did you mean keeperId?',
  ],
  [
    "a misspelt field of a rule's parent",
    (d) => (d.kinds.inspection.reaches.ofOwnHive.where.field = 'keepId'),
    'kinds.inspection.reaches.ofOwnHive.where.field: no such field "keepId"; did you mean keeperId?',
  ],
  ['a number for a text', (d) => (d.limits.hive.archived.where.to = { value: 3 }), 'limits.hive.archived.where.to.value: 3 is no text'],
  ['an unknown fact', (d) => (d.kinds.hive.reaches.own.to = { me: 'userID' }), 'kinds.hive.reaches.own.to.me: no such fact "userID"; did you mean userId?'],
  ['a misspelt entry', (d) => (d.roles.keeper.startAt = 'hives'), 'roles.keeper.startAt: unknown entry; did you mean startsAt?'],
  ['two owners', (d) => (d.kinds.hive.fields.second = { role: 'owner', type: 'text' }), 'kinds.hive.fields: has 2 fields for the owner; one at most'],
  [
    'no tenant',
    (d) => delete d.kinds.entry.fields.tenantId,
    'kinds.entry.fields: needs exactly one tenant, or one parent through which it has it; a kind without is declared shared',
  ],
  [
    'a shared kind that is written',
    (d) => (d.kinds.sheet.actions.update = { label: 'Write' }),
    'kinds.sheet.actions.update: a shared kind is written only by the platform, so it has only the action read',
  ],
  [
    'full control declared anew',
    (d) => (d.roles.keyholder = { label: 'Boss', may: {} }),
    'roles.keyholder: full control comes with every charter, and is called otherwise by keyholder: { label: … }; choose another name',
  ],
  ['a name it had before, not in a list', (d) => (d.roles.reader.was = 'looker'), 'roles.reader.was: must be a list of names'],
  ['roles in a circle', (d) => (d.roles.reader.includes = ['keeper']), 'roles.reader.includes: roles include each other in a circle'],
  [
    'a limit without a way out',
    (d) => d.limits.hive.archived.actions.push('archive'),
    'limits.hive.archived.actions: nobody can leave this limit: status is changed by archive, which it refuses; guard status with an action of its own, or say lasting: true',
  ],
  [
    'a rule nested too deep',
    (d) => (d.kinds.hive.reaches.own = Array.from({ length: 20 }).reduce((of) => ({ op: 'not', of }), { op: 'always' })),
    `kinds.hive.reaches.own${'.of'.repeat(17)}: is nested deeper than 16`,
  ],
  [
    'a name that is a word of the language',
    (d) => Object.defineProperty(d.roles, '__proto__', { value: { label: 'x' }, enumerable: true }),
    'roles["__proto__"]: a name begins with a small letter and has only letters and digits, 63 at most',
  ],
])('%s is told with its place and the remedy', (_what, spoil, expected) => {
  const data = json();
  spoil(data);
  expect(problemsOf(data)).toContain(expected);
});

/** One thing at a time is put where it cannot be: its place, what, and what is said. */
test.each<[path: string, value: unknown, ...problems: string[]]>([
  ['kinds.hive.table', '  ', 'must be a text that is not empty'],
  ['kinds.hive.schema', 3, 'must be a text that is not empty'],
  ['kinds.hive.one', undefined, 'must be a text that is not empty'],
  ['kinds.hive.shared', 0, 'must be true or false'],
  ['kinds.sheet.fields.tenantId', { role: 'tenant', type: 'text' }, '@kinds.sheet.fields: a shared kind has no tenant'],
  ['kinds.hive.label', 'nam', 'no such field; did you mean name?'],
  ['kinds.hive.label', 'inspectors', 'no such field'],
  ['kinds.hive.colour', 'red', 'unknown entry'],
  ['kinds.hive.reaches', null, 'must be an object'],
  ['kinds.hive.actions.update.label', '', 'must be a text that is not empty'],
  ['kinds.hive.actions.update.brings', 1, 'must be a text that is not empty'],
  ['kinds.hive.actions.update.channels', 'desk', 'must be a list of names'],
  ['kinds.hive.actions.update.needs', ['hive.raed'], '@kinds.hive.actions.update.needs[0]: no such action; did you mean hive.read?'],
  ['kinds.hive.actions.update', 'Change', 'must be an object'],
  ['kinds.report.actions.read', undefined, '@kinds.report.actions: every kind has the action read'],
  ['kinds.hive.fields.name.role', 'titel', 'no such role of a field'],
  ['kinds.hive.fields.name.type', 'txt', 'no such type; did you mean text?'],
  ['kinds.hive.fields.name.column', '', 'must be a text that is not empty'],
  ['kinds.hive.fields.name.change', 'rename', 'no such action'],
  ['kinds.hive.fields.madeBy.change', 'update', 'the maker is set by the library and cannot be guarded'],
  ['kinds.hive.fields.id.read', 'inspect', 'the id is set by the library and cannot be guarded'],
  ['kinds.hive.fields.id', undefined, '@kinds.hive.fields: needs exactly one id'],
  ['kinds.inspection.fields.hiveId.to', 'hiev', 'no such kind; did you mean hive?'],
  ['kinds.inspection.fields.hiveId.follow', 'yes', 'must be true or false'],
  ['kinds.hive.fields.inspectors.link.user', undefined, 'must be a text that is not empty'],
  ['kinds.hive.fields.inspectors.link.of', 'x', 'unknown entry'],
  ['kinds.entry.fields.amount.scale', 19, 'a decimal says its places after the point, 0 to 18'],
  ['kinds.entry.fields.amount.scale', -1, 'a decimal says its places after the point, 0 to 18'],
  ['kinds.entry.fields.amount.scale', 1.5, 'a decimal says its places after the point, 0 to 18'],
  ['kinds.entry.fields.amount.scale', undefined, 'a decimal says its places after the point, 0 to 18'],
  ['kinds.entry.fields.amount.scale', 0],
  ['kinds.entry.fields.amount.scale', 18],
  ['kinds.entry.fields.status.options', 'draft', 'must be a list of names'],
  ['kinds.member', json().kinds.sheet, '"member" is a word of the library; choose another'],
  ['kinds.hive.reaches.tenant', { op: 'always' }, 'the reach "tenant" is built in; choose another name'],
  ['kinds.hive.base', ['own'], 'a tenant chooses of at least two reaches'],
  ['kinds.hive.base', ['own', 'own'], 'a tenant chooses of at least two reaches'],
  ['kinds.hive.base', ['own', 'base'], '@kinds.hive.base[1]: no such reach'],
  ['kinds.hive.base', ['own', 'tenant']],
  ['areas.hives.perUnit', 1, 'must be true or false'],
  ['areas.hives.label', undefined, 'must be a text that is not empty'],
  ['areas.hives.may', {}, 'unknown entry'],
  ['areas.hives.needs', ['area.hive'], '@areas.hives.needs[0]: no such action; did you mean area.hives?'],
  ['roles.reader.label', ' ', 'must be a text that is not empty'],
  ['roles.reader.startsAt', 'hive', 'no such area; did you mean hives?'],
  ['roles.reader.includes', ['keepr'], '@roles.reader.includes[0]: no such role; did you mean keeper?'],
  ['roles.reader.gives', 'keeper', 'must be a list of names'],
  ['roles.reader.may', [], 'must be an object'],
  ['roles.reader.may', { 'hive.read': [3] }, '@roles.reader.may["hive.read"]: must be a list of names'],
  ['roles.reader.may', { 'member.read': ['self'], 'member.invite': ['self'] }, '@roles.reader.may["member.invite"][0]: no such reach'],
  ['roles.reader.may', { 'platform.care': ['tenant'] }, '@roles.reader.may["platform.care"]: no such action'],
  ['platform', 'yes', 'must be true or false'],
  ['visitor', { 'hive.raed': ['tenant'] }, '@visitor["hive.raed"]: no such action; did you mean hive.read?'],
  ['limits.hiev', {}, 'no such kind; did you mean hive?'],
  ['limits.hive.archived.actions', [], 'a limit names the actions that it refuses'],
  ['limits.hive.archived.before', 0, 'must be true or false'],
  ['limits.hive.archived.lasting', 0, 'must be true or false'],
  ['limits.hive.archived.sentence', undefined, 'must be a text that is not empty'],
  [
    'limits.hive.named',
    { actions: ['update'], sentence: 'x', where: { op: 'not', of: { op: 'isEmpty', field: 'name' } } },
    '@limits.hive.named.actions: nobody can leave this limit: name is changed by update, which it refuses; guard name with an action of its own, or say lasting: true',
  ],
  ['limits.hive.named', { actions: ['update'], sentence: 'x', lasting: true, where: { op: 'isEmpty', field: 'name' } }],
  ['limits.hive.named', { actions: ['update'], sentence: 'x', where: { op: 'isEmpty', field: 'madeBy' } }],
  ['obligations.recentSignIn.before', ['member.remov'], '@obligations.recentSignIn.before[0]: no such action; did you mean member.remove?'],
  ['obligations.recentSignIn.before', 'everything'],
  ['obligations.recentSignIn.before', undefined, 'names the actions before which it is to be met, or is "everything"'],
  ['obligations.recentSignIn.sentence', '', 'must be a text that is not empty'],
  ['apart.x', { hold: ['keeper', 'keeper'], sentence: 'x' }, '@apart.x.hold: names at least two roles or actions that nobody may hold together'],
  ['apart.x', { hold: ['keeper', 'hive.read'], sentence: 'x' }],
  ['retired', ['keeper'], '@retired[0]: “keeper” is a name that something else has now, or had; a name is not used again'],
  ['retired', ['gone', 'gone'], '@retired[1]: “gone” is a name that something else has now, or had; a name is not used again'],
  ['roles.reader.was', ['looker']],
  [
    'kinds.hive.actions.update.was',
    ['keeper'],
    '@kinds.hive.actions.update.was[0]: “keeper” is a name that something else has now, or had; a name is not used again',
  ],
  ['nothing', {}, 'unknown entry'],
])('%s as %j', (path, value, ...expected) => {
  const data = json();
  const steps = path.split('.');
  const last = steps.pop() as string;
  const at = steps.reduce((inner, step) => {
    inner[step] ??= {};
    return inner[step];
  }, data);
  if (value === undefined) delete at[last];
  else at[last] = value;
  expect(problemsOf(data)).toEqual(expected.map((one) => (one.startsWith('@') ? one.slice(1) : `${path}: ${one}`)));
});

test('anything at all in place of a charter, or of any part of it, gives problems or a charter, never another error', () => {
  const places = placesIn(json());
  // Among it what has no text.
  const junk = fc.oneof(fc.anything(), fc.constantFrom(null, { toString: '' }, [{ toString: 1, valueOf: 1 }]));
  fc.assert(
    fc.property(junk, fc.constantFrom(...places), (junk, path) => void problemsOf(edited(json(), path, junk))),
    { numRuns: LONG ? 60_000 : 150 },
  );
});

test('parents in a circle, and parents that are followed too deep, are refused', () => {
  const kind = (to?: string) => ({
    table: 't',
    label: 'id',
    one: 'k',
    many: 'ks',
    actions: { read: { label: 'See' } },
    fields: { id: { role: 'id', type: 'text' }, tenantId: { role: 'tenant', type: 'text' }, ...(to && { upId: { role: 'parent', type: 'text', to } }) },
  });
  expect(problemsOf({ kinds: { a: kind('b'), b: kind('a') } })).toEqual(['kinds: parents go in a circle: a -> b -> a']);
  expect(problemsOf({ kinds: { a: kind('b'), b: kind('c'), c: kind('d'), d: kind('e'), e: kind('f'), f: kind() } })).toEqual([
    'kinds.a: follows its parents 5 deep; 4 at most',
  ]);
});

test('an empty list of reaches gives nothing, and everything is always written out', () => {
  const kinds = defineKinds(
    {
      jar: {
        table: 'jars',
        label: 'name',
        fields: { id: id(), tenantId: tenant(), ownerId: owner(), name: text(), size: oneOf(['small', 'large']) },
        actions: { read: { label: 'See' } },
      },
      lid: { table: 'lids', label: 'id', fields: { id: id(), tenantId: tenant(), jarId: parent('jar') }, actions: { read: { label: 'See' } } },
    },
    { jar: { own: ({ record, me }) => record.ownerId.is(me.userId) } },
  );
  const made = defineCharter(kinds, {
    roles: { nobody: { label: 'Nobody', may: { 'jar.read': [] } }, somebody: { label: 'Somebody', may: { 'jar.read': ['own'], 'lid.read': 'followed' } } },
  });
  expect(made.resolveRole('nobody').grants).toEqual([]);
  expect(made.data.kinds.jar?.reaches.own).toEqual({ op: 'is', field: 'ownerId', to: { me: 'userId' } });
});

test('what is left unsaid follows: columns, what a field holds, sections, and what a role has by those that it includes', () => {
  const { hive, sheet, entry } = readCharter({ ...json(), kinds: { ...json().kinds, hive: { ...json().kinds.hive, schema: 'app' } } }).shapes;
  expect(hive).toMatchObject({ table: 'hives', schema: 'app', idField: 'id', tenantField: 'tenantId' });
  expect([sheet?.tenantField, sheet?.schema, entry?.fields.amount]).toEqual([undefined, undefined, { type: 'decimal', column: 'amount', scale: 2 }]);
  expect([hive?.fields.keeperId, hive?.fields.siteId, hive?.fields.name]).toEqual([
    { type: 'text', column: 'keeper_id', person: true },
    { type: 'text', column: 'site_id', unit: true },
    { type: 'text', column: 'name' },
  ]);
  const read = readCharter(json());
  expect(read.permission('area.hives')).toMatchObject({ section: 'Areas', perUnit: true });
  expect(read.permission('area.ledger')).toMatchObject({ perUnit: false });
  expect([read.permission('entry.book').section, read.permissions.has('platform.care')]).toEqual(['Ledger entries', false]);
  expect(readCharter({ ...json(), platform: true }).permissions.has('platform.care')).toBe(true);
  expect(read.permission('hive.transfer').sentence).toContain('power over it ends');
  expect(canonicalJson({ b: [1, null, { y: 2, x: undefined }], a: undefined, c: { z: 'x', y: false } })).toBe('{"b":[1,null,{"y":2}],"c":{"y":false,"z":"x"}}');
  // Whatever its texts hold, it is JSON of the same, and of equal data the same.
  fc.assert(
    fc.property(fc.dictionary(fc.string({ unit: 'binary' }), fc.jsonValue({ stringUnit: 'binary' })), fc.date({ noInvalidDate: true }), (data, at) => {
      const turned = Object.fromEntries(Object.entries({ ...data, at }).reverse());
      expect([JSON.parse(canonicalJson(turned)), canonicalJson(turned)]).toEqual([JSON.parse(JSON.stringify({ ...data, at })), canonicalJson({ ...data, at })]);
    }),
  );
  const layered = json();
  layered.roles.top = { label: 'Top', includes: ['keeper'], may: {}, gives: ['junior'] };
  layered.roles.over = { label: 'Over', includes: ['top'], may: {}, gives: ['reader', 'junior'] };
  const over = readCharter(layered).resolveRole('over');
  expect(over.gives).toEqual(['reader', 'junior']);
  expect(over.grants.find(({ permission }) => permission === 'hive.read')).toEqual({
    permission: 'hive.read',
    reach: 'tenant',
    included: ['top', 'keeper', 'reader'],
  });
  expect(charter.role('keyholder')).toMatchObject({ label: 'Keyholder' });
  expect(() => charter.role('keepr')).toThrow('did you mean keeper?');
});

testLong('a misspelt kind, action, reach, role, field, parent or parent’s field does not compile', () => {
  const config = ts.getParsedCommandLineOfConfigFile('tsconfig.json', {}, { ...ts.sys, onUnRecoverableConfigFileDiagnostic: () => {} });
  const program = ts.createProgram(['test/misspelt.types.ts'], { ...config?.options, types: [] });
  expect(
    program.getSemanticDiagnostics(program.getSourceFile('test/misspelt.types.ts')).map((d) => ts.flattenDiagnosticMessageText(d.messageText, '\n')),
  ).toEqual([]);
});

test('roles, parents and rules cost what they are, and not what they multiply to', () => {
  const ids = { type: 'text' };
  const common = { id: { role: 'id', ...ids }, tenantId: { role: 'tenant', ...ids }, name: { role: 'plain', type: 'text' } };
  const actions = { read: { label: 'See' } };
  const kind = (i: number, parents: object) => ({
    table: `t${i}`,
    label: 'name',
    one: 'x',
    many: 'x',
    actions,
    fields: { ...common, ...parents },
    reaches: {},
  });
  const up = (i: number) => ({ role: 'parent', ...ids, to: `k${i}`, follow: false });
  // Of two ways at each of 30 steps there are a thousand million.
  const kinds = Object.fromEntries(Array.from({ length: 30 }, (_, i) => [`k${i}`, kind(i, i === 0 ? {} : { aId: up(i - 1), bId: up(i - 1) })]));
  const role = (may: object, includes: string[]) => ({ label: 'R', may, includes });
  const roles = Object.fromEntries(
    Array.from({ length: 30 }, (_, i) => [
      [`a${i}`, role({ 'k0.read': ['tenant'] }, i === 0 ? [] : [`a${i - 1}`, `b${i - 1}`])],
      [`b${i}`, role({ 'k1.read': ['tenant'] }, i === 0 ? [] : [`a${i - 1}`, `b${i - 1}`])],
    ]).flat(),
  );
  const charter = readCharter({ kinds, roles });
  const { grants } = charter.resolveRole('a29');
  // Each role that has a permission is told once.
  expect(grants).toHaveLength(59);
  const shapes = charter.shapes;
  const oneOf = (field: string, many: number) => ({ op: 'in', field, to: { value: Array.from({ length: many }, (_, i) => `v${i}`) } }) as const;
  const wide = { op: 'and', of: [oneOf('name', 400), oneOf('id', 400)] } as const;
  expect(implies(wide, { op: 'not', of: wide }, 'k0', shapes).verdict).toBe('undecided');
  expect(implies(oneOf('name', 20), oneOf('name', 21), 'k0', shapes).verdict).toBe('yes');
});
