/* Signing in by a tenant's provider: what it says counts in that tenant alone, and what is not whole, not fresh, not for us or not from there lets nobody in. */
import type { Kysely } from 'kysely';
import { sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { everythingMet, isLintelError } from 'warm-lintel';
import { Accounts } from 'warm-lintel/accounts';
import { createFace, senderByCookie, signOnPages } from 'warm-lintel/http';
import { SignOn } from 'warm-lintel/provisioning';
import { browserAt } from './browser-at.js';
import { type Club, club, code, whole } from './club.js';
import { type Lies, type Provider, startProvider } from './provider.js';

const SECRETS = ['a key of the application’s own, which is long'];
const ORIGIN = 'http://localhost:8080';
const RULES = [
  { requires: 'org', is: ['club'], words: 'Only the club comes in.' },
  { when: 'groups', is: ['writers'], gives: { roles: [whole('writer')] } },
] as const;
let lintel: Club;
let db: Kysely<any>;
let member: Awaited<ReturnType<typeof club>>['member'];
let accounts: Accounts;
let signOn: SignOn;
let pages: ReturnType<typeof signOnPages>;
let face: ReturnType<typeof createFace>;
let provider: Provider;
let other: Provider;
/** Why answers did not hold. */
const causes: string[] = [];
let now = Date.now();
const everything = () => everythingMet(lintel.charter);
const enter = (user: string, tenant = 'club', more: object = {}) => lintel.enter({ tenant, user, fulfilled: everything(), ...more });

/** A tenant's keyholder sets a provider up. */
async function connect(tenant: string, user: string, id: string, of: Provider, rules: readonly object[] = RULES) {
  const terms = { kind: 'oidc', issuer: of.issuer, clientId: of.clientId } as const;
  const standing = await enter(user, tenant);
  await standing.carryOut([{ do: 'make-connection', id, name: id, terms, rules: rules as never }]);
  await signOn.keepSecret(standing, id, of.clientSecret);
  await standing.connections.try({ connection: id, claims: { sub: 'x' } });
  await standing.carryOut([{ do: 'turn-connection', id, to: 'on' }]);
}

beforeAll(async () => {
  [provider, other] = await Promise.all([startProvider(), startProvider()]);
  ({ lintel, db, member } = await club({ clock: () => now }));
  accounts = new Accounts(lintel, { clock: () => now, secrets: SECRETS });
  signOn = new SignOn(lintel, { accounts, secrets: SECRETS, origin: ORIGIN, connections: { allowLocal: true }, clock: () => now });
  const at = { accounts, secureCookies: false };
  pages = signOnPages(signOn, { ...at, onError: (error) => void causes.push(error instanceof Error ? error.message : String(error)) });
  face = createFace(lintel, { sender: senderByCookie(at), accounts: at, signOn, perMinute: 100_000 });
  await lintel.addPerson({ id: 'mallory', name: 'Mallory', address: 'mallory@evil.example', confirmedAt: new Date(0) });
  await lintel.openTenant({ id: 'evil', name: 'Evil', keyholder: 'mallory' });
  await connect('club', 'key', 'own', provider);
  await connect('evil', 'mallory', 'evil', other, [{ gives: {} }]);
});
afterAll(async () => {
  await Promise.all([provider.close(), other.close()]);
  await db.destroy();
});

const browser = () => browserAt(ORIGIN, { pages, face }, '/sign-on/club/own');
const ADA = { sub: 'ada', name: 'Ada Fern', email: 'ada@club.example', email_verified: true, org: 'club', groups: ['writers'] };
const FAILED = '401 Sign-in failed. Start again. If it fails again, tell whoever runs your organisation here.';
const comes = async (claims: object = ADA, lies: Lies = {}, path?: string) => {
  const one = browser();
  return { ...one, outcome: await one.back(provider.answer(await one.leave(path), claims as never, lies)) };
};

test('somebody comes in by the provider: a member with what the rules give, by a session that enters that tenant alone and touches nothing of the person', async () => {
  const one = await comes(ADA, { userinfo: { groups: ['writers'] } }, '/sign-on/club/own?back=/t/club/notes%3Fa=1');
  expect(one.outcome).toBe('to /t/club/notes?a=1');
  const account = await one.me();
  expect(account).toMatchObject({ name: 'Ada Fern', address: 'ada@club.example', enters: ['club'], keptBy: 'club', connection: 'own', methods: [] });
  const tenants = ((await (await one.ask('/me/tenants')).json()) as any).items;
  expect(tenants.map(({ id }: any) => id)).toEqual(['club']);
  expect(account.fulfilled).not.toContain('ownSignIn');
  expect(account.fulfilled).not.toContain('recentSignIn');
  for (const path of ['/account/sessions', '/account/passkeys', '/me/invitations', '/account/sign-ins']) expect((await one.ask(path)).status).toBe(403);
  expect(
    (await (
      await face.fetch(new Request(`${ORIGIN}/ways-in`, { method: 'POST', body: '{"tenant":"club"}', headers: { 'content-type': 'application/json' } }))
    ).json()) as any,
  ).toEqual({
    items: [{ id: 'own', name: 'own', path: '/sign-on/club/own' }],
  });
  // 12 hours at most, and over at once where the connection is turned off.
  now += 12 * 3_600_000;
  expect(await one.me()).toBeNull();
  const again = await comes();
  expect((await again.me()).userId).toBe(account.userId);
  await (await enter('key')).carryOut([{ do: 'turn-connection', id: 'own', to: 'off' }]);
  expect(await again.me()).toBeNull();
  expect((await browser().ask('/sign-on/club/own')).status).toBe(404);
  await (await enter('key')).carryOut([{ do: 'turn-connection', id: 'own', to: 'on' }]);
  // What they were asked to show again they show there, within the session; another who shows it there does not.
  const fresh = await comes();
  const to = await fresh.leave('/sign-on/club/own?again&back=/t/club');
  expect([new URL(to).searchParams.get('prompt'), new URL(to).searchParams.get('max_age')]).toEqual(['login', '0']);
  const at = (seconds: number) => ({ token: { auth_time: Math.floor(Date.now() / 1000) + seconds } });
  now = Date.now();
  const within = async (claims: object, lies: Lies) => fresh.back(provider.answer(await fresh.leave('/sign-on/club/own?again'), claims as never, lies));
  expect([await within(ADA, {}), await within(ADA, at(-3600)), await within({ ...ADA, sub: 'eve' }, at(0))]).toEqual([FAILED, FAILED, FAILED]);
  expect((await fresh.me()).fulfilled).not.toContain('recentSignIn');
  expect(await within(ADA, at(0))).toBe('to /');
  expect((await fresh.me()).fulfilled).toContain('recentSignIn');
  // It is no proof of their own all the same: a provider says what its tenant has it say.
  expect((await fresh.me()).fulfilled).not.toContain('ownSignIn');
});

test('what a provider says of an address is nobody’s: neither their account nor their tenants are entered, and nothing tells that they exist', async () => {
  await member('vera', 'writer');
  const rows = async () => (await sql<any>`select id, name, address, confirmed_at from lintel_person where id in ('vera', 'key') order by id`.execute(db)).rows;
  const before = await rows();
  const evil = browser();
  const asVera = { sub: 'vera', name: 'Vera', email: 'vera@club.example', email_verified: true };
  const answers = [];
  for (const claims of [asVera, { ...asVera, sub: 'nobody', email: 'nobody-at-all@club.example' }]) {
    answers.push(await evil.back(other.answer(await evil.leave('/sign-on/evil/evil'), claims)));
    expect((await evil.me()).userId).not.toBe('vera');
    expect((await evil.me()).enters).toEqual(['evil']);
    expect((await evil.ask('/tenants/club/standing')).status).toBe(404);
  }
  expect(answers).toEqual(['to /', 'to /']);
  // By one's own tenant's provider neither, and neither as whom the library knows a person.
  for (const claims of [
    { ...asVera, org: 'club' },
    { sub: 'key', email: 'key@club.example', email_verified: true, org: 'club' },
  ]) {
    const one = await comes(claims);
    expect([one.outcome, ['vera', 'key'].includes((await one.me()).userId)]).toEqual(['to /', false]);
  }
  expect(await rows()).toEqual(before);
  // A changed address moves nobody; another subject is somebody else.
  const [first, moved, third] = [await comes(ADA), await comes({ ...ADA, email: 'vera@club.example' }), await comes({ ...ADA, sub: 'ada2' })];
  expect((await moved.me()).userId).toBe((await first.me()).userId);
  expect((await third.me()).userId).not.toBe((await first.me()).userId);
});

test('a member says themselves that this is them at the provider, signed in by something of their own, and by a form of ours alone', async () => {
  const PASSWORD = 'twelve quiet beehives';
  for (const id of ['mara', 'mick']) {
    await member(id, 'guest');
    await accounts.setPassword(id, PASSWORD);
  }
  const signedIn = async (id: string) => {
    const one = browser();
    await one.ask('/account/sign-in', {
      method: 'POST',
      headers: { 'content-type': 'application/json', origin: ORIGIN },
      body: JSON.stringify({ address: `${id}@club.example`, password: PASSWORD }),
    });
    return one;
  };
  const asked = async (one: ReturnType<typeof browser>, claims: object) => {
    const page = await (await one.ask(provider.answer(await one.leave('/sign-on/club/own?connect&back=/t/club'), claims as never))).text();
    expect(page).toContain(`<strong>${(claims as typeof ADA).name}`);
    return /name="sealed" value="([^"]+)"/.exec(page)?.[1] ?? '';
  };
  const says = (one: ReturnType<typeof browser>, sealed: string, origin = ORIGIN, way = '/sign-on/club/own') =>
    one
      .ask(`${way}/connect`, { method: 'POST', headers: { origin }, body: new URLSearchParams({ sealed }) })
      .then(async (response) => (response.status === 303 ? response.headers.get('location') : response.status));
  const AS_MARA = { ...ADA, sub: 'mara-there', name: 'Mara There' };
  const [mara, mick] = [await signedIn('mara'), await signedIn('mick')];
  expect((await browser().ask('/sign-on/club/own?connect')).status).toBe(401);
  expect((await (await comes({ ...ADA, sub: 'by-it' })).ask('/sign-on/club/own?connect')).status).toBe(403);
  const sealed = await asked(mara, AS_MARA);
  expect((await comes(AS_MARA)).outcome).toBe('to /');
  // Meanwhile somebody has come in as this: they are connected by now.
  expect(await says(mara, sealed)).toBe(409);
  const other = await asked(mara, { ...AS_MARA, sub: 'mara-too' });
  expect([
    await says(mick, other),
    await says(mara, other, 'https://evil.example'),
    await says(mara, other, ORIGIN, '/sign-on/evil/evil'),
    await says(mara, `${other.slice(0, -4)}AAAA`),
    await says(browser(), other),
  ]).toEqual([401, 401, 401, 401, 401]);
  expect(await says(mara, other)).toBe('/t/club');
  const now2 = await comes({ ...AS_MARA, sub: 'mara-too', email: 'else@club.example' });
  expect([(await now2.me()).userId, (await now2.me()).enters, (await now2.me()).name]).toEqual(['mara', ['club'], 'mara']);
  expect((await enter('mara')).facts.assignments.map(({ role }: any) => role).sort()).toEqual(['guest', 'writer']);
  // Each is one there, and one here.
  expect([await says(mara, await asked(mara, { ...AS_MARA, sub: 'third' })), await says(mick, await asked(mick, { ...AS_MARA, sub: 'mara-too' }))]).toEqual([
    409, 409,
  ]);
  expect(await says(mick, await asked(mick, { ...AS_MARA, sub: 'fourth', org: 'mill' }))).toBe(403);
  now += 20 * 60_000;
  expect((await mick.ask('/sign-on/club/own?connect')).status).toBe(403);
});

