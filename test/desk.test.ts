/* The desk in a real browser: each view on the demo’s world, what it changes, and who does not come in. */
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type Browser, type BrowserContext, chromium, type Page } from 'playwright-core';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { run } from 'warm-lintel/cli';
import { charter } from '../examples/apiary/world/charter.js';
import { axe } from './chromium.js';
import { LONG, testLong } from './long.js';
import { apiaryOnPostgres } from './worlds.js';

let browser: Browser;
let context: BrowserContext;
let page: Page;
let link: string;
let base: string;
let stop = (): void => {};
let ended: Promise<number>;
let command: (...args: string[]) => Promise<number>;
beforeAll(async () => {
  const { url, db } = await apiaryOnPostgres();
  await db.destroy();
  const dir = mkdtempSync(join(tmpdir(), 'lintel-'));
  const around = { cwd: dir, err: () => {}, colours: false, width: 160 };
  const earlier = structuredClone(charter.data) as any;
  earlier.roles.keeper.may['hive.update'] = ['own'];
  writeFileSync(join(dir, 'before.json'), JSON.stringify(earlier));
  const accepted = { 'holds-nothing alderbrook.members.lene': 'She is on leave until spring' };
  writeFileSync(join(dir, 'lintel.config.mjs'), `export default ${JSON.stringify({ charter: { data: charter.data, hash: charter.hash }, accepted })}`);
  const sources = ['--database', url];
  command = (...args) => run([...args, '--tenant', 'alderbrook', ...sources], { ...around, out: () => {} });
  await command('rehearse', 'access.md', '--record');
  writeFileSync(join(dir, 'access.md'), readFileSync(join(dir, 'access.md'), 'utf8').replace('own, unclaimed', 'own'));
  const until = new Promise<void>((resolve) => {
    stop = resolve;
  });
  link = await new Promise<string>((opened) => {
    const out = (text: string) => opened(/http:\S+/.exec(text)?.[0] ?? text);
    ended = run(['desk', '--before', 'before.json', '--rehearse', 'access.md', ...sources], { ...around, out, stopped: () => until });
  });
  base = new URL(link).origin;
  browser = await chromium.connect(inject('chromium'));
  context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
  page = await context.newPage();
  await page.goto(link);
});
afterAll(async () => {
  await browser.close();
  stop();
  expect(await ended).toBe(0);
});

const VIEWS: readonly (readonly [view: string, query: string, shows: string])[] = [
  ['table', 'by=people&only=hive', 'all in Orchard side'],
  ['why', 'person=tobias&action=hive.update&record=a-hive-02', 'give it for this record alone'],
  ['gives', 'action=hive.update', 'role Keeper'],
  ['compare', 'a=tobias&b=otto&action=hive.update', 'only Otto Feld'],
  ['compare', 'a=tobias&b=role:warden&c=tobias&action=hive.update', 'only Site warden (role)'],
  ['appeals', 'as=maren', 'Clover hive'],
  ['review', '', 'She is on leave until spring'],
  ['changes', '', '+3 −0'],
  ['rehearsal', '', 'and was to reach own'],
];

test.each(VIEWS.filter((_, i) => LONG || i % 4 === 2))(
  '%s stands under an address of its own, by day and by night, and axe finds nothing',
  { timeout: 60_000 },
  async (view, query, shows) => {
    // Three views have every colour of the night between them; one has most.
    for (const colorScheme of (LONG ? ['table', 'why', 'review'] : ['why']).includes(view) ? (['light', 'dark'] as const) : (['light'] as const)) {
      await page.emulateMedia({ colorScheme });
      await page.goto(`${base}/${view}?tenant=alderbrook&${query}`);
      await page.getByText(shows).first().waitFor();
      const violations = await axe(page);
      expect(violations.map(({ id, nodes }) => `${view} ${colorScheme}: ${id} ${nodes[0]?.target}`)).toEqual([]);
    }
  },
);

