/* A directory over SCIM 2.0: the requests of the RFCs, the shapes in which directories really send them, and what it may see and do. */
import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { defineCharter, defineKinds, everythingMet, id, oneOf, owner, tenant, text } from 'warm-lintel';
import { directoryPages } from 'warm-lintel/http';
import { createLintel, type Lintel } from 'warm-lintel/server';
import { code, whole } from './club.js';
import { LONG, testLong } from './long.js';
import { emptyPostgres } from './worlds.js';

const ids = { type: 'text' } as const;
const kinds = defineKinds(
  {
    field: {
      table: 'fields',
      label: 'name',
      fields: { id: id(ids), tenantId: tenant(ids), ownerId: owner(ids), name: text() },
      actions: { read: { label: 'See' }, plough: { label: 'Plough' }, weigh: { label: 'Weigh' } },
    },
  },
  { field: { own: ({ record, me }) => record.ownerId.is(me.userId) } },
);
const charter = defineCharter(kinds, {
  attributes: { department: { is: text() }, region: { is: oneOf(['north', 'south']) }, nick: { is: text(), setBy: ['member'] } },
  roles: {
    farmer: { label: 'Farmer', may: { 'field.read': 'own', 'field.plough': 'own' } },
    weigher: { label: 'Weigher', may: { 'field.read': 'tenant', 'field.weigh': 'tenant' } },
    host: { label: 'Host', may: { 'member.read': 'tenant', 'group.arrange': 'tenant', 'member.assign': 'tenant', 'program.arrange': 'tenant' } },
  },
  apart: { scales: { hold: ['field.plough', 'field.weigh'], sentence: 'who ploughs does not weigh.' } },
});
const everything = everythingMet(charter);

let lintel: Lintel<any>;
let db: Kysely<any>;
let pages: ReturnType<typeof directoryPages>;
beforeAll(async () => {
  ({ db } = await emptyPostgres());
  await sql
    .raw('create table fields (id text collate "C" primary key, tenant_id text collate "C", owner_id text collate "C", name text collate "C")')
    .execute(db);
  lintel = createLintel({ charter, db } as never) as never;
  await lintel.prepare();
  for (const user of ['key', 'second', 'host']) await lintel.addPerson({ id: user, name: user, address: `${user}@farm.example`, confirmedAt: new Date(0) });
  pages = directoryPages(lintel, { perMinute: 1_000_000, onError: (error) => console.error(error) });
});
afterAll(() => db.destroy());

const USER = 'urn:ietf:params:scim:schemas:core:2.0:User';
const ENTERPRISE = 'urn:ietf:params:scim:schemas:extension:enterprise:2.0:User';
const DECLARED = 'urn:lintel:params:scim:schemas:attributes:2.0:User';
const PATCH = 'urn:ietf:params:scim:api:messages:2.0:PatchOp';
let made = 0;
/** A tenant of its own with a directory, and what asks in its name. */
async function farm() {
  const tenantId = `farm${++made}`;
  await lintel.openTenant({ id: tenantId, name: `Farm ${made}`, keyholder: 'key' });
  const enter = (user = 'key') => lintel.enter({ tenant: tenantId, user, fulfilled: everything });
  const does = async (...steps: object[]) => (await enter()).carryOut(steps as never);
  const directory = async (name: string) => {
    const program = `${tenantId}-${name}`;
    await does(
      { do: 'make-program', id: program, name, responsible: 'key' },
      { do: 'set-permissions', holder: { user: program }, permissions: [{ permission: 'directory.write', reach: 'tenant', anchor: { on: 'tenant' } }] },
    );
    const [made] = await does({ do: 'make-key', program });
    const key = made?.secret as string;
    const ask = async (method: string, path: string, body?: unknown, headers: Record<string, string> = {}) => {
      const response = await pages.fetch(
        new Request(`https://app.example/scim/${tenantId}/v2${path}`, {
          method,
          headers: { authorization: `Bearer ${key}`, ...(body !== undefined && { 'content-type': 'application/scim+json' }), ...headers },
          ...(body !== undefined && { body: typeof body === 'string' ? body : JSON.stringify(body) }),
        }),
      );
      const said = await response.text();
      return {
        status: response.status,
        tag: response.headers.get('etag'),
        type: response.headers.get('content-type'),
        location: response.headers.get('location'),
        body: (said ? JSON.parse(said) : undefined) as any,
      };
    };
    const make = async (userName: string, more: object = {}) => (await ask('POST', '/Users', { schemas: [USER], userName, ...more })).body.id as string;
    const patch = (path: string, ...Operations: object[]) => ask('PATCH', path, { schemas: [PATCH], Operations });
    return { program, key, ask, make, patch };
  };
  const subject = async (user: string) => (await lintel.enter({ tenant: tenantId, user, fulfilled: everything })).facts;
  return { tenantId, enter, does, directory, subject, ...(await directory('directory')) };
}

