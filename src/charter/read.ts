import { didYouMean, LintelError } from '../base/index.js';
import { checkPredicate, normalise, ownFields, type Predicate, type Shapes, VALUE_TYPES } from '../predicate/index.js';
import { type AttributeData, checkAttributes, DEFAULT_SETTERS } from './attributes.js';
import { Charter, followedFields, reachesOfKind, reachesToGive, shapeOf } from './charter.js';
import { Checker, type Json } from './checker.js';
import type { CharterData, KindData, RoleData } from './data.js';
import type { FieldRole } from './field.js';
import { idProblems } from './ids.js';
import { KEYHOLDER, operationsOf, RESERVED_KINDS, reachesOfOperation } from './operations.js';
import { SENTENCES } from './sentences.js';

const ROLES: readonly FieldRole[] = ['id', 'tenant', 'owner', 'maker', 'person', 'unit', 'group', 'parent', 'people', 'plain'];
const MAX_FOLLOWED = 4;

const WORDS = ['label', 'sentence', 'section', 'brings', 'needs', 'feature', 'channels', 'was'];

function checkWords(c: Checker, words: Json, at: string): void {
  c.text(words.label, `${at}.label`, true);
  for (const key of ['sentence', 'section', 'brings', 'feature'] as const) c.text(words[key], `${at}.${key}`);
  c.list(words.channels, `${at}.channels`);
  c.list(words.was, `${at}.was`);
}

function checkField(c: Checker, field: Json, at: string, actions: readonly string[], kinds: readonly string[]): void {
  c.object(field, at, ['role', 'type', 'column', 'scale', 'options', 'to', 'follow', 'through', 'link', 'change', 'read', 'label']);
  c.oneOf(field.role, `${at}.role`, 'role of a field', ROLES);
  c.oneOf(field.type, `${at}.type`, 'type', VALUE_TYPES);
  c.text(field.column, `${at}.column`);
  c.text(field.label, `${at}.label`);
  c.boolean(field.follow, `${at}.follow`);
  c.boolean(field.through, `${at}.through`);
  if (field.through === true && field.role !== 'parent') c.report(`${at}.through`, 'a record has its tenant through a parent');
  for (const key of ['change', 'read'] as const) {
    if (field[key] === undefined || !c.oneOf(field[key], `${at}.${key}`, 'action', actions)) continue;
    if (['id', 'tenant', 'maker'].some((role) => role === field.role))
      c.report(`${at}.${key}`, `the ${field.role} is set by the library and cannot be guarded`);
  }
  if (field.role === 'parent') c.oneOf(field.to, `${at}.to`, 'kind', kinds);
  if (field.role === 'people') {
    const link = c.object(field.link, `${at}.link`, ['table', 'tenant', 'record', 'user']);
    for (const key of ['table', 'tenant', 'record', 'user']) c.text(link[key], `${at}.link.${key}`, key !== 'tenant');
  }
  if (field.type === 'decimal' && !(Number.isInteger(field.scale) && (field.scale as number) >= 0 && (field.scale as number) <= 18)) {
    c.report(`${at}.scale`, 'a decimal says its places after the point, 0 to 18');
  }
  c.list(field.options, `${at}.options`);
}

