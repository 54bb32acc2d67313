import { LintelError, needed, randomHex } from '../base/index.js';
import { spendLink } from '../mail/index.js';
import { askFor } from './asking.js';
import { type Ground, type Row, signInFailed, type Tx } from './ground.js';
import type { Coming } from './options.js';
import { seal, unseal } from './sealed.js';
import { type Session, sha256 } from './sessions.js';

/** RFC 6238: six digits, thirty seconds, one step of drift on either side. */
const PERIOD = 30;
const DRIFT = 1;
const RECOVERY_CODES = 10;

const purposeOf = (userId: string) => `totp ${userId}`;
/** @throws LintelError `option-missing`. */
const otpauth = () => needed('a second factor', 'otpauth', () => import('otpauth'));
const generator = async (ground: Ground, address: string, base32: string) => {
  const { Secret, TOTP } = await otpauth();
  return new TOTP({ issuer: ground.options.name ?? 'Account', label: address, secret: Secret.fromBase32(base32), period: PERIOD });
};
/** To whom it is told that something by which they sign in has changed. */
export const ownerOf = (row: Row) => ({ id: row.person_id, name: row.name, address: row.address_written });

/** What an authenticator takes: the address of a QR code, the code as a picture, and the secret to type. Shown once. */
export interface NewFactor {
  readonly uri: string;
  readonly svg: string;
  readonly secret: string;
}

/**
 * True of a code that is right now and was not given before: of several at once one is.
 *
 * @param isConfirmed false for the first code of a new generator.
 */
export async function codeIsRight(ground: Ground, userId: string, code: unknown, isConfirmed = true): Promise<boolean> {
  const kept = await ground.db
    .selectFrom('lintel_factor')
    .select('sealed')
    .where('person_id', '=', userId)
    .where('confirmed_at', isConfirmed ? 'is not' : 'is', null)
    .executeTakeFirst();
  const digits = String(code).replace(/\s/g, '');
  if (!kept || !/^\d{6}$/.test(digits)) return false;
  const totp = await generator(ground, '', unseal(ground.options.secrets, purposeOf(userId), kept.sealed));
  const delta = totp.validate({ token: digits, timestamp: ground.now, window: DRIFT });
  if (delta === null) return false;
  const step = Math.floor(ground.now / 1000 / PERIOD) + delta;
  const used = await ground.db
    .updateTable('lintel_factor')
    .set({ last_step: step })
    .where('person_id', '=', userId)
    .where('sealed', '=', kept.sealed)
    // guard code-once by accounts: A code could be used again within its half minute.
    .where('last_step', '<', step)
    .executeTakeFirst();
  return used.numUpdatedRows === 1n;
}

/** The first factor takes the password, given lately, and a letter. */
export async function askForFactor(ground: Ground, token: string, coming: Coming): Promise<void> {
  const row = await ground.ownLately(token);
  if (row.confirmed_at === null) throw new LintelError('address-not-confirmed', 'Confirm your address first: a letter goes there.', {});
  await askFor(ground, 'factor', { ...coming, address: row.address_written });
}

/**
 * Uses up the letter's link by which somebody adds their first factor. An account that a tenant keeps gets no letters; what is lost there, the tenant makes anew.
 *
 * @throws LintelError `link-needed`, `link-invalid`.
 */
export async function spendOwnLink({ now }: Ground, tx: Tx, row: Row, link: string | undefined): Promise<void> {
  if (row.kept_by !== null) return;
  if (link === undefined) throw new LintelError('link-needed', 'The first second factor takes a letter: ask for it, and follow its link.', {});
  const { address } = await spendLink(tx, 'factor', link, now);
  // guard factor-letter-own-address by accounts: A letter to another account could add a second factor.
  if (address !== row.address) throw new LintelError('link-invalid', 'This link is for another account. Ask for a new one.', {});
}

export async function beginFactor(ground: Ground, token: string, link: string | undefined): Promise<NewFactor> {
  const row = await ground.ownLately(token);
  const { Secret } = await otpauth();
  const secret = new Secret({ size: 20 }).base32;
  const sealed = seal(ground.options.secrets, purposeOf(row.person_id), secret);
  await ground.inTransaction(async (tx) => {
    await spendOwnLink(ground, tx, row, link);
    const fresh = { sealed, made_at: new Date(ground.now), last_step: 0 };
    const made = await tx
      .insertInto('lintel_factor')
      .values({ person_id: row.person_id, ...fresh })
      .onConflict((c) => c.column('person_id').doUpdateSet(fresh).where('lintel_factor.confirmed_at', 'is', null))
      .executeTakeFirst();
    if (made.numInsertedOrUpdatedRows === 0n) throw new LintelError('factor-exists', 'There is a second factor already. Remove it first.', {});
  });
  const uri = (await generator(ground, row.address_written, secret)).toString();
  const { renderSVG } = await needed('a QR code', 'uqr', () => import('uqr'));
  return { uri, secret, svg: renderSVG(uri) };
}

