/* Who looks as another, who looks after an organisation, and what becomes of tenants, people and addresses. */
import { afterAll, beforeAll, expect, test } from 'vitest';
import { Accounts } from 'warm-lintel/accounts';
import { createFace } from 'warm-lintel/http';
import { type Club, club, code, whole } from './club.js';

let lintel: Club;
let db: Awaited<ReturnType<typeof club>>['db'];
let enter: Awaited<ReturnType<typeof club>>['enter'];
let member: Awaited<ReturnType<typeof club>>['member'];
let now = Date.UTC(2026, 3, 1);
const sent: any[] = [];
const HOUR = 3_600_000;
beforeAll(async () => {
  const mailer = { send: async (message: any) => void sent.push(message) };
  const links = { invitationLink: (t: string) => `https://club.example/i#${t}`, addressLink: (t: string) => `https://club.example/a#${t}` };
  ({ lintel, db, enter, member } = await club({ mailer, ...links, clock: () => now }));
  await member('ann', 'writer');
  await member('ben', 'writer');
  await member('chief', 'chief');
  await member('near', 'neighbour');
  await (await enter('key')).carryOut([
    { do: 'add-unit', id: 'hall', name: 'Hall' },
    { do: 'make-group', id: 'reds', name: 'Reds', people: ['ann', 'ben'] },
    { do: 'place', user: 'near', units: ['hall'] },
    { do: 'place', user: 'ann', units: ['hall'] },
  ]);
  const note = (id: string, owner_id: string, room_id: string | null = null) => ({
    id,
    tenant_id: 'club',
    owner_id,
    made_by: owner_id,
    room_id,
    title: id,
    secret: `${id} secret`,
  });
  await db
    .insertInto('notes')
    .values([note('a1', 'ann'), note('a2', 'ann', 'hall'), note('b1', 'ben'), note('b2', 'ben', 'hall'), note('k1', 'key')])
    .execute();
});
afterAll(() => db.destroy());

const ids = async (standing: any) => (await standing.find('note', { order: 'id' })).map((one: any) => one.id);
const last = (address: string) => sent.findLast((message) => message.to.address === address);
const link = (address: string) => /#(\S+)/.exec(last(address).text)?.[1] as string;

test('a view shows what the other sees and no more than the viewer does, and changes nothing', async () => {
  const chief = await enter('chief');
  const { id } = await chief.lookAs({ user: 'ann' }, 'she asked for help');
  const view = await enter('chief', { look: id });
  expect(await ids(view)).toEqual(['a1', 'a2', 'b2']);
  expect([
    view.may('note.read'),
    view.may('note.update'),
    view.may('area.shelf'),
    view.may('note.update', { id: 'a1', tenantId: 'club', ownerId: 'ann' } as never),
  ]).toEqual([true, false, true, false]);
  // The masked field takes an action that also changes it, so it stays masked; and nothing is written by whatever way.
  expect(((await view.findOne('note', 'a1')) as any).secret).toBeUndefined();
  const updates = await view.scope<any>().updateTable('notes').set({ title: 'x' }).executeTakeFirst();
  expect(updates.numUpdatedRows).toBe(0n);
  expect(await code(view.scope<any>().insertInto('notes').values({ id: 'new', title: 'x' }).execute())).not.toBe('done');
  const tries = [
    view.carryOut([{ do: 'leave' }]),
    view.propose([{ do: 'leave' }]),
    view.members.leave(),
    view.invitations.send([{ address: 'x@club.example', roles: [] }]),
    view.door('x', 'y', async () => undefined),
    view.handOver('ann', 'ben', ['note']),
    view.lookAs({ user: 'key' }),
    view.withPolicies(db as never, async () => undefined),
  ];
  expect(await Promise.all(tries.map(code))).toEqual([
    'only-a-look',
    'only-a-look',
    'only-a-look',
    'refused',
    'only-a-look',
    'only-a-look',
    'refused',
    'look-without-policies',
  ]);
  expect((await enter('ann')).isMember).toBe(true);
  expect(view.decide('note.update', { id: 'a1', tenantId: 'club', ownerId: 'ann' } as never).words).toContain('You look as ann');
  expect(view.snapshot(60).look).toEqual({ id, by: { userId: 'chief', name: 'chief' } });
  // Both names are on record.
  const [event] = await (await enter('key')).audit.list({ limit: 1 });
  expect(event).toMatchObject({ what: 'looked as another', actor: 'chief', event: { user: 'ann', look: id }, words: { reason: 'she asked for help' } });

  // Somebody who sees little sees little as another, too: what both reach.
  const look = await (await enter('near')).lookAs({ user: 'ann' });
  expect(await ids(await enter('near', { look: look.id }))).toEqual(['a2', 'b2']);
  expect(await (await enter('near', { look: look.id })).members.list()).toEqual([]);
  expect(await code((await enter('near')).lookAs({ user: 'ben' }))).toBe('not-found');
  expect(await code((await enter('ann')).lookAs({ user: 'ben' }))).toBe('refused');

  // It is the viewer's alone, ends with the right to look, with time, and by hand.
  expect(await code(enter('near', { look: id }))).toBe('look-over');
  await (await enter('key')).carryOut([{ do: 'set-roles', holder: { user: 'near' }, roles: [] }]);
  expect(await code(enter('near', { look: look.id }))).toBe('look-over');
  await (await enter('chief', { look: id })).endLook(id);
  expect(await code(enter('chief', { look: id }))).toBe('look-over');
  const late = await (await enter('chief')).lookAs({ user: 'ann' });
  now += HOUR;
  expect(await code(enter('chief', { look: late.id }))).toBe('look-over');
});

