/* What somebody arranges in the example, in a real browser: who works on one record, who stands in for whom, what is shared, roles of one's own; and the same pages in a hand. */
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { openApiary, type Pages } from './apiary-pages.js';
import { LONG, testLong } from './long.js';

let pages: Pages;
let maren: Page;
beforeAll(async () => {
  pages = await openApiary();
  maren = await pages.as('maren');
});
afterAll(() => pages?.close());

const at = (page: Page, path: string) => page.goto(`${pages.base}/t/alderbrook/${path}`);
const button = (page: Page, name: string | RegExp) => page.getByRole('button', { name, exact: typeof name === 'string' });
const enter = (user: string) => pages.demo.lintel.enter({ tenant: 'alderbrook', user });
const nextWeek = new Date(Date.now() + 7 * 86_400_000).toISOString().slice(0, 10);
/** Looks at what a change would do, and carries it out. */
async function carryOut(page: Page, see = true): Promise<void> {
  if (see) await button(page, 'See what it does').last().click();
  await button(page, 'Carry it out').click();
  await expect.poll(() => page.getByRole('dialog').count(), { timeout: 10_000 }).toBe(0);
}

testLong(
  'several people and a group work on one hive: inspectors, followers who are told, roles for this hive; an inspection is written, and what has none is deleted',
  {
    timeout: 90_000,
  },
  async () => {
    await at(maren, 'groups');
    await button(maren, 'Make a group').click();
    await maren.getByLabel('Name of the group').fill('Heath helpers');
    for (const name of ['Junia Marsh', 'Lene Arp']) await maren.getByLabel(name).check();
    await carryOut(maren);

    const tobias = await pages.as('tobias');
    await at(tobias, 'hives/a-hive-04');
    const section = (name: string) => tobias.getByRole('region', { name, exact: true });
    await section('Followers').getByLabel('Who').selectOption('Otto Feld');
    await button(tobias, 'Let follow').click();
    await button(tobias, 'No longer: Otto Feld').waitFor();
    await section('Inspectors').getByLabel('Who').selectOption('Ingrid Oakes');
    await button(tobias, 'Appoint').click();
    await button(tobias, 'Dismiss: Ingrid Oakes').waitFor();
    await button(tobias, 'Write an inspection').click();
    await tobias.getByLabel('What was seen').fill('Two frames of brood');
    await button(tobias, 'Write it down').click();
    await tobias.getByText('Two frames of brood').waitFor();
    // It has one, and stays.
    await button(tobias, 'Delete').click();
    await tobias.getByRole('alert').getByText('It has inspections, and stays.').waitFor();
    // What somebody else keeps reads the same in each of its places: a grey button, and why.
    await at(tobias, 'hives/a-hive-02');
    await tobias.getByText('You may appoint inspectors only where you are the keeper.').waitFor();
    await tobias.getByText('You may delete a hive only where you are the keeper.').waitFor();
    expect(await button(tobias, 'Write an inspection').getAttribute('aria-disabled')).toBe('true');

    // Otto is told of what was done, once, and not of what only was tried.
    await pages.demo.tell();
    await pages.demo.tell();
    const told = () => pages.demo.tray.messages.filter((m) => m.to.includes('otto@alderbrook.example') && m.text?.includes('You follow this hive'));
    // Each letter is delivered by itself.
    const heads = () => new Set(told().map(({ text }) => text?.split('.')[0]));
    await expect.poll(heads).toEqual(new Set(['Tobias Renn wrote an inspection of Damson hive', 'Tobias Renn changed Damson hive']));
    const before = told().length;
    await pages.demo.tell();
    expect(told().length).toBe(before);

    await at(maren, 'hives/a-hive-04');
    await maren.getByLabel('To', { exact: true }).selectOption('the group Heath helpers');
    await maren.getByLabel('Role', { exact: true }).selectOption('Site warden');
    await maren.getByLabel('Until').fill(nextWeek);
    await carryOut(maren);
    await maren.getByText('the group Heath helpers: Site warden, until').waitFor();
    const lene = await enter('lene');
    expect((await lene.find('hive')).map(({ id }) => id)).toEqual(['a-hive-04']);
    expect((await lene.decideById('hive.update', 'a-hive-04')).allowed).toBe(true);

    await at(tobias, 'hives');
    await button(tobias, 'Add a hive').click();
    await tobias.getByLabel('Name').fill('Added by mistake');
    await button(tobias, 'Add').click();
    await tobias.getByRole('heading', { name: 'Added by mistake' }).waitFor();
    await button(tobias, 'Delete').click();
    await tobias.getByRole('heading', { name: 'Hives', exact: true }).waitFor();
    expect((await (await enter('maren')).find('hive', { where: { name: 'Added by mistake' } })).length).toBe(0);
  },
);

