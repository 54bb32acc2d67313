import { CHOOSE, type Charter } from '../../charter/index.js';
import type { Part, Player } from './cast.js';
import type { ProbeCode } from './findings.js';
import { type Knowledge, numbersIn, readElsewhere, type Secret, secretsIn } from './judge.js';
import type { Picture, Pictured } from './picture.js';
import { maskedIn, objectsIn, type Shown, shownIn } from './recognise.js';
import type { Route } from './routes.js';
import type { Answer } from './send.js';
import type { Named } from './tries.js';

/** Puts down what was found. @param about what it is about: two things on one route are two findings. */
export type Tell = (code: ProbeCode, route: Route, player: Player, message: string, answer: Answer, about?: string) => void;

export const isFine = ({ status }: Answer): boolean => status >= 200 && status < 300;
const COUNTS = /(^|_)(total|count|number|amount|size|n|records|results|found)$|(Total|Count|Number|Size)$/i;

/** Looks at what comes back: what it shows, counts, and betrays by being another. */
export class Answers {
  readonly #charter: Charter<any>;
  readonly #picture: Picture;
  readonly #players: readonly Player[];
  readonly #knowledge: ReadonlyMap<Player, Knowledge>;
  readonly #tell: Tell;
  readonly #sessionsOfTenants: boolean;
  readonly #parts: readonly Part[];
  readonly #unknown = new Map<Player, { readonly people: ReadonlyMap<string, string>; readonly parts: ReadonlyMap<string, string> }>();
  readonly #readElsewhere = new Map<Player, Map<string, ReadonlyMap<string, Secret>>>();

  constructor(
    charter: Charter<any>,
    picture: Picture,
    players: readonly Player[],
    parts: readonly Part[],
    knowledge: ReadonlyMap<Player, Knowledge>,
    tell: Tell,
    sessionsOfTenants: boolean,
  ) {
    this.#charter = charter;
    this.#picture = picture;
    this.#players = players;
    this.#parts = parts;
    this.#knowledge = knowledge;
    this.#tell = tell;
    this.#sessionsOfTenants = sessionsOfTenants;
  }

  /** What an answer tells that it should not. */
  judge(route: Route, player: Player, tenant: string, answer: Answer): void {
    const knowledge = this.#knowledge.get(player) as Knowledge;
    const sent = `${decodeURIComponent(answer.sent.url)} ${JSON.stringify(answer.sent.body ?? '')}`;
    for (const { id, kind } of numbersIn(answer.text, sent, knowledge))
      this.#tell(
        'tells-existence',
        route,
        player,
        `${player.name} is told that there is the ${this.#charter.kind(kind).one} ${id}, which they may not read`,
        answer,
        kind,
      );
    if (this.isOpened(route, player, tenant, answer))
      this.#tell('lets-in', route, player, `${player.name} is answered, and does not hold ${route.needs} in ${tenant}`, answer);
    const { people, parts } = this.#unknownTo(player);
    for (const [text, name] of people) {
      if (!answer.text.includes(text) || sent.includes(text)) continue;
      this.#tell('shows-hidden', route, player, `${player.name} is told of ${name}, who is in none of their organisations`, answer, 'people');
    }
    const told = secretsIn(answer.text, sent, knowledge);
    // What stands in a hidden record is told with it.
    for (const words of told.some(({ hidden }) => hidden) ? [] : secretsIn(answer.text, sent, { secrets: parts }))
      this.#tell('shows-hidden', route, player, `${player.name} is told of ${words}, which is none of their organisations`, answer, 'parts');
    const objects = objectsIn(this.#charter, route.kind, answer.text);
    for (const [field, of] of route.kind === undefined ? [] : maskedIn(this.#charter, this.#picture, objects, tenant, player, knowledge))
      this.#masked(route, player, field, of, answer);
    const [shown] = told.some(({ hidden }) => hidden) ? [] : this.#hiddenShown(player, tenant, objects);
    if (shown) this.#hidden(route, player, shown.one, shown.fields[0] as string, answer);
    const [other] = this.mayCross(route, player) ? secretsIn(answer.text, sent, { secrets: this.#elsewhere(player, tenant) }) : [];
    if (other)
      this.#tell(
        'other-tenant',
        route,
        player,
        `${player.name} asks ${tenant}, and is shown the ${other.of.kind} ${other.of.id} of ${other.of.tenant}`,
        answer,
      );
    for (const { of, field, hidden } of told) {
      if (hidden) this.#hidden(route, player, of, field, answer);
      else this.#masked(route, player, field, of, answer);
    }
  }

  /** Records that are hidden from somebody, and of which an answer shows more than by what they are chosen. */
  #hiddenShown(player: Player, tenant: string, objects: ReturnType<typeof objectsIn>): Shown[] {
    const knowledge = this.#knowledge.get(player) as Knowledge;
    return shownIn(this.#charter, this.#picture, objects, tenant, knowledge).filter(({ one, fields }) => {
      const { label, actions } = this.#charter.kind(one.kind);
      return !knowledge.readable.has(one) && !(Object.hasOwn(actions, CHOOSE) && fields.every((field) => field === label));
    });
  }

  #hidden(route: Route, player: Player, { kind, id, tenant }: Pictured, field: string, answer: Answer): void {
    const where = tenant === undefined || player.tenants.includes(tenant) ? '' : ` of ${tenant}`;
    const message = `${player.name} is shown ${field} of the ${this.#charter.kind(kind).one} ${id}${where}, which they may not read`;
    this.#tell('shows-hidden', route, player, message, answer, kind);
  }

