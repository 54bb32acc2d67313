import { createHash, randomBytes, timingSafeEqual } from 'node:crypto';
import type { Kysely } from 'kysely';
import { LintelError } from '../base/index.js';
import type { LintelTables } from './tables.js';

const hashSecret = (secret: string) => createHash('sha256').update(secret).digest('hex');

/**
 * Makes a new secret for a pending invitation; the one before it is dead. The token names its tenant and invitation and
 * holds 256 random bits, of which only the hash is kept.
 */
export async function renewToken(tx: Kysely<LintelTables>, tenantId: string, invitationId: string): Promise<string> {
  const secret = randomBytes(32).toString('base64url');
  await tx
    .updateTable('lintel_invitation')
    .set({ token_hash: hashSecret(secret) })
    .where('tenant_id', '=', tenantId)
    .where('id', '=', invitationId)
    .where('status', '=', 'pending')
    .execute();
  return [tenantId, invitationId, secret].map((part) => Buffer.from(part).toString('base64url')).join('.');
}

/** Forged, replaced, of another tenant: nothing more is said. */
export const invalid = () => new LintelError('invitation-invalid', 'This invitation link is not valid. Ask for a new one.', {});

/** The parts of a token. @throws LintelError `invitation-invalid`. */
export function readToken(token: unknown): { tenantId: string; invitationId: string; secret: string } {
  const parts = typeof token === 'string' && token.length < 2000 ? token.split('.').map((part) => Buffer.from(part, 'base64url').toString('utf8')) : [];
  const [tenantId, invitationId, secret] = parts;
  if (parts.length !== 3 || !tenantId || !invitationId || !secret || parts.some((part) => part.includes('\0'))) throw invalid();
  return { tenantId, invitationId, secret };
}

/** The secret is the one whose hash is kept; compared in constant time. */
export function isSecret(secret: string, hash: string | null): boolean {
  const [given, kept] = [Buffer.from(hashSecret(secret)), Buffer.from(hash ?? ''.padEnd(64, '-'))];
  return given.length === kept.length && timingSafeEqual(given, kept);
}
