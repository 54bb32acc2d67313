import type { Kysely } from 'kysely';
import { writerFor } from '../../scoping/index.js';
import type { Player } from './cast.js';
import { type Difference, type Pictured, tablesOf } from './picture.js';
import type { Route } from './routes.js';
import type { Answer, Asked } from './send.js';
import type { ProbeTarget } from './target.js';
import { asSent, type Named } from './tries.js';
import type { At, Walk } from './walk.js';

/** A request that is ready to be sent. */
interface Ready {
  readonly at: At;
  readonly path: string;
  readonly more: Asked;
}

/** What two requests came to: whether each was let through, and what is otherwise since. */
interface Outcome {
  readonly answers: readonly [Answer, Answer];
  readonly state: readonly string[];
}

/** So many records are looked through for one of which a request is let through. */
const MOST_RECORDS = 6;
/** How often each order of two requests is tried at once: which of them writes first is left to chance. */
const ROUNDS = 2;
/** How often it is looked whether a request has come to where it writes, and what lies between two looks, in milliseconds. */
const LOOKS = 150;
const BETWEEN = 2;
/** So often two requests may never have met before it is taken that in this application they do not. */
const MOST_MISSED = 4;

/** Who may send. */
interface Senders {
  readonly twins: readonly Player[];
  /** Whoever of these is let through most often. */
  readonly mostAnswered: (route: Route, among: readonly Player[]) => Player | undefined;
}

const isTaken = ({ status }: Answer) => status > 0 && status < 400;
const isSame = (a: Outcome, b: Outcome) => JSON.stringify([a.answers.map(isTaken), a.state]) === JSON.stringify([b.answers.map(isTaken), b.state]);

/**
 * Two requests at once, where one is about what the other rests on: about the same record, what hangs on it, or the membership of whoever sends the other. Both are held
 * up where they write, after all that they check, and then let go: what they leave and how they are answered has to be what one of the two orders leaves.
 *
 * @returns why it could not be tried.
 */
export async function pairsAtOnce(
  walk: Walk,
  db: Kysely<any>,
  routes: readonly Route[],
  { membership }: Pick<ProbeTarget, 'membership'>,
  who: Senders,
): Promise<string | undefined> {
  const gate = gateOf(walk, db);
  if (!gate) return 'what two requests at once leave: it is tried on PostgreSQL alone';
  const pairs = new Pairs(walk, gate);
  const writing = routes.filter(({ method, kind }) => method !== 'GET' && kind !== undefined);
  for (const route of writing) {
    const player = who.mostAnswered(route, walk.players);
    const tenant = player && walk.tries.tenants(route, player)[0];
    if (!player || tenant === undefined) continue;
    const at: At = { route, player, tenant, uncounted: true };
    if (route.record === undefined) {
      const made = ready(walk, at, undefined);
      await pairs.tryOn([made, made], true);
      continue;
    }
    const records = recordsFor(walk, at);
    for (const other of writing)
      for (const one of records) {
        const second = resting(walk, other, one, at, membership, who);
        if (second && (await pairs.tryOn([ready(walk, at, one), second], other === route))) break;
      }
    if (pairs.neverMeet) return 'what two requests at once leave: in this application they do not come to write at the same time';
  }
  return undefined;
}

/** Records that somebody's request may be about, those on which something hangs first. */
function recordsFor(walk: Walk, { route, player, tenant }: At): Named[] {
  const kind = route.params[route.record as string] as string;
  const action = route.method === 'DELETE' ? 'delete' : 'update';
  const near = walk.tries.named(kind, tenant, player, action).filter(({ as }) => as === 'read');
  const all = [...near, ...walk.tries.furtherRead(kind, tenant, player)];
  const carries = ({ one }: Named) => (one && walk.picture.below(one).length > 0 ? 0 : 1);
  return all.sort((a, b) => carries(a) - carries(b)).slice(0, MOST_RECORDS);
}

function ready(walk: Walk, at: At, named: Named | undefined, more: Readonly<Record<string, unknown>> = {}, under?: Pictured): Ready {
  const { route, tenant, player } = at;
  const body = route.method === 'DELETE' ? undefined : walk.tries.body(route, tenant, player);
  return { at, path: walk.tries.path(route, tenant, named, under), more: body === undefined ? {} : { body: { ...body, ...more } } };
}

