/* The rules of change, on a real PostgreSQL with parallel connections. */

import type { Kysely } from 'kysely';
import { afterAll, beforeAll, beforeEach, expect, test } from 'vitest';
import { type Assignment, isLintelError } from 'warm-lintel';
import { smtpMailer, startTray, type Tray } from 'warm-lintel/mail';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

const whole = (role: string): Assignment => ({ role, anchor: { on: 'tenant' } });
const code = (work: Promise<unknown>) =>
  work.then(
    () => 'done',
    (error: unknown) => (isLintelError(error) ? error.code : `not ours: ${String(error)}`),
  );

let db: Kysely<any>;
let lintel: Apiary;
let tray: Tray;
let now = Date.UTC(2026, 5, 1, 12);
let made = 0;

beforeAll(async () => {
  ({ db } = await apiaryOnPostgres());
  tray = await startTray();
  const mailer = smtpMailer({ host: '127.0.0.1', port: tray.port, from: { name: 'Apiary', address: 'post@apiary.example' } });
  lintel = createLintel({ charter, db, mailer, invitationLink: (token) => `https://apiary.example/invitation#${token}`, clock: () => now });
});
afterAll(async () => {
  await tray.close();
  await db.destroy();
});

/** A fresh tenant with one keyholder, and a way to add people with roles. */
let tenant: string;
let boss: string;
const person = async (name = 'Somebody', confirmedAt: Date | null = new Date(now)) =>
  lintel.addPerson({ name, address: `p${++made}@made.example`, ...(confirmedAt && { confirmedAt }) });
const addressOf = async (id: string): Promise<string> =>
  (await db.selectFrom('lintel_person').select('address').where('id', '=', id).executeTakeFirstOrThrow()).address;
const enter = (user: string) => lintel.enter({ tenant, user, fulfilled: ['recentSignIn'] });
const tokenFor = (address: string) => /#(\S+)/.exec(tray.messages.find((m) => m.to.includes(address))?.text ?? '')?.[1] ?? '';
async function invited(address: string, roles: Assignment[], by = boss): Promise<string> {
  const [answer] = await (await enter(by)).invitations.send([{ address, roles }]);
  expect(answer).toMatchObject({ outcome: 'invited' });
  await lintel.deliver();
  return tokenFor(address);
}
async function member(...roles: Assignment[]): Promise<string> {
  const id = await person();
  await lintel.acceptInvitation(id, { token: await invited(await addressOf(id), roles) });
  return id;
}
beforeEach(async () => {
  boss = await person('Boss');
  tenant = await lintel.openTenant({ name: 'Made', keyholder: boss });
});

test('of two keyholders who leave in the same second, one stays', async () => {
  for (let i = 0; i < 5; i++) {
    const second = await member(whole('keyholder'));
    const [a, b] = await Promise.all([enter(boss), enter(second)]);
    const answers = await Promise.all([code(a.members.leave()), code(b.members.leave())]);
    expect(answers.sort()).toEqual(['done', 'last-keyholder']);
    boss = (await enter(boss)).isMember ? boss : second;
    expect((await enter(boss)).isKeyholder).toBe(true);
  }
});

test('the last keyholder cannot be removed, demoted, or demote themselves; a second one can', async () => {
  const other = await member(whole('keyholder'));
  const me = await enter(boss);
  await me.members.setRoles(other, [whole('reader')]);
  expect(await code(me.members.setRoles(boss, []))).toBe('last-keyholder');
  expect(await code(me.members.leave())).toBe('last-keyholder');
  expect(await code(me.members.remove(boss))).toBe('last-keyholder');
  await me.members.setRoles(other, [whole('keyholder')]);
  expect(await code(me.members.setRoles(boss, []))).toBe('done');
});

