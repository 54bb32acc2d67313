/* Members without full control try everything: alone none may end with more than before, and two with nothing that neither could hold or give. */
import { type Kysely, sql } from 'kysely';
import { type Facts, isLintelError, Standing } from 'warm-lintel';
import { createLintel, type Lintel, type ServerStanding } from 'warm-lintel/server';
import type { Move, Start } from './moves.js';
import { charter, GROUPS, HIVES, HOUR, MOMENTS, OWN_ROLES, PEOPLE, PROGRAM, START, STOOD_IN, TENANT, UNITS } from './world.js';

type Any = ServerStanding<any>;
class Undo extends Error {}
/** Somebody can do what they were not to come to. */
export class CameToMore extends Error {}

/** Everything that a standing may do, to the last record. */
function reach(standing: Standing<any>): Set<string> {
  const found = new Set<string>();
  for (const { name, kind, action } of charter.permissions.values()) {
    if (kind === undefined) {
      if (standing.may(name)) found.add(name);
      if (standing.grantsFor(name).some(({ reach }) => reach === 'tenant')) found.add(`${name} of all`);
    } else if (action !== 'create') {
      for (const hive of HIVES) if (standing.may(name, hive)) found.add(`${name} ${hive.id}`);
    }
  }
  return found;
}

const union = <T>(lists: readonly (readonly T[] | undefined)[]) => [...new Set(lists.flatMap((list) => list ?? []))];

/** Something that may be given at a moment; `byCharter`: for good, since the charter says that a role gives it, and not since its giver holds as much. */
type Givable = Facts['assignments'][number] & { readonly at: number; readonly byCharter: boolean };

async function givable(helper: Any, at: number): Promise<Givable[]> {
  const anchors = [{ on: 'tenant' } as const, ...UNITS.map((unitId) => ({ on: 'unit', unitId }) as const)];
  const all: Givable[] = [];
  const gives = new Set(helper.facts.assignments.flatMap(({ role }) => helper.charter.resolveRole(role).gives));
  for (const anchor of anchors) for (const { role } of await helper.members.rolesToGive(anchor)) all.push({ role, anchor, at, byCharter: gives.has(role) });
  return all;
}

/**
 * What somebody could lawfully come to hold at a moment by the help of these: all that each of them holds then or may have given by then, as if it were one's own.
 *
 * @param byThen the helpers at every moment until then.
 */
function couldHold(me: Any, helpers: readonly Any[], byThen: readonly Any[], giving: readonly Givable[], roles: Facts['roles'], moment: number) {
  const given = giving.filter(({ at, byCharter }) => at === moment || (at < moment && byCharter));
  /** With all that may be given besides. */
  const enriched = (of: Facts, by = given): Facts => ({
    ...of,
    assignments: [...of.assignments, ...by],
    below: { ...of.below, ...(by.length > 0 && allBelow) },
    ...(roles && { roles }),
  });
  const untilNow = giving.filter(({ at }) => at <= moment);
  const names = (h: Any) =>
    byThen.some((one) => one.userId === h.userId && (one.may('deputy.name') || new Standing(charter, enriched(one.facts, untilNow)).may('deputy.name')));
  const facts: Facts = {
    ...me.facts,
    me: { ...me.facts.me, unitIds: union(helpers.map((h) => h.facts.me.unitIds)), groupIds: union(helpers.map((h) => h.facts.me.groupIds)) },
    assignments: [...given, ...helpers.flatMap((h) => h.facts.assignments)],
    direct: helpers.flatMap((h) => h.facts.direct ?? []),
    opened: helpers.flatMap((h) => h.facts.opened ?? []),
    below: Object.assign({}, ...helpers.map((h) => h.facts.below), ...(given.length > 0 ? [allBelow] : [])),
    people: Object.assign({}, ...helpers.map((h) => h.facts.people)),
    ...(roles && { roles }),
    // Whoever may name a deputy may let another do in their place what they may themselves, or what they may be given. And so with those for whom somebody else let them stand in.
    standsFor: [
      ...helpers.filter((h) => h !== me && names(h)).map((h) => ({ of: { userId: h.userId as string, name: '' }, permissions: STOOD_IN, facts: h.facts })),
      ...(me.facts.standsFor ?? []).filter(({ of }) => !helpers.some((h) => h.userId === of.userId)),
    ].map((one) => ({ ...one, facts: enriched(one.facts) })),
  };
  // Whoever may give a role and arrange units may appoint somebody anywhere: where the role reaches turns on where they are placed. Groups alike.
  const arranges = (operation: 'unit.arrange' | 'group.arrange') => byThen.some((h) => h.may(operation));
  const appointed: Facts = {
    ...facts,
    me: {
      ...facts.me,
      unitIds: arranges('unit.arrange') ? UNITS : facts.me.unitIds,
      groupIds: arranges('group.arrange') ? GROUPS : facts.me.groupIds,
    },
    assignments: given,
    direct: [],
    opened: [],
    below: allBelow,
    ...(arranges('group.arrange') && { people: Object.fromEntries(GROUPS.map((id) => [id, PEOPLE])) }),
  };
  return new Set(helpers.flatMap((h) => [...reach(h)]).concat(...[facts, appointed].map((one) => [...reach(new Standing(charter, one))])));
}
const allBelow = { north: ['north', 'valley'], valley: ['valley'], south: ['south'] };

