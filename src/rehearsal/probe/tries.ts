import type { Charter, FieldData } from '../../charter/index.js';
import type { KindShape } from '../../predicate/index.js';
import type { Player } from './cast.js';
import type { Knowledge } from './judge.js';
import { mayRead, namesOf } from './judge.js';
import type { Picture, Pictured } from './picture.js';
import { kindCalled, type Route } from './routes.js';

/** A record that a request names: one that is read, one that is hidden, one of another tenant, or none that there is. */
export interface Named {
  readonly as: 'read' | 'hidden' | 'elsewhere' | 'missing';
  readonly id: string;
  readonly one: Pictured | undefined;
}

const MISSING = { uuid: '00000000-0000-4000-8000-0000000000ff', text: 'no-such-one', integer: '987654321' } as const;

/** What is put into requests: tenants, ids, and bodies as no form of the page would send them. */
export class Tries {
  readonly #charter: Charter<any>;
  readonly #picture: Picture;
  readonly #players: readonly Player[];
  readonly #knowledge: ReadonlyMap<Player, Knowledge>;
  #made = 0;

  constructor(charter: Charter<any>, picture: Picture, players: readonly Player[], knowledge: ReadonlyMap<Player, Knowledge>) {
    this.#charter = charter;
    this.#picture = picture;
    this.#players = players;
    this.#knowledge = knowledge;
  }

  /** The tenants that a request may name: one's own, and one to which one does not belong. */
  tenants(route: Route, player: Player): string[] {
    const all = [...new Set(this.#players.flatMap(({ tenants }) => tenants))];
    if (!Object.values(route.params).includes('tenant')) return [player.tenants[0] ?? all[0] ?? ''];
    if (player.tenants.length === 0) return all.slice(0, 3);
    const other = all.find((tenant) => !player.tenants.includes(tenant));
    return [...player.tenants, ...(other === undefined ? [] : [other])];
  }

  #missing(kind: string): string {
    const { idField, fields } = this.#charter.shapes[kind] as { idField: string; fields: Readonly<Record<string, { type: string }>> };
    return MISSING[fields[idField]?.type as keyof typeof MISSING] ?? MISSING.text;
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

  /** Several of each sort, for requests that name many at once: what stands so already in one of them changes in another. */
  many(kind: string, tenant: string, player: Player): string[] {
    const readable = this.#knowledge.get(player)?.readable;
    const sorts = [
      (one: Pictured) => one.tenant === tenant && readable?.has(one) === true,
      (one: Pictured) => one.tenant === tenant && !readable?.has(one),
      (one: Pictured) => one.tenant !== undefined && one.tenant !== tenant && !readable?.has(one),
    ];
    const all = sorts.flatMap((is) => this.#picture.all(kind).filter(is).slice(0, 4));
    return [...all.map(({ id }) => id), this.#missing(kind)];
  }

  /** More of what somebody reads, besides what {@link named} names: four at most. */
  furtherRead(kind: string, tenant: string, player: Player): Named[] {
    const first = new Set(this.named(kind, tenant, player).map(({ id }) => id));
    const readable = this.#knowledge.get(player)?.readable;
    const more = this.#picture.all(kind).filter((one) => one.tenant === tenant && readable?.has(one) && !first.has(one.id));
    return more.slice(0, 4).map((one) => ({ as: 'read', id: one.id, one }));
  }

  path(route: Route, tenant: string, named: Named | undefined): string {
    return route.path.replace(/\{(\w+)\}/g, (_, name: string) => {
      const what = route.params[name] as string;
      if (what === 'tenant') return encodeURIComponent(tenant);
      if (name === route.record) return encodeURIComponent(named?.id ?? '');
      const field = Object.entries(this.#charter.kind(named?.one?.kind ?? what).fields).find(([, { to }]) => to === what)?.[0];
      const parent = field === undefined ? undefined : named?.one?.record[field];
      return encodeURIComponent(String(parent ?? this.#picture.all(what).find((one) => one.tenant === tenant)?.id ?? this.#missing(what)));
    });
  }

  otherTenant(player: Player): string {
    return this.#players.flatMap(({ tenants }) => tenants).find((tenant) => !player.tenants.includes(tenant)) ?? '';
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
    return type === 'uuid' ? MISSING.uuid : `Probe ${++this.#made}`;
  }

  /** The kind of record that a name in a body or after a question mark stands for, where it is none of the kind's own fields: `hiveId`. */
  kindNamed(route: Route, name: string): string | undefined {
    if (route.kind !== undefined && this.#fieldCalled(route.kind, name)) return undefined;
    return /._?id$/i.test(name) ? kindCalled(this.#charter, name.replace(/_?id$/i, '')) : undefined;
  }

  body(route: Route, tenant: string, player: Player): Record<string, unknown> | undefined {
    const { kind } = route;
    const given =
      route.body ??
      Object.fromEntries(
        kind === undefined
          ? []
          : Object.entries(this.#charter.kind(kind).fields).filter(([, f]) => (f.role === 'plain' && f.change === undefined) || f.role === 'parent'),
      );
    return Object.fromEntries(
      Object.entries(given).map(([name, example]) => {
        const other = this.kindNamed(route, name);
        if (other !== undefined) return [name, this.named(other, tenant, player)[0]?.id];
        if (kind === undefined) return [name, example];
        if (Array.isArray(example) && /ids?$/i.test(name)) return [name, this.many(kind, tenant, player)];
        const field = this.#fieldCalled(kind, name);
        return [name, field ? this.#value(kind, field, tenant, player) : example];
      }),
    );
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
    const stranger = this.#players.find((one) => one.person && one.tenants.length > 0 && !one.tenants.includes(tenant))?.person?.id;
    const colleague = this.#players.find((one) => one.person && one !== player && one.tenants.includes(tenant))?.person?.id;
    return Object.entries(this.#charter.kind(kind).fields).flatMap(([field, data]): Record<string, unknown>[] => {
      const names = namesOf(this.#charter.shapes[kind] as KindShape, field);
      const values: unknown[] = [];
      if (data.role === 'tenant') values.push(this.otherTenant(player));
      else if (data.role === 'owner') values.push(colleague, player.person?.id, stranger);
      else if (data.role === 'maker' || data.role === 'person') values.push(colleague);
      else if (data.role === 'parent')
        values.push(
          this.named(data.to as string, tenant, player).find(({ as }) => as === 'hidden')?.id,
          this.named(data.to as string, tenant, player).find(({ as }) => as === 'elsewhere')?.id,
        );
      else if (data.role !== 'id' && data.role !== 'people' && data.change !== undefined) values.push(this.#value(kind, [field, data], tenant, player));
      return values.filter((value) => value !== undefined && value !== '').flatMap((value) => names.map((name) => ({ [name]: value })));
    });
  }
}
