import { AsyncLocalStorage } from 'node:async_hooks';
import type { Kysely } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import type { Lintel } from '../../server/index.js';
import { Answers, isFine, type Tell } from './answers.js';
import { breaks, mostAnswered } from './breaking.js';
import { castOf, type Player, partsOf, standingWith } from './cast.js';
import { checkTarget } from './checked.js';
import { PROBE_CODES, type ProbeCode, type ProbeFinding, type ProbeProgress, type ProbeReport } from './findings.js';
import { type Knowledge, knowledgeOf, unlawfulIn } from './judge.js';
import { makeMissing } from './missing.js';
import { afterTurn, type Turn, turnsOf } from './outdated.js';
import { pairsAtOnce } from './pairs.js';
import { type Difference, Picture } from './picture.js';
import { reads } from './reading.js';
import { type Route, readRoutes } from './routes.js';
import { type Answer, type Asked, sender } from './send.js';
import { keptForOthers, restsOnHidden } from './states.js';
import type { ProbeTarget } from './target.js';
import { Tries } from './tries.js';
import type { At, Walk } from './walk.js';
import { writes } from './writing.js';

interface Found extends Omit<ProbeFinding, 'people' | 'severity'> {
  readonly people: Set<string>;
}

type Told = Parameters<Tell>;

/** So often what was put back is changed again by the same request, which goes on after its answer. */
const MOST_LATE = 5;
/** So many requests that only read are on their way at once. */
const MOST_AT_ONCE = 4;
/** The same cause is told once: on a route where one of these is found, others come of it. */
const COMES_WITH: Partial<Readonly<Record<ProbeCode, readonly ProbeCode[]>>> = {
  'shows-hidden': ['count-tells', 'filter-tells', 'rests-on-hidden', 'open-after-change'],
  'shows-masked': ['order-tells', 'filter-tells', 'rests-on-hidden', 'open-after-change'],
  'changes-unlawfully': ['open-after-change'],
  'lets-in': ['open-after-change'],
  'open-after-removal': ['open-after-change'],
  'count-tells': ['rests-on-hidden'],
  'filter-tells': ['rests-on-hidden'],
  'order-tells': ['rests-on-hidden'],
};

/** Walks the routes of an application as everybody, and holds what it answers, and what it does to the database, against the charter. */
class Probe implements Walk {
  readonly charter: Charter<any>;
  readonly #db: Kysely<any>;
  readonly #lintel: Lintel;
  readonly #target: ProbeTarget;
  readonly #found = new Map<string, Found>();
  /** What is told while several things are tried at once. */
  readonly #aside = new AsyncLocalStorage<Told[]>();
  readonly #covered = new Map<string, Map<string, { calls: number; answered: number }>>();
  readonly #ask: ReturnType<typeof sender>['ask'];
  readonly #send: ReturnType<typeof sender>['send'];
  /** By player, and tenant where a session is of one. */
  readonly #sessions = new Map<Player, ReadonlyMap<string, Record<string, string>>>();
  /** Names of headers that sessions are carried in. */
  readonly #carried = new Set<string>();
  readonly #knowledge = new Map<Player, Knowledge>();
  /** By path: one that gave no answer is not waited for again. */
  readonly #silent = new Map<string, Answer>();
  readonly #unreached: { route: string; why: string }[] = [];
  players: readonly Player[] = [];
  picture!: Picture;
  tries!: Tries;
  answers!: Answers;
  #mark: string | undefined;
  #calls = 0;

  constructor(lintel: Lintel, db: Kysely<any>, target: ProbeTarget) {
    this.charter = lintel.charter;
    this.#lintel = lintel;
    this.#db = db;
    this.#target = target;
    const { ask, send } = sender(target);
    this.#ask = ask;
    this.#send = send;
  }

