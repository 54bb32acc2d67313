import { sql } from 'kysely';
import type { Charter, RoleData } from '../charter/index.js';
import { type Facts, Standing } from '../standing/index.js';
import { type AuditEntry, type Change, changeTenant, insistOn, ownRoles, type Setting } from './change.js';
import { readFactsOf } from './facts.js';
import { groupSteps } from './groups.js';
import type { Handler, Handlers } from './handler.js';
import { holderSteps } from './holders.js';
import { insistOnKeyholder, memberSteps } from './members.js';
import { openingSteps } from './openings.js';
import { gainsOf, insistOnGains } from './power.js';
import { roleSteps } from './roles.js';
import type { Done, Step, Touched } from './step.js';
import { tenantSteps } from './tenants.js';
import { unitSteps } from './units.js';

const HANDLERS: Handlers<Step['do']> = { ...holderSteps, ...roleSteps, ...groupSteps, ...unitSteps, ...memberSteps, ...openingSteps, ...tenantSteps };

/** Everybody whose standing may be another after the steps than before. */
async function peopleTouched({ tx, tenantId, actor }: Change, touched: readonly Touched[]): Promise<string[]> {
  const all = (pick: (t: Touched) => readonly string[] | undefined) => [...new Set(touched.flatMap((t) => pick(t) ?? []))];
  const { rows } = await sql<{ user_id: string }>`
    with above as (select b.above_id as id from lintel_unit_below b where b.tenant_id = ${tenantId} and b.below_id = any(${all((t) => t.above)}::text[])),
    holder as (
      select a.holder_on as via, a.holder_id as id from lintel_assignment a where a.tenant_id = ${tenantId} and (a.role = any(${all((t) => t.roles)}::text[])
        or a.role in (select r.id from lintel_role r where r.tenant_id = ${tenantId} and r.included ?| ${all((t) => t.roles)}::text[])
        or (a.anchor = 'unit' and a.anchor_id in (select id from above)))
      union select o.to_on, o.to_id from lintel_opening o where o.tenant_id = ${tenantId} and o.group_id = any(${all((t) => t.opened)}::text[])
      union select 'group', unnest(${all((t) => t.groups)}::text[]) union select 'unit', unnest(${all((t) => t.units)}::text[]) union select 'user', unnest(${all((t) => t.users)}::text[]))
    select id as user_id from holder where via = 'user'
    union select g.user_id from holder h join lintel_group_member g on g.tenant_id = ${tenantId} and g.group_id = h.id where h.via = 'group'
    union select p.user_id from holder h join lintel_unit_below b on b.tenant_id = ${tenantId} and b.above_id = h.id
      join lintel_placement p on p.tenant_id = ${tenantId} and p.unit_id = b.below_id where h.via = 'unit'
    union select p.user_id from lintel_placement p where p.tenant_id = ${tenantId} and p.unit_id in (select id from above)`.execute(tx);
  return [...new Set([...rows.map((row) => row.user_id), ...(actor.userId === undefined ? [] : [actor.userId])])];
}

async function reading({ tx, tenantId, setting, at }: Change, users: readonly string[]): Promise<Map<string, { charter: Charter; facts: Facts }>> {
  if (users.length === 0) return new Map();
  const all = await readFactsOf(tx, setting.charter, tenantId, users, at.getTime());
  return new Map(all.map((facts) => [facts.me.userId as string, { charter: facts.roles ? setting.charter.withRoles(facts.roles) : setting.charter, facts }]));
}

const withRolesOf = ({ setting, actor }: Change, roles: Record<string, RoleData>) => new Standing(setting.charter, { ...actor.facts, roles });

async function runSteps(change: Change, steps: readonly Step[]): Promise<readonly Done[]> {
  const touched: Touched[] = [];
  for (const step of steps) {
    const handler = HANDLERS[step.do] as Handler<any>;
    const operation = handler.needs(step, change);
    if (operation !== undefined) insistOn(change, operation);
    touched.push(handler.touches(step, change));
  }
  // Whoever holds everything may bring anything about, and gains nothing.
  const users = change.actor.isKeyholder ? [] : await peopleTouched(change, touched);
  const before = await reading(change, users);
  const done: Done[] = [];
  let acting = change;
  for (const step of steps) {
    done.push(await (HANDLERS[step.do] as Handler<any>).run(acting, step));
    // Further steps may name the roles that this one made. What the actor may bring about is measured by what stood before all of them.
    if (Object.hasOwn(roleSteps, step.do)) acting = { ...change, actor: withRolesOf(change, await ownRoles(change.tx, change.tenantId)) };
  }
  const gains = [...(await reading(change, users))].flatMap(([id, facts]) => gainsOf(before.get(id), facts));
  insistOnGains(change.actor, gains, new Set(touched.flatMap((t) => t.roles ?? [])));
  await insistOnKeyholder(change);
  return done;
}

/**
 * Carries out changes of one tenant's membership, all in one transaction: each with its event on record, or none of them. Whatever the
 * steps are, nobody ends with more than the actor may give, and the actor with no more than before.
 *
 * @throws LintelError `refused`, `own-power`, `beyond-power`, `last-keyholder`, and what the steps themselves refuse.
 */
export async function carryOut(setting: Setting, tenantId: string, actorId: string, steps: readonly Step[], reason?: string): Promise<readonly Done[]> {
  if (steps.length === 0) return [];
  return changeTenant(
    setting,
    tenantId,
    actorId,
    async (change) => {
      const done = await runSteps(change, steps);
      const entry = done.map(({ what, event, words }): AuditEntry => ({ what, event, words: { ...words, ...(reason && { reason }) } }));
      return { result: done, entry };
    },
    steps.length,
  );
}
