/* Bad input, sent to the application as anybody could send it: each gets a clear answer, and nothing is lost. */
import { type Kysely, sql } from 'kysely';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { Accounts } from 'warm-lintel/accounts';
import { smtpMailer, startTray, type Tray } from 'warm-lintel/mail';
import { createLintel } from 'warm-lintel/server';
import { type Apiary, createApp } from '../examples/apiary/server/app.js';
import { charter } from '../examples/apiary/world/charter.js';
import { people } from '../examples/apiary/world/seed.js';
import { apiaryOnPglite } from './worlds.js';

let db: Kysely<any>;
let tray: Tray;
let app: ReturnType<typeof createApp>;
let accounts: Accounts;
let lintel: Apiary;
beforeAll(async () => {
  ({ db } = await apiaryOnPglite());
  tray = await startTray();
  const mailer = smtpMailer({ host: '127.0.0.1', port: tray.port, from: { name: 'Apiary', address: 'post@apiary.example' } });
  lintel = createLintel({ charter, db, mailer, invitationLink: (token) => `http://localhost/invitation#${token}` });
  await lintel.prepare();
  accounts = new Accounts(lintel);
  for (const { id } of people) await accounts.setPassword(id, 'honey and beeswax');
  app = createApp({ lintel, accounts, tray });
});
afterAll(async () => {
  await tray.close();
  await db.destroy();
});

/** Somebody's browser: keeps the cookie. */
function browser() {
  let cookie = '';
  return async (method: string, path: string, data?: unknown, headers: Record<string, string> = {}) => {
    const response = await app.request(`http://localhost${path}`, {
      method,
      headers: { origin: 'http://localhost', ...(data === undefined ? {} : { 'content-type': 'application/json' }), ...(cookie && { cookie }), ...headers },
      ...(data === undefined ? {} : { body: typeof data === 'string' ? data : JSON.stringify(data) }),
    });
    cookie = response.headers.get('set-cookie')?.split(';')[0] ?? cookie;
    const text = await response.text();
    expect(text).not.toMatch(/\bat .*\.[tj]s:\d+|node_modules|select .* from/i);
    return { status: response.status, text, json: JSON.parse(text || 'null'), setCookie: response.headers.get('set-cookie') };
  };
}
async function as(address: string) {
  const call = browser();
  expect((await call('POST', '/lintel/account/sign-in', { address, password: 'honey and beeswax' })).status).toBe(200);
  return call;
}
const invitation = (address: string, role: string) => ({ invitations: [{ address, roles: [{ role, anchor: { on: 'tenant' } }] }] });
const hives = async () => db.selectFrom('hives').selectAll().orderBy('id').execute();

test('the session cookie cannot be read by a page, and is worth nothing after signing out', async () => {
  const call = browser();
  const { setCookie } = await call('POST', '/lintel/account/sign-in', { address: 'tobias@alderbrook.example', password: 'honey and beeswax' });
  expect(setCookie).toMatch(/HttpOnly; SameSite=Lax/);
  const stolen = { cookie: setCookie?.split(';')[0] ?? '' };
  expect((await browser()('GET', '/api/t/alderbrook/hives', undefined, stolen)).status).toBe(200);
  await call('POST', '/lintel/account/sign-out', {});
  expect((await browser()('GET', '/api/t/alderbrook/hives', undefined, stolen)).status).toBe(401);
});

test('a wrong password and an unknown account answer alike', async () => {
  const answers = await Promise.all([
    browser()('POST', '/lintel/account/sign-in', { address: 'tobias@alderbrook.example', password: 'wrong-password' }),
    browser()('POST', '/lintel/account/sign-in', { address: 'nobody@alderbrook.example', password: 'wrong-password' }),
  ]);
  expect((await browser()('POST', '/lintel/account/sign-in', { address: ['x'], password: { $ne: 1 } })).json.code).toBe('bad-request');
  expect(new Set(answers.map((a) => `${a.status} ${a.text}`)).size).toBe(1);
  expect(answers[0]?.status).toBe(401);
});

