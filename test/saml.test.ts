/* Signing in by SAML 2.0: forgeries made from real answers, none of which lets anybody in. */
import fc from 'fast-check';
import type { Kysely } from 'kysely';
import { afterAll, beforeAll, expect, test, vi } from 'vitest';
import { everythingMet } from 'warm-lintel';
import { Accounts } from 'warm-lintel/accounts';
import { createFace, senderByCookie, signOnPages } from 'warm-lintel/http';
import { SignOn } from 'warm-lintel/provisioning';
import { type Assertion, assertionXml, type Guild, responseXml, signed, startGuild } from '../examples/apiary/provider/guild.js';
import { browserAt } from './browser-at.js';
import { type Club, club, code, whole } from './club.js';
import { LONG } from './long.js';

const SECRETS = ['a key of the application’s own, which is long'];
const ORIGIN = 'http://localhost:8080';
let lintel: Club;
let db: Kysely<any>;
let guild: Guild;
let foreign: Guild;
let pages: ReturnType<typeof signOnPages>;
let face: ReturnType<typeof createFace>;
const causes: string[] = [];
const keyholder = () => lintel.enter({ tenant: 'club', user: 'key', fulfilled: everythingMet(lintel.charter) });

beforeAll(async () => {
  [guild, foreign] = await Promise.all([startGuild({ port: 0 }), startGuild({ port: 0 })]);
  guild.people.ada = { name: 'Ada Fern', email: 'ada@guild.example', associations: ['club'], groups: ['writers', 'choir'] };
  ({ lintel, db } = await club());
  const accounts = new Accounts(lintel, { secrets: SECRETS });
  const signOn = new SignOn(lintel, { accounts, secrets: SECRETS, origin: ORIGIN, connections: { allowLocal: true } });
  const at = { accounts, secureCookies: false };
  pages = signOnPages(signOn, { ...at, onError: (error) => void causes.push(error instanceof Error ? error.message : String(error)) });
  face = createFace(lintel, { sender: senderByCookie(at), accounts: at, signOn, perMinute: 1_000_000 });
  const standing = await keyholder();
  const terms = { kind: 'saml', issuer: guild.issuer, signOnUrl: guild.signOnUrl, certificates: [guild.certificate] } as const;
  const rules = [
    { requires: 'associations', is: ['club'], words: 'Only the club comes in.' },
    { when: 'groups', is: ['writers'], gives: { roles: [whole('writer')] } },
  ] as const;
  await standing.carryOut([{ do: 'make-connection', id: 'guild', name: 'The guild', terms, rules }]);
  await standing.connections.try({ connection: 'guild', claims: { sub: 'x' } });
  await standing.carryOut([{ do: 'turn-connection', id: 'guild', to: 'on' }]);
});
afterAll(async () => {
  await Promise.all([guild.close(), foreign.close()]);
  await db.destroy();
});

const browser = () => browserAt(ORIGIN, { pages, face }, '/sign-on/club/guild');
const FAILED = '401 Sign-in failed. Start again. If it fails again, tell whoever runs your organisation here.';
const base64 = (xml: string) => Buffer.from(xml).toString('base64');
const honest = (a: Assertion, more: Partial<Assertion> = {}) => responseXml(signed(assertionXml({ ...a, ...more }), guild.privateKey), a);
/** Somebody leaves, and comes back with what is made of the assertion that would answer them. */
async function comes(make: (a: Assertion) => string, who = 'ada', one = browser(), way?: string) {
  const to = new URL(await one.leave(way));
  const xml = make(guild.answerTo(to, who));
  const form = { SAMLResponse: base64(xml), RelayState: to.searchParams.get('RelayState') ?? '' };
  return { ...one, form, xml, outcome: await one.post(form) };
}

