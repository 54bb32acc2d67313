import { sql } from 'kysely';
import { hashOf, isLintelError, LintelError, PREPARED } from '../../base/index.js';
import { canonicalJson } from '../../charter/index.js';
import { aKeyholder, everythingMet } from '../../standing/index.js';
import { type Change, changeTenant, heldBy, insistOnApart, insistOnDomain } from '../change/index.js';
import { expectedUnder, insistOnSeat, joinTenant, takeUp } from '../coming/index.js';
import { giverInTenant } from '../held/index.js';
import type { AuditEntry } from '../record/index.js';
import { peopleTouched, rolesHeld, rolesOnRecord } from '../steps/index.js';
import { connectionSource, type Setting } from '../terms/index.js';
import { type Admission, type Claims, GIVES_NOTHING, type Given, valuesOf } from './admit.js';
import { type ConnectionRow, connectionOf } from './connections.js';
import { isSentHere, memberByAddress } from './domains.js';
import { differs, put, takeAway } from './given.js';
import { isBarred, isOnlyOneLeft, makeKept, renameKept, setActive } from './kept.js';
import { admitted, type Known, look, type Who, whoIs } from './known.js';

/** Somebody comes, as a provider has said and the library has verified. */
export interface Arrival {
  readonly tenantId: string;
  readonly connectionId: string;
  readonly claims: Claims;
}

/** What became of somebody who came. */
export interface Arrived {
  /** `in`: a member, who may enter; `refused`: nobody, or a member who does not fulfil what is required any more. */
  readonly outcome: 'in' | 'refused';
  /** Absent for somebody who was not let in. */
  readonly userId?: string;
  /** Why they were refused, or why what came was not given to them. */
  readonly said?: { readonly code: string; readonly words: string };
  readonly admission: Admission;
}

/** So many who were not let in are remembered, by connection. */
const REFUSED = 200;

/** What was not given is not given now either, unless something has changed since: what they come with, or anything in the tenant. */
const markOf = (who: Who, { refused, gives, missing }: Admission) =>
  hashOf([canonicalJson([who.address.written, who.name, refused?.words ?? null, gives, missing])]);

/** What is answered where all is as when they came last, so that nothing is to be written. */
function asItWas(known: Known, who: Who, admission: Admission): Arrived | undefined {
  const { userId, said } = known;
  if (said) return said.number === known.number && said.mark === markOf(who, admission) ? answered(known, admission, said) : undefined;
  const { goes, comes } = differs(known.holds, admission.gives);
  const isOther = goes || comes || admission.refused || known.isInactive || known.address !== who.address.written || known.name !== who.name;
  return userId !== null && known.isMember && !isOther ? answered(known, admission) : undefined;
}

function answered({ userId, isMember, isInactive }: Pick<Known, 'userId' | 'isMember' | 'isInactive'>, admission: Admission, said?: Arrived['said']): Arrived {
  const isIn = userId !== null && isMember && !isInactive && !admission.refused;
  return {
    outcome: isIn ? 'in' : 'refused',
    ...(userId !== null && isMember && { userId }),
    ...(said && { said: { code: said.code, words: said.words } }),
    admission,
  };
}

const NOT_HERE = () => new LintelError('not-found', 'There is no such page.', {});

/**
 * Somebody comes by a connection. What it gave and gives no longer goes, always; what comes, comes whole or not at all: somebody new gets nothing then, a member keeps what they have. Where all is as
 * it was, nothing is locked and nothing is written.
 *
 * @throws LintelError `not-found` for a connection that is not on, or whose tenant is closed; `no-subject`, `claims-too-large`.
 */
export async function arrive(setting: Setting, arrival: Arrival): Promise<Arrived> {
  const { tenantId, connectionId, claims } = arrival;
  const found = await setting.db
    .selectFrom('lintel_connection as c')
    .innerJoin('lintel_tenant as t', 't.id', 'c.tenant_id')
    .selectAll('c')
    .where('c.tenant_id', '=', tenantId)
    .where('c.id', '=', connectionId)
    .where('c.state', '=', 'on')
    .where('t.status', '=', 'open')
    .modifyEnd(sql.raw(PREPARED))
    .executeTakeFirst();
  if (!found) throw NOT_HERE();
  const who = whoIs(found, claims);
  const known = await look(setting.db, arrival, who.subject);
  const admission = await admitted(setting.db, setting, tenantId, found, claims);
  const before = asItWas(known, who, admission);
  if (before) return before;
  return changeTenant(setting, tenantId, undefined, async (change) => {
    const connection = await connectionOf(change.tx, tenantId, connectionId);
    if (connection.state !== 'on') throw NOT_HERE();
    return arriveIn(change, arrival, connection);
  });
}