test('whoever tries passwords is slowed, from wherever, and does not shut out whoever has been here before', async () => {
  const from = (place: string, password: string, headers: Record<string, string> = {}, address = 'lene@alderbrook.example') =>
    app.request(
      '/lintel/account/sign-in',
      { method: 'POST', body: JSON.stringify({ address, password }), headers: { 'content-type': 'application/json', ...headers } },
      { incoming: { socket: { remoteAddress: place } } },
    );
  const device = /lintel-device=[^;]+/.exec((await from('192.0.2.9', 'honey and beeswax')).headers.getSetCookie().join(' '))?.[0] ?? '';
  const before = accounts.hashes;
  // Another way to write it is no other address.
  const tried = await Promise.all(
    Array.from({ length: 30 }, (_, i) => from(`192.0.2.${i % 3}`, 'wrong-password', {}, i % 2 ? 'lene@alderbrook.example' : ' LENE@alderbrook.example')),
  );
  expect(new Set(tried.map(({ status }) => status))).toEqual(new Set([401]));
  // Some may have waited as long as is asked on a machine that is busy.
  expect(accounts.hashes - before).toBeLessThanOrEqual(10);
  await sql`update lintel_try set wrong = 10, open_at = now() + interval '15 minutes' where wrong > 4`.execute(db);
  expect((await from('192.0.2.9', 'honey and beeswax')).status).toBe(401);
  expect((await from('192.0.2.9', 'honey and beeswax', { cookie: device })).status).toBe(200);
});

test('a hidden hive and a missing one answer the same bytes, whatever is asked of them', async () => {
  const call = await as('tobias@alderbrook.example');
  for (const [method, tail, data] of [
    ['GET', '', undefined],
    ['PATCH', '', { name: 'x' }],
    ['POST', '/keeper', { to: 'tobias' }],
    ['POST', '/archive', { archived: true }],
  ] as const) {
    const [hidden, missing, odd] = await Promise.all(
      ['q-hive-01', 'no-such-hive', "x'; drop table hives; --"].map((id) => call(method, `/api/t/alderbrook/hives/${encodeURIComponent(id)}${tail}`, data)),
    );
    expect(hidden).toMatchObject({ status: 404, text: missing?.text });
    expect(odd?.text).toBe(missing?.text);
  }
});

test('a refusal on a visible hive says why, and changes nothing', async () => {
  const before = await hives();
  const call = await as('tobias@alderbrook.example');
  const refused = await call('PATCH', '/api/t/alderbrook/hives/a-hive-02', { name: 'Mine now' });
  expect(refused).toMatchObject({
    status: 403,
    json: {
      type: 'about:blank',
      title: 'Forbidden',
      code: 'refused',
      detail:
        'You may change a hive only where you are the keeper or keeper is empty. That is not so for Bramble hive. Ask Maren Holt, maren@alderbrook.example.',
    },
  });
  expect(refused.text).not.toContain('looked');
  expect((await call('POST', '/api/t/alderbrook/hives/a-hive-01/keeper', { to: 'rosa' })).json.code).toBe('no-such-value');
  expect(await hives()).toEqual(before);
});

test('a form that names another tenant changes the tenant of its address, or nothing', async () => {
  const before = await hives();
  const call = await as('sela@alderbrook.example');
  expect((await call('POST', '/api/t/alderbrook/hives', { name: 'Elsewhere', tenantId: 'quillmoor' })).json.code).toBe('field-set-by-library');
  expect((await call('POST', '/api/t/quillmoor/hives', { name: 'Elsewhere' })).status).toBe(403); // a reader there
  expect((await call('PATCH', '/api/t/quillmoor/hives/a-hive-02', { name: 'Elsewhere' })).status).toBe(404);
  expect(await hives()).toEqual(before);
});

test('a tenant that one does not belong to, and one that does not exist, answer the same', async () => {
  const call = await as('tobias@alderbrook.example');
  for (const path of ['standing', 'hives', 'access', 'records/ledger']) {
    const [foreign, none] = await Promise.all([call('GET', `/api/t/quillmoor/${path}`), call('GET', `/api/t/nowhere/${path}`)]);
    expect(foreign).toMatchObject({ status: 404, text: none.text });
  }
});

test('the cookie of a removed member opens nothing from the next request on', async () => {
  const [maren, sela] = [await as('maren@alderbrook.example'), await as('sela@alderbrook.example')];
  expect((await sela('GET', '/api/t/alderbrook/hives')).status).toBe(200);
  expect((await maren('POST', '/lintel/tenants/alderbrook/changes', { steps: [{ do: 'remove', user: 'sela' }] })).status).toBe(200);
  expect((await sela('GET', '/api/t/alderbrook/hives')).status).toBe(404);
  expect((await sela('POST', '/api/t/alderbrook/hives', { name: 'Late' })).status).toBe(404);
  expect((await sela('GET', '/api/t/quillmoor/hives')).status).toBe(200);
});

