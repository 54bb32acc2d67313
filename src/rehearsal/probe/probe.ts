import type { Kysely } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import type { KindShape } from '../../predicate/index.js';
import type { Lintel } from '../../server/index.js';
import { Answers, isFine, type Tell } from './answers.js';
import { castOf, type Player, partsOf } from './cast.js';
import { PROBE_CODES, type ProbeCode, type ProbeFinding, type ProbeProgress, type ProbeReport } from './findings.js';
import { isOrderedBy, type Knowledge, knowledgeOf, namesOf, secretsIn, unlawfulIn } from './judge.js';
import { type Difference, Picture } from './picture.js';
import { type Route, readRoutes } from './routes.js';
import { type Answer, type Sent, sender } from './send.js';
import type { ProbeTarget } from './target.js';
import { type Named, Tries } from './tries.js';

interface Found {
  readonly code: ProbeCode;
  readonly person: ProbeFinding['person'];
  readonly message: string;
  readonly request: Sent;
  readonly status: number;
  readonly people: Set<string>;
}

/** So often what was put back is changed again by the same request, which goes on after its answer. */
const MOST_LATE = 5;

/** Walks the routes of an application as everybody, and holds what it answers, and what it does to the database, against the charter. */
class Probe {
  readonly #charter: Charter<any>;
  readonly #db: Kysely<any>;
  readonly #lintel: Lintel;
  readonly #target: ProbeTarget;
  readonly #putOut: ProbeTarget['putOut'];
  readonly #found = new Map<string, Found>();
  readonly #covered = new Map<string, Map<string, { calls: number; answered: number }>>();
  readonly #ask: ReturnType<typeof sender>['ask'];
  readonly #send: ReturnType<typeof sender>['send'];
  readonly #headers = new Map<Player, Record<string, string>>();
  readonly #knowledge = new Map<Player, Knowledge>();
  /** By path: one that gave no answer is not waited for again. */
  readonly #silent = new Map<string, Answer>();
  #players: readonly Player[] = [];
  #picture!: Picture;
  #tries!: Tries;
  #answers!: Answers;
  #mark: string | undefined;
  #calls = 0;

  constructor(lintel: Lintel, db: Kysely<any>, target: ProbeTarget) {
    this.#charter = lintel.charter;
    this.#lintel = lintel;
    this.#db = db;
    this.#target = target;
    this.#putOut = target.putOut ?? (target.people ? undefined : this.#suspend);
    const { ask, send } = sender(target);
    this.#ask = ask;
    this.#send = send;
  }

