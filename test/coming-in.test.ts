/* Coming in without an invitation, what a person may hold at once, and from where something is done. */
import { afterAll, beforeAll, expect, test } from 'vitest';
import { readCharter } from 'warm-lintel';
import { createLintel } from 'warm-lintel/server';
import { type Club, charter, club, code, whole } from './club.js';

let lintel: Club;
let db: Awaited<ReturnType<typeof club>>['db'];
let enter: Awaited<ReturnType<typeof club>>['enter'];
let member: Awaited<ReturnType<typeof club>>['member'];
beforeAll(async () => {
  ({ lintel, db, enter, member } = await club());
});
afterAll(() => db.destroy());

let made = 0;
const stranger = (address = `s${++made}@far.example`, confirmedAt: Date | null = new Date(0)) =>
  lintel.addPerson({ name: 'Stranger', address, ...(confirmedAt && { confirmedAt }) });
const rules = async (joining: object) => (await enter('key')).carryOut([{ do: 'set-rules', joining }]);

test('a tenant is closed to whoever was not invited, until it says otherwise', async () => {
  const [somebody] = [await stranger()];
  // The same answer as for no such tenant.
  const closed = await lintel.askToJoin(somebody, 'club').catch((error) => error);
  const none = await lintel.askToJoin(somebody, 'nowhere').catch((error) => error);
  expect([closed.code, closed.message]).toEqual([none.code, none.message]);

  await rules({ asks: true });
  expect(await lintel.askToJoin(somebody, 'club', 'I live\nnext door')).toBe('asked');
  expect(await lintel.askToJoin(somebody, 'club', 'again')).toBe('asked');
  expect((await enter(somebody)).isMember).toBe(false);
  const [request, ...more] = await (await enter('key')).tenant.requests();
  expect([request, more]).toMatchObject([{ userId: somebody, words: 'I live next door', addressProven: true }, []]);
  // It is shown before, like any change, and both of two who answer at once cannot.
  const steps = [{ do: 'let-in', user: somebody, roles: [whole('writer')] }] as const;
  const proposal = await (await enter('key')).propose(steps);
  expect(proposal.effects[0]?.permissions.map((p) => p.permission)).toContain('note.read');
  const answers = await Promise.all([code((await enter('key')).carryOut(steps)), code((await enter('key')).carryOut(steps))]);
  expect(answers.sort()).toEqual(['done', 'not-found']);
  expect((await enter(somebody)).may('note.create', { ownerId: somebody })).toBe(true);

  const other = await stranger();
  await lintel.askToJoin(other, 'club');
  await (await enter('key')).carryOut([{ do: 'turn-away', user: other }]);
  expect(await code((await enter('key')).carryOut([{ do: 'let-in', user: other, roles: [] }]))).toBe('not-found');
  await lintel.askToJoin(other, 'club');
  await lintel.stopAsking(other, 'club');
  expect(await (await enter('key')).tenant.requests()).toEqual([]);
});

