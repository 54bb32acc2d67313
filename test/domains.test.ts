/* Mail domains: whose they are is shown by the DNS or said by the platform, once, looked at again; and by a domain a provider binds only who has proven such an address themselves. */
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import { everythingMet } from 'warm-lintel';
import { Accounts } from 'warm-lintel/accounts';
import { Domains, SignOn } from 'warm-lintel/provisioning';
import { type Club, club, code, whole } from './club.js';

const DAY = 86_400_000;
const TERMS = { kind: 'oidc', issuer: 'https://sign-in.county.example', clientId: 'x' } as const;
let now = Date.UTC(2026, 8, 1);
let lintel: Club;
let db: Kysely<any>;
let member: Awaited<ReturnType<typeof club>>['member'];
let domains: Domains;
let signOn: SignOn;
/** What the DNS says, by name; an error: how it fails. */
const dns = new Map<string, string[][] | { readonly code: string }>();
const asked: string[] = [];
beforeAll(async () => {
  ({ lintel, db, member } = await club({ clock: () => now }));
  domains = new Domains(lintel, {
    clock: () => now,
    resolveTxt: async (name) => {
      asked.push(name);
      const said = dns.get(name) ?? { code: 'ENOTFOUND' };
      if (Array.isArray(said)) return said;
      throw Object.assign(new Error(said.code), said);
    },
  });
  signOn = new SignOn(lintel, { accounts: new Accounts(lintel), secrets: ['a key of the application’s own, which is long'], origin: 'https://app.example' });
  await lintel.addPerson({ id: 'mallory', name: 'Mallory', address: 'mallory@evil.example', confirmedAt: new Date(0) });
  await lintel.openTenant({ id: 'evil', name: 'Evil', keyholder: 'mallory' });
  await member('boss', 'chief');
  for (const [tenant, user] of [
    ['club', 'key'],
    ['evil', 'mallory'],
  ] as const) {
    const standing = await enter(user, tenant);
    await standing.carryOut([{ do: 'make-connection', id: 'own', name: 'Own', terms: TERMS, rules: [{ gives: { roles: [whole('writer')] } }] }]);
    await standing.connections.try({ connection: 'own', claims: { sub: 'x' } });
    await standing.carryOut([{ do: 'turn-connection', id: 'own', to: 'on' }]);
  }
});
afterAll(() => db.destroy());
beforeEach(() => void (now += 30 * DAY));

const enter = (user: string, tenant = 'club') => lintel.enter({ tenant, user, fulfilled: everythingMet(lintel.charter) });
const of = async (user: string, tenant: string, domain: string) =>
  (await (await enter(user, tenant)).connections.domains()).find((one) => one.domain === domain);
const claim = async (user: string, tenant: string, domain: string) => {
  await (await enter(user, tenant)).carryOut([{ do: 'claim-domain', domain }]);
  return (await of(user, tenant, domain))?.record as { name: string; value: string };
};
const prove = async (user: string, tenant: string, domain: string) => code(domains.prove(await enter(user, tenant), domain));
const way = async (address: string) => (await signOn.wayFor(address))?.path;
const comes = (claims: object, tenantId = 'club') => lintel.arrive({ tenantId, connectionId: 'own', claims: claims as never });