/** So that a code is typed without a mistake: no letters that look alike, in groups. 80 bits. */
function newCode(): string {
  const letters = 'abcdefghjkmnpqrstuvwxyz023456789';
  const bytes = randomHex(16).match(/../g) as string[];
  return [0, 4, 8, 12]
    .map((at) =>
      bytes
        .slice(at, at + 4)
        .map((byte) => letters[Number.parseInt(byte, 16) % letters.length])
        .join(''),
    )
    .join('-');
}
const hashOfCode = (userId: string, code: string) => sha256(`${userId} ${code.toLowerCase().replace(/[\s-]/g, '')}`);

export async function renewCodes(tx: Tx, userId: string): Promise<string[]> {
  const codes = Array.from({ length: RECOVERY_CODES }, newCode);
  await tx.deleteFrom('lintel_recovery_code').where('person_id', '=', userId).execute();
  await tx
    .insertInto('lintel_recovery_code')
    .values(codes.map((code) => ({ person_id: userId, code_hash: hashOfCode(userId, code) })))
    .execute();
  return codes;
}

export async function confirmFactor(
  ground: Ground,
  token: string,
  code: string,
): Promise<{ readonly session: Session; readonly recoveryCodes: readonly string[] }> {
  const row = await ground.ownLately(token);
  await ground.counted(`code ${row.person_id}`, () => codeIsRight(ground, row.person_id, code, false));
  return ground.inTransaction(async (tx) => {
    await tx
      .updateTable('lintel_factor')
      .set({ confirmed_at: new Date(ground.now) })
      .where('person_id', '=', row.person_id)
      .execute();
    const recoveryCodes = await renewCodes(tx, row.person_id);
    await ground.sessions.end(tx, row.person_id, { but: row.id });
    await ground.tell(tx, 'factor-added', ownerOf(row));
    return { session: await ground.sessions.renew(tx, row.token_hash, ['otp'], ground.now), recoveryCodes };
  });
}

export async function newRecoveryCodes(ground: Ground, token: string): Promise<readonly string[]> {
  const row = await insistOnFactor(ground, token);
  return ground.inTransaction((tx) => renewCodes(tx, row.person_id));
}

export async function removeFactor(ground: Ground, token: string): Promise<void> {
  const row = await insistOnFactor(ground, token);
  await ground.inTransaction(async (tx) => {
    const gone = await tx.deleteFrom('lintel_factor').where('person_id', '=', row.person_id).executeTakeFirst();
    if (gone.numDeletedRows === 0n) throw new LintelError('not-found', 'There is no authenticator.', {});
    await dropCodes(tx, row.person_id);
    await ground.sessions.end(tx, row.person_id, { but: row.id });
    await ground.tell(tx, 'factor-removed', ownerOf(row));
  });
}

/** Every second factor of somebody, with what stands for one. */
export async function dropFactors(tx: Tx, userId: string): Promise<void> {
  for (const table of ['lintel_factor', 'lintel_passkey', 'lintel_recovery_code'] as const)
    await tx.deleteFrom(table).where('person_id', '=', userId).execute();
}

/** Where no second factor is left, no recovery code stands for one. */
export async function dropCodes(tx: Tx, userId: string): Promise<void> {
  for (const table of ['lintel_factor', 'lintel_passkey'] as const)
    if (await tx.selectFrom(table).select('person_id').where('person_id', '=', userId).limit(1).executeTakeFirst()) return;
  await tx.deleteFrom('lintel_recovery_code').where('person_id', '=', userId).execute();
}

async function insistOnFactor(ground: Ground, token: string): Promise<Row> {
  const row = await ground.ownLately(token);
  if (!row.has_factor) throw new LintelError('not-found', 'There is no second factor.', {});
  return row;
}

/** True of a recovery code that was not used yet. */
export async function knowsRecoveryCode(ground: Ground, userId: string, code: unknown): Promise<boolean> {
  const found = await ground.db
    .selectFrom('lintel_recovery_code')
    .select('person_id')
    .where('person_id', '=', userId)
    .where('code_hash', '=', hashOfCode(userId, String(code)))
    .executeTakeFirst();
  return found !== undefined;
}

/** Uses a recovery code up, and answers how many are left: of several at once one does. @throws LintelError `sign-in-failed`. */
export async function takeRecoveryCode(tx: Tx, userId: string, code: string): Promise<number> {
  const { numDeletedRows } = await tx
    .deleteFrom('lintel_recovery_code')
    .where('person_id', '=', userId)
    .where('code_hash', '=', hashOfCode(userId, code))
    .executeTakeFirst();
  // guard recovery-code-once by accounts: A recovery code could be used again.
  if (numDeletedRows === 0n) throw signInFailed();
  const left = await tx
    .selectFrom('lintel_recovery_code')
    .select((eb) => eb.fn.countAll().as('n'))
    .where('person_id', '=', userId)
    .executeTakeFirstOrThrow();
  return Number(left.n);
}