test('no lie of a provider lets anybody in', async () => {
  const lies: Record<string, Lies> = {
    'signed by a key that it does not give': { foreignKey: true },
    'not signed': { alg: 'none' },
    'signed by the secret of the client': { alg: 'HS256' },
    'of another issuer': { token: { iss: 'https://sign-in.county.example' } },
    'for another client': { token: { aud: 'another' } },
    'for several, and not meant for us': { token: { aud: ['another', 'the application'], azp: 'another' } },
    over: { token: { exp: Math.floor(Date.now() / 1000) - 3600 } },
    'of the future': { token: { iat: Math.floor(Date.now() / 1000) + 3600, nbf: Math.floor(Date.now() / 1000) + 3600 } },
    'with another nonce': { token: { nonce: 'another' } },
    'without a nonce': { token: { nonce: null } },
    'without a subject': { token: { sub: null } },
    'without an end': { token: { exp: null } },
    'no ID token at all': { noToken: true },
    'more of somebody else': { userinfo: { sub: 'somebody else' } },
    'the answer of another issuer': { iss: 'https://sign-in.county.example' },
    'the answer of none': { iss: null },
  };
  const found: Record<string, string> = {};
  for (const [what, lie] of Object.entries(lies)) {
    const one = await comes(ADA, lie);
    found[what] = one.outcome;
    expect([what, await one.me()]).toEqual([what, null]);
  }
  expect(new Set(Object.values(found))).toEqual(new Set([FAILED]));
  expect((await comes()).outcome).toBe('to /');
});

