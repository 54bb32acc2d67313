import { type Kysely, sql, type Transaction } from 'kysely';
import { inTransaction, isLintelError, LintelError } from '../../base/index.js';
import { type Change, changeTenant } from '../change/index.js';
import { spans } from '../record/index.js';
import { endMembership } from '../steps/index.js';
import { type LintelTables, lockPerson, lockTenants, type Setting } from '../terms/index.js';
import { tenantsOfPerson } from './deactivating.js';

/** By what somebody is found: their id, and every address that was ever theirs, as it is compared and as it was written. */
interface Traces {
  readonly userId: string;
  readonly addresses: readonly string[];
}

async function tracesOf(db: Kysely<LintelTables>, userId: string): Promise<Traces | undefined> {
  const person = await db.selectFrom('lintel_person').select(['address', 'address_written', 'kept_by']).where('id', '=', userId).executeTakeFirst();
  if (!person) return undefined;
  // Under the address of an account that a tenant keeps somebody else may be known everywhere else.
  if (person.kept_by !== null) return { userId, addresses: [person.address] };
  const held = await db.selectFrom('lintel_address_held').select('address').where('person_id', '=', userId).execute();
  const invited = await db.selectFrom('lintel_invitation').select('address').where('accepted_by', '=', userId).execute();
  const wanted = await db.selectFrom('lintel_address_proof').select('address').where('person_id', '=', userId).execute();
  const all = [person.address, person.address_written.toLowerCase(), ...[...held, ...invited, ...wanted].map(({ address }) => address)];
  // Whoever has one of them now keeps what is about it.
  const others = await db.selectFrom('lintel_person').select('address').where('address', 'in', all).where('id', '<>', userId).execute();
  const theirs = new Set(others.map(({ address }) => address));
  return { userId, addresses: [...new Set(all)].filter((address) => !theirs.has(address)) };
}

/** True of a text that has one of these addresses in it. */
const names = ({ addresses }: Traces, text: ReturnType<typeof sql>) =>
  sql<boolean>`exists (select from unnest(${addresses}::text[]) a (address) where strpos(lower(${text}), a.address) > 0)`;

/** Invitations that are about somebody, or by them. */
const invitationsAbout = (traces: Traces) =>
  sql`select i.tenant_id, i.id from lintel_invitation i where i.address = any(${traces.addresses}::text[]) or i.accepted_by = ${traces.userId}`;

/** What an event says of whom it is about: whatever stands under one of these names, alone or in a list. */
const PEOPLE_IN_EVENTS = ['user', 'keyholder', 'responsible', 'of', 'from', 'to', 'people', 'before', 'after'];

/** Words of events that somebody caused, that are about them, or that name an address of theirs. */
const wordsAbout = (traces: Traces) => sql`
  from lintel_audit_words w join lintel_audit a on a.tenant_id = w.tenant_id and a.number = w.number where (
    a.actor = ${traces.userId}
    or exists (select from unnest(${PEOPLE_IN_EVENTS}::text[]) k (name) where jsonb_path_exists(a.event -> k.name, '$[*] ? (@ == $id || @.user == $id)', jsonb_build_object('id', ${traces.userId}::text)))
    or (a.tenant_id, a.event ->> 'invitation') in (${invitationsAbout(traces)} or i.invited_by = ${traces.userId})
    or ${names(traces, sql`w.words::text`)})`;

/** The tenants in which something is to be erased, by id. */
async function tenantsWith(db: Kysely<LintelTables>, traces: Traces): Promise<string[]> {
  const { rows } = await sql<{ tenant_id: string }>`
    select tenant_id from lintel_person_tenant where person_id = ${traces.userId} union select w.tenant_id ${wordsAbout(traces)}
    union select tenant_id from (${invitationsAbout(traces)}) i union select id from lintel_tenant t where ${names(traces, sql`t.contact`)} order by 1`.execute(
    db,
  );
  return rows.map((row) => row.tenant_id);
}

/** Erases words in one tenant, and answers the numbers of their events. The reason of several that were done together is erased with one of them. */
async function eraseWords({ tx, tenantId }: Change, traces: Traces): Promise<number[]> {
  const { rows } = await sql<{ number: string }>`
    with found as (select w.number, a.at, a.actor, w.words ->> 'reason' as reason ${wordsAbout(traces)} and w.tenant_id = ${tenantId})
    delete from lintel_audit_words d using lintel_audit b where d.tenant_id = ${tenantId} and b.tenant_id = d.tenant_id and b.number = d.number
      and (d.number in (select number from found) or (b.at, b.actor, d.words ->> 'reason') in (select at, actor, reason from found))
    returning d.number`.execute(tx);
  const numbers = rows.map((row) => Number(row.number)).sort((a, b) => a - b);
  await tx
    .updateTable('lintel_unheard')
    .set({ error: 'erased' })
    .where('tenant_id', '=', tenantId)
    .where('number', 'in', [0, ...numbers])
    .execute();
  return numbers;
}

/** What names somebody in one tenant, besides the record. */
async function eraseIn({ tx, tenantId }: Change, traces: Traces): Promise<void> {
  const { userId } = traces;
  const mine = sql<boolean>`(tenant_id, id) in (${invitationsAbout(traces)})`;
  const status = sql<'withdrawn'>`case status when 'pending' then 'withdrawn' else status end`;
  const gone = { address: `erased ${userId}`, address_written: 'erased', name: null, gives: '{}', status };
  await sql`update lintel_outbox set last_error = null where tenant_id = ${tenantId} and (tenant_id, invitation_id) in (${invitationsAbout(traces)})`.execute(
    tx,
  );
  await tx.updateTable('lintel_invitation').set(gone).where('tenant_id', '=', tenantId).where(mine).execute();
  await sql`delete from lintel_answer where tenant_id = ${tenantId} and (actor = ${userId} or ${names(traces, sql`answer::text`)})`.execute(tx);
  await sql`update lintel_tenant set contact = null where id = ${tenantId} and ${names(traces, sql`contact`)}`.execute(tx);
}

