import {
  AliasNode,
  type DeleteQueryNode,
  type IdentifierNode,
  type InsertQueryNode,
  type Kysely,
  type OnConflictNode,
  type OperationNode,
  type PrimitiveValueListNode,
  type RawNode,
  ReferenceNode,
  type ReturningNode,
  SelectAllNode,
  type SelectionNode,
  type SelectQueryNode,
  TableNode,
  type UpdateQueryNode,
  type ValueListNode,
  ValueNode,
  type ValuesNode,
  type WithNode,
} from 'kysely';
import { LintelError } from '../base/index.js';
import type { FieldData } from '../charter/index.js';
import { type FieldShape, readValue } from '../predicate/index.js';
import type { Standing } from '../standing/index.js';
import { insistOnFree, refuse } from './allowed.js';
import { Boundary } from './boundary.js';
import { MARK } from './failure.js';
import { Embedded, type Fragment, joinFragments, name, sqlText, verbatim } from './fragment.js';
import { Narrower } from './narrow.js';
import { isRegistered, type Registered } from './support.js';
import { fieldOf, insistOnVisible, type Target } from './target.js';

export type WriteNode = InsertQueryNode | UpdateQueryNode | DeleteQueryNode;

/** A check on each row as it becomes; a row that fails makes the whole statement fail. */
interface AfterCheck {
  /** Comes back in the database's error, so that the cause can be told. */
  readonly sign: string;
  readonly holds: Fragment;
}

const WRITTEN = '"lintel_written"';

/** A column of the result that carries our count, and one that tells a real row from none. */
export const COUNT = 'lintelcount';
export const ROW = 'lintelrow';

/** What a write names of the membership. */
export interface Named {
  /** People other than the writer to whom it gives records, with their standings: each must be able to read what they get. */
  readonly owners: ReadonlyMap<string, Standing | undefined>;
  /** Where the membership is kept in another database: the named people, units and groups that there are. */
  readonly existing?: Readonly<Record<Registered, readonly string[]>>;
}

const NOBODY: Named = { owners: new Map() };

/** Finds out about the people, units and groups that a write names. Answers undefined if it names none, so that nothing has to wait. */
export async function lookUpNamed(node: WriteNode, boundary: Boundary, db: Kysely<any>): Promise<Named | undefined> {
  if (node.kind === 'DeleteQueryNode') return undefined;
  const { support, standing } = boundary;
  const given = new WriteWriter(boundary, node, NOBODY).given();
  const others = [...given.owner].filter((id) => id !== standing.userId);
  const elsewhere = support.conditions === undefined && given.person.size + given.unit.size + given.group.size > 0;
  if (others.length === 0 && !elsewhere) return undefined;
  const owners = new Map(await Promise.all(others.map(async (id) => [id, await support.standingOf(id, db)] as const)));
  if (!elsewhere) return { owners };
  const [person, unit, group] = await Promise.all((['person', 'unit', 'group'] as const).map((what) => support.existing(what, [...given[what]])));
  return { owners, existing: { person, unit, group } as Record<Registered, readonly string[]> };
}

/**
 * The statement that stands for a write: the write itself narrowed to rows that the needed actions reach, a check of every
 * row as it became, and the returned rows narrowed to what the writer may read of them. One statement, so that it holds
 * or fails as a whole, in a transaction or out of one.
 */
export function planWrite(node: WriteNode, boundary: Boundary, named: Named = NOBODY): RawNode {
  return new WriteWriter(boundary, node, named).write().toNode();
}

/** The same as steps, for a database where no write stands inside a query; they are to run in one transaction. */
export interface WriteSteps {
  /** Ids of the rows that the write reaches. Absent for an insert. */
  readonly reached?: RawNode;
  /** Rows that are to be returned although they will be gone. */
  readonly leaving?: (ids: readonly unknown[]) => RawNode;
  /** The write. Answers the ids of what it wrote. */
  readonly write: (ids: readonly unknown[]) => RawNode;
  /** For each written row which check failed, if one did. */
  readonly failed?: (ids: readonly unknown[]) => RawNode;
  readonly returned?: (ids: readonly unknown[]) => RawNode;
}

export function planSteps(node: WriteNode, boundary: Boundary, named: Named = NOBODY): WriteSteps {
  return new WriteWriter(boundary, node, named).steps();
}

