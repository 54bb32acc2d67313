/* Accounts that a tenant keeps, and what a tenant asks of its members' sign-in: by neither does anybody come to more than that tenant has. */
import { type Kysely, sql } from 'kysely';
import { Secret, TOTP } from 'otpauth';
import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import { everythingMet } from 'warm-lintel';
import { Accounts, type Entered } from 'warm-lintel/accounts';
import type { Message } from 'warm-lintel/mail';
import { type Club, club, code, whole } from './club.js';

const GOOD = 'twelve quiet beehives';
const MINUTE = 60_000;
const DAY = 24 * 60 * MINUTE;
let now = Date.UTC(2026, 8, 1);
let lintel: Club;
let db: Kysely<any>;
let member: Awaited<ReturnType<typeof club>>['member'];
let accounts: Accounts;
const messages: Message[] = [];
beforeAll(async () => {
  const page = (name: string) => (token: string) => `https://app.example/${name}#${token}`;
  ({ lintel, db, member } = await club({
    clock: () => now,
    mailer: { send: async (message) => void messages.push(message) },
    invitationLink: page('invitation'),
    addressLink: page('address'),
    accountLinks: { 'sign-up': page('activate'), forgotten: page('recover'), factor: page('factor'), 'keep-factors': page('keep') },
  }));
  accounts = new Accounts(lintel, { clock: () => now, secrets: ['a key of the application’s own, which is long'] });
  await member('cleo', 'chief');
  await member('gus', 'guest');
  await member('wim', 'writer');
  for (const [id, tenantId] of [
    ['other', 'other'],
    ['third', 'third'],
  ] as const) {
    await lintel.addPerson({ id, name: id, address: `${id}@club.example`, confirmedAt: new Date(0) });
    await lintel.openTenant({ id: tenantId, name: tenantId, keyholder: id });
  }
});
afterAll(() => db.destroy());
beforeEach(() => void (now += 2 * DAY));

const enter = (user: string, more: object = {}, tenant = 'club') => lintel.enter({ tenant, user, fulfilled: everythingMet(lintel.charter), ...more });
/** Every way in that was handed over. */
const ways: string[] = [];
const does = async (user: string, ...steps: object[]) => {
  const done = await (await enter(user)).carryOut(steps as never);
  ways.push(...done.flatMap(({ secret }) => secret ?? []));
  return done;
};
let made = 0;
/** Somebody who was just enrolled, and what is handed to them. */
async function enrolled(by = 'key', more: object = {}) {
  const address = `kept${++made}@people.example`;
  const [done] = await does(by, { do: 'enrol', address, name: `Kept ${made}`, roles: [whole('writer')], ...more });
  return { address, userId: done?.id as string, activation: done?.secret as string };
}
/** The same, who has come in. */
async function kept(by = 'key', more: object = {}) {
  const one = await enrolled(by, more);
  return { ...one, ...(await accounts.choosePassword({ activation: one.activation, password: GOOD })) };
}
const totpOf = (secret: string) => new TOTP({ secret: Secret.fromBase32(secret) }).generate({ timestamp: now });
async function letter(address: string): Promise<string> {
  await lintel.deliver();
  return /#(\S+)/.exec(messages.filter(({ to }) => to.address === address).at(-1)?.text ?? '')?.[1] ?? '';
}