test('one invitation that is accepted twice at once is accepted once', async () => {
  for (let i = 0; i < 5; i++) {
    const id = await person();
    const token = await invited(await addressOf(id), [whole('keeper')]);
    const answers = await Promise.all(Array.from({ length: 4 }, () => code(lintel.acceptInvitation(id, { token }))));
    expect(answers.filter((a) => a === 'done')).toHaveLength(1);
    expect(answers.filter((a) => a === 'invitation-used' || a === 'already-member')).toHaveLength(3);
    expect(await db.selectFrom('lintel_assignment').select('role').where('tenant_id', '=', tenant).where('user_id', '=', id).execute()).toEqual([
      { role: 'keeper' },
    ]);
  }
});

test('an invitation that is withdrawn and accepted at once is one or the other', async () => {
  const id = await person();
  const token = await invited(await addressOf(id), []);
  const me = await enter(boss);
  const [pending] = await me.invitations.list();
  const answers = await Promise.all([code(me.invitations.withdraw(pending?.id ?? '')), code(lintel.acceptInvitation(id, { token }))]);
  expect([
    ['done', 'invitation-withdrawn'],
    ['invitation-used', 'done'],
  ]).toContainEqual(answers);
});

test('each state of an invitation has a clear answer, and none of them changes anything', async () => {
  const id = await person();
  const address = await addressOf(id);
  const token = await invited(address, [whole('keeper')]);
  const parts = token.split('.');
  const otherTenant = Buffer.from('alderbrook').toString('base64url');
  for (const forged of [
    '',
    'x',
    'a.b.c',
    `${parts[0]}.${parts[1]}.${Buffer.from('x'.repeat(43)).toString('base64url')}`,
    `${otherTenant}.${parts[1]}.${parts[2]}`,
    'x'.repeat(5000),
    `${parts[0]}.${parts[1]}.`,
    7,
  ]) {
    expect(await code(lintel.lookAtInvitation(forged as string))).toBe('invitation-invalid');
    expect(await code(lintel.acceptInvitation(id, { token: forged as string }))).toBe('invitation-invalid');
  }
  const stranger = await person();
  const refusal = await lintel.acceptInvitation(stranger, { token }).catch((e: Error) => e);
  expect(refusal).toMatchObject({ code: 'other-address', message: expect.stringContaining(`p…@made.example`) });
  expect(String(refusal)).not.toContain(address);
  const me = await enter(boss);
  const [pending] = await me.invitations.list();
  await me.invitations.sendAgain(pending?.id ?? '');
  expect(await code(lintel.lookAtInvitation(token))).toBe('invitation-invalid'); // the old link is dead
  await lintel.deliver();
  const fresh = tokenFor(address);
  now += 15 * 86_400_000;
  expect(await code(lintel.acceptInvitation(id, { token: fresh }))).toBe('invitation-expired');
  expect((await me.invitations.list())[0]).toMatchObject({ status: 'expired' });
  const again = await invited(address, [whole('keeper')]); // expired is no longer pending
  expect(await lintel.lookAtInvitation(again)).toMatchObject({ tenantName: 'Made', invitedBy: 'Boss', address });
  await lintel.declineInvitation(again);
  expect(await code(lintel.acceptInvitation(id, { token: again }))).toBe('invitation-declined');
  const last = await invited(address, [whole('keeper')]);
  await me.invitations.withdraw((await me.invitations.list()).find((i) => i.status === 'pending')?.id ?? '');
  expect(await code(lintel.acceptInvitation(id, { token: last }))).toBe('invitation-withdrawn');
  expect((await enter(id)).isMember).toBe(false);
});

