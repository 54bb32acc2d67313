/* Accounts over HTTP: with the cookies that the library sets, each answer as the description says it. */
import { Ajv2020 } from 'ajv/dist/2020.js';
import addFormats from 'ajv-formats';
import type { Kysely } from 'kysely';
import { Secret, TOTP } from 'otpauth';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { Accounts } from 'warm-lintel/accounts';
import { createFace, type Face, senderByCookie } from 'warm-lintel/http';
import type { Message } from 'warm-lintel/mail';
import { type Club, club } from './club.js';

let db: Kysely<any>;
let lintel: Club;
let face: Face;
const messages: Message[] = [];
let now = Date.UTC(2026, 5, 1);
const origin = 'https://app.example';
beforeAll(async () => {
  const page = (name: string) => (token: string) => `${origin}/${name}#${token}`;
  const accountLinks = { 'sign-up': page('activate'), forgotten: page('recover'), factor: page('factor') };
  const mailer = { send: async (message: Message) => void messages.push(message) };
  ({ lintel, db } = await club({ mailer, clock: () => now, invitationLink: page('invitation'), accountLinks }));
  const accounts = new Accounts(lintel, {
    clock: () => now,
    secrets: ['a key of the application’s own, which is long'],
    passkeys: { id: 'app.example', origins: [origin] },
    terms: { version: '1', from: new Date(0) },
  });
  face = createFace(lintel, { sender: senderByCookie({ accounts }), accounts: { accounts }, perMinute: 100_000 });
});
afterAll(() => db.destroy());

const ajv = addFormats.default(new Ajv2020({ strict: false }));
const asked = new Set<string>();

/** A browser: it keeps cookies, and sends them. */
function browser() {
  const cookies = new Map<string, string>();
  const call = async (id: string, body?: object, headers: Record<string, string> = {}, tenant = '') => {
    const { paths, components } = face.openApi as any;
    const [path, method, operation] = Object.entries<any>(paths)
      .flatMap(([path, methods]) => Object.entries<any>(methods).map(([method, one]) => [path, method, one] as const))
      .find(([, , one]) => one.operationId === id) as [string, string, any];
    asked.add(id);
    const cookie = [...cookies].map(([name, value]) => `${name}=${value}`).join('; ');
    const response = await face.fetch(
      new Request(`${origin}${path.replace('{tenant}', tenant)}`, {
        method: method.toUpperCase(),
        headers: { origin, ...(body && { 'content-type': 'application/json' }), ...(cookie && { cookie }), ...headers },
        ...(body && { body: JSON.stringify(body) }),
      }),
    );
    const set = response.headers.getSetCookie();
    for (const one of set) {
      const [, name, value] = /^([^=]+)=([^;]*)/.exec(one) as unknown as [string, string, string];
      if (value === '') cookies.delete(name);
      else cookies.set(name, value);
    }
    const answer = await response.json();
    const schema = response.ok ? operation.responses[200].content['application/json'].schema : { $ref: '#/components/schemas/Problem' };
    const fits = ajv.compile({ ...schema, components });
    expect([id, fits(answer) || fits.errors]).toEqual([id, true]);
    return { status: response.status, answer: answer as any, set };
  };
  return { call, cookies };
}
const letter = async (address: string) => {
  await lintel.deliver();
  return /#(\S+)/.exec(messages.filter(({ to }) => to.address === address).at(-1)?.text ?? '')?.[1] ?? '';
};

