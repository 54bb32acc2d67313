/* The connection breaks at any statement of any change, and the mail server in any way: all of it happened or nothing, and nothing is lost. */

import type { AddressInfo } from 'node:net';
import { createServer, type Server, type Socket } from 'node:net';
import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { smtpMailer } from 'warm-lintel/mail';
import { connect, createLintel, type Step } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { LONG } from './long.js';
import { type Apiary, apiaryOnPostgres } from './worlds.js';

let db: Kysely<any>;
let lintel: Apiary;
let url: string;
beforeAll(async () => {
  ({ lintel, db, url } = await apiaryOnPostgres());
});
afterAll(() => db.destroy());

const whole = { on: 'tenant' } as const;
const fulfilled = ['recentSignIn'];
const boss = (on: Apiary) => on.enter({ tenant: 'alderbrook', user: 'maren', fulfilled });

/** A pool whose connection is terminated by the server right before its nth statement, or right after the server has done it; from then on the database is away. */
function breaking(at: number, when: 'before' | 'after'): { on: Apiary; reached: () => boolean; close: () => Promise<void> } {
  const pool = new pg.Pool({ connectionString: url, max: 1 });
  pool.on('error', () => {});
  let count = 0;
  const connections = {
    connect: async () => {
      if (count >= at) throw new Error('the database is away');
      const client = await pool.connect();
      client.on('error', () => {});
      const terminate = async () => {
        const pid = (client as unknown as { processID: number }).processID;
        await sql`select pg_terminate_backend(${pid})`.execute(db);
        while ((await sql`select 1 from pg_stat_activity where pid = ${pid}`.execute(db)).rows.length > 0);
      };
      const query = async (text: string, values: unknown[]) => {
        const breaks = ++count === at;
        if (breaks && when === 'before') await terminate();
        const answer = await client.query(text, values);
        if (!breaks) return answer;
        await terminate();
        throw new Error('the answer was lost');
      };
      return { query, release: () => client.release(count >= at) };
    },
    end: () => pool.end(),
  };
  return { on: createLintel({ charter, db: connect<any>(connections as never) }) as unknown as Apiary, reached: () => count >= at, close: () => pool.end() };
}

const TABLES = [
  'tenant',
  'member',
  'person_tenant',
  'assignment',
  'role',
  'group',
  'group_member',
  'unit',
  'unit_below',
  'placement',
  'opening',
  'opening_kept',
  'invitation',
  'outbox',
  'key',
  'audit',
  'audit_words',
];
/** Everything that is kept, without what is another each time: secrets, hashes and moments. */
async function state(): Promise<string> {
  const all = await Promise.all(
    [...TABLES.map((table) => `lintel_${table}`), 'hives'].map((table) =>
      sql<{ row: object }>`select to_jsonb(t) as row from ${sql.table(table)} t`.execute(db),
    ),
  );
  return JSON.stringify(
    all.map(({ rows }) => rows.map(({ row }) => JSON.stringify(row, (key, value) => (/hash|salt|commitment|_at$|^at$|since/.test(key) ? '' : value))).sort()),
  ).replace(/[0-9a-f]{8}-[0-9a-f-]{27}/g, 'id');
}

const keeper = { role: 'keeper', anchor: whole };
const made: Step[] = [
  { do: 'make-role', id: 'own-f', role: { label: 'F', may: { 'hive.read': ['own'] } } },
  { do: 'make-group', id: 'f', name: 'F', people: ['tobias', 'lene'] },
  { do: 'add-unit', id: 'f-unit', name: 'F', below: 'orchards' },
  { do: 'set-roles', holder: { group: 'f' }, roles: [{ role: 'own-f', anchor: whole }] },
  { do: 'make-program', id: 'f-program', name: 'Scale', responsible: 'maren' },
  { do: 'open-records', id: 'f-open', group: 'f', to: { user: 'junia' }, kind: 'hive', actions: ['read'], keeps: true },
];
const STEPS: Step[][] = [
  made,
  [{ do: 'set-roles', holder: { user: 'lene' }, roles: [keeper, { role: 'own-f', anchor: { on: 'unit', unitId: 'f-unit' } }] }],
  [{ do: 'set-permissions', holder: { user: 'lene' }, permissions: [{ permission: 'entry.read', reach: 'tenant', anchor: whole }] }],
  [{ do: 'edit-role', id: 'own-f', role: { label: 'F', may: { 'hive.update': ['own'] } } }],
  [
    { do: 'set-group', id: 'f', people: ['tobias'] },
    { do: 'rename-group', id: 'f', name: 'G' },
  ],
  [
    { do: 'move-unit', id: 'f-unit', below: 'heath' },
    { do: 'rename-unit', id: 'f-unit', name: 'G' },
  ],
  [{ do: 'place', user: 'lene', units: ['f-unit'] }],
  [
    { do: 'suspend', user: 'lene' },
    { do: 'restore', user: 'lene' },
    { do: 'set-end', user: 'lene', at: '2199-01-01T00:00:00Z' },
  ],
  [
    { do: 'make-key', program: 'f-program' },
    { do: 'entrust-program', program: 'f-program', responsible: 'otto' },
  ],
  [{ do: 'hand-over', from: 'sela', to: 'tobias', kinds: ['hive'] }],
  [{ do: 'rename-tenant', name: 'Alderbrook', contact: 'the office' }],
  [
    { do: 'drop-role', id: 'own-f', instead: 'reader' },
    { do: 'close-records', id: 'f-open' },
    { do: 'drop-group', id: 'f' },
  ],
  [{ do: 'remove', user: 'lene' }],
];
type Change = readonly [name: string, run: (on: Apiary) => Promise<unknown>];
const changes: Change[] = STEPS.map((steps) => [steps.map((step) => step.do).join(', '), async (on) => (await boss(on)).carryOut(steps)]);
changes.push([
  'invite',
  async (on) =>
    (await boss(on)).invitations.send([
      { address: 'a@fault.example', roles: [keeper] },
      { address: 'b@fault.example', roles: [] },
    ]),
]);
const invitationTo = async (address: string) =>
  (await db.selectFrom('lintel_invitation').select('id').where('address', '=', address).executeTakeFirstOrThrow()).id as string;
