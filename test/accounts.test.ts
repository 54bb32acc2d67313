/* Accounts of the library's own: how somebody comes to one, signs in, shows again who they are, and gets back in; and what whoever guesses learns, which is nothing. */
import { Kysely, PostgresDialect, sql } from 'kysely';
import { Secret, TOTP } from 'otpauth';
import pg from 'pg';
import { afterAll, beforeAll, beforeEach, expect, test, vi } from 'vitest';
import { defineCharter, defineKinds, id, isLintelError, owner, tenant, text } from 'warm-lintel';
import { Accounts, type AccountsOptions, type Entered } from 'warm-lintel/accounts';
import type { Message } from 'warm-lintel/mail';
import { createLintel, type Lintel } from 'warm-lintel/server';
import { type Lies, madeUpAuthenticator } from './authenticator.js';
import { LONG, testLong } from './long.js';
import { emptyPostgres } from './worlds.js';

const ids = { type: 'text' } as const;
const say = (sentence: string, before: string[]) => ({ sentence, before });
const charter = defineCharter(
  defineKinds(
    {
      note: {
        table: 'notes',
        label: 'title',
        fields: { id: id(ids), tenantId: tenant(ids), ownerId: owner(ids), title: text() },
        actions: { read: { label: 'Read' }, create: { label: 'Write' } },
      },
    },
    {},
  ),
  {
    roles: { writer: { label: 'Writer', may: { 'note.read': 'tenant', 'note.create': 'tenant' } } },
    obligations: {
      recentSignIn: say('sign in again', ['member.assign']),
      secondFactor: say('give a second factor', ['tenant.close']),
      choosePassword: say('choose a password', ['note.create', 'member.invite']),
      acceptTerms: say('accept the terms', ['note.read']),
      confirmAddress: say('confirm your address', ['member.invite']),
    } as never,
  },
);

const SECONDS = 1000;
const MINUTES = 60 * SECONDS;
const DAYS = 24 * 60 * MINUTES;
const GOOD = 'twelve quiet beehives';
const BETTER = 'thirteen loud beehives';

let now = Date.UTC(2026, 5, 1);
let statements: string[] = [];
let messages: Message[] = [];
/** Texts of statements, of errors, and what went to a log. */
const said = new Set<string>();
/** Every secret that was given out. */
const secrets: string[] = [GOOD, BETTER];
let db: Kysely<any>;
let lintel: Lintel<any>;
let accounts: Accounts;
const KEY = 'a key of the application’s own, which is long';
const over = (options: AccountsOptions = {}) =>
  new Accounts(lintel, { clock: () => now, secrets: [KEY], passkeys: { id: 'app.example', origins: ['https://app.example'] }, ...options });
for (const name of ['log', 'info', 'warn', 'error', 'debug'] as const) vi.spyOn(console, name).mockImplementation((...parts) => void said.add(parts.join(' ')));
beforeAll(async () => {
  const { url } = await emptyPostgres();
  db = new Kysely<any>({
    dialect: new PostgresDialect({ pool: new pg.Pool({ connectionString: url, max: 20 }) }),
    log: ({ query }) => {
      statements.push(query.sql.replace(/\s+/g, ' '));
      said.add(query.sql);
    },
  });
  await sql`create table notes (id text collate "C" primary key, tenant_id text collate "C", owner_id text collate "C", title text collate "C")`.execute(db);
  const mailer = { send: async (message: Message) => void messages.push(message) };
  const page = (name: string) => (token: string) => `https://app.example/${name}#${token}`;
  const accountLinks = { 'sign-up': page('activate'), forgotten: page('recover'), factor: page('factor') };
  lintel = createLintel({ charter, db, mailer, clock: () => now, invitationLink: page('invitation'), addressLink: page('address'), accountLinks });
  await lintel.prepare();
});
afterAll(() => {
  vi.restoreAllMocks();
  return db.destroy();
});
beforeEach(() => {
  [statements, messages] = [[], []];
  // Each on a day of its own: what was counted before is forgiven.
  now += 2 * DAYS;
  accounts = over();
});

const code = (work: Promise<unknown>) =>
  work.then(
    () => 'done',
    (error: unknown) => {
      if (!isLintelError(error)) throw error;
      said.add(JSON.stringify([error.message, error.details, error.stack, String(error.cause)]));
      return error.code;
    },
  );