test('somebody comes in by an assertion, as who the provider knows them, and an answer counts once', async () => {
  const one = await comes((a) => honest(a), 'ada', browser(), '/sign-on/club/guild?back=/t/club');
  expect([one.outcome, causes.at(-1)]).toEqual(['to /t/club', undefined]);
  expect(await one.me()).toMatchObject({ name: 'Ada Fern', address: 'ada@guild.example', enters: ['club'], connection: 'guild', methods: ['pwd'] });
  expect((await one.me()).fulfilled).toContain('recentSignIn');
  const outcomes = [await one.post(one.form)];
  const other = browser();
  await other.leave();
  outcomes.push(await other.post(one.form));
  // The same answer with the state of another try of the same browser.
  const again = new URL(await one.leave());
  outcomes.push(await one.post({ ...one.form, RelayState: again.searchParams.get('RelayState') ?? '' }));
  expect(outcomes).toEqual([FAILED, FAILED, FAILED]);
  // Nobody asked for it: then it is asked for.
  expect(await browser().post({ SAMLResponse: base64(honest(guild.answerTo(new URL(await browser().leave()), 'ada'))) })).toMatch(/^to http:\/\/127/);
  expect((await comes((a) => honest(a), 'g-201')).outcome).toBe('403 Only the club comes in.');
  // Shown again: at a sign-in that is fresh.
  const fresh = await comes((a) => honest(a, { at: new Date(Date.now() - 3_600_000) }));
  expect((await fresh.me()).fulfilled).not.toContain('recentSignIn');
  expect((await comes((a) => honest(a, { at: new Date(Date.now() - 3_600_000) }), 'ada', fresh, '/sign-on/club/guild?again')).outcome).toBe(FAILED);
  expect((await comes((a) => honest(a), 'ada', fresh, '/sign-on/club/guild?again')).outcome).toBe('to /');
  expect((await fresh.me()).fulfilled).toContain('recentSignIn');
});

/** By what a forgery says that somebody else is meant. */
const MALLORY = { subject: 'mallory', attributes: { associations: ['club'], groups: ['writers'] } };
const HOUR = 3_600_000;