testLong('a deputy is named and ended; what a group owns is shared; a site holds a role; somebody gets one permission more', { timeout: 90_000 }, async () => {
  const sela = await pages.as('sela');
  await at(sela, 'deputies');
  await button(sela, 'Name a deputy').click();
  await sela.getByLabel('Deputy', { exact: true }).selectOption('Lene Arp');
  for (const may of ['See a hive', 'Change a hive']) await sela.getByLabel(may).check();
  await sela.getByLabel('Until').fill(nextWeek);
  await carryOut(sela);
  await sela.getByRole('row', { name: /Lene Arp you/ }).waitFor();
  expect((await (await enter('lene')).decideById('hive.update', 'a-hive-02')).allowed).toBe(true);
  await button(sela, 'End: Lene Arp for Sela Vardy').click();
  await carryOut(sela, false);
  await sela.getByText('Nobody stands in for anybody.').waitFor();

  await at(maren, 'groups');
  await button(maren, 'Make a group').click();
  await maren.getByLabel('Name of the group').fill('Orchard crew');
  await maren.getByLabel('Tobias Renn').check();
  await carryOut(maren);
  await at(maren, 'sharing');
  await button(maren, 'Share a group’s records').click();
  await maren.getByLabel('What the people of this group own').selectOption('Orchard crew');
  await maren.getByLabel('Is open to').selectOption('Pavel Lorne');
  await maren.getByLabel('Change a hive').check();
  await carryOut(maren);
  await maren.getByRole('row', { name: /Hives of Orchard crew|hives of Orchard crew/ }).waitFor();
  const owned = async () => (await (await enter('pavel')).find('hive', { limit: 100 })).every(({ keeperId }) => keeperId === 'tobias');
  expect([await owned(), (await (await enter('pavel')).find('hive')).length > 3]).toEqual([true, true]);

  await at(maren, 'units');
  await button(maren, 'Change Heath edge').click();
  await maren.getByLabel('Lene Arp').check();
  await maren.getByLabel('Reader', { exact: true }).check();
  await carryOut(maren);
  await maren.getByText('Everybody here: Reader').waitFor();
  expect((await enter('lene')).describe().line).toContain('Reader');
  await at(maren, 'members/lene');
  // The way back leads to what gives it.
  await maren.getByRole('link', { name: 'Reader, through Heath edge' }).first().click();
  await maren.locator('.marked', { hasText: 'Heath edge' }).waitFor();

  await at(maren, 'members/pavel');
  const single = maren.getByRole('region', { name: 'Single permissions of Pavel Lorne' });
  await single.getByLabel('May also').selectOption({ label: 'Hives: Inspect a hive' });
  await single.getByLabel('How far').selectOption('all');
  await single.getByLabel('Until').fill(nextWeek);
  await single.getByRole('button', { name: 'See what it does' }).click();
  await carryOut(maren, false);
  await single.getByText('Inspect a hive: all, until').waitFor();
  await button(maren, 'Take from Pavel Lorne: Inspect a hive').click();
  await carryOut(maren, false);
  await single.getByText('Inspect a hive: all, until').waitFor({ state: 'detached' });
});