test('by the keyboard alone: from a cell to why, and a remedy is seen, carried out and asked again', { timeout: 60_000 }, async () => {
  await page.goto(`${base}/table?tenant=alderbrook&by=people&only=hive`);
  await page.getByRole('button', { name: /^Tobias Renn, Change a hive: / }).focus();
  await page.keyboard.press('Enter');
  await page.getByLabel('Record').selectOption({ label: 'Bramble hive' });
  await page.getByRole('status').getByText('Tobias Renn may not: Change a hive “Bramble hive”.').waitFor();
  // By an address, as it was copied from the application.
  await page.getByLabel('or its name or address').fill('http://localhost:4173/t/alderbrook/hives/a-hive-03');
  await page.keyboard.press('Enter');
  await page.getByRole('status').getByText('Tobias Renn may: Change a hive “Clover hive”.').waitFor();
  await page.goBack();
  await page.getByRole('status').getByText('“Bramble hive”').waitFor();
  // Whoever may not make it is told so.
  await page.getByLabel('In the name of').selectOption({ label: 'Lene Arp' });
  await page.getByText('not theirs to make').or(page.getByText('Nothing that was tried')).or(page.getByRole('alert')).first().waitFor();
  await page.getByLabel('In the name of').selectOption({ label: 'Maren Holt' });
  await page.getByRole('listitem').filter({ hasText: 'give it for this record alone' }).getByRole('button', { name: 'See what it does' }).click();
  await page.getByText('Tobias Renn gains: Change a hive').or(page.getByText('Tobias Renn differs: Change a hive')).waitFor();
  await page.getByRole('button', { name: 'Carry it out' }).click();
  await page.getByRole('status').getByText('Tobias Renn may: Change a hive “Bramble hive”.').waitFor();
  await page.goBack();
  await page.getByRole('status').waitFor();
});

testLong('what was asked for is answered: by one of the changes that would allow it, or by a no', { timeout: 60_000 }, async () => {
  await page.goto(`${base}/appeals?tenant=alderbrook&as=lene`);
  await page.getByRole('alert').waitFor();
  await page.getByLabel('In the name of').selectOption({ label: 'Maren Holt' });
  await page.getByRole('button', { name: 'Answer' }).click();
  await page.getByRole('listitem').filter({ hasText: 'give it for this record alone' }).getByRole('button', { name: 'See what it does' }).click();
  await page.getByRole('button', { name: 'Agree, and do it' }).click();
  await page.getByText('Nothing waits for an answer of theirs.').waitFor();
  await command('appeals', '--as', 'sela', '--ask', 'hive.update', '--record', 'a-hive-01');
  await page.reload();
  await page.getByRole('button', { name: 'Answer' }).click();
  await page.getByLabel('Why, which is told to them').fill('Tobias keeps it');
  await page.getByRole('button', { name: 'Decline' }).click();
  await page.getByText('Nothing waits for an answer of theirs.').waitFor();
});

test('nobody comes in without the link, by it twice, from another page, or under another name', { timeout: 60_000 }, async () => {
  const stranger = await (await browser.newContext()).newPage();
  expect((await stranger.goto(link))?.status()).toBe(403);
  expect((await stranger.goto(`${base}/table`))?.status()).toBe(403);
  expect((await stranger.goto(`${base}/api/about`))?.status()).toBe(403);
  const cookie = `lintel_desk=${(await context.cookies())[0]?.value}`;
  const asked = (path: string, init: RequestInit = {}) => fetch(`${base}${path}`, { ...init, headers: { cookie, ...init.headers } });
  expect((await asked('/api/about')).status).toBe(200);
  const body = JSON.stringify({
    tenant: 'alderbrook',
    as: 'maren',
    person: 'sela',
    action: 'hive.update',
    record: 'a-hive-01',
    words: 'give it for this record alone',
  });
  expect((await asked('/api/carry-out', { method: 'POST', body, headers: { origin: 'http://elsewhere.example' } })).status).toBe(400);
  const { request } = await import('node:http');
  const status = await new Promise((resolve) => {
    const { hostname, port } = new URL(base);
    request({ hostname, port, path: '/api/about', headers: { host: 'desk.elsewhere.example', cookie } }, (answer) => resolve(answer.statusCode)).end();
  });
  expect(status).toBe(421);
  expect((await asked('/..%2f..%2fpackage.json')).status).toBe(404);
  for (const path of ['/api/why?tenant=alderbrook&person=tobias&action=hive.paint', '/api/table?tenant=nowhere', '/api/people']) {
    const answer = await asked(path);
    expect([path, answer.status, ((await answer.json()) as { error: string }).error.length > 10]).toEqual([path, 400, true]);
  }
});
