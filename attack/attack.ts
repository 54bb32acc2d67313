/* Members without full control try everything: alone none may end with more than before, and two with nothing that neither could hold or give. */
import fc from 'fast-check';
import { type Kysely, sql } from 'kysely';
import { type Facts, isLintelError, Standing } from 'warm-lintel';
import { createLintel, type Lintel, type ServerStanding } from 'warm-lintel/server';
import { charter, GROUPS, HIVES, OWN_ROLES, PEOPLE, PROGRAM, RUNS, type Start, start, TENANT, UNITS } from './world.js';

type Any = ServerStanding<any>;
class Undo extends Error {}

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

/** What somebody could lawfully come to hold by the help of these: all that each of them holds or may give, as if it were one's own. */
async function couldHold(me: Any, helpers: readonly Any[], roles: Facts['roles']): Promise<Set<string>> {
  const anchors = [{ on: 'tenant' } as const, ...UNITS.map((unitId) => ({ on: 'unit', unitId }) as const)];
  const given: Facts['assignments'][number][] = [];
  for (const helper of helpers) for (const anchor of anchors) for (const { role } of await helper.members.rolesToGive(anchor)) given.push({ role, anchor });
  const facts: Facts = {
    ...me.facts,
    me: { ...me.facts.me, unitIds: union(helpers.map((h) => h.facts.me.unitIds)), groupIds: union(helpers.map((h) => h.facts.me.groupIds)) },
    assignments: [...given, ...helpers.flatMap((h) => h.facts.assignments)],
    direct: helpers.flatMap((h) => h.facts.direct ?? []),
    opened: helpers.flatMap((h) => h.facts.opened ?? []),
    below: Object.assign({}, ...helpers.map((h) => h.facts.below), ...(given.length > 0 ? [allBelow] : [])),
    people: Object.assign({}, ...helpers.map((h) => h.facts.people)),
    ...(roles && { roles }),
    // Whoever may name a deputy may let another do in their place what they may themselves.
    standsFor: helpers.flatMap((h) =>
      h !== me && h.may('deputy.name') ? [{ of: { userId: h.userId as string, name: '' }, permissions: STOOD_IN, facts: h.facts }] : [],
    ),
  };
  // Whoever may give a role and arrange units may appoint somebody anywhere: where the role reaches turns on where they are placed. Groups alike.
  const arranges = (operation: 'unit.arrange' | 'group.arrange') => helpers.some((h) => h.may(operation));
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
const STOOD_IN = ['hive.read', 'hive.update', 'hive.transfer', 'hive.move'];
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
    ...Object.entries(s.placed).map(([user, units]) => ({ do: 'place' as const, user, units })),
    ...(s.opened ? [{ do: 'open-records' as const, id: 'o', group: 'blue', to: s.opened.to, kind: 'hive', actions: s.opened.actions, keeps: false }] : []),
  ]);
}

export interface AttackReport {
  /** Changes that went through, and that were refused. */
  done: number;
  refused: number;
}

type Move = Start['runs'][number][number];

async function oneMove(lintel: Lintel<any>, by: string, move: Move): Promise<void> {
  const standing = await lintel.enter({ tenant: TENANT, user: by });
  if ('steps' in move) {
    await standing.carryOut(move.steps);
    return;
  }
  if ('asks' in move) {
    await lintel.askToJoin(move.asks, TENANT);
    return;
  }
  const invitation = { address: `${move.invites}@attack.example`, roles: move.roles };
  // As a step, or as one of many: whoever holds something else than another by it would have found a way.
  const token =
    move.roles.length > 0 ? (await standing.carryOut([{ do: 'invite', ...invitation }]))[0]?.secret : (await standing.invitations.send([invitation]))[0]?.token;
  if (token === undefined) throw new Undo();
  await lintel.acceptInvitation(move.invites, { token });
}

/** Several runs from one start, each undone before the next. */
async function fromStart(lintel: Lintel<any>, tx: Kysely<any>, s: Start, attackers: readonly string[], report: AttackReport): Promise<void> {
  await arrange(lintel, s);
  const before = await Promise.all(attackers.map((user) => lintel.enter({ tenant: TENANT, user })));
  const roles = Object.fromEntries((await tx.selectFrom('lintel_role').selectAll().execute()).map((row: any) => [row.id, row.data]));
  const could = new Map<string, Set<string>>();
  for (const me of before) could.set(me.userId as string, attackers.length === 1 ? reach(me) : await couldHold(me, before, roles));
  for (const moves of s.runs) {
    await sql`savepoint run`.execute(tx);
    // What the program can do, whoever has made a key of it can.
    const keys = new Set<string>();
    for (const move of moves) {
      await sql`savepoint move`.execute(tx);
      try {
        await oneMove(lintel, attackers[move.by % attackers.length] as string, move);
        report.done++;
      } catch (error) {
        if (!isLintelError(error) && !(error instanceof Undo)) throw error;
        report.refused++;
        await sql`rollback to savepoint move`.execute(tx);
        continue;
      }
      if ('steps' in move && move.steps.some((one) => one.do === 'make-key')) keys.add(attackers[move.by % attackers.length] as string);
      for (const user of attackers) {
        const can = reach(await lintel.enter({ tenant: TENANT, user }));
        if (keys.has(user)) for (const what of reach(await lintel.enter({ tenant: TENANT, user: PROGRAM }))) can.add(what);
        const more = [...can].filter((what) => !could.get(user)?.has(what));
        if (more.length > 0) throw new Error(`${user} came to ${more.slice(0, 4).join('; ')} by ${JSON.stringify(move)}`);
      }
    }
    await sql`rollback to savepoint run`.execute(tx);
  }
}

/** Throws with a counterexample that was made smaller, as fast-check prints it. */
export async function attack(
  db: Kysely<any>,
  runs: number,
  seed: number,
  { shrink = true, progress = () => {} }: { readonly shrink?: boolean; readonly progress?: (done: number) => void } = {},
): Promise<AttackReport> {
  const report: AttackReport = { done: 0, refused: 0 };
  let done = 0;
  await fc.assert(
    fc.asyncProperty(start, fc.constantFrom(['ann'], ['ann', 'ben'], ['ann', 'ben']), async (s, attackers) => {
      await db
        .transaction()
        .execute(async (tx) => {
          await fromStart(createLintel({ charter, db: tx }) as unknown as Lintel<any>, tx, s, attackers, report);
          throw new Undo();
        })
        .catch((error: unknown) => {
          if (!(error instanceof Undo)) throw error;
        });
      done += RUNS;
      progress(done);
    }),
    { numRuns: Math.ceil(runs / RUNS), seed, endOnFailure: !shrink },
  );
  return report;
}