/** The token in the message that came last to an address. */
async function letter(address: string): Promise<string> {
  await lintel.deliver();
  const token = /#(\S+)/.exec(messages.filter(({ to }) => to.address === address).at(-1)?.text ?? '')?.[1] ?? '';
  secrets.push(...token.split('.').slice(2));
  return token;
}
let made = 0;
/** Somebody with an account and a tenant, signed in. */
async function somebody(on = accounts) {
  const address = `p${++made}@people.example`;
  await on.signUp({ address });
  const entered = await on.activate({ token: await letter(address), name: 'Wilma', password: GOOD, tenantName: 'Wilma’s' });
  secrets.push(entered.token, entered.device);
  return { address, ...entered, tenantId: entered.tenantId as string };
}
const signIn = async (address: string, password = GOOD, device?: string, on = accounts) => {
  const entered = (await on.signIn({ address, password, device })) as Entered;
  secrets.push(entered.token, entered.device);
  return entered;
};
const count = async (table: string) => Number((await sql<{ n: string }>`select count(*) as n from ${sql.table(table)}`.execute(db)).rows[0]?.n);

test('an account begins with a letter: until its link was followed there is none; of many who follow it at once one gets it', async () => {
  const [people, address] = [await count('lintel_person'), 'new@people.example'];
  await accounts.signUp({ address });
  const first = await letter(address);
  await accounts.signUp({ address });
  const token = await letter(address);
  expect([await count('lintel_person'), await code(signIn(address))]).toEqual([people, 'sign-in-failed']);
  expect([await code(accounts.lookAtLink('sign-up', first)), await accounts.lookAtLink('sign-up', token)]).toEqual(['link-invalid', { address }]);
  expect(await code(accounts.lookAtLink('forgotten', token))).toBe('link-invalid');
  // What is wrong with the form leaves the link as it is.
  const form = { token, name: 'Nell', password: GOOD, tenantName: 'Nell’s' };
  expect([await code(accounts.activate({ ...form, password: 'short' })), await code(accounts.activate({ ...form, name: '' }))]).toEqual([
    'weak-password',
    'bad-name',
  ]);
  const all = await Promise.all(Array.from({ length: 16 }, () => code(accounts.activate(form))));
  expect(all.sort()).toEqual(['done', ...Array(15).fill('link-invalid')]);
  const person = await lintel.personByAddress(address);
  expect([await count('lintel_person'), person?.confirmedAt?.getTime()]).toEqual([people + 1, now]);
  // The term is counted from sending.
  await accounts.signUp({ address: 'late@people.example' });
  now += 3 * DAYS;
  const late = await letter('late@people.example');
  now += 23 * 60 * MINUTES;
  expect((await accounts.lookAtLink('sign-up', late)).address).toBe('late@people.example');
  now += 61 * MINUTES;
  expect(await code(accounts.lookAtLink('sign-up', late))).toBe('link-invalid');
});

test('whoever had an address before its owner came loses it, and nothing of theirs comes over', async () => {
  const [address, squatter] = ['early@people.example', await lintel.addPerson({ name: 'Squatter', address: 'early@people.example' })];
  await accounts.setPassword(squatter, BETTER);
  const { token: theirs } = await accounts.startSession(squatter);
  // An account that never proved its address is not given back by it either.
  await accounts.forgotten({ address });
  await lintel.deliver();
  expect(messages.at(-1)?.subject).toBe('There is no account with this address');
  await accounts.signUp({ address });
  const { userId } = await accounts.activate({ token: await letter(address), name: 'Owner', password: GOOD, tenantName: 'Theirs' });
  expect([userId === squatter, (await accounts.signedIn(theirs))?.address === address, await code(signIn(address, BETTER))]).toEqual([
    false,
    false,
    'sign-in-failed',
  ]);
  expect((await signIn(address)).userId).toBe(userId);
});

test('whoever is not signed in cannot tell whether there is an account: same answers, statements, hashes and messages that wait', async () => {
  const { address } = await somebody();
  await lintel.deliver();
  await code(accounts.signIn({ address: 'first@people.example', password: 'no' }));
  const ask = async (work: () => Promise<unknown>) => {
    [statements, messages] = [[], []];
    const [hashes, waiting] = [accounts.hashes, await count('lintel_outbox')];
    const answer = await work().catch((error) => JSON.stringify([error.code, error.message, error.details]));
    const seen = statements.slice(1);
    return { answer, statements: seen, hashes: accounts.hashes - hashes, waiting: (await count('lintel_outbox')) - waiting };
  };
  const nobody = 'nobody@people.example';
  for (const [what, work] of [
    ['sign up', (to: string) => accounts.signUp({ address: to })],
    ['forgotten', (to: string) => accounts.forgotten({ address: to })],
    ['sign in', (to: string) => accounts.signIn({ address: to, password: 'a password that is wrong' })],
  ] as const) {
    const [there, none] = [await ask(() => work(address)), await ask(() => work(nobody))];
    expect([what, none]).toEqual([what, there]);
    expect(there.statements.length).toBeGreaterThan(2);
  }
  // Also where it is locked, and at the try that locks it.
  for (let i = 0; i < 14; i++) {
    now += 20 * SECONDS;
    const [there, none] = [
      await ask(() => accounts.signIn({ address, password: 'no' })),
      await ask(() => accounts.signIn({ address: nobody, password: 'no' })),
    ];
    expect(none).toEqual(there);
  }
  await lintel.deliver();
  const told = messages.filter(({ subject }) => subject === 'Somebody tries to sign in as you').map(({ to }) => to.address);
  expect([told.length > 0, new Set(told)]).toEqual([true, new Set([address])]);
});