test('somebody enrolled is a member at once; what was handed over counts once, and lets them into that tenant and no other', async () => {
  const waiting = (await lintel.db.selectFrom('lintel_outbox').select('tenant_id').execute()).length;
  const one = await enrolled('cleo');
  const asked = await (await enter('key')).members.list();
  expect(asked.find(({ userId }) => userId === one.userId)).toMatchObject({ address: one.address, kept: 'waiting', status: 'active' });
  expect((await lintel.db.selectFrom('lintel_outbox').select('tenant_id').execute()).length).toBe(waiting);
  expect(await lintel.lookAtActivation(one.activation)).toMatchObject({ tenantId: 'club', tenantName: 'club', address: one.address, again: false });
  const bad = accounts.choosePassword({ activation: one.activation, password: 'short' });
  expect(await code(bad)).toBe('weak-password');
  const all = await Promise.all(Array.from({ length: 16 }, () => code(accounts.choosePassword({ activation: one.activation, password: GOOD }))));
  expect(all.sort()).toEqual([...Array(15).fill('activation-invalid'), 'done']);
  expect((await (await enter('key')).members.list()).find(({ userId }) => userId === one.userId)?.kept).toBe('theirs');

  // By the general page nobody is found, however the address is written; by another tenant's neither.
  const signIn = (tenant?: string, password = GOOD) => accounts.signIn({ address: one.address.toUpperCase(), password, tenant });
  expect([await code(signIn()), await code(signIn('other')), await code(signIn('club', 'wrong wrong wrong'))]).toEqual(Array(3).fill('sign-in-failed'));
  expect(await code(accounts.signIn({ address: `kept by club ${one.address}`, password: GOOD }))).toBe('sign-in-failed');
  const { token } = (await signIn('club')) as Entered;
  const sender = await accounts.sender(token);
  expect([sender?.enters, (await accounts.signedIn(token))?.keptBy]).toEqual([['club'], 'club']);
  expect((await lintel.enter({ ...sender, tenant: 'club' } as never)).may('note.create', { title: 'mine' } as never)).toBe(true);
  expect((await lintel.enter({ ...sender, tenant: 'other' } as never)).userId).toBeUndefined();
  expect(await lintel.myTenants(sender as never)).toEqual([{ id: 'club', name: 'club' }]);
  // Whoever begins a session of theirs, it enters that tenant alone.
  const wider = await accounts.startSession(one.userId, { enters: ['other', 'club'] });
  expect((await accounts.sender(wider.token))?.enters).toEqual(['club']);
  // Nothing makes them a member elsewhere, also not by their id alone.
  await (await enter('other', {}, 'other')).carryOut([{ do: 'set-rules', joining: { asks: true } }] as never);
  await lintel.askToJoin(one.userId, 'other');
  const lets = (await enter('other', {}, 'other')).carryOut([{ do: 'let-in', user: one.userId, roles: [] }] as never);
  expect([await code(lets), await code(lintel.openTenant({ name: 'Mine', keyholder: one.userId }))]).toEqual(['kept-account', 'kept-account']);
  await expect(sql`insert into lintel_person_tenant values (${one.userId}, 'other')`.execute(db)).rejects.toThrow('is a member of no other');
  expect([await code(lintel.changeAddress(one.userId, 'else@people.example')), await code(lintel.platform(one.userId).erasePerson('other'))]).toEqual([
    'kept-account',
    'not-found',
  ]);
  const taken = await lintel.intake({
    people: [{ id: one.userId, name: 'Else', address: 'else@people.example' }],
    members: [{ tenant: 'other', user: one.userId }],
  } as never);
  expect(taken.refused.map(({ code }) => code)).toEqual(['kept-account', 'kept-account']);
  // Their password is theirs to change, and their sessions to end.
  const fresh = await accounts.changePassword(token, { present: GOOD, next: 'thirteen loud beehives' });
  expect([(await accounts.mySessions(fresh.token)).length, (await accounts.mySignIns(fresh.token)).length > 0]).toEqual([1, true]);
});

