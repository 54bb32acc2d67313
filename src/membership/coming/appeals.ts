import { sql } from 'kysely';
import { LintelError, newId } from '../../base/index.js';
import { type Charter, KEYHOLDER, nameNow } from '../../charter/index.js';
import { aKeyholder, type Standing, throwIfRefused } from '../../standing/index.js';
import { type Change, changeTenant } from '../change/index.js';
import { insistOnPeople, isKnown, knowsOf, ownRoles, standingsOf } from '../held/index.js';
import { tell } from '../record/index.js';
import { peopleOfHolders } from '../steps/index.js';
import { readWords, type Setting } from '../terms/index.js';

const DAY = 86_400_000;
/** Days for which an appeal waits for an answer. */
const WAITS_DAYS = 14;
/** Appeals of one person in 24 hours. */
const MOST_A_DAY = 20;
/** Of those who may answer, so many are written to; all of them see it among the appeals. */
const MOST_TOLD = 10;
/** Whoever holds one of these may make some of the changes that would allow an action, and so answers appeals. */
const ANSWERING = ['member.assign', 'group.arrange', 'unit.arrange'] as const;

/** How an appeal stands. `expired`: nobody answered in time. */
export type AppealStatus = 'open' | 'agreed' | 'declined' | 'withdrawn' | 'expired';

/** What somebody who was refused asks for. */
export interface Appeal {
  readonly id: string;
  readonly userId: string;
  /** Of the person who asks. */
  readonly name: string;
  /** `hive.update`. */
  readonly action: string;
  readonly recordId: string;
  /** Why, in the words of the person who asks. */
  readonly words: string | null;
  readonly status: AppealStatus;
  readonly raisedAt: Date;
  readonly expiresAt: Date;
  readonly answeredAt: Date | null;
  /** What whoever declined it said. */
  readonly reason: string | null;
}

const mayAnswer = (standing: Standing<any>) => ANSWERING.some((operation) => standing.may(operation));

/** Of the members who may answer an appeal of this person, the first by name, with where they are written to. */
async function answerers({ tx, setting, tenantId }: Change, asker: string): Promise<string[]> {
  const charter = setting.charter.withRoles(await ownRoles(tx, setting.charter, tenantId)) as Charter;
  const gives = (role: string) => charter.resolveRole(role).grants.some(({ permission }) => (ANSWERING as readonly string[]).includes(permission));
  const giving = [KEYHOLDER, ...Object.keys(charter.data.roles).filter(gives)];
  const { rows } = await sql<{ id: string; address: string }>`
    with holder as (select a.holder_on as via, a.holder_id as id from lintel_assignment a where a.tenant_id = ${tenantId}
      and (a.role = any(${giving}::text[]) or a.permission = any(${[...ANSWERING]}::text[])))
    select p.id, p.address_written as address from lintel_member m join lintel_person p on p.id = m.user_id
    where m.tenant_id = ${tenantId} and m.user_id <> ${asker} and m.responsible_id is null and m.user_id in (${peopleOfHolders(tenantId)})
    order by p.name, p.id limit 500`.execute(tx);
  const inside = { ...setting, db: tx };
  const standings = await standingsOf(
    inside,
    tenantId,
    rows.map(({ id }) => id),
  );
  const told: string[] = [];
  for (const { id, address } of rows) {
    const standing = standings.get(id);
    if (told.length < MOST_TOLD && standing && mayAnswer(standing) && standing.may('member.read') && (await knowsOf(inside, standing, asker)))
      told.push(address);
  }
  return told;
}

const onRecord = ({ id, userId, action, recordId }: Pick<Appeal, 'id' | 'userId' | 'action' | 'recordId'>) => ({
  appeal: id,
  user: userId,
  action,
  record: recordId,
});

/**
 * Asks those who may change it for an action that was refused. They are told; it waits for {@link WAITS_DAYS} days. To ask the same again is to ask once.
 *
 * @throws LintelError `too-many-appeals`; `people-only` for a program.
 */
export async function raiseAppeal(
  setting: Setting,
  userId: string,
  tenantId: string,
  ask: { readonly action: string; readonly recordId: string; readonly words?: string | undefined },
): Promise<string> {
  return changeTenant(setting, tenantId, userId, async (change) => {
    const { tx, at, actor } = change;
    if (actor.facts.program) throw new LintelError('people-only', 'A program asks for nothing: whoever is responsible for it does.', {});
    const { action, recordId } = ask;
    const mine = tx.selectFrom('lintel_appeal').where('tenant_id', '=', tenantId).where('user_id', '=', userId);
    const waiting = await mine
      .select('id')
      .where('action', '=', action)
      .where('record_id', '=', recordId)
      .where('status', '=', 'open')
      .where('expires_at', '>', at)
      .executeTakeFirst();
    if (waiting) return { result: waiting.id, entry: [] };
    const { count } = await mine
      .select((eb) => eb.fn.countAll().as('count'))
      .where('raised_at', '>', new Date(at.getTime() - DAY))
      .executeTakeFirstOrThrow();
    if (Number(count) >= MOST_A_DAY)
      throw new LintelError(
        'too-many-appeals',
        `You have asked for ${MOST_A_DAY} things within a day. Wait for answers, or talk to ${aKeyholder(setting.charter)}.`,
        {},
      );
    const id = newId();
    const words = readWords(ask.words);
    const expires_at = new Date(at.getTime() + WAITS_DAYS * DAY);
    await tx
      .insertInto('lintel_appeal')
      .values({ tenant_id: tenantId, id, user_id: userId, action, record_id: recordId, words, status: 'open', raised_at: at, expires_at })
      .execute();
    const { label } = setting.charter.permission(action);
    await tell(change, userId, await answerers(change, userId), 'appeal-raised', {
      tenant: actor.facts.tenant.name,
      person: actor.facts.me.name ?? userId,
      action: label,
    });
    return { result: id, entry: { what: 'access asked for', event: onRecord({ id, userId, action, recordId }), ...(words && { words: { words } }) } };
  });
}