test('guesses come to a bound, from one place and from many; the owner gets in from a device of theirs, and by a new password', async () => {
  const { address, device } = await somebody();
  const guess = (from: string) => accounts.signIn({ address, password: 'a guess that is wrong', from }).catch((error) => error.code);
  const before = accounts.hashes;
  const answers = new Set(await Promise.all(Array.from({ length: LONG ? 400 : 120 }, (_, i) => guess(`192.0.2.${i % 200}`))));
  for (let i = 0; i < 100; i++) answers.add(await guess('198.51.100.7'));
  expect([...answers].sort()).toEqual(['sign-in-failed', 'too-fast']);
  expect(accounts.hashes - before).toBeLessThanOrEqual(6);
  // For a day, every five minutes of it: ten until it is locked, and then one whenever the lock ends, which takes twice as long each time.
  for (let i = 0; i < (LONG ? 24 : 6) * 12; i++) {
    now += 5 * MINUTES;
    await guess(`203.0.113.${i % 250}`);
  }
  expect(accounts.hashes - before).toBeLessThanOrEqual(20);
  expect(await code(signIn(address))).toBe('sign-in-failed');
  expect(await code(signIn(address, GOOD, device))).toBe('done');
  // A device that was stolen has a count of its own, and ends with the password.
  for (let i = 0; i < 8; i++) await code(accounts.signIn({ address, password: 'wrong', device }));
  expect(await code(signIn(address, GOOD, device))).toBe('sign-in-failed');
  await accounts.forgotten({ address });
  await accounts.recover({ token: await letter(address), password: BETTER });
  expect([await code(signIn(address, BETTER)), await code(signIn(address, GOOD))]).toEqual(['done', 'sign-in-failed']);
  const stolen = await sql`select 1 from lintel_device d join lintel_person p on p.id = d.person_id where p.address = ${address}`.execute(db);
  expect(stolen.rows.length).toBe(1);
});

test('a forgotten password: the link works once, ends what was there before, and the owner is told', async () => {
  const { address, token: session, device } = await somebody();
  await accounts.forgotten({ address });
  const link = await letter(address);
  expect(await code(accounts.recover({ token: link, password: 'short' }))).toBe('weak-password');
  const all = await Promise.all(Array.from({ length: 16 }, () => code(accounts.recover({ token: link, password: BETTER }))));
  expect(all.sort()).toEqual(['done', ...Array(15).fill('link-invalid')]);
  await lintel.deliver();
  expect(messages.at(-1)).toMatchObject({ subject: 'Your password was changed', to: { address } });
  expect([await accounts.signedIn(session), await code(signIn(address)), await code(signIn(address, BETTER, device))]).toEqual([
    undefined,
    'sign-in-failed',
    'done',
  ]);
  // Nobody is written to without end.
  for (let i = 0; i < 12; i++) {
    await accounts.forgotten({ address });
    await lintel.deliver();
  }
  expect(messages.filter(({ to, text }) => to.address === address && text.includes('#')).length).toBe(5);
});

test('sessions: listed, ended one by one or all others, by idleness and in all; another process refuses an ended one at the next request', async () => {
  const { address, token } = await somebody();
  const [second, third] = [await accounts.signIn({ address, password: GOOD, label: 'Firefox' }), await signIn(address)];
  const elsewhere = over();
  const mine = await accounts.mySessions(token);
  expect(mine.map(({ label, isThis }) => `${label} ${isThis}`).sort()).toEqual(['Firefox false', 'null false', 'null true']);
  await accounts.endSession(token, mine.find(({ label }) => label === 'Firefox')?.id as string);
  expect([await elsewhere.signedIn(second.token), (await elsewhere.signedIn(third.token))?.address]).toEqual([undefined, address]);
  const other = await somebody();
  expect(await code(accounts.endSession(other.token, (await accounts.mySessions(token))[0]?.id as string))).toBe('not-found');
  expect([await accounts.endOtherSessions(token), await elsewhere.signedIn(third.token)]).toEqual([1, undefined]);
  // Used every ten days it goes on; for fourteen unused, or after ninety, it does not.
  for (let day = 0; day < 80; day += 10) {
    now += 10 * DAYS;
    expect(await elsewhere.signedIn(token)).toBeDefined();
  }
  now += 11 * DAYS;
  expect(await elsewhere.signedIn(token)).toBeUndefined();
  const idle = await signIn(address);
  now += 14 * DAYS;
  expect(await elsewhere.signedIn(idle.token)).toBeUndefined();
  const short = await accounts.startSession(idle.userId, { hours: 12 });
  now += 12 * 60 * MINUTES;
  expect(await elsewhere.signedIn(short.token)).toBeUndefined();
});