test('enrolling takes its own right, and no more than one may give; a proposal shows what comes of it', async () => {
  const step = (roles: object[], more: object = {}) => ({ do: 'enrol', address: `new${++made}@people.example`, name: 'New', roles, ...more });
  expect(await code(does('gus', step([])))).toBe('refused');
  expect([await code(does('cleo', step([whole('keyholder')]))), await code(does('cleo', step([whole('operator')])))]).toEqual(['beyond-power', 'beyond-power']);
  expect(await code(does('key', step([whole('clerk'), whole('checker')])))).toBe('apart');
  const proposal = await (await enter('cleo')).propose([step([whole('writer')])] as never);
  const [effect] = proposal.effects;
  expect([proposal.problems, effect?.people.some[0]?.name, effect?.permissions.some(({ permission }) => permission === 'note.create')]).toEqual([
    [],
    'New',
    true,
  ]);
  const [done] = await (await enter('cleo')).carryOut(proposal);
  expect(done?.secret).toBeDefined();
  // Whoever was enrolled and never came has control of nothing: nobody else may go.
  const boss = await enrolled('key', { roles: [whole('keyholder')] });
  expect(await code(does('key', { do: 'leave' }))).toBe('last-keyholder');
  await accounts.choosePassword({ activation: boss.activation, password: GOOD });
  expect(await code(does(boss.userId, { do: 'make-activation', user: boss.userId }))).toBe('own-power');
  expect(await code(does(boss.userId, { do: 'remove', user: boss.userId }))).toBe('done');
  expect(await code(does('key', step([], { address: 'wim@club.example' })))).toBe('already-member');
  const again = await enrolled();
  expect(await code(does('key', step([], { address: again.address })))).toBe('already-member');
  // Nor is anybody invited who was enrolled.
  const [invited] = await (await enter('key')).invitations.send([{ address: again.address.toUpperCase(), roles: [] }]);
  expect([invited?.outcome, await (await enter('key')).members.bring([{ address: again.address, roles: [whole('writer')] }])]).toEqual([
    'already a member',
    { invited: 0, changed: 0, same: 1, refused: [] },
  ]);
  // Removed and enrolled again, they are somebody else.
  await does('key', { do: 'remove', user: again.userId });
  const [anew] = await does('key', step([], { address: again.address }));
  expect([anew?.id === again.userId, await code(accounts.choosePassword({ activation: again.activation, password: GOOD }))]).toEqual([
    false,
    'activation-invalid',
  ]);
});

test('whoever enrols or invites cannot tell whether there is an account: same answer, statements and messages that wait', async () => {
  await lintel.openTenant({ name: 'Theirs', keyholder: await lintel.addPerson({ name: 'Real', address: 'real@people.example', confirmedAt: new Date(0) }) });
  const executor = Object.getPrototypeOf(lintel.db.getExecutor());
  const { executeQuery } = executor;
  const look = async (step: object) => {
    const statements: string[] = [];
    executor.executeQuery = function (query: { sql: string }, ...more: unknown[]) {
      statements.push(query.sql);
      return executeQuery.call(this, query, ...more);
    };
    const before = await lintel.db.selectFrom('lintel_outbox').select('number').execute();
    try {
      const [done] = await does('key', step);
      const outbox = await lintel.db.selectFrom('lintel_outbox').select('number').execute();
      const shape = [done?.what, Object.keys(done ?? {}), done?.secret?.length, done?.id?.length, JSON.stringify(done?.event).length];
      return { statements, waiting: outbox.length - before.length, shape };
    } finally {
      executor.executeQuery = executeQuery;
    }
  };
  for (const step of [
    { do: 'enrol', name: 'Somebody', roles: [whole('writer')] },
    { do: 'invite', name: 'Somebody', roles: [whole('writer')] },
  ]) {
    await look({ ...step, address: 'warm@people.example' });
    const [none, there] = [await look({ ...step, address: 'none@people.example' }), await look({ ...step, address: 'real@people.example' })];
    expect(none.statements.length).toBeGreaterThan(10);
    expect(there).toEqual(none);
    if (step.do === 'enrol') for (const one of ['warm', 'none', 'real']) await removed(`${one}@people.example`);
  }
  // Nor is anything of theirs to be seen: the name is the one that was given.
  async function removed(address: string): Promise<void> {
    const member = (await (await enter('key')).members.list()).find((one) => one.address === address);
    expect(member?.name).toBe('Somebody');
    await does('key', { do: 'remove', user: member?.userId });
  }
});

