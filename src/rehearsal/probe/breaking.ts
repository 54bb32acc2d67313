import type { Player } from './cast.js';
import type { Route } from './routes.js';
import type { Answer } from './send.js';
import { type At, type Walk, withQuery } from './walk.js';

const DEEP = JSON.parse(`${'['.repeat(200)}${']'.repeat(200)}`) as unknown;
/** What a field may be sent as, and no column takes: other types, numbers past every bound, what is long or deep, what no text of a database holds. */
const VALUES: readonly unknown[] = [
  undefined,
  null,
  'Probe',
  '',
  -1,
  2 ** 31,
  2 ** 63,
  1e308,
  0.123456789,
  true,
  [],
  [null],
  {},
  DEEP,
  '\u0000',
  '\ud800',
  'x'.repeat(100_000),
  '99999-99-99T99:99:99Z',
];
const BODIES: readonly unknown[] = [undefined, null, [], 'Probe', 7];
const IDS = ['2147483648', '9223372036854775808', '9'.repeat(40), '-1', '0.5', 'NaN', 'no id', '%00', '../..', 'x'.repeat(2000)];

/** Sends what is of the wrong form, for each field and each part of the address: the application has to refuse it, not to fail. */
export async function breaks(walk: Walk, route: Route, player: Player): Promise<void> {
  const tenant = walk.tries.tenants(route, player)[0] as string;
  const at: At = { route, player, tenant, uncounted: true };
  const [named] = route.record === undefined ? [undefined] : walk.tries.named(route.params[route.record] as string, tenant, player);
  const path = walk.tries.path(route, tenant, named);
  const failed = async (sent: Answer | Promise<Answer>, what: string): Promise<boolean> => {
    const answer = await sent;
    if (answer.status >= 500) walk.tell('breaks', route, player, `${player.name} is answered ${answer.status} ${what}`, answer);
    return answer.status >= 500;
  };
  for (const name of [...Object.keys(route.params), ...Object.keys(route.values)])
    for (const id of IDS) {
      const wrong = route.path.replace(/\{(\w+)\}/g, (_, one: string) => (one === name ? (id === '%00' ? id : encodeURIComponent(id)) : `{${one}}`));
      if (await failed(walk.change(at, walk.tries.path({ ...route, path: wrong }, tenant, named)), `for ${name} ${short(id)}`)) break;
    }
  for (const name of route.query)
    for (const value of ['', '-1', '0.5', 'NaN', '9223372036854775808', "'", '\u0000', 'x'.repeat(2000)])
      if (await failed(walk.change(at, withQuery(path, [[name, value]])), `for ${name} ${short(value)}`)) break;
  if (['GET', 'DELETE'].includes(route.method)) return;
  for (const body of BODIES) if (await failed(walk.change(at, path, { body }), body === undefined ? 'without a body' : `for the body ${short(body)}`)) break;
  await breaksByField(walk, at, path, failed);
}

/** Each field that the body has, or that the kind has besides, by itself where that is enough. */
async function breaksByField(walk: Walk, at: At, path: string, failed: (sent: Promise<Answer>, what: string) => Promise<boolean>): Promise<void> {
  const { route, tenant, player } = at;
  const plain = walk.tries.body(route, tenant, player) ?? {};
  const fields =
    route.kind === undefined ? [] : Object.entries(walk.charter.kind(route.kind).fields).flatMap(([name, { role }]) => (role === 'plain' ? [name] : []));
  for (const name of new Set([...Object.keys(plain), ...fields]))
    for (const value of VALUES) {
      const answer = await walk.call(at, path, { body: { ...plain, [name]: value } });
      if (answer.status < 500) {
        await walk.putBack(at, answer);
        continue;
      }
      const alone = await walk.change(at, path, { body: { [name]: value } });
      await failed(Promise.resolve(alone.status >= 500 ? alone : answer), value === undefined ? `without ${name}` : `for ${name} ${short(value)}`);
      break;
    }
}

/** Whoever is answered with success most often, by route: by them it is tried what breaks. */
export function mostAnswered(route: Route, players: readonly Player[], answered: (route: Route, player: Player) => number): Player | undefined {
  return [...players].sort((a, b) => answered(route, b) - answered(route, a))[0];
}

function short(value: unknown): string {
  const text = typeof value === 'number' ? String(value) : (JSON.stringify(value) ?? '');
  return text.length > 40 ? `${text.slice(0, 30)}… (${text.length} characters)` : text;
}
