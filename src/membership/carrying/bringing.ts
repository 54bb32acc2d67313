import { sql } from 'kysely';
import { inParts, isLintelError, type LintelError } from '../../base/index.js';
import { canonicalJson } from '../../charter/index.js';
import { throwIfRefused } from '../../standing/index.js';
import { type Change, changeTenant } from '../change/index.js';
import type { NewInvitation } from '../coming/index.js';
import { anchorColumns, SAID_BY } from '../held/index.js';
import { type AuditEntry, onRecord } from '../record/index.js';
import { peopleOf, rolesHeld } from '../steps/index.js';
import { type Done, inOneSpelling, keptAddress, readAddress, type Setting, type Step, takenBack } from '../terms/index.js';
import { runSteps } from './run.js';

/** What became of people who are to hold something. */
export interface BringReport {
  /** To whom an invitation went. */
  invited: number;
  /** Members who got something that they did not have. */
  changed: number;
  /** Members who have it all, and people who are invited already. */
  same: number;
  refused: { readonly address: string; readonly code: string; readonly words: string }[];
}

/** How people from a list are brought in. */
export interface BringOptions {
  /** True: says what it would do, and does nothing. */
  readonly dryRun?: boolean;
  /** Why, for the record. */
  readonly reason?: string;
  /** Called after each part, with how many people are done. */
  readonly progress?: (done: number) => void;
}

/** So many people are one transaction. */
const TOGETHER = 100;

/**
 * Brings people to hold at least this: whoever is a member gets what they do not have, anybody else is invited with it. Nothing that is not named is taken away. In parts of 100, each a
 * transaction, by the actor's power as it is then; again with the same it does nothing, and killed in the middle it goes on where it was.
 *
 * @returns what could not be given, person by person; the others are not kept back by it.
 * @throws LintelError `refused` for somebody who may not invite at all.
 */
export async function bring(
  setting: Setting,
  tenantId: string,
  actorId: string,
  wanted: readonly NewInvitation[],
  { dryRun = false, reason, progress }: BringOptions = {},
): Promise<BringReport> {
  const report: BringReport = { invited: 0, changed: 0, same: 0, refused: [] };
  let looked = 0;
  for (const part of inParts(wanted, TOGETHER)) {
    const work = async (change: Change) => {
      throwIfRefused(change.actor.decide('member.invite'));
      const entry: AuditEntry[] = [];
      for (const one of part) {
        const done = await bringOne({ ...change, number: change.number + entry.length }, inOneSpelling(setting.charter, one), report);
        entry.push(...done.map((one) => onRecord(one, reason)));
      }
      return { result: undefined, entry };
    };
    await changeTenant(setting, tenantId, actorId, async (change) => {
      if (!dryRun) return work(change);
      await takenBack(change.tx, (tx) => work({ ...change, tx }));
      return { result: undefined, entry: [] };
    });
    looked += part.length;
    progress?.(looked);
  }
  return report;
}

/** One of them, or nothing of it. */
async function bringOne(change: Change, one: NewInvitation, report: BringReport): Promise<readonly Done[]> {
  const { tx } = change;
  await sql`savepoint lintel_brought`.execute(tx);
  try {
    const found = await stepsFor(change, one);
    const done = found.steps.length > 0 ? (await runSteps(change, found.steps)).done : [];
    await sql`release savepoint lintel_brought`.execute(tx);
    report[found.outcome] += 1;
    return done;
  } catch (error) {
    if (!isLintelError(error)) throw error;
    await sql`rollback to savepoint lintel_brought`.execute(tx);
    report.refused.push(refusedOf(one, error));
    return [];
  }
}

const refusedOf = ({ address }: NewInvitation, { code, message }: LintelError) => ({ address: String(address).slice(0, 320), code, words: message });

async function stepsFor(change: Change, one: NewInvitation): Promise<{ readonly outcome: 'invited' | 'changed' | 'same'; readonly steps: readonly Step[] }> {
  const { tx, tenantId, at } = change;
  const { normal } = readAddress(one.address);
  const member = await tx
    .selectFrom('lintel_person as p')
    .innerJoin('lintel_member as m', 'm.user_id', 'p.id')
    .select(['m.user_id', 'm.attributes', 'm.ends_at'])
    .where('m.tenant_id', '=', tenantId)
    .where('p.address', 'in', [normal, keptAddress(tenantId, normal)])
    .executeTakeFirst();
  if (member) {
    const steps = await missing(change, member, one);
    return { outcome: steps.length > 0 ? 'changed' : 'same', steps };
  }
  const invited = await tx
    .selectFrom('lintel_invitation')
    .select('id')
    .where('tenant_id', '=', tenantId)
    .where('address', '=', normal)
    .where('status', '=', 'pending')
    .where('expires_at', '>', at)
    .executeTakeFirst();
  return invited ? { outcome: 'same', steps: [] } : { outcome: 'invited', steps: [{ do: 'invite', ...one }] };
}

interface Known {
  readonly user_id: string;
  readonly attributes: Readonly<Record<string, Readonly<Record<string, unknown>>>>;
  readonly ends_at: Date | null;
}

/** What a member does not have of it. */
async function missing(change: Change, { user_id: user, attributes: said, ends_at }: Known, one: NewInvitation): Promise<Step[]> {
  const { tx, tenantId } = change;
  const steps: Step[] = [];
  const held = await rolesHeld(change, { user });
  const keyOf = ({ role, anchor }: NewInvitation['roles'][number]) => JSON.stringify([role, anchorColumns('', anchor)]);
  const had = new Set(held.map(keyOf));
  const roles = one.roles.filter((role) => !had.has(keyOf(role)));
  if (roles.length > 0) steps.push({ do: 'set-roles', holder: { user }, roles: [...held, ...roles] });
  for (const id of one.groups ?? []) {
    const people = await peopleOf(change, id);
    if (!people.includes(user)) steps.push({ do: 'set-group', id, people: [...people, user] });
  }
  const placed = await tx.selectFrom('lintel_placement').select('unit_id').distinct().where('tenant_id', '=', tenantId).where('user_id', '=', user).execute();
  const units = new Set([...placed.map(({ unit_id }) => unit_id), ...(one.units ?? [])]);
  if (units.size > placed.length) steps.push({ do: 'place', user, units: [...units] });
  const own = said[SAID_BY.people] ?? {};
  const attributes = Object.entries(one.attributes ?? {}).filter(([name, value]) => canonicalJson(own[name] ?? null) !== canonicalJson(value));
  if (attributes.length > 0) steps.push({ do: 'set-attributes', user, attributes: Object.fromEntries(attributes) });
  if (one.memberUntil !== undefined && ends_at?.getTime() !== Date.parse(one.memberUntil)) steps.push({ do: 'set-end', user, at: one.memberUntil });
  return steps;
}