test('another address ends every session; nobody signs in under the one before', async () => {
  const { userId, address, token } = await somebody();
  await lintel.changeAddress(userId, 'moved@people.example');
  await lintel.proveAddress(userId, await letter('moved@people.example'));
  expect([await accounts.signedIn(token), await code(signIn(address)), await code(signIn('moved@people.example'))]).toEqual([
    undefined,
    'sign-in-failed',
    'done',
  ]);
});

test('another password ends other sessions and devices; whoever has a session and not the password changes nothing, however often they try', async () => {
  const { address, token, device } = await somebody();
  const other = await signIn(address);
  for (let i = 0; i < 30; i++) expect(await code(accounts.changePassword(other.token, { present: 'wrong', next: BETTER }))).toBe('sign-in-failed');
  expect(await code(accounts.changePassword(other.token, { present: GOOD, next: BETTER }))).toBe('sign-in-failed');
  expect(await code(accounts.prove(other.token, { password: GOOD }))).toBe('sign-in-failed');
  const renewed = await accounts.changePassword(token, { present: GOOD, next: BETTER });
  secrets.push(renewed.token);
  expect([await accounts.signedIn(token), await accounts.signedIn(other.token), (await accounts.signedIn(renewed.token))?.address]).toEqual([
    undefined,
    undefined,
    address,
  ]);
  await lintel.deliver();
  expect(messages.at(-1)?.subject).toBe('Your password was changed');
  expect(await code(signIn(address, GOOD, device))).toBe('sign-in-failed');
  // Of a change and a sign-in with the password before at once, nobody stays in with the old one.
  const raced = await Promise.allSettled([
    accounts.changePassword(renewed.token, { present: BETTER, next: GOOD }),
    ...Array.from({ length: 8 }, () => accounts.signIn({ address, password: BETTER })),
  ]);
  const inside = raced.slice(1).flatMap((one) => (one.status === 'fulfilled' ? [one.value as { token: string }] : []));
  for (const one of inside) expect(await accounts.signedIn(one.token)).toBeUndefined();
});

/** Somebody with a second factor. */
async function withFactor(on = accounts) {
  const person = await somebody(on);
  await on.askForFactor(person.token);
  const { uri, secret, svg } = await on.beginFactor(person.token, await letter(person.address));
  const totp = new TOTP({ secret: Secret.fromBase32(secret) });
  secrets.push(secret);
  expect([uri.includes(`secret=${secret}`), svg.startsWith('<svg')]).toEqual([true, true]);
  const code = (at = now) => totp.generate({ timestamp: at });
  const { session, recoveryCodes } = await on.confirmFactor(person.token, code());
  secrets.push(session.token, ...recoveryCodes);
  now += 30 * SECONDS;
  return { ...person, token: session.token, code, recoveryCodes };
}

test('a second factor takes a password given lately, a letter and a first code; from then on no password suffices', async () => {
  const person = await somebody();
  const other = await signIn(person.address);
  now += 16 * MINUTES;
  expect(await code(accounts.askForFactor(person.token))).toBe('prove-first');
  const { token } = await accounts.prove(person.token, { password: GOOD });
  await accounts.askForFactor(token);
  const link = await letter(person.address);
  const stranger = await somebody();
  expect(await code(accounts.beginFactor(stranger.token, link))).toBe('link-invalid');
  const { secret } = await accounts.beginFactor(token, link);
  expect(await code(accounts.beginFactor(token, link))).toBe('link-invalid');
  const totp = new TOTP({ secret: Secret.fromBase32(secret) });
  expect([await code(accounts.confirmFactor(token, '000000')), 'device' in (await signIn(person.address))]).toEqual(['sign-in-failed', true]);
  const { session, recoveryCodes } = await accounts.confirmFactor(token, totp.generate({ timestamp: now }));
  expect([new Set(recoveryCodes).size, recoveryCodes.every((one) => /^[a-z0-9]{4}(-[a-z0-9]{4}){3}$/.test(one))]).toEqual([10, true]);
  expect([await accounts.signedIn(other.token), (await accounts.sender(session.token))?.fulfilled.includes('secondFactor')]).toEqual([undefined, true]);
  await lintel.deliver();
  expect(messages.at(-1)?.subject).toBe('You sign in with a second factor now');

  const half = await accounts.signIn({ address: person.address, password: GOOD });
  expect([half.next, 'device' in half, await accounts.signedIn(half.token), await code(accounts.mySessions(half.token))]).toEqual([
    'secondFactor',
    false,
    undefined,
    'no-account',
  ]);
  // The code by which it was confirmed was given once.
  expect(await code(accounts.giveCode(half.token, { code: totp.generate({ timestamp: now }) }))).toBe('sign-in-failed');
  now += 30 * SECONDS;
  const entered = await accounts.giveCode(half.token, { code: totp.generate({ timestamp: now }) });
  expect((await accounts.signedIn(entered.token))?.methods).toEqual(['pwd', 'otp']);
  expect(await code(accounts.giveCode(half.token, { code: totp.generate({ timestamp: now }) }))).toBe('sign-in-failed');
  const late = await accounts.signIn({ address: person.address, password: GOOD });
  now += 10 * MINUTES;
  expect(await code(accounts.giveCode(late.token, { code: totp.generate({ timestamp: now }) }))).toBe('sign-in-failed');
});