test('the requests of RFC 7644, as its own examples have them', async () => {
  const { ask } = await farm();
  const created = await ask('POST', '/Users', {
    schemas: [USER],
    userName: 'bjensen',
    externalId: 'bjensen',
    name: { formatted: 'Ms. Barbara J Jensen III', familyName: 'Jensen', givenName: 'Barbara' },
  });
  expect(created).toMatchObject({
    status: 201,
    tag: 'W/"1"',
    type: 'application/scim+json',
    body: { schemas: [USER], userName: 'bjensen', externalId: 'bjensen', active: true, groups: [], meta: { resourceType: 'User', version: 'W/"1"' } },
  });
  const { id: bjensen } = created.body;
  expect(created.location).toBe(`https://app.example/scim/farm${made}/v2/Users/${bjensen}`);
  expect((await ask('GET', `/Users/${bjensen}`)).body).toEqual(created.body);
  expect(await ask('GET', `/Users/${bjensen}`, undefined, { 'if-none-match': 'W/"1"' })).toMatchObject({ status: 304 });
  expect((await ask('GET', '/Users?attributes=userName')).body).toMatchObject({
    totalResults: 1,
    startIndex: 1,
    itemsPerPage: 1,
    Resources: [{ schemas: [USER], id: bjensen, userName: 'bjensen' }],
  });
  // Section 3.5.1.
  const replaced = await ask(
    'PUT',
    `/Users/${bjensen}`,
    {
      schemas: [USER],
      id: bjensen,
      userName: 'bjensen',
      externalId: 'bjensen',
      name: { formatted: 'Ms. Barbara J Jensen III', familyName: 'Jensen', givenName: 'Barbara', middleName: 'Jane' },
      roles: [],
      emails: [{ value: 'bjensen@example.com' }, { value: 'babs@jensen.org' }],
    },
    { 'if-match': 'W/"1"' },
  );
  expect(replaced).toMatchObject({
    status: 200,
    tag: 'W/"2"',
    body: { name: { middleName: 'Jane' }, emails: [{ value: 'bjensen@example.com' }, { value: 'babs@jensen.org' }] },
  });
  expect(await ask('PUT', `/Users/${bjensen}`, { userName: 'bjensen' }, { 'if-match': 'W/"1"' })).toMatchObject({ status: 412, body: { status: '412' } });
  // Section 3.5.2: groups.
  const more = await Promise.all(['mandy', 'babs'].map(async (userName) => (await ask('POST', '/Users', { userName, displayName: userName })).body.id));
  const tour = (
    await ask('POST', '/Groups', { schemas: ['urn:ietf:params:scim:schemas:core:2.0:Group'], displayName: 'Tour Guides', members: [{ value: bjensen }] })
  ).body;
  const operations = async (...Operations: object[]) => {
    const { status, body } = await ask('PATCH', `/Groups/${tour.id}`, { schemas: [PATCH], Operations });
    return status === 200 ? body.members.map(({ display }: any) => display).sort() : [status, body.scimType];
  };
  expect(await operations({ op: 'add', path: 'members', value: [{ display: 'Babs Jensen', $ref: 'https://example.com/v2/Users/x', value: more[1] }] })).toEqual(
    ['Ms. Barbara J Jensen III', 'babs'],
  );
  expect(await operations({ op: 'remove', path: `members[value eq "${bjensen}"]` }, { op: 'add', path: 'members', value: [{ value: more[0] }] })).toEqual([
    'babs',
    'mandy',
  ]);
  expect(await operations({ op: 'remove', path: 'members' }, { op: 'add', path: 'members', value: [{ value: bjensen }, { value: more[0] }] })).toEqual([
    'Ms. Barbara J Jensen III',
    'mandy',
  ]);
  expect(await operations({ op: 'replace', path: 'members', value: [{ value: more[1] }] })).toEqual(['babs']);
  expect(await operations({ op: 'add', path: 'members', value: [{ value: 'nobody' }] })).toEqual([400, 'invalidValue']);
  expect((await ask('GET', `/Users/${more[1]}`)).body.groups).toEqual([
    { value: tour.id, display: 'Tour Guides', $ref: expect.stringContaining(`/Groups/${tour.id}`) },
  ]);
  // Section 3.12, and what can be asked.
  expect((await ask('GET', '/Users/2819c223')).body).toEqual({
    schemas: ['urn:ietf:params:scim:api:messages:2.0:Error'],
    status: '404',
    detail: 'There is no such resource.',
  });
  expect(await ask('POST', '/Users', { userName: 'BJensen' })).toMatchObject({ status: 409, body: { scimType: 'uniqueness' } });
  expect((await ask('GET', '/ServiceProviderConfig')).body).toMatchObject({
    patch: { supported: true },
    bulk: { supported: false },
    etag: { supported: true },
  });
  expect((await ask('GET', '/ResourceTypes')).body.Resources.map(({ id }: any) => id)).toEqual(['User', 'Group']);
  const schemas = (await ask('GET', '/Schemas')).body;
  expect(schemas.Resources.map(({ id }: any) => id)).toEqual([USER, 'urn:ietf:params:scim:schemas:core:2.0:Group', DECLARED]);
  expect(schemas.Resources[2].attributes.map(({ name }: any) => name)).toEqual(['department', 'region']);
  expect((await ask('GET', `/Schemas/${USER}`)).body.id).toBe(USER);
  expect((await ask('DELETE', `/Users/${bjensen}`)).status).toBe(204);
  expect([(await ask('GET', `/Users/${bjensen}`)).status, (await ask('DELETE', `/Users/${bjensen}`)).status, (await ask('POST', '/Bulk', {})).status]).toEqual([
    404, 404, 404,
  ]);
});

