import { type Kysely, sql } from 'kysely';
import { hashOf, LintelError, newId } from '../base/index.js';
import { type LintelTables, newToken, splitToken } from '../membership/index.js';

/** For what a link in a letter is good, and for how many minutes from when it was sent. */
const MINUTES = { 'sign-up': 24 * 60, forgotten: 30, factor: 30, 'keep-factors': 24 * 60 } as const;
/** What a link in a letter is for. */
export type LinkUse = keyof typeof MINUTES;

const linkInvalid = () => new LintelError('link-invalid', 'This link does not count any more. Ask for a new one.', {});

/**
 * Puts a letter with a link into the outbox. What it will say, and whether there is somebody of this address, is found out when it is sent: to ask is the same work whoever is asked about.
 * A letter that waits already is not written twice.
 */
export async function askForLink(tx: Kysely<any>, what: LinkUse, address: { readonly normal: string; readonly written: string }, at: Date): Promise<void> {
  await sql`insert into lintel_link (id, what, address, asked_at) values (${newId()}, ${what}, ${address.normal}, ${at})
    on conflict (what, address) do update set asked_at = excluded.asked_at`.execute(tx);
  await sql`insert into lintel_outbox (tenant_id, number, part, notice, to_address, about_id, of, next_at, queued_at)
    select '', 0, nextval('lintel_notice_number'), ${what}, ${address.written}, '', '{}', ${at}, ${at}
    where not exists (select from lintel_outbox where state = 'waiting' and notice = ${what} and to_address = ${address.written})`.execute(tx);
}

/** Makes the secret of a link when it is sent, so that none lies in the outbox. The one that was sent before is dead, and the term begins. */
export async function makeLink(db: Kysely<LintelTables>, what: LinkUse, address: string, now: number): Promise<string | undefined> {
  const id = newId();
  const { token, hash } = newToken(what, id, 'mailed');
  const { numUpdatedRows } = await db
    .updateTable('lintel_link')
    .set({ id, secret_hash: hash, expires_at: new Date(now + MINUTES[what] * 60_000) })
    .where('what', '=', what)
    .where('address', '=', address)
    .executeTakeFirst();
  return numUpdatedRows > 0n ? token : undefined;
}

/** To which address a link went that still counts; changes nothing. @throws LintelError `link-invalid`. */
export async function lookAtLink(db: Kysely<any>, what: LinkUse, token: unknown, now: number): Promise<{ readonly address: string }> {
  return ofToken(what, token, now, ({ id, hash, at }) =>
    sql<{ address: string }>`select address from lintel_link where id = ${id} and what = ${what} and secret_hash = ${hash} and expires_at > ${at}`.execute(db),
  );
}

/** Uses a link up: of several at once, one does. @throws LintelError `link-invalid`. */
export function spendLink(tx: Kysely<any>, what: LinkUse, token: unknown, now: number): Promise<{ readonly address: string }> {
  // guard link-once by accounts: A link could be used again.
  return ofToken(what, token, now, ({ id, hash, at }) =>
    sql<{
      address: string;
    }>`${/* guard link-once (replaced) */ sql`delete from lintel_link`} where id = ${id} and what = ${what} and secret_hash = ${hash} and expires_at > ${at} returning address`.execute(
      tx,
    ),
  );
}

async function ofToken(
  what: LinkUse,
  token: unknown,
  now: number,
  find: (by: { readonly id: string; readonly hash: string; readonly at: Date }) => Promise<{ readonly rows: readonly { readonly address: string }[] }>,
): Promise<{ readonly address: string }> {
  const [use, id, secret] = splitToken(token) ?? [];
  if (use !== what || id === undefined || secret === undefined) throw linkInvalid();
  const [found] = (await find({ id, hash: hashOf([secret]), at: new Date(now) })).rows;
  if (!found) throw linkInvalid();
  return found;
}

/** No link that went to an address counts any more; by what an owner keeps their factors they still do. */
export async function dropLinks(tx: Kysely<any>, address: string): Promise<void> {
  // guard keep-factors-survives-password by accounts: A new password would take away the link by which an owner keeps their factors.
  await tx
    .deleteFrom('lintel_link')
    .where('address', '=', address) /* guard keep-factors-survives-password */
    .where('what', '<>', 'keep-factors')
    .execute();
}

/** True, once, of a link whose time is over without that anybody used it. */
export async function takeRunOut(tx: Kysely<any>, what: LinkUse, address: string, now: number): Promise<boolean> {
  // guard factor-removal-waits by accounts: A second factor would be removed before its owner could object.
  const over = tx
    .deleteFrom('lintel_link')
    .where('what', '=', what)
    .where('address', '=', address) /* guard factor-removal-waits */
    .where('expires_at', '<=', new Date(now));
  return (await over.executeTakeFirst()).numDeletedRows > 0n;
}