testLong('one code by many at once works once, and so does a recovery code; wrong ones are counted; a recovered password is not enough', async () => {
  const { address, code: codeOf, recoveryCodes } = await withFactor();
  const halfWay = async () => {
    const all: { token: string }[] = [];
    for (let i = 0; i < (LONG ? 16 : 6); i++) all.push(await accounts.signIn({ address, password: GOOD }));
    return all;
  };
  const halves = await halfWay();
  const all = await Promise.all(halves.map(({ token }) => code(accounts.giveCode(token, { code: codeOf() }))));
  expect(all.filter((one) => one === 'done').length).toBe(1);
  now += DAYS + MINUTES;
  const again = await halfWay();
  const recoveryCode = recoveryCodes[0]?.toUpperCase().replaceAll('-', ' ') as string;
  const used = await Promise.all(again.map(({ token }) => code(accounts.giveCode(token, { recoveryCode }))));
  expect(used.filter((one) => one === 'done').length).toBe(1);
  await lintel.deliver();
  expect(messages.at(-1)?.text).toContain('You have 9 left.');
  // Of a million codes three are right; so many guesses are looked at in a day.
  now += 2 * DAYS;
  const looks = () => statements.filter((one) => one.includes('from "lintel_factor"')).length;
  let [looked, token] = [0, ''];
  for (let i = 0; i < (LONG ? 24 : 5) * 12; i++) {
    now += 5 * MINUTES;
    if (i % 2 === 0) token = (await accounts.signIn({ address, password: GOOD })).token;
    statements = [];
    await code(accounts.giveCode(token, { code: '000000' }));
    looked += looks();
  }
  expect(looked).toBeLessThan(20);
  now += 2 * DAYS;
  await accounts.forgotten({ address });
  await accounts.recover({ token: await letter(address), password: 'short yet' });
  const half = await accounts.signIn({ address, password: 'short yet' });
  expect([half.next, await accounts.signedIn(half.token)]).toEqual(['secondFactor', undefined]);
});

/** Somebody with a passkey. */
async function withPasskey() {
  const person = await somebody();
  const device = madeUpAuthenticator('app.example', 'https://app.example');
  expect(await code(accounts.beginPasskey(person.token))).toBe('link-needed');
  await accounts.askForFactor(person.token);
  const asked = await accounts.beginPasskey(person.token, await letter(person.address));
  const { session, recoveryCodes } = await accounts.addPasskey(person.token, device.create(asked), 'My laptop');
  secrets.push(session.token, ...(recoveryCodes ?? []));
  const answer = async (lies: Lies = {}) => device.answer(await accounts.beginPasskeySignIn(), lies);
  return { ...person, token: session.token, answer, made: device };
}

test('a passkey signs in alone, also while others guess; what lies, was used, or was made for another page or person is none', async () => {
  const person = await withPasskey();
  for (let i = 0; i < 12; i++) await code(signIn(person.address, 'a guess that is wrong'));
  const { token } = await accounts.signInByPasskey(await person.answer());
  expect((await accounts.signedIn(token))?.methods).toEqual(['hwk', 'mfa']);
  expect((await accounts.sender(token))?.fulfilled).toContain('secondFactor');
  const lies: Lies[] = [{ origin: 'https://evil.example' }, { rp: 'evil.example' }, { unverified: true }, { forged: true }, { counter: 0 }];
  for (const one of lies) expect([one, await code(accounts.signInByPasskey(await person.answer(one)))]).toEqual([one, 'sign-in-failed']);
  const answered = await person.answer({ counter: 50 });
  const all = await Promise.all(Array.from({ length: 16 }, () => code(accounts.signInByPasskey(answered))));
  expect(all.filter((one) => one === 'done').length).toBe(1);
  // Too late; and a challenge that was made to add one is none to sign in.
  const late = await person.answer({ counter: 51 });
  now += 5 * MINUTES;
  expect(await code(accounts.signInByPasskey(late))).toBe('sign-in-failed');
  const { token: fresh } = await accounts.prove(person.token, { passkey: await person.answer({ counter: 52 }) });
  const toAdd = await accounts.beginPasskey(fresh);
  expect(await code(accounts.signInByPasskey(person.made.answer(toAdd, { counter: 53 })))).toBe('sign-in-failed');
  // It lists none, and nobody's is added to another's account.
  expect([await accounts.beginPasskeySignIn(), toAdd.excludeCredentials?.length]).toEqual([
    expect.not.objectContaining({ allowCredentials: expect.anything() }),
    1,
  ]);
  const other = await somebody();
  await accounts.askForFactor(other.token);
  const theirs = await accounts.beginPasskey(other.token, await letter(other.address));
  expect(await code(accounts.addPasskey(fresh, madeUpAuthenticator('app.example', 'https://app.example').create(theirs)))).toBe('sign-in-failed');
  expect(await code(accounts.addPasskey(other.token, person.made.create(theirs)))).toBe('sign-in-failed');
  expect((await accounts.myPasskeys(fresh)).map(({ label }) => label)).toEqual(['My laptop']);
});

