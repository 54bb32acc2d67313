import { sql } from 'kysely';
import { didYouMean, LintelError } from '../../base/index.js';
import type { RoleData } from '../../charter/index.js';
import { type Assignment, aKeyholder, DEMAND_HOURS, type Demands, everythingMet, openDemands, type Standing } from '../../standing/index.js';
import { type Change, changeTenant, type Handlers, insistOnApartOf, insistOnDomain, insistOnRules } from '../change/index.js';
import { giverInTenant, insistOnAll, insistOnGiving, mayGive } from '../held/index.js';
import { tell } from '../record/index.js';
import { assignmentRows } from '../steps/index.js';
import { domainOf, type Joining, readDomain, readWords, type Setting } from '../terms/index.js';
import { rolesOf } from './invitations.js';
import { keptRoles } from './invited.js';
import { insistOnSeat, joinTenant } from './tenants.js';

const DAY = 86_400_000;
/** Days for which somebody's asking waits for an answer. */
const ASKED_DAYS = 30;

interface Asking {
  readonly id: string;
  readonly name: string;
  readonly address: string;
  readonly confirmed_at: Date | null;
}

/** Makes somebody a member who comes without an invitation. */
async function join(change: Change, person: Asking, roles: readonly Assignment[]): Promise<void> {
  insistOnDomain(change, person.address);
  insistOnRules(change, roles);
  await insistOnSeat(change);
  await joinTenant(change.tx, change.tenantId, person.id, change.at, await assignmentRows(change, roles));
  await insistOnApartOf(change, person.id);
  await forget(change, person.id);
}

const forget = ({ tx, tenantId }: Change, user: string) =>
  tx.deleteFrom('lintel_request').where('tenant_id', '=', tenantId).where('user_id', '=', user).executeTakeFirst();

/** Somebody who was put out does not come in again by themselves. */
async function wasRemoved({ tx, tenantId }: Change, user: string): Promise<boolean> {
  const row = await tx.selectFrom('lintel_bar').select('removed').where('tenant_id', '=', tenantId).where('user_id', '=', user).executeTakeFirst();
  return row?.removed === true;
}

/** The roles with which somebody comes in by their address; undefined where they do not. */
async function rolesByDomain(change: Change, person: Asking): Promise<Assignment[] | undefined> {
  const { open, domains = [], roles = [], by } = change.rules.joining;
  if (!open || person.confirmed_at === null || !domains.includes(domainOf(person.address)) || by === undefined) return undefined;
  if (await wasRemoved(change, person.id)) return undefined;
  const given = rolesOf(change.setting.charter, { roles });
  const fulfilled = everythingMet(change.setting.charter);
  const giver = await giverInTenant(change.tx, change.setting, { tenant: change.tenantId, user: by, fulfilled });
  return giver.now.may('tenant.rule') && given.every((role) => mayGive(giver, role)) ? given : undefined;
}

/**
 * Asks to be let into a tenant. Where people of a domain come in by themselves, whoever has proven such an address is in at once; where it
 * may be asked, the asking waits for an answer.
 *
 * @throws LintelError `not-found` where neither is so, and where there is no such tenant; `already-member`, `suspended`, `other-domain`, `no-seat`.
 */
export async function askToJoin(setting: Setting, userId: string, tenantId: string, words?: string): Promise<'joined' | 'asked'> {
  const person = await setting.db.selectFrom('lintel_person').selectAll().where('id', '=', userId).executeTakeFirst();
  if (!person) throw new LintelError('no-account', 'Sign in or make an account first.', {});
  const said = readWords(words);
  return changeTenant(setting, tenantId, userId, async (change) => {
    const { actor, at, tx } = change;
    const { tenant, subject } = actor.facts;
    if (subject === 'member') throw new LintelError('already-member', `You are a member of ${tenant.name} already.`, { tenantId });
    const roles = subject === 'suspended' ? undefined : await rolesByDomain(change, person);
    if (roles) {
      await join(change, person, roles);
      return { result: 'joined' as const, entry: { what: 'member joined', event: { user: userId, roles: change.rules.joining.roles ?? [] } } };
    }
    if (!change.rules.joining.asks) throw new LintelError('not-found', 'There is no such page.', {});
    if (subject === 'suspended')
      throw new LintelError('suspended', `Your membership of ${tenant.name} is suspended. Ask ${aKeyholder(setting.charter)}.`, { tenantId });
    insistOnDomain(change, person.address);
    const expires_at = new Date(at.getTime() + ASKED_DAYS * DAY);
    const asked = await tx
      .insertInto('lintel_request')
      .values({ tenant_id: tenantId, user_id: userId, words: said, asked_at: at, expires_at })
      .onConflict((c) =>
        c.columns(['tenant_id', 'user_id']).doUpdateSet({ words: said, asked_at: at, expires_at }).where('lintel_request.expires_at', '<=', at),
      )
      .executeTakeFirst();
    // To ask twice is to ask once.
    if (asked.numInsertedOrUpdatedRows === 0n) return { result: 'asked' as const, entry: [] };
    return { result: 'asked' as const, entry: { what: 'asked to join', event: { user: userId }, words: { name: person.name, ...(said && { words: said }) } } };
  });
}

