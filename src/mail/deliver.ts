import { type Kysely, sql } from 'kysely';
import { hashOf, LintelError, newId } from '../base/index.js';
import { type LintelTables, type NoticeName, personByAddress, proofToken, readAddress, renewToken } from '../membership/index.js';
import { type LinkUse, makeLink } from './links.js';
import { type InvitationMail, type Mailer, type MailWords, type Message, setMessage } from './message.js';

/** What takes waiting messages to the mail. */
export interface Delivery {
  readonly db: Kysely<LintelTables>;
  readonly mailer: Mailer;
  readonly now: () => number;
  /** The page of the application that an invitation opens. */
  readonly invitationLink: (token: string) => string;
  readonly invitationWords: (mail: InvitationMail) => MailWords;
  /** The page of the application on which a new address is proven. */
  readonly addressLink: ((token: string) => string) | undefined;
  /** The pages that the links in letters about an account open. */
  readonly accountLinks: Readonly<Partial<Record<LinkUse, (token: string) => string>>>;
  readonly noticeWords: (notice: NoticeName, of: Readonly<Record<string, string>>) => MailWords;
  /** Messages that may go to one address in 24 hours. */
  readonly toAddress: number;
}

/** Tries before a message is given up, about four hours in all. */
const MAX_TRIES = 10;
/** A message that was taken up is its sender's for so many seconds; as long as they are at it, again and again. */
const LEASE = 120;

interface Taken {
  tenant_id: string;
  number: string | number;
  part: number;
  invitation_id: string | null;
  notice: NoticeName | null;
  to_address: string | null;
  of: Record<string, string>;
  tries: number;
}

/** Takes up the message that is due first, so that no other sender does: it does not wait for what another one holds. */
async function takeUp({ db, now }: Delivery): Promise<Taken | undefined> {
  const [at, until] = [new Date(now()), new Date(now() + LEASE * 1000)];
  const { rows } = await sql<Taken>`
    update lintel_outbox set tries = tries + 1, next_at = ${until}
    where (tenant_id, number, part) in (select tenant_id, number, part from lintel_outbox where state = 'waiting' and next_at <= ${at} order by next_at limit 1 for update skip locked)
    returning tenant_id, number, part, invitation_id, notice, to_address, of, tries`.execute(db);
  return rows[0];
}

const DAY = 86_400_000;

/** Links that may go to one address in an hour: whoever asks for them in another's name keeps nobody else's message back. */
const LINKS = 5;
const HOUR = 3_600_000;

/** What an owner is told at once, whatever else was sent to them. */
const OF_SECURITY: ReadonlySet<string> = new Set<NoticeName>([
  'address-changed',
  'password-changed',
  'sign-in-locked',
  'factor-added',
  'factor-removed',
  'recovery-code-used',
]);
/** What is sent on somebody's asking, to an address that anybody may name. */
const LETTERS = {
  'sign-up': { isMeant: (isOwned: boolean) => !isOwned, else: 'sign-up-taken' },
  forgotten: { isMeant: (isOwned: boolean) => isOwned, else: 'forgotten-unknown' },
  factor: { isMeant: (isOwned: boolean) => isOwned, else: 'forgotten-unknown' },
  'keep-factors': { isMeant: (isOwned: boolean) => isOwned, else: 'forgotten-unknown' },
} as const satisfies Record<LinkUse, { readonly isMeant: (isOwned: boolean) => boolean; readonly else: NoticeName }>;
const isLetter = (notice: string | null): notice is LinkUse => notice !== null && Object.hasOwn(LETTERS, notice);

/** Until when an address has had enough messages, if it has. Nobody is told why one waits: it would tell of other tenants. */
async function fullUntil({ db, now, toAddress }: Delivery, address: string, notice: string | null): Promise<Date | undefined> {
  if (notice !== null && OF_SECURITY.has(notice)) return undefined;
  const [most, span] = isLetter(notice) ? [LINKS, HOUR] : [toAddress, DAY];
  const rows = await db
    .selectFrom('lintel_mailed')
    .select('at')
    .where('address', '=', address)
    .where('is_link', '=', isLetter(notice))
    .where('at', '>', new Date(now() - span))
    .orderBy('at', 'desc')
    .limit(most)
    .execute();
  const first = rows[most - 1];
  return first && new Date(first.at.getTime() + span);
}

/** A message that is to go out now, and to whom. */
interface Ready {
  readonly to: Message['to'];
  readonly words: () => Promise<{ readonly words: MailWords; readonly link?: string } | undefined>;
}

async function readyInvitation({ db, ...delivery }: Delivery, taken: Taken & { invitation_id: string }): Promise<Ready | undefined> {
  const row = await db
    .selectFrom('lintel_invitation as i')
    .innerJoin('lintel_tenant as t', 't.id', 'i.tenant_id')
    .leftJoin('lintel_person as p', 'p.id', 'i.invited_by')
    .select(['i.address', 'i.address_written', 'i.name', 'i.status', 'i.expires_at', 't.name as tenant', 'p.name as inviter', 't.status as open'])
    .where('i.tenant_id', '=', taken.tenant_id)
    .where('i.id', '=', taken.invitation_id)
    .executeTakeFirstOrThrow();
  if (row.status !== 'pending' || row.open !== 'open') return undefined;
  return {
    to: { name: row.name ?? '', address: row.address_written },
    words: async () => {
      // The secret is made when it is sent: none lies in the outbox. One from an earlier try may have arrived, so it still counts.
      const link = delivery.invitationLink(await renewToken(db, taken.tenant_id, taken.invitation_id, 'mailed'));
      const of = { tenantName: row.tenant, invitedBy: row.inviter ?? row.tenant, name: row.name, link, expiresAt: row.expires_at };
      return { words: delivery.invitationWords(of), link };
    },
  };
}

