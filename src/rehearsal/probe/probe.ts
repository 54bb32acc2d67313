import type { Kysely } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { Charter, FieldData } from '../../charter/index.js';
import type { Lintel } from '../../server/index.js';
import { castOf, type Player } from './cast.js';
import { type Knowledge, knowledgeOf, mayRead, secretsIn, unlawfulIn } from './judge.js';
import { Picture, type Pictured } from './picture.js';
import { type Route, readRoutes } from './routes.js';
import { type Answer, type Sent, sender } from './send.js';
import type { ProbeTarget } from './target.js';

/** What can be found, why it matters, and what to do. */
export const PROBE_CODES = {
  'shows-hidden': {
    severity: 'error',
    why: 'An answer holds what stands in a record that the person may not read.',
    remedy: 'Read through scope, or ask the standing before the answer goes out.',
  },
  'shows-masked': {
    severity: 'error',
    why: 'An answer holds a field that the person may not read of a record which they may.',
    remedy: 'Read through scope, or leave the field out.',
  },
  'changes-unlawfully': {
    severity: 'error',
    why: 'The database is changed in a way that the charter does not let this person change it.',
    remedy: 'Write through scope, and take from the request only what a form of this page may send.',
  },
  'open-after-removal': {
    severity: 'error',
    why: 'Whoever was put out still reads records with the session of before.',
    remedy: 'Resolve the standing anew with each request.',
  },
  'tells-existence': {
    severity: 'warning',
    why: 'A record that is hidden is answered otherwise than one that there is not: whoever guesses an id learns that there is one.',
    remedy: 'Answer both alike: not found.',
  },
  'count-tells': {
    severity: 'warning',
    why: 'A number counts records that the person may not read.',
    remedy: 'Count through scope.',
  },
  'filter-tells': {
    severity: 'warning',
    why: 'A search by a field that the person may not read finds by it: they can guess its value.',
    remedy: 'Search through scope, which takes a masked field for empty.',
  },
  breaks: { severity: 'warning', why: 'The application fails, instead of refusing.', remedy: 'Check what comes in before it is used.' },
} as const;

export type ProbeCode = keyof typeof PROBE_CODES;

export interface ProbeFinding {
  readonly code: ProbeCode;
  readonly severity: 'error' | 'warning';
  readonly route: string;
  /** The first person to whom it happened. */
  readonly person: { readonly id: string | null; readonly name: string };
  /** Everybody to whom it happened. */
  readonly people: readonly string[];
  readonly message: string;
  readonly request: Sent;
  readonly status: number;
}

/** How often a route was called as somebody, and what came of it. */
export interface Covered {
  readonly calls: number;
  readonly answered: number;
}

export interface ProbeReport {
  readonly findings: readonly ProbeFinding[];
  readonly people: readonly string[];
  /** By route, for each of the people. */
  readonly coverage: readonly { readonly route: string; readonly by: readonly Covered[] }[];
  /** What could not be tried, and why. */
  readonly unreached: readonly { readonly route: string; readonly why: string }[];
  readonly calls: number;
}

interface Found {
  readonly code: ProbeCode;
  readonly person: ProbeFinding['person'];
  readonly message: string;
  readonly request: Sent;
  readonly status: number;
  readonly people: Set<string>;
}

/** A record that a request names: one that is read, one that is hidden, one of another tenant, or none that there is. */
interface Named {
  readonly as: 'read' | 'hidden' | 'elsewhere' | 'missing';
  readonly id: string;
  readonly one: Pictured | undefined;
}

const isFine = ({ status }: Answer) => status >= 200 && status < 300;
const COUNTS = /(^|_)(total|count|number|amount|size|n|records|results|found)$|(Total|Count|Number|Size)$/i;
const MISSING = { uuid: '00000000-0000-4000-8000-0000000000ff', text: 'no-such-one', integer: '987654321' } as const;