/** What appeals are read from. */
function appeals({ db, now }: Setting, tenantId: string) {
  return db
    .selectFrom('lintel_appeal as a')
    .innerJoin('lintel_person as p', 'p.id', 'a.user_id')
    .where('a.tenant_id', '=', tenantId)
    .select(['a.id', 'a.user_id as userId', 'p.name', 'a.action', 'a.record_id as recordId', 'a.words', 'a.raised_at as raisedAt', 'a.expires_at as expiresAt'])
    .select(['a.answered_at as answeredAt', 'a.reason'])
    .select(sql<AppealStatus>`case when a.status = 'open' and a.expires_at <= ${new Date(now())} then 'expired' else a.status end`.as('status'));
}

const asNow = ({ charter }: Setting, rows: readonly Appeal[]): Appeal[] => rows.map((row) => ({ ...row, action: nameNow(charter, row.action) }));

/** The last 100 appeals of a person, the latest first. */
export async function appealsOf(setting: Setting, userId: string, tenantId: string): Promise<Appeal[]> {
  return asNow(setting, await appeals(setting, tenantId).where('a.user_id', '=', userId).orderBy('a.raised_at', 'desc').orderBy('a.id').limit(100).execute());
}

/** @throws LintelError `refused` for somebody who could make no change that an appeal asks for. */
function insistOnAnswering(standing: Standing<any>): void {
  if (!mayAnswer(standing)) throwIfRefused(standing.decide(ANSWERING[0]));
}

/** Open appeals of others that this person may answer. @throws LintelError `refused`. */
function toAnswer(setting: Setting, standing: Standing<any>) {
  insistOnAnswering(standing);
  const known = insistOnPeople(standing);
  const tenantId = standing.facts.tenant.id;
  return appeals(setting, tenantId)
    .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'a.tenant_id').onRef('m.user_id', '=', 'a.user_id'))
    .where('a.status', '=', 'open')
    .where('a.expires_at', '>', new Date(setting.now()))
    .where('a.user_id', '<>', standing.userId ?? '')
    .where(isKnown(known, tenantId, sql.ref('a.user_id')));
}

/** Open appeals of others that this person may answer, the longest waiting first, 500 at most. @throws LintelError `refused`. */
export async function appealsToAnswer(setting: Setting, standing: Standing<any>): Promise<Appeal[]> {
  return asNow(setting, await toAnswer(setting, standing).orderBy('a.raised_at').orderBy('a.id').limit(500).execute());
}

/** An open appeal that this person may answer. @throws LintelError `refused`, `not-found`. */
export async function appealToAnswer(setting: Setting, standing: Standing<any>, id: string): Promise<Appeal> {
  return onlyOne(asNow(setting, await toAnswer(setting, standing).where('a.id', '=', id).execute()));
}

function onlyOne([found]: readonly Appeal[]): Appeal {
  if (!found) throw new LintelError('not-found', 'There is no such appeal, or it is answered already.', {});
  return found;
}

/** Closes an open appeal, and tells whoever asked. @throws LintelError `refused`, `not-found` where somebody else was first. */
export async function answerAppeal(
  setting: Setting,
  actorId: string,
  tenantId: string,
  id: string,
  answer: 'agreed' | 'declined',
  reason?: string,
): Promise<void> {
  await changeTenant(setting, tenantId, actorId, async (change) => {
    const { tx, at, actor } = change;
    const appeal = await appealToAnswer({ ...setting, db: tx }, actor, id);
    const why = readWords(reason);
    await closeAppeal(change, id, { status: answer, answered_by: actorId, answered_at: at, reason: why });
    const { address_written } = await tx.selectFrom('lintel_person').select('address_written').where('id', '=', appeal.userId).executeTakeFirstOrThrow();
    const label = setting.charter.permissions.get(appeal.action)?.label ?? appeal.action;
    const of = { tenant: actor.facts.tenant.name, action: label, reason: why ?? '' };
    await tell(change, appeal.userId, [address_written], answer === 'agreed' ? 'appeal-agreed' : 'appeal-declined', of);
    return {
      result: undefined,
      entry: { what: `access ${answer === 'agreed' ? 'agreed to' : 'declined'}`, event: onRecord(appeal), ...(why && { words: { reason: why } }) },
    };
  });
}

const closeAppeal = (
  { tx, tenantId }: Change,
  id: string,
  set: { status: 'agreed' | 'declined' | 'withdrawn'; answered_by?: string; answered_at: Date; reason?: string | null },
) => tx.updateTable('lintel_appeal').set(set).where('tenant_id', '=', tenantId).where('id', '=', id).where('status', '=', 'open').execute();

/** Takes back an appeal of one's own. @throws LintelError `not-found` where it is none, or is answered. */
export async function withdrawAppeal(setting: Setting, userId: string, tenantId: string, id: string): Promise<void> {
  await changeTenant(setting, tenantId, userId, async (change) => {
    const rows = await appeals({ ...setting, db: change.tx }, tenantId)
      .where('a.user_id', '=', userId)
      .where('a.id', '=', id)
      .execute();
    const mine = onlyOne(rows.filter(({ status }) => status === 'open'));
    await closeAppeal(change, id, { status: 'withdrawn', answered_at: change.at });
    return { result: undefined, entry: { what: 'access asked for no longer', event: onRecord(mine) } };
  });
}