/** A letter that was asked for: what it says depends on whether somebody has proven that the address is theirs, which is found out only here. */
function readyLetter({ db, now, accountLinks, noticeWords }: Delivery, notice: LinkUse, address: string): Ready {
  return {
    to: { name: '', address },
    words: async () => {
      const { isMeant, else: instead } = LETTERS[notice];
      const owner = await personByAddress(db, address);
      // guard letter-to-proven-address by accounts: A letter for a forgotten password would go to an address that its account never proved.
      if (!isMeant(owner !== undefined && /* guard letter-to-proven-address */ Boolean(owner.confirmedAt))) return { words: noticeWords(instead, {}) };
      const link = accountLinks[notice];
      if (!link)
        throw new LintelError('option-missing', `a letter waits, and createLintel has no accountLinks for "${notice}"; say which page of yours it opens`, {});
      const token = await makeLink(db, notice, readAddress(address).normal, now());
      return token === undefined ? undefined : { words: noticeWords(notice, {}), link: link(token) };
    },
  };
}

/** Was typed, and may be nobody's: then nothing is sent. */
function readyLocked({ db, noticeWords }: Delivery, address: string): Ready {
  return {
    to: { name: '', address },
    words: async () => {
      const owner = await personByAddress(db, address);
      return owner?.confirmedAt ? { words: noticeWords('sign-in-locked', { name: owner.name }) } : undefined;
    },
  };
}

function readyNotice(delivery: Delivery, { notice, to_address, of }: Taken): Ready {
  const { db, addressLink, noticeWords } = delivery;
  const address = to_address as string;
  if (isLetter(notice)) return readyLetter(delivery, notice, address);
  if (notice === 'sign-in-locked') return readyLocked(delivery, address);
  return {
    to: { name: of.name ?? '', address },
    words: async () => {
      const token = notice === 'prove-address' ? await proofToken(db, of.person as string, address) : undefined;
      if (notice === 'prove-address' && (token === undefined || !addressLink)) return undefined;
      return { words: noticeWords(notice as NoticeName, of), ...(token && addressLink && { link: addressLink(token) }) };
    },
  };
}

/** What became of a message: a moment means that it waits until then. */
async function deliverOne(delivery: Delivery, taken: Taken): Promise<Date | undefined> {
  const { db, now } = delivery;
  const { invitation_id } = taken;
  const ready = invitation_id === null ? readyNotice(delivery, taken) : await readyInvitation(delivery, { ...taken, invitation_id });
  if (!ready) return undefined;
  const address = readAddress(ready.to.address).normal;
  const later = await fullUntil(delivery, address, taken.notice);
  if (later) return later;
  const said = await ready.words();
  if (!said) return undefined;
  const of = JSON.stringify([taken.tenant_id, String(taken.number), ...(taken.part === 0 ? [] : [taken.part])]);
  const id = hashOf([of]).slice(0, 32);
  await delivery.mailer.send({ id, ...setMessage(ready.to, said.words, said.link) });
  await db
    .insertInto('lintel_mailed')
    .values({ address, at: new Date(now()), id: newId(), is_link: isLetter(taken.notice) })
    .execute();
  return undefined;
}

/** Sends what waits in the outbox. A message that fails is tried again, later each time. Answers how many were sent and how many failed. */
export async function deliver(delivery: Delivery): Promise<{ sent: number; failed: number }> {
  const { db, now } = delivery;
  const count = { sent: 0, failed: 0 };
  await db
    .deleteFrom('lintel_mailed')
    .where('at', '<', new Date(now() - DAY))
    .execute();
  await db
    .deleteFrom('lintel_link')
    .where('asked_at', '<', new Date(now() - 7 * DAY))
    .execute();
  for (let taken = await takeUp(delivery); taken; taken = await takeUp(delivery)) {
    const { tenant_id, number, part, tries } = taken;
    const mine = db
      .updateTable('lintel_outbox')
      .where('tenant_id', '=', tenant_id)
      .where('number', '=', number)
      .where('part', '=', part)
      .where('state', '=', 'waiting')
      // Nobody has taken it up since.
      .where('tries', '=', tries);
    // However slow the server is: it stays this sender's.
    const keeping = setInterval(
      () => {
        mine
          .set({ next_at: new Date(now() + LEASE * 1000) })
          .execute()
          .catch(() => {});
      },
      (LEASE * 1000) / 3,
    );
    try {
      const later = await deliverOne(delivery, taken);
      if (later) {
        await mine.set({ next_at: later, tries: tries - 1 }).execute();
        continue;
      }
      await mine.set({ state: 'sent', last_error: null }).execute();
      count.sent += 1;
    } catch (error) {
      const again = new Date(now() + 2 ** tries * 15_000);
      await mine.set({ state: tries >= MAX_TRIES ? 'given up' : 'waiting', next_at: again, last_error: String(error).slice(0, 500) }).execute();
      count.failed += 1;
    } finally {
      clearInterval(keeping);
    }
  }
  return count;
}