/** Forgeries, each made from a real answer. */
const FORGERIES: Readonly<Record<string, (a: Assertion) => string>> = {
  'not signed': (a) => responseXml(assertionXml(a), a),
  'signed by another': (a) => responseXml(signed(assertionXml(a), foreign.privateKey), a),
  'its signature taken out': (a) => honest(a).replace(/<Signature[\s\S]*<\/Signature>/, ''),
  'its signature emptied': (a) => honest(a).replace(/<SignatureValue>[^<]*</, '<SignatureValue><'),
  'its digest of something else': (a) => honest(a).replace(/<DigestValue>[^<]*</, '<DigestValue>AAAA<'),
  'with another subject': (a) => honest(a).replace('>ada<', '>mallory<'),
  'with another group': (a) => honest(a).replace('>choir<', '>chiefs<'),
  over: (a) => honest(a, { from: new Date(Date.now() - 2 * HOUR), until: new Date(Date.now() - HOUR) }),
  'not yet': (a) => honest(a, { from: new Date(Date.now() + HOUR), until: new Date(Date.now() + 2 * HOUR) }),
  'for another audience': (a) => honest(a, { audience: `${ORIGIN}/sign-on/club/other` }),
  'for another recipient': (a) => honest(a, { recipient: 'https://elsewhere.example/back' }),
  'for another request': (a) => honest(a, { request: '_another' }),
  'of another issuer': (a) => honest(a, { issuer: 'https://sign-in.county.example' }),
  'an address that does not stay': (a) => honest(a, { format: 'urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress' }),
  'a subject for one session': (a) => honest(a, { format: 'urn:oasis:names:tc:SAML:2.0:nameid-format:transient' }),
  'with another destination': (a) => honest(a).replace(/Destination="[^"]*"/, 'Destination="https://elsewhere.example/back"'),
  'answered to another request outside': (a) => honest(a).replace(/InResponseTo="[^"]*"><saml:Issuer>/, 'InResponseTo="_another"><saml:Issuer>'),
  'asked by nobody': (a) => honest(a).replace(/ InResponseTo="[^"]*"><saml:Issuer>/, '><saml:Issuer>'),
  'not a success': (a) => honest(a).replace('status:Success', 'status:Requester'),
  'without an audience': (a) =>
    responseXml(signed(assertionXml(a).replace(/<saml:AudienceRestriction>.*<\/saml:AudienceRestriction>/, ''), guild.privateKey), a),
  'without conditions': (a) => responseXml(signed(assertionXml(a).replace(/<saml:Conditions.*<\/saml:Conditions>/, ''), guild.privateKey), a),
  'without a confirmation': (a) =>
    responseXml(signed(assertionXml(a).replace(/<saml:SubjectConfirmation .*<\/saml:SubjectConfirmation>/, ''), guild.privateKey), a),
  'confirmed by a key': (a) => responseXml(signed(assertionXml(a).replace('cm:bearer', 'cm:holder-of-key'), guild.privateKey), a),
  'without a recipient': (a) => responseXml(signed(assertionXml(a).replace(/ Recipient="[^"]*"/, ''), guild.privateKey), a),
  'without an end': (a) =>
    responseXml(signed(assertionXml(a).replace(/<saml:SubjectConfirmationData NotOnOrAfter="[^"]*"/, '<saml:SubjectConfirmationData'), guild.privateKey), a),
  'signed weakly': (a) => responseXml(signed(assertionXml(a), guild.privateKey, 'sha1'), a),
  'with a document type': (a) => `<!DOCTYPE r [<!ENTITY x "y">]>${honest(a)}`,
  'with a comment in the subject': (a) => honest(a).replace('>ada<', '>ada<!-- -->.evil<'),
  'with a comment before it was signed': (a) => responseXml(signed(assertionXml(a).replace('>ada<', '>ada<!-- -->.evil<'), guild.privateKey), a),
  'with an instruction': (a) => honest(a).replace('>ada<', '>ada<?x y?><'),
  'two, of which one is signed': (a) => responseXml(signed(assertionXml(a), guild.privateKey) + assertionXml({ ...a, ...MALLORY, id: '_forged' }), a),
  'two, the forged one first': (a) => responseXml(assertionXml({ ...a, ...MALLORY, id: '_forged' }) + signed(assertionXml(a), guild.privateKey), a),
  'wrapped in one that is forged': (a) =>
    responseXml(
      assertionXml({ ...a, ...MALLORY, id: '_forged' }).replace(
        '</saml:Issuer>',
        `</saml:Issuer><saml:Advice>${signed(assertionXml(a), guild.privateKey)}</saml:Advice>`,
      ),
      a,
    ),
  'the signed one set aside': (a) =>
    responseXml(`<samlp:Extensions>${signed(assertionXml(a), guild.privateKey)}</samlp:Extensions>${assertionXml({ ...a, ...MALLORY, id: '_forged' })}`, a),
  'the signature of one around another': (a) => {
    const real = signed(assertionXml(a), guild.privateKey);
    const signature = /<Signature[\s\S]*<\/Signature>/.exec(real)?.[0] ?? '';
    const bare = real.replace(signature, '');
    return responseXml(
      assertionXml({ ...a, ...MALLORY }).replace(
        '</saml:Issuer>',
        `</saml:Issuer>${signature.replace('</Signature>', `<Object>${bare}</Object></Signature>`)}`,
      ),
      a,
    );
  },
  'the same id twice': (a) =>
    responseXml(`${signed(assertionXml(a), guild.privateKey)}<samlp:Extensions>${assertionXml({ ...a, ...MALLORY })}</samlp:Extensions>`, a),
  'encrypted for nobody': (a) => responseXml(`<saml:EncryptedAssertion>${assertionXml(a)}</saml:EncryptedAssertion>`, a),
  'no assertion': (a) => responseXml('', a),
  'no XML': () => 'sub=ada',
  nothing: () => '',
  'too large': (a) => honest(a).replace('</samlp:Response>', `${' '.repeat(250_000)}</samlp:Response>`),
};

test('of forgeries made from a real answer none lets anybody in', async () => {
  expect(Object.keys(FORGERIES).length).toBeGreaterThan(40);
  const members = async () => (await (await keyholder()).members.list()).length;
  const before = await members();
  for (const [what, forge] of Object.entries(FORGERIES)) {
    const one = await comes(forge);
    expect([what, one.outcome, await one.me()]).toEqual([
      what,
      what.startsWith('an address') || what.startsWith('a subject') ? '400 The provider does not say in one value who this is.' : FAILED,
      null,
    ]);
  }
  expect(await members()).toBe(before);
  expect((await comes((a) => honest(a))).outcome).toBe('to /');
});

test('an answer in which one character is another lets nobody in but whom it was signed for', async () => {
  const user = (await (await comes((a) => honest(a))).me()).userId;
  // What reads XML says aloud what it thinks of it.
  vi.spyOn(console, 'warn').mockImplementation(() => undefined);
  await fc.assert(
    fc.asyncProperty(fc.nat(), fc.string({ unit: 'grapheme-ascii', minLength: 0, maxLength: 3 }), async (at, instead) => {
      const one = await comes((a) => {
        const xml = honest(a);
        const i = at % xml.length;
        return xml.slice(0, i) + instead + xml.slice(i + 1);
      });
      const me = await one.me();
      expect(me === null || (me.userId === user && one.outcome === 'to /')).toBe(true);
    }),
    { numRuns: LONG ? 1000 : 10 },
  );
});

test('two certificates count while one rolls over, and an attribute that is stated can be the subject', async () => {
  const standing = await keyholder();
  const terms = (...certificates: string[]) => ({ kind: 'saml' as const, issuer: guild.issuer, signOnUrl: guild.signOnUrl, certificates });
  const change = async (to: object) => {
    await standing.connections.try({ connection: 'guild', claims: { sub: 'x' }, ...(to as { terms: never }) });
    await standing.carryOut([{ do: 'edit-connection', id: 'guild', ...to }]);
  };
  const next = (a: Assertion) => responseXml(signed(assertionXml(a), foreign.privateKey), a);
  await change({ terms: terms(guild.certificate, foreign.certificate) });
  expect([(await comes((a) => honest(a))).outcome, (await comes(next)).outcome]).toEqual(['to /', 'to /']);
  await change({ terms: terms(foreign.certificate) });
  expect([(await comes((a) => honest(a))).outcome, (await comes(next)).outcome]).toEqual([FAILED, 'to /']);
  expect(await code(change({ terms: terms() }))).toBe('bad-connection');
  await standing.carryOut([
    { do: 'make-connection', id: 'stated', name: 'Stated', terms: terms(guild.certificate), claims: { subject: 'email' }, rules: [{ gives: {} }] },
  ]);
  await standing.connections.try({ connection: 'stated', claims: { email: 'x' } });
  await standing.carryOut([{ do: 'turn-connection', id: 'stated', to: 'on' }]);
  const one = browserAt(ORIGIN, { pages, face }, '/sign-on/club/stated');
  const transient = (a: Assertion) => honest(a, { format: 'urn:oasis:names:tc:SAML:2.0:nameid-format:transient', subject: Math.random().toString() });
  expect([(await comes(transient, 'ada', one)).outcome, (await one.me()).connection]).toEqual(['to /', 'stated']);
  // What is for one connection is for no other, though the same provider signs it.
  const to = new URL(await one.leave());
  const crossed = await comes((a) => honest(a, { audience: guild.answerTo(to, 'ada').audience }), 'ada');
  expect(crossed.outcome).toBe(FAILED);
});
