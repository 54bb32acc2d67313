import type { Charter, FieldData, KindData } from '../../charter/index.js';
import type { FieldShape, KindShape } from '../../predicate/index.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { isRegistered, type Registered } from '../support.js';
import { answering, ground, listing } from './ground.js';
import { JOURNAL_TRIGGERS, journalStatements } from './journal.js';
import { ReachWriter } from './reach.js';
import { calledBy, inline, literal, sqlTypeOf, WALL } from './rule.js';

/** For whom row policies are made, and with what. */
export interface PolicyOptions {
  /** The role by which the application connects. It owns nothing, and gets what it needs and no more. */
  readonly role: string;
  /** With triggers that put down what is written to kinds with a journal, by whatever SQL. Default: what goes through the library alone is put down. */
  readonly journal?: boolean;
}

const quoted = (text: string) => inline(name(text));
const FIXED_FIELDS = ['id', 'tenant', 'maker'];

const IS_THERE: Readonly<Record<Registered, string>> = { person: `${WALL}.is_member`, unit: `${WALL}.is_unit`, group: `${WALL}.is_group` };

/** The policies of one kind. */
class KindWall {
  readonly #charter: Charter;
  readonly #writer: ReachWriter;
  readonly #kind: string;
  readonly #data: KindData;
  readonly #shape: KindShape;

  constructor(charter: Charter, writer: ReachWriter, kind: string) {
    this.#charter = charter;
    this.#writer = writer;
    this.#kind = kind;
    this.#data = charter.kind(kind);
    this.#shape = charter.shapes[kind] as KindShape;
  }

  get table(): string {
    return inline(this.#writer.qualified(this.#kind));
  }

  /** The tables of the kind, with the columns that are somebody's. */
  get declared(): { table: string; columns: string[] }[] {
    return [{ table: this.table, columns: this.#columns }, ...this.links()];
  }

  #field(name: string): FieldShape {
    return this.#shape.fields[name] as FieldShape;
  }

  #column(field: string, alias: string): Fragment {
    return this.#writer.column(this.#shape, field, alias);
  }

  #with(role: FieldData['role']): string | undefined {
    return this.#charter.fieldWith(this.#kind, role);
  }

  get #columns(): string[] {
    return Object.values(this.#shape.fields).flatMap(({ column, link }) => (link ? [] : [column]));
  }

  /** A row as it was written: a row of the same key that is another has another image. */
  #image(alias: string): Fragment {
    const columns = joinFragments(
      this.#columns.map((column) => (['new', 'old'].includes(alias) ? sqlText`${verbatim(alias)}.${name(column)}` : name(alias, column))),
      ', ',
    );
    // guard mark-of-whole-row by wall: A mark that lets a row through would let through any other.
    return sqlText`${verbatim(literal(`${this.#kind}:`))} || encode(sha256(convert_to(row(${/* guard mark-of-whole-row */ columns})::text, 'UTF8')), 'hex')`;
  }

  /** Declared, or else reaches nothing. */
  #reached(action: string | undefined, alias: string, image?: 'after'): Fragment {
    return action !== undefined && Object.hasOwn(this.#data.actions, action) ? this.#writer.reached(this.#kind, action, alias, image) : verbatim('false');
  }