test('an address of a domain lets in, where it is proven and who said so may still give what comes with it', async () => {
  await member('host', 'chief');
  await (await enter('key')).carryOut([
    { do: 'set-permissions', holder: { user: 'host' }, permissions: [{ permission: 'tenant.rule', reach: 'tenant', anchor: { on: 'tenant' } }] },
  ]);
  const open = { open: true, domains: ['Näh.example'], roles: [whole('writer')] };
  // Nobody lets in with more than they may give.
  expect(await code((await enter('host')).carryOut([{ do: 'set-rules', joining: { ...open, roles: [whole('operator')] } }]))).toBe('beyond-power');
  await (await enter('host')).carryOut([{ do: 'set-rules', joining: open }]);
  expect(await lintel.askToJoin(await stranger('a@näh.example'), 'club')).toBe('joined');
  expect(await code(lintel.askToJoin(await stranger('b@näh.example', null), 'club'))).toBe('not-found');
  expect(await code(lintel.askToJoin(await stranger('c@x.näh.example'), 'club'))).toBe('not-found');
  // Whoever was put out does not come in again by themselves; whoever left does.
  const back = await stranger('d@näh.example');
  await lintel.askToJoin(back, 'club');
  await (await enter(back)).members.leave();
  expect(await lintel.askToJoin(back, 'club')).toBe('joined');
  await (await enter('key')).members.remove(back);
  expect(await code(lintel.askToJoin(back, 'club'))).toBe('not-found');
  await (await enter('key')).carryOut([{ do: 'set-permissions', holder: { user: 'host' }, permissions: [] }]);
  expect(await code(lintel.askToJoin(await stranger('e@näh.example'), 'club'))).toBe('not-found');

  await rules({ only: true, domains: ['club.example'], asks: true });
  expect(await code(lintel.askToJoin(await stranger(), 'club'))).toBe('other-domain');
  expect(await (await enter('key')).invitations.send([{ address: 'x@far.example', roles: [] }])).toMatchObject([{ outcome: 'refused', code: 'other-domain' }]);
  expect(await code(rules({ open: true }))).toBe('no-domain');
  expect(await code(rules({ domains: ['no domain'] }))).toBe('bad-domain');
  await rules({});
});

test('what is to be apart is held by nobody together, by whatever ways it would come', async () => {
  await member('ann', 'clerk');
  const key = await enter('key');
  await key.carryOut([
    { do: 'make-group', id: 'checkers', name: 'Checkers' },
    { do: 'set-roles', holder: { group: 'checkers' }, roles: [whole('checker')] },
    { do: 'make-role', id: 'own-one', role: { label: 'Own', includes: ['checker'] } },
  ]);
  const ways = [
    [{ do: 'set-roles', holder: { user: 'ann' }, roles: [whole('clerk'), whole('checker')] }],
    [{ do: 'set-roles', holder: { user: 'ann' }, roles: [whole('boss'), whole('own-one')] }],
    [{ do: 'set-group', id: 'checkers', people: ['ann'] }],
    [
      { do: 'edit-role', id: 'own-one', role: { label: 'Own', includes: ['clerk', 'checker'] } },
      { do: 'set-roles', holder: { user: 'ann' }, roles: [whole('own-one')] },
    ],
  ] as const;
  for (const steps of ways) {
    expect(await code(key.carryOut(steps as never))).toBe('apart');
    expect((await key.propose(steps as never)).problems.map((p) => p.code)).toEqual(['apart']);
  }
  expect(await key.invitations.send([{ address: 'both@club.example', roles: [whole('boss'), whole('checker')] }])).toMatchObject([{ code: 'apart' }]);
  // Full control counts for none of them; and nobody, not even a keyholder, approves what they made.
  await key.carryOut([{ do: 'set-roles', holder: { user: 'ann' }, roles: [whole('keyholder'), whole('clerk')] }]);
  const desk = await enter('ann', { channel: 'desk' });
  const note = { id: 'n', tenantId: 'club', ownerId: 'ann', madeBy: 'ann' };
  expect(desk.decide('note.approve', note)).toMatchObject({ outcome: 'limit', rule: 'ownApproval' });
  expect(desk.may('note.approve', { ...note, madeBy: 'key' })).toBe(true);
  expect(() => readCharter({ ...charter.data, apart: { checks: { hold: ['clerk', 'cleark'], sentence: 'x' } } })).toThrow(
    'apart.checks.hold[1]: no such role or action; did you mean clerk?',
  );
});