test('a view as nobody that there is shows what its roles, groups and units would, and leaves no trace', async () => {
  await (await enter('key')).carryOut([{ do: 'set-roles', holder: { unit: 'hall' }, roles: [whole('checker')] }]);
  const chief = await enter('chief');
  const people = async () => db.selectFrom('lintel_person').selectAll().execute();
  const before = await people();
  const plain = await chief.lookAs({ roles: [whole('writer')] });
  const placed = await chief.lookAs({ roles: [whole('writer')], groups: ['reds'], units: ['hall'] });
  expect(await people()).toEqual(before);
  expect([await ids(await enter('chief', { look: plain.id })), await ids(await enter('chief', { look: placed.id }))]).toEqual([
    [],
    ['a1', 'a2', 'b1', 'b2', 'k1'],
  ]);
  expect(await code(chief.lookAs({ groups: ['none'] }))).toBe('not-found');
  expect(await code(chief.lookAs({ roles: [whole('writter')] }))).toBe('done');
  await (await enter('key')).carryOut([{ do: 'set-roles', holder: { unit: 'hall' }, roles: [] }]);
});

test('staff of the platform looks after a tenant openly, for a time, and cannot stay', async () => {
  await lintel.addPerson({ id: 'op', name: 'Op', address: 'op@platform.example', confirmedAt: new Date(0) });
  const [answer] = await (await lintel.enter({ tenant: 'platform', user: 'root' })).invitations.send([
    { address: 'op@platform.example', roles: [whole('operator')] },
  ]);
  expect(answer?.outcome).toBe('invited');
  await lintel.deliver();
  await lintel.acceptInvitation('op', { token: link('op@platform.example') });
  // Nothing without a reason, and nothing for somebody who is no staff; to be keyholder of a tenant is not to be of the platform.
  expect(await code(lintel.platform('op').beginCare({ tenant: 'club', reason: ' ', hours: 1 }))).toBe('bad-reason');
  expect(await code(lintel.platform('op').beginCare({ tenant: 'club', reason: 'x', hours: 48 }))).toBe('bad-care');
  expect(await code(lintel.platform('op').beginCare({ tenant: 'club', reason: 'x', hours: 1, may: ['member.assign'] }))).toBe('bad-care');
  expect(await code(lintel.platform('key').beginCare({ tenant: 'club', reason: 'x', hours: 1 }))).toBe('not-found');
  const { id } = await lintel.platform('op').beginCare({ tenant: 'club', reason: 'a lost note', hours: 1, may: ['note.update'] });
  await lintel.deliver();
  expect(last('key@club.example').text).toContain('a lost note');

  const op = await enter('op', { care: id });
  expect(await ids(op)).toEqual(['a1', 'a2', 'b1', 'b2', 'k1']);
  expect([op.may('note.update'), op.may('note.hand'), op.may('member.assign'), op.isKeyholder]).toEqual([true, false, false, false]);
  // Limits bind; and nothing of the membership is changed, so that nothing outlasts the care.
  for (const steps of [
    [{ do: 'set-roles', holder: { user: 'op' }, roles: [whole('keyholder')] }],
    [{ do: 'let-in', user: 'op', roles: [] }],
    [{ do: 'leave' }],
  ])
    expect(await code(op.carryOut(steps as never))).toBe('not-found');
  expect((await op.members.list()).length).toBeGreaterThan(3);
  // Looking as a member, they see what the member sees.
  const view = await op.lookAs({ user: 'ann' });
  expect(await ids(await enter('op', { care: id, look: view.id }))).toEqual(['a1', 'a2', 'b2']);
  expect(await code(enter('op', { look: view.id }))).toBe('look-over');

  const told = async (tenant: string, user: string) => (await (await lintel.enter({ tenant, user })).audit.list({ limit: 20 })).map((event) => event.what);
  expect(await told('club', 'key')).toEqual(expect.arrayContaining(['care begun', 'looked as another']));
  expect(await told('platform', 'root')).toContain('care begun');
  // It ends with the time, by hand, and with the right to it.
  expect(await code(enter('key', { care: id }))).toBe('care-over');
  await lintel.platform('op').endCare('club', id);
  expect(await code(enter('op', { care: id }))).toBe('care-over');
  const more = await lintel.platform('op').beginCare({ tenant: 'club', reason: 'again', hours: 2 });
  now += 2 * HOUR;
  expect(await code(enter('op', { care: more.id }))).toBe('care-over');
  const third = await lintel.platform('op').beginCare({ tenant: 'club', reason: 'again', hours: 2 });
  await (await lintel.enter({ tenant: 'platform', user: 'root' })).carryOut([{ do: 'set-roles', holder: { user: 'op' }, roles: [] }]);
  expect(await code(enter('op', { care: third.id }))).toBe('care-over');
  expect((await enter('op')).may('note.read')).toBe(false);
});