/** Takes back one's asking. @throws LintelError `not-found`. */
export async function stopAsking(setting: Setting, userId: string, tenantId: string): Promise<void> {
  await changeTenant(setting, tenantId, userId, async (change) => {
    if ((await forget(change, userId)).numDeletedRows === 0n) throw new LintelError('not-found', 'There is no such page.', {});
    return { result: undefined, entry: { what: 'asked no longer', event: { user: userId } } };
  });
}

/** Somebody who asks to be let in. */
export interface JoinRequest {
  readonly userId: string;
  readonly name: string;
  readonly address: string;
  /** False: nobody knows yet that the address is theirs. */
  readonly addressProven: boolean;
  readonly words: string | null;
  readonly askedAt: Date;
  readonly expiresAt: Date;
}

/** Who asks to be let in, the longest first. @throws LintelError `refused` unless the standing may invite. */
export async function listRequests(setting: Setting, standing: Standing): Promise<JoinRequest[]> {
  standing.insist('member.invite');
  insistOnAll(standing);
  const rows = await setting.db
    .selectFrom('lintel_request as r')
    .innerJoin('lintel_person as p', 'p.id', 'r.user_id')
    .select(['p.id', 'p.name', 'p.address_written', 'p.confirmed_at', 'r.words', 'r.asked_at', 'r.expires_at'])
    .where('r.tenant_id', '=', standing.facts.tenant.id)
    .where('r.expires_at', '>', new Date(setting.now()))
    .orderBy('r.asked_at')
    .orderBy('p.id')
    .limit(500)
    .execute();
  return rows.map((row) => ({
    userId: row.id,
    name: row.name,
    address: row.address_written,
    addressProven: row.confirmed_at !== null,
    words: row.words,
    askedAt: row.asked_at,
    expiresAt: row.expires_at,
  }));
}

/** @throws LintelError `not-found` for somebody who does not ask, or no longer. */
async function askingPerson({ tx, tenantId, at }: Change, user: string): Promise<Asking & { readonly address_written: string }> {
  const found = await tx
    .selectFrom('lintel_request as r')
    .innerJoin('lintel_person as p', 'p.id', 'r.user_id')
    .select(['p.id', 'p.name', 'p.address', 'p.address_written', 'p.confirmed_at'])
    .where('r.tenant_id', '=', tenantId)
    .where('r.user_id', '=', user)
    .where('r.expires_at', '>', at)
    .executeTakeFirst();
  if (!found) throw new LintelError('not-found', 'Nobody with this id asks to be let in.', {});
  return found;
}

const rolesAtBase = (roles: Readonly<Record<string, RoleData>>) =>
  Object.keys(roles).filter((id) => Object.values((roles[id] as RoleData).may).some((reaches) => reaches.includes('base')));

