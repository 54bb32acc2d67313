import { didYouMean, entryOf, LintelError, sha256 } from '../base/index.js';
import type { KindShape, Predicate, Shapes } from '../predicate/index.js';
import { canonicalJson } from './canonical.js';
import type { CharterData, KindData, LimitData, PermissionWords, RoleData } from './data.js';
import type { FieldData } from './field.js';
import { KEYHOLDER, operationsOf, reachesOfOperation } from './operations.js';

/** A permission with its words and what it is about: an action on a kind, an area, or an operation on the tenant. */
export interface Permission extends PermissionWords {
  readonly name: string;
  readonly section: string;
  /** Set for an action on a kind of record. */
  readonly kind?: string;
  readonly action?: string;
  /** True if an assignment that is anchored at a unit gives it although it is about no record. */
  readonly perUnit: boolean;
}

export interface Limit extends LimitData {
  readonly name: string;
}

/** A role with what it includes already followed. */
export interface ResolvedRole {
  /** For each permission the reaches, and the chain of roles by which it came (empty: said by the role itself). */
  readonly grants: readonly { readonly permission: string; readonly reach: string; readonly included: readonly string[] }[];
  readonly gives: readonly string[];
}

/** Names that a charter declares, as types: what makes a misspelt one fail to compile. */
export interface CharterTypes {
  readonly fields: Readonly<Record<string, Readonly<Record<string, unknown>>>>;
  readonly permissions: string;
  readonly areas: string;
  readonly roles: string;
}

declare const types: unique symbol;

/** The names that a charter declares, read back from it: `TypesIn<typeof charter>`. */
export type TypesIn<C> = C extends Charter<infer T> ? T : never;

/**
 * A checked charter. Made by `defineCharter` or `readCharter`; immutable. `data` is plain JSON and round-trips, `hash` is
 * the SHA-256 of it in canonical form.
 */
export class Charter<T extends CharterTypes = CharterTypes> {
  declare readonly [types]?: T;
  readonly data: CharterData;
  readonly shapes: Shapes;
  readonly permissions: ReadonlyMap<string, Permission>;
  readonly #resolved = new Map<string, ResolvedRole>();
  readonly #limits = new Map<string, readonly Limit[]>();
  /** By kind, what a tenant has chosen for the reach `base`. */
  readonly #bases: Readonly<Record<string, string>>;
  #hash: string | undefined;

  /** @internal Takes data that was checked: use `readCharter`. `of`: the charter of which this is the view of one tenant. `sentences`: of the library's own operations. */
  constructor(data: CharterData, of?: Charter<T>, bases?: Readonly<Record<string, string>>, sentences?: Readonly<Record<string, string>>) {
    this.data = data;
    this.shapes = of?.shapes ?? Object.fromEntries(Object.entries(data.kinds).map(([name, kind]) => [name, shapeOf(kind)]));
    this.permissions = of?.permissions ?? new Map(permissionsOf(data, sentences).map((p) => [p.name, p]));
    this.#bases = bases ?? (of ? of.#bases : {});
    this.#hash = of?.hash;
  }