testLong(
  'a role is made from another, with what it needs added by one press; an invitation places and puts into groups; nobody books what they wrote',
  {
    timeout: 90_000,
  },
  async () => {
    const check = (name: string, to = true) => maren.getByLabel(name, { exact: true }).setChecked(to);
    await at(maren, 'roles');
    await button(maren, 'Make a role').click();
    await maren.getByLabel('Name of the role').fill('Bookkeeper');
    await maren.getByLabel('Start from').selectOption('Treasurer');
    await check('Write a ledger entry', false);
    await check('File a disease report');
    await maren.getByText('Brings along: the veterinary office is told.').waitFor();
    await check('Change roles');
    await maren.getByText('It does not work without: See the members.').waitFor();
    await button(maren, 'Add what “Change roles” needs').click();
    expect(await maren.getByLabel('See the members', { exact: true }).isChecked()).toBe(true);
    await maren.getByLabel('Its holder starts at').selectOption('Ledger');
    await carryOut(maren);
    await maren.getByRole('columnheader', { name: /Bookkeeper/ }).waitFor();
    const roles = await (await enter('maren')).tenant.roles();
    expect(roles.find(({ label }) => label === 'Bookkeeper')).toMatchObject({
      startsAt: 'ledger',
      may: { 'entry.read': ['base'], 'member.assign': ['tenant'], 'member.read': ['tenant'], 'report.create': ['filed'] },
    });

    await at(maren, 'members');
    await button(maren, 'Invite people').click();
    const dialog = maren.getByRole('dialog');
    await dialog.getByLabel('Addresses').fill('nora@alderbrook.example');
    await dialog.getByLabel('Junior', { exact: true }).check();
    await dialog.getByRole('group', { name: 'Placed at' }).getByLabel('Junior yard').check();
    await dialog.getByRole('region', { name: 'What this opens' }).getByText('on site, now 6 of 24').waitFor();
    await button(maren, 'Send the invitation').click();
    await dialog.getByText('is on its way').waitFor();
    const [sent] = await (await enter('maren')).invitations.list({ limit: 1 });
    expect(sent).toMatchObject({ address: 'nora@alderbrook.example', gives: { units: ['junior-yard'] } });

    const pavel = await pages.as('pavel');
    await at(pavel, 'ledger');
    await button(pavel, 'Write an entry').click();
    await pavel.getByLabel('What for').fill('Sugar for the winter');
    await pavel.getByLabel('Amount').fill('-18.40');
    await button(pavel, 'Write it down').click();
    await pavel.getByText('Sugar for the winter').waitFor();
    await pavel.getByText('nobody books what they wrote').waitFor();
    expect(await button(pavel, /^Book/).count()).toBe(0);
    await at(maren, 'ledger');
    await button(maren, 'Book: Sugar for the winter').click();
    await button(maren, 'Book: Sugar for the winter').waitFor({ state: 'detached' });

    await at(maren, 'organisation');
    await maren.getByLabel('Whom to ask').fill('Wim Castell, in the office');
    await button(maren, 'See what it does').first().click();
    await button(maren, 'Carry it out').click();
    await expect.poll(async () => (await enter('maren')).facts.tenant.contact).toBe('Wim Castell, in the office');
    await maren.getByLabel('Whoever works with them sees').selectOption('written');
    await button(maren, 'See what it does').last().click();
    await carryOut(maren, false);
    expect((await (await enter('pavel')).find('entry')).every(({ madeBy }) => madeBy === 'pavel')).toBe(true);
  },
);

test('in a hand the menu folds, tables are lists, and no page is wider than the window', { timeout: 90_000 }, async () => {
  const page = await pages.as('maren', 390);
  const menu = button(page, 'Menu');
  const areas = page.getByRole('navigation', { name: 'Areas' });
  await menu.waitFor();
  expect(await areas.isVisible()).toBe(false);
  await menu.click();
  await areas.getByRole('link', { name: 'Members' }).click();
  await page.getByRole('heading', { name: 'Members', exact: true }).waitFor();
  expect(await areas.isVisible()).toBe(false);
  const [name, address] = await Promise.all(['Tobias Renn', 'tobias@alderbrook.example'].map((text) => page.getByText(text, { exact: true }).boundingBox()));
  expect((address?.y ?? 0) > (name?.y ?? 0)).toBe(true);
  const paths = ['hives', 'hives/a-hive-01', 'ledger', 'health', 'sheets', 'members', 'members/tobias', 'organisation', 'roles', 'groups', 'units', 'sharing'];
  const all = [...paths, 'programs', 'rules', 'connections', 'appeals', 'record', 'access', 'deputies', '../../me'];
  // A third of them; all in the long run.
  for (const path of LONG ? all : all.filter((_, i) => i % 8 === 1)) {
    await at(page, path);
    await page.getByRole('heading', { level: 1 }).waitFor();
    expect([path, await page.evaluate(() => document.documentElement.scrollWidth)]).toEqual([path, 390]);
  }
});