test('staff does the same over HTTP, and whoever is none is told nothing', async () => {
  const staff = 'root';
  const sender = (request: Request) => ({
    user: request.headers.get('x-user') as string,
    ...(request.headers.get('x-care') && { care: request.headers.get('x-care') as string }),
  });
  const face = createFace(lintel as never, { sender });
  const ask = async (user: string, path: string, body?: unknown, care?: string) => {
    const headers = { 'x-user': user, ...(care && { 'x-care': care }), ...(body !== undefined && { 'content-type': 'application/json' }) };
    const answer = await face.fetch(
      new Request(`http://club.example${path}`, {
        method: body === undefined ? 'GET' : 'POST',
        headers,
        ...(body !== undefined && { body: JSON.stringify(body) }),
      }),
    );
    return { status: answer.status, data: (await answer.json()) as any };
  };
  expect((await ask(staff, '/platform/tenants/open', { id: 'annexe', name: 'Annexe', keyholder: 'ben' })).data).toEqual({ id: 'annexe' });
  expect((await ask(staff, '/platform/tenants/plan', { tenant: 'annexe', seats: 1 })).data).toMatchObject({ members: 1, above: 0 });
  const care = { tenant: 'annexe', reason: 'a lost note', hours: 1 };
  const begun = await ask(staff, '/platform/care/begin', care);
  expect((await ask(staff, '/tenants/annexe/members', undefined, begun.data.id)).data.items).toMatchObject([{ userId: 'ben' }]);
  expect((await ask('key', '/tenants/annexe/members', undefined, begun.data.id)).status).toBe(410);
  await ask(staff, '/platform/care/end', { tenant: 'annexe', care: begun.data.id });
  expect((await ask(staff, '/tenants/annexe/members', undefined, begun.data.id)).status).toBe(410);
  for (const [path, body] of [
    ['tenants/open', { id: 'mine', name: 'Mine', keyholder: 'key' }],
    ['tenants/close', { tenant: 'annexe', reason: 'x' }],
    ['tenants/reopen', { tenant: 'annexe', reason: 'x' }],
    ['tenants/plan', { tenant: 'annexe', seats: 9 }],
    ['care/begin', care],
    ['care/end', { tenant: 'annexe', care: begun.data.id }],
    ['people/erase', { user: 'ben' }],
  ] as const)
    expect([path, (await ask('key', `/platform/${path}`, body)).status]).toEqual([path, 404]);
  expect((await ask(staff, '/platform/tenants/close', { tenant: 'annexe', reason: 'it was a try' })).status).toBe(200);
  expect((await ask('ben', '/tenants/annexe/members')).status).toBe(404);
  expect((await ask(staff, '/platform/tenants/reopen', { tenant: 'annexe', reason: 'after all' })).status).toBe(200);
  expect((await ask('ben', '/tenants/annexe/members')).status).toBe(200);
});