test('each of many addresses gets an answer of its own', async () => {
  const there = await member();
  const answers = await (await enter(boss)).invitations.send([
    { address: ' New@Made.Example ', roles: [] },
    { address: 'new@made.example', roles: [] },
    { address: await addressOf(there), roles: [] },
    { address: 'a@b\r\nBcc: evil@made.example', roles: [] },
    { address: `${'x'.repeat(10_000)}@made.example`, roles: [] },
    { address: 'p\u0430ula@made.example', roles: [] },
    { address: 'paula@m\u0430de.example', roles: [] },
    { address: 'jörg@bücher.example', roles: [] },
    { address: 'x@made.example', roles: [{ role: 'kepper', anchor: { on: 'tenant' } }] },
    { address: 'y@made.example', roles: [{ role: 'keeper', anchor: { on: 'unit', unitId: 'nowhere' } }] },
    { address: 'z@made.example', name: 'Z\nEvil', roles: [] },
  ]);
  expect(answers.map((a) => a.code ?? a.outcome)).toEqual([
    'invited',
    'already pending',
    'already a member',
    'bad-address',
    'bad-address',
    'look-alike-address',
    'look-alike-address',
    'invited',
    'unknown-role',
    'no-such-unit',
    'bad-name',
  ]);
  expect(answers[7]?.address).toBe('jörg@xn--bcher-kva.example');
  expect(answers[8]?.words).toContain('did you mean keeper?');
});

test('nobody gives more than they may, by inviting or by changing roles', async () => {
  const secretary = await member(whole('secretary'));
  const keeper = await member(whole('keeper'));
  const them = await enter(secretary);
  expect((await them.members.rolesToGive()).map(({ role }) => role)).toEqual(['reader', 'keeper', 'junior', 'secretary']);
  const answers = await them.invitations.send([
    { address: 'a1@made.example', roles: [whole('keeper')] },
    { address: 'a2@made.example', roles: [whole('treasurer')] },
    { address: 'a3@made.example', roles: [whole('keyholder')] },
  ]);
  expect(answers.map((a) => a.code ?? a.outcome)).toEqual(['invited', 'beyond-power', 'beyond-power']);
  expect(await code(them.members.setRoles(keeper, [whole('treasurer')]))).toBe('beyond-power');
  expect(await code(them.members.setRoles(boss, [whole('reader')]))).toBe('beyond-power'); // nor take what they could not give
  expect(await code(them.members.setRoles(secretary, [whole('secretary'), whole('keeper')]))).toBe('own-power');
  expect(await code(them.members.setRoles(secretary, []))).toBe('done'); // giving up is free
  expect(await code((await enter(keeper)).members.setRoles(secretary, [whole('reader')]))).toBe('refused');
  // To step down is no gain: a keyholder takes a role beside, or instead where somebody else is one; whoever may give roles takes less of what they hold.
  const [second, warden] = [await member(whole('keyholder')), await member(whole('warden'), whole('secretary'))];
  const own = async (user: string, ...roles: string[]) => code((await enter(user)).members.setRoles(user, roles.map(whole)));
  expect([await own(second, 'keyholder', 'reader'), await own(second, 'keeper'), await own(warden, 'reader', 'secretary')]).toEqual(['done', 'done', 'done']);
  expect([await own(boss, 'reader'), await own(warden, 'warden', 'secretary'), await own(keeper, 'reader')]).toEqual([
    'last-keyholder',
    'own-power',
    'refused',
  ]);
});

test('an invitation holds only what its sender may still give when it is accepted', async () => {
  const secretary = await member(whole('secretary'));
  const id = await person();
  const token = await invited(await addressOf(id), [whole('keeper')], secretary);
  await (await enter(boss)).members.remove(secretary);
  expect(await code(lintel.acceptInvitation(id, { token }))).toBe('invitation-void');
});

test('removal counts at the next request, and nothing revives on return', async () => {
  const id = await member(whole('keeper'));
  const before = await enter(id);
  expect(before.may('hive.create')).toBe(true);
  await (await enter(boss)).members.remove(id);
  expect((await enter(id)).decide('hive.create')).toMatchObject({ outcome: 'no standing', visibility: 'hidden' });
  expect(await code(before.members.leave())).toBe('not-found'); // an old standing changes nothing either
  expect(await lintel.myTenants(id)).toEqual([]);
  await lintel.acceptInvitation(id, { token: await invited(await addressOf(id), []) });
  expect((await enter(id)).describe().line).toBe('no role');
});