  async run(told: (progress: ProbeProgress) => void): Promise<ProbeReport> {
    checkTarget(this.charter, this.#target);
    await this.#insistOnApplication();
    const { players, twins } = await castOf(this.#lintel, this.#db, this.#target);
    this.players = players;
    this.picture = await Picture.take(this.#db, this.charter);
    const before = this.picture;
    const made = this.#target.makeMissing === true && (await makeMissing(this.#db, this.charter, before, players));
    if (!made) return this.#walkAs(players, twins, told);
    this.picture = await Picture.take(this.#db, this.charter);
    try {
      return await this.#walkAs(players, twins, told);
    } finally {
      await before.restore(this.#db, await Picture.take(this.#db, this.charter));
    }
  }

  async #walkAs(players: readonly Player[], twins: readonly Player[], told: (progress: ProbeProgress) => void): Promise<ProbeReport> {
    const { routes, others, unreached } = readRoutes(this.charter, this.#target, this.#isId);
    this.#unreached.push(...unreached);
    this.#mark = await Picture.mark(this.#db, this.charter);
    for (const player of [...players, ...twins]) {
      this.#sessions.set(player, await this.#signIn(player));
      this.#knowledge.set(player, knowledgeOf(this.charter, this.picture, player));
    }
    this.tries = new Tries(this.charter, this.picture, this.players, this.#knowledge, this.#target);
    const parts = await partsOf(this.#lintel, this.#target);
    this.answers = new Answers(this.charter, this.picture, this.players, parts, this.#knowledge, this.tell, this.#target.sessions === 'tenant');
    const asEach = (what: string, go: (player: Player) => Promise<void>) =>
      this.players.map((player) => ({ what: `${what} as ${player.name}`, go: () => go(player) }));
    const turns = turnsOf(this.#lintel, this.#db, this.#target, standingWith(this.charter, this.#target));
    const gets = routes.filter(({ method }) => method === 'GET');
    const unsteady = new Set<string>();
    const tries = [
      ...routes.flatMap((route) => asEach(route.name, (player) => (route.method === 'GET' ? reads(this, route, player) : writes(this, route, player)))),
      ...others.flatMap((route) => asEach(route.name, (player) => writes(this, route, player, 'once'))),
      ...routes.map((route) => ({ what: `${route.name} with what no field takes`, go: () => this.#breaks(route) })),
      { what: 'what is kept for others', go: () => keptForOthers(this, gets) },
      ...asEach('what rests on what is hidden', async (player) => {
        for (const { name } of await restsOnHidden(this, this.#db, gets, player, this.#target.membership?.kind)) unsteady.add(name);
      }),
      { what: 'two requests at once', go: () => this.#pairs(routes, twins) },
      ...turns.flatMap((turn) => asEach(`what is left once somebody ${turn.what}`, (player) => this.#afterTurn(routes, player, turn))),
    ];
    for (const [done, { what, go }] of tries.entries()) {
      told({ what, done, of: tries.length, found: this.#found.size });
      await go();
    }
    for (const route of unsteady) this.#unreached.push({ route, why: 'whether it rests on what is hidden: it answers otherwise each time' });
    this.#unreached.push(...this.tries.gaps(routes));
    if (turns.length === 0)
      this.#unreached.push({ route: 'all routes', why: 'sessions of those who were put out: neither probe.membership nor probe.putOut says how somebody is' });
    return this.#report(routes);
  }

  /** Of an application by its address. @throws LintelError `no-application`. */
  async #insistOnApplication(): Promise<void> {
    const { app } = this.#target;
    if (typeof app !== 'string') return;
    const { failed } = await this.#ask('HEAD', '/', {});
    if (failed !== undefined) throw new LintelError('no-application', `nothing answers at ${app} (${failed}); start the application first`, {});
  }

  async #signIn({ person, name, tenants }: Player): Promise<ReadonlyMap<string, Record<string, string>>> {
    const wanted = this.#target.sessions === 'tenant' ? tenants : tenants.slice(0, 1);
    const sessions = new Map<string, Record<string, string>>();
    for (const tenant of person ? (wanted.length > 0 ? wanted : ['']) : []) {
      try {
        const session = await this.#target.signIn(person as NonNullable<typeof person>, this.#send, { tenant });
        if (typeof session !== 'object' || session === null) throw new Error(`it answered ${String(session)}, and not the headers that requests carry`);
        for (const name of Object.keys(session)) this.#carried.add(name.toLowerCase());
        sessions.set(tenant, session);
      } catch (error) {
        const of = this.#target.sessions === 'tenant' ? ` for ${tenant}` : '';
        const why = error instanceof Error ? error.message : String(error);
        throw new LintelError('no-sign-in', `probe.signIn could not sign ${name} in${of}: ${why}`, {}, { cause: error });
      }
    }
    return sessions;
  }

  readonly tell: Tell = (...told) => {
    const aside = this.#aside.getStore();
    if (aside) aside.push(told);
    else this.#put(told);
  };

  readonly #keyOf = ([code, route, , , , about = '']: Told) => JSON.stringify([code, route.name, about]);

  readonly #put = (told: Told): void => {
    const [code, route, { person, name }, message, { sent, status }, about = ''] = told;
    const known = this.#found.get(this.#keyOf(told));
    if (known) known.people.add(name);
    else
      this.#found.set(this.#keyOf(told), {
        code,
        route: route.name,
        about,
        person: { id: person?.id ?? null, name },
        message,
        request: sent,
        status,
        people: new Set([name]),
      });
  };

  async #toldBy(work: () => Promise<void>): Promise<Told[]> {
    const told: Told[] = [];
    await this.#aside.run(told, work);
    return told;
  }

  async each<T>(items: readonly T[], work: (item: T) => Promise<void>): Promise<void> {
    const told: Told[][] = [];
    const left = [...items.entries()];
    const worker = async (): Promise<void> => {
      for (let next = left.shift(); next; next = left.shift()) {
        const [i, item] = next;
        told[i] = await this.#toldBy(() => work(item));
      }
    };
    await Promise.all(Array.from({ length: MOST_AT_ONCE }, worker));
    for (const one of told.flat()) this.tell(...one);
  }

  async together<T>(parts: readonly T[], attempt: (parts: readonly T[]) => Promise<void>): Promise<void> {
    if (parts.length === 0) return;
    const isFresh = (told: Told) => !this.#found.has(this.#keyOf(told));
    const together = await this.#toldBy(() => attempt(parts));
    let left = together.filter(isFresh);
    for (const part of left.length === 0 ? [] : parts) {
      const alone = await this.#toldBy(() => attempt([part]));
      for (const told of alone) this.tell(...told);
      left = left.filter(isFresh);
      if (left.length === 0) break;
    }
    for (const told of together) this.tell(...told);
  }

  knowledgeOf(player: Player): Knowledge {
    return this.#knowledge.get(player) as Knowledge;
  }

  async call({ route, player, tenant, uncounted }: At, path: string, { headers, ...asked }: Asked = {}): Promise<Answer> {
    const silent = this.#silent.get(route.path);
    if (silent) return silent;
    const sessions = this.#sessions.get(player);
    const session = sessions?.get(tenant) ?? [...(sessions?.values() ?? [])][0] ?? {};
    // Whoever sends another session is somebody else.
    const besides = Object.entries(headers ?? {}).filter(([name]) => !this.#carried.has(name));
    const more = route.headers || besides.length > 0 ? { ...route.headers, ...Object.fromEntries(besides) } : undefined;
    const answer = await this.#ask(route.method, path, session, { ...asked, ...(more && { headers: more }) });
    this.#calls += 1;
    if (!uncounted) {
      const by = this.#covered.get(route.name) ?? new Map<string, { calls: number; answered: number }>();
      this.#covered.set(route.name, by);
      const tally = by.get(player.name) ?? { calls: 0, answered: 0 };
      by.set(player.name, tally);
      tally.calls += 1;
      if (isFine(answer)) tally.answered += 1;
    }
    if (answer.status === 0) {
      this.#silent.set(route.path, answer);
      this.tell('breaks', route, player, `${player.name} gets no answer: ${answer.failed}, and what stands under this path is not tried again`, answer);
    }
    if (answer.status >= 500 && !uncounted) this.tell('breaks', route, player, `${player.name} is answered ${answer.status}`, answer);
    return answer;
  }

  async ask(at: At, path: string, more?: Asked): Promise<Answer> {
    const answer = await this.call(at, path, more);
    this.answers.judge(at.route, at.player, at.tenant, answer);
    return answer;
  }

  async change(at: At, path: string, more?: Asked): Promise<Answer> {
    const answer = await this.ask(at, path, more);
    await this.putBack(at, answer);
    return answer;
  }

  /** An id of a record, a tenant or one of the people: in a recording, a part of an address that is none stands for itself. */
  readonly #isId = (part: string): boolean =>
    Object.keys(this.charter.data.kinds).some((kind) => this.picture.withId(kind, part).length > 0) ||
    this.players.some(({ person, tenants }) => person?.id === part || tenants.includes(part));

  readonly #mostAnswered = (of: Route, among: readonly Player[]) =>
    mostAnswered(of, among, (route, { name }) => this.#covered.get(route.name)?.get(name)?.answered ?? 0);

  async #pairs(routes: readonly Route[], twins: readonly Player[]): Promise<void> {
    const why = await pairsAtOnce(this, this.#db, routes, this.#target, { twins, mostAnswered: this.#mostAnswered });
    if (why !== undefined) this.#unreached.push({ route: 'all routes', why });
  }

  /** By whoever is answered most often, so that it is the form that is refused. */
  async #breaks(route: Route): Promise<void> {
    const player = this.#mostAnswered(route, this.players);
    if (player) await breaks(this, route, player);
  }

  async #afterTurn(routes: readonly Route[], player: Player, turn: Turn): Promise<void> {
    await afterTurn(this, routes, player, turn).catch((error: unknown) => {
      if (error instanceof LintelError) throw error;
      const why = error instanceof Error ? error.message : String(error);
      if (!this.#unreached.some((one) => one.why.startsWith(`sessions of whoever ${turn.what}`)))
        this.#unreached.push({ route: 'all routes', why: `sessions of whoever ${turn.what}: ${why}` });
    });
    const later = await Picture.take(this.#db, this.charter);
    if (this.picture.differences(later).length > 0) await this.picture.restore(this.#db, later);
  }

  async asThingsAre(now: Player, before: Player, work: (picture: Picture, knowledge: Knowledge) => Promise<void>): Promise<void> {
    const [picture, mark] = [this.picture, this.#mark];
    this.picture = await Picture.take(this.#db, this.charter);
    this.#mark = await Picture.mark(this.#db, this.charter);
    const knowledge = knowledgeOf(this.charter, this.picture, now);
    this.#knowledge.set(now, knowledge);
    this.#sessions.set(now, this.#sessions.get(before) ?? new Map());
    try {
      await work(this.picture, knowledge);
    } finally {
      this.picture = picture;
      this.#mark = mark;
    }
  }

  /**
   * What a request did to the database, which is then put back: again where it goes on writing after its answer.
   *
   * @throws LintelError `not-put-back`: to go on would be to judge by what the probe itself has done.
   */
  async settle(what: string, seen: (changed: readonly Difference[]) => void): Promise<void> {
    const failed = (cause?: unknown) =>
      new LintelError(
        'not-put-back',
        `what ${what} changed could not be put back, and is in the database now${cause instanceof Error ? `: ${cause.message}` : ''}; try the application on a copy`,
        {},
        { cause },
      );
    for (let times = 0; ; times++) {
      const mark = await Picture.mark(this.#db, this.charter);
      if (mark !== undefined && mark === this.#mark) return;
      const later = await Picture.take(this.#db, this.charter);
      const changed = this.picture.differences(later);
      if (changed.length === 0 && (times === 0 || mark === undefined)) return;
      if (times === MOST_LATE) throw failed();
      seen(changed);
      await this.picture.restore(this.#db, later).catch((error: unknown) => {
        throw failed(error);
      });
    }
  }

  putBack(at: At, answer: Answer, turn?: Turn): Promise<void> {
    return this.settle(`${at.route.name} as ${at.player.name}`, (changed) => {
      for (const one of changed) this.#judgeChange(one, changed, at, answer, turn);
    });
  }

  #judgeChange(one: Difference, changed: readonly Difference[], { route, player, tenant }: At, answer: Answer, turn?: Turn): void {
    const its = (one.before ?? one.after)?.tenant;
    if (this.answers.mayCross(route, player) && its !== undefined && its !== tenant)
      this.tell(
        'other-tenant',
        route,
        player,
        `${player.name} asks ${tenant}, and changes the ${one.kind} ${(one.before ?? one.after)?.id} of ${its}`,
        answer,
        'changes',
      );
    for (const { about, why } of unlawfulIn(this.charter, this.picture, player, one, changed, answer.sent.body, this.answers.isStranger))
      this.tell(turn?.code ?? 'changes-unlawfully', route, player, `${player.name}${turn ? ` ${turn.what}, and yet` : ''}: ${why}`, answer, about);
  }

  #report(routes: readonly Route[]): ProbeReport {
    const people = this.players.map(({ name }) => name);
    const coverage = routes.map(({ name }) => ({ route: name, by: people.map((who) => this.#covered.get(name)?.get(who) ?? { calls: 0, answered: 0 }) }));
    const never = coverage
      .filter(({ by }) => by.every(({ answered }) => answered === 0))
      .map(({ route }) => ({ route, why: 'nobody was let in: no call was answered with success' }));
    const all = [...this.#found.values()];
    const isToldOtherwise = ({ code, route }: Found) => all.some((other) => other.route === route && COMES_WITH[other.code]?.includes(code));
    const order = Object.keys(PROBE_CODES);
    const findings = all
      .filter((one) => !isToldOtherwise(one))
      .map((one): ProbeFinding => ({ ...one, severity: PROBE_CODES[one.code].severity, people: [...one.people] }))
      .sort((a, b) => order.indexOf(a.code) - order.indexOf(b.code));
    return { findings, people, coverage, unreached: [...this.#unreached, ...never], calls: this.#calls };
  }
}

/**
 * Tries an application: every route as everybody, as a visitor, and with the session of somebody who was put out or holds less since; with one's own ids, hidden ones and those of
 * other tenants, with fields that no form sends, with other verbs, and with what no field takes. What comes back, and what changed in the database, is held against the charter; so is what is
 * answered once something has changed that a person may not read. What was changed is put back.
 *
 * It sees the tables of the charter's kinds and their links, of at most 20,000 rows each, and answers as text; not what goes out by mail, what is kept elsewhere, or
 * how long an answer takes.
 *
 * @param db the database of the application's records.
 * @param told is told before each step what is tried next: a walk takes from seconds to minutes.
 * @throws LintelError `bad-target`, `no-application`, `no-routes`, `no-sign-in`, `probe-elsewhere`, `too-large`, `not-put-back`.
 */
export async function probe(lintel: Lintel, db: Kysely<any>, target: ProbeTarget, told: (progress: ProbeProgress) => void = () => {}): Promise<ProbeReport> {
  return new Probe(lintel, db, target).run(told);
}