export const joiningSteps: Handlers<'set-rules' | 'let-in' | 'turn-away'> = {
  'set-rules': {
    needs: () => 'tenant.rule',
    // Another base is another role for whoever holds something at it.
    // guard base-change-compared by attack: Another base could widen roles beyond the chooser's power.
    touches: ({ bases }, { actor }) => (bases ? /* guard base-change-compared */ { everybody: true, roles: rolesAtBase(actor.charter.data.roles) } : {}),
    run: async (change, { oneRole, joining, bases, demands }) => {
      const { tx, tenantId, actor, rules } = change;
      if (oneRole) await insistOnOneRoleEach(change);
      const roles = joining?.roles ?? [];
      insistOnGiving(change.giver, roles);
      insistOnRules({ actor, rules: { ...rules, oneRole: oneRole ?? rules.oneRole } }, roles);
      const after = joining && {
        asks: joining.asks ?? false,
        domains: [...new Set((joining.domains ?? []).map(readDomain))],
        only: joining.only ?? false,
        open: joining.open ?? false,
        roles: await keptRoles(change, roles),
        by: actor.userId as string,
      };
      if (after && (after.only || after.open) && after.domains.length === 0)
        throw new LintelError('no-domain', 'Say of which domains: with none, nobody would come in.', {});
      for (const [kind, reach] of Object.entries(bases ?? {})) insistOnBase(change, kind, reach);
      const asked = demands && readDemands(actor, demands);
      const set = {
        ...(oneRole !== undefined && { one_role: oneRole }),
        ...(after && { joining: JSON.stringify(after) }),
        ...(bases && { bases: JSON.stringify({ ...rules.bases, ...bases }) }),
        ...(asked && { demands: JSON.stringify(asked) }),
      };
      if (Object.keys(set).length === 0) throw new LintelError('nothing-to-change', 'give oneRole, joining, bases or demands', {});
      await tx.updateTable('lintel_tenant').set(set).where('id', '=', tenantId).execute();
      return {
        what: 'rules set',
        event: { ...(oneRole !== undefined && { oneRole }), ...(after && { joining: after }), ...(bases && { bases }), ...(asked && { demands: asked }) },
        was: { before: { ...rules } },
      };
    },
  },
  'let-in': {
    needs: () => 'member.invite',
    touches: ({ user }) => ({ users: [user] }),
    run: async (change, { user, roles }) => {
      const person = await askingPerson(change, user);
      insistOnGiving(change.giver, roles);
      await join(change, person, roles);
      await tell(change, user, [person.address_written], 'let-in', { tenant: change.actor.facts.tenant.name });
      return { what: 'member joined', event: { user, roles: await keptRoles(change, roles) } };
    },
  },
  'turn-away': {
    needs: () => 'member.invite',
    touches: () => ({}),
    run: async (change, { user }) => {
      const person = await askingPerson(change, user);
      await forget(change, user);
      await tell(change, user, [person.address_written], 'turned-away', { tenant: change.actor.facts.tenant.name });
      return { what: 'turned away', event: { user } };
    },
  },
};

/** What is asked of everybody's sign-in is met by whoever asks it: nobody shuts themselves out. @throws LintelError `bad-demand`, `demand-unmet`. */
function readDemands({ facts }: Standing, { secondFactor = false, hours }: Demands): Demands {
  if (hours !== undefined && !DEMAND_HOURS.includes(hours))
    throw new LintelError('bad-demand', `“${hours}” are no hours that can be asked for; give one of ${DEMAND_HOURS.join(', ')}, or none`, { hours });
  const demands = { ...(secondFactor && { secondFactor }), ...(hours !== undefined && { hours }) };
  const [first] = Object.keys(openDemands({ name: facts.tenant.name, demands }, facts.fulfilled).demands ?? {});
  const yourself = first === 'secondFactor' ? 'Sign in with a second factor yourself' : 'Show again who you are';
  // guard demand-met-by-asker by accounts: Somebody could demand what they do not meet, and shut themselves out.
  if (first !== undefined)
    throw new LintelError('demand-unmet', `You would shut yourself out. ${yourself} before you ask it of everybody.`, { obligation: first });
  return demands;
}

/** @throws LintelError `one-role` where somebody has several already. */
async function insistOnOneRoleEach({ tx, tenantId }: Change): Promise<void> {
  const several = await tx
    .selectFrom('lintel_assignment')
    .select('user_id')
    .where('tenant_id', '=', tenantId)
    .where('user_id', 'is not', null)
    .where('role', 'is not', null)
    .groupBy('user_id')
    .having(sql`count(distinct (role, anchor, anchor_id))`, '>', 1)
    .execute();
  if (several.length === 0) return;
  throw new LintelError('one-role', 'Somebody has several roles. Leave one to each first.', {});
}

/** @throws LintelError `unknown-kind`, `no-base` for what the charter does not let a tenant choose. */
function insistOnBase({ setting }: Change, kind: string, reach: string): void {
  const { base = [], many } = setting.charter.kind(kind);
  if (base.includes(reach)) return;
  const choice = base.length > 0 ? `one of ${base.join(', ')}${didYouMean(reach, base)}` : 'nothing to choose';
  throw new LintelError('no-base', `“${reach}” cannot be the base of ${many}: there is ${choice}`, { kind, reach });
}

/** What a tenant has set for itself, for whoever may set it. @throws LintelError `refused`. */
export async function readRules(
  setting: Setting,
  standing: Standing,
): Promise<{ readonly oneRole: boolean; readonly joining: Required<Joining>; readonly bases: Record<string, string>; readonly demands: Demands }> {
  standing.insist('tenant.rule');
  const row = await setting.db
    .selectFrom('lintel_tenant')
    .select(['one_role', 'joining', 'bases', 'demands'])
    .where('id', '=', standing.facts.tenant.id)
    .executeTakeFirstOrThrow();
  const { asks = false, domains = [], only = false, open = false, roles = [] } = row.joining;
  return { oneRole: row.one_role, joining: { asks, domains, only, open, roles: rolesOf(setting.charter, { roles }) }, bases: row.bases, demands: row.demands };
}