test('a domain counts once its record is seen; a second proof has the first looked at at once, and two that hold wait for the platform', async () => {
  const record = await claim('key', 'club', 'club.example');
  expect(record.name).toBe('_lintel.club.example');
  expect([await prove('key', 'club', 'club.example'), await way('any@club.example')]).toEqual(['domain-not-shown', undefined]);
  expect(await code((await enter('key')).carryOut([{ do: 'send-domain', domain: 'club.example', connection: 'own' }]))).toBe('domain-not-shown');
  // A record of a length that the DNS parts; among others.
  dns.set(record.name, [['v=spf1 -all'], [record.value.slice(0, 20), record.value.slice(20)]]);
  expect([await prove('boss', 'club', 'club.example'), await prove('key', 'club', 'club.example')]).toEqual(['refused', 'done']);
  await (await enter('key')).carryOut([{ do: 'send-domain', domain: 'club.example', connection: 'own' }]);
  expect([await way('any@club.example'), await way('Nobody@CLUB.example '), await way('any@sub.club.example'), await way('club.example@evil.example')]).toEqual(
    ['/sign-on/club/own', '/sign-on/club/own', undefined, undefined],
  );
  // Somebody else shows it too.
  const theirs = await claim('mallory', 'evil', 'club.example');
  expect(await prove('mallory', 'evil', 'club.example')).toBe('domain-not-shown');
  // By the record of another tenant nobody shows anything.
  dns.set(theirs.name, [[record.value]]);
  expect(await prove('mallory', 'evil', 'club.example')).toBe('domain-not-shown');
  dns.set(theirs.name, [[record.value], [theirs.value]]);
  expect([await prove('mallory', 'evil', 'club.example'), await way('any@club.example')]).toEqual(['domain-held', '/sign-on/club/own']);
  // What cannot be told is not gone.
  let calls = 0;
  const flaky = new Domains(lintel, {
    resolveTxt: async () => (calls++ === 0 ? [[theirs.value]] : Promise.reject(Object.assign(new Error('x'), { code: 'ESERVFAIL' }))),
  });
  expect(await code(flaky.prove(await enter('mallory', 'evil'), 'club.example'))).toBe('domain-held');
  dns.set(theirs.name, [[theirs.value]]);
  expect([await prove('mallory', 'evil', 'club.example'), await way('any@club.example')]).toEqual(['done', undefined]);
  expect((await of('key', 'club', 'club.example'))?.lapsedAt).toEqual(new Date(now));
  // The platform says otherwise; where it was sent before is not where it is sent.
  expect(await code(lintel.platform('boss').giveDomain('club', 'club.example', 'They asked.'))).toBe('not-found');
  await lintel.platform('root').giveDomain('club', 'club.example', 'They asked.');
  expect([await way('any@club.example'), (await of('mallory', 'evil', 'club.example'))?.lapsedAt !== undefined]).toEqual([undefined, true]);
  expect((await of('key', 'club', 'club.example'))?.by).toBe('platform');
  for (const domain of ['gmail.com', 'yahoo.co.uk']) {
    const shown = await claim('key', 'club', domain);
    dns.set(shown.name, [[shown.value]]);
    expect([domain, await prove('key', 'club', domain)]).toEqual([domain, 'public-domain']);
  }
  expect(await code((await enter('key')).carryOut([{ do: 'claim-domain', domain: 'no domain' }]))).toBe('bad-domain');
  expect(await code((await enter('boss')).carryOut([{ do: 'claim-domain', domain: 'boss.example' }]))).toBe('refused');
  expect((await (await enter('key')).audit.list({ limit: 50 })).map(({ what }) => what).filter((what) => what.startsWith('domain'))).toEqual([
    'domain claimed',
    'domain claimed',
    'domain shown',
    'domain lapsed',
    'domain sent',
    'domain shown',
    'domain claimed',
  ]);
});

test('by a domain that is sent to it a provider binds whom it says to have proven such an address, and nobody else; when it lapses nobody more', async () => {
  const record = await claim('key', 'club', 'people.example');
  dns.set(record.name, [[record.value]]);
  await domains.prove(await enter('key'), 'people.example');
  await (await enter('key')).carryOut([{ do: 'send-domain', domain: 'people.example', connection: 'own' }]);
  const known = async (id: string, { confirmed = true, roles = ['guest'], tenant = 'club' as string | null } = {}) => {
    const address = `${id}@people.example`;
    await lintel.addPerson({ id, name: id, address, confirmedAt: new Date(0) });
    if (tenant) {
      const [answer] = await (await enter('key', tenant)).invitations.send([{ address, roles: roles.map(whole) }]);
      await lintel.acceptInvitation(id, { token: answer?.token as string });
    }
    if (!confirmed) await sql`update lintel_person set confirmed_at = null where id = ${id}`.execute(db);
    return { sub: `sub-${id}`, email: address, email_verified: true };
  };
  const is = async (claims: object) => (await comes(claims)).userId;
  const [ada, bea, unproven, outside, suspended, second] = [
    await known('ada'),
    await known('bea', { roles: ['keyholder'] }),
    await known('una', { confirmed: false }),
    await known('otto', { tenant: null }),
    await known('sue'),
    await known('vic'),
  ];
  await (await enter('key')).carryOut([{ do: 'suspend', user: 'sue' }]);
  // What is not theirs to say, or says not that it was looked at, makes somebody new.
  for (const claims of [
    bea,
    unproven,
    outside,
    suspended,
    { ...ada, email_verified: false },
    { ...ada, email_verified: undefined },
    { ...ada, email_verified: 'true' },
    { ...ada, email: 'ada@evil.example' },
  ])
    expect(['ada', 'bea', 'una', 'otto', 'sue']).not.toContain(await is({ ...claims, sub: Math.random().toString() }));
  expect(await is(ada)).toBe('ada');
  const { facts } = await enter('ada');
  expect(facts.assignments.map(({ role, sources }: any) => [role, sources])).toEqual([
    ['guest', undefined],
    ['writer', ['connection:own']],
  ]);
  // Another subject with the same address is somebody else; and what the provider calls them is no name of theirs.
  expect(await is({ ...ada, sub: 'another', name: 'Else' })).not.toBe('ada');
  await comes({ ...ada, name: 'Else' });
  expect((await sql<any>`select name, address from lintel_person where id = 'ada'`.execute(db)).rows).toEqual([{ name: 'ada', address: 'ada@people.example' }]);
  // The same from another tenant, whose provider says what it wants: it has not that domain.
  expect((await comes({ ...second }, 'evil')).userId).not.toBe('vic');
  // The record is gone: for a while nothing is lost, then nobody is bound or sent by it; who is bound goes on.
  dns.delete(record.name);
  now += 2 * DAY;
  await domains.lookAgain();
  expect(await way('x@people.example')).toBe('/sign-on/club/own');
  dns.set(record.name, { code: 'ESERVFAIL' });
  now += 2 * DAY;
  await domains.lookAgain();
  expect(await way('x@people.example')).toBe('/sign-on/club/own');
  dns.delete(record.name);
  now += 2 * DAY;
  await domains.lookAgain();
  expect([await way('x@people.example'), (await is(second)) === 'vic', await is(ada)]).toEqual([undefined, false, 'ada']);
  // A new holder inherits none of them, and binds none of the old.
  const theirs = await claim('mallory', 'evil', 'people.example');
  dns.set(theirs.name, [[theirs.value]]);
  expect(await prove('mallory', 'evil', 'people.example')).toBe('done');
  await (await enter('mallory', 'evil')).carryOut([{ do: 'send-domain', domain: 'people.example', connection: 'own' }]);
  const evil = await comes({ ...ada, sub: 'sub-ada' }, 'evil');
  expect(['ada', undefined]).not.toContain(evil.userId);
  expect([await is(ada), (await lintel.myTenants('ada')).map(({ id }) => id)]).toEqual(['ada', ['club']]);
  // Nothing was asked of what is not looked at again.
  const before = asked.length;
  await domains.lookAgain();
  expect(asked.length).toBe(before);
});

