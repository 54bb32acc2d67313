/* Chance, hashes and encodings as the web platform has them, so that the library runs wherever that is: on a server, at an edge, in a browser. */
import { sha256 } from './sha256.js';

interface NativeHash {
  update(part: string | Uint8Array): NativeHash;
  digest(as: 'hex'): string;
}
interface NativeHashes {
  createHash(name: string): NativeHash;
  /** Of one part, without the object; absent in older ones. */
  hash?(name: string, part: string | Uint8Array): string;
}
interface Native {
  readonly process?: { getBuiltinModule?: (name: string) => NativeHashes | undefined };
  readonly Buffer?: { from(bytes: Uint8Array | string): { toString(as: 'hex' | 'base64url'): string } };
}
/** Node's own, where there are such: they are faster. */
const { process, Buffer } = globalThis as Native;
const native = process?.getBuiltinModule?.('node:crypto');

/** The SHA-256 of texts in UTF-8 and bytes, one behind the other, as 64 hexadecimal digits. */
export function hashOf(parts: readonly (string | Uint8Array)[]): string {
  if (native?.hash && parts.length === 1) return native.hash('sha256', parts[0] as string);
  if (native) return parts.reduce((hash: NativeHash, part) => hash.update(part), native.createHash('sha256')).digest('hex');
  const all = parts.map((part) => (typeof part === 'string' ? new TextEncoder().encode(part) : part));
  const whole = new Uint8Array(all.reduce((length, part) => length + part.length, 0));
  let at = 0;
  for (const part of all) {
    whole.set(part, at);
    at += part.length;
  }
  return sha256(whole);
}

/** A random UUID (RFC 9562, version 4). */
export const newId = (): string => globalThis.crypto.randomUUID();

/** Drawn by the page, since each draw takes longer than the bytes; each byte is given out once, and leaves the page when it is. */
const page = new Uint8Array(4096);
let left = 0;

function randomBytes(count: number): Uint8Array {
  if (count > left) {
    globalThis.crypto.getRandomValues(page);
    left = page.length;
  }
  const bytes = page.slice(left - count, left);
  page.fill(0, left - count, left);
  left -= count;
  return bytes;
}

export const toHex = (bytes: Uint8Array): string =>
  Buffer?.from(bytes).toString('hex') ?? bytes.reduce((hex, byte) => hex + byte.toString(16).padStart(2, '0'), '');
export const randomHex = (bytes: number): string => toHex(randomBytes(bytes));
/** 256 random bits, in base64url. */
export const randomSecret = (): string => encoded(randomBytes(32));

const encoded = (bytes: Uint8Array) =>
  Buffer?.from(bytes).toString('base64url') ??
  btoa(String.fromCharCode(...bytes))
    .replace(/\+/g, '-')
    .replace(/\//g, '_')
    .replace(/=+$/, '');

/** A text in UTF-8 as base64url (RFC 4648, section 5), without padding. */
export const toBase64url = (text: string): string => Buffer?.from(text).toString('base64url') ?? encoded(new TextEncoder().encode(text));

/** The text that is in base64url; empty for what is none. */
export function fromBase64url(text: string): string {
  try {
    const bytes = Uint8Array.from(atob(text.replace(/-/g, '+').replace(/_/g, '/')), (letter) => letter.charCodeAt(0));
    return new TextDecoder().decode(bytes);
  } catch {
    return '';
  }
}