test('with one role a member, a second is refused wherever it would come from', async () => {
  await member('two', 'writer', 'guest');
  const key = await enter('key');
  expect(await code(key.carryOut([{ do: 'set-rules', oneRole: true }]))).toBe('one-role');
  await key.carryOut([
    { do: 'set-roles', holder: { user: 'two' }, roles: [whole('writer')] },
    { do: 'set-roles', holder: { user: 'ann' }, roles: [whole('clerk')] },
    { do: 'set-rules', oneRole: true },
  ]);
  expect(await code(key.carryOut([{ do: 'set-roles', holder: { user: 'two' }, roles: [whole('writer'), whole('guest')] }]))).toBe('one-role');
  expect(await key.invitations.send([{ address: 'two2@club.example', roles: [whole('writer'), whole('guest')] }])).toMatchObject([{ code: 'one-role' }]);
  // To replace it is one step.
  await key.carryOut([{ do: 'set-roles', holder: { user: 'two' }, roles: [whole('guest')] }]);
  await key.carryOut([{ do: 'set-rules', oneRole: false }]);
});

test('what is done from one place is refused from another, for keyholders too, and in queries', async () => {
  const [plain, desk] = [await enter('key'), await enter('key', { channel: 'desk' })];
  const note = { id: 'n', tenantId: 'club', ownerId: 'key', madeBy: 'ann' };
  expect([plain.may('note.approve', note), desk.may('note.approve', note), desk.may('note.burn', note)]).toEqual([false, true, false]);
  expect(plain.decide('note.approve', note)).toMatchObject({
    outcome: 'other channel',
    words: 'From here you cannot approve a note. It is done by: desk.',
  });
  expect(desk.decide('note.burn', note).words).toBe('Nobody can burn a note at present.');
  expect(plain.filter('note.approve')).toEqual({ op: 'never' });
  await db.insertInto('notes').values({ id: 'n', tenant_id: 'club', owner_id: 'key', made_by: 'ann' }).execute();
  const count = async (standing: typeof plain) => (await standing.find('note', { may: ['note.approve', 'note.burn'] })).flatMap((one: any) => one.may);
  expect([await count(plain), await count(desk)]).toEqual([[], ['note.approve']]);
  expect(await code(enter('key', { channel: 'dask' }))).toBe('unknown-channel');
});

test('a tenant chooses a narrow or a wide base, within what the charter lets it', async () => {
  await member('mate', 'mate');
  const key = await enter('key');
  const seen = async () => {
    const mate = await enter('mate');
    const found = await mate.find('note');
    const notes = await db.selectFrom('notes').select(['id', 'tenant_id as tenantId', 'owner_id as ownerId']).execute();
    expect(notes.filter((note) => mate.may('note.read', note)).length).toBe(found.length);
    return found.length;
  };
  expect(await seen()).toBe(0);
  const wider = await key.propose([{ do: 'set-rules', bases: { note: 'tenant' } }]);
  expect(wider.effects).toMatchObject([
    {
      people: { some: [{ id: 'mate' }] },
      permissions: [{ permission: 'note.read', was: ['own'], becomes: ['all'], change: 'gains', records: { was: 0, becomes: 1 } }],
    },
  ]);
  // What is done in the same millisecond was done.
  const before = new Date(Date.now() - 1);
  await key.carryOut(wider);
  expect(await seen()).toBe(1);
  const reaches = ({ permissions }: { permissions: readonly any[] }) => permissions.flatMap(({ ways }) => ways.map((way: any) => way.reach));
  expect([reaches(await key.audit.heldThen('mate', before)), reaches(await key.audit.heldThen('mate', new Date()))]).toEqual([['own'], ['tenant']]);
  // Who may give what is read at the narrow base may not once it is wide; and nobody widens it for themselves.
  const may = (permission: string, reach: string) => ({ permission, reach, anchor: { on: 'tenant' } as const });
  await key.carryOut([
    { do: 'set-rules', bases: { note: 'own' } },
    { do: 'set-roles', holder: { user: 'two' }, roles: [] },
    {
      do: 'set-permissions',
      holder: { user: 'mate' },
      permissions: [may('member.assign', 'tenant'), may('tenant.rule', 'tenant'), may('role.arrange', 'tenant')],
    },
  ]);
  const give = async () => code((await enter('mate')).carryOut([{ do: 'set-roles', holder: { user: 'two' }, roles: [whole('mate')] }]));
  expect(await code((await enter('mate')).carryOut([{ do: 'set-rules', bases: { note: 'tenant' } }]))).toBe('own-power');
  expect(await give()).toBe('done');
  await key.carryOut([
    { do: 'set-rules', bases: { note: 'tenant' } },
    { do: 'set-roles', holder: { user: 'mate' }, roles: [] },
    { do: 'set-roles', holder: { user: 'two' }, roles: [] },
  ]);
  await key.carryOut([
    { do: 'set-permissions', holder: { user: 'mate' }, permissions: [may('member.assign', 'tenant'), may('role.arrange', 'tenant'), may('note.read', 'own')] },
  ]);
  expect(await give()).toBe('beyond-power');
  expect(await code((await enter('mate')).carryOut([{ do: 'make-role', role: { label: 'Sly', may: { 'note.read': ['base'] } } }]))).toBe('beyond-power');
  expect(await code(key.carryOut([{ do: 'set-rules', bases: { note: 'near' } }]))).toBe('no-base');
});

