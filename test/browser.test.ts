/* The example in a real browser, from signing up to the page that is not there; and the core alone, in a bundle. */
import { gzipSync } from 'node:zlib';
import { build } from 'esbuild';
import { sql } from 'kysely';
import { Secret, TOTP } from 'otpauth';
import type { Page } from 'playwright-core';
import { preview } from 'vite';
import { afterAll, afterEach, beforeAll, expect, test } from 'vitest';
import { Standing } from 'warm-lintel';
import { DEMO_PASSWORD } from '../examples/apiary/server/main.js';
import { charter } from '../examples/apiary/world/charter.js';
import { openApiary, type Pages } from './apiary-pages.js';
import { axe } from './chromium.js';
import { LONG, testLong } from './long.js';
import { buildPages } from './setup.js';

/** As they are from the start; a test renews them. */
const terms = { version: '1', from: new Date(0) };
let pages: Pages;
let { demo, base, newcomer, signIn, followLetter } = {} as Pages;
beforeAll(async () => {
  pages = await openApiary({ terms });
  ({ demo, base, newcomer, signIn, followLetter } = pages);
});
afterEach(() => pages.leave());
afterAll(() => pages?.close());

test('sign up, invite, open the mail in the tray, accept as a new person, see the scoped list, guess an id', async () => {
  const owner = await newcomer();
  await owner.goto(`${base}/sign-up`);
  await owner.getByLabel('E-mail address').fill('greta@thornfield.example');
  await owner.getByRole('button', { name: 'Sign up' }).click();
  await owner.getByText('A message is on its way to greta@thornfield.example.').waitFor();
  await followLetter(owner, 'greta@thornfield.example', /activate#/);
  await owner.getByLabel('Your name').fill('Greta Vann');
  await owner.getByRole('textbox', { name: 'Choose a password' }).fill('a password of my own');
  await owner.getByLabel('Name of your association').fill('Thornfield Bees');
  await owner.getByRole('button', { name: 'Make my account' }).click();
  await owner.getByRole('heading', { name: 'Hives' }).waitFor();
  await owner.getByRole('button', { name: 'Add a hive' }).click();
  await owner.getByRole('textbox', { name: 'Name' }).fill('Thorn hive');
  await owner.getByRole('button', { name: 'Add', exact: true }).click();
  await owner.getByRole('heading', { name: 'Thorn hive' }).waitFor();

  await owner.getByRole('link', { name: 'Members' }).click();
  await owner.getByRole('button', { name: 'Invite people' }).click();
  await owner.getByText('they would find nothing here').waitFor();
  await owner.getByLabel('Addresses').fill('ivo@thornfield.example');
  await owner.getByLabel('Keeper', { exact: true }).check();
  await owner.getByRole('region', { name: 'What this opens' }).getByText('Change a hive').waitFor();
  await owner.getByRole('button', { name: 'Send the invitation' }).click();
  await owner.getByText('An invitation is on its way to ivo@thornfield.example.').waitFor();

  const ivo = await newcomer();
  await followLetter(ivo, 'ivo@thornfield.example', /invitation#/, 'Greta Vann invites you to Thornfield Bees');
  await ivo.getByLabel('Your name').fill('Ivo Marr');
  await ivo.getByRole('textbox', { name: 'Choose a password' }).fill('another password of my own');
  await ivo.getByRole('button', { name: 'Make an account and accept' }).click();
  await ivo.getByRole('heading', { name: 'Hives' }).waitFor();
  expect(await ivo.getByRole('table', { name: 'Hives' }).getByRole('link').allTextContents()).toEqual(['Thorn hive']);
  await ivo.getByRole('link', { name: 'Thorn hive' }).click();
  const grey = ivo.getByRole('button', { name: 'Change' });
  expect(await grey.getAttribute('aria-disabled')).toBe('true');
  const why = (await grey.getAttribute('aria-describedby'))?.split(' ').map((id) => ivo.locator(`#${id}`).textContent()) ?? [];
  expect((await Promise.all(why)).join(' ')).toMatch(/only where you are the keeper or keeper is empty. That is not so for Thorn hive/);

  await ivo.goto(`${ivo.url().replace(/hives\/.*/, 'hives/a-hive-01')}`);
  await ivo.getByRole('heading', { name: 'There is no such page' }).waitFor();
  await ivo.goto(`${base}/t/alderbrook/hives`);
  await ivo.getByRole('heading', { name: 'There is no such page' }).waitFor();
});

testLong('a forgotten password is chosen anew by a letter; who guesses locks the owner out nowhere that they have been', async () => {
  const owner = await newcomer();
  await signIn(owner, 'hanne@alderbrook.example');
  await owner.getByRole('button', { name: 'Sign out' }).click();
  await owner.getByRole('link', { name: 'I have forgotten my password' }).click();
  await owner.getByLabel('E-mail address').fill('hanne@alderbrook.example');
  await owner.getByRole('button', { name: 'Send me a link' }).click();
  await owner.getByText('A message is on its way to hanne@alderbrook.example.').waitFor();
  await followLetter(owner, 'hanne@alderbrook.example', /recover#/);
  const password = owner.getByRole('textbox', { name: 'Choose a password' });
  await password.fill('hanne');
  await owner.getByRole('button', { name: 'Change my password' }).click();
  await owner.getByText('A password has at least 15 characters.').waitFor();
  await password.fill('a river full of trout');
  await owner.getByRole('button', { name: 'Change my password' }).click();
  await owner.getByRole('heading', { name: 'Your password is changed' }).waitFor();
  await owner.getByRole('link', { name: 'Sign in' }).click();
  const enter = async (page: Page, secret: string) => {
    await page.getByLabel('E-mail address').fill('hanne@alderbrook.example');
    await page.getByRole('textbox', { name: 'Password' }).fill(secret);
    await page.getByRole('button', { name: 'Sign in', exact: true }).click();
  };
  await enter(owner, 'a river full of trout');
  await owner.getByRole('button', { name: 'Sign out' }).click();
  const stranger = await newcomer();
  await stranger.goto(base);
  const wrong = stranger.getByText('Address and password do not fit together');
  await enter(stranger, 'a guess');
  await wrong.waitFor();
  // As the tenth wrong try leaves it.
  const locked = (until: string) => sql`update lintel_try set wrong = 10, open_at = now() + ${until}::interval`.execute(demo.lintel.db);
  await locked('15 minutes');
  const refused = stranger.waitForResponse((answer) => answer.url().endsWith('/account/sign-in'));
  await enter(stranger, 'a river full of trout');
  expect((await refused).status()).toBe(401);
  await wrong.waitFor();
  await enter(owner, 'a river full of trout');
  await owner.getByRole('button', { name: 'Sign out' }).waitFor();
  await locked('-1 second');
  await enter(stranger, 'a river full of trout');
  await stranger.getByRole('button', { name: 'Sign out' }).waitFor();
});

testLong('a second factor is added by a letter, and asked for; what is dangerous asks again who one is, in place; sessions are ended elsewhere', async () => {
  const page = await newcomer();
  await signIn(page, 'otto@alderbrook.example');
  const elsewhere = await newcomer();
  await signIn(elsewhere, 'otto@alderbrook.example');
  await page.goto(`${base}/me`);
  await page.getByRole('button', { name: 'Sign out there' }).click();
  await expect.poll(() => page.getByRole('button', { name: 'Sign out there' }).count()).toBe(0);
  await elsewhere.reload();
  await elsewhere.getByRole('heading', { name: 'Sign in' }).waitFor();
  // Signed in for long.
  await sql`update lintel_session set proven_at = proven_at - interval '1 hour'`.execute(demo.lintel.db);
  await page.getByRole('button', { name: 'Add a second factor' }).click();
  await page.getByText('Show again who you are', { exact: true }).waitFor();
  await page.getByRole('textbox', { name: 'Your password' }).fill(DEMO_PASSWORD);
  await page.getByRole('button', { name: 'Go on' }).click();
  await page.getByText('A message is on its way to otto@alderbrook.example.').waitFor();
  await followLetter(page, 'otto@alderbrook.example', /factor#/);
  await page.getByRole('button', { name: 'Show me the picture' }).click();
  const secret = (await page.locator('code').textContent()) as string;
  const totp = new TOTP({ secret: Secret.fromBase32(secret) });
  await page.getByRole('textbox', { name: 'Code' }).fill(totp.generate());
  await page.getByRole('button', { name: 'From now on, with a code' }).click();
  await page.getByRole('heading', { name: 'Your second factor counts' }).waitFor();
  const codes = await page.locator('li').allTextContents();
  expect(codes).toHaveLength(10);
  await page.getByRole('link', { name: 'I have kept them' }).click();
  await page.getByText('Signing in takes a code of your authenticator').waitFor();

  await elsewhere.getByLabel('E-mail address').fill('otto@alderbrook.example');
  await elsewhere.getByRole('textbox', { name: 'Password' }).fill(DEMO_PASSWORD);
  await elsewhere.getByRole('button', { name: 'Sign in', exact: true }).click();
  await elsewhere.getByRole('heading', { name: 'Second factor' }).waitFor();
  await elsewhere.getByLabel('Code of your authenticator').fill('000000');
  await elsewhere.getByRole('button', { name: 'Sign in', exact: true }).click();
  await elsewhere.getByText('Address and password do not fit together').waitFor();
  // A code that is shown next is right by the drift that is allowed.
  await elsewhere.getByLabel('Code of your authenticator').fill(totp.generate({ timestamp: Date.now() + 30_000 }));
  await elsewhere.getByRole('button', { name: 'Sign in', exact: true }).click();
  await elsewhere.getByRole('button', { name: 'Sign out' }).click();
  await elsewhere.getByLabel('E-mail address').fill('otto@alderbrook.example');
  await elsewhere.getByRole('textbox', { name: 'Password' }).fill(DEMO_PASSWORD);
  await elsewhere.getByRole('button', { name: 'Sign in', exact: true }).click();
  await elsewhere.getByRole('button', { name: 'Use a recovery code' }).click();
  await elsewhere.getByLabel('Recovery code').fill(codes[3] as string);
  await elsewhere.getByRole('button', { name: 'Sign in', exact: true }).click();
  await elsewhere.getByRole('button', { name: 'Sign out' }).waitFor();
});

testLong('a passkey is made by a letter, signs in alone, and is what a password is not enough beside; what it answered counts once', async () => {
  const page = await newcomer();
  const devices = await page.context().newCDPSession(page);
  await devices.send('WebAuthn.enable');
  const options = {
    protocol: 'ctap2',
    transport: 'internal',
    hasResidentKey: true,
    hasUserVerification: true,
    isUserVerified: true,
    automaticPresenceSimulation: true,
  } as const;
  await devices.send('WebAuthn.addVirtualAuthenticator', { options });
  await signIn(page, 'pavel@alderbrook.example');
  await page.goto(`${base}/me`);
  await page.getByRole('button', { name: 'Add a second factor' }).click();
  await page.getByText('A message is on its way to pavel@alderbrook.example.').waitFor();
  await followLetter(page, 'pavel@alderbrook.example', /factor#/);
  await page.getByRole('button', { name: 'Make a passkey instead' }).click();
  await page.getByRole('heading', { name: 'Your second factor counts' }).waitFor();
  await page.getByRole('link', { name: 'I have kept them' }).click();
  await page.getByRole('region', { name: 'Passkeys' }).getByRole('button', { name: 'Remove' }).waitFor();

  await page.goto(base);
  await page.getByRole('button', { name: 'Sign out' }).click();
  const answered = page.waitForRequest((request) => request.url().endsWith('/passkeys/sign-in'));
  await page.getByRole('button', { name: 'Sign in with a passkey' }).click();
  const sent = (await answered).postDataJSON();
  await page.getByRole('button', { name: 'Sign out' }).waitFor();
  // The same answer once more is none, and neither is one for another purpose.
  const again = (path: string, data: unknown) => page.request.post(`${base}/lintel/account/${path}`, { data, headers: { origin: base } });
  expect([(await again('passkeys/sign-in', sent)).status(), (await again('prove', sent)).status()]).toEqual([401, 401]);

  // Proof in place, by the passkey.
  await sql`update lintel_session set proven_at = proven_at - interval '1 hour'`.execute(demo.lintel.db);
  await page.goto(`${base}/me`);
  await page.getByRole('button', { name: 'New recovery codes' }).click();
  await page.getByRole('button', { name: 'With a passkey' }).click();
  await page.getByText('They are shown this once').waitFor();

  await page.goto(base);
  await page.getByRole('button', { name: 'Sign out' }).click();
  await page.getByLabel('E-mail address').fill('pavel@alderbrook.example');
  await page.getByRole('textbox', { name: 'Password' }).fill(DEMO_PASSWORD);
  await page.getByRole('button', { name: 'Sign in', exact: true }).click();
  await page.getByRole('heading', { name: 'Second factor' }).waitFor();
  await page.getByRole('button', { name: 'Use a passkey' }).click();
  await page.getByRole('button', { name: 'Sign out' }).waitFor();
});

testLong(
  'somebody enrolled comes in by what was handed over, by a password of their own and nowhere else; terms in a new version, and what an association demands',
  async () => {
    const rosa = await newcomer();
    await signIn(rosa, 'rosa@quillmoor.example');
    const enrol = async (name: string, address: string) => {
      await rosa.goto(`${base}/t/quillmoor/members`);
      await rosa.getByRole('button', { name: 'Enrol somebody' }).click();
      const form = rosa.getByRole('dialog', { name: 'Enrol somebody' });
      await form.getByLabel('Name').fill(name);
      await form.getByLabel('E-mail address').fill(address);
      await form.getByLabel('Keeper', { exact: true }).check();
      await form.getByRole('button', { name: 'See what it does' }).click();
      return rosa.getByRole('dialog', { name: `Enrol ${name}` });
    };
    const carryOut = async (dialog: Awaited<ReturnType<typeof enrol>>) => {
      await dialog.getByRole('button', { name: 'Carry it out' }).click();
      return (await rosa.getByRole('status').locator('pre').textContent()) as string;
    };
    // The terms are accepted in the middle of it, in each version once.
    let dialog = await enrol('Bram Oakley', 'bram@oakley.example');
    await dialog.getByRole('button', { name: 'I accept version 1' }).click();
    const way = await carryOut(dialog);
    expect(await carryOut(await enrol('Una Fell', 'una@fell.example'))).toContain('/enrolled#');
    terms.version = '2';
    dialog = await enrol('Cato Wick', 'cato@wick.example');
    await dialog.getByRole('button', { name: 'I accept version 2' }).click();
    await carryOut(dialog);

    const bram = await newcomer();
    await bram.goto(way);
    await bram.getByText('Bram Oakley, bram@oakley.example').waitFor();
    await bram.getByRole('textbox', { name: 'Choose a password' }).fill('a barrel full of pears');
    await bram.getByRole('button', { name: 'Choose this password' }).click();
    await bram.getByRole('heading', { name: 'Hives' }).waitFor();
    await bram.goto(`${base}/t/alderbrook/hives`);
    await bram.getByRole('heading', { name: 'There is no such page' }).waitFor();
    await bram.goto(`${base}/me`);
    await bram.getByText('has made this account and says what stands here').waitFor();
    await bram.goto(`${base}/t/quillmoor`);
    await bram.getByRole('button', { name: 'Sign out' }).click();
    const enter = async () => {
      await bram.getByLabel('E-mail address').fill('bram@oakley.example');
      await bram.getByRole('textbox', { name: 'Password' }).fill('a barrel full of pears');
      await bram.getByRole('button', { name: 'Sign in', exact: true }).click();
    };
    await enter();
    await bram.getByText('Address and password do not fit together').waitFor();
    await bram.goto(`${base}/t/quillmoor`);
    await enter();
    await bram.getByRole('heading', { name: 'Hives' }).waitFor();
    // What was handed over is used up.
    const late = await newcomer();
    await late.goto(way);
    await late.getByText('This does not count any more.').waitFor();
    await rosa.goto(`${base}/t/quillmoor/members`);
    await rosa.getByRole('link', { name: 'Bram Oakley' }).click();
    await rosa.getByText('An account that this association keeps. Last came in on').waitFor();

    // Nobody asks of others what they do not do; then everybody is led to it.
    await rosa.goto(`${base}/t/quillmoor/rules`);
    await rosa.getByLabel('Everybody signs in with a second factor').check();
    await rosa.getByRole('button', { name: 'See what it does' }).click();
    await rosa.getByText('You would shut yourself out.').waitFor();
    await sql`update lintel_session set methods = '{hwk,mfa}' where person_id = 'rosa'`.execute(demo.lintel.db);
    await rosa.reload();
    await rosa.getByLabel('Everybody signs in with a second factor').check();
    await rosa.getByRole('button', { name: 'See what it does' }).click();
    await rosa.getByRole('button', { name: 'Carry it out' }).click();
    await rosa.getByRole('dialog', { name: 'Rules' }).waitFor({ state: 'detached' });
    await bram.reload();
    await bram.getByText('sign in with a second factor, as Quillmoor').waitFor();
    expect(await bram.getByRole('heading', { name: 'Hives' }).count()).toBe(0);
    await bram.getByRole('link', { name: 'Add one' }).click();
    await bram.getByRole('button', { name: 'Show me the picture' }).click();
    const totp = new TOTP({ secret: Secret.fromBase32((await bram.locator('code').textContent()) as string) });
    await bram.getByRole('textbox', { name: 'Code' }).fill(totp.generate());
    await bram.getByRole('button', { name: 'From now on, with a code' }).click();
    await bram.getByRole('heading', { name: 'Your second factor counts' }).waitFor();
    await bram.goto(`${base}/t/quillmoor`);
    await bram.getByRole('heading', { name: 'Hives' }).waitFor();
    await sql`update lintel_tenant set demands = '{}' where id = 'quillmoor'`.execute(demo.lintel.db);
  },
);

testLong('a list of people is read whole, told with its mistakes, and carried out', async () => {
  const page = await newcomer();
  await signIn(page, 'maren@alderbrook.example');
  await page.goto(`${base}/t/alderbrook/members`);
  await page.getByRole('button', { name: 'From a list' }).click();
  const dialog = page.getByRole('dialog', { name: 'People from a list' });
  const choose = (text: string) => page.locator('input[type=file]').setInputFiles({ name: 'people.csv', mimeType: 'text/csv', buffer: Buffer.from(text) });
  await choose('address,roles\nhugo@list.example,Keepr\nida@list.example,Keeper\n');
  await dialog.getByText('1 mistake; nothing was done.').waitFor();
  await dialog.getByText('no role “Keepr”; did you mean keeper?').waitFor();
  expect(await dialog.getByRole('button', { name: 'Carry it out' }).count()).toBe(0);
  await choose('address,roles\nhugo@list.example,Keeper\nida@list.example,Keeper\n');
  await dialog.getByText('It would be so; nothing was done yet: 2 invited, 0 changed, 0 as they are, 0 refused.').waitFor();
  expect((await axe(page)).filter((v) => v.impact === 'serious' || v.impact === 'critical')).toEqual([]);
  await dialog.getByRole('button', { name: 'Carry it out' }).click();
  await dialog.getByText('Done: 2 invited').waitFor();
  await page.keyboard.press('Escape');
  await page.getByRole('table', { name: 'Invited' }).getByText('hugo@list.example').waitFor();
});

testLong('people come by the county’s provider and the guild’s: with what these say, less when they say less, and out when somebody here says so', async () => {
  const maren = await newcomer();
  await signIn(maren, 'maren@alderbrook.example');
  for (const { way, who, name, site, people, lost, elsewhere } of [
    {
      way: 'The county’s sign-in',
      who: 'c-1017',
      name: 'Nora Fern',
      site: 'Heath edge',
      people: demo.county.people,
      lost: 'Ulla Brandt',
      elsewhere: 'Finn Dorn',
    },
    { way: 'The guild’s sign-in', who: 'g-201', name: 'Ebba Lind', site: 'Mill meadow', people: demo.guild.people, lost: undefined, elsewhere: 'Arno Beck' },
  ]) {
    const comes = async (person: string, page?: Page) => {
      const at = page ?? (await newcomer());
      await at.goto(`${base}/t/alderbrook`);
      await at.getByRole('link', { name: `Go to ${way}` }).click();
      // Who was there lately is known there still.
      const choice = at.getByRole('button', { name: person });
      await Promise.race([
        choice.waitFor(),
        at.getByRole('button', { name: 'Sign out' }).waitFor(),
        at.getByRole('heading', { name: /^Not signed in/ }).waitFor(),
      ]);
      if (await choice.isVisible()) await choice.click();
      return at;
    };
    const page = await comes(name);
    await page.getByText(`Keeper, Site warden at ${site}`).waitFor();
    expect(new URL(page.url()).pathname).toBe('/t/alderbrook/hives');
    await page.getByRole('button', { name: 'Sign out' }).click();
    await page.getByRole('heading', { name: 'Sign in' }).waitFor();

    // All that follows is the same by both: by the guild in the long run alone.
    if (!lost && !LONG) continue;
    // One group less: exactly that is lost.
    const listed = people[who] as (typeof people)[string];
    listed.groups = ['beekeepers', 'choir'];
    await comes(name, page);
    await page.getByText(/· Keeper$/).waitFor();
    // What nobody knows gives nothing, and is said.
    await maren.goto(`${base}/t/alderbrook/connections`);
    const card = maren.getByRole('region', { name: way });
    await card.getByRole('button', { name: 'Rules' }).click();
    await maren.getByRole('textbox', { name: 'Claims to try them with' }).fill(JSON.stringify({ sub: who, ...listed }));
    await maren.getByRole('button', { name: 'Try it' }).click();
    await maren.getByText('Not known in groups: choir. That gives nothing.').waitFor();
    // The header of a dialog is one more banner to axe, as in every dialog of these components.
    if (lost) expect((await axe(maren)).filter(({ id }) => !/banner|landmark/.test(id))).toEqual([]);
    await maren.keyboard.press('Escape');

    // A site that is not there is refused, and never everything instead.
    const refused = await comes(elsewhere);
    await refused.getByText('“Far meadow”').waitFor();
    if (lost) expect(await axe(refused)).toEqual([]);
    if (lost) await (await comes(lost)).getByText('The county does not list you as a member of Alderbrook.').waitFor();

    // Removed here, they stay out, until somebody lets them in again.
    await maren.goto(`${base}/t/alderbrook/members`);
    await maren.getByRole('link', { name }).click();
    await maren.getByText(`Keeper by ${way}`).waitFor();
    await maren.getByRole('button', { name: 'Remove' }).click();
    await maren.getByRole('button', { name: 'Carry it out' }).click();
    await expect
      .poll(async () => (await demo.lintel.enter({ tenant: 'alderbrook', user: 'maren' })).members.list().then((all) => all.some((one) => one.name === name)))
      .toBe(false);
    await page.context().clearCookies();
    await (await comes(name, page)).getByText('Ask there to be let in again.').waitFor();
    await maren.goto(`${base}/t/alderbrook/connections`);
    await maren.getByRole('row', { name }).getByRole('button', { name: 'Let in again' }).click();
    await maren.getByRole('button', { name: 'Carry it out' }).click();
    await expect.poll(() => maren.getByRole('button', { name: 'Let in again' }).count()).toBe(0);
    await maren.reload();
    await maren.getByRole('heading', { name: 'Sign-in by providers' }).waitFor();
    if (lost) expect(await axe(maren)).toEqual([]);
    await comes(name, page);
    await page.getByText(/· Keeper$/).waitFor();
  }

  // A domain that is shown to be theirs: who writes an address of it is led to the provider, from the page of no association.
  await maren.goto(`${base}/t/alderbrook/connections`);
  const carryOut = () => maren.getByRole('button', { name: 'Carry it out' }).click();
  await maren.getByLabel('Another domain').fill('county.example');
  await maren.getByRole('button', { name: 'Add', exact: true }).click();
  await carryOut();
  await maren.getByRole('button', { name: 'Look for it' }).click();
  await maren.getByLabel('Provider for county.example').selectOption({ label: 'The county’s sign-in' });
  await carryOut();
  await maren.getByRole('dialog').waitFor({ state: 'detached' });
  const led = await newcomer();
  await led.goto(base);
  await led.getByLabel('E-mail address').fill('nobody@county.example');
  await led.getByRole('textbox', { name: 'Password' }).focus();
  await led.getByRole('link', { name: 'Go to The county’s sign-in' }).click();
  await led.getByRole('button', { name: 'Nora Fern' }).click();
  await led.getByText(/· Keeper$/).waitFor();
});

test('two tabs in two tenants do not mix', async () => {
  const first = await newcomer();
  // One click enters as somebody of the demo.
  await first.goto(base);
  await first.getByRole('button', { name: 'Sela Vardy' }).click();
  await first.getByRole('button', { name: 'Sign out' }).waitFor();
  const second = await first.context().newPage();
  await first.goto(`${base}/t/alderbrook/hives`);
  await second.goto(`${base}/t/quillmoor/hives`);
  await second.getByRole('heading', { name: 'Hives' }).waitFor();
  // A reader there: the button says why it is grey.
  expect(await second.getByRole('button', { name: 'Add a hive' }).getAttribute('aria-disabled')).toBe('true');
  await first.getByRole('button', { name: 'Add a hive' }).click();
  await first.getByRole('textbox', { name: 'Name' }).fill('From the first tab');
  await first.getByRole('button', { name: 'Add', exact: true }).click();
  await first.getByRole('heading', { name: 'From the first tab' }).waitFor();
  await second.reload();
  await second.getByRole('table', { name: 'Hives' }).waitFor();
  expect(await second.getByText('From the first tab').count()).toBe(0);
  await second.getByLabel('Organisation').selectOption('alderbrook');
  await second.getByRole('link', { name: 'From the first tab' }).waitFor();
});

testLong('somebody invited under another address is told so, and a member without roles whom to ask', async () => {
  const maren = await newcomer();
  await signIn(maren, 'maren@alderbrook.example');
  await maren.goto(`${base}/t/alderbrook/members`);
  await maren.getByRole('button', { name: 'Invite people' }).click();
  await maren.getByLabel('Addresses').fill('someone@alderbrook.example');
  await maren.getByRole('button', { name: 'Send the invitation' }).click();
  await maren.getByText('is on its way').waitFor();
  await expect.poll(() => demo.tray.messages.some((m) => m.to.includes('someone@alderbrook.example'))).toBe(true);
  const link = /http\S+/.exec(demo.tray.messages.find((m) => m.to.includes('someone@alderbrook.example'))?.text ?? '')?.[0] ?? '';
  const mads = await newcomer();
  await signIn(mads, 'mads@quillmoor.example');
  await mads.goto(link);
  await mads.getByText('You are signed in as mads@quillmoor.example').waitFor();
  expect(await mads.getByRole('button', { name: /Accept/ }).count()).toBe(0);
  const lene = await newcomer();
  await signIn(lene, 'lene@alderbrook.example');
  await lene.getByText('Ask Maren Holt, maren@alderbrook.example to give you one.').waitFor();
});

testLong('a change is shown before it is carried out; somebody asks, is let in, and is looked as', { timeout: 90_000 }, async () => {
  const maren = await newcomer();
  await signIn(maren, 'maren@alderbrook.example');
  await maren.goto(`${base}/t/alderbrook/rules`);
  await maren.getByLabel('Whoever has an account may ask to be let in').check();
  await maren.getByRole('button', { name: 'See what it does' }).click();
  await maren.getByText('Nobody gains or loses anything by it.').waitFor();
  await maren.getByRole('button', { name: 'Carry it out' }).click();
  await maren.getByRole('dialog').waitFor({ state: 'detached' });

  const mads = await newcomer();
  await signIn(mads, 'mads@quillmoor.example');
  await mads.goto(`${base}/t/alderbrook`);
  await mads.getByLabel('A few words about you').fill('I keep bees across the river');
  await mads.getByRole('button', { name: 'Ask', exact: true }).click();
  await mads.getByText('You have asked.').waitFor();

  await maren.goto(`${base}/t/alderbrook/members`);
  const asking = maren.getByRole('table', { name: 'Asking to be let in' });
  await asking.getByText('I keep bees across the river').waitFor();
  await asking.getByRole('button', { name: 'Let Mads Thorn in' }).click();
  await maren.getByLabel('Keeper', { exact: true }).check();
  await maren.getByRole('button', { name: 'See what it does' }).click();
  await maren.getByRole('dialog').getByText('Change a hive').waitFor();
  // Until it is said yes to, nothing is done.
  await mads.reload();
  await mads.getByRole('heading', { name: 'There is no such page' }).waitFor();
  await maren.getByRole('button', { name: 'Carry it out' }).click();
  await maren.getByRole('table', { name: 'Members' }).getByText('Mads Thorn').waitFor();
  await mads.reload();
  await mads.getByRole('table', { name: 'Hives' }).waitFor();

  await maren.getByRole('link', { name: 'Mads Thorn' }).click();
  await maren.getByRole('button', { name: 'Look as Mads Thorn' }).click();
  await maren.getByRole('status').getByText('Maren Holt looks as Mads Thorn').waitFor();
  const add = maren.getByRole('button', { name: 'Add a hive' });
  expect(await add.getAttribute('aria-disabled')).toBe('true');
  expect(await maren.getByRole('link', { name: 'Ledger' }).count()).toBe(0);
  // Another tab stands where it stood.
  const other = await maren.context().newPage();
  await other.goto(`${base}/t/alderbrook/ledger`);
  await other.getByRole('heading', { name: 'Ledger' }).waitFor();
  await maren.getByRole('button', { name: 'Look as yourself again' }).click();
  await maren.getByRole('heading', { name: 'Members' }).waitFor();
  expect(await maren.getByRole('status').count()).toBe(0);

  // What is taken away shows on a page that is open, as soon as one comes back to it.
  expect(await mads.getByRole('button', { name: 'Add a hive' }).getAttribute('aria-disabled')).toBeNull();
  const steps = [{ do: 'set-roles', holder: { user: 'mads' }, roles: [{ role: 'reader', anchor: { on: 'tenant' } }] }];
  const changed = await maren.request.post(`${base}/lintel/tenants/alderbrook/changes`, { data: { steps }, headers: { origin: base } });
  expect(changed.status()).toBe(200);
  await mads.evaluate(() => document.dispatchEvent(new Event('visibilitychange')));
  await expect.poll(() => mads.getByRole('button', { name: 'Add a hive' }).getAttribute('aria-disabled')).toBe('true');
});

testLong(
  'as somebody else a button stands as they have it; tried, it is answered as to them and taken back; the journal and the reasons are on the pages',
  {
    timeout: 90_000,
  },
  async () => {
    const maren = await newcomer();
    await signIn(maren, 'maren@alderbrook.example');
    const stored = async () =>
      JSON.stringify(
        (await demo.lintel.db
          .selectFrom('hives' as never)
          .selectAll()
          .orderBy('id' as never)
          .execute()) as unknown[],
      );
    const before = await stored();
    const asOneself = async () => {
      await maren.getByRole('button', { name: 'Look as yourself again' }).click();
      await maren.getByRole('heading', { name: 'Members' }).waitFor();
    };
    const change = maren.getByRole('button', { name: 'Change', exact: true });
    await maren.goto(`${base}/t/alderbrook/members/tobias`);
    await maren.getByRole('button', { name: 'Look as Tobias Renn' }).click();
    await maren.getByRole('status').getByText('Maren Holt looks as Tobias Renn').waitFor();
    await maren.goto(`${base}/t/alderbrook/hives/a-hive-01`);
    await maren.getByText('Tobias Renn could. It is not carried out here.').first().waitFor();
    expect(await change.getAttribute('aria-disabled')).toBe('true');
    await asOneself();
    await maren.goto(`${base}/t/alderbrook/members/tobias`);
    await maren.getByRole('button', { name: 'Try as Tobias Renn' }).click();
    await maren.getByRole('status').getByText('What is sent here is tried as them').waitFor();
    await maren.goto(`${base}/t/alderbrook/hives/a-hive-01`);
    await change.click();
    await maren.getByLabel('Name').fill('A name that was tried');
    await maren.getByRole('button', { name: 'Save' }).click();
    await maren.getByText('Tried: as Tobias Renn it would have been done. It was taken back.').waitFor();
    await maren.reload();
    await maren.getByRole('heading', { name: 'Amber hive' }).waitFor();
    expect(await stored()).toBe(before);
    expect((await axe(maren)).filter((v) => v.impact === 'serious' || v.impact === 'critical')).toEqual([]);
    await asOneself();
    const { audit } = await demo.lintel.enter({ tenant: 'alderbrook', user: 'maren' });
    expect((await audit.list({ limit: 2 })).map(({ what, actor, event }) => [what, actor, event.user ?? event.outcome])).toEqual([
      ['trial taken back', 'maren', 'answered 200'],
      ['tried as another', 'maren', 'tobias'],
    ]);

    await maren.goto(`${base}/t/alderbrook/members/junia`);
    await maren.getByRole('button', { name: 'Look as Junia Marsh' }).click();
    await maren.getByRole('status').getByText('Maren Holt looks as Junia Marsh').waitFor();
    const [hers] = (await (await demo.lintel.enter({ tenant: 'alderbrook', user: 'junia' })).find('hive', { limit: 1 })) as unknown as { id: string }[];
    await maren.goto(`${base}/t/alderbrook/hives/${hers?.id}`);
    await maren.getByText('No role of yours lets you change a hive').first().waitFor();
    expect(await change.count()).toBe(0);
    await asOneself();

    await maren.goto(`${base}/t/alderbrook/hives/a-hive-01`);
    await maren.getByRole('heading', { name: 'What was done' }).waitFor();
    await maren.getByText('name Amber hive (split) → Amber hive').waitFor();
    await maren.goto(`${base}/t/alderbrook/members/tobias`);
    await maren.getByText('hive Amber hive (split)').waitFor();
    const all = (await (await demo.lintel.enter({ tenant: 'alderbrook', user: 'maren' })).find('hive', { where: { keeperId: 'sela' } })) as unknown as {
      id: string;
      name: string;
    }[];
    const theirs = all.at(-1) as { id: string; name: string };
    await maren.getByLabel('Id of the hive').fill(theirs.id);
    await maren.getByRole('button', { name: 'Ask', exact: true }).click();
    await maren.getByText(`Tobias Renn may not change a hive: ${theirs.name}`).waitFor();
    await maren.getByRole('button', { name: 'What would give it' }).click();
    await maren.getByRole('listitem').filter({ hasText: 'give it for this record alone' }).getByRole('button', { name: 'Do this' }).click();
    await maren.getByRole('button', { name: 'Carry it out' }).click();
    await maren.getByText(`Tobias Renn may change a hive: ${theirs.name}`).waitFor();
    await maren.getByRole('dialog').waitFor({ state: 'detached' });
    expect((await axe(maren)).filter((v) => v.impact === 'serious' || v.impact === 'critical').map((v) => `${v.id}: ${v.nodes[0]?.html}`)).toEqual([]);
  },
);

testLong('what was refused is asked for on the page, and agreed to with one of the changes that would allow it', async () => {
  const tobias = await newcomer();
  await signIn(tobias, 'tobias@alderbrook.example');
  await tobias.goto(`${base}/t/alderbrook/hives/a-hive-02`);
  await tobias.getByRole('button', { name: 'Ask for it' }).first().click();
  await tobias.getByLabel('Why').fill('Sela is away for a week.');
  await tobias.getByRole('button', { name: 'Ask', exact: true }).click();
  await tobias.getByRole('status').getByText('Asked for.').waitFor();

  const maren = await newcomer();
  await signIn(maren, 'maren@alderbrook.example');
  await maren.goto(`${base}/t/alderbrook/appeals`);
  await maren.getByRole('button', { name: 'Answer Tobias Renn: Change a hive' }).click();
  await maren.getByRole('dialog').getByText('Sela is away for a week.').waitFor();
  await maren.getByRole('button', { name: 'Do this: give it for this record alone' }).click();
  await maren.getByRole('button', { name: 'Answer Tobias Renn: Change a hive' }).waitFor({ state: 'detached' });

  await tobias.getByRole('link', { name: 'What I asked for' }).click();
  await tobias.getByRole('listitem').getByText('agreed').waitFor();
  await expect.poll(() => demo.tray.messages.some((m) => m.to.includes('tobias@alderbrook.example') && m.text?.includes('It was agreed to'))).toBe(true);
  await tobias.goto(`${base}/t/alderbrook/hives/a-hive-02`);
  expect(await tobias.getByRole('button', { name: 'Change', exact: true }).getAttribute('aria-disabled')).toBeNull();
});

testLong(
  'pages can be used by keyboard and screen reader',
  async () => {
    const page = await newcomer();
    const findings = async () => (await axe(page)).filter((v) => v.impact === 'serious' || v.impact === 'critical').map((v) => `${v.id}: ${v.nodes[0]?.html}`);
    await page.goto(base);
    await page.getByRole('heading', { name: 'Sign in' }).waitFor();
    expect(await findings()).toEqual([]);
    // By keyboard alone.
    await page.getByLabel('E-mail address').focus();
    await page.keyboard.type('maren@alderbrook.example');
    await page.keyboard.press('Tab');
    await page.keyboard.type(DEMO_PASSWORD);
    await page.keyboard.press('Enter');
    await page.getByRole('button', { name: 'Sign out' }).waitFor();
    const paths = [
      'alderbrook/hives',
      'alderbrook/hives/a-hive-09',
      'alderbrook/members',
      'alderbrook/members/otto',
      'alderbrook/roles',
      'alderbrook/groups',
      'alderbrook/units',
      'alderbrook/organisation',
      'alderbrook/sharing',
      'alderbrook/deputies',
      'alderbrook/programs',
      'alderbrook/rules',
      'alderbrook/record',
      'alderbrook/appeals',
      'alderbrook/access',
      'alderbrook/ledger',
      '../mail',
      '../sign-up',
      '../activate#x',
      '../forgotten',
      '../recover#x',
      '../me',
      '../factor#x',
      '../address#x',
      '../enrolled#x',
      '../keep#x',
      'nowhere/hives',
    ];
    // A few of them; all in the long run.
    for (const path of LONG ? paths : []) {
      await page.goto(`${base}/t/${path}`);
      await page.getByRole('heading', { level: 1 }).waitFor();
      expect({ path, findings: await findings() }).toEqual({ path, findings: [] });
    }
    await page.goto(`${base}/t/alderbrook/members`);
    await page.getByRole('button', { name: 'Invite people' }).click();
    await page.getByRole('region', { name: 'What this opens' }).waitFor();
    await page.waitForTimeout(400);
    expect(await findings()).toEqual([]);
  },
  120_000,
);

testLong('without a server: the charter, the database, a table, a comparison and why are all in one page', { timeout: 120_000 }, async () => {
  const root = 'examples/browser-only';
  buildPages(root);
  const files = await preview({ configFile: `${root}/vite.config.ts`, logLevel: 'error', preview: { port: 0, host: '127.0.0.1' } });
  const address = files.resolvedUrls?.local[0] as string;
  const page = await newcomer();
  const asked: string[] = [];
  page.on('request', (request) => asked.push(request.url()));
  await page.goto(address);
  const table = page.getByRole('table', { name: 'Hives' });
  await table.waitFor({ timeout: 60_000 });
  await page.getByRole('button', { name: 'Compare' }).click();
  await page.getByText('only Sela Vardy: 5').waitFor();
  await page.getByText('only Tobias Renn: 8').waitFor();
  await page.getByRole('button', { name: 'Table' }).click();
  await table.getByRole('button', { name: 'Tobias Renn, Change a hive: own, unclaimed' }).click();
  await page.getByText('keeper is not Tobias Renn (it is Sela Vardy)').waitFor();
  await page.getByLabel('Hive', { exact: true }).selectOption({ label: 'Amber hive' });
  await page.getByText('Yes.').waitFor();
  expect((await axe(page)).map(({ id }) => id)).toEqual([]);
  // Its own files, and no answer of anybody.
  expect(asked.filter((url) => !url.startsWith(address) && !url.startsWith('blob:') && !url.startsWith('data:'))).toEqual([]);
  expect(asked.filter((url) => url.startsWith(address)).every((url) => /\/$|\.(html|css|js|wasm|data|ico)$/.test(url))).toBe(true);
  await files.close();
});

test('openStanding is at most 13 kB when compressed, needs nothing else, and answers in a browser like on the server', async () => {
  const bundle = async (code: string, globalName: string) => {
    const { outputFiles, metafile } = await build({
      stdin: { contents: code, resolveDir: 'src', loader: 'ts' },
      bundle: true,
      minify: true,
      format: 'iife',
      globalName,
      write: false,
      metafile: true,
      platform: 'browser',
      target: 'es2022',
    });
    return { text: outputFiles[0]?.text ?? '', inputs: Object.keys(metafile.inputs) };
  };
  const { text, inputs } = await bundle("export { openStanding } from './standing/index.js'; export { Charter } from './charter/charter.js';", 'lintel');
  expect(gzipSync(text, { level: 9 }).length).toBeLessThanOrEqual(13_000);
  const whole = await bundle("export * from './index.js';", 'lintel');
  for (const input of [...inputs, ...whole.inputs]) expect(input).toMatch(/^(src\/(base|predicate|charter|standing)\/|src\/index\.ts|src\/<stdin>|<stdin>)/);

  const standing = new Standing(charter, {
    charter: charter.hash,
    tenant: { id: 'alderbrook', name: 'A', open: true, contact: null, features: [] },
    subject: 'member',
    me: { userId: 'tobias', groupIds: [], unitIds: [], attributes: {} },
    assignments: [{ role: 'keeper', anchor: { on: 'tenant' } }],
    below: {},
    fulfilled: [],
  });
  const hives = [
    { keeperId: 'tobias', status: 'active' },
    { keeperId: 'sela', status: 'active' },
    { keeperId: null, status: 'archived' },
  ].map((h, i) => ({ id: String(i), tenantId: 'alderbrook', name: `H${i}`, ...h }));
  const page = await newcomer();
  await page.setContent('<p></p>');
  await page.addScriptTag({ content: whole.text });
  const there = await page.evaluate(
    ([data, snapshot, records]) => {
      const { openStanding, readCharter } = (globalThis as any).lintel;
      const opened = openStanding(readCharter(data), snapshot);
      return (records as object[]).map((record) => opened.decide('hive.update', record).words);
    },
    [JSON.parse(JSON.stringify(charter.data)), JSON.parse(JSON.stringify(standing.snapshot(60))), hives] as const,
  );
  expect(there).toEqual(hives.map((hive) => (standing as Standing<any>).decide('hive.update', hive).words));
});
