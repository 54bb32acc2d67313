import { LintelError } from '../base/index.js';

/** What passwords have to be. NIST SP 800-63B-4, section 3.1.1.2; OWASP ASVS 5, chapter 6. */
export interface PasswordRules {
  /** Characters at least. Default 15. */
  readonly least?: number;
  /** The same for somebody who signs in with a second factor besides. Default 8. */
  readonly leastBesideFactor?: number;
  /** Names that nobody takes for a password: the application's. Those of the person, and of the tenant that is made, are refused anyway. */
  readonly names?: readonly string[];
  /** Says of a password that it is known to be in a list of stolen ones. */
  readonly isBreached?: (password: string) => boolean | Promise<boolean>;
}

const LEAST = 15;
const LEAST_BESIDE_FACTOR = 8;
const MOST = 256;
/** So much has to be left of a password beside a name that is in it. */
const BESIDE_NAME = 8;

const common = (() => {
  let known: Promise<ReadonlySet<string>> | undefined;
  // Two megabytes: loaded when first asked.
  return () => {
    known ??= import('@zxcvbn-ts/language-common').then(({ dictionary }) => new Set(dictionary['passwords-common'] as readonly string[]));
    return known;
  };
})();

const weak = (why: 'short' | 'long' | 'unreadable' | 'common' | 'name' | 'breached', words: string) => new LintelError('weak-password', words, { why });

/** As it is hashed: in one way of writing (NFKC), so that another keyboard types the same. What is too long is never cut. */
export const written = (password: unknown): string => (typeof password === 'string' ? password.normalize('NFKC') : '');

/**
 * Reads a password that is to be set.
 *
 * @param near the person's name and address, and what else stands nearby.
 * @returns as it is hashed.
 * @throws LintelError `weak-password`, with `why` in its details: `short`, `long`, `unreadable`, `common`, `name`, `breached`.
 */
export async function readPassword(given: unknown, rules: PasswordRules, near: readonly string[], besideFactor: boolean): Promise<string> {
  const password = written(given);
  const least = besideFactor ? (rules.leastBesideFactor ?? LEAST_BESIDE_FACTOR) : (rules.least ?? LEAST);
  const length = [...password].length;
  if (length < least) throw weak('short', `A password has at least ${least} characters. Several words are easy to remember.`);
  if (length > MOST) throw weak('long', `A password has at most ${MOST} characters.`);
  if (/[\p{Cc}\p{Cs}]/u.test(password)) throw weak('unreadable', 'There is a character in this password that cannot be typed.');
  const plain = password.toLowerCase().replace(/\s+/gu, '');
  const named = [...near, ...(rules.names ?? [])]
    .flatMap((name) => name.toLowerCase().split(/[\s@]+/u))
    .find((name) => [...name].length >= 4 && plain.includes(name) && [...plain.replaceAll(name, '')].length < BESIDE_NAME);
  if (named !== undefined) throw weak('name', `This password is little more than “${named}”, which anybody would try.`);
  if ((await common()).has(plain)) throw weak('common', 'This password is one of those that are tried first. Choose another.');
  if (await rules.isBreached?.(password)) throw weak('breached', 'This password was stolen somewhere else, and is tried. Choose another.');
  return password;
}