test('what is pending, closed, foreign or unknown answers alike', async () => {
  const id = await person();
  await invited(await addressOf(id), [whole('keeper')]);
  const words = (s: Awaited<ReturnType<typeof enter>>) =>
    JSON.stringify([s.decide('hive.read').words, s.decide('area.hives').words, s.decide('member.read').words, s.isMember]);
  const [pending, unknown] = [await enter(id), await lintel.enter({ tenant: 'no-such-tenant', user: id })];
  expect(words(pending)).toBe(words(unknown));
  expect(await code(pending.members.list())).toBe('not-found');
  expect(await code(pending.tenant.rename({ name: 'x' }))).toBe('not-found');
  expect(await pending.find('hive')).toEqual([]);
});

test('a person sees their tenants and, once their address is proven, their invitations', async () => {
  const unproven = await person('Unproven', null);
  const id = await person();
  for (const p of [unproven, id]) await invited(await addressOf(p), []);
  expect(await lintel.myInvitations(unproven)).toEqual([]);
  const [mine] = await lintel.myInvitations(id);
  expect(mine).toMatchObject({ tenantId: tenant, tenantName: 'Made' });
  const pending = (await (await enter(boss)).invitations.list()).find((i) => i.status === 'pending' && i.id !== mine?.invitationId);
  expect(await code(lintel.acceptInvitation(unproven, { tenantId: tenant, invitationId: pending?.id ?? '' }))).toBe('address-not-confirmed');
  expect(await code(lintel.acceptInvitation(id, { tenantId: tenant, invitationId: pending?.id ?? '' }))).toBe('invitation-invalid');
  await lintel.acceptInvitation(id, mine ?? { tenantId: '', invitationId: '' });
  expect(await lintel.myTenants(id)).toEqual([{ id: tenant, name: 'Made' }]);
});

test('a dangerous change waits for a recent sign-in, and is told so', async () => {
  const id = await member();
  const stale = await lintel.enter({ tenant, user: boss });
  expect(stale.decide('member.remove')).toMatchObject({
    outcome: 'obligation',
    visibility: 'visible',
    words: 'One thing first: sign in again, because the last time is long ago.',
  });
  expect(() => stale.insist('member.remove')).toThrow(expect.objectContaining({ code: 'obligation-open' }));
  expect(await code((await enter(boss)).members.remove(id))).toBe('done');
});

test('SQL in a name is a name, and two renames at once are two events', async () => {
  const me = await enter(boss);
  const name = "Robert'); drop table lintel_tenant; --";
  await me.tenant.rename({ name });
  expect((await enter(boss)).facts.tenant.name).toBe(name);
  await Promise.all([me.tenant.rename({ name: 'One' }), me.tenant.rename({ name: 'Two' })]);
  expect(['One', 'Two']).toContain((await enter(boss)).facts.tenant.name);
});

test('every change is on record in a chain that shows a change, also of words that were deleted', async () => {
  const id = await member(whole('keeper'));
  await (await enter(boss)).members.setRoles(id, [whole('reader')], 'moves away');
  const { audit } = await enter(boss);
  const { head, ...verdict } = await audit.verify();
  expect(verdict).toEqual({ events: 4, erased: 0 });
  const rows = await audit.list();
  rows.reverse();
  expect(rows.map(({ number, what }) => [number, what])).toEqual([
    [1, 'tenant opened'],
    [2, 'invited'],
    [3, 'invitation accepted'],
    [4, 'roles changed'],
  ]);
  expect(rows[3]).toMatchObject({ actor: boss, event: { user: id, before: [{ role: 'keeper', on: 'tenant' }], after: [{ role: 'reader', on: 'tenant' }] } });
  expect(rows[3]?.words).toEqual({ reason: 'moves away' });
  expect(JSON.stringify(rows.map(({ event }) => event))).not.toMatch(/made\.example|moves away/);
  await db.deleteFrom('lintel_audit_words').where('tenant_id', '=', tenant).execute();
  expect(await audit.verify(head)).toEqual({ events: 4, erased: 4, head, broken: { number: 1, why: 'words deleted' } });
  await expect(db.updateTable('lintel_audit').set({ actor: 'x' }).execute()).rejects.toThrow('append-only');
  await expect(db.deleteFrom('lintel_audit').execute()).rejects.toThrow('append-only');
});