/** Walks the routes of an application as everybody, and holds what it answers, and what it does to the database, against the charter. */
class Probe {
  readonly #charter: Charter<any>;
  readonly #db: Kysely<any>;
  readonly #lintel: Lintel;
  readonly #target: ProbeTarget;
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
  #mark: string | undefined;
  #calls = 0;

  constructor(lintel: Lintel, db: Kysely<any>, target: ProbeTarget) {
    this.#charter = lintel.charter;
    this.#lintel = lintel;
    this.#db = db;
    this.#target = target;
    const { ask, send } = sender(target);
    this.#ask = ask;
    this.#send = send;
  }

  async run(): Promise<ProbeReport> {
    const { routes, unreached } = readRoutes(this.#charter, this.#target);
    this.#players = await castOf(this.#lintel, this.#target);
    this.#picture = await Picture.take(this.#db, this.#charter);
    this.#mark = await Picture.mark(this.#db, this.#charter);
    for (const player of this.#players) {
      this.#headers.set(player, await this.#signIn(player));
      this.#knowledge.set(player, knowledgeOf(this.#charter, this.#picture, player));
    }
    for (const route of routes) for (const player of this.#players) await (route.method === 'GET' ? this.#reads(route, player) : this.#writes(route, player));
    for (const route of otherVerbs(routes)) for (const player of this.#players) await this.#writes(route, player, 'once');
    for (const player of this.#players) await this.#afterRemoval(routes, player);
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

  /** @param about what it is about: two things on one route are two findings. */
  #tell(code: ProbeCode, route: Route, player: Player, message: string, { sent, status }: Answer, about = ''): void {
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
  }

  async #call(route: Route, player: Player, path: string, body?: unknown): Promise<Answer> {
    const silent = this.#silent.get(route.path);
    if (silent) return silent;
    const answer = await this.#ask(route.method, path, this.#headers.get(player) ?? {}, body);
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

  /** The tenants that a request may name: one's own, and one to which one does not belong. */
  #tenants(route: Route, player: Player): string[] {
    const all = [...new Set(this.#players.flatMap(({ tenants }) => tenants))];
    if (!Object.values(route.params).includes('tenant')) return [player.tenants[0] ?? all[0] ?? ''];
    const other = all.find((tenant) => !player.tenants.includes(tenant));
    return [...player.tenants, ...(other === undefined ? [] : [other])];
  }

  #missing(kind: string): string {
    const { idField, fields } = this.#charter.shapes[kind] as { idField: string; fields: Readonly<Record<string, { type: string }>> };
    return MISSING[fields[idField]?.type as keyof typeof MISSING] ?? MISSING.text;
  }

  /** One record of each sort for somebody who stands in a tenant. */
  #named(kind: string, tenant: string, player: Player, action?: string): Named[] {
    const all = this.#picture.all(kind);
    const readable = this.#knowledge.get(player)?.readable;
    const here = all.filter((one) => one.tenant === tenant || one.tenant === undefined);
    const read = here.filter((one) => readable?.has(one));
    const mayNot =
      action === undefined || !this.#charter.permissions.has(`${kind}.${action}`)
        ? undefined
        : read.find((one) => !player.in(tenant).may(`${kind}.${action}`, one.record as never));
    const may = read.find((one) => one !== mayNot);
    const hidden = here.find((one) => !readable?.has(one));
    const elsewhere = all.find((one) => one.tenant !== undefined && one.tenant !== tenant && !readable?.has(one));
    const as = (what: Named['as'], one: Pictured | undefined): Named[] => (one ? [{ as: what, id: one.id, one }] : []);
    return [
      ...as('read', may),
      ...as('read', mayNot),
      ...as('hidden', hidden),
      ...as('elsewhere', elsewhere),
      { as: 'missing', id: this.#missing(kind), one: undefined },
    ];
  }

  #path(route: Route, tenant: string, named: Named | undefined): string {
    return route.path.replace(/\{(\w+)\}/g, (_, name: string) => {
      const what = route.params[name] as string;
      if (what === 'tenant') return encodeURIComponent(tenant);
      if (name === route.record) return encodeURIComponent(named?.id ?? '');
      const field = Object.entries(this.#charter.kind(named?.one?.kind ?? what).fields).find(([, { to }]) => to === what)?.[0];
      const parent = field === undefined ? undefined : named?.one?.record[field];
      return encodeURIComponent(String(parent ?? this.#picture.all(what).find((one) => one.tenant === tenant)?.id ?? this.#missing(what)));
    });
  }

  /** What an answer tells that it should not. */
  #judgeAnswer(route: Route, player: Player, answer: Answer): void {
    const knowledge = this.#knowledge.get(player) as Knowledge;
    const sent = `${decodeURIComponent(answer.sent.url)} ${JSON.stringify(answer.sent.body ?? '')}`;
    for (const { of, field, hidden } of secretsIn(answer.text, sent, knowledge)) {
      const { one } = this.#charter.kind(of.kind);
      const where = of.tenant === undefined || player.tenants.includes(of.tenant) ? '' : ` of ${of.tenant}`;
      if (hidden)
        this.#tell('shows-hidden', route, player, `${player.name} is shown ${field} of the ${one} ${of.id}${where}, which they may not read`, answer, of.kind);
      else
        this.#tell(
          'shows-masked',
          route,
          player,
          `${player.name} is shown ${field} of the ${one} ${of.id}, which they read without it`,
          answer,
          `${of.kind}.${field}`,
        );
    }
  }

  #judgeCounts(route: Route, player: Player, tenant: string, answer: Answer): void {
    const { kind } = route;
    if (kind === undefined || !isFine(answer)) return;
    const all = this.#picture.all(kind).filter((one) => one.tenant === tenant);
    const mine = all.filter((one) => this.#knowledge.get(player)?.readable.has(one)).length;
    if (mine === all.length) return;
    const walk = (value: unknown, name: string): void => {
      if (typeof value === 'number' && COUNTS.test(name) && (value === all.length || value === this.#picture.all(kind).length)) {
        this.#tell('count-tells', route, player, `${player.name} is told of ${value} ${this.#charter.kind(kind).many} (${name}), and reads ${mine}`, answer);
      } else if (Array.isArray(value)) for (const one of value) walk(one, name);
      else if (typeof value === 'object' && value !== null) for (const [inner, one] of Object.entries(value)) walk(one, inner);
    };
    for (const [name, value] of Object.entries(answer.headers)) if (/^\d{1,9}$/.test(value)) walk(Number(value), name.replaceAll('-', '_'));
    try {
      walk(JSON.parse(answer.text), '');
    } catch {
      // No numbers to be told apart.
    }
  }

  /** What is hidden is answered as what there is not. */
  #judgeExistence(route: Route, player: Player, answers: readonly (readonly [Named, Answer])[]): void {
    const missing = answers.find(([{ as }]) => as === 'missing');
    if (!missing) return;
    const shape = ([{ id }, { status, text, type }]: readonly [Named, Answer]) => JSON.stringify([status, type, text.replaceAll(id, '')]);
    for (const one of answers) {
      const [{ as, id }, answer] = one;
      if ((as !== 'hidden' && as !== 'elsewhere') || isFine(answer) || shape(one) === shape(missing)) continue;
      const how = answer.status === missing[1].status ? 'in other words' : `${answer.status}, not ${missing[1].status}`;
      this.#tell(
        'tells-existence',
        route,
        player,
        `${player.name} is answered ${how} for ${id}, which is hidden from them, than for one that there is not`,
        answer,
      );
    }
  }

  async #reads(route: Route, player: Player): Promise<void> {
    for (const tenant of this.#tenants(route, player)) {
      const named = route.record === undefined ? [undefined] : this.#named(route.params[route.record] as string, tenant, player);
      const answers: [Named, Answer][] = [];
      for (const one of named) {
        const path = this.#path(route, tenant, one);
        const answer = await this.#call(route, player, path);
        this.#judgeAnswer(route, player, answer);
        this.#judgeCounts(route, player, tenant, answer);
        await this.#judgeDatabase(route, player, answer);
        if (one) answers.push([one, answer]);
        if (one === undefined || one.as === 'read') await this.#asksFurther(route, player, path, tenant, answer);
      }
      this.#judgeExistence(route, player, answers);
    }
  }

  /** Past the edge of a page, by words of what is hidden, and by fields that are masked. */
  async #asksFurther(route: Route, player: Player, path: string, tenant: string, plain: Answer): Promise<void> {
    if (!isFine(plain)) return;
    const { secrets } = this.#knowledge.get(player) as Knowledge;
    const word = [...secrets].find(([, { of, hidden }]) => hidden && of.tenant === tenant)?.[0] ?? 'probe';
    const with_ = (query: Record<string, string>) => `${path}?${new URLSearchParams(query)}`;
    const named = (wish: RegExp, fallback: string) => route.query.find((name) => wish.test(name)) ?? fallback;
    const attempts: Record<string, string>[] = [
      { [named(/limit|size|per/i, 'limit')]: '100000', [named(/offset|skip/i, 'offset')]: '0' },
      { [named(/limit|size|per/i, 'limit')]: '-1' },
      { [named(/offset|skip|page|after|cursor/i, 'page')]: '-1' },
      { [named(/^q$|search|query|term|text/i, 'q')]: word },
      { [named(/sort|order/i, 'sort')]: 'no_such_column' },
      ...route.query
        .filter((name) => /all|deleted|archived|include|tenant|org/i.test(name))
        .map((name) => ({ [name]: /tenant|org/i.test(name) ? this.#otherTenant(player) : 'true' })),
    ];
    for (const attempt of attempts) this.#judgeAnswer(route, player, await this.#call(route, player, with_(attempt)));
    const { kind } = route;
    if (kind === undefined || route.record !== undefined) return;
    for (const [field, { read, column }] of Object.entries(this.#charter.kind(kind).fields)) {
      const [value] = [...secrets].find(([, { of, hidden, field: masked }]) => of.kind === kind && !hidden && masked === field) ?? [];
      if (read === undefined || value === undefined) continue;
      for (const name of new Set([field, column ?? field, ...route.query.filter((one) => /^q$|search/i.test(one))])) {
        const [hit, miss] = [await this.#call(route, player, with_({ [name]: value })), await this.#call(route, player, with_({ [name]: 'no-such-value' }))];
        if (isFine(hit) && isFine(miss) && hit.text.replaceAll(value, '') !== miss.text.replaceAll('no-such-value', ''))
          this.#tell('filter-tells', route, player, `${player.name} finds by ${name}, which is masked from them`, hit);
      }
    }
  }

  #otherTenant(player: Player): string {
    return this.#players.flatMap(({ tenants }) => tenants).find((tenant) => !player.tenants.includes(tenant)) ?? '';
  }

  async #writes(route: Route, player: Player, how?: 'once'): Promise<void> {
    const kind = route.record === undefined ? route.kind : (route.params[route.record] as string);
    for (const tenant of this.#tenants(route, player)) {
      const named =
        route.record === undefined || kind === undefined ? [undefined] : this.#named(kind, tenant, player, route.method === 'DELETE' ? 'delete' : 'update');
      const answers: [Named, Answer][] = [];
      for (const one of named) {
        const path = this.#path(route, tenant, one);
        const plain = route.method === 'DELETE' ? undefined : this.#body(route, tenant, player);
        const answer = await this.#change(route, player, path, plain);
        if (one) answers.push([one, answer]);
        if (how === 'once' || route.method === 'DELETE' || (one && one.as !== 'read')) continue;
        for (const extra of this.#extras(route, tenant, player)) await this.#change(route, player, path, { ...(plain ?? {}), ...extra });
      }
      if (how !== 'once') this.#judgeExistence(route, player, answers);
    }
  }

  /** Sends a request that may change something, looks at what it changed, and puts that back. */
  async #change(route: Route, player: Player, path: string, body?: unknown): Promise<Answer> {
    const answer = await this.#call(route, player, path, body);
    this.#judgeAnswer(route, player, answer);
    await this.#judgeDatabase(route, player, answer);
    return answer;
  }

  /** What a request did to the database, which is then put back. */
  async #judgeDatabase(route: Route, player: Player, answer: Answer): Promise<void> {
    const mark = await Picture.mark(this.#db, this.#charter);
    if (mark !== undefined && mark === this.#mark) return;
    const later = await Picture.take(this.#db, this.#charter);
    const changed = this.#picture.differences(later);
    for (const one of changed) {
      for (const { about, why } of unlawfulIn(this.#charter, this.#picture, player, one, changed, answer.sent.body))
        this.#tell('changes-unlawfully', route, player, `${player.name}: ${why}`, answer, about);
    }
    if (changed.length > 0) await this.#picture.restore(this.#db, later);
  }

  /** The field that a name in a body means. */
  #fieldCalled(kind: string, name: string): readonly [string, FieldData] | undefined {
    return Object.entries(this.#charter.kind(kind).fields).find(
      ([field, { column }]) => field === name || (column ?? this.#charter.shapes[kind]?.fields[field]?.column) === name,
    );
  }

  /** A value for a field, other than any that there is. */
  #value(kind: string, [field, { role, type, to, options }]: readonly [string, FieldData], tenant: string, player: Player): unknown {
    const there = this.#picture.all(kind).filter((one) => one.tenant === tenant);
    if (role === 'parent')
      return this.#picture.all(to as string).find((one) => one.tenant === tenant && mayRead(this.#charter, player, one))?.id ?? this.#missing(to as string);
    if (role === 'owner' || role === 'maker' || role === 'person') return player.person?.id ?? null;
    if (role === 'tenant') return tenant;
    if (role === 'unit' || role === 'group') return there.find((one) => one.record[field] !== null)?.record[field] ?? null;
    if (role === 'people') return player.person ? [player.person.id] : [];
    if (options) return options.at(-1);
    if (type === 'integer') return 77;
    if (type === 'decimal') return '77.70';
    if (type === 'boolean') return true;
    if (type === 'instant') return '2030-01-01T00:00:00.000Z';
    return type === 'uuid' ? MISSING.uuid : `Probe ${this.#calls}`;
  }

  #body(route: Route, tenant: string, player: Player): Record<string, unknown> | undefined {
    const { kind } = route;
    if (kind === undefined) return route.body ?? {};
    const given =
      route.body ??
      Object.fromEntries(
        Object.entries(this.#charter.kind(kind).fields).filter(([, f]) => (f.role === 'plain' && f.change === undefined) || f.role === 'parent'),
      );
    return Object.fromEntries(
      Object.entries(given).map(([name, example]) => {
        if (Array.isArray(example) && /ids?$/i.test(name)) return [name, this.#named(kind, tenant, player).map(({ id }) => id)];
        const field = this.#fieldCalled(kind, name);
        return [name, field ? this.#value(kind, field, tenant, player) : example];
      }),
    );
  }

  /** What no form of the page sends: another tenant, owner or maker, guarded fields, parents that are hidden; each by the name of the field and of its column. */
  #extras(route: Route, tenant: string, player: Player): Record<string, unknown>[] {
    const { kind } = route;
    if (kind === undefined) return [];
    const colleague = this.#players.find((one) => one.person && one !== player && one.tenants.includes(tenant))?.person?.id;
    return Object.entries(this.#charter.kind(kind).fields).flatMap(([field, data]): Record<string, unknown>[] => {
      const column = this.#charter.shapes[kind]?.fields[field]?.column ?? field;
      const names = [...new Set([field, column])];
      const values: unknown[] = [];
      if (data.role === 'tenant') values.push(this.#otherTenant(player));
      else if (data.role === 'owner') values.push(colleague, player.person?.id);
      else if (data.role === 'maker' || data.role === 'person') values.push(colleague);
      else if (data.role === 'parent')
        values.push(
          this.#named(data.to as string, tenant, player).find(({ as }) => as === 'hidden')?.id,
          this.#named(data.to as string, tenant, player).find(({ as }) => as === 'elsewhere')?.id,
        );
      else if (data.role !== 'id' && data.role !== 'people' && data.change !== undefined) values.push(this.#value(kind, [field, data], tenant, player));
      return values.filter((value) => value !== undefined && value !== '').flatMap((value) => names.map((name) => ({ [name]: value })));
    });
  }

  /** Calls as somebody who was put out, with the session of before. */
  async #afterRemoval(routes: readonly Route[], player: Player): Promise<void> {
    const { person } = player;
    if (!person || player.tenants.length === 0) return;
    const back: (() => Promise<void>)[] = [];
    for (const tenant of player.tenants) back.push(await (this.#target.putOut ?? this.#putOut)(person, tenant));
    const gone: Player = { ...player, in: (tenant) => this.#players.at(-1)?.in(tenant) as ReturnType<Player['in']> };
    this.#knowledge.set(gone, knowledgeOf(this.#charter, this.#picture, gone));
    this.#headers.set(gone, this.#headers.get(player) ?? {});
    try {
      for (const route of routes.filter(({ method }) => method === 'GET')) {
        for (const tenant of player.tenants) {
          const named =
            route.record === undefined ? undefined : this.#named(route.params[route.record] as string, tenant, player).find(({ as }) => as === 'read');
          if (route.record !== undefined && !named) continue;
          const answer = await this.#call(route, gone, this.#path(route, tenant, named));
          const [secret] = secretsIn(answer.text, answer.sent.url, this.#knowledge.get(gone) as Knowledge);
          if (secret) this.#tell('open-after-removal', route, player, `${player.name} was put out, and still reads ${secret.of.kind} ${secret.of.id}`, answer);
        }
      }
    } finally {
      for (const work of back) await work();
    }
  }

  /** In the library's own tables, and past its record: it is taken back at once. */
  readonly #putOut = async (person: { readonly id: string }, tenant: string): Promise<() => Promise<void>> => {
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
    return { findings: findings.sort((a, b) => weight(a) - weight(b)), people, coverage, unreached: [...unreached, ...never], calls: this.#calls };
  }
}

/** Paths with the verbs that are not described for them. */
function otherVerbs(routes: readonly Route[]): Route[] {
  const known = new Set(routes.map(({ name }) => name));
  const byPath = new Map(routes.map((route) => [route.path, route]));
  return [...byPath.values()].flatMap((route) =>
    ['POST', 'PUT', 'PATCH', 'DELETE']
      .map((method) => ({ ...route, method, name: `${method} ${route.path}`, body: undefined }))
      .filter(({ name }) => !known.has(name)),
  );
}

/**
 * Tries an application: every route as everybody, as a visitor, and with the session of somebody who was put out; with one's own ids, hidden ones and those of
 * other tenants, with fields that no form sends, and with other verbs. What comes back, and what changed in the database, is held against the charter. What was
 * changed is put back.
 *
 * It sees the tables of the charter's kinds and their links, up to 20,000 rows each, and answers as text; not what goes out by mail, what is kept elsewhere, or
 * how long an answer takes.
 *
 * @param db the database of the application's records.
 * @throws LintelError `no-routes`, `no-sign-in`, `probe-elsewhere`.
 */
export async function probe(lintel: Lintel, db: Kysely<any>, target: ProbeTarget): Promise<ProbeReport> {
  return new Probe(lintel, db, target).run();
}