test('an answer counts once, soon, in the browser that asked, at the connection it was asked for', async () => {
  const one = browser();
  const to = await one.leave();
  const url = provider.answer(to, ADA);
  const elsewhere = browser();
  expect(await elsewhere.back(url)).toBe(FAILED);
  // Somebody else's answer in my browser: I would be signed in as them.
  const mine = browser();
  await mine.leave();
  expect(await mine.back(url)).toBe(FAILED);
  // Mixed up: another connection's path, state or issuer.
  expect(await one.back(url.replace('/club/own/', '/evil/evil/'))).toBe(FAILED);
  const evil = browser();
  const evilTo = await evil.leave('/sign-on/evil/evil');
  expect(await evil.back(`${ORIGIN}/sign-on/club/own/back${new URL(other.answer(evilTo, ADA)).search}`)).toBe(FAILED);
  expect(await evil.back(other.answer(evilTo, ADA, { iss: provider.issuer }))).toBe(FAILED);
  // Mallory has let the browser begin at theirs, and answers as themselves at ours, with all that was asked.
  const mixed = new URL(await evil.leave('/sign-on/evil/evil'));
  mixed.searchParams.set('redirect_uri', `${ORIGIN}/sign-on/club/own/back`);
  expect(await evil.back(provider.answer(mixed.href, { ...ADA, sub: 'mallory' }))).toBe(FAILED);
  const late = browser();
  const lateUrl = provider.answer(await late.leave(), ADA);
  now += 10 * 60_000;
  expect(await late.back(lateUrl)).toBe(FAILED);
  now -= 10 * 60_000;
  // Changed in the browser, sealed under another key, or nothing at all.
  for (const change of [(v: string) => `${v.slice(0, -2)}AA`, () => 'a.b.c', () => '']) {
    const bent = browser();
    const bentUrl = provider.answer(await bent.leave(), ADA);
    for (const [name, value] of bent.jar) bent.jar.set(name, change(value));
    expect(await bent.back(bentUrl)).toBe(FAILED);
  }
  const kept = new Map(one.jar);
  const outcomes = [await one.back(url)];
  for (let i = 0; i < 3; i++) {
    for (const [name, value] of kept) one.jar.set(name, value);
    outcomes.push(await one.back(url));
  }
  expect(outcomes).toEqual(['to /', FAILED, FAILED, FAILED]);
  expect(await browser().back(`${ORIGIN}/sign-on/club/own/back?error=access_denied&state=x`)).toBe(FAILED);
  const denied = browser();
  const state = new URL(await denied.leave()).searchParams.get('state');
  expect(await denied.back(`${ORIGIN}/sign-on/club/own/back?error=access_denied&state=${state}&iss=${provider.issuer}`)).toBe(FAILED);
});

