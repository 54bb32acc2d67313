import type { Charter, FieldData } from '../../charter/index.js';
import type { KindShape, ValueType } from '../../predicate/index.js';
import { grantsOf, type Player } from './cast.js';
import type { Knowledge } from './judge.js';
import { FEWEST_ORDERED, maskedFrom, mayRead, namesOf, spellingsOf, valuesIn } from './judge.js';
import type { Picture, Pictured } from './picture.js';
import { kindCalled, type Route } from './routes.js';
import type { ProbeTarget } from './target.js';

/** A record that a request names: one that is read, one that is hidden, one of another tenant, or none that there is. */
export interface Named {
  readonly as: 'read' | 'hidden' | 'elsewhere' | 'missing';
  readonly id: string;
  readonly one: Pictured | undefined;
}

const MISSING = { uuid: '00000000-0000-4000-8000-0000000000ff', text: 'no-such-one', integer: '987654321' } as const;

/** An id as JSON has it for a field of that type. */
export const asSent = (type: ValueType | undefined, id: string): string | number => (type === 'integer' && /^-?\d{1,15}$/.test(id) ? Number(id) : id);

/** What is put into requests: tenants, ids, and bodies as no form of the page would send them. */
export class Tries {
  readonly #charter: Charter<any>;
  readonly #picture: Picture;
  readonly #players: readonly Player[];
  readonly #knowledge: ReadonlyMap<Player, Knowledge>;
  readonly #target: Pick<ProbeTarget, 'sessions' | 'membership' | 'makeMissing'>;
  #made = 0;

  constructor(
    charter: Charter<any>,
    picture: Picture,
    players: readonly Player[],
    knowledge: ReadonlyMap<Player, Knowledge>,
    target: Pick<ProbeTarget, 'sessions' | 'membership' | 'makeMissing'>,
  ) {
    this.#charter = charter;
    this.#picture = picture;
    this.#players = players;
    this.#knowledge = knowledge;
    this.#target = target;
  }