test('who arrives by an invitation gets an account and that membership, and no tenant of their own', async () => {
  const maren = await as('maren@alderbrook.example');
  await maren('POST', '/lintel/tenants/alderbrook/invitations', invitation('newcomer@alderbrook.example', 'reader'));
  await expect.poll(() => tray.messages.find((m) => m.to.includes('newcomer@alderbrook.example'))).toBeDefined();
  const token = /#(\S+)/.exec(tray.messages.find((m) => m.to.includes('newcomer@alderbrook.example'))?.text ?? '')?.[1] ?? '';
  const call = browser();
  expect((await call('POST', '/api/invitation/look', { token })).json).toMatchObject({
    tenantName: 'Alderbrook Beekeepers',
    roles: ['Reader'],
    hasAccount: false,
  });
  expect((await call('POST', '/lintel/account/join', { name: 'New', password: 'short', invitation: token })).json.code).toBe('weak-password');
  expect((await call('POST', '/lintel/account/join', { name: 'New\r\nComer', password: 'long enough for all', invitation: token })).json.code).toBe('bad-name');
  const form = { name: "N'); drop--", password: 'long enough for all', invitation: token };
  // Neither the address nor the organisation is chosen by a form.
  expect((await call('POST', '/lintel/account/join', { ...form, address: 'other@x.example', tenantId: 'quillmoor' })).json.code).toBe('bad-request');
  expect((await call('POST', '/lintel/account/join', form)).json).toEqual({ tenantId: 'alderbrook' });
  expect((await call('GET', '/api/me')).json).toMatchObject({
    user: { name: "N'); drop--", address: 'newcomer@alderbrook.example' },
    tenants: [{ id: 'alderbrook' }],
  });
  expect((await browser()('POST', '/api/invitation/look', { token })).json).toMatchObject({ code: 'invitation-used', status: 410 });
});

test('an account made beforehand with somebody else’s address loses it to whoever follows the mailed link, and gains nothing', async () => {
  const squatter = browser();
  // By whatever way the application made it, it never proved the address.
  const made = await lintel.addPerson({ name: 'Not me', address: 'victim@alderbrook.example' });
  await accounts.setPassword(made, 'the squatters own');
  expect((await squatter('POST', '/lintel/account/sign-in', { address: 'victim@alderbrook.example', password: 'the squatters own' })).status).toBe(200);
  const maren = await as('maren@alderbrook.example');
  await maren('POST', '/lintel/tenants/alderbrook/invitations', invitation('victim@alderbrook.example', 'keeper'));
  await expect.poll(() => tray.messages.find((m) => m.to.includes('victim@alderbrook.example'))).toBeDefined();
  const token = /#(\S+)/.exec(tray.messages.find((m) => m.to.includes('victim@alderbrook.example'))?.text ?? '')?.[1] ?? '';
  expect((await squatter('GET', '/api/me')).json.invitations).toEqual([]);
  expect((await browser()('POST', '/lintel/account/join', { name: 'Victim', password: 'words of my own choice', invitation: token })).json).toEqual({
    tenantId: 'alderbrook',
  });
  // The address that they signed in with is another's: they are signed out.
  expect((await squatter('GET', '/api/t/alderbrook/hives')).status).toBe(401);
  expect((await browser()('POST', '/lintel/account/sign-in', { address: 'victim@alderbrook.example', password: 'the squatters own' })).status).toBe(401);
});

test('what an invitation would open is counted for those alone who may ask about everybody', async () => {
  const counted = async (address: string) => {
    const call = await as(address);
    const { opens } = (await call('POST', '/api/t/alderbrook/invitations/preview', { roles: [{ role: 'keeper' }] })).json;
    return opens.some(({ count, total }: any) => count !== null || total !== null);
  };
  expect([await counted('maren@alderbrook.example'), await counted('wim@alderbrook.example')]).toEqual([true, false]);
});

test('what is no JSON, of another site, or of the wrong shape is refused before anything happens', async () => {
  const call = await as('maren@alderbrook.example');
  expect(
    (await call('POST', '/api/t/alderbrook/hives', 'name=x', { 'content-type': 'application/x-www-form-urlencoded', origin: 'https://evil.example' })).status,
  ).toBeGreaterThanOrEqual(400);
  for (const junk of ['', '[]', '5', '{', '{"name":{"$gt":""}}', '{"roles":"all"}']) {
    for (const [method, path] of [
      ['POST', 'api/t/alderbrook/hives'],
      ['PATCH', 'api/t/alderbrook/hives/a-hive-01'],
      ['POST', 'api/t/alderbrook/invitations/preview'],
      ['POST', 'lintel/tenants/alderbrook/invitations'],
      ['POST', 'lintel/tenants/alderbrook/changes'],
      ['POST', 'lintel/tenants/alderbrook/proposals'],
    ] as const) {
      const { status } = await call(method, `/${path}`, junk);
      expect(status === 200 || (status >= 400 && status < 500), `${method} ${path} with ${junk}: ${status}`).toBe(true);
    }
  }
});
