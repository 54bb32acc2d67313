import type { KindShape } from '../../predicate/index.js';
import { isFine } from './answers.js';
import type { Player } from './cast.js';
import { isOrderedBy, maskedFrom, namesOf } from './judge.js';
import type { Route } from './routes.js';
import type { Answer } from './send.js';
import type { Named } from './tries.js';
import { type At, type Walk, withQuery } from './walk.js';

/** Names under which applications take what an answer is to hold. */
const CHOOSERS = ['fields', 'columns', 'select', 'include', 'expand', 'with', 'embed'];
/** Names under which they take that more is to be shown. */
const FLAGS = ['all', 'deleted', 'archived', 'drafts', 'hidden', 'private', 'admin', 'debug', 'include_deleted', 'includeArchived'];
const PAGES = /limit|size|per|offset|skip|page|after|cursor/i;

/** Asks one route as somebody: by ids of every sort, and for a list in every way that shows more than it should. */
export async function reads(walk: Walk, route: Route, player: Player): Promise<void> {
  const { tries, answers } = walk;
  for (const tenant of tries.tenants(route, player)) {
    const at = { route, player, tenant };
    const all = route.record === undefined ? [undefined] : tries.named(route.params[route.record] as string, tenant, player);
    const byId: [Named, Answer][] = [];
    let further = false;
    for (const named of all) {
      const path = tries.path(route, tenant, named);
      const answer = await walk.change(at, path);
      answers.counts(route, player, tenant, answer);
      if (named) byId.push([named, answer]);
      if (!isFine(answer) || (named !== undefined && named.as !== 'read')) continue;
      await asksFurther(walk, at, path, answer);
      if (!further) await asksAside(walk, at, path, answer);
      further = true;
    }
    answers.existence(route, player, byId);
    if (route.record === undefined) await byValue(walk, at);
    else {
      await underOthers(walk, at, byId, (path) => walk.ask(at, path));
      const heads: [Named, Answer][] = [];
      for (const [one] of byId)
        if (one.as !== 'read') heads.push([one, await walk.call({ ...at, route: { ...route, method: 'HEAD' } }, tries.path(route, tenant, one))]);
      answers.heads(route, player, heads);
      // What stands beside a record shows at some of them only.
      for (const one of tries.furtherRead(route.params[route.record] as string, tenant, player)) await walk.ask(at, tries.path(route, tenant, one));
    }
  }
}

/** What the address puts under a parent on which it does not hang is answered as what there is not. */
export async function underOthers(walk: Walk, at: At, all: readonly (readonly [Named, Answer])[], send: (path: string) => Promise<Answer>): Promise<void> {
  const { route, tenant, player } = at;
  const byId: [Named, Answer][] = [];
  for (const [named] of all) {
    const other = named.one
      ? walk.tries.otherParent(route, tenant, player, named)
      : byId.length > 0
        ? walk.tries.otherParent(route, tenant, player, byId[0]?.[0] as Named)
        : undefined;
    if (!other) continue;
    const answer = await send(walk.tries.path(route, tenant, named, other));
    byId.push([named, answer]);
    if (named.as === 'read' && isFine(answer) && answer.text !== '')
      walk.tell(
        'under-another',
        route,
        player,
        `${player.name} comes to the ${walk.charter.kind(named.one?.kind as string).one} ${named.id} under the ${walk.charter.kind(other.kind).one} ${other.id}, on which it does not hang`,
        answer,
      );
  }
  walk.answers.existence(route, player, byId, 'under another');
}

/** Where a part of the address is a value of a field: what is hidden is answered as a value that there is not. */
async function byValue(walk: Walk, at: At): Promise<void> {
  const { route, tenant, player } = at;
  const [field] = Object.values(route.values);
  if (field === undefined || route.kind === undefined) return;
  const hidden = [...walk.knowledgeOf(player).secrets].find(([, { of, field: its }]) => of.kind === route.kind && of.tenant === tenant && its === field);
  if (!hidden) return;
  const [hit, miss] = [
    await walk.ask(at, walk.tries.path(route, tenant, undefined, undefined, hidden[0])),
    await walk.ask(at, walk.tries.path(route, tenant, undefined)),
  ];
  if (hit.status !== miss.status || hit.text.replaceAll(hidden[0], '') !== miss.text.replaceAll('no-such-value', ''))
    walk.tell('filter-tells', route, player, `${player.name} learns by ${field} that there is a ${route.kind} that they may not read`, hit, field);
}