  #masked(route: Route, player: Player, field: string, { kind, id }: Pictured, answer: Answer): void {
    const message = `${player.name} is shown ${field} of the ${this.#charter.kind(kind).one} ${id}, which they read without it`;
    this.#tell('shows-masked', route, player, message, answer, `${kind}.${field}`);
  }

  /** Somebody who is known, and does not belong to this tenant. */
  readonly isStranger = (userId: unknown, tenant: string): boolean =>
    this.#players.some((one) => one.person?.id === String(userId) && !one.tenants.includes(tenant));

  /** Whether somebody comes to what needs a permission that they do not hold. */
  isOpened({ needs }: Route, player: Player, tenant: string, answer: Answer): boolean {
    return needs !== undefined && isFine(answer) && !player.in(tenant).may(needs);
  }

  /** By what they are called, people, units and groups of whom somebody cannot know: of organisations in which they are not, and where they read nothing. */
  #unknownTo(player: Player) {
    const known = this.#unknown.get(player);
    if (known) return known;
    const { readable } = this.#knowledge.get(player) as Knowledge;
    const open = new Set([...player.tenants, ...[...readable].map(({ tenant }) => tenant)]);
    const others = this.#players.filter((one) => one.tenants.length > 0 && !one.tenants.some((tenant) => open.has(tenant)));
    const people = new Map(others.flatMap(({ person, name }) => [[person?.address ?? name, name] as const, [name, name] as const]));
    const own = new Set(this.#parts.filter(({ tenant }) => open.has(tenant)).flatMap(({ texts }) => texts));
    const parts = new Map(
      this.#parts
        .filter(({ tenant }) => !open.has(tenant))
        .flatMap(({ texts, words }) => texts.filter((text) => !own.has(text)).map((text) => [text, words] as const)),
    );
    this.#unknown.set(player, { people, parts });
    return { people, parts };
  }

  /** Whether a request is of one of several organisations of somebody. */
  mayCross(route: Route, player: Player): boolean {
    return player.tenants.length > 1 && (this.#sessionsOfTenants || Object.values(route.params).includes('tenant'));
  }

  #elsewhere(player: Player, tenant: string): ReadonlyMap<string, Secret> {
    const by = this.#readElsewhere.get(player) ?? new Map<string, ReadonlyMap<string, Secret>>();
    this.#readElsewhere.set(player, by);
    const known = by.get(tenant) ?? readElsewhere(this.#charter, this.#knowledge.get(player) as Knowledge, tenant);
    by.set(tenant, known);
    return known;
  }

  counts(route: Route, player: Player, tenant: string, answer: Answer): void {
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

  /** What is hidden is answered as what there is not. @param fineToo also where it is answered with success: in lists, but not where something is made. */
  existence(route: Route, player: Player, answers: readonly (readonly [Named, Answer])[], about = '', fineToo = false): void {
    const missing = answers.find(([{ as }]) => as === 'missing');
    if (!missing) return;
    const shapes = ([{ id }, { status, text, type }]: readonly [Named, Answer]) => {
      // A number may stand for something else too.
      const named = /^\d+$/.test(id) ? new RegExp(`\\b${id}\\b`, 'g') : id;
      return [text, text.replaceAll(named, '')].map((one) => JSON.stringify([status, type, one]));
    };
    const isLike = (one: readonly [Named, Answer]) => shapes(one).some((shape, i) => shape === shapes(missing)[i]);
    for (const one of answers) {
      const [{ as, id }, answer] = one;
      // What shows or changes a record is told as what it is.
      if ((as !== 'hidden' && as !== 'elsewhere') || (isFine(answer) && !fineToo) || isLike(one)) continue;
      const how = answer.status === missing[1].status ? 'in other words' : `${answer.status}, not ${missing[1].status}`;
      this.#tell(
        'tells-existence',
        route,
        player,
        `${player.name} is answered ${how} for ${id}, which is hidden from them, than for one that there is not`,
        answer,
        about,
      );
    }
  }

  /** The same, asked with HEAD: there is only a status. */
  heads(route: Route, player: Player, answers: readonly (readonly [Named, Answer])[]): void {
    const missing = answers.find(([{ as }]) => as === 'missing')?.[1];
    const other = answers.find(([, { status }]) => status !== missing?.status);
    if (!missing || !other) return;
    const [{ id }, answer] = other;
    const message = `${player.name} is answered ${answer.status} by HEAD, not ${missing.status}, for ${id}, which is hidden from them`;
    this.#tell('tells-existence', route, player, message, answer, 'HEAD');
  }
}