test('from nothing to signed in with a second factor, and back in after it was forgotten, by cookies alone', async () => {
  const address = 'wilma@people.example';
  const first = browser();
  expect((await first.call('myAccount')).answer).toEqual({ account: null });
  expect((await first.call('signUp', { address })).answer).toEqual({});
  const link = await letter(address);
  expect((await first.call('lookAtLink', { what: 'sign-up', token: link })).answer).toEqual({ address });
  const form = { token: link, name: 'Wilma', password: 'twelve quiet beehives', tenantName: 'Wilma’s' };
  const { answer, set } = await first.call('activate', form);
  expect(set.map((one) => one.replace(/=[^;]+/, '=…').replace(/Expires=[^;]+/, 'Expires=…'))).toEqual([
    '__Host-lintel-session=…; Path=/; Expires=…; HttpOnly; Secure; SameSite=Lax',
    '__Host-lintel-device=…; Max-Age=31536000; Path=/; HttpOnly; Secure; SameSite=Lax',
  ]);
  expect(JSON.stringify(answer)).not.toContain([...first.cookies.values()][0]);
  expect((await first.call('activate', form)).answer.code).toBe('link-invalid');
  expect((await first.call('myAccount')).answer.account).toMatchObject({
    address,
    methods: ['pwd'],
    hasFactor: false,
    fulfilled: expect.arrayContaining(['recentSignIn', 'choosePassword', 'confirmAddress', 'signedInWithin1h']),
    terms: '1',
  });
  expect((await first.call('myTenants')).answer.items).toEqual([{ id: answer.tenantId, name: 'Wilma’s' }]);
  await first.call('acceptTerms', { version: '1' });

  now += 20 * 60_000;
  expect((await first.call('askForFactor', {})).answer.code).toBe('prove-first');
  // Whoever has the address can come to have the account.
  expect((await first.call('changeAddress', { address: 'thief@people.example' })).answer.code).toBe('prove-first');
  const before = first.cookies.get('__Host-lintel-session');
  expect((await first.call('prove', { password: 'not this' })).status).toBe(401);
  await first.call('prove', { password: form.password });
  expect(first.cookies.get('__Host-lintel-session')).not.toBe(before);
  await first.call('askForFactor', {});
  const { secret } = (await first.call('beginFactor', { token: await letter(address) })).answer;
  const totp = new TOTP({ secret: Secret.fromBase32(secret) });
  const codeNow = () => totp.generate({ timestamp: now });
  const { recoveryCodes } = (await first.call('confirmFactor', { code: codeNow() })).answer;
  expect((await first.call('newRecoveryCodes', {})).answer.recoveryCodes).toHaveLength(recoveryCodes.length);
  expect((await first.call('myAccount')).answer.account.fulfilled).toContain('secondFactor');

  const second = browser();
  now += 30_000;
  expect((await second.call('signIn', { address, password: form.password })).answer).toEqual({ next: 'secondFactor', by: ['code'] });
  expect([(await second.call('myAccount')).answer.account, (await second.call('myTenants')).status]).toEqual([null, 401]);
  await second.call('giveCode', { code: codeNow() });
  const { items } = (await second.call('mySessions')).answer;
  expect([items.length, (await second.call('endSession', { id: items.find((one: any) => !one.isThis).id })).answer]).toEqual([2, { ended: 1 }]);
  expect([
    (await first.call('myTenants')).status,
    (await second.call('endSession', { others: true })).answer,
    (await second.call('mySignIns')).answer.items.length,
  ]).toEqual([401, { ended: 0 }, 2]);
  await second.call('changePassword', { present: form.password, next: 'thirteen loud beehives' });
  await second.call('removeFactor', {});
  const { set: left } = await second.call('signOut', {});
  expect([left[0]?.replace(/=;/, '=…;'), (await second.call('myAccount')).answer.account]).toEqual([expect.stringContaining('Max-Age=0'), null]);

  await second.call('forgotten', { address });
  await second.call('recover', { token: await letter(address), password: 'fourteen beehives in a row' });
  expect((await second.call('signIn', { address, password: 'fourteen beehives in a row' })).status).toBe(200);
});

