import type { Kysely } from 'kysely';
import type { Lintel } from '../../server/index.js';
import type { Standing } from '../../standing/index.js';
import { grantsOf, type Player } from './cast.js';
import { type Knowledge, secretsIn } from './judge.js';
import type { Picture } from './picture.js';
import { objectsIn, shownIn } from './recognise.js';
import type { Route } from './routes.js';
import type { ProbePerson, ProbeTarget, ProbeTurn } from './target.js';
import type { At, Walk } from './walk.js';

/** Something that happens to somebody who is signed in, and what they hold after it. */
export interface Turn extends Pick<ProbeTurn, 'what' | 'make'> {
  /** Undefined: nothing, as somebody from outside. */
  readonly standing: (person: ProbePerson, tenant: string) => Promise<Standing<any> | undefined>;
  /** Only for whom it takes something away. */
  readonly code: 'open-after-removal' | 'open-after-change';
}

/** What may happen to the people of a target, as far as it is known how. */
export function turnsOf(
  lintel: Lintel,
  db: Kysely<any>,
  target: ProbeTarget,
  standingOf: (person: ProbePerson, tenant: string, roles: readonly string[]) => Standing<any>,
): Turn[] {
  const { membership, people, putOut, turns = [] } = target;
  const turn = ({ what, roles, make }: ProbeTurn): Turn => ({
    what,
    make,
    standing: async (person, tenant) => (roles.length === 0 ? undefined : standingOf(person, tenant, roles)),
    code: roles.length === 0 ? 'open-after-removal' : 'open-after-change',
  });
  const out = (make: ProbeTurn['make']): Turn => turn({ what: 'was put out', roles: [], make });
  const own = turns.map(turn);
  if (!people) {
    const entered = async (person: ProbePerson, tenant: string) => (await lintel.enter({ tenant, user: person.id })).inMemory as unknown as Standing<any>;
    return [out(putOut ?? suspending(lintel)), { what: 'lost their roles', make: withoutRoles(lintel), standing: entered, code: 'open-after-change' }, ...own];
  }
  if (!membership) return putOut ? [out(putOut), ...own] : own;
  const column = (field: string) => lintel.charter.shapes[membership.kind]?.fields[field]?.column ?? field;
  const { table } = lintel.charter.shapes[membership.kind] as { table: string };
  const { tenantField = '' } = lintel.charter.shapes[membership.kind] as { tenantField?: string };
  const rowsOf = ({ id }: ProbePerson, tenant: string) =>
    [
      [column(membership.person), id],
      [column(tenantField), tenant],
    ] as const;
  const deleting: ProbeTurn['make'] = async (person, tenant) => {
    const [[who, is], [where, here]] = rowsOf(person, tenant);
    const gone = await db.deleteFrom(table).where(who, '=', is).where(where, '=', here).returningAll().execute();
    return async () => void (gone.length > 0 && (await db.insertInto(table).values(gone).execute()));
  };
  const { role } = membership;
  const { charter } = lintel;
  const [least] = Object.keys(charter.data.roles).sort((a, b) => grantsOf(charter, a) - grantsOf(charter, b));
  if (role === undefined || least === undefined) return [out(putOut ?? deleting), ...own];
  const lowering: ProbeTurn['make'] = async (person, tenant) => {
    const [[who, is], [where, here]] = rowsOf(person, tenant);
    const was = await db.selectFrom(table).select(column(role)).where(who, '=', is).where(where, '=', here).executeTakeFirst();
    const set = (value: unknown) =>
      db
        .updateTable(table)
        .set({ [column(role)]: value })
        .where(who, '=', is)
        .where(where, '=', here)
        .execute();
    await set(least);
    return async () => void (was && (await set(was[column(role)])));
  };
  return [out(putOut ?? deleting), turn({ what: `was given the role ${least}`, roles: [least], make: lowering }), ...own];
}

/** In the library's own tables, and past its record: it is taken back at once. */
const suspending =
  ({ db }: Lintel): ProbeTurn['make'] =>
  async ({ id }, tenant) => {
    const set = (status: 'active' | 'suspended') => async () => {
      await db.updateTable('lintel_member').set({ status }).where('tenant_id', '=', tenant).where('user_id', '=', id).execute();
    };
    await set('suspended')();
    return set('active');
  };

/** The same with what is given to them directly. */
const withoutRoles =
  (lintel: Lintel): ProbeTurn['make'] =>
  async ({ id }, tenant) => {
    const db: Kysely<any> = lintel.db;
    const gone = await db.deleteFrom('lintel_assignment').where('tenant_id', '=', tenant).where('user_id', '=', id).returningAll().execute();
    // Worked out by the database.
    const rows = gone.map(({ holder_on: _, holder_id: __, without, ...row }) => ({ ...row, without: JSON.stringify(without) }));
    return async () => void (rows.length > 0 && (await db.insertInto('lintel_assignment').values(rows).execute()));
  };

/** Calls as somebody to whom something happened, with the session of before. */
export async function afterTurn(walk: Walk, routes: readonly Route[], player: Player, turn: Turn): Promise<void> {
  const { person } = player;
  if (!person || player.tenants.length === 0) return;
  const undo: (() => Promise<void>)[] = [];
  try {
    for (const tenant of player.tenants) undo.push(await turn.make(person, tenant));
    const held = new Map<string, Standing<any> | undefined>();
    for (const tenant of player.tenants) held.set(tenant, await turn.standing(person, tenant));
    const nobody = walk.players.at(-1) as Player;
    const now: Player = { ...player, in: (tenant) => held.get(tenant) ?? nobody.in(tenant) };
    await walk.asThingsAre(now, player, async (picture, knowledge) => {
      for (const route of routes)
        for (const tenant of player.tenants)
          for (const named of route.record === undefined ? [undefined] : walk.tries.named(route.params[route.record] as string, tenant, player)) {
            if (named !== undefined && named.as !== 'read') continue;
            const body = route.method === 'GET' || route.method === 'DELETE' ? undefined : walk.tries.body(route, tenant, player);
            const at = { route, player: now, tenant };
            const answer = await walk.call(at, walk.tries.path(route, tenant, named), body === undefined ? {} : { body });
            judge(walk, at, turn, answer, picture, knowledge);
            await walk.putBack(at, answer, turn);
          }
    });
  } finally {
    for (const work of undo) await work();
  }
}

function judge(
  walk: Walk,
  { route, player, tenant }: At,
  { code, what }: Turn,
  answer: Parameters<Walk['putBack']>[1],
  picture: Picture,
  knowledge: Knowledge,
): void {
  const [secret] = secretsIn(answer.text, `${decodeURIComponent(answer.sent.url)} ${JSON.stringify(answer.sent.body ?? '')}`, knowledge);
  const of =
    secret?.of ??
    shownIn(walk.charter, picture, objectsIn(walk.charter, route.kind, answer.text), tenant, knowledge).find(({ one }) => !knowledge.readable.has(one))?.one;
  if (of) walk.tell(code, route, player, `${player.name} ${what}, and still reads ${of.kind} ${of.id}`, answer);
  if (walk.answers.isOpened(route, player, tenant, answer))
    walk.tell(code, route, player, `${player.name} ${what}, and is still answered where ${route.needs} is needed`, answer, 'needs');
}