/** Past the edge of a page, by words of what is hidden, and by fields that are masked. */
async function asksFurther(walk: Walk, at: At, path: string, plain: Answer): Promise<void> {
  const { route, tenant, player } = at;
  const { secrets } = walk.knowledgeOf(player);
  const word = [...secrets].find(([, { of, hidden }]) => hidden && of.tenant === tenant)?.[0] ?? 'probe';
  const with_ = (query: Record<string, string>) => withQuery(path, Object.entries(query));
  const named = (wish: RegExp, fallback: string) => route.query.find((name) => wish.test(name)) ?? fallback;
  const idNames = route.query.flatMap((name): [string, readonly Named[]][] => {
    const kind = walk.tries.kindNamed(route, name) ?? (/ids?$/i.test(name) ? route.kind : undefined);
    return kind === undefined ? [] : [[name, walk.tries.named(kind, tenant, player)]];
  });
  for (const [name, all] of idNames) {
    const byId: [Named, Answer][] = [];
    for (const one of all) byId.push([one, await walk.ask(at, with_({ [name]: one.id }))]);
    walk.answers.existence(route, player, byId, name, true);
  }
  const turning = named(/offset|skip|page|after|cursor/i, 'page');
  const attempts: Record<string, string>[] = [
    ...idNames.map(([name, all]) => ({ [name]: all.map(({ id }) => id).join(',') })),
    { [named(/limit|size|per/i, 'limit')]: '100000', [named(/offset|skip/i, 'offset')]: '0' },
    { [named(/limit|size|per/i, 'limit')]: '-1' },
    ...['-1', '2', '3', '1000'].map((page) => ({ [turning]: page })),
    ...cursorsIn(plain.text).map((cursor) => ({ [named(/after|cursor|next|token/i, 'cursor')]: cursor })),
    { [named(/^q$|search|query|term|text/i, 'q')]: word },
    { [named(/sort|order/i, 'sort')]: 'no_such_column' },
    ...route.query
      .filter((name) => /all|deleted|archived|include|tenant|org/i.test(name))
      .map((name) => ({ [name]: /tenant|org/i.test(name) ? walk.tries.otherTenant(player, tenant) : 'true' })),
  ];
  await walk.each(attempts, async (attempt) => void (await walk.ask(at, with_(attempt))));
  const { kind } = route;
  if (kind === undefined || route.record !== undefined) return;
  await judgeOrder(walk, at, with_, named(/sort|order/i, 'sort'), plain);
  const [hiddenText, hidden] =
    [...secrets].find(([, { of, hidden: all, field }]) => all && of.kind === kind && of.tenant === tenant && field === walk.charter.kind(kind).label) ?? [];
  if (hiddenText !== undefined && hidden)
    for (const name of route.query.filter((one) => !PAGES.test(one) && !/sort|order|ids?$/i.test(one)))
      await judgeFilter(
        walk,
        at,
        with_,
        name,
        hiddenText,
        `${player.name} finds by ${name} that there is a ${hidden.of.kind} called so, which they may not read`,
      );
  for (const [field, { read }] of Object.entries(walk.charter.kind(kind).fields)) {
    if (read === undefined) continue;
    const masked = walk.picture
      .all(kind)
      .find(
        (one) =>
          one.tenant === tenant &&
          one.record[field] !== null &&
          walk.knowledgeOf(player).readable.has(one) &&
          !player.in(tenant).may(`${kind}.${read}`, one.record as never),
      );
    if (!masked) continue;
    for (const name of new Set([...namesOf(walk.charter.shapes[kind] as KindShape, field), ...route.query.filter((one) => /^q$|search/i.test(one))]))
      await judgeFilter(walk, at, with_, name, String(masked.record[field]), `${player.name} finds by ${name}, which is masked from them`);
  }
}

/** What an answer says of where the next page begins. */
function cursorsIn(text: string): string[] {
  const found = new Set<string>();
  const look = (value: unknown, name: string): void => {
    if (typeof value === 'string' && /next|cursor|after|token/i.test(name)) found.add(value);
    else if (typeof value === 'object' && value !== null) for (const [inner, one] of Object.entries(value)) look(one, inner);
  };
  try {
    look(JSON.parse(text), '');
  } catch {
    // Not JSON: no name says so.
  }
  return [...found].slice(0, 2);
}