test('another site makes nobody do anything in somebody’s name; who is invited comes in; every operation was asked', async () => {
  const owner = browser();
  await owner.call('signUp', { address: 'owner@people.example' });
  const { answer } = await owner.call('activate', {
    token: await letter('owner@people.example'),
    name: 'Owner',
    password: 'a password of an owner',
    tenantName: 'Owned',
  });
  // What an authenticator does is tried in a browser.
  expect((await owner.call('beginPasskey', {})).answer.code).toBe('link-needed');
  await owner.call('askForFactor', {});
  expect((await owner.call('beginPasskey', { token: await letter('owner@people.example') })).answer).toMatchObject({
    rp: { id: 'app.example' },
    excludeCredentials: [],
  });
  const passkey = { id: 'x', response: {} };
  expect((await owner.call('addPasskey', { passkey })).answer.code).toBe('sign-in-failed');
  expect((await owner.call('myPasskeys')).answer.items).toEqual([]);
  expect((await owner.call('removePasskey', { id: 'x' })).answer.code).toBe('not-found');
  expect((await browser().call('beginPasskeySignIn', {})).answer).not.toHaveProperty('allowCredentials');
  expect((await browser().call('signInByPasskey', { passkey })).answer.code).toBe('sign-in-failed');
  const foreign = { origin: 'https://evil.example' };
  expect((await owner.call('signOut', {}, { ...foreign, 'content-type': 'text/plain' })).answer.code).toBe('refused');
  expect((await owner.call('myTenants')).status).toBe(200);
  const standing = await lintel.enter({ tenant: answer.tenantId, user: (await owner.call('myAccount')).answer.account.userId });
  await standing.invitations.send([{ address: 'guest@people.example', roles: [] }]);
  const guest = browser();
  const joined = await guest.call('joinByInvitation', { invitation: await letter('guest@people.example'), name: 'Guest', password: 'a password of a guest' });
  expect([joined.answer, (await guest.call('myAccount')).answer.account.address]).toEqual([{ tenantId: answer.tenantId }, 'guest@people.example']);
  // Enrolled by hand; and what is done to an account that somebody keeps.
  const [done] = await standing.carryOut([{ do: 'enrol', address: 'kept@people.example', name: 'Kept', roles: [] }] as never);
  const kept = browser();
  const activation = done?.secret as string;
  expect((await kept.call('lookAtActivation', { activation })).answer).toMatchObject({ tenantName: 'Owned', name: 'Kept', again: false });
  expect((await owner.call('takePlace', { activation })).answer.code).toBe('other-address');
  expect((await kept.call('choosePassword', { activation, password: 'four words to keep' })).answer).toEqual({ tenantId: answer.tenantId });
  expect((await kept.call('myAccount')).answer.account).toMatchObject({ keptBy: answer.tenantId, enters: [answer.tenantId] });
  expect((await kept.call('rename', { name: 'Else' })).answer.code).toBe('session-bound');
  expect((await kept.call('keepFactors', { token: 'x' })).answer.code).toBe('link-invalid');
  const again = browser();
  expect((await again.call('signIn', { address: 'kept@people.example', password: 'four words to keep' })).status).toBe(401);
  expect((await again.call('signIn', { address: 'kept@people.example', password: 'four words to keep', tenant: answer.tenantId })).status).toBe(200);
  // Nobody chooses the id of somebody whom they enrol.
  const steps = [
    { do: 'enrol', id: 'mine', address: 'second@people.example', name: 'Second', roles: [] },
    { do: 'make-group', id: 'crew', name: 'Crew', people: ['mine'] },
  ];
  const put = await owner.call('change', { steps }, {}, answer.tenantId);
  expect([put.status, put.answer.done[0].id === 'mine', put.answer.done[1].event.people]).toEqual([200, false, [put.answer.done[0].id]]);
  // What has to be done first is said by its name.
  await lintel.db
    .updateTable('lintel_tenant')
    .set({ demands: JSON.stringify({ secondFactor: true }) })
    .where('id', '=', answer.tenantId)
    .execute();
  const first = await again.call('listMembers', undefined, {}, answer.tenantId);
  expect([first.status, first.answer.code, first.answer.obligation]).toEqual([403, 'obligation-open', 'secondFactor']);
  const all = Object.entries(face.openApi.paths as Record<string, Record<string, { operationId: string }>>).filter(([path]) => path.startsWith('/account'));
  expect(all.flatMap(([, methods]) => Object.values(methods).map(({ operationId }) => operationId)).filter((id) => !asked.has(id))).toEqual([]);
});