/** The same in a change of the tenant, with rules that may be others than those that are kept. */
export async function arriveIn(
  change: Change,
  arrival: Arrival,
  connection: ConnectionRow,
): Promise<{ readonly result: Arrived; readonly entry: readonly AuditEntry[] }> {
  const { tx, setting, tenantId } = change;
  const who = whoIs(connection, arrival.claims);
  const known = await look(tx, arrival, who.subject);
  const admission = await admitted(tx, setting, tenantId, connection, arrival.claims);
  const before = asItWas(known, who, admission);
  if (before) return { result: before, entry: [] };
  const coming: Coming = { change, arrival, connection, source: connectionSource(arrival.connectionId), who, known, admission };
  return known.userId !== null && known.isMember ? memberComes(coming, known.userId) : newcomerComes(coming);
}

interface Coming {
  readonly change: Change;
  readonly arrival: Arrival;
  readonly connection: ConnectionRow;
  readonly source: string;
  readonly who: Who;
  readonly known: Known;
  readonly admission: Admission;
}

/** What a connection gives somebody from now on goes on record; what it said of them lies beside. */
function entryOf({ source, arrival, connection, who }: Coming, user: string, holds: Given, active: boolean, said: Arrived['said']): AuditEntry {
  const looked = connection.rules.map((rule) => ('requires' in rule ? rule.requires : 'says' in rule ? rule.by : rule.when)).filter((one) => one !== undefined);
  const claims = Object.fromEntries(looked.map((one) => [[one].flat().join('.'), valuesOf(arrival.claims, one)]));
  const { groups, units, permissions } = holds;
  const event = {
    source,
    user,
    roles: rolesOnRecord(holds.roles),
    groups,
    units,
    permissions: permissions.map((one) => ({ ...one, ...rolesOnRecord([{ role: '', anchor: one.anchor }])[0], role: undefined, anchor: undefined })),
    attributes: Object.keys(holds.attributes),
    ...(!active && { active }),
    ...(said && { notGiven: said.code }),
  };
  return {
    what: 'arrived',
    event,
    words: { name: who.name, subject: who.subject, claims: JSON.stringify(claims), values: JSON.stringify(holds.attributes), ...(said && { why: said.words }) },
  };
}

/** Remembers somebody as the provider knows them. @param events how many this change puts on record: they are no reason to try again what was not given. */
async function remember({ change, arrival, who, admission }: Coming, userId: string | null, said: Arrived['said'], events: number): Promise<void> {
  const { tx, tenantId, at } = change;
  const number = change.number - 1 + events;
  const row = {
    user_id: userId,
    address: who.address.written,
    name: who.name,
    said: said ? JSON.stringify({ ...said, number, mark: markOf(who, admission) }) : null,
    at,
  };
  await tx
    .insertInto('lintel_identity')
    .values({ tenant_id: tenantId, connection_id: arrival.connectionId, subject: who.subject, ...row })
    .onConflict((c) => c.columns(['tenant_id', 'connection_id', 'subject']).doUpdateSet(row))
    .execute();
}

/** Does what may be refused, or nothing of it. */
async function wholeOrNot(change: Change, work: () => Promise<void>): Promise<Arrived['said']> {
  await sql`savepoint lintel_arrival`.execute(change.tx);
  try {
    await work();
    await sql`release savepoint lintel_arrival`.execute(change.tx);
    return undefined;
  } catch (error) {
    if (!isLintelError(error)) throw error;
    await sql`rollback to savepoint lintel_arrival`.execute(change.tx);
    return { code: error.code, words: error.message };
  }
}

const CALLED = { unit: 'unit', group: 'group', record: 'record' } as const;

/** What stands against giving it, whoever it is for. @throws LintelError `no-such-unit`, `no-such-group`, `no-such-record`, `rules-alone`. */
async function insistOnGift({ change, connection, admission }: Coming): Promise<void> {
  const [missing] = admission.missing;
  // guard missing-gift-refused by arrival: A role at a unit that does not exist would be given for everything.
  if (missing)
    throw new LintelError(
      `no-such-${missing.what}`,
      `The rules give something at the ${CALLED[missing.what]} “${missing.named}”, and there is none of that name, or more than one. Nothing is given instead.`,
      { rule: missing.rule },
    );
  const { tx, setting, tenantId } = change;
  // By whoever set them up, as they stand now: what somebody left behind gives nothing to anybody.
  const giver = await giverInTenant(tx, setting, { tenant: tenantId, user: connection.by_id, fulfilled: everythingMet(setting.charter) });
  // guard rules-of-present-keyholder by arrival: Rules would count after their maker left.
  if (!giver.isKeyholder)
    throw new LintelError(
      'rules-alone',
      `Whoever set up “${connection.name}” has no full control any more. Somebody who has it looks through its rules and saves them: then they count again.`,
      {},
    );
}