  async run(told: (progress: ProbeProgress) => void): Promise<ProbeReport> {
    const { routes, others, unreached } = readRoutes(this.#charter, this.#target);
    this.#players = await castOf(this.#lintel, this.#target);
    this.#picture = await Picture.take(this.#db, this.#charter);
    this.#mark = await Picture.mark(this.#db, this.#charter);
    for (const player of this.#players) {
      this.#headers.set(player, await this.#signIn(player));
      this.#knowledge.set(player, knowledgeOf(this.#charter, this.#picture, player));
    }
    this.#tries = new Tries(this.#charter, this.#picture, this.#players, this.#knowledge);
    const parts = await partsOf(this.#lintel, this.#target);
    this.#answers = new Answers(this.#charter, this.#picture, this.#players, parts, this.#knowledge, this.#tell);
    const asEach = (what: string, go: (player: Player) => Promise<void>) =>
      this.#players.map((player) => ({ what: `${what} as ${player.name}`, go: () => go(player) }));
    const putOut = this.#putOut;
    const tries = [
      ...routes.flatMap((route) => asEach(route.name, (player) => (route.method === 'GET' ? this.#reads(route, player) : this.#writes(route, player)))),
      ...others.flatMap((route) => asEach(route.name, (player) => this.#writes(route, player, 'once'))),
      ...(putOut ? asEach('what is left after removal', (player) => this.#afterRemoval(routes, player, putOut)) : []),
    ];
    for (const [done, { what, go }] of tries.entries()) {
      told({ what, done, of: tries.length, found: this.#found.size });
      await go();
    }
    return this.#report(routes, unreached);
  }

  async #signIn({ person, name }: Player): Promise<Record<string, string>> {
    if (!person) return {};
    try {
      return await this.#target.signIn(person, this.#send);
    } catch (error) {
      throw new LintelError(
        'no-sign-in',
        `probe.signIn could not sign ${name} in: ${error instanceof Error ? error.message : String(error)}`,
        {},
        { cause: error },
      );
    }
  }

  readonly #tell: Tell = (code, route, player, message, { sent, status }, about = '') => {
    const key = JSON.stringify([code, route.name, about]);
    const known = this.#found.get(key);
    if (known) known.people.add(player.name);
    else
      this.#found.set(key, {
        code,
        person: { id: player.person?.id ?? null, name: player.name },
        message,
        request: sent,
        status,
        people: new Set([player.name]),
      });
  };

  async #call(route: Route, player: Player, path: string, body?: unknown): Promise<Answer> {
    const silent = this.#silent.get(route.path);
    if (silent) return silent;
    const answer = await this.#ask(route.method, path, this.#headers.get(player) ?? {}, body, route.headers);
    this.#calls += 1;
    const by = this.#covered.get(route.name) ?? new Map<string, { calls: number; answered: number }>();
    this.#covered.set(route.name, by);
    const tally = by.get(player.name) ?? { calls: 0, answered: 0 };
    by.set(player.name, tally);
    tally.calls += 1;
    if (isFine(answer)) tally.answered += 1;
    if (answer.status === 0) {
      this.#silent.set(route.path, answer);
      this.#tell('breaks', route, player, `${player.name} gets no answer: ${answer.failed}, and what stands under this path is not tried again`, answer);
    }
    if (answer.status >= 500) this.#tell('breaks', route, player, `${player.name} is answered ${answer.status}`, answer);
    return answer;
  }

  async #reads(route: Route, player: Player): Promise<void> {
    for (const tenant of this.#tries.tenants(route, player)) {
      const named = route.record === undefined ? [undefined] : this.#tries.named(route.params[route.record] as string, tenant, player);
      const answers: [Named, Answer][] = [];
      for (const one of named) {
        const path = this.#tries.path(route, tenant, one);
        const answer = await this.#call(route, player, path);
        this.#answers.judge(route, player, tenant, answer);
        this.#answers.counts(route, player, tenant, answer);
        await this.#judgeDatabase(route, player, tenant, answer);
        if (one) answers.push([one, answer]);
        if (one === undefined || one.as === 'read') await this.#asksFurther(route, player, path, tenant, answer);
      }
      this.#answers.existence(route, player, answers);
      if (route.record === undefined) continue;
      const heads: [Named, Answer][] = [];
      for (const [one] of answers)
        if (one.as !== 'read') heads.push([one, await this.#call({ ...route, method: 'HEAD' }, player, this.#tries.path(route, tenant, one))]);
      this.#answers.heads(route, player, heads);
      // What stands beside a record shows at some of them only.
      for (const one of this.#tries.furtherRead(route.params[route.record] as string, tenant, player))
        this.#answers.judge(route, player, tenant, await this.#call(route, player, this.#tries.path(route, tenant, one)));
    }
  }

  /** Past the edge of a page, by words of what is hidden, and by fields that are masked. */
  async #asksFurther(route: Route, player: Player, path: string, tenant: string, plain: Answer): Promise<void> {
    if (!isFine(plain)) return;
    const { secrets } = this.#knowledge.get(player) as Knowledge;
    const word = [...secrets].find(([, { of, hidden }]) => hidden && of.tenant === tenant)?.[0] ?? 'probe';
    const with_ = (query: Record<string, string>) => `${path}?${new URLSearchParams(query)}`;
    const named = (wish: RegExp, fallback: string) => route.query.find((name) => wish.test(name)) ?? fallback;
    const idNames = route.query.flatMap((name): [string, readonly Named[]][] => {
      const kind = this.#tries.kindNamed(route, name) ?? (/ids?$/i.test(name) ? route.kind : undefined);
      return kind === undefined ? [] : [[name, this.#tries.named(kind, tenant, player)]];
    });
    for (const [name, all] of idNames) {
      const answers: [Named, Answer][] = [];
      for (const one of all) answers.push([one, await this.#call(route, player, with_({ [name]: one.id }))]);
      for (const [, answer] of answers) this.#answers.judge(route, player, tenant, answer);
      this.#answers.existence(route, player, answers, name, true);
    }
    const attempts: Record<string, string>[] = [
      ...idNames.map(([name, all]) => ({ [name]: all.map(({ id }) => id).join(',') })),
      { [named(/limit|size|per/i, 'limit')]: '100000', [named(/offset|skip/i, 'offset')]: '0' },
      { [named(/limit|size|per/i, 'limit')]: '-1' },
      { [named(/offset|skip|page|after|cursor/i, 'page')]: '-1' },
      { [named(/^q$|search|query|term|text/i, 'q')]: word },
      { [named(/sort|order/i, 'sort')]: 'no_such_column' },
      ...route.query
        .filter((name) => /all|deleted|archived|include|tenant|org/i.test(name))
        .map((name) => ({ [name]: /tenant|org/i.test(name) ? this.#tries.otherTenant(player) : 'true' })),
    ];
    for (const attempt of attempts) this.#answers.judge(route, player, tenant, await this.#call(route, player, with_(attempt)));
    const { kind } = route;
    if (kind === undefined || route.record !== undefined) return;
    await this.#judgeOrder(route, player, with_, named(/sort|order/i, 'sort'), tenant, plain);
    const [hiddenText, hidden] =
      [...secrets].find(([, { of, hidden: all, field }]) => all && of.kind === kind && of.tenant === tenant && field === this.#charter.kind(kind).label) ?? [];
    if (hiddenText !== undefined && hidden)
      for (const name of route.query.filter((one) => !/limit|size|per|offset|skip|page|after|cursor|sort|order|ids?$/i.test(one)))
        await this.#judgeFilter(
          route,
          player,
          with_,
          name,
          hiddenText,
          `${player.name} finds by ${name} that there is a ${hidden.of.kind} called so, which they may not read`,
        );
    for (const [field, { read, column }] of Object.entries(this.#charter.kind(kind).fields)) {
      const [value] = [...secrets].find(([, { of, hidden, field: masked }]) => of.kind === kind && !hidden && masked === field) ?? [];
      if (read === undefined || value === undefined) continue;
      for (const name of new Set([field, column ?? field, ...route.query.filter((one) => /^q$|search/i.test(one))])) {
        await this.#judgeFilter(route, player, with_, name, value, `${player.name} finds by ${name}, which is masked from them`);
      }
    }
  }

  /** Whether a value that somebody may not know finds other than one that there is not. */
  async #judgeFilter(route: Route, player: Player, at: (query: Record<string, string>) => string, name: string, value: string, message: string): Promise<void> {
    const [hit, miss] = [await this.#call(route, player, at({ [name]: value })), await this.#call(route, player, at({ [name]: 'no-such-value' }))];
    if (isFine(hit) && isFine(miss) && hit.text.replaceAll(value, '') !== miss.text.replaceAll('no-such-value', ''))
      this.#tell('filter-tells', route, player, message, hit, name);
  }

  /** Whether records can be put in the order of a field that somebody may not read on any of them. */
  async #judgeOrder(route: Route, player: Player, at: (query: Record<string, string>) => string, by: string, tenant: string, plain: Answer): Promise<void> {
    const kind = route.kind as string;
    const shape = this.#charter.shapes[kind] as KindShape;
    const { readable } = this.#knowledge.get(player) as Knowledge;
    const read = this.#picture.all(kind).filter((one) => one.tenant === tenant && readable.has(one));
    for (const [field, { read: guard }] of Object.entries(this.#charter.kind(kind).fields)) {
      if (guard === undefined) continue;
      const masked = read.filter(({ record }) => !player.in(tenant).may(`${kind}.${guard}`, record as never));
      for (const name of namesOf(shape, field)) {
        for (const wish of [name, `-${name}`]) {
          const answer = await this.#call(route, player, at({ [by]: wish }));
          this.#answers.judge(route, player, tenant, answer);
          if (!isFine(answer) || answer.text === plain.text || !isOrderedBy(answer.text, shape, field, masked)) continue;
          this.#tell(
            'order-tells',
            route,
            player,
            `${player.name} puts ${this.#charter.kind(kind).many} in the order of ${field}, which is masked from them`,
            answer,
            field,
          );
        }
      }
    }
  }

  async #writes(route: Route, player: Player, how?: 'once'): Promise<void> {
    const kind = route.record === undefined ? route.kind : (route.params[route.record] as string);
    for (const tenant of this.#tries.tenants(route, player)) {
      const named =
        route.record === undefined || kind === undefined
          ? [undefined]
          : this.#tries.named(kind, tenant, player, route.method === 'DELETE' ? 'delete' : 'update');
      const answers: [Named, Answer][] = [];
      for (const one of named) {
        const path = this.#tries.path(route, tenant, one);
        const plain = route.method === 'DELETE' ? undefined : this.#tries.body(route, tenant, player);
        const answer = await this.#change(route, player, tenant, path, plain);
        if (one) answers.push([one, answer]);
        if (how === 'once' || route.method === 'DELETE' || (one && one.as !== 'read')) continue;
        for (const extra of this.#tries.extras(route, tenant, player)) await this.#change(route, player, tenant, path, { ...(plain ?? {}), ...extra });
        for (const name of Object.keys(plain ?? {})) {
          const other = this.#tries.kindNamed(route, name);
          const byId: [Named, Answer][] = [];
          for (const it of other === undefined ? [] : this.#tries.named(other, tenant, player))
            byId.push([it, await this.#change(route, player, tenant, path, { ...plain, [name]: it.id })]);
          this.#answers.existence(route, player, byId, name);
        }
      }
      if (how !== 'once') this.#answers.existence(route, player, answers);
    }
  }

  /** Sends a request that may change something, looks at what it changed, and puts that back. */
  async #change(route: Route, player: Player, tenant: string, path: string, body?: unknown): Promise<Answer> {
    const answer = await this.#call(route, player, path, body);
    this.#answers.judge(route, player, tenant, answer);
    await this.#judgeDatabase(route, player, tenant, answer);
    return answer;
  }

  /**
   * What a request did to the database, which is then put back: again where it goes on writing after its answer.
   *
   * @throws LintelError `not-put-back`: to go on would be to judge by what the probe itself has done.
   */
  async #judgeDatabase(route: Route, player: Player, tenant: string, answer: Answer, code: ProbeCode = 'changes-unlawfully'): Promise<void> {
    const failed = (cause?: unknown) =>
      new LintelError(
        'not-put-back',
        `what ${route.name} as ${player.name} changed could not be put back, and is in the database now${cause instanceof Error ? `: ${cause.message}` : ''}; try the application on a copy`,
        {},
        { cause },
      );
    for (let times = 0; ; times++) {
      const mark = await Picture.mark(this.#db, this.#charter);
      if (mark !== undefined && mark === this.#mark) return;
      const later = await Picture.take(this.#db, this.#charter);
      const changed = this.#picture.differences(later);
      if (changed.length === 0 && (times === 0 || mark === undefined)) return;
      if (times === MOST_LATE) throw failed();
      for (const one of changed) this.#judgeChange(one, changed, route, player, tenant, answer, code);
      await this.#picture.restore(this.#db, later).catch((error: unknown) => {
        throw failed(error);
      });
    }
  }

  #judgeChange(one: Difference, changed: readonly Difference[], route: Route, player: Player, tenant: string, answer: Answer, code: ProbeCode): void {
    const its = (one.before ?? one.after)?.tenant;
    if (this.#answers.mayCross(route, player) && its !== undefined && its !== tenant)
      this.#tell(
        'other-tenant',
        route,
        player,
        `${player.name} asks ${tenant}, and changes the ${one.kind} ${(one.before ?? one.after)?.id} of ${its}`,
        answer,
        'changes',
      );
    for (const { about, why } of unlawfulIn(this.#charter, this.#picture, player, one, changed, answer.sent.body, this.#answers.isStranger))
      this.#tell(code, route, player, `${player.name}${code === 'open-after-removal' ? ' was put out, and yet' : ''}: ${why}`, answer, about);
  }

  /** Calls as somebody who was put out, with the session of before. */
  async #afterRemoval(routes: readonly Route[], player: Player, putOut: NonNullable<ProbeTarget['putOut']>): Promise<void> {
    const { person } = player;
    if (!person || player.tenants.length === 0) return;
    const back: (() => Promise<void>)[] = [];
    for (const tenant of player.tenants) back.push(await putOut(person, tenant));
    const gone: Player = { ...player, in: (tenant) => this.#players.at(-1)?.in(tenant) as ReturnType<Player['in']> };
    this.#knowledge.set(gone, knowledgeOf(this.#charter, this.#picture, gone));
    this.#headers.set(gone, this.#headers.get(player) ?? {});
    try {
      for (const route of routes) {
        for (const tenant of player.tenants) {
          const all = route.record === undefined ? [undefined] : this.#tries.named(route.params[route.record] as string, tenant, player);
          for (const named of all.filter((one) => one === undefined || one.as === 'read')) {
            const body = route.method === 'GET' || route.method === 'DELETE' ? undefined : this.#tries.body(route, tenant, player);
            const answer = await this.#call(route, gone, this.#tries.path(route, tenant, named), body);
            const [secret] = secretsIn(answer.text, answer.sent.url, this.#knowledge.get(gone) as Knowledge);
            if (secret)
              this.#tell('open-after-removal', route, player, `${player.name} was put out, and still reads ${secret.of.kind} ${secret.of.id}`, answer);
            if (this.#answers.isOpened(route, gone, tenant, answer))
              this.#tell(
                'open-after-removal',
                route,
                player,
                `${player.name} was put out, and is still answered where ${route.needs} is needed`,
                answer,
                'needs',
              );
            await this.#judgeDatabase(route, gone, tenant, answer, 'open-after-removal');
          }
        }
      }
    } finally {
      for (const work of back) await work();
    }
  }

  /** In the library's own tables, and past its record: it is taken back at once. */
  readonly #suspend = async (person: { readonly id: string }, tenant: string): Promise<() => Promise<void>> => {
    const set = (status: 'active' | 'suspended') => async () => {
      await this.#lintel.db.updateTable('lintel_member').set({ status }).where('tenant_id', '=', tenant).where('user_id', '=', person.id).execute();
    };
    await set('suspended')();
    return set('active');
  };

  #report(routes: readonly Route[], unreached: ProbeReport['unreached']): ProbeReport {
    const people = this.#players.map(({ name }) => name);
    const coverage = routes.map(({ name }) => ({ route: name, by: people.map((who) => this.#covered.get(name)?.get(who) ?? { calls: 0, answered: 0 }) }));
    const never = coverage
      .filter(({ by }) => by.every(({ answered }) => answered === 0))
      .map(({ route }) => ({ route, why: 'nobody was let in: no call was answered with success' }));
    const findings = [...this.#found].map(([key, { people: all, ...one }]): ProbeFinding => {
      return { ...one, severity: PROBE_CODES[one.code].severity, route: (JSON.parse(key) as string[])[1] as string, people: [...all] };
    });
    const weight = ({ severity }: ProbeFinding) => (severity === 'error' ? 0 : 1);
    const removal = this.#putOut ? [] : [{ route: 'all routes', why: 'sessions of those who were put out: probe.putOut does not say how somebody is' }];
    return { findings: findings.sort((a, b) => weight(a) - weight(b)), people, coverage, unreached: [...unreached, ...never, ...removal], calls: this.#calls };
  }
}

/**
 * Tries an application: every route as everybody, as a visitor, and with the session of somebody who was put out; with one's own ids, hidden ones and those of
 * other tenants, with fields that no form sends, and with other verbs. What comes back, and what changed in the database, is held against the charter. What was
 * changed is put back.
 *
 * It sees the tables of the charter's kinds and their links, of at most 20,000 rows each, and answers as text; not what goes out by mail, what is kept elsewhere, or
 * how long an answer takes.
 *
 * @param db the database of the application's records.
 * @param told is told before each step what is tried next: a walk takes from seconds to minutes.
 * @throws LintelError `no-routes`, `no-sign-in`, `probe-elsewhere`, `too-large`, `not-put-back`.
 */
export async function probe(lintel: Lintel, db: Kysely<any>, target: ProbeTarget, told: (progress: ProbeProgress) => void = () => {}): Promise<ProbeReport> {
  return new Probe(lintel, db, target).run(told);
}