/** Shapes as large directories really send them, on somebody as they are at first; and what then holds. */
const FIRST = {
  userName: 'ada@farm.example',
  externalId: 'e-1',
  displayName: 'Ada Fern',
  name: { givenName: 'Ada', familyName: 'Fern' },
  emails: [{ value: 'ada@farm.example', type: 'work', primary: true }],
  active: true,
};
const SHAPES: readonly (readonly [what: string, operations: readonly object[], holds: object | number])[] = [
  ['the operation in any case', [{ op: 'Replace', path: 'displayName', value: 'A' }], { displayName: 'A' }],
  ['shouted', [{ op: 'REPLACE', path: 'displayName', value: 'A' }], { displayName: 'A' }],
  ['the path in any case', [{ op: 'replace', path: 'DISPLAYNAME', value: 'A' }], { displayName: 'A' }],
  ['keys in any case', [{ OP: 'replace', Path: 'displayName', VALUE: 'A' }], { displayName: 'A' }],
  ['false as a text', [{ op: 'Replace', path: 'active', value: 'False' }], { active: false }],
  ['false as a text, in small letters', [{ op: 'replace', path: 'active', value: 'false' }], { active: false }],
  ['true as a text', [{ op: 'replace', path: 'active', value: 'True' }], { active: true }],
  ['false without a path', [{ op: 'replace', value: { active: false } }], { active: false }],
  ['false as a text without a path', [{ op: 'Replace', value: { active: 'False' } }], { active: false }],
  ['an empty path', [{ op: 'replace', path: '', value: { displayName: 'A' } }], { displayName: 'A' }],
  ['no path is null', [{ op: 'replace', path: null, value: { displayName: 'A' } }], { displayName: 'A' }],
  [
    'added without a path',
    [{ op: 'add', value: { displayName: 'A', name: { givenName: 'B' } } }],
    { displayName: 'A', name: { givenName: 'B', familyName: 'Fern' } },
  ],
  [
    'paths in the place of names',
    [{ op: 'replace', value: { 'name.givenName': 'B', displayName: 'A' } }],
    { displayName: 'A', name: { givenName: 'B', familyName: 'Fern' } },
  ],
  ['a schema before a path', [{ op: 'replace', path: `${USER}:displayName`, value: 'A' }], { displayName: 'A' }],
  [
    'a schema in other letters',
    [{ op: 'replace', path: `${USER.toUpperCase()}:name.familyName`, value: 'B' }],
    { name: { givenName: 'Ada', familyName: 'B' } },
  ],
  ['a part that is there', [{ op: 'replace', path: 'name.familyName', value: 'B' }], { name: { givenName: 'Ada', familyName: 'B' } }],
  ['a part that is not there', [{ op: 'add', path: 'name.middleName', value: 'M' }], { name: { givenName: 'Ada', familyName: 'Fern', middleName: 'M' } }],
  ['a part taken away', [{ op: 'remove', path: 'name.givenName' }], { name: { familyName: 'Fern' } }],
  ['an attribute taken away', [{ op: 'remove', path: 'displayName' }], { displayName: undefined }],
  ['an attribute set to nothing', [{ op: 'replace', path: 'displayName', value: null }], { displayName: undefined }],
  ['an attribute set to an empty text', [{ op: 'replace', path: 'displayName', value: '' }], { displayName: undefined }],
  [
    'a value by a filter',
    [{ op: 'replace', path: 'emails[type eq "work"].value', value: 'b@farm.example' }],
    { emails: [{ value: 'b@farm.example', type: 'work', primary: true }] },
  ],
  [
    'a filter in other letters',
    [{ op: 'Replace', path: 'Emails[Type eq "WORK"].Value', value: 'b@farm.example' }],
    { emails: [{ value: 'b@farm.example', type: 'work', primary: true }] },
  ],
  [
    'a filter with two parts',
    [{ op: 'replace', path: 'emails[type eq "work" and primary eq true].value', value: 'b@farm.example' }],
    { emails: [{ value: 'b@farm.example', type: 'work', primary: true }] },
  ],
  [
    'a filter that makes what it fixes',
    [{ op: 'add', path: 'emails[type eq "home"].value', value: 'h@farm.example' }],
    {
      emails: [
        { value: 'ada@farm.example', type: 'work', primary: true },
        { value: 'h@farm.example', type: 'home' },
      ],
    },
  ],
  [
    'a replacing filter that makes what it fixes',
    [{ op: 'replace', path: 'emails[type eq "home"].value', value: 'h@farm.example' }],
    {
      emails: [
        { value: 'ada@farm.example', type: 'work', primary: true },
        { value: 'h@farm.example', type: 'home' },
      ],
    },
  ],
  ['a filter of which nothing is', [{ op: 'remove', path: 'emails[type eq "home"]' }], { emails: FIRST.emails }],
  ['a value taken away by a filter', [{ op: 'remove', path: 'emails[type eq "work"]' }], { emails: undefined }],
  ['a filter that fixes nothing', [{ op: 'replace', path: 'emails[type ne "work"].value', value: 'x@farm.example' }], 400],
  [
    'another primary one',
    [{ op: 'add', path: 'emails', value: [{ value: 'n@farm.example', type: 'home', primary: true }] }],
    {
      emails: [
        { value: 'ada@farm.example', type: 'work' },
        { value: 'n@farm.example', type: 'home', primary: true },
      ],
    },
  ],
  [
    'the same value twice',
    [
      { op: 'add', path: 'emails', value: FIRST.emails },
      { op: 'add', path: 'emails', value: FIRST.emails },
    ],
    { emails: FIRST.emails },
  ],
  [
    'one value that is no list',
    [{ op: 'add', path: 'emails', value: { value: 'n@farm.example', type: 'home' } }],
    { emails: [FIRST.emails[0], { value: 'n@farm.example', type: 'home' }] },
  ],
  ['a list replaced', [{ op: 'replace', path: 'emails', value: [{ value: 'n@farm.example' }] }], { emails: [{ value: 'n@farm.example' }] }],
  ['a list replaced by one value', [{ op: 'replace', path: 'emails', value: { value: 'n@farm.example' } }], { emails: [{ value: 'n@farm.example' }] }],
  ['a list emptied', [{ op: 'replace', path: 'emails', value: [] }], { emails: undefined }],
  ['values removed by a list of them', [{ op: 'remove', path: 'emails', value: [{ value: 'ada@farm.example' }] }], { emails: undefined }],
  [
    'primary as a text',
    [{ op: 'replace', path: 'emails', value: [{ value: 'n@farm.example', primary: 'True' }] }],
    { emails: [{ value: 'n@farm.example', primary: true }] },
  ],
  ['an attribute of enterprises by its path', [{ op: 'add', path: `${ENTERPRISE}:department`, value: 'Bees' }], { [DECLARED]: { department: 'Bees' } }],
  ['an attribute of enterprises as an object', [{ op: 'add', value: { [ENTERPRISE]: { department: 'Bees' } } }], { [DECLARED]: { department: 'Bees' } }],
  ['an attribute of enterprises by a long name', [{ op: 'replace', value: { [`${ENTERPRISE}:department`]: 'Bees' } }], { [DECLARED]: { department: 'Bees' } }],
  ['an attribute of ours', [{ op: 'replace', path: `${DECLARED}:region`, value: 'north' }], { [DECLARED]: { region: 'north' } }],
  ['an attribute that nobody declares', [{ op: 'replace', path: `${ENTERPRISE}:costCenter`, value: '17' }], { [DECLARED]: undefined }],
  ['an attribute that members say', [{ op: 'replace', path: `${DECLARED}:nick`, value: 'A' }], { [DECLARED]: undefined }],
  ['a value that an attribute does not take', [{ op: 'replace', path: `${DECLARED}:region`, value: 'east' }], { [DECLARED]: undefined }],
  [
    'attributes that nobody keeps',
    [
      { op: 'replace', path: 'title', value: 'Dr' },
      { op: 'add', path: 'phoneNumbers[type eq "work"].value', value: '555' },
      { op: 'replace', path: 'addresses[type eq "work"].country', value: 'X' },
    ],
    { title: undefined, displayName: 'Ada Fern' },
  ],
  ['who somebody answers to', [{ op: 'add', path: `${ENTERPRISE}:manager`, value: 'x' }], { displayName: 'Ada Fern' }],
  [
    'several at once',
    [
      { op: 'replace', path: 'active', value: 'False' },
      { op: 'replace', path: 'displayName', value: 'A' },
      { op: 'replace', path: 'active', value: true },
    ],
    { active: true, displayName: 'A' },
  ],
  ['another name', [{ op: 'replace', path: 'userName', value: 'Ada.B@farm.example' }], { userName: 'Ada.B@farm.example' }],
  ['another external id', [{ op: 'replace', path: 'externalId', value: 'e-2' }], { externalId: 'e-2' }],
  [
    'what is ours to say',
    [
      { op: 'replace', path: 'id', value: 'x' },
      { op: 'replace', path: 'meta.version', value: 'x' },
      { op: 'add', path: 'groups', value: [{ value: 'x' }] },
    ],
    { displayName: 'Ada Fern', groups: [] },
  ],
  ['a password', [{ op: 'replace', path: 'password', value: 'secret secret' }], { password: undefined }],
  ['what every object has', [{ op: 'add', path: '__proto__.admin', value: true }], 400],
  ['the same without a path', [{ op: 'add', value: JSON.parse('{"__proto__": {"admin": true}, "constructor": {"x": 1}}') }], 400],
  ['no name any more', [{ op: 'remove', path: 'userName' }], 400],
  ['active that is neither', [{ op: 'replace', path: 'active', value: 'perhaps' }], 400],
  ['an operation that is none', [{ op: 'move', path: 'displayName', value: 'A' }], 400],
  ['no operation', [{ path: 'displayName', value: 'A' }], 400],
  ['to remove nothing', [{ op: 'remove' }], 400],
  ['a path too deep', [{ op: 'replace', path: 'name.familyName.more', value: 'A' }], 400],
  ['a path with a hole', [{ op: 'replace', path: 'emails[type eq "work"', value: 'A' }], 400],
  ['a filter that is none', [{ op: 'replace', path: 'emails[type ~ "work"].value', value: 'A' }], 400],
  ['a filter that nests deep', [{ op: 'replace', path: `emails[${'('.repeat(200)}type eq "work"${')'.repeat(200)}].value`, value: 'A' }], 400],
  ['a part of a text', [{ op: 'replace', path: 'displayName.part', value: 'A' }], 400],
  ['a text that is none', [{ op: 'replace', path: 'displayName', value: { a: 1 } }], 400],
  ['a text that is too long', [{ op: 'replace', path: 'displayName', value: 'x'.repeat(501) }], 400],
  ['half of a character', [{ op: 'replace', path: 'displayName', value: '\ud800' }], 400],
];