changes.push(['send again', async (on) => (await boss(on)).invitations.sendAgain(await invitationTo('a@fault.example'))]);
changes.push(['accept', async (on) => on.acceptInvitation('fault', { tenantId: 'alderbrook', invitationId: await invitationTo('a@fault.example') })]);
changes.push(['withdraw', async (on) => (await boss(on)).invitations.withdraw(await invitationTo('b@fault.example'))]);

test('the connection is lost at every statement of every change in turn: all of it happened or none, and a repeat finishes it', {
  timeout: 900_000,
}, async () => {
  await lintel.addPerson({ id: 'fault', name: 'F', address: 'a@fault.example', confirmedAt: new Date() });
  let statements = 0;
  for (const [name, run] of changes) {
    const before = await state();
    // In turn; the short run looks at every third.
    for (let at = 1, every = LONG ? 1 : 20; ; at += every) {
      const { on, reached, close } = breaking(at, 'before');
      const came = await run(on).then(
        () => 'done',
        () => 'failed',
      );
      await close();
      if (!reached()) {
        expect([name, came]).toEqual([name, 'done']);
        break;
      }
      statements += 1;
      expect([name, at, came, (await state()) === before]).toEqual([name, at, 'failed', true]);
    }
    expect(await state()).not.toBe(before);
  }
  expect(statements).toBeGreaterThan(LONG ? 150 : 7);
  expect((await (await boss(lintel)).audit.verify()).broken).toBeUndefined();
});

test('an answer that is lost after the server did it leaves all of it or nothing', { timeout: 300_000 }, async () => {
  const run = async (on: Apiary) =>
    (await boss(on)).carryOut([
      { do: 'make-group', name: 'Lost', people: ['otto'] },
      { do: 'rename-tenant', contact: 'somebody' },
    ]);
  const groups = async () => (await db.selectFrom('lintel_group').select('id').where('name', '=', 'Lost').execute()).length;
  const came: number[] = [];
  for (let at = 1; ; at++) {
    const had = await groups();
    const events = (await (await boss(lintel)).audit.verify()).events;
    const { on, reached, close } = breaking(at, 'after');
    await run(on).catch(() => undefined);
    await close();
    if (!reached()) break;
    came.push((await groups()) - had);
    expect((await (await boss(lintel)).audit.verify()).events - events).toBe(2 * (came.at(-1) as number));
  }
  // Only once its commit was done.
  expect(came.filter((n) => n === 1)).toHaveLength(1);
  expect(came.at(-1)).toBe(1);
});