function checkKind(c: Checker, name: string, kind: Json, at: string, kinds: readonly string[]): void {
  c.object(kind, at, ['table', 'schema', 'label', 'one', 'many', 'shared', 'fields', 'actions', 'reaches', 'base', 'journal']);
  c.object(kind.reaches, `${at}.reaches`);
  if (RESERVED_KINDS.includes(name)) c.report(at, `"${name}" is a word of the library; choose another`);
  for (const key of ['table', 'label', 'one', 'many'] as const) c.text(kind[key], `${at}.${key}`, true);
  c.text(kind.schema, `${at}.schema`);
  c.boolean(kind.shared, `${at}.shared`);
  const actions = c.named(kind.actions, `${at}.actions`);
  for (const [, words, path] of actions) {
    c.object(words, path, WORDS);
    checkWords(c, words, path);
  }
  const names = actions.map(([action]) => action);
  if (!names.includes('read')) c.report(`${at}.actions`, 'every kind has the action read');
  if (kind.shared) {
    for (const action of names)
      if (action !== 'read') c.report(`${at}.actions.${action}`, 'a shared kind is written only by the platform, so it has only the action read');
  }
  const fields = c.named(kind.fields, `${at}.fields`);
  for (const [, field, path] of fields) checkField(c, field, path, names, kinds);
  const count = (role: string) => fields.filter(([, f]) => f.role === role).length;
  if (count('id') !== 1) c.report(`${at}.fields`, 'needs exactly one id');
  const tenants = count('tenant') + fields.filter(([, f]) => f.through === true).length;
  if (tenants !== (kind.shared ? 0 : 1))
    c.report(
      `${at}.fields`,
      kind.shared ? 'a shared kind has no tenant' : 'needs exactly one tenant, or one parent through which it has it; a kind without is declared shared',
    );
  for (const role of ['owner', 'maker', 'unit']) if (count(role) > 1) c.report(`${at}.fields`, `has ${count(role)} fields for the ${role}; one at most`);
  const columns = fields.filter(([, f]) => f.role !== 'people').map(([field]) => field);
  if (typeof kind.label === 'string') c.oneOf(kind.label, `${at}.label`, 'field', columns);
  checkJournal(c, kind, `${at}.journal`, names, columns);
}

function checkJournal(c: Checker, kind: Json, at: string, actions: readonly string[], columns: readonly string[]): void {
  if (kind.journal === undefined) return;
  if (kind.shared) c.report(at, 'a shared kind is written only by the platform, so that it has no journal');
  const { fields, shownBy, earlier, days } = c.object(kind.journal, at, ['fields', 'shownBy', 'earlier', 'days']);
  if (fields !== undefined && checkNames(c, fields, `${at}.fields`, 'field', columns).length === 0)
    c.report(`${at}.fields`, 'names no field; leave it out for all');
  if (shownBy !== undefined) c.oneOf(shownBy, `${at}.shownBy`, 'action', actions);
  if (earlier !== undefined) c.oneOf(earlier, `${at}.earlier`, 'choice', ['hidden']);
  if (days !== undefined && !(Number.isInteger(days) && (days as number) > 0)) c.report(`${at}.days`, 'must be a whole number of days, 1 or more');
}

function checkParents(c: Checker, kinds: Readonly<Record<string, KindData>>): void {
  /** How deep each kind's parents go: each is looked at once, however many ways lead to it. */
  function depths(pick: (kind: KindData) => string[]): Map<string, number> {
    const known = new Map<string, number>();
    const depth = (name: string, trail: readonly string[]): number => {
      if (trail.includes(name)) throw new LintelError('charter-invalid', [...trail.slice(trail.indexOf(name)), name].join(' -> '));
      const kind = kinds[name] as KindData;
      const found = known.get(name) ?? Math.max(0, ...pick(kind).map((field) => 1 + depth(kind.fields[field]?.to as string, [...trail, name])));
      known.set(name, found);
      return found;
    };
    for (const name of Object.keys(kinds)) depth(name, []);
    return known;
  }
  const all = (kind: KindData) => Object.keys(kind.fields).filter((f) => kind.fields[f]?.role === 'parent');
  for (const [name, { fields }] of Object.entries(kinds))
    for (const [field, { through, to = '' }] of Object.entries(fields))
      if (through && kinds[to]?.shared) c.report(`kinds.${name}.fields.${field}`, `a ${to} is shared, so that nothing has its tenant through it`);
  try {
    depths(all);
    for (const [name, followed] of depths(followedFields))
      if (followed > MAX_FOLLOWED) c.report(`kinds.${name}`, `follows its parents ${followed} deep; ${MAX_FOLLOWED} at most`);
  } catch (error) {
    if (!(error instanceof LintelError)) throw error;
    c.report('kinds', `parents go in a circle: ${error.message}`);
  }
}

/** Names that the second half of a charter refers to. */
interface Vocabulary {
  readonly kinds: Readonly<Record<string, KindData>>;
  readonly permissions: readonly string[];
  readonly areas: readonly string[];
  readonly roles: readonly string[];
}