testLong('the shapes in which directories really send it', async () => {
  expect(SHAPES.length).toBeGreaterThan(60);
  const { make, patch, ask, enter } = await farm();
  for (const [i, [what, operations, holds]] of SHAPES.entries()) {
    const fresh = { ...FIRST, userName: `u${i}@farm.example`, externalId: `x${i}` };
    const id = await make(fresh.userName, fresh);
    const { status, body } = await patch(`/Users/${id}`, ...operations);
    if (typeof holds === 'number') {
      expect([what, status]).toEqual([what, holds]);
      expect([what, (await ask('GET', `/Users/${id}`)).tag]).toEqual([what, 'W/"1"']);
    } else expect([what, status, Object.fromEntries(Object.keys(holds).map((key) => [key, body[key]]))]).toEqual([what, 200, holds]);
    await ask('DELETE', `/Users/${id}`);
  }
  const [report] = await (await enter()).tenant.directories();
  expect(report?.unknown).toEqual(['addresses', 'costCenter', 'manager', 'nick', 'phoneNumbers', 'region: a value that it does not take', 'title']);
});

test('any sequence of PATCHes equals the PUT of its result, and the same twice is the same once', async () => {
  const { make, patch, ask } = await farm();
  const mail = fc.constantFrom('a@farm.example', 'b@farm.example', 'c@farm.example');
  const value = fc.record({ value: mail, type: fc.constantFrom('work', 'home'), primary: fc.boolean() });
  const operation = fc.oneof(
    fc.record({
      op: fc.constantFrom('add', 'replace', 'Add', 'REPLACE'),
      path: fc.constantFrom('displayName', 'name.givenName', 'NAME.familyName', `${ENTERPRISE}:department`),
      value: fc.constantFrom('A', 'B', ''),
    }),
    fc.record({ op: fc.constantFrom('add', 'replace'), path: fc.constant('emails'), value: fc.oneof(value, fc.array(value, { maxLength: 2 })) }),
    fc.record({ op: fc.constantFrom('add', 'replace'), path: fc.constantFrom('emails[type eq "work"].value', 'emails[type eq "home"].value'), value: mail }),
    fc.record({
      op: fc.constantFrom('remove', 'Remove'),
      path: fc.constantFrom('displayName', 'name', 'name.givenName', 'emails', 'emails[type eq "work"]', 'emails[value co "b@"]', `${ENTERPRISE}:department`),
    }),
    fc.record({
      op: fc.constant('replace'),
      value: fc.record({ active: fc.constantFrom(true, false, 'True', 'False'), displayName: fc.constantFrom('C', 'D') }),
    }),
    fc.record({ op: fc.constant('replace'), path: fc.constant('active'), value: fc.constantFrom(true, false, 'False') }),
  );
  let n = 0;
  const ours = ({ id: _, meta: __, userName: ___, externalId: ____, ...said }: any) => said;
  await fc.assert(
    fc.asyncProperty(fc.array(fc.array(operation, { minLength: 1, maxLength: 3 }), { minLength: 1, maxLength: 4 }), async (patches) => {
      const first = { ...FIRST, userName: `p${++n}@farm.example`, externalId: `p${n}` };
      const [one, together, put] = [
        await make(`one-${first.userName}`, { ...first, userName: `one-${first.userName}`, externalId: `one-${n}` }),
        await make(`two-${first.userName}`, { ...first, userName: `two-${first.userName}`, externalId: `two-${n}` }),
        await make(first.userName, first),
      ];
      for (const operations of patches) expect((await patch(`/Users/${one}`, ...operations)).status).toBe(200);
      expect((await patch(`/Users/${together}`, ...patches.flat())).status).toBe(200);
      const result = (await ask('GET', `/Users/${one}`)).body;
      expect(ours((await ask('GET', `/Users/${together}`)).body)).toEqual(ours(result));
      const whole = await ask('PUT', `/Users/${put}`, { ...result, userName: first.userName, externalId: first.externalId });
      expect(ours(whole.body)).toEqual(ours(result));
      const again = await ask('PUT', `/Users/${put}`, whole.body);
      expect([again.tag, again.body]).toEqual([whole.tag, whole.body]);
    }),
    { numRuns: LONG ? 300 : 5 },
  );
});