/** A bar stays without the name of whom it keeps out. */
// guard bar-outlives-erased by arrival: A removed person would come back after being erased.
const unnamed = /* guard bar-outlives-erased (replaced) */ (tx: Kysely<LintelTables>) => tx.updateTable('lintel_identity_bar').set({ user_id: null });

/** What names somebody beside any tenant, or in several. */
async function eraseBeside(tx: Kysely<LintelTables>, traces: Traces): Promise<void> {
  const { userId, addresses } = traces;
  await tx.deleteFrom('lintel_mailed').where('address', 'in', addresses).execute();
  await tx.deleteFrom('lintel_brought').where('id', '=', userId).where('what', '<>', 'tenant').execute();
  await sql`delete from lintel_outbox where about_id = ${userId} or lower(to_address) = any(${addresses}::text[])`.execute(tx);
  await tx.deleteFrom('lintel_appeal').where('user_id', '=', userId).execute();
  await tx.updateTable('lintel_appeal').set({ reason: null }).where('answered_by', '=', userId).execute();
  for (const table of ['lintel_request', 'lintel_bar', 'lintel_activation', 'lintel_entered'] as const)
    await tx.deleteFrom(table).where('user_id', '=', userId).execute();
  // Who was removed stays out by what their provider knows them as; of whom that speaks nobody can tell any more.
  await unnamed(tx).where('user_id', '=', userId).execute();
  await tx
    .deleteFrom('lintel_look')
    .where((eb) => eb.or([eb('by_id', '=', userId), eb('user_id', '=', userId)]))
    .execute();
  await tx.deleteFrom('lintel_care').where('person_id', '=', userId).execute();
  await tx.deleteFrom('lintel_link').where('address', 'in', addresses).execute();
  await sql`delete from lintel_sign_in where who = ${userId}`.execute(tx);
  for (const table of [
    'lintel_address_proof',
    'lintel_session',
    'lintel_device',
    'lintel_accepted',
    'lintel_factor',
    'lintel_passkey',
    'lintel_recovery_code',
    'lintel_credential',
  ] as const)
    await sql`delete from ${sql.table(table)} where person_id = ${userId}`.execute(tx);
}

/** Ends a membership, if there is one, and erases what names the person; both are on record. Answers how many events lost their words. */
async function eraseFrom(setting: Setting, tenantId: string, traces: Traces, isMember: boolean): Promise<number> {
  const { userId } = traces;
  const erased = changeTenant(
    setting,
    tenantId,
    undefined,
    async (change) => {
      if (isMember) await endMembership(change, userId);
      const numbers = await eraseWords(change, traces);
      await eraseIn(change, traces);
      const ended = isMember ? [{ what: 'member erased', event: { user: userId } }] : [];
      // By what stands here, words that were erased are told from words that were deleted.
      const words = numbers.length > 0 ? [{ what: 'words erased', event: { user: userId, numbers: spans(numbers) } }] : [];
      return { result: numbers.length, entry: [...ended, ...words] };
    },
    { evenClosed: true },
  );
  return erased.catch((error: unknown) => {
    if (!isLintelError(error, 'last-keyholder')) throw error;
    throw new LintelError('last-keyholder', `${error.message} Nothing was erased.`, { tenantId });
  });
}

/** The tenants that erasing somebody changes. */
export async function tenantsToErase(tx: Kysely<LintelTables>, userId: string): Promise<string[]> {
  const traces = await tracesOf(tx, userId);
  return traces ? tenantsWith(tx, traces) : [];
}

/**
 * Erases a person: every membership ends, the account and what names them by id or by any address that was ever theirs are gone. The record of changes stays whole, since it
 * holds ids and commitments, and says which events lost their words; records of the application stay owned by the id, for somebody to take over. The id is nobody's any more.
 *
 * @returns how many events have lost their words.
 * @throws LintelError `no-account`; `last-keyholder` where somebody else has to take over first: then nothing was erased.
 */
export function erasePerson(setting: Setting, userId: string): Promise<{ readonly words: number }> {
  return inTransaction(setting.db, async (tx: Transaction<LintelTables>) => {
    const inside = { ...setting, db: tx };
    const noAccount = () => new LintelError('no-account', 'There is no such account.', {});
    const locked = await tenantsToErase(tx, userId);
    await lockTenants(tx, locked);
    // From here on they come into nothing, and have no other address.
    if (!(await lockPerson(tx, userId))) throw noAccount();
    const traces = (await tracesOf(tx, userId)) as Traces;
    const tenants = await tenantsWith(tx, traces);
    if (tenants.some((tenant) => !locked.includes(tenant)))
      throw new LintelError('try-again', 'They came into another organisation in the same moment. Nothing was erased; try again.', {});
    const mine = new Set(await tenantsOfPerson(tx, userId));
    let words = 0;
    for (const tenant of tenants) words += await eraseFrom(inside, tenant, traces, mine.has(tenant));
    await eraseBeside(tx, traces);
    await setting.eraseJournal?.(tx, userId);
    await tx.deleteFrom('lintel_person').where('id', '=', userId).execute();
    await tx.insertInto('lintel_erased').values({ person_id: userId }).execute();
    return { words };
  });
}