class WriteWriter {
  readonly #boundary: Boundary;
  readonly #node: WriteNode;
  readonly #named: Named;
  readonly #target: Target;
  readonly #narrower: Narrower;
  /** CTEs before the write, narrowed. */
  readonly #ctes: WithNode | undefined;

  constructor(boundary: Boundary, node: WriteNode, named: Named) {
    this.#boundary = boundary;
    this.#node = node;
    this.#named = named;
    this.#narrower = new Narrower(boundary);
    this.#target = this.#findTarget();
    this.#ctes = node.with && this.#narrower.enter(node.with);
  }

  get #fields(): Readonly<Record<string, FieldData>> {
    return this.#boundary.standing.charter.kind(this.#target.kind).fields;
  }

  #findTarget(): Target {
    const node = this.#node;
    if (!this.#boundary.writable) refuse('a write over several tenants', 'enter the one that it is for');
    const place = node.kind === 'InsertQueryNode' ? node.into : node.kind === 'UpdateQueryNode' ? node.table : node.from.froms[0];
    const refusedParts = [
      'explain',
      'endModifiers',
      'limit',
      'orderBy',
      'top',
      'output',
      'joins',
      'using',
      'onDuplicateKey',
      'orAction',
      'ignore',
      'replace',
      'defaultValues',
    ];
    for (const part of refusedParts) {
      const value = (node as unknown as Record<string, unknown>)[part];
      if (Array.isArray(value) ? value.length > 0 : value) refuse(`"${part}" in a write`, 'split it into a read and a plain insert, update or delete');
    }
    if (node.kind === 'UpdateQueryNode' && node.from) refuse('update from another table', 'read first, then update by id');
    if (node.kind === 'DeleteQueryNode' && node.from.froms.length !== 1) refuse('delete from several tables', 'delete from one');
    const table = place && AliasNode.is(place) ? place.node : place;
    if (!table || !TableNode.is(table)) return refuse('a write to something that is no table', 'name one table');
    const kind = this.#boundary.insistOnKind(table.table);
    if (this.#boundary.standing.charter.kind(kind).shared) refuse(`a write to ${kind}, which is shared by all tenants`, 'only the platform writes it');
    const alias = place && AliasNode.is(place) && place.alias.kind === 'IdentifierNode' ? (place.alias as IdentifierNode).name : table.table.identifier.name;
    if (place !== table) insistOnFree(alias);
    return { kind, alias };
  }

  write(): Fragment {
    const { kind, alias } = this.#target;
    const readable = this.#boundary.readable(kind, undefined, verbatim(WRITTEN), [verbatim(`true as "${ROW}"`)]);
    return sqlText`with ${this.#ahead}"lintel_written" as (${this.#statement(undefined)} returning *), "lintel_checked" as (select count(*) as "${verbatim(COUNT)}", coalesce(sum(${this.#failOn(this.#checks())}), 0) as "lintelfailed" from "lintel_written" as "w") select ${this.#returned(this.#node.returning)}"${verbatim(COUNT)}", "${verbatim(ROW)}" from "lintel_checked" left join ${readable} as ${name(alias)} on "lintelfailed" = 0`;
  }

  steps(): WriteSteps {
    const { kind, alias } = this.#target;
    const node = this.#node;
    const checks = this.#checks();
    const of = (ids: readonly unknown[], at: string) => {
      const shape = this.#boundary.shape(kind);
      const id = shape.fields[shape.idField] as FieldShape;
      return sqlText`${this.#boundary.tenant(kind, at)} and ${this.#boundary.writer.writeList(name(at, id.column), ids, id)}`;
    };
    const returned = (ids: readonly unknown[]) => {
      const readable = this.#boundary.readable(kind, undefined, this.#table, [verbatim(`true as "${ROW}"`)]);
      return sqlText`${this.#leading}select ${this.#returned(node.returning)}"${verbatim(ROW)}" from ${readable} as ${name(alias)} where ${of(ids, alias)}`.toNode();
    };
    const id = name(this.#columnOf(this.#boundary.shape(kind).idField));
    return {
      ...(node.kind !== 'InsertQueryNode' && {
        reached: sqlText`${this.#leading}select ${id} as "lintelid" from ${this.#table} as ${name(alias)} where ${this.#reached(node)}`.toNode(),
      }),
      ...(node.returning && { [node.kind === 'DeleteQueryNode' ? 'leaving' : 'returned']: returned }),
      write: (ids) => sqlText`${this.#leading}${this.#statement(of(ids, alias))} returning ${id} as "lintelid"`.toNode(),
      ...(checks.length > 0 && {
        failed: (ids: readonly unknown[]) => {
          const whens = checks.map(({ sign, holds }) => sqlText`when (${holds}) is not true then ${sign}`);
          return sqlText`select case ${joinFragments(whens, ' ')} end as "lintelfailed" from ${this.#table} as "w" where ${of(ids, 'w')}`.toNode();
        },
      }),
    };
  }

  /** The CTEs in front of our own. */
  get #ahead(): Fragment {
    if (!this.#ctes) return verbatim('');
    const each = this.#ctes.expressions.map((cte) => sqlText`${new Embedded(cte)}`);
    return sqlText`${verbatim(this.#ctes.recursive ? 'recursive ' : '')}${joinFragments(each, ', ')}, `;
  }

  /** The CTEs in front of a statement that has none of ours. */
  get #leading(): Fragment {
    return this.#ctes ? sqlText`${new Embedded(this.#ctes)} ` : verbatim('');
  }

  get #table(): Fragment {
    return this.#boundary.writer.table(this.#boundary.shape(this.#target.kind));
  }

  /** The write, on the rows where a condition holds: those that it reaches, unless that was found out before. */
  #statement(where: Fragment | undefined): Fragment {
    const node = this.#node;
    if (node.kind === 'InsertQueryNode') return this.#insert(node);
    const rows = where ?? this.#reached(node);
    const table = sqlText`${this.#table} as ${name(this.#target.alias)}`;
    return node.kind === 'UpdateQueryNode' ? sqlText`update ${table} set ${this.#sets(node)} where ${rows}` : sqlText`delete from ${table} where ${rows}`;
  }

  /** The rows that an update or delete reaches, as they are before. */
  #reached(node: UpdateQueryNode | DeleteQueryNode): Fragment {
    const { kind, alias } = this.#target;
    const needed =
      node.kind === 'UpdateQueryNode' ? this.#changed(node).map((change) => this.#before(change, alias)) : [this.#boundary.reached(kind, 'delete', alias)];
    return joinFragments([...this.#where(node), ...needed], ' and ');
  }

  #checks(): AfterCheck[] {
    const node = this.#node;
    return node.kind === 'InsertQueryNode' ? this.#insertChecks() : node.kind === 'UpdateQueryNode' ? this.#updateChecks(node) : [];
  }

  /** Zero for a row that passes; for one that does not, a cast that must fail. It names the row, so that no planner works it out beforehand. */
  #failOn(checks: readonly AfterCheck[]): Fragment {
    if (checks.length === 0) return verbatim('0');
    const id = this.#column(this.#boundary.shape(this.#target.kind).idField);
    const whens = checks.map(({ sign, holds }) => sqlText`when (${holds}) is not true then cast('${verbatim(MARK + sign)}:' || ${id}::text as integer)`);
    return sqlText`case ${joinFragments(whens, ' ')} else 0 end`;
  }

  /** A column of the row as it became. */
  #column(field: string): Fragment {
    return this.#boundary.writer.column(this.#boundary.shape(this.#target.kind), field, 'w');
  }

  #reaches(action: string): AfterCheck {
    return { sign: `reach ${this.#target.kind}`, holds: this.#boundary.reached(this.#target.kind, action, 'w', 'after') };
  }

  #returned(returning: ReturningNode | undefined): Fragment {
    if (!returning) return verbatim('');
    const { kind, alias } = this.#target;
    const items = returning.selections.flatMap(({ selection }): Fragment[] => {
      const all = SelectAllNode.is(selection) || (ReferenceNode.is(selection) && SelectAllNode.is(selection.column));
      if (all) return this.#boundary.columnFields(kind).map(([, shape]) => name(alias, shape.column));
      return [sqlText`${new Embedded(this.#narrow(selection))}`];
    });
    return sqlText`${joinFragments(items, ', ')}, `;
  }

  #narrow<N extends OperationNode>(node: N): N {
    return this.#narrower.narrow(node);
  }

  #fieldOf(node: OperationNode): string {
    return fieldOf(node, this.#target, this.#boundary);
  }

  #insistOnVisible(node: OperationNode, upsert: boolean): void {
    insistOnVisible(node, this.#target, this.#boundary, upsert);
  }

  #where(node: UpdateQueryNode | DeleteQueryNode): Fragment[] {
    return node.where ? this.#conditions(node.where.where) : [];
  }

  #conditions(where: OperationNode, upsert = false): Fragment[] {
    this.#insistOnVisible(where, upsert);
    return [sqlText`(${new Embedded(this.#narrow(where))})`];
  }

  #sets(node: UpdateQueryNode, upsert = false): Fragment {
    const sets = (node.updates ?? []).map((update) => {
      this.#insistOnType(this.#fieldOf(update.column), update.value);
      this.#insistOnVisible(update.value, upsert);
      return sqlText`${name(this.#columnOf(this.#fieldOf(update.column)))} = ${new Embedded(this.#narrow(update.value))}`;
    });
    if (sets.length === 0) refuse('an update that sets nothing', 'name the columns to set');
    return joinFragments(sets, ', ');
  }

  /** A plain value is of its field's type: what a database would make of another is not ours to find out. */
  #insistOnType(field: string, node: OperationNode | undefined): void {
    const value = constant(node);
    if (value === undefined || value === null) return;
    const { type, options, scale } = this.#fields[field] as FieldData;
    const read = readValue(type, this.#boundary.writer.readCell(value, this.#boundary.shape(this.#target.kind).fields[field] as FieldShape), scale);
    const quoted = JSON.stringify(value)?.slice(0, 40);
    if (read === undefined)
      throw new LintelError('bad-value', `${field} of a ${this.#target.kind} takes ${type}, not ${quoted}; nothing was written`, { field });
    if (options && !options.includes(String(read)))
      throw new LintelError('bad-value', `${field} of a ${this.#target.kind} is one of ${options.join(', ')}, not ${quoted}; nothing was written`, { field });
  }

  /** The actions that an update needs, one for each guarded field and `update` for the rest. A column that is set counts as changed. */
  #changed(node: UpdateQueryNode): Change[] {
    const fields = (node.updates ?? []).map((update) => ({ field: this.#fieldOf(update.column), value: update.value }));
    const owner = fields.find(({ field }) => this.#fields[field]?.role === 'owner');
    if (owner) {
      if (fields.length > 1) refuse('a new owner together with other changes', 'hand the record over in a statement of its own');
      return [{ action: this.#fields[owner.field]?.change, owner: this.#constantId(owner.field, owner.value), fields: [owner.field] }];
    }
    const byAction = new Map<string, string[]>();
    for (const { field } of fields) {
      const data = this.#fields[field] as FieldData;
      if (data.role === 'id' || data.role === 'tenant' || data.role === 'maker') {
        throw new LintelError('field-set-by-library', `${field} of a ${this.#target.kind} never changes; leave it out of the update`, { field });
      }
      if ((data.role === 'unit' || data.role === 'group' || data.role === 'parent') && data.change === undefined) {
        refuse(`a change of ${field}`, 'declare in the charter which action changes it: { change: "move" }');
      }
      const action = data.change ?? 'update';
      byAction.set(action, [...(byAction.get(action) ?? []), field]);
    }
    return [...byAction].map(([action, names]) => ({ action, fields: names }));
  }

  #before(change: Change, alias: string): Fragment {
    const { kind } = this.#target;
    const { action, owner } = change;
    if (owner === undefined) return this.#boundary.reached(kind, action as string, alias);
    const handOver = action === undefined ? verbatim('false') : this.#reachedBy(action, alias);
    if (owner === null || owner !== this.#boundary.standing.userId) return sqlText`(${handOver})`;
    // To take what nobody owns is an ordinary update; two at once meet at the row, and the second finds it owned.
    const column = this.#boundary.writer.column(this.#boundary.shape(kind), change.fields[0] as string, alias);
    return sqlText`((${column} is null and ${this.#reachedBy('update', alias)}) or (${handOver}))`;
  }

  /** An action that the kind does not declare reaches nothing. */
  #reachedBy(action: string, alias: string, image?: 'after'): Fragment {
    const { kind } = this.#target;
    return this.#boundary.declares(kind, action) ? this.#boundary.reached(kind, action, alias, image) : verbatim('false');
  }

  #updateChecks(node: UpdateQueryNode): AfterCheck[] {
    return this.#changed(node).flatMap(({ action, owner, fields }): AfterCheck[] => {
      const values = fields.flatMap((field) => this.#valueCheck(field));
      if (owner === undefined) return [...values, this.#reaches(action as string)];
      if (owner === null || owner !== this.#boundary.standing.userId) return [...values, ...this.#limitsAfter(action)];
      const ways = ['update', ...(action === undefined ? [] : [action])].map((a) => sqlText`(${this.#reachedBy(a, 'w', 'after')})`);
      return [...values, { sign: `reach ${this.#target.kind}`, holds: joinFragments(ways, ' or ') }];
    });
  }

  /** A handover ends the giver's reach, but limits bind the record as it becomes too. */
  #limitsAfter(action: string | undefined): AfterCheck[] {
    const { kind } = this.#target;
    if (action === undefined) return [];
    return [{ sign: `reach ${kind}`, holds: this.#boundary.unlimited(kind, action, 'w') }];
  }

  #insert(node: InsertQueryNode): Fragment {
    const made = node.values?.kind === 'SelectQueryNode' ? this.#selected(node, node.values as SelectQueryNode) : this.#listed(node);
    return sqlText`${made}${this.#onConflict(node)}`;
  }

  /** What a select brings, with what the library stamps beside it. */
  #selected(node: InsertQueryNode, rows: SelectQueryNode): Fragment {
    const given = (node.columns ?? []).map((column) => this.#fieldOf(column));
    const stamps = this.#stamps(given);
    for (const field of given) {
      if (Object.hasOwn(stamps, field)) this.#refuseStamped(field);
      if (this.#fields[field]?.role === 'owner') refuse('an owner that comes out of a select', 'leave it out: what you make is yours; hand it over afterwards');
    }
    const columns = [...given, ...Object.keys(stamps)].map((field) => name(this.#columnOf(field)));
    const stamped = Object.values(stamps).map((value): SelectionNode => ({ kind: 'SelectionNode', selection: ValueNode.create(value) as never }));
    const into = sqlText`insert into ${this.#table} as ${name(this.#target.alias)} (${joinFragments(columns, ', ')})`;
    const narrowed = this.#narrow(rows);
    if (this.#boundary.writer.writesInside && !rows.setOperations?.length)
      return sqlText`${into} ${new Embedded({ ...narrowed, selections: [...(narrowed.selections ?? []), ...stamped] } as SelectQueryNode)}`;
    const values = [verbatim('"lintel_rows".*'), ...Object.values(stamps).map((value) => sqlText`${value}`)];
    // A select followed by "on conflict" needs a condition in between, or SQLite takes it for a join.
    return sqlText`${into} select ${joinFragments(values, ', ')} from (${new Embedded(narrowed)}) as "lintel_rows" where true`;
  }

  /** What happens to a row that is there already: nothing, or an update of those that the writer reaches. */
  #onConflict(node: InsertQueryNode): Fragment {
    const conflict = node.onConflict;
    if (!conflict) return verbatim('');
    if (conflict.constraint || conflict.indexExpression || conflict.indexWhere) refuse('a conflict that is not named by its columns', 'name the columns');
    const columns = (conflict.columns ?? []).map((column) => name(this.#columnOf(this.#fieldOf(column))));
    const target = columns.length === 0 ? verbatim('') : sqlText` (${joinFragments(columns, ', ')})`;
    if (conflict.doNothing) return sqlText` on conflict${target} do nothing`;
    const update = this.#asUpdate(conflict);
    const own = conflict.updateWhere ? this.#conditions(conflict.updateWhere.where, true) : [];
    const before = this.#changed(update).map((change) => this.#before(change, this.#target.alias));
    return sqlText` on conflict${target} do update set ${this.#sets(update, true)} where ${joinFragments([...own, ...before], ' and ')}`;
  }

  #columnOf(field: string): string {
    return this.#boundary.shape(this.#target.kind).fields[field]?.column as string;
  }

  /** The update that an upsert may come to. */
  #asUpdate(conflict: OnConflictNode): UpdateQueryNode {
    const update = { kind: 'UpdateQueryNode', updates: conflict.updates ?? [] } as unknown as UpdateQueryNode;
    if ((conflict.updates ?? []).some(({ column }) => this.#fields[this.#fieldOf(column)]?.role === 'owner'))
      refuse('a new owner in an upsert', 'hand the record over in a statement of its own');
    return update;
  }

  #listed(node: InsertQueryNode): Fragment {
    const { columns, rows } = this.#stamped(node);
    return sqlText`insert into ${this.#table} as ${name(this.#target.alias)} (${joinFragments(
      columns.map((c) => name(c)),
      ', ',
    )}) values ${joinFragments(
      rows.map((row) => sqlText`(${joinFragments(row, ', ')})`),
      ', ',
    )}`;
  }

  /** The rows to insert, with tenant and maker as they must be and the writer as owner where none is named. */
  #stamped(node: InsertQueryNode): { columns: string[]; rows: Fragment[][] } {
    const given = (node.columns ?? []).map((column) => this.#fieldOf(column));
    const stamps = this.#stamps(given);
    const kept = given.map((field, i) => ({ field, i })).filter(({ field }) => !Object.hasOwn(stamps, field));
    const rows = this.#rows(node).map((cells) => {
      given.forEach((field, i) => {
        this.#insistOnType(field, cells[i]);
      });
      given.forEach((field, i) => {
        const value = constant(cells[i]);
        if (!Object.hasOwn(stamps, field) || cells[i]?.kind === 'DefaultInsertValueNode' || (value !== undefined && String(value) === String(stamps[field])))
          return;
        this.#refuseStamped(field);
      });
      return [
        ...kept.map(({ i }) =>
          cells[i]?.kind === 'DefaultInsertValueNode' ? this.#boundary.writer.unset : sqlText`${new Embedded(this.#narrow(cells[i] as OperationNode))}`,
        ),
        ...Object.values(stamps).map((value) => sqlText`${value}`),
      ];
    });
    const columns = [...kept.map(({ field }) => field), ...Object.keys(stamps)].map((field) => this.#columnOf(field));
    return { columns, rows };
  }

  /** Tenant and maker as they must be, and the writer as owner where none is named. */
  #stamps(given: readonly string[]): Record<string, unknown> {
    const { userId, facts } = this.#boundary.standing;
    const stamps: Record<string, unknown> = {};
    for (const [field, { role }] of Object.entries(this.#fields)) {
      if (role === 'tenant') stamps[field] = facts.tenant.id;
      if (role === 'maker') stamps[field] = userId ?? null;
      if (role === 'owner' && !given.includes(field)) stamps[field] = userId ?? null;
    }
    return stamps;
  }

  #refuseStamped(field: string): never {
    throw new LintelError('field-set-by-library', `${field} of a ${this.#target.kind} is set by the library to what it must be; leave it out of the insert`, {
      field,
    });
  }

  #rows(node: InsertQueryNode): OperationNode[][] {
    if (node.values?.kind === 'SelectQueryNode') return [];
    if (node.values?.kind !== 'ValuesNode') return refuse('an insert that is neither of values nor of a select', 'insert the values');
    const owner = (node.columns ?? []).findIndex((column) => this.#fields[this.#fieldOf(column)]?.role === 'owner');
    return (node.values as ValuesNode).values.map((row) => {
      const cells =
        row.kind === 'PrimitiveValueListNode'
          ? (row as PrimitiveValueListNode).values.map((value) => ValueNode.create(value))
          : [...(row as ValueListNode).values];
      // One of several rows that names no owner is the writer's, as it would be alone.
      return cells.map((cell, i) => (i === owner && cell.kind === 'DefaultInsertValueNode' ? ValueNode.create(this.#boundary.standing.userId ?? null) : cell));
    });
  }

  /** An upsert cannot tell which it was: what it made or changed has to be within reach of making and of changing. */
  #insertChecks(): AfterCheck[] {
    const { onConflict } = this.#node as InsertQueryNode;
    return [...this.#making(), ...(onConflict?.updates ? this.#updateChecks(this.#asUpdate(onConflict)) : [])];
  }

  #making(): AfterCheck[] {
    const { kind } = this.#target;
    const given = ((this.#node as InsertQueryNode).columns ?? []).map((column) => this.#fieldOf(column));
    const guards = given.flatMap((field): AfterCheck[] => {
      const { role, change } = this.#fields[field] as FieldData;
      if (change === undefined && role !== 'owner') return [];
      const column = this.#column(field);
      const needless = role === 'owner' ? sqlText`${column} is null or ${column} = ${this.#boundary.standing.userId ?? null}` : sqlText`${column} is null`;
      const allowed = change === undefined ? verbatim('false') : this.#boundary.reached(kind, change, 'w', 'after');
      return [{ sign: `guard ${kind} ${field}`, holds: sqlText`${needless} or (${allowed})` }];
    });
    return [...given.flatMap((field) => this.#valueCheck(field)), ...guards, this.#reaches('create')];
  }

  /** A parent, unit, group or person that is written must be one that there is for the writer; an owner must be able to read what they get. */
  #valueCheck(field: string): AfterCheck[] {
    const { kind } = this.#target;
    const { role, to } = this.#fields[field] as FieldData;
    const { standing, writer, support } = this.#boundary;
    const column = this.#column(field);
    const sign = `value ${kind} ${field}`;
    if (isRegistered(role)) return [{ sign, holds: sqlText`${column} is null or ${this.#exists(role, field)}` }];
    if (role === 'parent') {
      return [{ sign, holds: sqlText`${column} is null or ${this.#boundary.parentReadable(kind, field, to as string, 'w')}` }];
    }
    if (role !== 'owner') return [];
    const others = [...this.#named.owners].map(([id, them]) => {
      // Their rule is not the one that policies let through: it looks at other tables as they are, or finds nothing there.
      const reads = them ? new Boundary(them, support, writer).reached(kind, 'read', 'w') : verbatim('false');
      const member = support.conditions?.person(column) ?? verbatim(them ? 'true' : 'false');
      return sqlText`(${column} = ${id} and ${member} and ${reads})`;
    });
    const me = sqlText`${column} is null or ${column} = ${standing.userId ?? null}`;
    return [{ sign, holds: joinFragments([me, ...others], ' or ') }];
  }

  /** The person, unit or group that a field names is there for the tenant. */
  #exists(what: Registered, field: string): Fragment {
    const { support, writer } = this.#boundary;
    if (support.conditions) return support.conditions[what](this.#column(field));
    return writer.writeList(this.#column(field), this.#named.existing?.[what] ?? [], this.#boundary.shape(this.#target.kind).fields[field] as FieldShape);
  }

  /** The ids that are written, by what their field is. Those of people, units and groups only where they have to be known beforehand. */
  given(): Readonly<Record<'owner' | Registered, ReadonlySet<string>>> {
    const ids = { owner: new Set<string>(), person: new Set<string>(), unit: new Set<string>(), group: new Set<string>() };
    const add = (field: string, value: OperationNode | undefined) => {
      const role = this.#fields[field]?.role;
      if (role !== 'owner' && (this.#boundary.support.conditions || !isRegistered(role))) return;
      const id = this.#constantId(field, value);
      if (id !== null) ids[role].add(id);
    };
    const node = this.#node;
    if (node.kind === 'UpdateQueryNode') for (const { column, value } of node.updates ?? []) add(this.#fieldOf(column), value);
    else if (node.kind === 'InsertQueryNode') {
      const fields = (node.columns ?? []).map((column) => this.#fieldOf(column));
      for (const row of this.#rows(node))
        fields.forEach((field, i) => {
          if (row[i]?.kind !== 'DefaultInsertValueNode') add(field, row[i]);
        });
    }
    return ids;
  }

  #constantId(field: string, node: OperationNode | undefined): string | null {
    const value = constant(node);
    if (value === null || typeof value === 'string') return value;
    if (typeof value === 'number') return String(value);
    return refuse(`a value of ${field} that is not plain`, 'give the id itself');
  }
}

/** One action that an update needs, with the fields that need it. */
interface Change {
  readonly action: string | undefined;
  readonly fields: readonly string[];
  /** Set when this is a change of the owner: the new one. */
  readonly owner?: string | null;
}

function constant(node: OperationNode | undefined): unknown {
  return node && ValueNode.is(node) ? node.value : undefined;
}
