import { type Kysely, sql } from 'kysely';
import { fromBase64url, hashOf, LintelError, randomSecret, toBase64url } from '../../base/index.js';
import type { LintelTables } from './tables.js';

const hashSecret = (secret: string) => hashOf([secret]);

/** The token of an invitation: it names its tenant and invitation and holds 256 random bits, of which only the hash is kept. */
export function newToken(tenantId: string, invitationId: string): { readonly token: string; readonly hash: string } {
  const secret = randomSecret();
  return { token: joinToken(tenantId, invitationId, secret), hash: hashSecret(secret) };
}

/** Makes a new secret for a pending invitation; the one before it is dead, unless the new one is to count beside it. */
export async function renewToken(tx: Kysely<LintelTables>, tenantId: string, invitationId: string, beside?: 'beside'): Promise<string> {
  const { token, hash } = newToken(tenantId, invitationId);
  await tx
    .updateTable('lintel_invitation')
    .set({
      token_hash: hash,
      earlier_hashes: (beside ? sql`case when token_hash is null then earlier_hashes else earlier_hashes || to_jsonb(token_hash) end` : '[]') as never,
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
  const { token, hash } = newToken(tenantId, id);
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