test('somebody with an account of their own takes the place that was made for them, with all that hangs on it', async () => {
  const address = 'owner@people.example';
  const owner = await lintel.addPerson({ name: 'Owner', address, confirmedAt: new Date(0) });
  await accounts.setPassword(owner, GOOD);
  const { token } = (await accounts.signIn({ address, password: GOOD })) as Entered;
  const [done] = await does('key', { do: 'enrol', id: 'place', address, name: 'Their name here', roles: [whole('writer')] });
  await does(
    'key',
    { do: 'add-unit', id: 'attic', name: 'Attic' },
    { do: 'make-group', id: 'crew', name: 'Crew', people: ['place'] },
    { do: 'place', user: 'place', units: ['attic'] },
    { do: 'make-program', id: 'scale', name: 'Scale', responsible: 'place' },
    { do: 'name-deputy', of: 'key', to: 'place', permissions: ['note.read'], until: new Date(now + DAY).toISOString() },
    { do: 'open-records', id: 'opened', group: 'crew', to: { user: 'place' }, kind: 'note', actions: ['read'], keeps: true },
  );
  await sql`insert into notes (id, tenant_id, owner_id, title) values ('theirs', 'club', 'place', 'x'), ('elsewhere', 'other', 'place', 'x')`.execute(db);
  const held = async (user: string) => {
    const { facts } = await enter(user);
    return { ...facts, me: { ...facts.me, userId: '', name: '' }, people: JSON.stringify(facts.people).replaceAll(user, ''), endsAt: '' };
  };
  const before = await held('place');
  const activation = done?.secret as string;
  // Neither somebody of another address, nor one who proved it long ago, nor a session for a tenant.
  const stranger = await accounts.startSession('wim');
  expect([await code(accounts.takePlace(stranger.token, activation)), await code(lintel.takePlace('other', activation))]).toEqual([
    'other-address',
    'other-address',
  ]);
  now += 16 * MINUTE;
  expect(await code(accounts.takePlace(token, activation))).toBe('prove-first');
  const { token: proven } = await accounts.prove(token, { password: GOOD });
  expect(await accounts.takePlace(proven, activation)).toEqual({ tenantId: 'club' });
  expect(await held(owner)).toEqual(before);
  expect([(await enter('place')).isMember, await code(accounts.choosePassword({ activation, password: GOOD }))]).toEqual([false, 'activation-invalid']);
  const { rows } = await sql<{ id: string; owner_id: string }>`select id, owner_id from notes where id in ('theirs', 'elsewhere') order by id`.execute(db);
  expect(rows).toEqual([
    { id: 'elsewhere', owner_id: 'place' },
    { id: 'theirs', owner_id: owner },
  ]);
  // The record tells the same.
  const then = await (await enter('key')).audit.heldThen(owner, new Date(now));
  const powers = ({ permissions }: { readonly permissions: readonly { readonly permission: string; readonly ways: readonly unknown[] }[] }) =>
    permissions.map(({ permission, ways }) => [permission, ways.length]);
  expect(powers(then)).toEqual(powers((await enter(owner)).describe()));
  expect((await enter('key').then((s) => s.audit.verify())).broken).toBeUndefined();
});