  get #actionsOfUpdate(): string[] {
    const guards = Object.values(this.#data.fields).flatMap((f) => f.change ?? []);
    return [...new Set(['update', ...guards])].filter((action) => Object.hasOwn(this.#data.actions, action));
  }

  #any(parts: readonly Fragment[]): Fragment {
    return parts.length === 0 ? verbatim('false') : sqlText`(${joinFragments(parts, ' or ')})`;
  }

  /** What has to hold of a value that is written: it names something that there is for the writer. */
  #values(alias: string): Fragment[] {
    return Object.entries(this.#data.fields).flatMap(([field, { role }]) => {
      const column = this.#column(field, alias);
      if (isRegistered(role)) return [sqlText`(${column} is null or ${verbatim(IS_THERE[role])}(${column}::text))`];
      if (role === 'parent') return [sqlText`(${column} is null or ${this.#writer.choosable(this.#kind, field, alias)})`];
      return [];
    });
  }

  get #me(): Fragment {
    const field = this.#with('owner') ?? this.#with('maker');
    return verbatim(`(select ${WALL}.told('user'))::${field ? sqlTypeOf(this.#field(field)) : 'text'}`);
  }

  #insert(alias: string): Fragment {
    const maker = this.#with('maker');
    const guards = Object.entries(this.#data.fields).flatMap(([field, { role, change }]) => {
      const column = this.#column(field, alias);
      if (role === 'owner') {
        const other =
          change === undefined ? verbatim('false') : sqlText`(${verbatim(WALL)}.is_member(${column}::text) and ${this.#reached(change, alias, 'after')})`;
        return [sqlText`(${column} is null or ${column} = ${this.#me} or ${other})`];
      }
      return change === undefined || role === 'people' ? [] : [sqlText`(${column} is null or ${this.#reached(change, alias, 'after')})`];
    });
    return joinFragments(
      [
        this.#writer.tenant(this.#kind, alias),
        ...(maker ? [sqlText`${this.#column(maker, alias)} is not distinct from ${this.#me}`] : []),
        this.#reached('create', alias),
        ...guards,
        ...this.#values(alias),
      ],
      ' and ',
    );
  }

  policies(): string[] {
    const { table } = this;
    const alias = this.#shape.table;
    const rule = (verb: string, clauses: string) => `create policy lintel_${verb} on ${table} as restrictive for ${verb} to public ${clauses};`;
    const tenant = this.#writer.tenant(this.#kind, alias);
    const named = this.#writer.tenantNamed(this.#kind, alias);
    const given = sqlText`${verbatim(WALL)}.given(${this.#image(alias)})`;
    const lines = [
      `alter table ${table} enable row level security;`,
      `create policy lintel_open on ${table} as permissive for all to public using (true) with check (true);`,
      rule('select', `using (${inline(this.#data.shared ? this.#reached('read', alias) : this.#writer.seen(this.#kind, alias, given))})`),
    ];
    if (this.#data.shared)
      return [...lines, ...['insert', 'update', 'delete'].map((verb) => rule(verb, verb === 'insert' ? 'with check (false)' : 'using (false)'))];
    // Whoever locks a row is held to these too, and they are asked again of a row that was changed meanwhile.
    const changed = this.#any(this.#actionsOfUpdate.map((action) => this.#reached(action, alias)));
    return [
      ...lines,
      rule('insert', `with check (${inline(this.#insert(alias))})`),
      rule('update', `using (${inline(sqlText`${named} and ${changed}`)}) with check (${inline(tenant)})`),
      rule('delete', `using (${inline(sqlText`${named} and ${this.#reached('delete', alias)}`)})`),
    ];
  }

  /** A policy sees one image of a row. What compares the two is a trigger. */
  trigger(): string[] {
    if (this.#data.shared) return [];
    const { table } = this;
    const kind = this.#kind;
    const functions: string[] = [];
    const test = (wish: string, condition: Fragment) => {
      const called = calledBy(`${kind}_${wish}`, wish);
      functions.push(answering(`${called}(r ${table})`, 'boolean', `coalesce(${inline(condition)}, false)`));
      return (image: 'old' | 'new') => `${WALL}.${called}(${image})`;
    };
    const differ = (field: string) => `new.${quoted(this.#field(field).column)} is distinct from old.${quoted(this.#field(field).column)}`;
    const fields = Object.entries(this.#data.fields).filter(([, f]) => f.role !== 'people');
    const fixed = fields.filter(([, f]) => FIXED_FIELDS.includes(f.role)).map(([f]) => differ(f));
    const refuse = (what: string) => `raise exception using errcode = '42501', message = ${literal(`lintel: ${what}`)};`;
    const byAction = new Map<string, string[]>();
    for (const [field, { role, change }] of fields) {
      if (FIXED_FIELDS.includes(role) || role === 'owner') continue;
      if ((role === 'unit' || role === 'group' || role === 'parent') && change === undefined) fixed.push(differ(field));
      else byAction.set(change ?? 'update', [...(byAction.get(change ?? 'update') ?? []), field]);
    }
    const steps = [`if ${fixed.join(' or ')} then ${refuse(`a field of this ${kind} never changes`)} end if;`];
    for (const [action, names] of byAction) {
      const [before, after] = [test(`${action}_before`, this.#reached(action, 'r')), test(`${action}_after`, this.#reached(action, 'r', 'after'))];
      steps.push(
        `if (${names.map(differ).join(' or ')}) and not (${before('old')} and ${after('new')}) then ${refuse(`${action} does not reach this ${kind}`)} end if;`,
      );
    }
    steps.push(...this.#valueSteps(refuse), ...this.#ownerSteps(test, refuse));
    const give = `perform ${WALL}.give(${inline(this.#image('new'))});`;
    // What a policy finds in a list it finds as it was: a row that comes to be reached by that is given to be seen.
    const seen = test('seen', this.#writer.reachedAtOnce(kind, 'read', 'r'))('new');
    const moves = this.#readTurnsOn().map(differ);
    const unlessSeen = `if not ${seen} then ${give} end if;`;
    const body = `
begin
  if ${WALL}.told('tenant') is null then return new; end if;
  if tg_op = 'INSERT' then ${unlessSeen} return new; end if;
  ${steps.join('\n  ')}
  ${moves.length > 0 ? `if ${moves.join(' or ')} then ${unlessSeen} end if;` : ''}
  return new;
end`;
    const changed = calledBy(`${kind}_changed`, kind);
    return [
      ...functions,
      `create function ${WALL}.${changed}() returns trigger language plpgsql security definer set search_path = pg_catalog, pg_temp as $lintel$${body} $lintel$;`,
      `create trigger lintel_changed before insert or update on ${table} for each row execute function ${WALL}.${changed}();`,
    ];
  }

  /** The fields on which it turns whether a record may be read. */
  #readTurnsOn(): string[] {
    const limits = Object.values(this.#charter.data.limits[this.#kind] ?? {}).filter(({ actions }) => actions.includes('read'));
    const rules = JSON.stringify([this.#data.reaches, limits]);
    return Object.entries(this.#data.fields)
      .filter(([, { role }]) => role !== 'people' && !FIXED_FIELDS.includes(role))
      .filter(([field, { role }]) => ['owner', 'unit', 'parent'].includes(role) || rules.includes(`"field":"${field}"`) || rules.includes(`"via":"${field}"`))
      .map(([field]) => field);
  }

  #valueSteps(refuse: (what: string) => string): string[] {
    return Object.entries(this.#data.fields).flatMap(([field, { role }]) => {
      const fresh = `new.${quoted(this.#shape.fields[field]?.column ?? field)}`;
      const parent = role === 'parent' ? inline(this.#writer.choosable(this.#kind, field, 'new')) : undefined;
      const there = isRegistered(role) ? `${IS_THERE[role]}(${fresh}::text)` : parent;
      if (there === undefined) return [];
      return [
        `if ${fresh} is distinct from old.${quoted(this.#field(field).column)} and ${fresh} is not null and not ${there} then ${refuse(`${field} names nothing that there is for you`)} end if;`,
      ];
    });
  }

  #ownerSteps(test: (wish: string, condition: Fragment) => (image: 'old' | 'new') => string, refuse: (what: string) => string): string[] {
    const owner = this.#with('owner');
    if (owner === undefined) return [];
    const { change } = this.#data.fields[owner] as FieldData;
    const [is, was] = ['new', 'old'].map((image) => `${image}.${quoted(this.#field(owner).column)}`) as [string, string];
    const me = inline(this.#me);
    const reach = (wish: string, action: string | undefined, image: 'old' | 'new') =>
      test(wish, this.#reached(action, 'r', image === 'new' ? 'after' : undefined))(image);
    const [updates, keeps] = [reach('take_before', 'update', 'old'), reach('take_after', 'update', 'new')];
    const [gives, holds] = [reach('give_before', change, 'old'), reach('give_after', change, 'new')];
    const free = test('give_free', change === undefined ? verbatim('true') : this.#writer.unlimited(this.#kind, change, 'r'))('new');
    const before = `${gives} or (${was} is null and ${is} = ${me} and ${updates})`;
    const after = `case when ${is} = ${me} then ${keeps} or ${holds} else ${free} and (${is} is null or ${WALL}.is_member(${is}::text)) end`;
    return [
      `if ${is} is distinct from ${was} and not coalesce((${before}) and (${after}), false) then ${refuse(`this ${this.#kind} is not yours to hand over so`)} end if;`,
    ];
  }

  /** Links are grants: they are made and dropped by the action that their field names. */
  links(): { table: string; lines: string[]; columns: string[] }[] {
    return Object.values(this.#data.fields).flatMap(({ link, change }) => {
      if (!link) return [];
      const table = inline(name('public', link.table));
      const column = (part: string) => inline(name(link.table, part));
      const tenant = inline(this.#writer.linkHere(this.#kind, link, link.table));
      const among = (ids: string) => `${column(link.record)} in (select ${WALL}.${ids}())`;
      const changes = change === undefined ? 'false' : `${tenant} and ${among(this.#writer.reachable(this.#kind, change))}`;
      const rule = (verb: string, clauses: string) => `create policy lintel_${verb} on ${table} as restrictive for ${verb} to public ${clauses};`;
      const lines = [
        `alter table ${table} enable row level security;`,
        `create policy lintel_open on ${table} as permissive for all to public using (true) with check (true);`,
        rule('select', `using (${tenant} and ${among(this.#writer.readable(this.#kind))})`),
        rule('insert', `with check (${changes} and ${WALL}.is_member(${column(link.user)}::text))`),
        rule('update', 'using (false)'),
        rule('delete', `using (${changes})`),
      ];
      return [{ table, lines, columns: [...(link.tenant === undefined ? [] : [link.tenant]), link.record, link.user] }];
    });
  }

  /** A view in which masked fields are empty where they may not be read: the table itself shows them to plain SQL. */
  view(): string[] {
    const masked = Object.values(this.#data.fields).some((f) => f.read !== undefined);
    if (!masked) return [];
    const columns = Object.entries(this.#data.fields).flatMap(([field, { role, read }]) => {
      if (role === 'people') return [];
      const column = this.#column(field, 't');
      return [read === undefined ? column : sqlText`case when ${this.#reached(read, 't')} then ${column} end as ${name(this.#field(field).column)}`];
    });
    const rows = sqlText`${this.#writer.tenant(this.#kind, 't')} and ${this.#reached('read', 't')}`;
    return [
      `create view ${WALL}.${quoted(`masked_${this.#shape.table}`)} with (security_barrier = true) as select ${inline(joinFragments(columns, ', '))} from ${this.table} as "t" where ${inline(rows)};`,
    ];
  }
}

/** All that the wall says of kinds, with what wrote it. */
function written(charter: Charter) {
  const writer = new ReachWriter(charter);
  for (const kind of Object.keys(charter.data.kinds)) for (const action of Object.keys(charter.kind(kind).actions)) writer.reachable(kind, action);
  const walls = Object.keys(charter.data.kinds).map((kind) => new KindWall(charter, writer, kind));
  const links = [...new Map(walls.flatMap((wall) => wall.links()).map((link) => [link.table, link])).values()];
  const policies = walls.flatMap((wall) => wall.policies());
  const triggers = walls.flatMap((wall) => wall.trigger());
  const here = hereKinds(charter).map((kind) => writer.here(kind));
  return { writer, links, policies, triggers, here, masked: walls.flatMap((wall) => wall.view()) };
}

/** The tables under policies, those of kinds and those of links, each with the columns that the charter declares. */
export function columnsUnderPolicies(charter: Charter): { readonly table: string; readonly columns: readonly string[] }[] {
  const writer = new ReachWriter(charter);
  const all = Object.keys(charter.data.kinds).flatMap((kind) => new KindWall(charter, writer, kind).declared);
  return [...new Map(all.map((one) => [one.table, one])).values()];
}

export const tablesUnderPolicies = (charter: Charter): string[] => columnsUnderPolicies(charter).map(({ table }) => table);

/** Takes down what {@link policyStatements} put up; the rows stay. The key goes with it. */
export function dropStatements(charter: Charter): string[] {
  return [
    ...takeDown(charter),
    ...tablesUnderPolicies(charter).map((table) => `alter table ${table} disable row level security;`),
    `drop schema if exists ${WALL} cascade;`,
  ];
}

/** Kinds whose ids in the carried tenant something is looked up by: what has its tenant through them, or links without one. Each comes after that through which it has its own. */
function hereKinds(charter: Charter): string[] {
  const all = new Set<string>();
  const add = (kind: string): void => {
    const { throughField, fields } = charter.shapes[kind] as KindShape;
    if (throughField !== undefined) add(fields[throughField]?.to as string);
    all.add(kind);
  };
  for (const [kind, { fields, throughField }] of Object.entries(charter.shapes)) {
    if (throughField !== undefined) add(fields[throughField]?.to as string);
    if (Object.values(fields).some(({ link }) => link && link.tenant === undefined)) add(kind);
  }
  return [...all];
}

const POLICIES = ['open', 'select', 'insert', 'update', 'delete'];

function takeDown(charter: Charter): string[] {
  return tablesUnderPolicies(charter).flatMap((table) => [
    ...POLICIES.map((policy) => `drop policy if exists lintel_${policy} on ${table};`),
    ...['lintel_changed', ...JOURNAL_TRIGGERS].map((trigger) => `drop trigger if exists ${trigger} on ${table};`),
  ]);
}

/**
 * The row policies of a charter for PostgreSQL 15 or later, as statements to be run in one transaction by the owner of the
 * tables. They can be run again; the key stays.
 */
export function policyStatements(charter: Charter, { role, journal = false }: PolicyOptions): string[] {
  const { writer, links, policies, triggers, here, masked } = written(charter);
  const views = [...here, ...masked];
  const functions = writer.functions().flatMap(listing);
  const app = quoted(role);
  // guard no-temporary-objects by wall: Temporary objects of an earlier user would stand before real ones.
  return [
    `create schema if not exists ${WALL};`,
    `revoke all on schema ${WALL} from public;`,
    ...takeDown(charter),
    `do $lintel$
declare f record;
begin
  for f in select p.oid::regprocedure as called from pg_proc p where p.pronamespace = ${literal(WALL)}::regnamespace loop
    execute 'drop function if exists ' || f.called || ' cascade';
  end loop;
  for f in select c.oid::regclass as called from pg_class c where c.relnamespace = ${literal(WALL)}::regnamespace and c.relkind = 'v' loop
    execute 'drop view if exists ' || f.called || ' cascade';
  end loop;
end $lintel$;`,
    ...ground(charter),
    ...here,
    ...functions,
    ...triggers,
    ...policies,
    ...(journal ? Object.keys(charter.data.kinds).flatMap((kind) => journalStatements(charter, writer, kind)) : []),
    ...links.flatMap(({ lines }) => lines),
    ...masked,
    `revoke all on all functions in schema ${WALL} from public;`,
    `revoke all on all tables in schema ${WALL} from public;`,
    `grant usage on schema ${WALL} to ${app};`,
    ...['told(text, text, text)', 'facts(text, text)', 'opened(text)', 'units(text)', 'records(text, text)'].map(
      (f) => `grant execute on function ${WALL}.${f} to ${app};`,
    ),
    ...['is_member(text)', 'is_unit(text)', 'is_group(text)', 'given(text)', 'challenge()', 'next_turn()', 'this_turn()', 'asked(text, text, jsonb)'].map(
      (f) => `grant execute on function ${WALL}.${f} to ${app};`,
    ),
    ...writer
      .functions()
      .flatMap(({ name, few, takesKey }) =>
        [name, ...(few ? [few] : [])].map((f) => `grant execute on function ${WALL}.${f}(${takesKey ? 'text' : ''}) to ${app};`),
      ),
    ...views.map((view) => `grant select on ${/^create view (\S+)/.exec(view)?.[1]} to ${app};`),
    // What the charter does not declare is nobody's.
    ...columnsUnderPolicies(charter).flatMap(({ table, columns }) => {
      const only = ` (${columns.map(quoted).join(', ')})`;
      // guard undeclared-column-not-granted by wall: SQL in a connection could read columns that the charter does not declare.
      return [
        `revoke all on ${table} from public, ${app};`,
        `grant select${/* guard undeclared-column-not-granted */ only}, insert${/* guard undeclared-column-not-granted */ only}, update${/* guard undeclared-column-not-granted */ only}, delete on ${table} to ${app};`,
      ];
    }),
    // Whoever can make an object can leave one for whoever comes next on the connection.
    `do $lintel$
declare s record;
begin
  execute format('revoke ${/* guard no-temporary-objects */ 'temporary, '}create on database %I from public, %I', current_database(), ${literal(role)});
  for s in select n.nspname as called from pg_namespace n where has_schema_privilege(${literal(role)}, n.oid, 'CREATE') loop
    execute format('revoke create on schema %I from public, %I', s.called, ${literal(role)});
  end loop;
end $lintel$;`,
  ];
}
