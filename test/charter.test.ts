import { createHash } from 'node:crypto';
import fc from 'fast-check';
import ts from 'typescript';
import { expect, test } from 'vitest';
import { defineCharter, defineKinds, id, isLintelError, oneOf, owner, parent, readCharter, tenant, text } from 'warm-lintel';
import { charter } from '../examples/apiary/world/charter.js';
import { sha256 } from '../src/base/sha256.js';

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
  ['no tenant', (d) => delete d.kinds.entry.fields.tenantId, 'kinds.entry.fields: needs exactly one tenant; a kind without one is declared shared'],
  [
    'a shared kind that is written',
    (d) => (d.kinds.sheet.actions.update = { label: 'Write' }),
    'kinds.sheet.actions.update: a shared kind is written only by the platform, so it has only the action read',
  ],
  [
    'full control declared anew',
    (d) => (d.roles.keyholder = { label: 'Boss', may: {} }),
    'roles.keyholder: full control comes with every charter; choose another name',
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

test('anything at all in place of a charter gives problems or a charter, never another error', () => {
  fc.assert(
    fc.property(
      fc.anything(),
      fc.constantFrom('kinds', 'roles', 'limits', 'areas', 'obligations', 'visitor'),
      (junk, part) => void problemsOf({ ...json(), [part]: junk }),
    ),
    { numRuns: 300 },
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

test('a misspelt kind, action, reach, role, field, parent or parent’s field does not compile', () => {
  const config = ts.getParsedCommandLineOfConfigFile('tsconfig.json', {}, { ...ts.sys, onUnRecoverableConfigFileDiagnostic: () => {} });
  const program = ts.createProgram(['test/misspelt.types.ts'], { ...config?.options, types: [] });
  expect(
    program.getSemanticDiagnostics(program.getSourceFile('test/misspelt.types.ts')).map((d) => ts.flattenDiagnosticMessageText(d.messageText, '\n')),
  ).toEqual([]);
});
