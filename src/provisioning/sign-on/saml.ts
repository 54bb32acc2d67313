import { needed } from '../../base/index.js';
import type { Claims, ConnectionTerms } from '../../server/index.js';
import type { Attempt, Said } from './attempt.js';
import { browserAddress, type FetchBounds } from './guarded-fetch.js';

type Terms = Extract<ConnectionTerms, { readonly kind: 'saml' }>;

/** So large an answer may be, as it is sent. */
export const MOST_BYTES = 200_000;
/** Clocks may differ by so much. */
const SKEW_MS = 60_000;
const PERSISTENT = 'urn:oasis:names:tc:SAML:2.0:nameid-format:persistent';
const SUCCESS = 'urn:oasis:names:tc:SAML:2.0:status:Success';
const BEARER = 'urn:oasis:names:tc:SAML:2.0:cm:bearer';
/** What a provider says that somebody has shown, as RFC 8176 names it. What is not here counts as nothing. */
const METHODS: Readonly<Record<string, readonly string[]>> = {
  'urn:oasis:names:tc:SAML:2.0:ac:classes:Password': ['pwd'],
  'urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport': ['pwd'],
  'https://refeds.org/profile/mfa': ['mfa'],
};

/** Where somebody comes back to, and by what name the provider knows the application. */
export interface Service {
  readonly entityId: string;
  readonly callback: string;
}

/** @throws LintelError `option-missing`. */
const library = () => needed('signing in by SAML', '@node-saml/node-saml', () => import('@node-saml/node-saml'));

async function samlOf(terms: Terms, { entityId, callback }: Service, { nonce, within, begun }: Attempt) {
  const { SAML, ValidateInResponseTo } = await library();
  // The one request that was made: it lies in the browser, sealed.
  const asked = {
    getAsync: async (id: string) => (id === nonce ? new Date(begun).toISOString() : null),
    saveAsync: async () => null,
    removeAsync: async () => null,
  };
  return new SAML({
    idpCert: [...terms.certificates],
    issuer: entityId,
    audience: entityId,
    callbackUrl: callback,
    entryPoint: terms.signOnUrl,
    identifierFormat: PERSISTENT,
    disableRequestedAuthnContext: true,
    forceAuthn: within !== undefined,
    wantAssertionsSigned: true,
    wantAuthnResponseSigned: false,
    validateInResponseTo: ValidateInResponseTo.always,
    cacheProvider: asked,
    generateUniqueId: () => nonce,
    acceptedClockSkewMs: SKEW_MS,
  });
}

/** Where the browser goes: SAML 2.0, the redirect binding. @throws LintelError `address-refused`. */
export async function beginSaml(terms: Terms, service: Service, attempt: Attempt, bounds: FetchBounds): Promise<string> {
  const saml = await samlOf(terms, service, attempt);
  return browserAddress(await saml.getAuthorizeUrlAsync(attempt.state, undefined, {}), bounds).href;
}

/** XML as the package reads it: elements by name, without their prefixes, each a list; attributes under `$`, text under `_`. */
type Node = { readonly $?: Readonly<Record<string, string>>; readonly _?: string } & { readonly [name: string]: unknown };
const all = (node: Node | undefined, name: string): Node[] => {
  const found = node?.[name];
  return (Array.isArray(found) ? found : found === undefined ? [] : [found]).map((one) => (typeof one === 'string' ? { _: one } : one));
};
const textOf = (node: Node | undefined) => (node?._ ?? '').trim();

function insist(holds: boolean, why: string): asserts holds {
  if (!holds) throw new Error(why);
}

