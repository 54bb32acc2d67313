import {
  context,
  type Fact,
  type Me,
  me,
  type ParentTerm,
  type PeopleTerm,
  type PersonTerm,
  type Predicate,
  recordOf,
  type Scalar,
  type ScalarTerm,
  type Shapes,
  type UnitTerm,
} from '../predicate/index.js';
import { type AttributeInput, attributesOf } from './attributes.js';
import { type Charter, type CharterTypes, shapeOf } from './charter.js';
import type { ApartData, AreaData, JournalData, KeyholderData, KindData, ObligationData, PermissionWords } from './data.js';
import type { Field, FieldRole } from './field.js';
import type { AboutPeople, Operation, PEOPLE_REACHES } from './operations.js';
import { readCharter } from './read.js';

type AnyField = Field<unknown, FieldRole, string, string>;
type Fields = Readonly<Record<string, Readonly<Record<string, AnyField>>>>;
type Actions = Readonly<Record<string, Readonly<Record<string, PermissionWords>>>>;
type Reaches = Readonly<Record<string, Readonly<Record<string, unknown>>>>;

/** A field as rules ask it: what can be asked depends on what the field is for. */
type Term<F extends Fields, X> =
  X extends Field<infer V, infer Role, string, infer To>
    ? Role extends 'people'
      ? PeopleTerm<V extends readonly (infer Id)[] ? Id : never>
      : Role extends 'unit'
        ? UnitTerm<V>
        : Role extends 'owner' | 'maker' | 'person'
          ? PersonTerm<V>
          : Role extends 'parent'
            ? ParentTerm<To extends keyof F ? RecordTerms<F, To> : never, V>
            : ScalarTerm<V>
    : never;

/** The record as rules see it: its fields by name, and those of its parents one step away. */
export type RecordTerms<F extends Fields, N extends keyof F> = { readonly [f in keyof F[N]]: Term<F, F[N][f]> };

/** A rule over one kind: given the record, the person and the request, it answers with a predicate. */
export type Rule<F extends Fields, N extends keyof F> = (q: {
  readonly record: RecordTerms<F, N>;
  readonly me: Me;
  readonly context: <V extends Scalar>(name: string) => Fact<V>;
}) => Predicate;

/** Refuses a field that names an action or a parent which is not there, with a sentence in the type error. */
type Checked<F extends Fields, A> = {
  [N in keyof F]: {
    fields: {
      [f in keyof F[N]]: F[N][f] extends Field<unknown, FieldRole, infer Names, infer To>
        ? [Names] extends [N extends keyof A ? keyof A[N] : never]
          ? [To] extends [keyof F]
            ? unknown
            : `no such kind: ${To}`
          : `no such action: ${Names}`
        : never;
    };
  };
};

type Kinds<F extends Fields, A extends Actions> = {
  readonly [N in keyof F]: {
    readonly table: string;
    readonly schema?: string;
    /** The field whose value names a record to people. */
    readonly label: keyof NoInfer<F>[N] & string;
    /** The kind as people call one of it; by default its name. */
    readonly one?: string;
    readonly many?: string;
    readonly shared?: true;
    readonly fields: F[N];
    /** Reaches of which a tenant chooses one for what is given at the reach `base`: the first where it has not chosen. */
    readonly base?: readonly string[];
    /** Each making, change and deletion of its records is put down: of all columns, or as it says. */
    readonly journal?: true | (Omit<JournalData, 'fields'> & { readonly fields?: readonly (keyof NoInfer<F>[N] & string)[] });
  };
} & { readonly [N in keyof A]: { readonly actions: A[N] } };

/** Kinds with their reaches: the first half of a charter. */
export interface DeclaredKinds<F extends Fields, A extends Actions, R extends Reaches> {
  readonly kinds: Readonly<Record<string, KindData>>;
  readonly shapes: Shapes;
  /** Phantom: carries the declared names. */
  readonly names?: { readonly fields: F; readonly actions: A; readonly reaches: R };
}