test('a change inside the application’s transaction is undone with it', async () => {
  const id = await member();
  await db
    .transaction()
    .execute(async (tx) => {
      const inside = await lintel.within(tx).enter({ tenant, user: boss });
      await inside.members.setRoles(id, [whole('keeper')]);
      throw new Error('undo');
    })
    .catch(() => undefined);
  expect((await enter(id)).describe().line).toBe('no role');
});

test('a mail server that is down loses nothing and blocks nobody; the message goes out later, once', async () => {
  const down = createLintel({
    charter,
    db,
    mailer: smtpMailer({ host: '127.0.0.1', port: 1, from: { name: 'A', address: 'a@made.example' } }),
    invitationLink: (t) => `https://x.example/#${t}`,
    clock: () => now,
  });
  const [answer] = await (await down.enter({ tenant, user: boss })).invitations.send([{ address: 'later@made.example', roles: [] }]);
  expect(answer?.outcome).toBe('invited');
  expect((await down.deliver()).failed).toBeGreaterThan(0);
  expect((await (await enter(boss)).invitations.list())[0]?.mail).toBe('waiting');
  await expect(down.testMail('a@made.example')).rejects.toMatchObject({ code: 'mail-failed' });
  now += 3_600_000;
  const before = tray.messages.length;
  await Promise.all([lintel.deliver(), lintel.deliver(), lintel.deliver()]);
  expect(tray.messages.length - before).toBe(1);
  expect((await (await enter(boss)).invitations.list())[0]?.mail).toBe('sent');
});

test('a message has two parts, any letters in its subject, one recipient, and no header of somebody else', async () => {
  await (await enter(boss)).tenant.rename({ name: 'Hönig & <b>Söhne</b> 蜂蜜' });
  await lintel.deliver();
  await invited('one@made.example', []);
  const [mail] = tray.messages;
  expect(mail).toMatchObject({ to: ['one@made.example'], subject: 'Boss invites you to Hönig & <b>Söhne</b> 蜂蜜' });
  expect(mail?.html).toContain('Hönig &#38; &#60;b&#62;Söhne');
  expect(mail?.html).not.toContain('<b>');
  const odd = createLintel({
    charter,
    db,
    mailer: smtpMailer({ host: '127.0.0.1', port: tray.port, from: { name: 'Apiary', address: 'post@apiary.example' } }),
    invitationLink: (t) => `https://x.example/#${t}`,
    invitationWords: () => ({ subject: 'Hi\r\nBcc: evil@made.example', before: [], action: 'Go', after: [] }),
    clock: () => now,
  });
  await (await odd.enter({ tenant, user: boss })).invitations.send([{ address: 'two@made.example', roles: [] }]);
  await odd.deliver();
  expect(tray.messages[0]).toMatchObject({ to: ['two@made.example'], subject: 'Hi Bcc: evil@made.example' });
});

test('without a mailer an invitation gives its link to hand over', async () => {
  const quiet = createLintel({ charter, db, clock: () => now });
  const id = await person();
  const [answer] = await (await quiet.enter({ tenant, user: boss })).invitations.send([{ address: await addressOf(id), roles: [] }]);
  expect(answer?.words).toContain('hand the link');
  await quiet.acceptInvitation(id, { token: answer?.token ?? '' });
  await expect(quiet.testMail('a@made.example')).rejects.toMatchObject({ code: 'no-mailer' });
  expect(() => createLintel({ charter, db, mailer: { send: async () => {} } })).toThrow(expect.objectContaining({ code: 'option-missing' }));
});