  /** The tenants that a request may name: one's own, and one to which one does not belong. */
  tenants(route: Route, player: Player): string[] {
    const all = [...new Set(this.#players.flatMap(({ tenants }) => tenants))];
    if (!Object.values(route.params).includes('tenant')) {
      if (this.#target.sessions === 'tenant' && player.tenants.length > 0) return [...player.tenants];
      return [player.tenants[0] ?? all[0] ?? ''];
    }
    if (player.tenants.length === 0) return all.slice(0, 3);
    const other = all.find((tenant) => !player.tenants.includes(tenant));
    return [...player.tenants, ...(other === undefined ? [] : [other])];
  }

  #idType(kind: string): ValueType | undefined {
    const { idField, fields } = this.#charter.shapes[kind] as KindShape;
    return fields[idField]?.type;
  }

  #missing(kind: string): string {
    return MISSING[this.#idType(kind) as keyof typeof MISSING] ?? MISSING.text;
  }

  /** What the records and people at hand are too few to try, of the kinds that routes are about. */
  gaps(routes: readonly Route[]): { readonly route: string; readonly why: string }[] {
    const { makeMissing } = this.#target;
    const knows = (player: Player) => this.#knowledge.get(player)?.readable ?? new Set<Pictured>();
    const found: { route: string; why: string }[] = [];
    for (const kind of new Set(routes.flatMap((route) => route.kind ?? []))) {
      const { shared, many } = this.#charter.kind(kind);
      const all = this.#picture.all(kind);
      const inside = (player: Player) => all.filter(({ tenant }) => tenant !== undefined && player.tenants.includes(tenant));
      const where = routes.filter((route) => route.kind === kind).map(({ name }) => name);
      const [first, more] = [where[0] as string, where.length - 1];
      const route = more > 0 ? `${first} and ${more} more` : first;
      if (all.length === 0) found.push({ route, why: `anything with records: there are no ${many}` });
      else if (!shared && this.#players.every((player) => inside(player).every((one) => knows(player).has(one))))
        found.push({
          route,
          why: `what is hidden within an organisation: whoever is called reads all ${many} of theirs${makeMissing ? '' : '; probe.makeMissing lets one be made'}`,
        });
    }
    found.push(...this.#unordered(routes));
    if (this.#players.every(({ tenants }) => tenants.length < 2))
      found.push({ route: 'all routes', why: 'organisations that are mixed up: nobody belongs to two' });
    return found;
  }

  /** Masked fields of which nobody sees so many records that an order would show. */
  #unordered(routes: readonly Route[]): { readonly route: string; readonly why: string }[] {
    const lists = routes.filter(
      ({ method, record, kind, values }) => method === 'GET' && record === undefined && kind !== undefined && Object.keys(values).length === 0,
    );
    return lists.flatMap(({ name, kind = '' }) =>
      Object.entries(this.#charter.kind(kind).fields).flatMap(([field, { read }]) => {
        if (read === undefined) return [];
        const counts = this.#players.map((player) => {
          const readable = this.#knowledge.get(player)?.readable;
          return valuesIn(
            maskedFrom(this.#charter, player, field, this.#picture.all(kind), (one) => readable?.has(one) === true),
            field,
          );
        });
        const most = Math.max(0, ...counts);
        if (most === 0 || most >= FEWEST_ORDERED) return [];
        return [
          {
            route: name,
            why: `whether an order tells ${field}: of ${most} records at most, ${FEWEST_ORDERED} are wanted${this.#target.makeMissing ? '' : '; probe.makeMissing lets them be made'}`,
          },
        ];
      }),
    );
  }

  /** One record of each sort for somebody who stands in a tenant. */
  named(kind: string, tenant: string, player: Player, action?: string): Named[] {
    const all = this.#picture.all(kind);
    const readable = this.#knowledge.get(player)?.readable;
    const here = all.filter((one) => one.tenant === tenant || one.tenant === undefined);
    const read = here.filter((one) => readable?.has(one));
    const mayNot =
      action === undefined || !this.#charter.permissions.has(`${kind}.${action}`)
        ? undefined
        : read.find((one) => !player.in(tenant).may(`${kind}.${action}`, one.record as never));
    const may = read.find((one) => one !== mayNot);
    // Where an id is unique within a tenant only, what is done by it alone is done elsewhere too.
    const shared = read.find((one) => one !== may && one !== mayNot && this.#picture.withId(kind, one.id).length > 1);
    const hidden = here.find((one) => !readable?.has(one));
    // Where ids are unique within a tenant only, one of another may be one of here too.
    const ids = new Set(here.map(({ id }) => id));
    const elsewhere = all.find((one) => one.tenant !== undefined && one.tenant !== tenant && !readable?.has(one) && !ids.has(one.id));
    const as = (what: Named['as'], one: Pictured | undefined): Named[] => (one ? [{ as: what, id: one.id, one }] : []);
    return [
      ...as('read', may),
      ...as('read', mayNot),
      ...as('read', shared),
      ...as('hidden', hidden),
      ...as('elsewhere', elsewhere),
      { as: 'missing', id: this.#missing(kind), one: undefined },
    ];
  }

  /** Several of each sort, for requests that name many at once: what stands so already in one of them changes in another. */
  many(kind: string, tenant: string, player: Player): (string | number)[] {
    const readable = this.#knowledge.get(player)?.readable;
    const sorts = [
      (one: Pictured) => one.tenant === tenant && readable?.has(one) === true,
      (one: Pictured) => one.tenant === tenant && !readable?.has(one),
      (one: Pictured) => one.tenant !== undefined && one.tenant !== tenant && !readable?.has(one),
    ];
    const all = sorts.flatMap((is) => this.#picture.all(kind).filter(is).slice(0, 4));
    return [...all.map(({ id }) => id), this.#missing(kind)].map((id) => asSent(this.#idType(kind), id));
  }

  /** More of what somebody reads, besides what {@link named} names: four at most. */
  furtherRead(kind: string, tenant: string, player: Player): Named[] {
    const first = new Set(this.named(kind, tenant, player).map(({ id }) => id));
    const readable = this.#knowledge.get(player)?.readable;
    const more = this.#picture.all(kind).filter((one) => one.tenant === tenant && readable?.has(one) && !first.has(one.id));
    return more.slice(0, 4).map((one) => ({ as: 'read', id: one.id, one }));
  }

  /** @param under a parent in the place of the record's own. @param value for what names no record. */
  path(route: Route, tenant: string, named: Named | undefined, under?: Pictured, value = 'no-such-value'): string {
    return route.path.replace(/\{(\w+)\}/g, (_, name: string) => {
      if (route.values[name] !== undefined) return encodeURIComponent(value);
      const what = route.params[name] as string;
      if (what === 'tenant') return encodeURIComponent(tenant);
      if (name === route.record) return encodeURIComponent(named?.id ?? '');
      if (under?.kind === what) return encodeURIComponent(under.id);
      const field = Object.entries(this.#charter.kind(named?.one?.kind ?? what).fields).find(([, { to }]) => to === what)?.[0];
      const parent = field === undefined ? undefined : named?.one?.record[field];
      return encodeURIComponent(String(parent ?? this.#picture.all(what).find((one) => one.tenant === tenant)?.id ?? this.#missing(what)));
    });
  }

  /** Records that somebody reads, and under which nothing hangs of what is named: for a route whose address names both. */
  otherParent(route: Route, tenant: string, player: Player, { one }: Named): Pictured | undefined {
    if (!one || route.record === undefined) return undefined;
    const [field, data] = Object.entries(this.#charter.kind(one.kind).fields).find(([, { to }]) => Object.values(route.params).includes(to ?? '')) ?? [];
    const own = field === undefined ? undefined : String(one.record[field]);
    return data?.to === undefined
      ? undefined
      : this.#picture
          .all(data.to)
          .find((parent) => parent.tenant === tenant && this.#knowledge.get(player)?.readable.has(parent) && (parent.id !== own || one.tenant !== tenant));
  }

  /** Names of the columns that say whose a record is, each with somebody else: tenants, people and roles, as parameters and headers may name them. */
  others(kind: string | undefined, player: Player, tenant: string): Readonly<Record<'tenant' | 'person' | 'role', readonly (readonly [string, string])[]>> {
    const names: Record<'tenant' | 'person' | 'role', Set<string>> = {
      tenant: new Set(['tenant', 'org', 'organization_id']),
      person: new Set(['user', 'user_id', 'as']),
      role: new Set(['role']),
    };
    const { membership } = this.#target;
    const members = membership && this.#charter.shapes[membership.kind];
    if (members) for (const name of spellingsOf(members, membership.person)) names.person.add(name);
    const { roles } = this.#charter.data;
    for (const [of, shape] of Object.entries(this.#charter.shapes)) {
      for (const [field, { role, options }] of Object.entries(this.#charter.kind(of).fields)) {
        const isPerson = ['owner', 'maker', 'person'].includes(role) || /(user|person|member)_?id$/i.test(shape.fields[field]?.column ?? '');
        const what = role === 'tenant' ? 'tenant' : isPerson ? 'person' : options?.every((one) => Object.hasOwn(roles, one)) ? 'role' : undefined;
        // Of people, those of the kind itself: others have too many names.
        if (what && (what !== 'person' || of === kind || kind === undefined)) for (const name of spellingsOf(shape, field)) names[what].add(name);
      }
    }
    const reads = (one: Player) => this.#knowledge.get(one)?.readable.size ?? 0;
    const most = this.#players.filter((one) => one !== player && one.person && one.tenants.includes(tenant)).sort((a, b) => reads(b) - reads(a))[0];
    const [strongest] = Object.keys(roles).sort((a, b) => grantsOf(this.#charter, b) - grantsOf(this.#charter, a));
    const with_ = (all: Set<string>, value: string | undefined) => (value === undefined || value === '' ? [] : [...all].map((name) => [name, value] as const));
    return { tenant: with_(names.tenant, this.otherTenant(player, tenant)), person: with_(names.person, most?.person?.id), role: with_(names.role, strongest) };
  }

  /** One to which somebody does not belong; else another of theirs. */
  otherTenant(player: Player, than: string): string {
    const all = this.#players.flatMap(({ tenants }) => tenants);
    return all.find((tenant) => !player.tenants.includes(tenant)) ?? player.tenants.find((tenant) => tenant !== than) ?? '';
  }

  /** The field that a name in a body means. */
  fieldCalled(kind: string, name: string): readonly [string, FieldData] | undefined {
    return Object.entries(this.#charter.kind(kind).fields).find(
      ([field, { column }]) => field === name || (column ?? this.#charter.shapes[kind]?.fields[field]?.column) === name,
    );
  }

  /** A value for a field, other than any that there is. */
  #value(kind: string, [field, { role, type, to, options }]: readonly [string, FieldData], tenant: string, player: Player): unknown {
    const there = this.#picture.all(kind).filter((one) => one.tenant === tenant);
    if (role === 'parent')
      return asSent(
        type,
        this.#picture.all(to as string).find((one) => one.tenant === tenant && mayRead(this.#charter, player, one))?.id ?? this.#missing(to as string),
      );
    if (role === 'owner' || role === 'maker' || role === 'person') return player.person ? asSent(type, player.person.id) : null;
    if (role === 'tenant') return asSent(type, tenant);
    if (role === 'unit' || role === 'group') return there.find((one) => one.record[field] !== null)?.record[field] ?? null;
    if (role === 'people') return player.person ? [asSent(type, player.person.id)] : [];
    if (options) return options.at(-1);
    if (type === 'integer') return 77;
    if (type === 'decimal') return '77.70';
    if (type === 'boolean') return true;
    if (type === 'instant') return '2030-01-01T00:00:00.000Z';
    return type === 'uuid' ? MISSING.uuid : `Probe ${++this.#made}`;
  }

  /** A list of ids of a kind may be called so. */
  #idNames(kind: string): string[] {
    const shape = this.#charter.shapes[kind] as KindShape;
    return namesOf(shape, shape.idField).map((name) => `${name}s`);
  }

  /** Somebody who does not belong to a tenant, under all names that the field has. */
  #asMember(kind: string, field: string, tenant: string): Record<string, unknown> {
    const shape = this.#charter.shapes[kind] as KindShape;
    const id = this.#stranger(tenant);
    return id === undefined ? {} : Object.fromEntries(namesOf(shape, field).map((name) => [name, asSent(shape.fields[field]?.type, id)]));
  }

  #stranger(tenant: string): string | undefined {
    return this.#players.find((one) => one.person && one.tenants.length > 0 && !one.tenants.includes(tenant))?.person?.id;
  }

  /** The kind of record that a name in a body or after a question mark stands for, where it is none of the kind's own fields: `hiveId`. */
  kindNamed(route: Route, name: string): string | undefined {
    if (route.kind !== undefined && this.fieldCalled(route.kind, name)) return undefined;
    return /._?id$/i.test(name) ? kindCalled(this.#charter, name.replace(/_?id$/i, '')) : undefined;
  }

  body(route: Route, tenant: string, player: Player): Record<string, unknown> | undefined {
    const { kind } = route;
    const given =
      route.body ??
      Object.fromEntries(
        kind === undefined
          ? []
          : Object.entries(this.#charter.kind(kind).fields).filter(
              ([name, f]) => (f.role === 'plain' && f.change === undefined) || f.role === 'parent' || this.#saysWho(kind, name),
            ),
      );
    return Object.fromEntries(
      Object.entries(given).map(([name, example]) => {
        const other = this.kindNamed(route, name);
        if (other !== undefined) return [name, asSent(this.#idType(other), this.named(other, tenant, player)[0]?.id ?? '')];
        if (kind === undefined) return [name, example];
        if (Array.isArray(example) && (/ids?$/i.test(name) || this.#idNames(kind).includes(name))) return [name, this.many(kind, tenant, player)];
        const field = this.fieldCalled(kind, name);
        // Whoever is to belong does not yet.
        if (field && kind === this.#target.membership?.kind && field[0] === this.#target.membership.person)
          return [name, asSent(field[1].type, this.#stranger(tenant) ?? String(example))];
        return [name, field ? this.#value(kind, field, tenant, player) : example];
      }),
    );
  }

  /** A field of the membership without which nobody is taken in: who, and as what. */
  #saysWho(kind: string, field: string): boolean {
    const { membership } = this.#target;
    return kind === membership?.kind && (field === membership.person || field === membership.role);
  }

  /** What no form of the page sends: another tenant, owner or maker, guarded fields, parents that are hidden; each by the name of the field and of its column. */
  extras(route: Route, tenant: string, player: Player): Record<string, unknown>[] {
    const { kind, body } = route;
    if (kind === undefined) return [];
    return [...this.#extrasOf(kind, tenant, player), ...this.#within(body ?? {}, kind, tenant, player)];
  }

  /** The same in what is nested in a body: rows that are imported, and what hangs on them. */
  #within(body: Readonly<Record<string, unknown>>, kind: string, tenant: string, player: Player): Record<string, unknown>[] {
    return Object.entries(body).flatMap(([name, list]) => {
      const [first] = Array.isArray(list) ? list : [];
      if (typeof first !== 'object' || first === null) return [];
      const of = kindCalled(this.#charter, name) ?? kind;
      const inner = [...this.#extrasOf(of, tenant, player), ...this.#within(first, of, tenant, player)];
      return inner.map((extra) => ({ [name]: [{ ...first, ...extra }] }));
    });
  }

  #extrasOf(kind: string, tenant: string, player: Player): Record<string, unknown>[] {
    const stranger = this.#stranger(tenant);
    const colleague = this.#players.find((one) => one.person && one !== player && one.tenants.includes(tenant))?.person?.id;
    return Object.entries(this.#charter.kind(kind).fields).flatMap(([field, data]): Record<string, unknown>[] => {
      const names = namesOf(this.#charter.shapes[kind] as KindShape, field);
      const values: unknown[] = [];
      if (data.role === 'tenant') values.push(this.otherTenant(player, tenant));
      else if (data.role === 'owner') values.push(colleague, player.person?.id, stranger);
      else if (data.role === 'maker' || data.role === 'person') values.push(colleague);
      else if (data.role === 'parent')
        values.push(
          this.named(data.to as string, tenant, player).find(({ as }) => as === 'hidden')?.id,
          this.named(data.to as string, tenant, player).find(({ as }) => as === 'elsewhere')?.id,
        );
      else if (data.role !== 'id' && data.role !== 'people' && data.change !== undefined) values.push(this.#value(kind, [field, data], tenant, player));
      // Whoever is to belong elsewhere does not yet.
      const { membership } = this.#target;
      const along = data.role === 'tenant' && kind === membership?.kind ? this.#asMember(kind, membership.person, String(values[0])) : {};
      const typed = values
        .filter((value) => value !== undefined && value !== '')
        .map((value) => (typeof value === 'string' ? asSent(data.type, value) : value));
      return typed.flatMap((value) => names.map((name) => ({ [name]: value, ...along })));
    });
  }
}