/**
 * Declares the kinds of record: table, fields and actions; then, in the second argument, their reaches by kind.
 *
 * A misspelt action, parent, field or parent's field does not compile.
 */
export function defineKinds<
  const F extends Fields,
  const A extends Actions,
  const R extends { readonly [N in keyof F]?: Readonly<Record<string, Rule<F, N>>> },
>(
  kinds: Kinds<F, A> & NoInfer<Checked<F, A>>,
  reaches: R & { readonly [N in Exclude<keyof R, keyof F>]: `no such kind: ${N & string}` } = {} as never,
): DeclaredKinds<F, A, R & Reaches> {
  const base = Object.fromEntries(
    Object.entries(kinds as unknown as Record<string, KindData>).map(([name, kind]) => [
      name,
      {
        ...kind,
        ...((kind.journal as unknown) === true && { journal: {} }),
        one: kind.one ?? name,
        many: kind.many ?? `${kind.one ?? name}s`,
        reaches: {},
      } as KindData,
    ]),
  );
  const shapes = Object.fromEntries(Object.entries(base).map(([name, kind]) => [name, shapeOf(kind)]));
  const withReaches = Object.entries(base).map(([name, kind]) => {
    const rules = Object.entries((reaches as unknown as Record<string, Record<string, Rule<Fields, string>>>)[name] ?? {});
    return [name, { ...kind, reaches: Object.fromEntries(rules.map(([reach, rule]) => [reach, applyRule(rule, name, shapes)])) }];
  });
  return { kinds: Object.fromEntries(withReaches), shapes };
}

function applyRule(rule: Rule<Fields, string>, kind: string, shapes: Shapes): Predicate {
  return rule({ record: recordOf(shapes, kind) as RecordTerms<Fields, string>, me, context });
}

type ActionPermission<A> = { [N in keyof A & string]: `${N}.${keyof A[N] & string}` }[keyof A & string];
type PermissionOf<A, Areas extends string> = ActionPermission<A> | `area.${Areas}` | Operation;

/** Fields of a kind that are for this. */
type With<F extends Fields, N extends keyof F, Role extends FieldRole> = Extract<F[N][keyof F[N]], Field<unknown, Role, string, string>>;

/** What reaches all of a kind: a kind that names no tenant, nor a parent through which it could have one, is shared. */
type Widest<F extends Fields, N extends keyof F> = [With<F, N, 'tenant'>] extends [never]
  ? [With<F, N, 'parent'>] extends [never]
    ? 'shared'
    : 'tenant' | 'shared'
  : 'tenant';

type ReachName<F extends Fields, R, N extends keyof F & string> =
  | Widest<F, N>
  | 'base'
  | ([With<F, N, 'parent'>] extends [never] ? never : 'followed')
  | (N extends keyof R ? keyof R[N] & string : never);

type ReachOf<F extends Fields, R, P extends string, Roles extends string> = P extends AboutPeople
  ? (typeof PEOPLE_REACHES)[number] | `role.${Roles | 'keyholder'}`
  : P extends `${infer N}.${string}`
    ? N extends keyof F & string
      ? ReachName<F, R, N>
      : 'tenant'
    : never;

/** Permissions, each with the reaches to which it extends. Nothing is given by default, and an empty list is none. */
export type MayInput<F extends Fields, A, R, Areas extends string, Roles extends string> = {
  readonly [P in PermissionOf<A, Areas>]?: ReachOf<F, R, P, Roles> | readonly ReachOf<F, R, P, Roles>[];
};

interface RoleInput<F extends Fields, A, R, Areas extends string, Roles extends string> {
  readonly label: string;
  readonly sentence?: string;
  readonly startsAt?: Areas;
  readonly includes?: readonly Roles[];
  readonly may: MayInput<F, A, R, Areas, Roles>;
  /** Roles that a holder may give without holding them, within the anchor of this one. */
  readonly gives?: readonly Roles[];
  /** What it was called before. */
  readonly was?: readonly string[];
}

interface LimitInput<F extends Fields, A, N extends keyof F> {
  readonly actions: readonly (N extends keyof A ? keyof A[N] & string : never)[];
  readonly where: Rule<F, N>;
  readonly sentence: string;
  readonly before?: true;
  readonly lasting?: true;
}