test('a tenant is closed and opened again as it was', async () => {
  await (await enter('key')).carryOut([{ do: 'close-tenant' }]);
  const [shut, none] = await Promise.all([enter('ann'), lintel.enter({ tenant: 'nowhere', user: 'ann' })]);
  expect([shut.may('note.read'), shut.decide('area.shelf').words]).toEqual([false, none.decide('area.shelf').words]);
  expect(await lintel.myTenants('ann')).toEqual([]);
  expect(await code(lintel.platform('key').reopenTenant('club', 'x'))).toBe('not-found');
  await lintel.platform('root').reopenTenant('club', 'they paid');
  expect(await ids(await enter('ann'))).toEqual(['a1', 'a2', 'b2']);
  expect((await (await enter('key')).audit.verify()).broken).toBeUndefined();
});

test('what a leaver owns is handed over by kind, in one transaction, by the rules of scope', async () => {
  const chief = await enter('chief');
  await expect(chief.handOver('ann', 'ben', ['note'], 'she leaves')).resolves.toEqual({ note: { handed: 2, left: 0 } });
  const [event] = await (await enter('key')).audit.list({ limit: 1 });
  expect(event).toMatchObject({ what: 'records handed over', event: { from: 'ann', to: 'ben', kinds: { note: { handed: 2, left: 0 } } } });
  // It can be looked at before, together with what comes after it; and then nothing is written.
  const away = [{ do: 'hand-over', from: 'ben', to: 'ann', kinds: ['note'] } as const, { do: 'remove', user: 'ben' } as const];
  const looked = await (await enter('key')).propose(away);
  expect([looked.problems, looked.handed]).toEqual([[], [{ kind: 'note', called: 'notes', from: 'ben', to: 'ann', handed: 4, left: 0 }]]);
  expect(await ids(await enter('ben'))).toEqual(['a1', 'a2', 'b1', 'b2']);
  // Nobody hands over to somebody who is not there, and nothing is half done.
  expect(await code(chief.handOver('ben', 'nobody', ['note']))).not.toBe('done');
  expect(await ids(await enter('ben'))).toEqual(['a1', 'a2', 'b1', 'b2']);
  // Whoever holds it for their own alone hands over their own alone.
  expect(await (await enter('ann')).handOver('ben', 'ann', ['note'])).toEqual({ note: { handed: 0, left: 2 } });
  await chief.handOver('ben', 'ann', ['note']);
});

test('what a group owns is reached by whoever is in it, now or later, and is given only to a group that there is', async () => {
  const chief = await enter('chief');
  expect(await chief.change('note', ['k1'], { crewId: 'reds' })).toMatchObject({ changed: ['k1'] });
  for (const crewId of ['blues', 'ann', 'platform']) expect(await code(chief.change('note', ['k1'], { crewId }))).toBe('no-such-value');
  expect(await ids(await enter('ann'))).toContain('k1');
  await member('late', 'writer');
  expect(await ids(await enter('late'))).toEqual([]);
  await (await enter('key')).carryOut([{ do: 'set-group', id: 'reds', people: ['ben', 'late'] }]);
  expect(await ids(await enter('late'))).toEqual(['k1']);
  expect(await ids(await enter('ann'))).not.toContain('k1');
  // Whoever may not hand over does not let a group in, not even their own.
  expect(await (await enter('late')).change('note', ['k1'], { crewId: 'reds' })).toMatchObject({ changed: [] });
});