/** What comes is given, and has to hold together with all that they have by other ways. @throws LintelError what the rules of the tenant refuse. */
async function give(coming: Coming, userId: string, comes: Given): Promise<void> {
  const { change, source, known, admission } = coming;
  const { setting, rules } = change;
  await insistOnGift(coming);
  const watched = Object.keys(setting.charter.data.apart).length > 0;
  const touched = watched ? await peopleTouched(change, [{ users: [userId] }]) : [];
  const before = await heldBy(change, touched);
  await put(change, source, userId, comes, admission.gives.attributes);
  if (known.isInactive) await setActive(change, source, userId, true);
  // guard arrival-one-role by arrival: Claims would give several roles where a tenant allows one.
  if (rules.oneRole && (await rolesHeld(change, { user: userId })).length > 1)
    throw new LintelError('one-role', `In ${change.actor.facts.tenant.name} everybody has one role at most.`, {});
  // guard arrival-keeps-apart by arrival: Roles that are to be apart would come together by claims.
  if (watched) insistOnApart(before, await heldBy(change, [...new Set([...touched, userId])]), () => false);
}

async function memberComes(coming: Coming, userId: string) {
  const { change, source, who, known, admission } = coming;
  const { tx } = change;
  const { goes, comes } = differs(known.holds, admission.gives);
  // guard claims-take-away by arrival: What the claims no longer give would stay.
  if (goes) await takeAway(change, source, userId, goes);
  if (known.name !== who.name || known.address !== who.address.written) await renameKept(change, userId, who.name, who.address.written);
  let said: Arrived['said'];
  let active = !known.isInactive;
  if (admission.refused) {
    said = { code: 'not-admitted', words: admission.refused.words };
    // guard refused-claims-suspend by arrival: A member whose claims no longer admit them would stay.
    active = !(await suspend(coming, userId));
  } else if (comes || known.isInactive) {
    said = await wholeOrNot(change, () => give(coming, userId, comes ?? GIVES_NOTHING));
    if (!said) active = true;
  }
  const holds = (await look(tx, coming.arrival, who.subject)).holds;
  const isOther = goes !== undefined || (comes !== undefined && !said) || active === known.isInactive;
  const entry = isOther ? [entryOf(coming, userId, holds, active, said)] : [];
  await remember(coming, userId, said, entry.length);
  return { result: answered({ userId, isMember: true, isInactive: !active }, admission, said), entry };
}

/** In the connection's name; unless nobody would be left with full control whom it did not bring. Answers whether it is so. */
async function suspend({ change, source, arrival }: Coming, userId: string): Promise<boolean> {
  const { tx, tenantId } = change;
  const { connectionId } = arrival;
  const brought = sql`select from lintel_identity i where i.tenant_id = ${tenantId} and i.connection_id = ${connectionId} and i.user_id = o.user_id`;
  if (await isOnlyOneLeft(change, userId, brought)) return false;
  await setActive(change, source, userId, false);
  await sql`delete from lintel_session where person_id = ${userId} and connection = ${connectionId} and enters = ${[tenantId]}::text[]`.execute(tx);
  return true;
}

/** Whom a directory has named before under what this claim says, and who is no other subject of this connection. It is bound once. */
async function expectedMember({ change: { tx, tenantId }, arrival, connection: { claims } }: Coming): Promise<string | undefined> {
  const [external, ...others] = claims.directory === undefined ? [] : valuesOf(arrival.claims, claims.directory);
  if (external === undefined || others.length > 0) return undefined;
  const rows = await tx
    .selectFrom('lintel_directory_user as d')
    .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'd.tenant_id').onRef('m.user_id', '=', 'd.user_id'))
    .select('d.user_id')
    .where('d.tenant_id', '=', tenantId)
    // guard directory-person-by-external-id by arrival: Somebody would arrive as another whom a directory expects.
    .where('d.external_id', '=', external)
    .where('m.expected', '=', true)
    .execute();
  // Two directories that say the same of two people say nothing.
  return rows.length === 1 ? rows[0]?.user_id : undefined;
}

/**
 * A member here says, signed in by something of their own, that this is them at the provider. From then on they come by it too.
 *
 * @throws LintelError `not-found` for a connection that is not on, or who is no member; `identity-taken` where the provider's somebody is another here, or this person another there; `removed-here`,
 *   `not-admitted`, and why what comes is not given.
 */