test('nobody is led out of the application, and an address that a tenant gives is asked only where it is outside', async () => {
  const leads: Record<string, string> = {};
  for (const back of [
    '//evil.example',
    '/\\evil.example',
    'https://evil.example/',
    '/\t/evil.example',
    'javascript:alert(1)',
    `/${'a'.repeat(600)}`,
    '/@evil.example',
    '/t/club#x',
  ])
    leads[back] = (
      await comes(ADA, {}, `/sign-on/club/own?back=${encodeURIComponent(back)}&iss=https://evil.example&target_link_uri=https://evil.example`)
    ).outcome;
  expect(leads).toEqual({
    ...Object.fromEntries(Object.keys(leads).map((one) => [one, 'to /'])),
    '/@evil.example': 'to /@evil.example',
    '/t/club#x': 'to /t/club#x',
  });
  // Its own pages say where the browser goes: never to a script, nor inside.
  const strict = new SignOn(lintel, { accounts, secrets: SECRETS, origin: ORIGIN });
  expect(await code(strict.begin('club', 'own'))).toBe('address-refused');
  const evil = await enter('mallory', 'evil');
  const issuers = [
    'http://127.0.0.1:1',
    'https://127.0.0.1',
    'https://[::1]',
    'https://10.0.0.1',
    'https://169.254.169.254',
    'https://[::ffff:192.168.0.1]',
    'https://100.64.0.1',
    'https://u:p@sign-in.example',
    'file:///etc/passwd',
    'ftp://a.example',
    'https://localhost',
  ];
  for (const [i, issuer] of issuers.entries()) {
    const id = `inside${i}`;
    await evil.carryOut([{ do: 'make-connection', id, name: id, terms: { kind: 'oidc', issuer, clientId: 'x' } }]);
    await evil.connections.try({ connection: id, claims: { sub: 'x' } });
    await evil.carryOut([{ do: 'turn-connection', id, to: 'on' }]);
    const refused = await strict.begin('evil', id).catch((error: unknown) => (isLintelError(error) ? error : Promise.reject(error)));
    // A name that leads inside is told apart from one that leads nowhere to nobody outside.
    expect([issuer, (refused as Error).message]).toEqual([
      issuer,
      'The provider has an address that is not asked from here: each has to be https, and public.',
    ]);
    await evil.carryOut([{ do: 'drop-connection', id }]);
  }
  const honest = { ...other.metadata };
  for (const [name, value] of [
    ['authorization_endpoint', 'javascript:alert(1)'],
    ['issuer', 'https://sign-in.county.example'],
    ['issuer', `${other.issuer}/{tenantid}`],
  ] as const) {
    other.metadata = { ...honest, [name]: value };
    const fresh = new SignOn(lintel, { accounts, secrets: SECRETS, origin: ORIGIN, connections: { allowLocal: true } });
    const answer = await fresh.begin('evil', 'evil').then(
      () => 'left',
      () => 'refused',
    );
    expect([name, answer]).toEqual([name, 'refused']);
  }
  other.metadata = honest;
});