function reachesOf(known: Vocabulary, permission: string): string[] {
  const kind = known.kinds[permission.split('.')[0] as string];
  return kind ? reachesToGive(kind) : reachesOfOperation(permission, Object.fromEntries(known.roles.map((role) => [role, true])));
}

function checkMay(c: Checker, may: unknown, at: string, known: Vocabulary): void {
  for (const [permission, reaches] of Object.entries(c.object(may, at))) {
    const path = `${at}[${JSON.stringify(permission)}]`;
    if (!known.permissions.includes(permission)) {
      c.report(path, `no such action${didYouMean(permission, known.permissions)}`);
      continue;
    }
    c.list(reaches, path).forEach((reach, i) => {
      c.oneOf(reach, `${path}[${i}]`, 'reach', reachesOf(known, permission));
    });
  }
}

function checkNames(c: Checker, value: unknown, at: string, what: string, allowed: readonly string[]): string[] {
  const names = c.list(value, at);
  names.forEach((name, i) => {
    c.oneOf(name, `${at}[${i}]`, what, allowed);
  });
  return names;
}

function checkRoles(c: Checker, roles: [string, Json, string][], known: Vocabulary): void {
  for (const [name, role, at] of roles) {
    c.object(role, at, ['label', 'sentence', 'startsAt', 'includes', 'may', 'gives', 'was']);
    c.list(role.was, `${at}.was`);
    if (name === KEYHOLDER) c.report(at, 'full control comes with every charter, and is called otherwise by keyholder: { label: … }; choose another name');
    c.text(role.label, `${at}.label`, true);
    c.text(role.sentence, `${at}.sentence`);
    if (role.startsAt !== undefined) c.oneOf(role.startsAt, `${at}.startsAt`, 'area', known.areas);
    checkMay(c, role.may, `${at}.may`, known);
    checkNames(c, role.includes, `${at}.includes`, 'role', known.roles);
    checkNames(c, role.gives, `${at}.gives`, 'role', known.roles);
  }
  const includes = new Map(roles.map(([name, role]) => [name, Array.isArray(role.includes) ? (role.includes as string[]) : []]));
  // Each role is looked into once, however many ways lead to it.
  const sound = new Set<string>();
  const circular = (name: string, trail: readonly string[]): boolean => {
    if (sound.has(name)) return false;
    if (trail.includes(name) || (includes.get(name) ?? []).some((inner) => circular(inner, [...trail, name]))) return true;
    sound.add(name);
    return false;
  };
  for (const [name, , at] of roles) {
    if (circular(name, [])) {
      c.report(`${at}.includes`, 'roles include each other in a circle');
      break;
    }
  }
}

/**
 * Checks a role of a tenant's own, which may include and give the roles of the charter and `others` of the tenant.
 *
 * @throws LintelError `role-invalid` with every problem: its path, what is wrong, and the near match.
 */
export function readRole(charter: Charter, id: string, json: unknown, others: readonly string[]): RoleData {
  const c = new Checker();
  const role = c.object(json, 'role');
  const { kinds, areas, roles } = charter.data;
  checkRoles(c, [[id, role, 'role']], {
    kinds,
    areas: Object.keys(areas),
    roles: [...Object.keys(roles), ...others.filter((other) => other !== id)],
    permissions: [...charter.permissions.keys()],
  });
  if (role.was !== undefined) c.report('role.was', 'a role of your own is renamed by its label; its id stays');
  c.throwIfAny('role');
  return completeRole(role as unknown as RoleData);
}

function checkLimit(
  c: Checker,
  limit: Json,
  at: string,
  kindName: string,
  known: Vocabulary,
  shapes: Shapes,
  attributes?: Readonly<Record<string, AttributeData>>,
): void {
  const kind = known.kinds[kindName] as KindData;
  c.object(limit, at, ['actions', 'where', 'sentence', 'before', 'lasting']);
  c.text(limit.sentence, `${at}.sentence`, true);
  c.boolean(limit.before, `${at}.before`);
  c.boolean(limit.lasting, `${at}.lasting`);
  const actions = checkNames(c, limit.actions, `${at}.actions`, 'action', Object.keys(kind.actions));
  if (actions.length === 0) c.report(`${at}.actions`, 'a limit names the actions that it refuses');
  const problems = checkPredicate(limit.where, kindName, shapes, `${at}.where`, attributes);
  c.problems.push(...problems);
  if (problems.length > 0 || limit.lasting === true) return;
  for (const field of ownFields(limit.where as Predicate)) {
    const data = kind.fields[field];
    if (!data || ['id', 'tenant', 'maker'].includes(data.role)) continue;
    const by = data.change ?? 'update';
    if (actions.includes(by)) {
      c.report(
        `${at}.actions`,
        `nobody can leave this limit: ${field} is changed by ${by}, which it refuses; guard ${field} with an action of its own, or say lasting: true`,
      );
    }
  }
}