export async function bindIdentity(setting: Setting, arrival: Arrival, userId: string): Promise<void> {
  const { tenantId, connectionId, claims } = arrival;
  await changeTenant(setting, tenantId, userId, async (change) => {
    const { tx, actor } = change;
    const connection = await connectionOf(tx, tenantId, connectionId);
    if (connection.state !== 'on' || actor.facts.subject !== 'member') throw NOT_HERE();
    const who = whoIs(connection, claims);
    const known = await look(tx, arrival, who.subject);
    const other = await tx
      .selectFrom('lintel_identity')
      .select('subject')
      .where('tenant_id', '=', tenantId)
      .where('connection_id', '=', connectionId)
      .where('user_id', '=', userId)
      .executeTakeFirst();
    // guard connected-once by arrival: An identity or an account could be connected twice.
    if (known.userId !== null || other)
      throw new LintelError('identity-taken', `One of the two is connected already. Ask ${aKeyholder(actor.charter)} here.`, {});
    const admission = await admitted(tx, setting, tenantId, connection, claims);
    const coming: Coming = { change, arrival, connection, source: connectionSource(connectionId), who, known, admission };
    if (admission.refused) throw new LintelError('not-admitted', admission.refused.words, {});
    await insistOnNoBar(coming);
    await give(coming, userId, admission.gives);
    await remember(coming, userId, undefined, 1);
    return { result: undefined, entry: entryOf(coming, userId, admission.gives, true, undefined) };
  });
}

/** @throws LintelError `removed-here`. */
async function insistOnNoBar({ change, arrival, who }: Coming): Promise<void> {
  const barred = await isBarred(change, arrival.connectionId, who.subject);
  // guard removed-stays-out by arrival: A removed member would come back by the identity provider.
  if (barred) throw new LintelError('removed-here', `${change.actor.facts.tenant.name} has ended your membership. Ask there to be let in again.`, {});
}

/** The provider says that it has looked whether the address is theirs; one of SAML says so of whatever it says. */
// guard claimed-address-verified by arrival: An address that nobody verified would bind a person.
const isVerified = ({ terms }: ConnectionRow, claims: Claims) =>
  terms.kind === 'saml' || /* guard claimed-address-verified (negated) */ claims.email_verified === true;

/** Somebody whom the connection has not named before: a member here who has proven that very address themselves, where its domain is sent here; else somebody new. */
async function newcomerComes(coming: Coming) {
  const { change, arrival, who, admission, connection } = coming;
  const { tx, tenantId, at } = change;
  let userId = '';
  const taken: AuditEntry[] = [];
  const said = await wholeOrNot(change, async () => {
    if (admission.refused) throw new LintelError('not-admitted', admission.refused.words, {});
    await insistOnNoBar(coming);
    const expected = await expectedMember(coming);
    if (expected !== undefined) {
      userId = expected;
      await insistOnSeat(change);
      await tx.updateTable('lintel_member').set({ expected: false }).where('tenant_id', '=', tenantId).where('user_id', '=', userId).execute();
      await tx.updateTable('lintel_person').set({ activated_at: at }).where('id', '=', userId).where('activated_at', 'is', null).execute();
      await give(coming, userId, admission.gives);
      return;
    }
    const verified = isVerified(connection, arrival.claims);
    const member = verified ? await memberByAddress(change, arrival.connectionId, who.address.normal) : undefined;
    if (member !== undefined) {
      userId = member;
      await give(coming, userId, admission.gives);
      return;
    }
    insistOnDomain(change, who.address.normal);
    const prepared =
      verified && (await isSentHere(change, arrival.connectionId, who.address.normal)) ? await expectedUnder(change, who.address.normal) : undefined;
    userId = await makeKept(change, who.name, who.address.written, at);
    if (prepared) taken.push(...(await takeUp(change, prepared, userId)));
    else {
      await insistOnSeat(change);
      await joinTenant(tx, tenantId, userId, at, []);
    }
    await give(coming, userId, admission.gives);
  });
  const entry = said ? [] : [...taken, entryOf(coming, userId, admission.gives, true, undefined)];
  await remember(coming, said ? null : userId, said, entry.length);
  if (said) await forgetOld(coming);
  return { result: answered({ userId: said ? null : userId, isMember: !said, isInactive: false }, admission, said), entry };
}

/** Of those who were not let in the latest are remembered. */
async function forgetOld({ change: { tx, tenantId }, arrival }: Coming): Promise<void> {
  await sql`delete from lintel_identity where (tenant_id, connection_id, subject) in (select tenant_id, connection_id, subject from lintel_identity
    where tenant_id = ${tenantId} and connection_id = ${arrival.connectionId} and user_id is null order by at desc offset ${REFUSED})`.execute(tx);
}
