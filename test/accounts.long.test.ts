/* What takes hours to show, or a machine to itself: that times tell nothing of accounts, and that a flood of sign-ins leaves the rest answering. */

import type { AddressInfo } from 'node:net';
import { serve } from '@hono/node-server';
import { expect, test } from 'vitest';
import { Accounts } from 'warm-lintel/accounts';
import { createFace, senderByCookie } from 'warm-lintel/http';
import { type Club, club } from './club.js';

const sorted = (times: readonly number[]) => [...times].sort((a, b) => a - b);
const at = (times: readonly number[], part: number) => sorted(times)[Math.floor(times.length * part)] as number;

async function withPeople() {
  const page = (token: string) => `https://app.example/#${token}`;
  const made = await club({
    mailer: { send: async () => {} },
    sending: { byTenant: 10_000 },
    invitationLink: page,
    accountLinks: { 'sign-up': page, forgotten: page },
  });
  return { ...made, accounts: new Accounts(made.lintel) };
}

test('times overlap: an account and none, for sign-up, forgotten, sign-in, inviting and enrolling, over 500 tries each', { timeout: 3_600_000 }, async () => {
  const { lintel, accounts, db } = await withPeople();
  const some = await Promise.all(
    Array.from({ length: 500 }, (_, i) => lintel.addPerson({ name: `P ${i}`, address: `p${i}@people.example`, confirmedAt: new Date(0) })),
  );
  for (const id of some) await db.insertInto('lintel_credential').values({ person_id: id, password_hash: HASH }).execute();
  const standing = await lintel.enter({ tenant: 'club', user: 'key' });
  for (const [name, work] of [
    ['sign up', (address: string) => accounts.signUp({ address })],
    ['forgotten', (address: string) => accounts.forgotten({ address })],
    ['sign in', (address: string) => accounts.signIn({ address, password: 'a password that is wrong' }).catch(() => {})],
    ['invite', (address: string) => standing.carryOut([{ do: 'invite', address, roles: [] }])],
    ['enrol', (address: string) => standing.carryOut([{ do: 'enrol', address, name: 'Somebody', roles: [] }])],
  ] as const) {
    const times = { there: [] as number[], none: [] as number[] };
    for (let i = 0; i < 500; i++)
      for (const which of i % 2 ? (['there', 'none'] as const) : (['none', 'there'] as const)) {
        const begin = performance.now();
        await work(which === 'there' ? `p${i}@people.example` : `n${i}@people.example`);
        times[which].push(performance.now() - begin);
      }
    // Neither lies beside the other: half of each within the middle of the other.
    const [low, high] = [at(times.none, 0.1), at(times.none, 0.9)];
    const ratio = at(times.there, 0.5) / at(times.none, 0.5);
    console.log(`${name}: medians ${at(times.there, 0.5).toFixed(2)} and ${at(times.none, 0.5).toFixed(2)} ms`);
    expect([name, at(times.there, 0.5) > low && at(times.there, 0.5) < high, ratio > 0.85 && ratio < 1.15]).toEqual([name, true, true]);
  }
  await db.destroy();
});

/** Of a password that nobody gives, as it is kept. */
const HASH = '$argon2id$v=19$m=19456,t=2,p=1$c29tZSBzYWx0IGhlcmU$vYzfyQ7f1JhyTSV9Jm0sLpJb2AHb0LNv6jD8c0Wf3Hk';

test('a flood of 2,000 sign-ins leaves the other routes answering', { timeout: 3_600_000 }, async () => {
  const { lintel, accounts, db } = await withPeople();
  const session = await accounts.startSession('key');
  let place = 0;
  const face = createFace(lintel as Club, {
    sender: senderByCookie({ accounts, secureCookies: false }),
    accounts: { accounts, secureCookies: false },
    perMinute: 1_000_000,
    from: (request) => request.headers.get('x-place') ?? undefined,
  });
  const server = await new Promise<ReturnType<typeof serve>>((resolve) => {
    const started = serve({ fetch: face.fetch, port: 0, hostname: '127.0.0.1' }, () => resolve(started));
  });
  const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  const look = async () => {
    const begin = performance.now();
    const answer = await fetch(`${base}/tenants/club/members`, { headers: { cookie: `lintel-session=${session.token}` } });
    expect(answer.status).toBe(200);
    await answer.text();
    return performance.now() - begin;
  };
  const looks = async (isOver: () => boolean, least: number) => {
    const times: number[] = [];
    while (times.length < least || !isOver()) times.push(await look());
    return times;
  };
  await looks(() => true, 100);
  const quiet = await looks(() => true, 400);
  let left = 2000;
  const flood = Promise.all(
    Array.from({ length: 2000 }, async () => {
      place += 1;
      const body = JSON.stringify({ address: `nobody${place}@people.example`, password: 'a password that is wrong' });
      const headers = { 'content-type': 'application/json', 'x-place': `place ${place % 500}` };
      const { status } = await fetch(`${base}/account/sign-in`, { method: 'POST', headers, body });
      left -= 1;
      return status;
    }),
  );
  const busy = await looks(() => left === 0, 100);
  const statuses = await flood;
  const told = [0.5, 0.99].map((part) => at(busy, part) / at(quiet, part));
  console.log(
    `flood: median ${told[0]?.toFixed(2)} times, slowest hundredth ${told[1]?.toFixed(2)} times of quiet; ${busy.length} looks; refused ${statuses.filter((s) => s === 429).length}`,
  );
  expect(new Set(statuses)).toEqual(new Set([401, 429]));
  expect([(told[0] as number) < 3, (told[1] as number) < 10]).toEqual([true, true]);
  await new Promise((resolve) => server.close(resolve));
  await db.destroy();
});