test('filters and pages: what is looked for is found, whatever is asked that is not there answers with an empty list', async () => {
  const { make, ask } = await farm();
  for (let i = 0; i < 12; i++)
    await make(`user${i}@farm.example`, {
      externalId: `e${i}`,
      displayName: i % 2 ? 'Odd One' : 'Even One',
      active: i !== 3,
      emails: [
        { value: `user${i}@farm.example`, type: 'work' },
        { value: `home${i}@else.example`, type: 'home' },
      ],
    });
  const found = async (filter: string) => {
    const { status, body } = await ask('GET', `/Users?filter=${encodeURIComponent(filter)}&count=500`);
    return status === 200 ? body.totalResults : body.scimType;
  };
  const asked: Record<string, number | string> = {
    'userName eq "user1@farm.example"': 1,
    'USERNAME Eq "USER1@FARM.EXAMPLE"': 1,
    'userName eq "nobody@farm.example"': 0,
    'externalId eq "e1"': 1,
    'externalId eq "E1"': 0,
    'userName sw "user1"': 3,
    'userName co "@farm"': 12,
    'displayName eq "odd one"': 6,
    'active eq false': 1,
    'active eq "False"': 1,
    'active ne false': 11,
    'displayName pr': 12,
    'title pr': 0,
    'not (displayName pr)': 0,
    'displayName eq "Odd One" and active eq true': 5,
    'userName eq "user1@farm.example" or userName eq "user2@farm.example"': 2,
    'emails.value eq "home4@else.example"': 1,
    'emails eq "home4@else.example"': 1,
    'emails[type eq "work"].value co "home"': 'invalidFilter',
    // Of one address, and not of two.
    'emails[type eq "work" and value co "home"]': 0,
    'emails[type eq "home" and value co "home"]': 12,
    [`${USER}:userName eq "user1@farm.example"`]: 1,
    'userName gt "a"': 'invalidFilter',
    'userName eq': 'invalidFilter',
    'constructor.name pr': 0,
  };
  const answers: Record<string, unknown> = {};
  for (const filter of Object.keys(asked)) answers[filter] = await found(filter);
  // What the parser makes of a part behind a bracket is its own; it is refused or finds what one address has.
  delete answers['emails[type eq "work"].value co "home"'];
  delete asked['emails[type eq "work"].value co "home"'];
  expect(answers).toEqual(asked);
  for (const filter of ['('.repeat(100), `userName eq "${'x'.repeat(1000)}"`, Array(40).fill('active eq true').join(' or ')])
    expect([filter.slice(0, 20), await found(filter)]).toEqual([filter.slice(0, 20), 'invalidFilter']);
  const names = async (query: string) => ((await ask('GET', `/Users?${query}`)).body.Resources ?? []).length;
  expect([
    await names('startIndex=1&count=5'),
    await names('startIndex=11&count=5'),
    await names('startIndex=50'),
    await names('count=0'),
    await names('startIndex=-3&count=2'),
    await names(''),
  ]).toEqual([5, 2, 0, 0, 2, 12]);
  expect((await ask('GET', '/Users?count=many')).status).toBe(400);
  const group = (
    await ask('POST', '/Groups', {
      displayName: 'Crew',
      externalId: 'g1',
      members: (await ask('GET', '/Users')).body.Resources.map(({ id }: any) => ({ value: id })),
    })
  ).body;
  expect([group.members.length, (await ask('GET', `/Groups/${group.id}?excludedAttributes=members`)).body.members]).toEqual([12, undefined]);
  const groups = async (filter: string) => (await ask('GET', `/Groups?excludedAttributes=members&filter=${encodeURIComponent(filter)}`)).body.totalResults;
  expect([
    await groups('displayName eq "crew"'),
    await groups('displayName eq "none"'),
    await groups('externalId eq "g1"'),
    await groups(`members[value eq "${group.members[0].value}"]`),
    await groups(`members.value eq "${group.members[0].value}"`),
    await groups('members eq "x"'),
  ]).toEqual([1, 0, 1, 1, 1, 0]);
});