type Named = [string, Json, string][];

/** A name that something had before, or that is retired, names nothing else. */
function checkNamesBefore(c: Checker, kinds: Vocabulary['kinds'], areas: Named, roles: Named, retired: readonly string[], known: Vocabulary): void {
  const before = [
    ...Object.entries(kinds).flatMap(([kind, { actions }]) =>
      Object.entries(actions).flatMap(([action, { was = [] }]) => was.map((name, i) => [name, `kinds.${kind}.actions.${action}.was[${i}]`] as const)),
    ),
    ...[...areas, ...roles].flatMap(([, { was }, at]) => (Array.isArray(was) ? (was as string[]) : []).map((name, i) => [name, `${at}.was[${i}]`] as const)),
    ...retired.map((name, i) => [name, `retired[${i}]`] as const),
  ];
  const used = new Set([...known.permissions, ...known.roles]);
  for (const [name, at] of before) {
    if (used.has(name)) c.report(at, `“${name}” is a name that something else has now, or had; a name is not used again`);
    used.add(name);
  }
}

/**
 * Checks a charter that arrives as data, from a file, a database or a network, and makes it ready for use.
 *
 * @throws LintelError `charter-invalid` with every problem: its path, what is wrong, and the near match.
 */
export function readCharter(json: unknown): Charter {
  const c = new Checker();
  const top = c.object(json, '', [
    'kinds',
    'areas',
    'roles',
    'keyholder',
    'limits',
    'obligations',
    'apart',
    'attributes',
    'platform',
    'retired',
    'visitor',
    'signedIn',
    'everyMember',
  ]);
  const kindEntries = c.named(top.kinds, 'kinds');
  for (const [name, kind, at] of kindEntries)
    checkKind(
      c,
      name,
      kind,
      at,
      kindEntries.map(([k]) => k),
    );
  checkAttributes(c, top.attributes);
  // What follows speaks of fields and actions by name: without sound kinds it would only repeat their problems.
  c.throwIfAny();

  const kinds = Object.fromEntries(kindEntries.map(([name, kind]) => [name, { reaches: {}, ...kind } as unknown as KindData]));
  const shapes: Shapes = Object.fromEntries(Object.entries(kinds).map(([name, kind]) => [name, shapeOf(kind)]));
  c.problems.push(...idProblems(kinds));
  checkParents(c, kinds);
  c.throwIfAny();
  for (const [name, kind] of Object.entries(kinds)) {
    for (const [reach, predicate, at] of c.named(kind.reaches, `kinds.${name}.reaches`)) {
      if (['tenant', 'shared', 'followed', 'base'].includes(reach)) c.report(at, `the reach "${reach}" is built in; choose another name`);
      c.problems.push(...checkPredicate(predicate, name, shapes, at, top.attributes as never));
    }
    const base = checkNames(c, kind.base, `kinds.${name}.base`, 'reach', reachesOfKind(kind));
    if (kind.base && new Set(base).size < 2) c.report(`kinds.${name}.base`, 'a tenant chooses of at least two reaches');
  }

  const areas = c.named(top.areas, 'areas');
  const roles = c.named(top.roles, 'roles');
  const known: Vocabulary = {
    kinds,
    areas: areas.map(([name]) => name),
    roles: roles.map(([name]) => name),
    permissions: [
      ...Object.entries(kinds).flatMap(([name, kind]) => Object.keys(kind.actions).map((action) => `${name}.${action}`)),
      ...areas.map(([name]) => `area.${name}`),
      ...Object.keys(operationsOf(top.platform === true)),
    ],
  };
  c.boolean(top.platform, 'platform');
  for (const [, area, at] of areas) {
    c.object(area, at, [...WORDS, 'perUnit']);
    checkWords(c, area, at);
    c.boolean(area.perUnit, `${at}.perUnit`);
    checkNames(c, area.needs, `${at}.needs`, 'action', known.permissions);
  }
  for (const [name, kind] of Object.entries(kinds)) {
    for (const [action, words] of Object.entries(kind.actions))
      checkNames(c, words.needs, `kinds.${name}.actions.${action}.needs`, 'action', known.permissions);
  }
  checkRoles(c, roles, known);
  if (top.keyholder !== undefined) {
    const keyholder = c.object(top.keyholder, 'keyholder', ['label', 'sentence', 'startsAt']);
    c.text(keyholder.label, 'keyholder.label', true);
    c.text(keyholder.sentence, 'keyholder.sentence');
    if (keyholder.startsAt !== undefined) c.oneOf(keyholder.startsAt, 'keyholder.startsAt', 'area', known.areas);
  }
  for (const subject of ['visitor', 'signedIn', 'everyMember'] as const) checkMay(c, top[subject], subject, known);
  for (const [kind, limits] of Object.entries(c.object(top.limits, 'limits'))) {
    if (!c.oneOf(kind, `limits.${kind}`, 'kind', Object.keys(kinds))) continue;
    for (const [, limit, at] of c.named(limits, `limits.${kind}`)) checkLimit(c, limit, at, kind, known, shapes, top.attributes as never);
  }
  for (const [, obligation, at] of c.named(top.obligations, 'obligations')) {
    c.object(obligation, at, ['sentence', 'before']);
    c.text(obligation.sentence, `${at}.sentence`, true);
    if (obligation.before === 'everything') continue;
    if (checkNames(c, obligation.before, `${at}.before`, 'action', known.permissions).length === 0)
      c.report(`${at}.before`, 'names the actions before which it is to be met, or is "everything"');
  }
  checkNamesBefore(c, kinds, areas, roles, c.list(top.retired, 'retired'), known);
  for (const [, apart, at] of c.named(top.apart, 'apart')) {
    c.object(apart, at, ['hold', 'sentence']);
    c.text(apart.sentence, `${at}.sentence`, true);
    const held = checkNames(c, apart.hold, `${at}.hold`, 'role or action', [...known.roles, ...known.permissions]);
    if (new Set(held).size < 2) c.report(`${at}.hold`, 'names at least two roles or actions that nobody may hold together');
  }
  c.throwIfAny();
  return new Charter(complete(top, kinds, shapes), undefined, undefined, SENTENCES as Record<string, string>);
}