test('a new way in is made by whoever could give all that is held, never for oneself; it ends what was there before', async () => {
  const one = await kept('key', { roles: [whole('writer')] });
  const { secret } = await accounts.beginFactor(one.token);
  const { session } = await accounts.confirmFactor(one.token, totpOf(secret));
  await accounts.askForPassword(one.userId);
  const again = (by: string, user = one.userId) => does(by, { do: 'make-activation', user });
  expect([await code(again('gus')), await code(again('key', 'wim')), await code(again('key', 'nobody'))]).toEqual(['refused', 'not-kept', 'not-found']);
  // Who may enrol and holds less may make none.
  await does('key', { do: 'set-roles', holder: { user: one.userId }, roles: [whole('operator')] });
  expect(await code(again('cleo'))).toBe('beyond-power');
  await does('key', { do: 'set-roles', holder: { user: one.userId }, roles: [whole('writer')] });
  await does('key', { do: 'set-roles', holder: { user: one.userId }, roles: [whole('chief')] });
  expect(await code(again(one.userId))).toBe('own-power');
  const [first] = await again('key');
  const [second] = await again('key');
  expect(await code(lintel.lookAtActivation(first?.secret as string))).toBe('activation-invalid');
  expect((await lintel.lookAtActivation(second?.secret as string)).again).toBe(true);
  const entered = await accounts.choosePassword({ activation: second?.secret as string, password: 'thirteen loud beehives' });
  const sender = await accounts.sender(entered.token);
  expect([await accounts.signedIn(session.token), sender?.fulfilled.includes('secondFactor'), sender?.fulfilled.includes('choosePassword')]).toEqual([
    undefined,
    false,
    true,
  ]);
  expect((await accounts.signedIn(entered.token))?.hasFactor).toBe(false);
  // Seven days, and of somebody who can give it still.
  const [late] = await again('key');
  now += 7 * DAY;
  expect(await code(lintel.lookAtActivation(late?.secret as string))).toBe('activation-invalid');
  const mine = await enrolled('cleo');
  await does('key', { do: 'set-roles', holder: { user: mine.userId }, roles: [whole('operator')] });
  expect(await code(accounts.choosePassword({ activation: mine.activation, password: GOOD }))).toBe('activation-void');
  const theirs = await enrolled('cleo');
  await does('key', { do: 'suspend', user: 'cleo' });
  expect(await code(accounts.choosePassword({ activation: theirs.activation, password: GOOD }))).toBe('activation-void');
  await does('key', { do: 'restore', user: 'cleo' });
  expect(await code(accounts.choosePassword({ activation: theirs.activation, password: GOOD }))).toBe('done');
});

test('tries of a kept account are its own: by no tenant’s page does anybody get more of them, and a lock there locks nobody else', async () => {
  const one = await kept();
  const guess = (tenant: string | undefined, password: string) => code(accounts.signIn({ address: one.address, password, tenant }));
  const before = accounts.hashes;
  for (let i = 0; i < 40; i++) await guess('club', `guess number ${i}`);
  expect([accounts.hashes - before, await guess('club', GOOD)]).toEqual([5, 'sign-in-failed']);
  const real = await lintel.addPerson({ name: 'Real', address: 'tried@people.example', confirmedAt: new Date(0) });
  await accounts.setPassword(real, GOOD);
  const from = accounts.hashes;
  for (let i = 0; i < 40; i++) await code(accounts.signIn({ address: 'tried@people.example', password: `guess number ${i}`, tenant: `made up ${i}` }));
  expect(accounts.hashes - from).toBe(5);
  const [reset] = await does('key', { do: 'make-activation', user: one.userId });
  await accounts.choosePassword({ activation: reset?.secret as string, password: GOOD });
  expect(await guess('club', GOOD)).toBe('done');
});

