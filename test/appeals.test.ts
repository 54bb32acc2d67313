/* A refused person asks for it: those who may answer are told, see what would allow it, agree or decline in one piece; and nothing is betrayed. */
import type { Kysely } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

let db: Kysely<any>;
let app: Apiary;
let now = Date.now();
const sent: { to: { address: string }; subject: string; text: string }[] = [];
beforeAll(async () => {
  const mailer = { send: async (message: never) => void sent.push(message) };
  const links = { invitationLink: () => 'https://apiary.example/i', addressLink: () => 'https://apiary.example/a' };
  ({ lintel: app, db } = await apiaryOnPostgres({ mailer, ...links, clock: () => now } as never));
});
afterAll(() => db.destroy());

const enter = (user: string) => app.enter({ tenant: 'alderbrook', user, fulfilled: ['recentSignIn'] });
const code = (work: Promise<unknown>) => work.then(() => 'done').catch((error) => error.code);
const told = async () => {
  sent.length = 0;
  await app.deliver();
  return sent.map(({ to, subject }) => `${to.address.split('@')[0]}: ${subject}`).sort();
};
const latest = async () => (await (await enter('maren')).audit.list({ limit: 1 }))[0];

test('whoever may answer is told, chooses a remedy, and with it the action is allowed and the asking person told: all of it or nothing', async () => {
  await told();
  const tobias = await enter('tobias');
  const id = await tobias.appeals.raise('hive.update', 'a-hive-02', 'Sela is away,\nand the roof leaks.');
  expect(await tobias.appeals.raise('hive.update', 'a-hive-02', 'please')).toBe(id);
  expect(await told()).toEqual([
    'maren: Tobias Renn asks for something in Alderbrook Beekeepers',
    'wim: Tobias Renn asks for something in Alderbrook Beekeepers',
  ]);
  expect(sent[0]?.text).toContain('Change a hive');
  expect(sent[0]?.text).not.toContain('a-hive-02');
  const maren = await enter('maren');
  const waiting = (await maren.appeals.list()).find((one) => one.id === id);
  expect(waiting).toMatchObject({ id, name: 'Tobias Renn', what: 'Change a hive', words: 'Sela is away, and the roof leaks.', status: 'open' });
  expect(waiting?.record).toBe((await maren.findOne('hive', 'a-hive-02')).name);

  // What is no remedy is not agreed to, and nothing of it stays.
  const before = await maren.latestChange();
  const beside = await maren.propose([{ do: 'make-group', id: 'others', name: 'Others', people: ['tobias'] }]);
  expect(await code(maren.appeals.agree(id, { proposal: beside }))).toBe('not-met');
  expect(await code(maren.appeals.agree(id))).toBe('not-met');
  expect(await maren.latestChange()).toBe(before);

  const { remedies } = await maren.appeals.remedies(id);
  const chosen = remedies.find(({ proposal }) => proposal);
  await maren.appeals.agree(id, chosen, 'While she is away.');
  expect((await (await enter('tobias')).decideById('hive.update', 'a-hive-02')).allowed).toBe(true);
  expect(await told()).toEqual(['tobias: Alderbrook Beekeepers: you may do it now']);
  expect(sent[0]?.text).toContain('While she is away.');
  expect(await tobias.appeals.mine()).toMatchObject([{ id, status: 'agreed', reason: 'While she is away.' }]);
  expect(await latest()).toMatchObject({
    what: 'access agreed to',
    actor: 'maren',
    event: { appeal: id, user: 'tobias', action: 'hive.update', record: 'a-hive-02' },
  });
  expect(await code((await enter('tobias')).appeals.raise('hive.update', 'a-hive-02'))).toBe('allowed-already');
  expect(await code(tobias.appeals.withdraw(id))).toBe('not-found');
});

test('a change of the record is a remedy too', async () => {
  const id = await (await enter('sela')).appeals.raise('hive.update', 'a-hive-04');
  const maren = await enter('maren');
  const change = (await maren.appeals.remedies(id)).remedies.find((one) => one.change?.field === 'keeperId');
  await maren.appeals.agree(id, change);
  expect((await maren.findOne('hive', 'a-hive-04')).keeperId).toBe('sela');
  expect(await (await enter('sela')).appeals.mine()).toMatchObject([{ id, status: 'agreed' }]);
});

