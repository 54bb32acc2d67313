// Its other form is a module only for Node 20.19 and later.
import punycode from 'punycode/punycode.js';
import { LintelError } from '../../base/index.js';

/** RFC 5321, sections 4.5.3.1.1 and 4.5.3.1.3 (a path of 256 with its brackets). */
const MAX_LOCAL = 64;
const MAX_ADDRESS = 254;
const LOCAL = /^[\p{L}\p{N}!#$%&'*+/=?^_`{|}~-]+(\.[\p{L}\p{N}!#$%&'*+/=?^_`{|}~-]+)*$/u;
const HOST = /^(?=.{1,253}$)([a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$/;
const SCRIPTS = [/\p{Script=Latin}/u, /\p{Script=Cyrillic}/u, /\p{Script=Greek}/u, /\p{Script=Armenian}/u, /\p{Script=Cherokee}/u];

/** A domain in ASCII (IDNA, UTS 46), as the URL standard reads a host; empty for what is none. */
function asciiDomain(domain: string): string {
  // What would end the host in a URL is in no domain.
  if (/[\s/\\?#@:[\]%]/.test(domain)) return '';
  try {
    return new URL(`http://${domain}`).hostname;
  } catch {
    return '';
  }
}

interface Host {
  readonly domain: string;
  readonly ascii: string;
  /** Its parts as they are read. */
  readonly labels: readonly string[];
}
/** Of many addresses most are at one domain. */
let latest: Host = { domain: '', ascii: '', labels: [] };

function hostOf(domain: string): Host {
  if (domain !== latest.domain) {
    const ascii = asciiDomain(domain);
    latest = { domain, ascii, labels: punycode.toUnicode(ascii).split('.') };
  }
  return latest;
}

export interface Address {
  /** What is compared: trimmed, lower case, domain as ASCII (IDNA). */
  readonly normal: string;
  /** What mail is sent to. */
  readonly written: string;
}

/**
 * Reads an e-mail address. Letters of one script only in each part: `pаypal` with a Cyrillic a is refused.
 *
 * @throws LintelError `bad-address`, `look-alike-address`.
 */
export function readAddress(raw: unknown): Address {
  const written = typeof raw === 'string' ? raw.trim() : '';
  const shown = JSON.stringify(written.length > 60 ? `${written.slice(0, 60)}…` : written);
  const bad = (why: string) => new LintelError('bad-address', `${shown} is no e-mail address: ${why}`, {});
  if (written === '') throw new LintelError('bad-address', 'an e-mail address is needed', {});
  if (written.length > MAX_ADDRESS) throw bad(`it has ${written.length} characters, at most ${MAX_ADDRESS} can be`);
  const at = written.lastIndexOf('@');
  const own = written.slice(0, at).normalize('NFC');
  const local = own.toLowerCase();
  const { ascii: host, labels } = hostOf(written.slice(at + 1));
  if (at < 1) throw bad('the @ is missing');
  if (local.length > MAX_LOCAL || !LOCAL.test(local)) throw bad('the part before the @ has characters that cannot be there');
  if (!HOST.test(host)) throw bad('the part after the @ is no domain');
  // What becomes another letter when it is compared is no letter that mail goes to.
  if (own !== own.normalize('NFKC')) throw new LintelError('look-alike-address', `${shown} has a letter that looks like another; type it anew`, {});
  for (const part of [local, ...labels]) {
    if (SCRIPTS.filter((script) => script.test(part)).length > 1) {
      throw new LintelError('look-alike-address', `${shown} mixes letters of several alphabets that look alike; type it anew`, {});
    }
  }
  return { normal: `${local}@${host}`, written: `${own}@${host}` };
}

/** What stands for the address of an account that a tenant keeps: no other can be written so, and it takes the address from nobody. */
export const keptAddress = (tenantId: string, normal: string): string => `kept by ${tenantId} ${normal}`;

/** Begins what stands for the address of an account that has none any more; its id ends it. */
export const WITHOUT_ADDRESS = 'without an address ';

export const domainOf = (address: string) => address.slice(address.lastIndexOf('@') + 1);

/** Reads a domain as it stands behind the @ of addresses. @throws LintelError `bad-domain`. */
export function readDomain(raw: string): string {
  const domain = asciiDomain(raw.trim());
  if (HOST.test(domain)) return domain;
  throw new LintelError('bad-domain', `“${raw.slice(0, 60)}” is no domain; write what stands behind the @ of an address: alderbrook.example`, {});
}

/** `m…@quillmoor.example`: enough to recognise one's own address, not enough to learn another's. */
export function maskAddress(address: string): string {
  const at = address.lastIndexOf('@');
  return `${[...address][0] ?? ''}…${address.slice(at)}`;
}

/**
 * Reads a name that people see.
 *
 * @throws LintelError `bad-name` when it is empty, has more than 120 characters, or a line break, a control character, or one without a width or that turns the direction of
 *   the others (Unicode Bidirectional Algorithm, UAX #9). Joiners, which scripts need, stay.
 */
export function readName(raw: unknown, what: string): string {
  const name = typeof raw === 'string' ? raw.trim() : '';
  if (name === '') throw new LintelError('bad-name', `${what} needs a name`, {});
  if (name.length > 120) throw new LintelError('bad-name', `the name of ${what} has ${name.length} characters; at most 120 can be`, {});
  if (/[\p{Cc}\p{Zl}\p{Zp}\p{Cs}\u00ad\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff]/u.test(name))
    throw new LintelError('bad-name', `the name of ${what} has a line break, or a character that cannot be seen or turns the others round; leave it out`, {});
  return name;
}

/** So much is kept of what somebody says in their own words. */
const MAX_WORDS = 500;

/** What somebody says in their own words, on one line and at most so long; null for nothing. */
export const readWords = (words: string | undefined): string | null =>
  words
    ?.replace(/\p{Cc}+/gu, ' ')
    .trim()
    .slice(0, MAX_WORDS)
    // A character that the cut went through.
    .replace(/\p{Cs}/gu, '') || null;