test('keys rotate without that anybody is shut out; a secret opens under no other key, tenant or connection; nothing of it is told', async () => {
  expect((await comes()).outcome).toBe('to /');
  await provider.rotate();
  // An application at its next start, or after a while.
  const later = new SignOn(lintel, { accounts, secrets: SECRETS, origin: ORIGIN, connections: { allowLocal: true }, clock: () => now });
  const leaving = await later.begin('club', 'own');
  const query = new URL(provider.answer(leaving.to, ADA)).searchParams;
  expect(await later.finish('club', 'own', { query, kept: () => leaving.keep.value })).toHaveProperty('session');
  const { rows } = await sql<any>`select sealed from lintel_connection where tenant_id = 'club'`.execute(db);
  expect(rows[0].sealed).not.toContain(provider.clientSecret);
  expect(JSON.stringify(await (await enter('key')).connections.list())).not.toContain(rows[0].sealed);
  await sql`update lintel_connection set sealed = ${rows[0].sealed} where tenant_id = 'evil' and id = 'evil'`.execute(db);
  const fresh = new SignOn(lintel, { accounts, secrets: SECRETS, origin: ORIGIN, connections: { allowLocal: true } });
  await expect(fresh.begin('evil', 'evil')).rejects.toThrow();
  const rotated = new SignOn(lintel, {
    accounts,
    secrets: ['another key of the application, as long', ...SECRETS],
    origin: ORIGIN,
    connections: { allowLocal: true },
  });
  expect((await rotated.begin('club', 'own')).to).toContain(provider.issuer);
  const without = new SignOn(lintel, { accounts, secrets: ['another key of the application, as long'], origin: ORIGIN, connections: { allowLocal: true } });
  expect(await code(without.begin('club', 'own'))).toBe('option-missing');
});