test('asking betrays nothing: a hidden record and none are asked for alike, on every side', async () => {
  const junia = await enter('junia');
  const seen = new Set((await junia.find('hive')).map(({ id }) => id));
  const hidden = (await (await enter('maren')).find('hive')).find(({ id }) => !seen.has(id))?.id as string;
  const [one, other] = [await junia.appeals.raise('hive.read', hidden), await junia.appeals.raise('hive.read', 'no-such-hive')];
  const known = (all: readonly { id: string }[]) =>
    all.map(({ id, raisedAt: _r, expiresAt: _e, recordId: _i, ...rest }: any) => (id === one || id === other ? rest : []));
  const [first, second] = known(await junia.appeals.mine());
  expect(first).toEqual(second);
  // The secretary gives roles and sees no hive.
  const wim = await enter('wim');
  const [a, b] = known((await wim.appeals.list()).filter(({ userId }) => userId === 'junia'));
  expect(a).toEqual(b);
  expect(a).toMatchObject({ record: null });
  for (const id of [one, other]) expect(await code(wim.appeals.remedies(id))).toBe('not-found');
  for (const id of [one, other]) expect(await code(wim.appeals.decline(id, 'Ask Otto.'))).toBe('done');
  expect(known(await junia.appeals.mine())).toEqual([
    { ...first, status: 'declined', reason: 'Ask Otto.', answeredAt: expect.any(Date) },
    { ...first, status: 'declined', reason: 'Ask Otto.', answeredAt: expect.any(Date) },
  ]);
});

test('only who may change something answers, not for themselves, and not twice in one second', async () => {
  const lene = await enter('lene');
  const id = await lene.appeals.raise('hive.read', 'a-hive-01');
  for (const user of ['lene', 'tobias', 'otto', 'junia']) {
    const one = await enter(user);
    expect([user, await code(one.appeals.list()), await code(one.appeals.decline(id)), await code(one.appeals.agree(id))]).toEqual([
      user,
      'refused',
      'refused',
      'refused',
    ]);
  }
  const rosa = await app.enter({ tenant: 'quillmoor', user: 'rosa' });
  expect([await rosa.appeals.list(), await code(rosa.appeals.decline(id))]).toEqual([[], 'not-found']);
  const wims = await (await enter('wim')).appeals.raise('hive.read', 'a-hive-01');
  expect((await (await enter('wim')).appeals.list()).map((one) => one.id)).not.toContain(wims);
  expect(await code((await enter('wim')).appeals.decline(wims))).toBe('not-found');
  expect(await code((await enter('tobias')).appeals.withdraw(wims))).toBe('not-found');
  await (await enter('wim')).appeals.withdraw(wims);

  const [maren, wim] = [await enter('maren'), await enter('wim')];
  const chosen = (await maren.appeals.remedies(id)).remedies.find(({ proposal }) => proposal);
  const both = await Promise.all([code(maren.appeals.agree(id, chosen)), code(wim.appeals.decline(id))]);
  expect(both.sort()).toEqual(['done', 'not-found']);
  const [{ status } = {}] = await lene.appeals.mine();
  expect((await (await enter('lene')).decideById('hive.read', 'a-hive-01')).allowed).toBe(status === 'agreed');
});

test('what no answer could change is not asked for; what nobody answers lapses; and nobody floods the others', async () => {
  const tobias = await enter('tobias');
  const maren = await enter('maren');
  const [archived] = await maren.find('hive', { where: { status: 'archived' } });
  expect(await code(maren.appeals.raise('hive.update', archived?.id))).toBe('no-appeal');
  expect([await code(tobias.appeals.raise('hive.create', 'x')), await code(tobias.appeals.raise('member.read', 'x'))]).toEqual([
    'not-a-record-action',
    'not-a-record-action',
  ]);
  const id = await tobias.appeals.raise('entry.update', 'a-entry-01');
  now += 15 * 86_400_000;
  expect((await (await enter('tobias')).appeals.mine()).find((one) => one.id === id)?.status).toBe('expired');
  expect(await code((await enter('maren')).appeals.decline(id))).toBe('not-found');
  const again = await (await enter('tobias')).appeals.raise('entry.update', 'a-entry-01');
  expect(again).not.toBe(id);
  for (let i = 1; i < 20; i++) await (await enter('tobias')).appeals.raise('hive.read', `none-${i}`);
  expect(await code((await enter('tobias')).appeals.raise('hive.read', 'one-more'))).toBe('too-many-appeals');
  // Nothing revives on return.
  await maren.members.remove('tobias');
  expect((await maren.appeals.list()).filter(({ userId }) => userId === 'tobias')).toEqual([]);
  expect(await code((await enter('tobias')).appeals.mine())).toBe('not-found');
});