/** What no answer needs, and what has let strangers in elsewhere. */
function insistOnPlain(answer: string): string {
  insist(answer !== '' && answer.length <= MOST_BYTES, `the answer is missing, or has more than ${MOST_BYTES} bytes`);
  const xml = Buffer.from(answer, 'base64').toString('utf8');
  // guard saml-no-document-type by arrival: A comment or a document type could change what was signed.
  insist(!/<!/.test(xml), 'it has a document type, a comment or a section in it');
  insist(!/<\?(?!xml\s)/.test(xml), 'it has a processing instruction in it');
  const weak = /Algorithm\s*=\s*["'][^"']*(?:sha1|md5|hmac)[^"']*["']/i.exec(xml);
  // guard saml-strong-signature by arrival: A weak signature would count.
  insist(weak === null, `it is signed by what does not hold: ${weak?.[0]}`);
  return xml;
}

/** The claims of an assertion: its attributes; under `sub` the NameID, if it is one that stays. */
function claimsOf(assertion: Node): Claims {
  const attributes = all(assertion, 'AttributeStatement').flatMap((statement) => all(statement, 'Attribute'));
  const [nameId] = all(all(assertion, 'Subject')[0], 'NameID');
  // guard saml-persistent-subject by arrival: A subject that changes each time would be taken for a person.
  const isPersistent = nameId !== undefined && /* guard saml-persistent-subject */ nameId.$?.Format === PERSISTENT;
  const said = attributes.map((one): [string, unknown] => [one.$?.Name ?? '', all(one, 'AttributeValue').map(textOf)]);
  return {
    ...Object.fromEntries(said.filter(([name]) => name !== '' && name !== 'sub')),
    ...(isPersistent && { sub: textOf(nameId) }),
  };
}

const moment = (text: string | undefined) => (text === undefined ? Number.NaN : Date.parse(text));

/** It is meant for us, here, now, and for this request. What the package leaves out is looked at too. */
function insistOnMeant(assertion: Node, { issuer }: Terms, { entityId, callback }: Service, { nonce }: Attempt, now: number): void {
  // guard saml-issuer by arrival: An assertion of another issuer would count.
  insist(textOf(all(assertion, 'Issuer')[0]) === issuer, 'it is of another issuer');
  const confirmed = all(all(assertion, 'Subject')[0], 'SubjectConfirmation').filter(({ $ }) => $?.Method === BEARER);
  const data = confirmed.flatMap((one) => all(one, 'SubjectConfirmationData')).map(({ $ }) => $ ?? {});
  // guard saml-recipient by arrival: An assertion for another recipient would count.
  insist(
    data.some((one) => /* guard saml-recipient */ one.Recipient === callback && one.InResponseTo === nonce && moment(one.NotOnOrAfter) > now - SKEW_MS),
    'it is for another recipient or request, or over',
  );
  const conditions = all(assertion, 'Conditions');
  insist(conditions.length === 1, 'it has no conditions');
  const { NotBefore: from, NotOnOrAfter: until } = conditions[0]?.$ ?? {};
  insist(from === undefined || moment(from) <= now + SKEW_MS, 'it is not yet');
  insist(until === undefined || moment(until) > now - SKEW_MS, 'it is over');
  const audiences = all(conditions[0], 'AudienceRestriction').map((one) => all(one, 'Audience').map(textOf));
  insist(audiences.length > 0 && audiences.every((one) => one.includes(entityId)), 'it is for another audience');
}

/** What the provider says of who came back (SAML 2.0 profiles, section 4.1.4). @throws Error for what does not hold. */
export async function finishSaml(terms: Terms, service: Service, attempt: Attempt, answer: string, now: number): Promise<Said> {
  const xml = insistOnPlain(answer);
  const destination = /<(?:\w+:)?Response\b[^>]*\bDestination\s*=\s*["']([^"']*)["']/.exec(xml)?.[1];
  // guard saml-destination by arrival: An answer for another destination would count.
  insist(destination === undefined || destination === service.callback, 'it is for another destination');
  const status = /<(?:\w+:)?StatusCode\b[^>]*\bValue\s*=\s*["']([^"']*)["']/.exec(xml)?.[1];
  // guard saml-success by arrival: An answer that is no success would count.
  insist(status === SUCCESS, `the provider answers ${status ?? 'nothing'}`);
  const saml = await samlOf(terms, service, attempt);
  const { profile } = await saml.validatePostResponseAsync({ SAMLResponse: answer });
  // What is read is the signed assertion alone, as it was signed.
  const assertion = (profile?.getAssertion?.() as { readonly Assertion?: Node } | undefined)?.Assertion;
  insist(assertion !== undefined, 'there is no assertion');
  insistOnMeant(assertion, terms, service, attempt, now);
  const [statement] = all(assertion, 'AuthnStatement');
  const at = moment(statement?.$?.AuthnInstant);
  const shown = textOf(all(all(statement, 'AuthnContext')[0], 'AuthnContextClassRef')[0]);
  if (attempt.within !== undefined) insist(at >= attempt.begun - SKEW_MS, 'they have not shown again who they are');
  return { claims: claimsOf(assertion), methods: METHODS[shown] ?? [], ...(!Number.isNaN(at) && { provenAt: Math.min(now, at) }) };
}
