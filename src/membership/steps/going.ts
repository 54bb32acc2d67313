import { sql } from 'kysely';
import { didYouMean, isLintelError, LintelError } from '../../base/index.js';
import type { RoleData } from '../../charter/index.js';
import { actorOf, type Change, type Handler, type Handlers, heldBy, insistOn, insistOnApart, insistOnKeyholder } from '../change/index.js';
import { gainsAhead, type Holding, insistOnGains, knownTo, ownRoles } from '../held/index.js';
import type { Done, Step, Touched } from '../terms/index.js';
import { peopleOfHolders } from './holders.js';
import { roleSteps } from './roles.js';

/** Everybody whose standing may be another after the steps than before. */
export async function peopleTouched({ tx, tenantId, actor }: Change, touched: readonly Touched[]): Promise<string[]> {
  const all = (pick: (t: Touched) => readonly string[] | undefined) => [...new Set(touched.flatMap((t) => pick(t) ?? []))];
  const [roles, above] = [all((t) => t.roles), all((t) => t.above)];
  // Where no role and no unit is touched, the assignments of all are not looked through for it.
  const { rows } = await sql<{ user_id: string }>`
    with above as (select b.above_id as id from lintel_unit_below b where b.tenant_id = ${tenantId} and b.below_id = any(${above}::text[])),
    holder as (
      select a.holder_on as via, a.holder_id as id from lintel_assignment a where ${roles.length > 0} and a.tenant_id = ${tenantId} and a.role = any(${roles}::text[]
        || array(select r.id from lintel_role r where r.tenant_id = ${tenantId} and r.included ?| ${roles}::text[]))
      union select a.holder_on, a.holder_id from lintel_assignment a where ${above.length > 0} and a.tenant_id = ${tenantId} and a.anchor = 'unit' and a.anchor_id = any(array(select id from above))
      union select o.to_on, o.to_id from lintel_opening o where o.tenant_id = ${tenantId} and o.group_id = any(${all((t) => t.opened)}::text[])
      union select 'group', unnest(${all((t) => t.groups)}::text[]) union select 'unit', unnest(${all((t) => t.units)}::text[]) union select 'user', unnest(${all((t) => t.users)}::text[]))
    , person as (${peopleOfHolders(tenantId)}
    union select p.user_id from lintel_placement p where p.tenant_id = ${tenantId} and p.unit_id = any(array(select id from above))
    union select m.user_id from lintel_member m where m.tenant_id = ${tenantId} and (${touched.some((t) => t.everybody)} or m.responsible_id = any(${all((t) => t.users)}::text[])))
    -- Whoever stands in for one of them has what they have.
    select user_id from person union select d.to_id from lintel_deputy d join person on person.user_id = d.of_id where d.tenant_id = ${tenantId}`.execute(tx);
  return [...new Set([...rows.map((row) => row.user_id), ...(actor.userId === undefined ? [] : [actor.userId])])];
}

/** What people hold from a moment on. */
export type Holdings = ReadonlyMap<string, Holding>;

function withRolesOf(change: Change, roles: Record<string, RoleData>): Change {
  const giver = change.giver.withRoles(roles);
  return { ...change, giver, actor: actorOf(change.setting, giver) };
}

/** How steps are gone through: what is against the rules stops them, or is noted; and who is read before and after. */
export interface Going {
  /** Given for a look ahead: what always has to hold and would not is put here, so that it is told with what the steps would do. */
  readonly problems?: LintelError[];
  /** Everybody touched is read, also where nothing has to be compared for a keyholder. */
  readonly reads?: boolean;
}

async function noting(problems: LintelError[] | undefined, check: () => void | Promise<void>): Promise<void> {
  try {
    await check();
  } catch (error) {
    if (!problems || !isLintelError(error)) throw error;
    problems.push(error);
  }
}

export type AnyHandlers = Partial<Handlers<Step['do']>>;

export function handlerOf(handlers: AnyHandlers, step: Step): Handler<any> {
  const handler = Object.hasOwn(handlers, step.do) ? (handlers[step.do] as Handler<any>) : undefined;
  if (!handler) throw new LintelError('unknown-step', `there is no step "${step.do}"${didYouMean(String(step.do), Object.keys(handlers))}`, {});
  return handler;
}

/** @throws LintelError `unknown-step`, `refused` where somebody may not take a step at all, whatever there is. */
export function insistOnNeeds(handlers: AnyHandlers, by: Pick<Change, 'actor'>, step: Step): void {
  const operation = handlerOf(handlers, step).needs(step, by);
  if (operation !== undefined) insistOn(by, operation);
}

/** The programs of which somebody made a key that still counts: what these can do, that person can. */
async function programsWithKeysOf({ tx, tenantId, at, actor }: Change): Promise<Set<string>> {
  const rows = await tx
    .selectFrom('lintel_key')
    .select('program_id')
    .where('tenant_id', '=', tenantId)
    .where('made_by', '=', actor.userId ?? '')
    .where('ends_at', '>', at)
    .execute();
  return new Set(rows.map((row) => row.program_id));
}

/** Goes through steps, each in one spelling, in a change that is under way, and tells what people held before and after. The first that is refused ends it. */
export async function goThrough(change: Change, steps: readonly Step[], handlers: AnyHandlers, { problems, reads = false }: Going = {}) {
  const touched: Touched[] = [];
  for (const step of steps) {
    insistOnNeeds(handlers, change, step);
    touched.push(handlerOf(handlers, step).touches(step, change));
  }
  // Whoever holds everything may bring anything about, and gains nothing.
  const apart = Object.keys(change.setting.charter.data.apart).length > 0;
  const users = change.giver.isKeyholder && !reads && !apart ? [] : await peopleTouched(change, touched);
  const before: Holdings = await heldBy(change, users);
  const known = await knownTo(change.tx, change.actor, users);
  const done: Done[] = [];
  let acting = change;
  for (const step of steps) {
    // Each goes on record under a number of its own.
    done.push(await handlerOf(handlers, step).run({ ...acting, number: change.number + done.length }, step));
    // Further steps may name the roles that this one made. What the actor may bring about is measured by what stood before all of them.
    if (Object.hasOwn(roleSteps, step.do)) acting = withRolesOf(change, await ownRoles(change.tx, change.setting.charter, change.tenantId));
  }
  const after: Holdings = await heldBy(change, users);
  const gains = change.giver.isKeyholder ? [] : [...after].flatMap(([id, held]) => gainsAhead(before.get(id), held, change.giver));
  const programs = gains.every((one) => one.gains.length === 0) ? new Set<string>() : await programsWithKeysOf(change);
  insistOnGains(change.giver, gains, new Set(touched.flatMap((t) => t.roles ?? [])), programs);
  await noting(problems, () => insistOnApart(before, after, known));
  // What is carried out is checked when all is done.
  if (problems) await noting(problems, () => insistOnKeyholder(change));
  return { done, before, after, known };
}
