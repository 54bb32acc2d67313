import { type Kysely, sql } from 'kysely';
import { fromBase64url, hashOf, LintelError, randomSecret, toBase64url } from '../../base/index.js';
import type { LintelTables } from './tables.js';

const hashSecret = (secret: string) => hashOf([secret]);

/** How a secret gets to its owner: by mail, so that it proves their address; or it was shown to whoever asked for it. */
export type Handed = 'mailed' | 'shown';

/** What the hash is made of: of one that was shown it is another, so that it proves no address later either. */
const bits = (secret: string, how: Handed) => (how === 'shown' ? `shown ${secret}` : secret);

/** A token of 256 random bits that names what it is for, of which only the hash is kept. The token of an invitation: it names its tenant and invitation and holds 256 random bits, of which only the hash is kept. */
export function newToken(tenantId: string, invitationId: string, how: Handed): { readonly token: string; readonly hash: string } {
  const secret = randomSecret();
  return { token: joinToken(tenantId, invitationId, secret), hash: hashSecret(bits(secret, how)) };
}

/** Makes a new secret for a pending invitation. One that is mailed counts beside those before it, which may have arrived; of one that is shown those before are dead. */
export async function renewToken(tx: Kysely<LintelTables>, tenantId: string, invitationId: string, how: Handed): Promise<string> {
  const { token, hash } = newToken(tenantId, invitationId, how);
  await tx
    .updateTable('lintel_invitation')
    .set({
      token_hash: hash,
      earlier_hashes: (how === 'mailed'
        ? sql`case when token_hash is null then earlier_hashes else earlier_hashes || to_jsonb(token_hash) end`
        : '[]') as never,
    })
    .where('tenant_id', '=', tenantId)
    .where('id', '=', invitationId)
    .where('status', '=', 'pending')
    .execute();
  return token;
}

const joinToken = (...parts: readonly string[]) => parts.map(toBase64url).join('.');

/** What every key begins with, so that a scanner for leaked secrets finds it. */
const KEY_PREFIX = 'lintel_key_';

/** A key for a program: it names its tenant and itself, and holds 256 random bits, of which only the hash is kept. */
export function newKey(tenantId: string, id: string): { readonly key: string; readonly hash: string } {
  const { token, hash } = newToken(tenantId, id, 'mailed');
  return { key: `${KEY_PREFIX}${token}`, hash };
}

/** The parts of a key; undefined for what is none. */
export function readKey(key: unknown): { readonly tenantId: string; readonly id: string; readonly secret: string } | undefined {
  if (typeof key !== 'string' || !key.startsWith(KEY_PREFIX)) return undefined;
  const [tenantId, id, secret] = splitToken(key.slice(KEY_PREFIX.length)) ?? [];
  return tenantId && id && secret ? { tenantId, id, secret } : undefined;
}

/** The three parts of a token; undefined for what is none. */
export function splitToken(token: unknown): readonly string[] | undefined {
  const parts = typeof token === 'string' && token.length < 2000 ? token.split('.').map(fromBase64url) : [];
  return parts.length === 3 && parts.every((part) => part !== '' && !part.includes('\0')) ? parts : undefined;
}

/** Forged, replaced, of another tenant: nothing more is said. */
export const invalid = () => new LintelError('invitation-invalid', 'This invitation link is not valid. Ask for a new one.', {});

/** The parts of a token. @throws LintelError `invitation-invalid`. */
export function readToken(token: unknown): { tenantId: string; invitationId: string; secret: string } {
  const [tenantId, invitationId, secret] = splitToken(token) ?? [];
  if (!tenantId || !invitationId || !secret) throw invalid();
  return { tenantId, invitationId, secret };
}

/** How a secret came to its owner, if it is the one whose hash is kept. */
export function howHanded(secret: string, hash: string | null): Handed | undefined {
  if (isSecret(secret, hash)) return 'mailed';
  return isSecret(bits(secret, 'shown'), hash) ? 'shown' : undefined;
}

/** The secret is the one whose hash is kept; compared in constant time. */
export function isSecret(secret: string, hash: string | null): boolean {
  const [given, kept] = [hashSecret(secret), hash ?? ''.padEnd(64, '-')];
  let differs = given.length ^ kept.length;
  for (let i = 0; i < given.length; i++) differs |= given.charCodeAt(i) ^ kept.charCodeAt(i);
  return differs === 0;
}

/** The secret of this database by which marks are made that tell nothing of what they stand for. */
export async function secretOf(db: Kysely<LintelTables>): Promise<string> {
  const { value } = await db.selectFrom('lintel_secret').select('value').where('name', '=', 'marks').executeTakeFirstOrThrow();
  return value;
}

/** What stands for somebody as a provider knows them, and tells nothing of them to whoever has the table. */
export async function identityMark(db: Kysely<LintelTables>, tenantId: string, connection: string, subject: string): Promise<string> {
  return hashOf([JSON.stringify([await secretOf(db), tenantId, connection, subject])]);
}