test('beside a passkey no password suffices, nor another’s passkey; the last way in stays', async () => {
  now += 2 * DAYS;
  const person = await withPasskey();
  const stranger = await withPasskey();
  const half = await accounts.signIn({ address: person.address, password: GOOD });
  expect(half).toMatchObject({ next: 'secondFactor', by: ['passkey'] });
  expect(await code(accounts.giveCode(half.token, { passkey: await stranger.answer() }))).toBe('sign-in-failed');
  expect(await code(accounts.prove(person.token, { passkey: await stranger.answer() }))).toBe('sign-in-failed');
  expect(await code(accounts.prove(person.token, { password: GOOD }))).toBe('code-needed');
  const { token } = await accounts.giveCode(half.token, { passkey: await person.answer() });
  expect((await accounts.signedIn(token))?.methods).toEqual(['pwd', 'hwk', 'mfa']);
  const [mine] = await accounts.myPasskeys(token);
  expect(await code(accounts.removePasskey(stranger.token, mine?.id as string))).toBe('not-found');
  await db.deleteFrom('lintel_credential').where('person_id', '=', person.userId).execute();
  expect(await code(accounts.removePasskey(token, mine?.id as string))).toBe('last-way-in');
  await accounts.setPassword(person.userId, GOOD);
  const again = await accounts.signInByPasskey(await person.answer());
  await accounts.removePasskey(again.token, mine?.id as string);
  expect((await accounts.signIn({ address: person.address, password: GOOD })).next).toBeUndefined();
});

test('by no way does anybody come in whose account the platform has deactivated', async () => {
  now += 2 * DAYS;
  const [plain, coded, keyed] = [await somebody(), await withFactor(), await withPasskey()];
  const half = await accounts.signIn({ address: coded.address, password: GOOD });
  const people = [plain, coded, keyed].map(({ userId }) => userId);
  await db
    .updateTable('lintel_person')
    .set({ deactivated_at: new Date(now) })
    .where('id', 'in', people)
    .execute();
  expect([await accounts.sender(plain.token), await accounts.signedIn(coded.token), await code(accounts.mySessions(keyed.token))]).toEqual([
    undefined,
    undefined,
    'no-account',
  ]);
  expect([
    await code(signIn(plain.address)),
    await code(accounts.giveCode(half.token, { code: coded.code() })),
    await code(accounts.signInByPasskey(await keyed.answer())),
  ]).toEqual(Array(3).fill('sign-in-failed'));
  await db.updateTable('lintel_person').set({ deactivated_at: null }).where('id', 'in', people).execute();
  now += 30 * SECONDS;
  expect([
    await code(signIn(plain.address)),
    await code(accounts.giveCode(half.token, { code: coded.code() })),
    await code(accounts.signInByPasskey(await keyed.answer())),
  ]).toEqual(Array(3).fill('done'));
});

test('what changes a second factor, or is proven beside one, takes a code given lately', async () => {
  const { token, code: codeOf } = await withFactor();
  now += 16 * MINUTES;
  for (const work of [
    () => accounts.removeFactor(token),
    () => accounts.newRecoveryCodes(token),
    () => accounts.changePassword(token, { present: GOOD, next: BETTER }),
    () => accounts.askForFactor(token),
  ])
    expect(await code(work())).toBe('prove-first');
  expect(await code(accounts.prove(token, { password: GOOD }))).toBe('code-needed');
  const proven = await accounts.prove(token, { code: codeOf() });
  secrets.push(...(await accounts.newRecoveryCodes(proven.token)));
  // Under another key of the application what was sealed opens still, as long as the one before is given too.
  now += 30 * SECONDS;
  expect((await over({ secrets: ['another key of the application’s own, long', KEY] }).prove(proven.token, { code: codeOf() })).userId).toBe(proven.userId);
  now += 30 * SECONDS;
  const last = await accounts.signIn({
    address: (await lintel.db.selectFrom('lintel_person').select('address').where('id', '=', proven.userId).executeTakeFirstOrThrow()).address,
    password: GOOD,
  });
  const { token: fresh } = await accounts.giveCode(last.token, { code: codeOf() });
  expect(await code(over({ secrets: ['another key of the application’s own, long'] }).prove(fresh, { code: codeOf() }))).toBe('option-missing');
  await accounts.removeFactor(fresh);
  expect([
    await count('lintel_recovery_code'),
    (await accounts.signIn({ address: (await accounts.signedIn(fresh))?.address as string, password: GOOD })).next,
  ]).toEqual([expect.any(Number), undefined]);
});