test('a new address counts once it is proven, and the old one is told', async () => {
  await lintel.changeAddress('ben', 'Ben@new.example');
  expect(await lintel.personByAddress('ben@new.example')).toBeUndefined();
  await lintel.deliver();
  const proof = link('Ben@new.example');
  expect(await code(lintel.proveAddress('ben', `${proof.slice(0, -2)}xx`))).toBe('link-invalid');
  // Whoever else has the link proves nothing by it.
  expect(await code(lintel.proveAddress('ann', proof))).toBe('link-invalid');
  await lintel.proveAddress('ben', proof);
  expect((await lintel.personByAddress('ben@new.example'))?.id).toBe('ben');
  expect(await code(lintel.proveAddress('ben', proof))).toBe('link-invalid');
  await lintel.deliver();
  expect(last('ben@club.example').text).toContain('B…@new.example');
  // Of two who want one address, one gets it; that it is taken is not told before it is proven.
  await lintel.changeAddress('ann', 'ben@new.example');
  await lintel.deliver();
  expect(await code(lintel.proveAddress('ann', link('ben@new.example')))).toBe('address-taken');
  await lintel.changeAddress('ann', 'ann@new.example');
  await lintel.deliver();
  now += 25 * HOUR;
  expect(await code(lintel.proveAddress('ann', link('ann@new.example')))).toBe('link-invalid');
  // A letter that is compared as another one is not mailed to.
  expect(await code(lintel.changeAddress('ann', '\u017Fam@club.example'))).toBe('look-alike-address');
  await lintel.renamePerson('ann', 'Ann Anew');
  expect((await enter('ann')).facts.me.name).toBe('Ann Anew');
});

test('an account is deactivated everywhere in the platform’s name, whatever an organisation does, and comes back as it was', async () => {
  await member('dora', 'writer');
  await lintel.openTenant({ id: 'doras', name: 'Dora’s', keyholder: 'dora' });
  const accounts = new Accounts(lintel, { clock: () => now });
  await accounts.setPassword('dora', 'words that dora chose');
  const signIn = () => code(accounts.signIn({ address: 'dora@club.example', password: 'words that dora chose' }));
  const { token } = await accounts.startSession('dora');
  const root = lintel.platform('root');
  expect(await code(root.deactivate('dora', 'Stolen.'))).toBe('last-keyholder');
  expect([(await enter('dora')).isMember, await signIn()]).toEqual([true, 'done']);
  expect([
    await code(lintel.platform('key').deactivate('dora', 'Mine.')),
    await code(root.deactivate('dora', ' ')),
    await code(root.deactivate('nobody', 'Who?')),
  ]).toEqual(['not-found', 'bad-reason', 'no-account']);
  await lintel.openTenant({ id: 'other', name: 'Other', keyholder: 'key' });
  const [asked] = await (await lintel.enter({ tenant: 'other', user: 'key' })).invitations.send([{ address: 'dora@club.example', roles: [] }]);
  const [second] = await (await lintel.enter({ tenant: 'doras', user: 'dora' })).invitations.send([
    { address: 'key@club.example', roles: [whole('keyholder')] },
  ]);
  await lintel.acceptInvitation('key', { tenantId: 'doras', invitationId: second?.invitationId as string });
  const before = now;
  now += HOUR;
  await root.deactivate('dora', 'Stolen.');
  const inside = async () => (await Promise.all(['club', 'doras'].map((tenant) => lintel.enter({ tenant, user: 'dora' })))).map(({ facts }) => facts.subject);
  expect([await inside(), await accounts.signedIn(token), await signIn()]).toEqual([['suspended', 'suspended'], undefined, 'sign-in-failed']);
  expect((await lintel.enter({ tenant: 'other', user: 'dora' })).facts.subject).toBe('visitor');
  expect(await code(lintel.acceptInvitation('dora', { tenantId: 'other', invitationId: asked?.invitationId as string }))).toBe('deactivated');
  const key = await enter('key');
  await key.carryOut([{ do: 'restore', user: 'dora' }]);
  expect(await inside()).toEqual(['suspended', 'suspended']);
  expect((await key.members.list()).find(({ userId }) => userId === 'dora')).toMatchObject({ status: 'suspended', inactiveBy: ['platform'] });
  now += HOUR;
  await root.reactivate('dora', 'Found again.');
  expect([await inside(), (await accounts.signedIn(token))?.userId, await signIn()]).toEqual([['member', 'member'], 'dora', 'done']);
  const then = async (at: number) => (await (await enter('key')).audit.heldThen('dora', new Date(at))).subject;
  expect([await then(before), await then(before + HOUR), await then(now)]).toEqual(['member', 'suspended', 'member']);
});