interface AreaInput<P extends string> extends Omit<AreaData, 'needs'> {
  readonly needs?: readonly P[];
}

/** What a charter infers from its parts; read it back with `typeof charter`. */
export interface TypesOf<F extends Fields, A, Areas extends string, Roles extends string> extends CharterTypes {
  readonly fields: F;
  readonly permissions: PermissionOf<A, Areas>;
  readonly areas: Areas;
  readonly roles: Roles;
}

/**
 * Declares the whole access model over the kinds made by {@link defineKinds}: areas, roles, limits, obligations, and what
 * subjects may do who hold no role.
 *
 * @throws LintelError `charter-invalid` for what types cannot see (two owners, parents in a circle, a limit without a way out).
 */
export function defineCharter<F extends Fields, A extends Actions, R extends Reaches, const Areas extends string = never, const Roles extends string = never>(
  declared: DeclaredKinds<F, A, R>,
  rules: {
    readonly areas?: { readonly [a in Areas]: AreaInput<ActionPermission<A> | Operation> };
    readonly roles: { readonly [r in Roles]: RoleInput<F, A, R, NoInfer<Areas>, NoInfer<Roles>> };
    /** What full control is called here, and where who holds it begins. */
    readonly keyholder?: Omit<KeyholderData, 'startsAt'> & { readonly startsAt?: NoInfer<Areas> };
    readonly limits?: { readonly [N in keyof F]?: Readonly<Record<string, LimitInput<F, A, N>>> };
    readonly obligations?: Readonly<
      Record<string, Omit<ObligationData, 'before'> & { readonly before: readonly PermissionOf<A, NoInfer<Areas>>[] | 'everything' }>
    >;
    readonly apart?: Readonly<Record<string, Omit<ApartData, 'hold'> & { readonly hold: readonly (NoInfer<Roles> | PermissionOf<A, NoInfer<Areas>>)[] }>>;
    /** Facts about members that rules can ask by `me.attribute`. */
    readonly attributes?: Readonly<Record<string, AttributeInput>>;
    readonly platform?: boolean;
    readonly retired?: readonly string[];
    readonly visitor?: MayInput<F, A, R, NoInfer<Areas>, NoInfer<Roles>>;
    readonly signedIn?: MayInput<F, A, R, NoInfer<Areas>, NoInfer<Roles>>;
    readonly everyMember?: MayInput<F, A, R, NoInfer<Areas>, NoInfer<Roles>>;
  },
): Charter<TypesOf<F, A, Areas, Roles>> {
  type Loose = Record<string, Record<string, unknown>>;
  const may = (input: object | undefined) =>
    Object.fromEntries(Object.entries(input ?? {}).map(([p, reach]) => [p, typeof reach === 'string' ? [reach] : reach]));
  const roles = Object.entries(rules.roles as unknown as Loose).map(([name, role]) => [name, { ...role, may: may(role.may as object) }]);
  const limits = Object.entries((rules.limits ?? {}) as Record<string, Loose>).map(([kind, named]) => [
    kind,
    Object.fromEntries(
      Object.entries(named).map(([name, limit]) => [name, { ...limit, where: applyRule(limit.where as Rule<Fields, string>, kind, declared.shapes) }]),
    ),
  ]);
  return readCharter({
    kinds: declared.kinds,
    areas: rules.areas ?? {},
    roles: Object.fromEntries(roles),
    limits: Object.fromEntries(limits),
    ...(rules.keyholder && { keyholder: rules.keyholder }),
    obligations: rules.obligations ?? {},
    apart: rules.apart ?? {},
    retired: rules.retired ?? [],
    ...(rules.attributes && { attributes: attributesOf(rules.attributes) }),
    ...(rules.platform !== undefined && { platform: rules.platform }),
    visitor: may(rules.visitor),
    signedIn: may(rules.signedIn),
    everyMember: may(rules.everyMember),
  }) as Charter<TypesOf<F, A, Areas, Roles>>;
}
