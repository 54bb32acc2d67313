import {
  AliasNode,
  type DeleteQueryNode,
  type IdentifierNode,
  type InsertQueryNode,
  type OperationNode,
  type PrimitiveValueListNode,
  type RawNode,
  ReferenceNode,
  type ReturningNode,
  SelectAllNode,
  TableNode,
  type UpdateQueryNode,
  type ValueListNode,
  ValueNode,
  type ValuesNode,
} from 'kysely';
import { LintelError } from '../base/index.js';
import type { FieldData } from '../charter/index.js';
import type { Standing } from '../standing/index.js';
import { Boundary } from './boundary.js';
import { Embedded, type Fragment, joinFragments, name, sqlText, verbatim } from './fragment.js';
import { insistOnFree, Narrower, refuse } from './narrow.js';
import { fieldOf, insistOnVisible, type Target } from './target.js';

export type WriteNode = InsertQueryNode | UpdateQueryNode | DeleteQueryNode;

/** A check on each row as it becomes; a row that fails makes the whole statement fail. */
interface AfterCheck {
  /** Comes back in the database's error, so that the cause can be told. */
  readonly sign: string;
  readonly holds: Fragment;
}

const WRITTEN = '"lintel_written"';
const MARK = 'lintel:';

/** A column of the result that carries our count, and one that tells a real row from none. */
export const COUNT = 'lintelcount';
export const ROW = 'lintelrow';

/** People other than the writer to whom a statement gives records: each must be able to read what they get. */
export function newOwners(node: WriteNode, boundary: Boundary): string[] {
  if (node.kind === 'DeleteQueryNode') return [];
  const writer = new WriteWriter(boundary, node, new Map());
  return [...new Set(writer.ownersGiven())].filter((id) => id !== boundary.standing.userId);
}

/**
 * The statement that stands for a write: the write itself narrowed to rows that the needed actions reach, a check of every
 * row as it became, and the returned rows narrowed to what the writer may read of them. One statement, so that it holds
 * or fails as a whole, in a transaction or out of one.
 */
export function planWrite(node: WriteNode, boundary: Boundary, owners: ReadonlyMap<string, Standing | undefined>): RawNode {
  return new WriteWriter(boundary, node, owners).write().toNode();
}

/** Reads which check failed out of the database's error, or answers undefined when it was another error. */
export function failedCheck(error: unknown): LintelError | undefined {
  const sign = error instanceof Error ? /"lintel:([\w ]+):/.exec(error.message)?.[1] : undefined;
  if (sign === undefined) return undefined;
  const [cause, kind, field] = sign.split(' ');
  if (cause === 'reach')
    return new LintelError('write-out-of-reach', `the ${kind} as it would become is out of your reach; nothing was written`, { kind }, { cause: error });
  if (cause === 'guard')
    return new LintelError(
      'guarded-field',
      `to set ${field} of a new ${kind} takes an action that you do not have on it; nothing was written`,
      { kind, field },
      { cause: error },
    );
  return new LintelError(
    'no-such-value',
    `${field} of the ${kind} names nothing that there is for you; nothing was written`,
    { kind, field },
    { cause: error },
  );
}

class WriteWriter {
  readonly #boundary: Boundary;
  readonly #node: WriteNode;
  readonly #owners: ReadonlyMap<string, Standing | undefined>;
  readonly #target: Target;
  readonly #narrower: Narrower;

  constructor(boundary: Boundary, node: WriteNode, owners: ReadonlyMap<string, Standing | undefined>) {
    this.#boundary = boundary;
    this.#node = node;
    this.#owners = owners;
    this.#narrower = new Narrower(boundary);
    this.#target = this.#findTarget();
  }