test('whom somebody expects is sent nothing, takes no seat, and is joined with what was prepared at their first sign-in, by what its giver may give then', async () => {
  const record = await claim('key', 'club', 'ahead.example');
  dns.set(record.name, [[record.value]]);
  await domains.prove(await enter('key'), 'ahead.example');
  await (await enter('key')).carryOut([
    { do: 'send-domain', domain: 'ahead.example', connection: 'own' },
    { do: 'make-group', id: 'ahead', name: 'Ahead' },
  ]);
  const expects = async (user: string, address: string, roles: string[], more: object = {}) =>
    code((await enter(user)).carryOut([{ do: 'expect', address, roles: roles.map(whole), ...more }]));
  const held = async (user: string) => {
    const { facts } = await enter(user);
    return [facts.assignments.map(({ role }) => role).sort(), facts.me.groupIds];
  };
  const says = (name: string) => ({ sub: `ahead-${name}`, email: `${name}@ahead.example`, email_verified: true });
  const count = async () => (await sql<any>`select count(*)::int as n from lintel_outbox`.execute(db)).rows[0].n;
  const before = await count();
  expect([
    await expects('boss', 'ann@ahead.example', ['guest'], { groups: ['ahead'] }),
    await expects('boss', 'bob@ahead.example', ['guest']),
    await expects('boss', 'cat@ahead.example', ['keyholder']),
  ]).toEqual(['done', 'done', 'beyond-power']);
  expect([await expects('boss', 'ann@ahead.example', ['guest']), await count()]).toEqual(['already-pending', before]);
  const listed = (await (await enter('key')).invitations.list()).filter(({ expected }) => expected);
  expect(listed.map(({ address, status, mail }) => [address, status, mail]).sort()).toEqual([
    ['ann@ahead.example', 'pending', 'none'],
    ['bob@ahead.example', 'pending', 'none'],
  ]);
  // Nobody takes it up by themselves, though they have proven the address.
  await lintel.addPerson({ id: 'ann-herself', name: 'Ann', address: 'ann@ahead.example', confirmedAt: new Date(0) });
  expect(await lintel.myInvitations('ann-herself')).toEqual([]);
  const { id = '' } = listed.find(({ address }) => address.startsWith('ann')) ?? {};
  expect(await code(lintel.acceptInvitation('ann-herself', { tenantId: 'club', invitationId: id }))).toBe('invitation-invalid');
  // What was not looked at takes up nothing; what was, all of it, once.
  const unseen = await comes({ ...says('ann'), sub: 'unseen', email_verified: false });
  expect(await held(unseen.userId as string)).toEqual([['writer'], []]);
  const ann = (await comes(says('ann'))).userId as string;
  expect([ann === 'ann-herself', await held(ann)]).toEqual([false, [['guest', 'writer'], ['ahead']]]);
  expect(await held((await comes({ ...says('ann'), sub: 'ahead-ann2' })).userId as string)).toEqual([['writer'], []]);
  // Its giver may not give it any more: whole or not at all.
  await (await enter('key')).carryOut([{ do: 'set-roles', holder: { user: 'boss' }, roles: [] }]);
  expect(await comes(says('bob'))).toMatchObject({ outcome: 'refused', said: { code: 'invitation-void' } });
  const bob = listed.find(({ address }) => address.startsWith('bob'))?.id as string;
  await (await enter('key')).carryOut([{ do: 'withdraw', invitation: bob }]);
  expect(await held((await comes(says('bob'))).userId as string)).toEqual([['writer'], []]);
  expect((await (await enter('key')).audit.verify()).broken).toBeUndefined();
});