  /**
   * The charter as it stands in a tenant that has roles of its own beside, and has chosen the base of kinds: the same charter, under the same
   * hash. What such a role names and this charter no longer has gives nothing.
   */
  withRoles(own: Readonly<Record<string, RoleData>>, bases?: Readonly<Record<string, string>>): Charter<T> {
    const kept = Object.entries(own).map(([id, role]) => [id, this.#known(role)] as const);
    return new Charter<T>({ ...this.data, roles: { ...this.data.roles, ...Object.fromEntries(kept) } }, this, bases);
  }

  #known(role: RoleData): RoleData {
    const may = Object.entries(role.may).map(([permission, reaches]) => [permission, reaches.filter((reach) => this.knows({ permission, reach }))] as const);
    return { ...role, may: Object.fromEntries(may.filter(([, reaches]) => reaches.length > 0)) };
  }

  /** True if there is such a permission, and it can be given with that reach. */
  knows({ permission, reach }: { readonly permission: string; readonly reach: string }): boolean {
    return this.reachesOf(permission).includes(reach);
  }

  /** Reaches with which a permission can be given, the widest first. None for a permission that there is not. */
  reachesOf(permission: string): string[] {
    const found = this.permissions.get(permission);
    if (!found) return [];
    if (!found.kind) return reachesOfOperation(permission, this.data.roles);
    return reachesToGive(this.kind(found.kind));
  }

  get hash(): string {
    this.#hash ??= sha256(canonicalJson(this.data));
    return this.#hash;
  }

  /** @throws LintelError `unknown-action` with the near match. */
  permission(name: string): Permission {
    const found = this.permissions.get(name);
    if (found) return found;
    throw new LintelError('unknown-action', `no action "${name}"${didYouMean(name, this.permissions.keys())}`, { action: name });
  }

  /** @throws LintelError `unknown-kind` with the near match. */
  kind(name: string): KindData {
    return look(this.data.kinds, name, 'kind');
  }

  /** @throws LintelError `unknown-role` with the near match. */
  role(name: string): RoleData {
    if (name === KEYHOLDER) return { ...this.data.keyholder, includes: [], may: {}, gives: [] };
    return look(this.data.roles, name, 'role');
  }

  /** The limits of a kind, by name. */
  limitsOf(kind: string): readonly Limit[] {
    const known = this.#limits.get(kind) ?? Object.entries(this.data.limits[kind] ?? {}).map(([name, limit]) => ({ name, ...limit }));
    this.#limits.set(kind, known);
    return known;
  }

  /** What a role gives, with the roles it includes. A role that is not in this charter gives nothing. */
  resolveRole(name: string): ResolvedRole {
    const known = this.#resolved.get(name);
    if (known) return known;
    const role = entryOf(this.data.roles, name);
    const inherited = role?.includes.map((inner) => [inner, this.resolveRole(inner)] as const) ?? [];
    // By how many ways a role is included does not matter: of each that has a permission one is told, and so roles cost what they are, not what they multiply to.
    const grants: Record<string, ResolvedRole['grants'][number]> = {};
    for (const grant of [
      ...Object.entries(role?.may ?? {}).flatMap(([permission, reaches]) => reaches.map((reach) => ({ permission, reach, included: [] }))),
      ...inherited.flatMap(([inner, r]) => r.grants.map((g) => ({ ...g, included: [inner, ...g.included] }))),
    ])
      grants[`${[grant.permission, grant.reach, grant.included.at(-1)]}`] ??= grant;
    const resolved: ResolvedRole = {
      grants: Object.values(grants),
      gives: [...new Set([...(role?.gives ?? []), ...inherited.flatMap(([, r]) => r.gives)])],
    };
    this.#resolved.set(name, resolved);
    return resolved;
  }

  /** The reach that holds for all records of a kind: `tenant`, or `shared` for a kind without tenants. */
  widestReach(kind: string): 'tenant' | 'shared' {
    return widestOf(this.kind(kind));
  }

  /** The predicate of a reach, built-in ones included. */
  reach(kind: string, name: string): Predicate {
    if (name === this.widestReach(kind)) return { op: 'always' };
    if (name === 'followed') {
      const of = followedFields(this.kind(kind)).map((via): Predicate => ({ op: 'followed', via }));
      return of.length === 1 ? (of[0] as Predicate) : { op: 'and', of };
    }
    return look(this.kind(kind).reaches, name, 'reach');
  }

  /** The reach that is meant: for `base`, what the tenant has chosen, as long as the charter lets it. */
  reachMeant(permission: string, reach: string): string {
    const kind = this.permissions.get(permission)?.kind;
    const { base } = (reach === 'base' && kind !== undefined && this.data.kinds[kind]) || {};
    if (!base) return reach;
    const chosen = this.#bases[kind as string];
    return (chosen !== undefined && base.includes(chosen) ? chosen : base[0]) as string;
  }

  /** Name of the field with this role, if the kind has one. */
  fieldWith(kind: string, role: FieldData['role']): string | undefined {
    return Object.entries(this.kind(kind).fields).find(([, field]) => field.role === role)?.[0];
  }
}

function look<V>(all: Readonly<Record<string, V>>, name: string, what: string): V {
  if (Object.hasOwn(all, name)) return all[name] as V;
  throw new LintelError(`unknown-${what}`, `no ${what} "${name}"${didYouMean(name, Object.keys(all))}`, { [what]: name });
}

const widestOf = (kind: KindData) => (kind.shared ? 'shared' : 'tenant');

/** Reaches at which an action on a kind is held, the widest first. */
export function reachesOfKind(kind: KindData): string[] {
  return [widestOf(kind), ...(followedFields(kind).length > 0 ? ['followed'] : []), ...Object.keys(kind.reaches)];
}

/** Reaches with which it can be given: these, and `base`, which is the one of them that a tenant has chosen. */
export const reachesToGive = (kind: KindData): string[] => [...reachesOfKind(kind), ...(kind.base?.length ? ['base'] : [])];

/** The parent fields whose readers read this record too. */
export function followedFields(kind: KindData): string[] {
  return Object.entries(kind.fields)
    .filter(([, f]) => f.role === 'parent' && f.follow !== false)
    .map(([name]) => name);
}

/** `keeperId` -> `keeper_id`: the column, where none is named. */
export function snakeCase(name: string): string {
  return name.replace(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`);
}

export function shapeOf(kind: KindData): KindShape {
  const fields = Object.entries(kind.fields);
  const named = (is: (field: FieldData) => unknown) => fields.find(([, f]) => is(f))?.[0];
  return {
    table: kind.table,
    ...(kind.schema !== undefined && { schema: kind.schema }),
    idField: named((f) => f.role === 'id') ?? 'id',
    tenantField: named((f) => f.role === 'tenant'),
    throughField: named((f) => f.through),
    fields: Object.fromEntries(
      fields.map(([name, f]) => [
        name,
        {
          type: f.type,
          column: f.column ?? snakeCase(name),
          ...(f.scale !== undefined && { scale: f.scale }),
          ...(f.to !== undefined && { to: f.to }),
          ...(f.role === 'unit' && { unit: true as const }),
          ...(['owner', 'maker', 'person'].includes(f.role) && { person: true as const }),
          ...(f.link && { link: f.link }),
        },
      ]),
    ),
  };
}

function permissionsOf(data: CharterData, sentences: Readonly<Record<string, string>> = {}): Permission[] {
  const capital = (s: string) => s.charAt(0).toUpperCase() + s.slice(1);
  return [
    ...Object.entries(data.kinds).flatMap(([kind, k]) =>
      Object.entries(k.actions).map(([action, words]) => ({ section: capital(k.many), ...words, name: `${kind}.${action}`, kind, action, perUnit: true })),
    ),
    ...Object.entries(data.areas).map(([area, words]) => ({ section: 'Areas', ...words, name: `area.${area}`, perUnit: words.perUnit === true })),
    ...Object.entries(operationsOf(data.platform === true)).map(([name, words]) => ({
      section: 'Organisation',
      ...words,
      ...(sentences[name] && { sentence: sentences[name] }),
      name,
      perUnit: false,
    })),
  ];
}