  get #fields(): Readonly<Record<string, FieldData>> {
    return this.#boundary.standing.charter.kind(this.#target.kind).fields;
  }

  #findTarget(): Target {
    const node = this.#node;
    const place = node.kind === 'InsertQueryNode' ? node.into : node.kind === 'UpdateQueryNode' ? node.table : node.from.froms[0];
    const refusedParts = [
      'with',
      'explain',
      'endModifiers',
      'limit',
      'orderBy',
      'top',
      'output',
      'joins',
      'using',
      'onConflict',
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
    const node = this.#node;
    const table = this.#boundary.writer.table(this.#boundary.shape(kind));
    const statement =
      node.kind === 'InsertQueryNode' ? this.#insert(node, table) : node.kind === 'UpdateQueryNode' ? this.#update(node, table) : this.#delete(node, table);
    const checks = node.kind === 'InsertQueryNode' ? this.#insertChecks() : node.kind === 'UpdateQueryNode' ? this.#updateChecks(node) : [];
    const readable = this.#boundary.readable(kind, undefined, verbatim(WRITTEN), [verbatim(`true as "${ROW}"`)]);
    return sqlText`with "lintel_written" as (${statement} returning *), "lintel_checked" as (select count(*) as "${verbatim(COUNT)}", coalesce(sum(${this.#failOn(checks)}), 0) as "lintelfailed" from "lintel_written" as "w") select ${this.#returned(node.returning)}"${verbatim(COUNT)}", "${verbatim(ROW)}" from "lintel_checked" left join ${readable} as ${name(alias)} on "lintelfailed" = 0`;
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
    return { sign: `reach ${this.#target.kind}`, holds: this.#boundary.reached(this.#target.kind, action, 'w') };
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

  #delete(node: DeleteQueryNode, table: Fragment): Fragment {
    const { kind, alias } = this.#target;
    return sqlText`delete from ${table} as ${name(alias)} where ${this.#where(node)}${this.#boundary.reached(kind, 'delete', alias)}`;
  }

  #insistOnVisible(node: OperationNode): void {
    insistOnVisible(node, this.#target, this.#boundary);
  }

  #where(node: UpdateQueryNode | DeleteQueryNode): Fragment {
    if (!node.where) return verbatim('');
    this.#insistOnVisible(node.where.where);
    return sqlText`(${new Embedded(this.#narrow(node.where.where))}) and `;
  }

  #update(node: UpdateQueryNode, table: Fragment): Fragment {
    const { alias } = this.#target;
    const sets = (node.updates ?? []).map((update) => {
      this.#insistOnVisible(update.value);
      const { column } = this.#boundary.shape(this.#target.kind).fields[this.#fieldOf(update.column)] as { column: string };
      return sqlText`${name(column)} = ${new Embedded(this.#narrow(update.value))}`;
    });
    if (sets.length === 0) refuse('an update that sets nothing', 'name the columns to set');
    const before = this.#changed(node).map((change) => this.#before(change, alias));
    return sqlText`update ${table} as ${name(alias)} set ${joinFragments(sets, ', ')} where ${this.#where(node)}${joinFragments(before, ' and ')}`;
  }

  /** The actions that an update needs, one for each guarded field and `update` for the rest. A column that is set counts as changed. */
  #changed(node: UpdateQueryNode): Change[] {
    const fields = (node.updates ?? []).map((update) => ({ field: this.#fieldOf(update.column), value: update.value }));
    const owner = fields.find(({ field }) => this.#fields[field]?.role === 'owner');
    if (owner) {
      if (fields.length > 1) refuse('a new owner together with other changes', 'hand the record over in a statement of its own');
      return [{ action: this.#fields[owner.field]?.change, owner: this.#constantOwner(owner.value), fields: [owner.field] }];
    }
    const byAction = new Map<string, string[]>();
    for (const { field } of fields) {
      const data = this.#fields[field] as FieldData;
      if (data.role === 'id' || data.role === 'tenant' || data.role === 'maker') {
        throw new LintelError('field-set-by-library', `${field} of a ${this.#target.kind} never changes; leave it out of the update`, { field });
      }
      if ((data.role === 'unit' || data.role === 'parent') && data.change === undefined) {
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
  #reachedBy(action: string, alias: string): Fragment {
    const { kind } = this.#target;
    return this.#boundary.declares(kind, action) ? this.#boundary.reached(kind, action, alias) : verbatim('false');
  }

  #updateChecks(node: UpdateQueryNode): AfterCheck[] {
    return this.#changed(node).flatMap(({ action, owner, fields }): AfterCheck[] => {
      const values = fields.flatMap((field) => this.#valueCheck(field));
      if (owner === undefined) return [...values, this.#reaches(action as string)];
      if (owner === null || owner !== this.#boundary.standing.userId) return [...values, ...this.#limitsAfter(action)];
      const ways = ['update', ...(action === undefined ? [] : [action])].map((a) => sqlText`(${this.#reachedBy(a, 'w')})`);
      return [...values, { sign: `reach ${this.#target.kind}`, holds: joinFragments(ways, ' or ') }];
    });
  }

  /** A handover ends the giver's reach, but limits bind the record as it becomes too. */
  #limitsAfter(action: string | undefined): AfterCheck[] {
    const { kind } = this.#target;
    if (action === undefined) return [];
    const holds = this.#boundary.limited(kind, action, 'w');
    return [{ sign: `reach ${kind}`, holds: sqlText`not (${holds})` }];
  }

  #insert(node: InsertQueryNode, table: Fragment): Fragment {
    const { columns, rows } = this.#stamped(node);
    return sqlText`insert into ${table} (${joinFragments(
      columns.map((c) => name(c)),
      ', ',
    )}) values ${joinFragments(
      rows.map((row) => sqlText`(${joinFragments(row, ', ')})`),
      ', ',
    )}`;
  }

  /** The rows to insert, with tenant and maker as they must be and the writer as owner where none is named. */
  #stamped(node: InsertQueryNode): { columns: string[]; rows: Fragment[][] } {
    const { userId, facts } = this.#boundary.standing;
    const shape = this.#boundary.shape(this.#target.kind);
    const given = (node.columns ?? []).map((column) => this.#fieldOf(column));
    const stamps: Record<string, unknown> = {};
    for (const [field, { role }] of Object.entries(this.#fields)) {
      if (role === 'tenant') stamps[field] = facts.tenant.id;
      if (role === 'maker') stamps[field] = userId ?? null;
      if (role === 'owner' && !given.includes(field)) stamps[field] = userId ?? null;
    }
    const kept = given.map((field, i) => ({ field, i })).filter(({ field }) => !Object.hasOwn(stamps, field));
    const rows = this.#rows(node).map((cells) => {
      given.forEach((field, i) => {
        const value = constant(cells[i]);
        if (!Object.hasOwn(stamps, field) || cells[i]?.kind === 'DefaultInsertValueNode' || (value !== undefined && String(value) === String(stamps[field])))
          return;
        throw new LintelError(
          'field-set-by-library',
          `${field} of a ${this.#target.kind} is set by the library to what it must be; leave it out of the insert`,
          { field },
        );
      });
      return [
        ...kept.map(({ i }) =>
          cells[i]?.kind === 'DefaultInsertValueNode' ? verbatim('default') : sqlText`${new Embedded(this.#narrow(cells[i] as OperationNode))}`,
        ),
        ...Object.values(stamps).map((value) => sqlText`${value}`),
      ];
    });
    const columns = [...kept.map(({ field }) => field), ...Object.keys(stamps)].map((field) => shape.fields[field]?.column as string);
    return { columns, rows };
  }

  #rows(node: InsertQueryNode): OperationNode[][] {
    if (node.values?.kind !== 'ValuesNode') return refuse('an insert that is not of values', 'read first, then insert the values');
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

  #insertChecks(): AfterCheck[] {
    const { kind } = this.#target;
    const given = ((this.#node as InsertQueryNode).columns ?? []).map((column) => this.#fieldOf(column));
    const guards = given.flatMap((field): AfterCheck[] => {
      const { role, change } = this.#fields[field] as FieldData;
      if (change === undefined && role !== 'owner') return [];
      const column = this.#column(field);
      const needless = role === 'owner' ? sqlText`${column} is null or ${column} = ${this.#boundary.standing.userId ?? null}` : sqlText`${column} is null`;
      const allowed = change === undefined ? verbatim('false') : this.#boundary.reached(kind, change, 'w');
      return [{ sign: `guard ${kind} ${field}`, holds: sqlText`${needless} or (${allowed})` }];
    });
    return [...given.flatMap((field) => this.#valueCheck(field)), ...guards, this.#reaches('create')];
  }

  /** A parent, unit or person that is written must be one that there is for the writer; an owner must be able to read what they get. */
  #valueCheck(field: string): AfterCheck[] {
    const { kind } = this.#target;
    const { role, to } = this.#fields[field] as FieldData;
    const { standing, writer, support } = this.#boundary;
    const column = this.#column(field);
    const sign = `value ${kind} ${field}`;
    if (role === 'unit') return [{ sign, holds: sqlText`${column} is null or ${support.isUnit(column)}` }];
    if (role === 'parent') {
      const where = standing.reachOf(`${to}.read`);
      return [{ sign, holds: sqlText`${column} is null or ${writer.condition({ op: 'parent', via: field, where }, kind, 'w')}` }];
    }
    if (role === 'person') return [{ sign, holds: sqlText`${column} is null or ${support.isMember(column)}` }];
    if (role !== 'owner') return [];
    const others = [...this.#owners].map(([id, them]) => {
      const reads = them ? new Boundary(them, support).reached(kind, 'read', 'w') : verbatim('false');
      return sqlText`(${column} = ${id} and ${support.isMember(column)} and ${reads})`;
    });
    const me = sqlText`${column} is null or ${column} = ${standing.userId ?? null}`;
    return [{ sign, holds: joinFragments([me, ...others], ' or ') }];
  }

  ownersGiven(): string[] {
    const node = this.#node;
    const ids: (string | null)[] = [];
    if (node.kind === 'UpdateQueryNode') {
      for (const { owner } of this.#changed(node)) if (owner !== undefined) ids.push(owner);
    } else if (node.kind === 'InsertQueryNode') {
      const at = (node.columns ?? []).findIndex((column) => this.#fields[this.#fieldOf(column)]?.role === 'owner');
      if (at >= 0) for (const row of this.#rows(node)) ids.push(this.#constantOwner(row[at]));
    }
    return ids.filter((id) => id !== null);
  }

  #constantOwner(node: OperationNode | undefined): string | null {
    const value = constant(node);
    if (value === null || typeof value === 'string') return value;
    if (typeof value === 'number') return String(value);
    return refuse('an owner that is not a plain value', 'give the id of the new owner');
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