const completeRole = (role: RoleData): RoleData => ({ ...role, includes: role.includes ?? [], may: role.may ?? {}, gives: role.gives ?? [] });

/** Fills in what may be left out, and brings constants into their normal form: equal charters get equal hashes. */
function complete(top: Json, kinds: Readonly<Record<string, KindData>>, shapes: Shapes): CharterData {
  const given = Object.fromEntries(Object.entries(top).filter(([, part]) => part !== undefined));
  const data = structuredClone({
    areas: {},
    roles: {},
    limits: {},
    obligations: {},
    apart: {},
    retired: [],
    visitor: {},
    signedIn: {},
    everyMember: {},
    keyholder: { label: 'Keyholder', sentence: 'Full control, of every record whoever owns it; somebody always holds it.' },
    ...given,
    kinds,
  }) as unknown as CharterData;
  const map = <V, W>(all: Readonly<Record<string, V>>, f: (value: V, name: string) => W) =>
    Object.fromEntries(Object.entries(all).map(([name, v]) => [name, f(v, name)]));
  return {
    ...data,
    kinds: map(data.kinds, (kind, name) => ({ ...kind, reaches: map(kind.reaches, (p) => normalise(p, name, shapes)) })),
    ...(data.attributes && { attributes: map(data.attributes, (one) => ({ ...one, setBy: one.setBy ?? DEFAULT_SETTERS })) }),
    roles: map(data.roles, completeRole),
    limits: map(data.limits, (limits, kind) => map(limits, (limit) => ({ ...limit, where: normalise(limit.where, kind, shapes) }))),
  };
}