async function arrange(lintel: Lintel<any>, s: Start): Promise<void> {
  const boss = await lintel.enter({ tenant: TENANT, user: 'boss' });
  await boss.carryOut([
    ...OWN_ROLES.map((id, i) => ({
      do: 'make-role' as const,
      id,
      role: { ...(s.own[i] as Start['own'][0]), includes: s.own[i]?.includes.filter((r) => r < id && r !== id && (!r.startsWith('own-') || i === 1)) ?? [] },
    })),
    { do: 'set-group', id: 'red', people: s.redPeople },
    { do: 'set-group', id: 'blue', people: s.bluePeople },
    { do: 'set-roles', holder: { user: 'ann' }, roles: s.ann },
    { do: 'set-roles', holder: { user: 'ben' }, roles: s.ben },
    { do: 'set-permissions', holder: { user: 'ann' }, permissions: s.direct ? [s.direct] : [] },
    { do: 'set-roles', holder: { group: 'red' }, roles: s.red },
    { do: 'set-roles', holder: { unit: 'north' }, roles: s.north },
    { do: 'make-program', id: PROGRAM, name: 'Scale', responsible: 'boss' },
    { do: 'set-roles', holder: { user: PROGRAM }, roles: s.program },
    { do: 'enrol', id: 'kept', address: 'kept@attack.example', name: 'Kept', roles: s.kept },
    ...Object.entries(s.placed).map(([user, units]) => ({ do: 'place' as const, user, units })),
    ...(s.deputy
      ? [
          {
            do: 'name-deputy' as const,
            of: s.deputy.of,
            to: s.deputy.to,
            permissions: ['hive.read', 'hive.update'],
            ...(s.deputy.since > 0 && { since: new Date(START + s.deputy.since * HOUR).toISOString() }),
            until: new Date(START + 3 * HOUR).toISOString(),
          },
        ]
      : []),
    ...(s.opened ? [{ do: 'open-records' as const, id: 'o', group: 'blue', to: s.opened.to, kind: 'hive', actions: s.opened.actions, keeps: false }] : []),
  ]);
}

export interface AttackReport {
  /** Changes that went through, and that were refused. */
  done: number;
  refused: number;
}

/** What somebody does. What lets them in to accounts that the tenant keeps is answered. */
async function oneMove(lintel: Lintel<any>, by: string, move: Exclude<Move, { waits: number }>): Promise<string[]> {
  if ('erases' in move) {
    await lintel.erasePerson(move.erases);
    return [];
  }
  const standing = await lintel.enter({ tenant: TENANT, user: by });
  if ('steps' in move) {
    const done = await standing.carryOut(move.steps);
    return done.flatMap(({ what, secret }) => (what === 'key made' || secret === undefined ? [] : [secret]));
  }
  if ('asks' in move) {
    await lintel.askToJoin(move.asks, TENANT);
    return [];
  }
  const invitation = {
    address: `${move.invites}@attack.example`,
    roles: move.roles,
    ...(move.memberUntil !== undefined && { memberUntil: move.memberUntil }),
    ...move.gives,
  };
  // As a step, or as one of many: whoever holds something else than another by it would have found a way.
  const token =
    move.roles.length > 0 ? (await standing.carryOut([{ do: 'invite', ...invitation }]))[0]?.secret : (await standing.invitations.send([invitation]))[0]?.token;
  if (token === undefined) throw new Undo();
  await lintel.acceptInvitation(move.invites, { token });
  return [];
}

/** Holds together what is to be apart. */
const holdsBoth = (can: ReadonlySet<string> | undefined) =>
  ['hive.move', 'hive.transfer'].every((name) => [...(can ?? [])].some((what) => what.startsWith(`${name} `)));

