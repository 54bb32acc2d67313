import { createCipheriv, createDecipheriv, hkdfSync, randomBytes } from 'node:crypto';
import { hashOf, LintelError } from '../base/index.js';

/** Keys of the application, the present one first; older ones open what they have sealed. Each has 32 characters at least. */
export type Secrets = readonly string[];

const keyOf = (secret: string) => Buffer.from(hkdfSync('sha256', secret, '', 'warm-lintel sealed', 32));
const nameOf = (secret: string) => hashOf([`name ${secret}`]).slice(0, 12);

function insistOn(secrets: Secrets | undefined): Secrets {
  if (!secrets || secrets.length === 0)
    throw new LintelError(
      'option-missing',
      'what is secret is kept sealed, and there is no key for it; give secrets: [process.env.…] with 32 characters at least',
      {},
    );
  const short = secrets.find((secret) => secret.length < 32);
  if (short !== undefined) throw new LintelError('option-missing', `one of the secrets has ${short.length} characters; each has 32 at least`, {});
  return secrets;
}

/**
 * Seals a text under the present key (AES-256-GCM), for one purpose: what was sealed for another does not open.
 *
 * @throws LintelError `option-missing` without a key.
 */
export function seal(secrets: Secrets | undefined, purpose: string, text: string): string {
  const [present] = insistOn(secrets) as [string];
  const iv = randomBytes(12);
  const cipher = createCipheriv('aes-256-gcm', keyOf(present), iv).setAAD(Buffer.from(purpose));
  const body = Buffer.concat([cipher.update(text, 'utf8'), cipher.final(), cipher.getAuthTag()]);
  return [nameOf(present), iv.toString('base64url'), body.toString('base64url')].join('.');
}

/** @throws LintelError `option-missing` where none of the keys has sealed it. */
export function unseal(secrets: Secrets | undefined, purpose: string, sealed: string): string {
  const [name, iv, body] = sealed.split('.') as [string, string, string];
  const key = insistOn(secrets).find((secret) => nameOf(secret) === name);
  if (key === undefined)
    throw new LintelError('option-missing', 'what is kept was sealed under a key that is not among secrets; give it behind the present one', {});
  const bytes = Buffer.from(body, 'base64url');
  const cipher = createDecipheriv('aes-256-gcm', keyOf(key), Buffer.from(iv, 'base64url')).setAAD(Buffer.from(purpose));
  cipher.setAuthTag(bytes.subarray(-16));
  return Buffer.concat([cipher.update(bytes.subarray(0, -16)), cipher.final()]).toString('utf8');
}