test('obligations are worked out from the session: a recent sign-in by showing again who one is, a password, terms, an address', async () => {
  const person = await somebody();
  const asked = { charter: charter.data.obligations };
  expect(Object.keys(asked.charter)).toHaveLength(5);
  const on = over({ terms: { version: '2', from: new Date(now + DAYS) }, recentMinutes: 15 });
  const at = async (token = person.token) => lintel.enter({ tenant: person.tenantId, ...(await on.sender(token)) });
  const open = async (action: string, token?: string) => {
    const decision = (await at(token)).decide(action);
    return decision.outcome === 'obligation' ? decision.rule : decision.outcome;
  };
  expect([await open('member.assign'), await open('note.read'), await open('tenant.close')]).toEqual(['allowed', 'allowed', 'secondFactor']);
  now += 15 * MINUTES;
  expect(await open('member.assign')).toBe('recentSignIn');
  const proven = await on.prove(person.token, { password: GOOD });
  secrets.push(proven.token);
  expect([await on.sender(person.token), await open('member.assign', proven.token)]).toEqual([undefined, 'allowed']);
  now += DAYS;
  expect(await open('note.read', proven.token)).toBe('acceptTerms');
  expect(await code(on.acceptTerms(proven.token, '1'))).toBe('terms-changed');
  await on.acceptTerms(proven.token, '2');
  expect(await open('note.read', proven.token)).toBe('allowed');
  await on.askForPassword(person.userId);
  expect([await open('note.create', proven.token), await open('note.read', proven.token)]).toEqual(['choosePassword', 'allowed']);
  const { token } = await on.changePassword(proven.token, { present: GOOD, next: BETTER });
  expect(await open('note.create', token)).toBe('allowed');
  await db.updateTable('lintel_person').set({ confirmed_at: null }).where('id', '=', person.userId).execute();
  expect(await open('member.invite', token)).toBe('confirmAddress');
  // What the application tells besides is handed on.
  expect((await on.sender(token, ['ofOurs']))?.fulfilled).toContain('ofOurs');
});

test('a session that is bound to a tenant touches nothing of the person', async () => {
  const person = await somebody();
  const { token } = await accounts.startSession(person.userId, { enters: [person.tenantId], methods: ['pwd'] });
  expect([(await accounts.sender(token))?.enters, (await accounts.signedIn(token))?.enters]).toEqual([[person.tenantId], [person.tenantId]]);
  const calls: Record<string, (() => Promise<unknown>) | 'nobody' | 'code'> = {
    prove: () => accounts.prove(token, { password: GOOD }),
    changePassword: () => accounts.changePassword(token, { present: GOOD, next: BETTER }),
    mySessions: () => accounts.mySessions(token),
    endSession: () => accounts.endSession(token, 'x'),
    endOtherSessions: () => accounts.endOtherSessions(token),
    mySignIns: () => accounts.mySignIns(token),
    askForFactor: () => accounts.askForFactor(token),
    beginFactor: () => accounts.beginFactor(token, 'x'),
    confirmFactor: () => accounts.confirmFactor(token, '123456'),
    newRecoveryCodes: () => accounts.newRecoveryCodes(token),
    removeFactor: () => accounts.removeFactor(token),
    beginPasskey: () => accounts.beginPasskey(token),
    addPasskey: () => accounts.addPasskey(token, {} as never),
    myPasskeys: () => accounts.myPasskeys(token),
    removePasskey: () => accounts.removePasskey(token, 'x'),
    takePlace: () => accounts.takePlace(token, 'x'),
    provenLately: () => accounts.provenLately(token),
    ...Object.fromEntries(
      [
        'signUp',
        'lookAtLink',
        'activate',
        'joinByInvitation',
        'signIn',
        'signedIn',
        'sender',
        'signOut',
        'forgotten',
        'recover',
        'choosePassword',
        'keepFactors',
        'acceptTerms',
        'giveCode',
        'beginPasskeySignIn',
        'signInByPasskey',
      ].map((name) => [name, 'nobody' as const]),
    ),
    ...Object.fromEntries(['within', 'startSession', 'enterByConnection', 'setPassword', 'askForPassword'].map((name) => [name, 'code' as const])),
  };
  const methods = Object.getOwnPropertyNames(Accounts.prototype).filter((name) => !['constructor', 'hashes', 'terms'].includes(name));
  expect(Object.keys(calls).sort()).toEqual(methods.sort());
  for (const [name, call] of Object.entries(calls)) if (typeof call === 'function') expect([name, await code(call())]).toEqual([name, 'session-bound']);
  expect(await accounts.signedIn(person.token)).toBeDefined();
  // What it accepts it accepts for its tenants.
  const on = over({ terms: { version: '3', from: new Date(now) } });
  await on.acceptTerms(token, '3');
  const meets = async (one: string) => (await on.sender(one))?.fulfilled.includes('acceptTerms');
  const other = await accounts.startSession(person.userId, { enters: ['elsewhere'] });
  expect([await meets(token), await meets(person.token), await meets(other.token)]).toEqual([true, false, false]);
});