test('a directory sees what it brought and nothing else; its key counts in its tenant alone, and is made by full control alone', async () => {
  const [one, other] = [await farm(), await farm()];
  const second = await one.directory('second');
  const [mine, theirs, foreign] = [await one.make('mine@farm.example'), await second.make('mine@farm.example'), await other.make('mine@farm.example')];
  for (const [id, status] of [
    [mine, 200],
    [theirs, 404],
    [foreign, 404],
    ['key', 404],
  ] as const) {
    expect([id, (await one.ask('GET', `/Users/${id}`)).status]).toEqual([id, status]);
    if (status === 404)
      for (const method of ['PUT', 'PATCH', 'DELETE'])
        expect([id, method, (await one.ask(method, `/Users/${id}`, method === 'DELETE' ? undefined : { userName: 'x', Operations: [] })).status]).toEqual([
          id,
          method,
          404,
        ]);
  }
  expect((await one.ask('GET', '/Users')).body.totalResults).toBe(1);
  await one.does({ do: 'make-group', id: `own-crew${made}`, name: 'Own crew' });
  expect([(await one.ask('GET', '/Groups')).body.totalResults, (await one.ask('GET', `/Groups/own-crew${made}`)).status]).toEqual([0, 404]);
  const group = (await one.ask('POST', '/Groups', { displayName: 'Crew' })).body.id;
  for (const id of [theirs, foreign, 'key'])
    expect((await one.patch(`/Groups/${group}`, { op: 'add', path: 'members', value: [{ value: id }] })).body.scimType).toBe('invalidValue');
  const by = (authorization: string, tenant = one.tenantId) =>
    pages.fetch(new Request(`https://app.example/scim/${tenant}/v2/Users`, { headers: { authorization } })).then(({ status }) => status);
  expect([
    await by(`Bearer ${one.key}`),
    await by(`Bearer ${one.key}`, other.tenantId),
    await by('Bearer lintel_key_x'),
    await by(''),
    await by(`Bearer ${other.key}`),
  ]).toEqual([200, 401, 401, 401, 401]);
  // What may not write as a directory asks for nothing.
  await one.does({ do: 'make-program', id: `p${made}`, name: 'Scale', responsible: 'key' });
  const [scale] = await one.does({ do: 'make-key', program: `p${made}` });
  expect(await by(`Bearer ${scale?.secret}`)).toBe(403);
  // Nor does a key that was there before: whoever gives the right later has not shown that they may set a directory up.
  await one.does({
    do: 'set-permissions',
    holder: { user: `p${made}` },
    permissions: [{ permission: 'directory.write', reach: 'tenant', anchor: { on: 'tenant' } }],
  });
  expect(await by(`Bearer ${scale?.secret}`)).toBe(403);
  const [anew] = await one.does({ do: 'make-key', program: `p${made}` });
  expect(await by(`Bearer ${anew?.secret}`)).toBe(200);
  await one.does({ do: 'invite', address: 'host@farm.example', roles: [whole('host')] });
  const [invited] = await lintel.myInvitations('host');
  await lintel.acceptInvitation('host', invited as never);
  const makes = async (user: string, fulfilled: string[]) =>
    code((await lintel.enter({ tenant: one.tenantId, user, fulfilled })).carryOut([{ do: 'make-key', program: one.program }]));
  expect([
    await makes('host', everything),
    await makes(
      'key',
      everything.filter((name) => name !== 'ownSignIn'),
    ),
    await makes('key', everything),
  ]).toEqual(['refused', 'prove-first', 'done']);
  await one.does({ do: 'suspend', user: one.program });
  expect(await by(`Bearer ${one.key}`)).toBe(403);
});