/** Several runs from one start, each undone before the next; false where there is nothing to begin with. */
async function fromStart(tx: Kysely<any>, s: Start, report: AttackReport): Promise<boolean> {
  const { attackers } = s;
  let now = START;
  const at = (clock: () => number) => createLintel({ charter, db: tx, clock }) as unknown as Lintel<any>;
  const lintel = at(() => now);
  const byMoment = new Map(MOMENTS.map((moment) => [moment, at(() => moment)]));
  const entered = (user: string, moment: number): Promise<Any> => (byMoment.get(moment) as Lintel<any>).enter({ tenant: TENANT, user });
  try {
    await arrange(lintel, s);
  } catch (error) {
    // What is drawn may hold together what is to be apart: then there is nothing to begin with.
    if (isLintelError(error, 'apart')) return false;
    throw error;
  }
  const roles = Object.fromEntries((await tx.selectFrom('lintel_role').selectAll().execute()).map((row: any) => [row.id, row.data]));
  const [held, could] = [new Map<string, Set<string>>(), new Map<string, Set<string>>()];
  const [byThen, giving]: [Any[], Givable[]] = [[], []];
  /** What somebody could hold to whom the attackers together have given all that they may. */
  const couldGive = new Map<number, Set<string>>();
  for (const moment of MOMENTS) {
    const then = await Promise.all(attackers.map((user) => entered(user, moment)));
    byThen.push(...then);
    const enrols = byThen.some((one) => one.may('member.enrol'));
    if (attackers.length > 1 || enrols) for (const one of then) giving.push(...(await givable(one, moment)));
    for (const me of then) {
      const mine = reach(me);
      held.set(`${me.userId} ${moment}`, mine);
      const together = attackers.length > 1 || enrols ? couldHold(me, then, byThen, giving, roles, moment) : mine;
      could.set(`${me.userId} ${moment}`, attackers.length === 1 ? mine : together);
      couldGive.set(moment, new Set([...(couldGive.get(moment) ?? []), ...together]));
    }
  }
  // What somebody holds, they hold while they are barred: it is theirs again when that is over.
  if (s.barred) await (await lintel.enter({ tenant: TENANT, user: 'boss' })).carryOut([{ do: 'suspend', user: 'ben', until: s.barred }]);
  for (const moves of s.runs) {
    await sql`savepoint run`.execute(tx);
    now = START;
    // What the program can do, whoever has made a key of it can, until the key ends.
    const keys = new Map<string, number>();
    const ways: string[] = [];
    for (const move of moves) {
      if ('waits' in move) {
        now = Math.min(now + move.waits * HOUR, MOMENTS.at(-1) as number);
        continue;
      }
      const by = attackers[move.by % attackers.length] as string;
      await sql`savepoint move`.execute(tx);
      try {
        ways.push(...(await oneMove(lintel, by, move)));
        report.done++;
      } catch (error) {
        if (!isLintelError(error) && !(error instanceof Undo)) throw error;
        report.refused++;
        await sql`rollback to savepoint move`.execute(tx);
        continue;
      }
      for (const one of 'steps' in move ? move.steps : [])
        if (one.do === 'make-key') keys.set(by, Math.max(keys.get(by) ?? 0, Date.parse(one.ends ?? '2036-01-01')));
      for (const user of attackers) {
        for (const moment of MOMENTS.filter((one) => one >= now)) {
          const can = reach(await entered(user, moment));
          if ((keys.get(user) ?? 0) > moment) for (const what of reach(await entered(PROGRAM, moment))) can.add(what);
          if (holdsBoth(can) && !holdsBoth(held.get(`${user} ${moment}`)))
            throw new CameToMore(`${user} came to hold together what is to be apart by ${JSON.stringify(move)}`);
          const more = [...can].filter((what) => !could.get(`${user} ${moment}`)?.has(what));
          if (more.length === 0) continue;
          throw new CameToMore(`${user} came to ${more.slice(0, 4).join('; ')}, ${(moment - START) / HOUR} hours after the start, by ${JSON.stringify(move)}`);
        }
      }
      for (const way of ways) {
        await sql`savepoint way`.execute(tx);
        const used = await lintel.spendActivation(way).catch((error: unknown) => (isLintelError(error) ? undefined : Promise.reject(error)));
        for (const moment of used ? MOMENTS.filter((one) => one >= now) : []) {
          const more = [...reach(await entered(used?.userId as string, moment))].filter((what) => !couldGive.get(moment)?.has(what));
          if (more.length > 0) throw new CameToMore(`by a way in somebody came to ${more.slice(0, 4).join('; ')}, by ${JSON.stringify(move)}`);
        }
        await sql`rollback to savepoint way`.execute(tx);
      }
    }
    await sql`rollback to savepoint run`.execute(tx);
  }
  return true;
}

/** One case from its start, undone at its end; false where it could not begin. Throws where somebody came to more. */
export async function attackFrom(db: Kysely<any>, s: Start, report: AttackReport): Promise<boolean> {
  let began = true;
  await db
    .transaction()
    .execute(async (tx) => {
      began = await fromStart(tx, s, report);
      throw new Undo();
    })
    .catch((error: unknown) => {
      if (!(error instanceof Undo)) throw error;
    });
  return began;
}