test('a password that anybody would try is refused, and it is said why', async () => {
  const strict = over({ passwords: { names: ['Beekeeping'], isBreached: (password) => password === 'stolen but long enough' } });
  const why = async (password: string) => {
    const address = `w${++made}@waggle.example`;
    const person = await lintel.addPerson({ name: 'Theodora', address });
    return strict.setPassword(person, password).then(
      () => 'taken',
      (error) => error.details.why,
    );
  };
  const tried: [string, string][] = [
    ['fourteen chars', 'short'],
    ['🐝🐝🐝🐝🐝🐝🐝🐝', 'short'],
    ['x'.repeat(257), 'long'],
    ['with a\u0007bell in it', 'unreadable'],
    ['123456789987654321', 'common'],
    ['1QAZ 2wsx 3edc 4rfv', 'common'],
    ['theodora theodora', 'name'],
    ['my waggle.example', 'name'],
    ['beekeeping 2026!', 'name'],
    ['stolen but long enough', 'breached'],
    ['theodora walks along the river', 'taken'],
    ['x'.repeat(256), 'taken'],
  ];
  for (const [password, expected] of tried) expect([password, await why(password)]).toEqual([password, expected]);
  // In one way of writing: another keyboard types the same.
  const person = await lintel.addPerson({ name: 'Zoë', address: 'zoe@people.example', confirmedAt: new Date(now) });
  await accounts.setPassword(person, 'Ｃａｆé under the bridge'.normalize('NFD'));
  expect((await signIn('zoe@people.example', 'Café under the bridge')).userId).toBe(person);
  // A hash that was made as none is made today is made anew.
  const { hash } = await import('@node-rs/argon2');
  await db
    .updateTable('lintel_credential')
    .set({ password_hash: await hash(GOOD, { memoryCost: 8192, timeCost: 1 }) })
    .where('person_id', '=', person)
    .execute();
  await signIn('zoe@people.example');
  const kept = await db.selectFrom('lintel_credential').select('password_hash').where('person_id', '=', person).executeTakeFirstOrThrow();
  expect(kept.password_hash).toMatch(/^\$argon2id\$v=19\$m=19456,t=2,p=1\$/);
  expect(await code(signIn('zoe@people.example'))).toBe('done');
});

test('somebody sees when they signed in and when it was tried; sign-up can be closed, or make an account alone', async () => {
  const { address } = await somebody();
  now += SECONDS;
  await code(accounts.signIn({ address, password: 'wrong', from: '192.0.2.77' }));
  now += SECONDS;
  const { token } = await signIn(address);
  expect((await accounts.mySignIns(token)).map(({ outcome, place }) => [outcome, place])).toEqual([
    ['in', null],
    ['refused', '192.0.2.77'],
    ['in', null],
  ]);
  expect(await code(over({ signUp: 'closed' }).signUp({ address: 'x@people.example' }))).toBe('sign-up-closed');
  const alone = over({ signUp: 'account' });
  await alone.signUp({ address: 'alone@people.example' });
  const made = await alone.activate({ token: await letter('alone@people.example'), name: 'Al', password: GOOD });
  expect([made.tenantId, await lintel.myTenants(made.userId)]).toEqual([undefined, []]);
});

test('no secret is kept anywhere as it is: not in a table, the outbox and the record among them, not in the text of a statement, not in an error, not in a log', async () => {
  const tables = await sql<{ name: string }>`select table_name as name from information_schema.tables where table_name like 'lintel\\_%'`.execute(db);
  let all = [...said].join('\n');
  expect(said.size).toBeGreaterThan(60);
  for (const { name } of tables.rows) all += JSON.stringify((await sql`select * from ${sql.table(name)}`.execute(db)).rows);
  expect(secrets.length).toBeGreaterThan(40);
  expect(secrets.filter((secret) => secret === '' || all.includes(secret))).toEqual([]);
});
