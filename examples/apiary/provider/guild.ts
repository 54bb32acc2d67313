/* The guild's sign-in: a provider of SAML 2.0 as an organisation has one, small, for the demo and for tests. Whoever opens it says who they are, and it believes them. */
import { generateKeyPairSync, randomBytes } from 'node:crypto';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { inflateRawSync } from 'node:zlib';
import { SignedXml } from 'xml-crypto';
import { escaped, type Listed, textOf, whoPage } from './who.js';

export const GUILD_PEOPLE: Readonly<Record<string, Listed>> = {
  'g-201': {
    name: 'Ebba Lind',
    email: 'ebba@guild.example',
    associations: ['alderbrook'],
    groups: ['beekeepers', 'site-wardens', 'choir'],
    site: 'Mill meadow',
  },
  'g-202': { name: 'Arno Beck', email: 'arno@guild.example', associations: ['alderbrook'], groups: ['site-wardens'], site: 'Far meadow' },
};

/** What an answer says: of whom, to which request, for whom. A test says it otherwise. */
export interface Assertion {
  readonly id: string;
  readonly issuer: string;
  readonly subject: string;
  readonly format: string;
  readonly request: string;
  readonly recipient: string;
  readonly audience: string;
  readonly from: Date;
  readonly until: Date;
  readonly at: Date;
  readonly attributes: Readonly<Record<string, readonly string[]>>;
}

/** An assertion as XML, not signed yet. */
export function assertionXml(a: Assertion): string {
  const attributes = Object.entries(a.attributes).map(
    ([name, values]) =>
      `<saml:Attribute Name="${escaped(name)}">${values.map((one) => `<saml:AttributeValue>${escaped(one)}</saml:AttributeValue>`).join('')}</saml:Attribute>`,
  );
  const until = a.until.toISOString();
  return `<saml:Assertion xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="${a.id}" Version="2.0" IssueInstant="${a.from.toISOString()}"><saml:Issuer>${escaped(a.issuer)}</saml:Issuer><saml:Subject><saml:NameID Format="${a.format}">${escaped(a.subject)}</saml:NameID><saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer"><saml:SubjectConfirmationData NotOnOrAfter="${until}" Recipient="${escaped(a.recipient)}" InResponseTo="${a.request}"/></saml:SubjectConfirmation></saml:Subject><saml:Conditions NotBefore="${a.from.toISOString()}" NotOnOrAfter="${until}"><saml:AudienceRestriction><saml:Audience>${escaped(a.audience)}</saml:Audience></saml:AudienceRestriction></saml:Conditions><saml:AuthnStatement AuthnInstant="${a.at.toISOString()}"><saml:AuthnContext><saml:AuthnContextClassRef>urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement><saml:AttributeStatement>${attributes.join('')}</saml:AttributeStatement></saml:Assertion>`;
}

/** Signed, with the signature behind the issuer, as the schema has it. */
export function signed(xml: string, privateKey: string, algorithm = 'sha256'): string {
  const signature = new SignedXml({
    privateKey,
    signatureAlgorithm: algorithm === 'sha1' ? 'http://www.w3.org/2000/09/xmldsig#rsa-sha1' : `http://www.w3.org/2001/04/xmldsig-more#rsa-${algorithm}`,
    canonicalizationAlgorithm: 'http://www.w3.org/2001/10/xml-exc-c14n#',
  });
  signature.addReference({
    xpath: "/*[local-name(.)='Assertion']",
    transforms: ['http://www.w3.org/2000/09/xmldsig#enveloped-signature', 'http://www.w3.org/2001/10/xml-exc-c14n#'],
    digestAlgorithm: algorithm === 'sha1' ? 'http://www.w3.org/2000/09/xmldsig#sha1' : `http://www.w3.org/2001/04/xmlenc#${algorithm}`,
  });
  signature.computeSignature(xml, { location: { reference: "/*[local-name(.)='Assertion']/*[local-name(.)='Issuer']", action: 'after' } });
  return signature.getSignedXml();
}