/** A request by such a route that rests on that record. */
function resting(
  walk: Walk,
  route: Route,
  { id, one }: Named,
  first: At,
  membership: ProbeTarget['membership'],
  { twins, mostAnswered }: Senders,
): Ready | undefined {
  if (!one) return undefined;
  const { tenant } = first;
  const others = [...walk.players, ...twins].filter((player) => player !== first.player && player.tenants.includes(tenant));
  const player = mostAnswered(route, others) ?? first.player;
  const at: At = { route, player, tenant, uncounted: true };
  const kind = route.record === undefined ? undefined : (route.params[route.record] as string);
  const as = (it: Pictured | undefined): Named | undefined => it && { as: 'read', id: it.id, one: it };
  if (membership?.kind === one.kind) {
    // Their own membership is at stake, and what they send is about whatever they read: the membership of the other, where it is about one.
    const whose = others.find(({ person }) => person?.id === String(one.record[membership.person]));
    if (!whose) return undefined;
    const theirs = { ...at, player: whose };
    if (kind === undefined) return ready(walk, theirs, undefined);
    const near = walk.tries.named(kind, tenant, whose).filter((it) => it.as === 'read');
    const back = kind === membership.kind ? walk.picture.all(kind).find((it) => it.tenant === tenant && isOf(it, membership, first.player)) : undefined;
    return ready(walk, theirs, as(back) ?? near[0]);
  }
  if (kind === one.kind) return ready(walk, at, as(one));
  if (kind !== undefined) {
    const child = walk.picture.below(one).find((it) => it.kind === kind);
    return child && ready(walk, at, as(child), {}, one);
  }
  const [field, data] = Object.entries(walk.charter.kind(route.kind as string).fields).find(([, { to }]) => to === one.kind) ?? [];
  if (field === undefined || data === undefined) return undefined;
  if (Object.values(route.params).includes(one.kind)) return ready(walk, at, undefined, {}, one);
  const named = Object.keys(route.body ?? { [field]: '' }).find((name) => walk.tries.fieldCalled(route.kind as string, name)?.[0] === field);
  return named === undefined ? undefined : ready(walk, at, undefined, { [named]: asSent(data.type, id) });
}

const isOf = ({ record }: Pictured, { person }: NonNullable<ProbeTarget['membership']>, player: Player) => String(record[person]) === player.person?.id;

/** Holds up whatever writes, until it is opened. */
type Gate = <T>(work: (waiting: () => Promise<number>) => Promise<T>) => Promise<T>;

function gateOf({ charter }: Walk, db: Kysely<any>): Gate | undefined {
  const held = writerFor(db, charter.shapes).holdUp(tablesOf(db, charter));
  return (
    held &&
    ((work) =>
      db.transaction().execute(async (tx) => {
        await held.hold.rows(tx);
        return work(async () => (await held.waiting.rows<{ n: number }>(tx))[0]?.n ?? 0);
      }))
  );
}

class Pairs {
  readonly #walk: Walk;
  readonly #gate: Gate;
  #missed = 0;
  #met = false;

  constructor(walk: Walk, gate: Gate) {
    this.#walk = walk;
    this.#gate = gate;
  }

  get neverMeet(): boolean {
    return !this.#met && this.#missed >= MOST_MISSED;
  }