test('what a directory gives ends at the next request, whoever else gives what they give; full control is put to sleep by none; who was removed here stays out', async () => {
  const { make, patch, ask, does, subject, tenantId, program } = await farm();
  const [ada, bob] = [await make('ada@farm.example', { externalId: 'e-ada' }), await make('bob@farm.example')];
  const group = (await ask('POST', '/Groups', { displayName: 'Farmers', members: [{ value: ada }] })).body.id;
  await does({ do: 'set-roles', holder: { group }, roles: [whole('farmer')] }, { do: 'set-roles', holder: { user: bob }, roles: [whole('farmer')] });
  const roles = async (user: string) => (await subject(user)).assignments.map(({ role }) => role);
  expect([await roles(ada), (await subject(ada)).subject]).toEqual([['farmer'], 'member']);
  await patch(`/Users/${ada}`, { op: 'Replace', path: 'active', value: 'False' });
  expect((await subject(ada)).subject).toBe('suspended');
  // Nobody here brings back whom it says to be gone; it does.
  await does({ do: 'restore', user: ada });
  expect((await subject(ada)).subject).toBe('suspended');
  await patch(`/Users/${ada}`, { op: 'replace', value: { active: true } });
  await does({ do: 'set-group', id: group, people: [bob] });
  expect([(await subject(ada)).me.groupIds, (await subject(bob)).me.groupIds]).toEqual([[group], [group]]);
  await patch(`/Groups/${group}`, { op: 'remove', path: `members[value eq "${ada}"]` });
  expect([await roles(ada), (await subject(bob)).me.groupIds]).toEqual([[], [group]]);
  // What is apart stays so, whoever the directory puts in.
  await does({ do: 'set-roles', holder: { user: ada }, roles: [whole('weigher')] });
  expect((await patch(`/Groups/${group}`, { op: 'add', path: 'members', value: [{ value: ada }] })).status).toBe(409);
  // Full control.
  await does({ do: 'set-roles', holder: { user: bob }, roles: [whole('keyholder')] });
  expect((await patch(`/Users/${bob}`, { op: 'replace', path: 'active', value: false })).status).toBe(200);
  await patch(`/Users/${bob}`, { op: 'replace', path: 'active', value: true });
  await sql`update lintel_person set activated_at = now() where id = ${bob}`.execute(db);
  const asBob = await lintel.enter({ tenant: tenantId, user: bob, fulfilled: everything });
  await asBob.carryOut([
    { do: 'entrust-program', program, responsible: bob },
    { do: 'set-roles', holder: { user: 'key' }, roles: [] },
  ]);
  // Another whom it brought is nobody who would be left.
  const dee = await make('dee@farm.example');
  await sql`update lintel_person set activated_at = now() where id = ${dee}`.execute(db);
  await asBob.carryOut([{ do: 'set-roles', holder: { user: dee }, roles: [whole('keyholder')] }]);
  for (const refused of [patch(`/Users/${bob}`, { op: 'replace', path: 'active', value: false }), ask('DELETE', `/Users/${bob}`)])
    expect((await refused).body).toMatchObject({ status: '409', scimType: 'mutability' });
  // Named no longer, and named again: somebody new. Removed here: out.
  await asBob.carryOut([{ do: 'remove', user: ada }]);
  expect([(await ask('GET', `/Users/${ada}`)).status, (await ask('POST', '/Users', { userName: 'ada2@farm.example', externalId: 'e-ada' })).status]).toEqual([
    404, 403,
  ]);
  const gone = await make('cyd@farm.example', { externalId: 'e-cyd' });
  await ask('DELETE', `/Users/${gone}`);
  const again = await make('cyd@farm.example', { externalId: 'e-cyd' });
  expect([(await subject(gone)).subject, again === gone, (await subject(again)).subject]).toEqual(['signedIn', false, 'member']);
  expect(await (await lintel.enter({ tenant: tenantId, user: bob, fulfilled: everything })).audit.verify()).toMatchObject({ erased: 0 });
  const then = await (await lintel.enter({ tenant: tenantId, user: bob, fulfilled: everything })).audit.heldThen(bob, new Date());
  const inOrder = (line: string) => line.split(', ').sort();
  expect(inOrder(then.line)).toEqual(inOrder((await lintel.enter({ tenant: tenantId, user: bob })).describe().line));
});