/** The answer with what stands in it. */
export const responseXml = (inside: string, { issuer, request, recipient }: Pick<Assertion, 'issuer' | 'request' | 'recipient'>): string =>
  `<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="_${randomBytes(16).toString('hex')}" Version="2.0" IssueInstant="${new Date().toISOString()}" Destination="${escaped(recipient)}" InResponseTo="${request}"><saml:Issuer>${escaped(issuer)}</saml:Issuer><samlp:Status><samlp:StatusCode Value="urn:oasis:names:tc:SAML:2.0:status:Success"/></samlp:Status>${inside}</samlp:Response>`;

/** What was asked: the id of the request, who asks, and where the answer goes. */
export function requestIn(to: URL): { readonly request: string; readonly audience: string; readonly recipient: string; readonly relay: string } {
  const xml = inflateRawSync(Buffer.from(to.searchParams.get('SAMLRequest') ?? '', 'base64')).toString('utf8');
  const found = (pattern: RegExp) => pattern.exec(xml)?.[1] ?? '';
  return {
    request: found(/ ID="([^"]+)"/),
    audience: found(/<saml:Issuer[^>]*>([^<]+)</),
    recipient: found(/AssertionConsumerServiceURL="([^"]+)"/),
    relay: to.searchParams.get('RelayState') ?? '',
  };
}

export interface Guild {
  readonly issuer: string;
  readonly signOnUrl: string;
  readonly certificate: string;
  readonly privateKey: string;
  readonly people: Record<string, Listed>;
  /** The assertion with which a request is answered for somebody. */
  answerTo(to: URL, who: string): Assertion;
  close(): Promise<void>;
}

/** Starts it on this machine. */
export async function startGuild({ port }: { readonly port: number }): Promise<Guild> {
  const people = structuredClone(GUILD_PEOPLE) as Record<string, Listed>;
  const { privateKey, publicKey } = generateKeyPairSync('rsa', {
    modulusLength: 2048,
    publicKeyEncoding: { type: 'spki', format: 'pem' },
    privateKeyEncoding: { type: 'pkcs8', format: 'pem' },
  });
  let origin = '';
  function answerTo(to: URL, who: string): Assertion {
    const { name, email, associations, groups, site } = people[who] as Listed;
    const [now, { request, audience, recipient }] = [Date.now(), requestIn(to)];
    return {
      id: `_${randomBytes(16).toString('hex')}`,
      issuer: `${origin}/guild`,
      subject: who,
      format: 'urn:oasis:names:tc:SAML:2.0:nameid-format:persistent',
      request,
      recipient,
      audience,
      from: new Date(now - 1000),
      until: new Date(now + 300_000),
      at: new Date(now),
      attributes: { name: [name], email: [email], associations, groups, ...(site !== undefined && { site: [site] }) },
    };
  }
  const server = createServer(async (request, response) => {
    const to = new URL(request.url ?? '/', origin);
    response.setHeader('content-type', 'text/html; charset=utf-8');
    const who = request.method === 'POST' ? (new URLSearchParams(await textOf(request)).get('who') ?? '') : '';
    if (!Object.hasOwn(people, who)) return response.end(whoPage('The guild’s sign-in', people));
    const assertion = answerTo(to, who);
    const answer = Buffer.from(responseXml(signed(assertionXml(assertion), privateKey), assertion)).toString('base64');
    return response.end(
      `<!doctype html><html lang="en"><title>Back</title><form method="post" action="${escaped(assertion.recipient)}"><input type="hidden" name="SAMLResponse" value="${answer}"><input type="hidden" name="RelayState" value="${escaped(requestIn(to).relay)}"><button>Go on</button></form><script>document.forms[0].submit()</script></html>`,
    );
  });
  await new Promise<void>((resolve, reject) => server.listen(port, '127.0.0.1', resolve).once('error', reject));
  origin = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  return {
    issuer: `${origin}/guild`,
    signOnUrl: `${origin}/sign-on`,
    certificate: publicKey,
    privateKey,
    people,
    answerTo,
    close: async () => {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
    },
  };
}