test('somebody who is erased is named nowhere, and every chain stays whole', async () => {
  await member('zoe', 'chief');
  await (await enter('zoe')).carryOut([{ do: 'rename-group', id: 'reds', name: 'Zoe’s reds' }], 'zoe wants it');
  await lintel.enter({ tenant: 'club', user: 'zoe' }).then((zoe) => zoe.invitations.send([{ address: 'friend@zoe.example', roles: [] }]));
  // Whatever names them: an address they had, an invitation to each, an answer that is kept, the line to ask by, what another wrote, a program of theirs.
  await lintel.changeAddress('zoe', 'zoe.later@zoe.example');
  await lintel.deliver();
  await lintel.proveAddress('zoe', link('zoe.later@zoe.example'));
  const key = await enter('key');
  await key.invitations.send(
    [
      { address: 'zoe@club.example', roles: [] },
      { address: 'ZOE.later@zoe.example', roles: [] },
    ],
    { once: 'twice' },
  );
  await key.carryOut([{ do: 'rename-tenant', contact: 'Write to Zoe.later@zoe.example' }], 'asked by zoe@club.example');
  await key.carryOut(
    [
      { do: 'make-program', id: 'zoe-scale', name: 'Scale', responsible: 'zoe' },
      { do: 'make-key', program: 'zoe-scale' },
    ],
    'wants it',
  );
  await key.carryOut([{ do: 'name-deputy', of: 'zoe', to: 'chief', permissions: ['note.read'], until: new Date(now + HOUR).toISOString() }], 'she wants it');
  await key.carryOut([{ do: 'set-group', id: 'reds', people: ['ben', 'zoe'] }], 'wants it too');
  await lintel.openTenant({ id: 'alone', name: 'Alone', keyholder: 'zoe' });
  const refused = await lintel
    .platform('root')
    .erasePerson('zoe')
    .catch((error) => error);
  expect([refused.code, refused.message]).toEqual(['last-keyholder', expect.stringContaining('Nothing was erased')]);
  expect((await enter('zoe')).isMember).toBe(true);
  // Once somebody else has taken over, also where it is closed.
  const [asked] = await (await lintel.enter({ tenant: 'alone', user: 'zoe' })).invitations.send([{ address: 'key@club.example', roles: [whole('keyholder')] }]);
  await lintel.acceptInvitation('key', { tenantId: 'alone', invitationId: asked?.invitationId as string });
  await lintel.closeTenant('alone');
  await lintel.platform('root').erasePerson('zoe');
  expect(await code(lintel.erasePerson('zoe'))).toBe('no-account');
  expect((await enter('zoe')).isMember).toBe(false);
  // Nobody has this id again, and what the program could do ended for good.
  expect(await code(lintel.addPerson({ id: 'zoe', name: 'Another', address: 'another@club.example' }))).toBe('id-used');
  expect(await db.selectFrom('lintel_member').select('user_id').where('user_id', '=', 'zoe-scale').execute()).toEqual([]);
  for (const user of [
    ['club', 'key'],
    ['platform', 'root'],
  ] as const) {
    const { broken, erased } = await (await lintel.enter({ tenant: user[0], user: user[1] })).audit.verify();
    expect([broken, erased > 0]).toEqual([undefined, user[0] === 'club']);
  }
  // Ids and commitments stay; nothing that a person wrote or is called.
  const tables = await db.introspection.getTables();
  for (const { name } of tables.filter((table) => table.name.startsWith('lintel_'))) {
    const rows = JSON.stringify(await db.selectFrom(name).selectAll().execute());
    expect([name, /zoe(\.later)?@/i.test(rows), rows.includes('wants it'), rows.includes('friend@')]).toEqual([
      name,
      false,
      false,
      ['lintel_invitation', 'lintel_mailed'].includes(name) && rows.includes('friend@'),
    ]);
  }
});