  /** @param sameRecord whether both write the same: then it is tried also where both orders leave the same. @returns whether each is let through by itself. */
  async tryOn([a, b]: readonly [Ready, Ready], sameRecord: boolean): Promise<boolean> {
    const [ab, ba] = [await this.#inTurn(a, b), turned(await this.#inTurn(b, a))];
    if (!isTaken(ab.answers[0]) || !isTaken(ba.answers[1])) return false;
    if (isSame(ab, ba) && !sameRecord) return true;
    for (let round = 0; round < ROUNDS && !this.neverMeet; round++)
      for (const way of ['ab', 'ba'] as const) {
        const both = way === 'ab' ? await this.#atOnce(a, b) : turned(await this.#atOnce(b, a));
        if (!(await this.#isLawful(a, b, both, [ab, ba]))) return true;
      }
    return true;
  }

  async #inTurn(first: Ready, second: Ready): Promise<Outcome> {
    const answers = [await this.#send(first), await this.#send(second)] as const;
    return { answers, state: await this.#settled() };
  }

  async #alone(one: Ready): Promise<readonly string[]> {
    await this.#send(one);
    return this.#settled();
  }

  async #atOnce(first: Ready, second: Ready): Promise<Outcome> {
    let open = () => {};
    const heldUntil = new Promise<void>((done) => {
      open = done;
    });
    const sent = await this.#gate(async (waiting) => {
      const answers: Promise<Answer>[] = [];
      for (const one of [first, second]) {
        let isAnswered = false;
        const answer = this.#send(one, heldUntil).finally(() => {
          isAnswered = true;
        });
        answers.push(answer);
        const wanted = answers.length;
        for (let i = 0; i < LOOKS && !isAnswered && (await waiting()) < wanted; i++) await new Promise((done) => setTimeout(done, BETWEEN));
        if (!isAnswered && (await waiting()) < wanted) this.#missed += 1;
        else this.#met = true;
      }
      return answers;
    }).finally(open);
    const answers = (await Promise.all(sent)) as [Answer, Answer];
    return { answers, state: await this.#settled() };
  }

  async #isLawful(a: Ready, b: Ready, both: Outcome, orders: readonly Outcome[]): Promise<boolean> {
    const { answers, state } = both;
    const [forA, forB] = answers;
    const tell = (what: string, code: 'breaks' | 'neither-order', answer: Answer, [one, other]: readonly [Ready, Ready]) => {
      const beside = answer === forA ? forB.sent : forA.sent;
      const message = `${one.at.player.name} sends it while ${other.at.player.name} sends ${other.at.route.name}, and ${what}`;
      this.#walk.tell(code, one.at.route, one.at.player, message, { ...answer, sent: { ...answer.sent, beside } }, other.at.route.name);
    };
    const failed = [forA, forB].find(({ status }) => status >= 500 || status === 0);
    if (failed) {
      tell(failed.status === 0 ? 'there is no answer' : `it is answered ${failed.status}`, 'breaks', failed, failed === forA ? [a, b] : [b, a]);
      return false;
    }
    if (orders.some((order) => isSame(order, both))) return true;
    // Whoever is refused has changed nothing.
    const taken = [forA, forB].filter(isTaken);
    if (taken.length === 0 && state.length === 0) return true;
    const alone = new Map<Answer, readonly string[]>();
    for (const one of taken) alone.set(one, await this.#alone(one === forA ? a : b));
    if (taken.length === 1 && JSON.stringify([...alone.values()][0]) === JSON.stringify(state)) return true;
    // Two who take away the same are both told that it is gone, and it is.
    const isUsual = orders.some((order) => JSON.stringify(order.state) === JSON.stringify(state));
    if (isUsual && [...alone.values()].every((lines) => beyond(lines, state).length === 0)) return true;
    const [left] = orders.map((order) => beyond(state, order.state)).sort((one, other) => one.length - other.length)[0] ?? [];
    const what =
      left === undefined ? `they are answered ${forB.status} and ${forA.status}, as in neither order` : `what neither order leaves is there: ${left}`;
    tell(what, 'neither-order', forB, [b, a]);
    return false;
  }

  #send({ at, path, more }: Ready, heldUntil?: Promise<void>): Promise<Answer> {
    return this.#walk.call(at, path, { ...more, ...(heldUntil && { heldUntil }) });
  }

  /** What is otherwise, in words that are the same for the same, and put back. */
  async #settled(): Promise<readonly string[]> {
    const lines: string[] = [];
    await this.#walk.settle('two requests at once', (changed) => lines.push(...changed.flatMap((one) => this.#linesOf(one))));
    return lines.sort();
  }

  #linesOf({ kind, before, after, fields }: Difference): string[] {
    const { charter, picture } = this.#walk;
    const { one, label, fields: all } = charter.kind(kind);
    if (!after) return [`the ${one} ${before?.id} is gone`];
    const told = (field: string, of: Pictured) => {
      const { type, to } = all[field] ?? {};
      const value = of.record[field];
      if (value === null || value === undefined) return 'nothing';
      // A moment is another each time, and so is the id of what was made along with it.
      if (type === 'instant') return 'some moment';
      return to !== undefined && !picture.find(to, String(value), of.tenant) ? 'one that is new or gone' : JSON.stringify(value);
    };
    if (before) return fields.map((field) => `${field} of the ${one} ${before.id} is ${told(field, after)}`);
    const kept = Object.entries(all).filter(([name, { role, options }]) => role !== 'id' && (name === label || options !== undefined || role !== 'plain'));
    return [`a ${one} is there with ${kept.map(([name]) => `${name} ${told(name, after)}`).join(', ')}`];
  }
}

/** Lines that stand in one more often than in the other. */
function beyond(lines: readonly string[], others: readonly string[]): string[] {
  const left = [...others];
  return lines.filter((line) => {
    const at = left.indexOf(line);
    if (at >= 0) left.splice(at, 1);
    return at < 0;
  });
}

const turned = ({ answers: [one, other], state }: Outcome): Outcome => ({ answers: [other, one], state });