test('a tenant asks for a second factor and shorter sessions: nothing is done there before, by no call; nobody asks what they do not do', async () => {
  const one = await kept('key', { roles: [whole('chief')] });
  const sender = async (token: string) => (await accounts.sender(token)) as { user: string; fulfilled: string[] };
  const inside = async (token: string) => lintel.enter({ ...(await sender(token)), tenant: 'club' });
  const key = await accounts.startSession('key', { methods: ['pwd'] });
  const rules = (token: string, demands: object) => inside(token).then((s) => s.carryOut([{ do: 'set-rules', demands }] as never));
  expect([await code(rules(key.token, { secondFactor: true })), await code(rules(key.token, { hours: 3 }))]).toEqual(['demand-unmet', 'bad-demand']);
  const strong = await accounts.startSession('key', { methods: ['hwk', 'mfa'] });
  await rules(strong.token, { secondFactor: true, hours: 4 });
  expect((await (await inside(strong.token)).tenant.rules()).demands).toEqual({ secondFactor: true, hours: 4 });

  const weak = await inside(one.token);
  const decided = weak.decide('note.read');
  expect([decided.outcome, decided.rule, decided.words]).toEqual([
    'obligation',
    'secondFactor',
    'One thing first: sign in with a second factor, as club asks of everybody.',
  ]);
  expect(weak.may('area.shelf')).toBe(false);
  expect(await code((await inside(one.token)).members.list())).toBe('obligation-open');
  expect(await code((await inside(one.token)).carryOut([{ do: 'set-roles', holder: { user: 'wim' }, roles: [] }] as never))).toBe('obligation-open');
  expect(await (await inside(one.token)).find('note')).toEqual([]);
  expect((await (await inside(one.token)).snapshot(60)).demands).toEqual({ secondFactor: 'sign in with a second factor, as club asks of everybody.' });
  // They add one there and then.
  const { secret } = await accounts.beginFactor(one.token);
  const { session } = await accounts.confirmFactor(one.token, totpOf(secret));
  expect((await inside(session.token)).may('area.shelf')).toBe(true);
  now += 4 * 60 * MINUTE;
  expect((await inside(session.token)).decide('note.read').rule).toBe('signedInWithin4h');
  const proven = await accounts.prove(session.token, { code: totpOf(secret) });
  expect((await inside(proven.token)).may('area.shelf')).toBe(true);
  // Elsewhere nothing of this is asked, and of who is no member neither; of whoever looks after the tenant it is.
  expect((await lintel.enter({ user: 'other', tenant: 'other' })).facts.demands).toBeUndefined();
  expect((await lintel.enter({ user: 'other', tenant: 'club' })).facts.demands).toBeUndefined();
  const { id } = await lintel.platform('root').beginCare({ tenant: 'club', reason: 'They asked.', hours: 1 });
  expect((await lintel.enter({ user: 'root', tenant: 'club', care: id })).decide('note.read').outcome).toBe('obligation');
  expect((await enter('root', { care: id })).may('note.read')).toBe(true);
  // Looking as another opens nothing.
  const viewer = await (await enter('key')).lookAs({ user: 'wim' });
  expect(await code(lintel.enter({ user: 'key', tenant: 'club', look: viewer.id }))).toBe('look-over');
  await does('key', { do: 'set-rules', demands: {} });
  expect((await inside(one.token)).facts.demands).toBeUndefined();
});

test('a tenant asks somebody for another password: nothing is done there before, and elsewhere all is as it was', async () => {
  const user = await lintel.addPerson({ name: 'Both', address: 'both@people.example', confirmedAt: new Date(0) });
  await accounts.setPassword(user, GOOD);
  for (const [tenant, key] of [
    ['club', 'key'],
    ['other', 'other'],
  ] as const) {
    const host = await enter(key, {}, tenant);
    await host.invitations.send([{ address: 'both@people.example', roles: tenant === 'club' ? [whole('writer')] : [whole('chief')] }]);
    await lintel.acceptInvitation(user, { token: await letter('both@people.example') });
  }
  const { token } = (await accounts.signIn({ address: 'both@people.example', password: GOOD })) as Entered;
  const may = async (tenant: string, secret = token) =>
    (await lintel.enter({ ...((await accounts.sender(secret)) as object), tenant } as never)).decide('area.shelf').rule ?? 'allowed';
  expect([await code(does('gus', { do: 'ask-password', user })), await code(does('key', { do: 'ask-password', user }))]).toEqual(['refused', 'done']);
  expect([await may('club'), await may('other')]).toEqual(['choosePasswordHere', 'allowed']);
  const { token: after } = await accounts.changePassword(token, { present: GOOD, next: 'thirteen loud beehives' });
  expect([await may('club', after), await may('other', after)]).toEqual(['allowed', 'allowed']);
});

test('when somebody last came in is noted once an hour, for whoever may suspend them, and in each tenant for itself', async () => {
  const one = await kept();
  const sender = (await accounts.sender(one.token)) as object;
  const last = async (by: string) => (await (await enter(by)).members.list()).find(({ userId }) => userId === one.userId)?.lastEntered?.getTime();
  await enter(one.userId);
  expect(await last('key')).toBeUndefined();
  const at = now;
  await lintel.enter({ ...sender, tenant: 'club' } as never);
  await lintel.enter({ ...sender, tenant: 'other' } as never);
  now += 59 * MINUTE;
  await lintel.enter({ ...sender, tenant: 'club' } as never);
  expect([await last('key'), await last('cleo')]).toEqual([at, undefined]);
  now += 2 * MINUTE;
  await lintel.enter({ ...sender, tenant: 'club' } as never);
  expect(await last('key')).toBe(now);
  expect((await lintel.db.selectFrom('lintel_entered').selectAll().where('user_id', '=', one.userId).execute()).length).toBe(1);
});

