import { type Kysely, sql } from 'kysely';
import type { Charter } from '../../charter/index.js';
import type { FieldShape, KindShape } from '../../predicate/index.js';
import { isFine } from './answers.js';
import type { Player } from './cast.js';
import { type Knowledge, knowledgeOf, tenantOf } from './judge.js';
import { itself, Picture, type Pictured, qualified } from './picture.js';
import type { Route } from './routes.js';
import type { Answer } from './send.js';
import { type At, type Walk, withQuery } from './walk.js';

/**
 * Two states of the database that differ only in what somebody may not know are answered alike: numbers and texts of hidden records, and masked fields, are other in
 * the second one, and some hidden records are gone.
 *
 * @param membership the kind by which it turns who may do what: it stays.
 * @returns routes that answer otherwise by themselves, of which this cannot be told.
 */
export async function restsOnHidden(walk: Walk, db: Kysely<any>, routes: readonly Route[], player: Player, membership: string | undefined): Promise<Route[]> {
  const asked: { readonly at: At; readonly path: string; readonly before: Answer }[] = [];
  const unsteady: Route[] = [];
  for (const route of routes)
    for (const tenant of walk.tries.tenants(route, player)) {
      const all =
        route.record === undefined ? [undefined] : walk.tries.named(route.params[route.record] as string, tenant, player).filter(({ as }) => as === 'read');
      const path = walk.tries.path(route, tenant, all[0]);
      const at = { route, player, tenant };
      const before = all.length === 0 ? undefined : await walk.call(at, path);
      if (!before || !isFine(before)) continue;
      if ((await walk.call(at, path)).text === before.text) asked.push({ at, path, before });
      else unsteady.push(route);
    }
  if (asked.length === 0) return unsteady;
  await changeHidden(walk, db, player, membership);
  const later = await Picture.take(db, walk.charter);
  try {
    if (!isSameWorld(walk.knowledgeOf(player), knowledgeOf(walk.charter, later, player))) return unsteady;
    for (const { at, path, before } of asked) {
      const after = await walk.call(at, path);
      if (after.status === before.status && after.text === before.text) continue;
      walk.tell('rests-on-hidden', at.route, player, `${player.name} is answered otherwise once something has changed that they may not read`, after);
    }
  } finally {
    await walk.picture.restore(db, later);
  }
  return unsteady;
}

const keysOf = ({ readable }: Pick<Knowledge, 'readable'>) => [...readable].map(({ kind, tenant, id }) => JSON.stringify([kind, tenant, id])).sort();

const isSameWorld = (one: Knowledge, other: Knowledge) => JSON.stringify(keysOf(one)) === JSON.stringify(keysOf(other));

/** Fields on which it turns who may do what: they stay. */
function ruled(charter: Charter<any>): (field: string) => boolean {
  const rules = JSON.stringify([Object.values(charter.data.kinds).map(({ reaches }) => reaches), charter.data.limits]);
  return (field) => rules.includes(`"field":"${field}"`);
}

/** So many records of a kind are made other at most, hidden ones of one's own organisations first: a sum is another with one. */
const MOST_CHANGED = 100;

async function changeHidden(walk: Walk, db: Kysely<any>, player: Player, membership: string | undefined): Promise<void> {
  const { charter, picture } = walk;
  const { readable } = walk.knowledgeOf(player);
  const isRuled = ruled(charter);
  for (const [kind, { fields, shared, label }] of Object.entries(charter.data.kinds)) {
    const shape = charter.shapes[kind] as KindShape;
    const near = ({ tenant }: Pictured) => (tenant !== undefined && player.tenants.includes(tenant) ? 0 : 1);
    const nearest =
      shared || kind === membership
        ? []
        : picture
            .all(kind)
            .sort((a, b) => near(a) - near(b))
            .slice(0, MOST_CHANGED);
    for (const [i, one] of nearest.entries()) {
      const hidden = !readable.has(one);
      const isLeaf = picture.below(one).length === 0;
      if (hidden && isLeaf && i % 2 === 0) {
        await once(db, sql`delete from ${sql.table(qualified(shape))} where ${itself(shape, one)}`);
        continue;
      }
      const standing = player.in(tenantOf(one, player) ?? '');
      const set = Object.entries(fields).flatMap(([field, { role, read, options }]) => {
        const closed = hidden ? field !== label : read !== undefined && !standing.may(`${kind}.${read}`, one.record as never);
        const other =
          role === 'plain' && !options && closed && !isRuled(field) ? otherThan(one.record[field], (shape.fields[field] as FieldShape).type) : undefined;
        return other === undefined ? [] : [sql`${sql.ref((shape.fields[field] as FieldShape).column)} = ${other}`];
      });
      if (set.length > 0) await once(db, sql`update ${sql.table(qualified(shape))} set ${sql.join(set)} where ${itself(shape, one)}`);
    }
  }
}

/** What the database does not take stays as it was. */
async function once(db: Kysely<any>, statement: ReturnType<typeof sql>): Promise<void> {
  await db
    .transaction()
    .execute((tx) => statement.execute(tx))
    .catch(() => {});
}

/** Another value of that type, and others for other numbers; undefined for a type that has none to be made so. */
export function otherThan(value: unknown, type: FieldShape['type'], n = 1): unknown {
  if (type === 'integer') return Number(value ?? 0) + 13 * n;
  if (type === 'decimal') return String(Number(value ?? 0) + 13 * n);
  return type === 'text' ? `${String(value ?? '')}${' too'.repeat(n)}` : undefined;
}

/** The same address asked by several, whoever may know most first and last: what is kept for one is not for another. */
export async function keptForOthers(walk: Walk, routes: readonly Route[]): Promise<void> {
  const most = [...walk.players].sort((a, b) => walk.knowledgeOf(b).readable.size - walk.knowledgeOf(a).readable.size);
  for (const route of routes.filter((one) => one.record === undefined && Object.keys(one.values).length === 0))
    for (const [i, order] of [most, [...most].reverse()].entries())
      for (const player of order)
        for (const tenant of walk.tries.tenants(route, player).slice(0, 1))
          await walk.ask({ route, player, tenant }, withQuery(walk.tries.path(route, tenant, undefined), [['probe', String(i)]]));
}