/** By what no route describes: masked fields and what hangs on a record by name, other tenants, people and roles as parameters and headers, flags. */
async function asksAside(walk: Walk, at: At, path: string, plain: Answer): Promise<void> {
  const { route, player, tenant } = at;
  type Part = readonly [name: string, value: string];
  const asQuery = async (parts: readonly Part[]): Promise<void> => void (await walk.ask(at, withQuery(path, parts)));
  const asHeaders = async (parts: readonly Part[]): Promise<void> => void (await walk.ask(at, path, { headers: Object.fromEntries(parts.map(headerOf)) }));
  const others = Object.values(walk.tries.others(route.kind, player, tenant));
  await walk.each(
    others.flatMap((parts) => [asQuery, asHeaders].map((how) => [parts, how] as const)),
    ([parts, how]) => walk.together(parts, how),
  );
  const { kind } = route;
  if (kind === undefined || plain.type.includes('csv')) return;
  const { fields } = walk.charter.kind(kind);
  const shape = walk.charter.shapes[kind] as KindShape;
  const near = Object.entries(walk.charter.data.kinds).filter(([one, data]) => one !== kind && (isUnder(data, kind) || isUnder(walk.charter.kind(kind), one)));
  const values = [
    ...Object.entries(fields).flatMap(([field, { read }]) => (read === undefined ? [] : namesOf(shape, field))),
    ...near.flatMap(([one, { table, many }]) => [one, table, many].filter((name): name is string => name !== undefined && /^\w+$/.test(name))),
  ];
  const choosers = [...new Set([...route.query.filter((name) => /field|column|select|include|expand|with|embed/i.test(name)), ...CHOOSERS])];
  const plainFields = Object.entries(fields).flatMap(([field, { role }]) => (role === 'plain' ? namesOf(shape, field) : []));
  const groups: Part[][] = [
    ...[...new Set(values)].map((value) => choosers.map((name): Part => [name, value])),
    FLAGS.map((name) => [name, 'true']),
    plainFields.map((name) => [name, 'all']),
  ];
  await walk.each(groups, (parts) => walk.together(parts, asQuery));
}

const isUnder = ({ fields }: { readonly fields: Readonly<Record<string, { readonly to?: string }>> }, kind: string) =>
  Object.values(fields).some(({ to }) => to === kind);

/** `x-choir-id` for `choirId` and `choir_id`. */
export const headerOf = ([name, value]: readonly [string, string]): [string, string] => [
  `x-${name
    .replace(/[A-Z]/g, (letter) => `-${letter}`)
    .replaceAll('_', '-')
    .toLowerCase()}`,
  value,
];

/** Whether a value that somebody may not know finds other than one that there is not. */
async function judgeFilter(walk: Walk, at: At, with_: (query: Record<string, string>) => string, name: string, value: string, message: string): Promise<void> {
  const none = /^-?\d+(\.\d+)?$/.test(value) ? '918273' : 'no-such-value';
  const [hit, miss] = [await walk.call(at, with_({ [name]: value })), await walk.call(at, with_({ [name]: none }))];
  if (isFine(hit) && isFine(miss) && hit.text.replaceAll(value, '') !== miss.text.replaceAll(none, ''))
    walk.tell('filter-tells', at.route, at.player, message, hit, name);
}

/** Whether records can be put in the order of a field that somebody may not read on any of them. */
async function judgeOrder(walk: Walk, at: At, with_: (query: Record<string, string>) => string, by: string, plain: Answer): Promise<void> {
  const { route, player, tenant } = at;
  const kind = route.kind as string;
  const shape = walk.charter.shapes[kind] as KindShape;
  const { readable } = walk.knowledgeOf(player);
  const read = walk.picture.all(kind).filter((one) => one.tenant === tenant && readable.has(one));
  for (const [field, { read: guard }] of Object.entries(walk.charter.kind(kind).fields)) {
    if (guard === undefined) continue;
    const masked = maskedFrom(walk.charter, player, field, read, () => true);
    for (const name of namesOf(shape, field)) {
      for (const wish of [name, `-${name}`]) {
        const answer = await walk.ask(at, with_({ [by]: wish }));
        if (!isFine(answer) || answer.text === plain.text || !isOrderedBy(answer.text, shape, field, masked)) continue;
        walk.tell(
          'order-tells',
          route,
          player,
          `${player.name} puts ${walk.charter.kind(kind).many} in the order of ${field}, which is masked from them`,
          answer,
          field,
        );
      }
    }
  }
}