test('second factors that are lost are removed by the platform, a day after their owner was told; who has them still keeps them', async () => {
  const address = 'lost@people.example';
  const user = await lintel.addPerson({ name: 'Lost', address, confirmedAt: new Date(0) });
  await accounts.setPassword(user, GOOD);
  let { token } = (await accounts.signIn({ address, password: GOOD })) as Entered;
  await accounts.askForFactor(token);
  const { secret } = await accounts.beginFactor(token, await letter(address));
  ({ token } = (await accounts.confirmFactor(token, totpOf(secret))).session);
  const staff = lintel.platform('root');
  expect([
    await code(lintel.platform('key').resetFactors(user, 'Lost.')),
    await code(staff.resetFactors('root', 'Mine.')),
    await code(staff.resetFactors(user, ' ')),
  ]).toEqual(['not-found', 'own-power', 'bad-reason']);
  const one = await kept();
  expect(await code(staff.resetFactors(one.userId, 'Lost.'))).toBe('address-not-confirmed');
  const next = async () => (await accounts.signIn({ address, password: GOOD })).next;
  // Not sent yet, nobody was told: it does not begin.
  await staff.resetFactors(user, 'Lost.');
  now += 3 * DAY;
  expect(await next()).toBe('secondFactor');
  const keep = await letter(address);
  now += DAY - MINUTE;
  expect(await next()).toBe('secondFactor');
  await accounts.keepFactors(keep);
  now += 2 * MINUTE;
  expect([await next(), await code(accounts.keepFactors(keep))]).toEqual(['secondFactor', 'link-invalid']);
  // Nobody says so: a day later the password is enough, also another that was chosen meanwhile.
  await staff.resetFactors(user, 'Lost.');
  await letter(address);
  await accounts.forgotten({ address });
  await accounts.recover({ token: await letter(address), password: 'thirteen loud beehives' });
  now += DAY;
  const entered = (await accounts.signIn({ address, password: 'thirteen loud beehives' })) as Entered;
  expect((await accounts.signedIn(entered.token))?.hasFactor).toBe(false);
  await lintel.deliver();
  expect(messages.at(-1)?.subject).toBe('Your second factor was removed');
});

test('somebody enrolled is erased with what was said of them, and whoever has the address elsewhere is left alone', async () => {
  const one = await kept();
  await (await enter('third', {}, 'third')).invitations.send([{ address: one.address, roles: [] }]);
  await lintel.erasePerson(one.userId);
  const [invited] = await (await enter('third', {}, 'third')).invitations.list();
  expect([invited?.address, invited?.status]).toEqual([one.address, 'pending']);
  const { rows } = await sql<{ words: string }>`select words::text from lintel_audit_words where tenant_id = 'club'`.execute(db);
  expect(rows.filter(({ words }) => words.includes(one.address))).toEqual([]);
  expect((await (await enter('key')).audit.verify()).broken).toBeUndefined();
});

test('no way in is kept anywhere as it is: not in a table, the record and the outbox among them', async () => {
  const { rows: tables } = await sql<{ name: string }>`select table_name as name from information_schema.tables where table_name like 'lintel\\_%'`.execute(db);
  let all = '';
  for (const { name } of tables) all += JSON.stringify((await sql`select * from ${sql.table(name)}`.execute(db)).rows);
  const secrets = ways.map((way) => Buffer.from(way.split('.')[2] as string, 'base64url').toString());
  expect([ways.length > 10, secrets.filter((secret) => secret.length < 32)]).toEqual([true, []]);
  expect([...ways, ...secrets, GOOD].filter((secret) => all.includes(secret))).toEqual([]);
});