/** A mail server that breaks in one way, over the protocol itself. */
async function mailServer(
  way: 'refuses' | 'hangs' | 'drops in data' | 'loses its answer' | 'works',
): Promise<{ port: number; taken: string[]; close: () => Promise<void> }> {
  const taken: string[] = [];
  const sockets = new Set<Socket>();
  const server: Server = createServer((socket) => {
    sockets.add(socket);
    socket.on('error', () => {});
    if (way === 'hangs') return;
    let [message, inData] = ['', false];
    socket.write('220 ready\r\n');
    socket.on('data', (chunk) => {
      const text = chunk.toString();
      if (inData) {
        message += text;
        if (way === 'drops in data') return void socket.destroy();
        if (!message.endsWith('\r\n.\r\n')) return;
        taken.push(message);
        [message, inData] = ['', false];
        return void (way === 'loses its answer' ? socket.destroy() : socket.write('250 taken\r\n'));
      }
      if (/^DATA/i.test(text)) {
        inData = true;
        socket.write('354 go on\r\n');
      } else if (/^QUIT/i.test(text)) socket.end('221 bye\r\n');
      else socket.write(way === 'refuses' && /^RCPT/i.test(text) ? '451 not now\r\n' : '250 fine\r\n');
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const close = () =>
    new Promise<void>((resolve) => {
      for (const socket of sockets) socket.destroy();
      server.close(() => resolve());
    });
  return { port: (server.address() as AddressInfo).port, taken, close };
}

test('a mail server that refuses, hangs, or drops in the middle loses nothing; twice goes out only what it took, and then as the same', {
  timeout: 120_000,
}, async () => {
  let now = Date.now();
  const through = (port: number) =>
    createLintel({
      charter,
      db,
      mailer: smtpMailer({ host: '127.0.0.1', port, from: { name: 'A', address: 'post@apiary.example' }, patience: 1 }),
      invitationLink: (token) => `https://apiary.example/#${token}`,
      clock: () => now,
    }) as unknown as Apiary;
  const waiting = async () =>
    (await db.selectFrom('lintel_outbox').select(['state', 'last_error']).where('tenant_id', '=', 'quillmoor').execute()) as {
      state: string;
      last_error: string | null;
    }[];
  const first = await mailServer('refuses');
  const sender = await through(first.port).enter({ tenant: 'quillmoor', user: 'rosa', fulfilled });
  await sender.invitations.send([{ address: 'post@fault.example', roles: [] }]);
  const deliver = async (way: Parameters<typeof mailServer>[0]) => {
    const server = await mailServer(way);
    const count = await through(server.port).deliver();
    await server.close();
    now += 3_600_000;
    return { ...count, taken: server.taken };
  };
  for (const way of ['refuses', 'hangs', 'drops in data'] as const) {
    expect([way, await deliver(way)]).toEqual([way, { sent: 0, failed: 1, taken: [] }]);
    expect(await waiting()).toEqual([{ state: 'waiting', last_error: expect.any(String) }]);
  }
  const lost = await deliver('loses its answer');
  expect([lost.failed, lost.taken.length]).toEqual([1, 1]);
  const works = await deliver('works');
  expect([works.sent, works.taken.length]).toEqual([1, 1]);
  expect(await waiting()).toEqual([{ state: 'sent', last_error: null }]);
  expect((await deliver('works')).taken).toEqual([]);
  const [one = '', two = ''] = [...lost.taken, ...works.taken];
  const idOf = (message: string) => /^Message-ID: (.+)$/im.exec(message)?.[1];
  expect([idOf(one), idOf(one) === idOf(two)]).toEqual([expect.stringMatching(/^<.+@apiary\.example>/), true]);
  // Whichever of the two is opened, the link works; and once.
  const tokenIn = (message: string) => /apiary\.example\/#([\w.-]+)/.exec(message.replace(/=\r\n/g, ''))?.[1] ?? '';
  const guest = await lintel.addPerson({ name: 'Post', address: 'post@fault.example' });
  expect((await lintel.lookAtInvitation(tokenIn(two))).address).toBe('post@fault.example');
  await through(first.port).acceptInvitation(guest, { token: tokenIn(one) });
  expect(await lintel.acceptInvitation(guest, { token: tokenIn(two) }).catch((error) => error.code)).toBe('invitation-used');
  await first.close();
});

test('nobody turns us into a mail gun: a tenant sends so many a day, an address gets so many', async () => {
  let now = Date.now() + 30 * 86_400_000;
  const server = await mailServer('works');
  const limited = createLintel({
    charter,
    db,
    mailer: smtpMailer({ host: '127.0.0.1', port: server.port, from: { name: 'A', address: 'post@apiary.example' } }),
    invitationLink: (token) => `https://apiary.example/#${token}`,
    sending: { byTenant: 3, toAddress: 2 },
    clock: () => now,
  }) as unknown as Apiary;
  const rosa = await limited.enter({ tenant: 'quillmoor', user: 'rosa', fulfilled });
  const answers = await rosa.invitations.send(['c', 'd', 'e', 'f'].map((name) => ({ address: `${name}@gun.example`, roles: [] })));
  expect(answers.map(({ outcome, code }) => code ?? outcome)).toEqual(['invited', 'invited', 'invited', 'too-many']);
  expect(await rosa.invitations.sendAgain(answers[0]?.invitationId ?? '').catch((error) => error.code)).toBe('too-many');
  expect(await limited.deliver()).toEqual({ sent: 3, failed: 0 });
  // The same address from other tenants: the third waits, and who sent it is not told why.
  for (let i = 0; i < 2; i++) {
    const keyholder = await limited.addPerson({ name: 'K', address: `k${i}@gun.example` });
    const tenant = await limited.openTenant({ name: `Gun ${i}`, keyholder });
    const [answer] = await (await limited.enter({ tenant, user: keyholder, fulfilled })).invitations.send([{ address: 'c@gun.example', roles: [] }]);
    expect(answer?.outcome).toBe('invited');
  }
  expect(await limited.deliver()).toEqual({ sent: 1, failed: 0 });
  now += 86_400_001;
  expect(await limited.deliver()).toEqual({ sent: 1, failed: 0 });
  await server.close();
});