test('a release may rename roles and permissions, and what was stored counts on; a name is not used again', async () => {
  const { mate, ...roles } = charter.data.roles;
  const { update, ...actions } = (charter.data.kinds.note as any).actions;
  const release = (more: object = {}, friend: object = {}) =>
    readCharter({
      ...charter.data,
      kinds: { note: { ...charter.data.kinds.note, actions: { ...actions, edit: { ...update, was: ['note.update'] } } } },
      roles: JSON.parse(JSON.stringify({ ...roles, friend: { ...mate, label: 'Friend', was: ['mate'], ...friend } }).replaceAll('note.update', 'note.edit')),
      ...more,
    });
  await (await enter('key')).carryOut([
    { do: 'set-roles', holder: { user: 'two' }, roles: [whole('mate')] },
    { do: 'set-permissions', holder: { user: 'two' }, permissions: [{ permission: 'note.update', reach: 'own', anchor: { on: 'tenant' } }] },
    { do: 'make-role', id: 'own-old', role: { label: 'Old', includes: ['mate'], may: { 'note.update': ['tenant'] } } },
    { do: 'set-roles', holder: { user: 'ann' }, roles: [whole('own-old'), whole('keyholder')] },
  ]);
  const [invited] = await (await enter('key')).invitations.send([{ address: 'late@club.example', roles: [whole('mate')] }]);
  const next = createLintel({ charter: release(), db, platform: 'platform' });
  await next.prepare();
  const [two, ann] = await Promise.all(['two', 'ann'].map((user) => next.enter({ tenant: 'club', user })));
  const held = (standing: typeof two) => standing?.describe().permissions.map((p) => p.permission) ?? [];
  expect([two?.describe().line, held(two)]).toEqual(['Friend, and 1 more', ['note.read', 'note.edit']]);
  expect([held(ann).includes('note.edit'), (await ann?.members.list())?.find((m) => m.userId === 'two')?.roles[0]?.label]).toEqual([true, 'Friend']);
  // What is replaced is what is held, under its name of today.
  await ann?.carryOut([{ do: 'set-roles', holder: { user: 'two' }, roles: [] }]);
  expect(held(await next.enter({ tenant: 'club', user: 'two' }))).toEqual(['note.edit']);
  const late = await next.addPerson({ name: 'Late', address: 'late@club.example', confirmedAt: new Date(0) });
  await next.acceptInvitation(late, { token: invited?.token as string });
  expect((await next.enter({ tenant: 'club', user: late })).describe().line).toBe('Friend');
  expect(() => release({ retired: ['clerk'] })).toThrow('retired[0]: “clerk” is a name that something else has now, or had');
  expect(() => release({}, { was: ['note.update'] })).toThrow('roles.friend.was[0]');
});
