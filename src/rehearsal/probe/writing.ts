import { isFine } from './answers.js';
import type { Player } from './cast.js';
import { namesOf } from './judge.js';
import { headerOf, underOthers } from './reading.js';
import type { Route } from './routes.js';
import type { Answer } from './send.js';
import { asSent, type Named } from './tries.js';
import { type At, type Walk, withQuery } from './walk.js';

/** Sends what changes something, as somebody: to records of every sort, and with what no form sends. @param how `once`: each record, and nothing besides. */
export async function writes(walk: Walk, route: Route, player: Player, how?: 'once'): Promise<void> {
  const { tries, answers } = walk;
  const kind = route.record === undefined ? route.kind : (route.params[route.record] as string);
  for (const tenant of tries.tenants(route, player)) {
    const at = { route, player, tenant };
    const all =
      route.record === undefined || kind === undefined ? [undefined] : tries.named(kind, tenant, player, route.method === 'DELETE' ? 'delete' : 'update');
    const byId: [Named, Answer][] = [];
    let aside = false;
    const plain = route.method === 'DELETE' ? undefined : tries.body(route, tenant, player);
    const sent = plain === undefined ? {} : { body: plain };
    for (const named of all) {
      const path = tries.path(route, tenant, named);
      const answer = await walk.change(at, path, sent);
      if (named) byId.push([named, answer]);
      if (how === 'once' || (named && named.as !== 'read')) continue;
      if (!aside) await asideOf(walk, at, path, sent);
      aside = true;
      if (plain === undefined) continue;
      for (const extra of tries.extras(route, tenant, player)) await walk.change(at, path, { body: { ...plain, ...extra } });
      await idsInBody(walk, at, path, plain);
      if (isFine(answer)) await labelTaken(walk, at, path, plain);
    }
    if (how === 'once') continue;
    answers.existence(route, player, byId);
    if (route.record !== undefined) await underOthers(walk, at, byId, (path) => walk.change(at, path, sent));
  }
}

/** The same with another tenant, person or role in a parameter or a header. */
async function asideOf(walk: Walk, at: At, path: string, sent: { readonly body?: unknown }): Promise<void> {
  for (const parts of Object.values(walk.tries.others(at.route.kind, at.player, at.tenant))) {
    await walk.together(parts, async (some) => void (await walk.change(at, withQuery(path, some), sent)));
    await walk.together(parts, async (some) => void (await walk.change(at, path, { ...sent, headers: Object.fromEntries(some.map(headerOf)) })));
  }
}

/** What a body names of another kind is answered alike where it is hidden and where there is none. */
async function idsInBody(walk: Walk, at: At, path: string, plain: Readonly<Record<string, unknown>>): Promise<void> {
  const { route, tenant, player } = at;
  for (const [name, value] of Object.entries(plain)) {
    const other = walk.tries.kindNamed(route, name);
    const byId: [Named, Answer][] = [];
    for (const it of other === undefined ? [] : walk.tries.named(other, tenant, player))
      byId.push([it, await walk.change(at, path, { body: { ...plain, [name]: typeof value === 'number' ? asSent('integer', it.id) : it.id } })]);
    walk.answers.existence(route, player, byId, name);
  }
}

/** A name that something hidden bears is taken as one that nothing bears. */
async function labelTaken(walk: Walk, at: At, path: string, plain: Readonly<Record<string, unknown>>): Promise<void> {
  const { route, tenant, player } = at;
  const { kind } = route;
  if (kind === undefined) return;
  const shape = walk.charter.shapes[kind];
  const { label } = walk.charter.kind(kind);
  const name = shape && namesOf(shape, label).find((one) => typeof plain[one] === 'string');
  if (name === undefined) return;
  const { readable } = walk.knowledgeOf(player);
  const borne = new Set([...readable].filter((one) => one.kind === kind).map(({ record }) => record[label]));
  for (const hidden of [true, false].flatMap((here) =>
    walk.picture
      .all(kind)
      .filter((one) => (one.tenant === tenant) === here && !readable.has(one) && typeof one.record[label] === 'string' && !borne.has(one.record[label]))
      .slice(0, 1),
  )) {
    const value = hidden.record[label] as string;
    const unused = `${[...value].reverse().join('')} `.trim();
    const hit = await walk.change(at, path, { body: { ...plain, [name]: value } });
    const miss = await walk.change(at, path, { body: { ...plain, [name]: unused } });
    if (!isFine(miss) || hit.status === miss.status) continue;
    const { one } = walk.charter.kind(kind);
    walk.tell(
      'filter-tells',
      route,
      player,
      `${player.name} is answered ${hit.status}, not ${miss.status}, where a ${one} that they may not read has that ${label}`,
      hit,
      name,
    );
  }
}