test('whom a directory has named is expected: they take no seat, and are joined at their first sign-in by what stays, never by an address', async () => {
  const { make, ask, does, enter, tenantId, subject } = await farm();
  await lintel.setPlan(tenantId, { seats: 2 });
  const [ada, bea] = [await make('ada@farm.example', { externalId: 'e-ada', displayName: 'Ada' }), await make('bea@farm.example', { externalId: 'e-bea' })];
  await does({
    do: 'make-connection',
    id: 'own',
    name: 'Own',
    terms: { kind: 'oidc', issuer: 'https://sign-in.county.example', clientId: 'x' },
    claims: { directory: 'employee' },
    rules: [{ when: 'employee', gives: {} }],
  });
  await (await enter()).connections.try({ connection: 'own', claims: { sub: 'x' } });
  await does({ do: 'turn-connection', id: 'own', to: 'on' });
  const comes = (claims: object) => lintel.arrive({ tenantId, connectionId: 'own', claims: claims as never });
  expect((await comes({ sub: 's1', employee: 'e-ada', name: 'Ada F' })).userId).toBe(ada);
  expect((await comes({ sub: 's1', employee: 'e-bea' })).userId).toBe(ada);
  // Bound once: who says the same is somebody else. All seats are taken by now.
  expect((await comes({ sub: 's2', employee: 'e-ada' })).said?.code).toBe('no-seat');
  expect((await comes({ sub: 's3', employee: 'e-bea' })).said?.code).toBe('no-seat');
  await lintel.setPlan(tenantId, { seats: null });
  expect((await comes({ sub: 's3', employee: 'e-bea' })).userId).toBe(bea);
  const eve = await make('eve@farm.example', { externalId: 'e-eve' });
  for (const [sub, employee] of [
    ['s4', undefined],
    ['s5', 'e-nobody'],
  ])
    expect([ada, eve]).not.toContain((await comes({ sub, employee, email: 'eve@farm.example', email_verified: true })).userId);
  expect((await ask('GET', `/Users/${ada}`)).body).toMatchObject({ id: ada, userName: 'ada@farm.example' });
  await ask('DELETE', `/Users/${ada}`);
  expect((await subject(ada)).subject).toBe('signedIn');
  const [report] = await (await enter()).tenant.directories();
  expect(report).toMatchObject({ users: 2, active: 2, arrived: 1, groups: [] });
});

test('a whole directory is brought in, and brought again without change', { timeout: 3_000_000 }, async () => {
  const people = LONG ? Number(process.env.LINTEL_PEOPLE ?? 10_000) : 24;
  const groups = LONG ? 500 : 4;
  const { ask, tenantId } = await farm();
  const user = (i: number) => ({
    schemas: [USER, ENTERPRISE],
    userName: `u${i}@big.example`,
    externalId: `x${i}`,
    active: true,
    displayName: `User ${i}`,
    emails: [{ value: `u${i}@big.example`, type: 'work', primary: true }],
    [ENTERPRISE]: { department: `D${i % 7}` },
  });
  const began = Date.now();
  const made: string[] = [];
  for (let i = 0; i < people; i++) made.push((await ask('POST', '/Users', user(i))).body.id);
  const of = (g: number) => made.filter((_, i) => (i * 7 + g) % Math.max(2, Math.round(people / (g === 0 ? people / 2 : 40 + g))) === 0).slice(0, 2000);
  const filled: { id: string; members: string[] }[] = [];
  for (let g = 0; g < groups; g++) {
    const members = of(g);
    const { id } = (await ask('POST', '/Groups', { displayName: `G${g}` })).body;
    for (let i = 0; i < members.length; i += 100)
      expect(
        (
          await ask('PATCH', `/Groups/${id}?excludedAttributes=members`, {
            Operations: [{ op: 'Add', path: 'members', value: members.slice(i, i + 100).map((value) => ({ value })) }],
          })
        ).status,
      ).toBe(200);
    filled.push({ id, members });
  }
  const brought = Date.now();
  const number = async () => (await sql<any>`select last_number from lintel_tenant where id = ${tenantId}`.execute(db)).rows;
  const before = await number();
  let statements = 0;
  const executor = lintel.db.getExecutor().constructor.prototype;
  const original = executor.executeQuery;
  executor.executeQuery = function (...args: unknown[]) {
    statements += 1;
    return original.apply(this, args);
  };
  try {
    for (const [i, id] of made.entries()) expect((await ask('PUT', `/Users/${id}`, user(i))).tag).toBe('W/"1"');
  } finally {
    executor.executeQuery = original;
  }
  for (const { id, members } of filled) {
    const { tag } = await ask('GET', `/Groups/${id}?excludedAttributes=members`);
    expect(
      (await ask('PUT', `/Groups/${id}`, { displayName: (await ask('GET', `/Groups/${id}`)).body.displayName, members: members.map((value) => ({ value })) }))
        .tag,
    ).toBe(tag);
  }
  expect(await number()).toEqual(before);
  expect(statements / people).toBeLessThanOrEqual(people < 1000 ? 3.1 : 3.01);
  if (LONG)
    console.log(
      `${people} people and ${groups} groups in ${brought - began} ms, again in ${Date.now() - brought} ms, ${(statements / people).toFixed(2)} statements a person`,
    );
});
