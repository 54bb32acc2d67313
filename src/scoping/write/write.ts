import type {
  ColumnUpdateNode,
  DeleteQueryNode,
  InsertQueryNode,
  OnConflictNode,
  OperationNode,
  RawNode,
  SelectQueryNode,
  UpdateQueryNode,
  WithNode,
} from 'kysely';
import { PREPARED } from '../../base/index.js';
import { throwIfRefused } from '../../standing/index.js';
import type { Boundary } from '../boundary.js';
import { Embedded, type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { type Actions, BEFORE, putDown, putSeen, sayWho, seenOf } from '../journal/put.js';
import { Narrower } from '../narrow/narrow.js';
import type { Level, Source } from '../narrow/sources.js';
import { refuse } from '../read/refuse.js';
import { type AfterCheck, failedOf, failing, failOn, fitCheck, makingChecks, type Named, NOBODY, updateChecks } from './checks.js';
import { fitting } from './fitting.js';
import { MET, meets, metBefore, metRows } from './met.js';
import { allBefore, constant, type Need, needsOf } from './needs.js';
import { cellsBeside, givenFields, refuseStamped, rowsOf, stampsFor } from './rows.js';
import { COUNT, type JournalSteps, ROW, type WriteSteps } from './steps.js';
import { Target, WRITTEN, type WriteNode } from './target.js';
import { type Conflict, type Listed, upsertSteps } from './upsert.js';

/** By which actions something is changed; to take what nobody owns is an ordinary change. */
const namesOf = (needs: readonly Need[]) => needs.map(({ action }) => action ?? 'update');

/** What a statement writes, looked through and narrowed. */
interface Body {
  /** `insert into ...` whole; or what comes before `where`. */
  readonly head: Fragment;
  /** The rows that it reaches, as they are before. Absent for an insert. */
  readonly reached?: Fragment;
  /** Of these what does not depend on what the statement asks, under whatever name the table has. */
  readonly within?: (alias: string) => Fragment;
  /** The actions by which it is done. */
  readonly actions: Actions;
  /** Of an upsert, the rows that are there already. */
  readonly met?: Fragment;
  /** An upsert, where a database takes none that asks first. */
  readonly upsert?: WriteSteps['upsert'];
  readonly checks: (named: Named) => AfterCheck[];
}

/**
 * A write that was {@link readQuery | read}, narrowed: to rows that the needed actions reach, with a check of every row as it became, and the returned rows
 * narrowed to what the writer may read of them. It is narrowed once, and written for what is known of those whom it names.
 */
export class Write {
  readonly #target: Target;
  readonly #narrower: Narrower;
  readonly #ctes: WithNode | undefined;
  readonly #isDelete: boolean;
  readonly #body: Body;
  readonly #returned: readonly Fragment[] | undefined;

  /** @throws LintelError `scope-refused`, `unknown-table`, `unknown-column`, `bad-value`, `field-set-by-library`. */
  constructor(boundary: Boundary, node: WriteNode) {
    this.#target = new Target(boundary, node);
    this.#narrower = new Narrower(boundary);
    this.#ctes = node.with;
    this.#isDelete = node.kind === 'DeleteQueryNode';
    if (node.with && !boundary.writer.answersWrites) refuse('a write that begins with other queries, in this database', 'read first, and give the values');
    if (node.with) this.#narrower.before(node.with);
    this.#body = node.kind === 'InsertQueryNode' ? this.#insert(node) : node.kind === 'UpdateQueryNode' ? this.#update(node) : this.#delete(node);
    this.#returned = node.returning && this.#selected(node.returning.selections.map(({ selection }) => selection as OperationNode));
    this.#narrower.finish();
  }

  get #boundary(): Boundary {
    return this.#target.boundary;
  }

  /** Every column of the table, by names of its own: the statement may call it otherwise. */
  get #columns(): Fragment[] {
    const { kind, alias } = this.#target;
    return this.#boundary.columnFields(kind).map(([, shape]) => name(alias, shape.column));
  }

  /** One statement, so that it holds or fails as a whole, in a transaction or out of one. */
  statement(named: Named = NOBODY): RawNode {
    const { kind, alias } = this.#target;
    const { met } = this.#body;
    const isKept = this.#target.isJournaled;
    const said = isKept && this.#target.isTriggered ? sayWho(this.#boundary, this.#body.actions) : undefined;
    // guard journal-met-row by looks: A row that was there would be told as made.
    const checks = [...this.#body.checks(named), ...(isKept && met ? /* guard journal-met-row */ [metBefore(this.#target)] : [])];
    const readable = this.#boundary.readable(kind, undefined, verbatim('"lintel_written"'), [verbatim(`true as "${ROW}"`)]);
    const returned = (this.#returned ?? []).map((item) => sqlText`${item}, `);
    const written = joinFragments([...this.#columns, ...(isKept && met ? [verbatim(`xmax <> 0 as "${MET}"`)] : [])], ', ');
    return sqlText`with ${this.#ahead}${isKept ? this.#lookedAtBefore() : verbatim('')}"lintel_written" as (${isKept && this.#reads ? this.#textOfRead() : this.#text()} returning ${written}), ${isKept ? sqlText`"lintel_put" as (${this.#put()}), ` : verbatim('')}"lintel_checked" as (select count(*) as "${verbatim(COUNT)}", coalesce(sum(${failOn(this.#target, checks)}), 0) as "lintelfailed"${said ? sqlText`, ${said}` : verbatim('')} from "lintel_written" as "${verbatim(WRITTEN)}") select ${joinFragments(returned, '')}"${verbatim(COUNT)}", "${verbatim(ROW)}" from "lintel_checked" left join ${readable} as ${name(alias)} on "lintelfailed" = 0${verbatim(said ? ' and "lintelsaid" is not null' : '')}${verbatim(isKept && this.#reads ? PREPARED : '')}`.toNode();
  }

  steps(named: Named = NOBODY): WriteSteps {
    const { kind, alias, shape, table } = this.#target;
    const checks = this.#body.checks(named);
    const id = shape.fields[shape.idField] as NonNullable<(typeof shape.fields)[string]>;
    // What has its tenant through another is in none until it is checked; its id is unique by itself.
    // guard written-through-parent-seen by agree: A written row whose parent is of no tenant would not be checked.
    const here = (at: string) =>
      shape.throughField === undefined ? sqlText`${this.#boundary.tenant(kind, at)} and ` : /* guard written-through-parent-seen */ verbatim('');
    const of = (ids: readonly unknown[], at: string) => sqlText`${here(at)}${this.#boundary.writer.writeList(name(at, id.column), ids, id)}`;
    const returned = (ids: readonly unknown[]) => {
      const readable = this.#boundary.readable(kind, undefined, table, [verbatim(`true as "${ROW}"`)]);
      const items = (this.#returned ?? []).map((item) => sqlText`${item}, `);
      return sqlText`${this.#leading}select ${joinFragments(items, '')}"${verbatim(ROW)}" from ${readable} as ${name(alias)} where ${of(ids, alias)}`.toNode();
    };
    const { reached, within, upsert } = this.#body;
    const { writer } = this.#boundary;
    const lintelId = sqlText`${name(id.column)} as "lintelid"`;
    const own = this.#isDelete && !writer.answersWrites ? shape.table : alias;
    const isCounted = within !== undefined && !writer.answersWrites;
    return {
      ...(reached && {
        reached: sqlText`${this.#leading}select ${lintelId} from ${table} as ${name(alias)} where ${reached}${writer.lock(alias)}`.toNode(),
      }),
      ...(this.#returned && { [this.#isDelete ? 'leaving' : 'returned']: returned }),
      write: (ids) =>
        isCounted
          ? sqlText`${this.#text(sqlText`${of(ids, own)} and ${within(own)}`)}`.toNode()
          : sqlText`${this.#leading}${this.#text(reached && of(ids, alias))} returning ${lintelId}`.toNode(),
      isCounted,
      ...(checks.length > 0 && {
        failed: (ids: readonly unknown[]) =>
          sqlText`select ${failedOf(checks)} as "lintelfailed" from ${table} as ${name(WRITTEN)} where ${of(ids, WRITTEN)}`.toNode(),
        ...(!writer.answersWrites && { failing: (ids: readonly unknown[]) => failing(this.#target, checks, of(ids, WRITTEN)).toNode() }),
      }),
      ...(this.#target.isJournaled && { journal: this.#journalSteps(of) }),
      ...(upsert && { upsert }),
    };
  }

  #journalSteps(of: (ids: readonly unknown[], at: string) => Fragment): JournalSteps {
    const { kind, alias, table } = this.#target;
    const { actions, met, reached, upsert } = this.#body;
    const boundary = this.#boundary;
    const seen = (by: readonly string[], where: Fragment) =>
      sqlText`select ${seenOf(boundary, kind, by, alias)} from ${table} as ${name(alias)} where ${where}${boundary.writer.lock(alias)}`.toNode();
    return {
      ...((reached || upsert) && { before: (ids: readonly unknown[]) => seen(actions.changing, of(ids, alias)) }),
      ...(met && !upsert && { before: () => seen(actions.changing, met) }),
      ...(!this.#isDelete && { after: (ids: readonly unknown[]) => seen(reached ? actions.changing : actions.making, of(ids, alias)) }),
      put: (before, after) => putSeen(boundary, kind, actions, before, after)?.toNode(),
    };
  }

  /** The write itself, on the rows that it reaches, unless they were found out before. */
  #text(rows = this.#body.reached): Fragment {
    return rows ? sqlText`${this.#body.head} where ${rows}` : this.#body.head;
  }

  /** True for an update: what it writes it has locked and read before. */
  get #reads(): boolean {
    return this.#body.reached !== undefined && !this.#isDelete;
  }

  /** The rows as they are before, locked, in front of the write. */
  #lookedAtBefore(): Fragment {
    const { alias, table } = this.#target;
    const rows = this.#reads ? this.#body.reached : this.#body.met;
    if (rows === undefined) return verbatim('');
    // guard journal-locks-before by looks: The journal could tell of a row as it was before another write.
    return sqlText`${name(BEFORE)} as materialized (select ${joinFragments(this.#columns, ', ')} from ${table} as ${name(alias)} where ${rows}${/* guard journal-locks-before */ sqlText` for no key update of ${name(alias)}`}), `;
  }

  /** Only what was read. */
  #textOfRead(): Fragment {
    const { shape, alias } = this.#target;
    const id = this.#target.columnOf(shape.idField);
    return sqlText`${this.#text()} and ${name(alias, id)} in (select ${name(id)} from ${name(BEFORE)})`;
  }

  #put(): Fragment {
    const { kind, shape } = this.#target;
    const { actions, met } = this.#body;
    const written = sqlText`"lintel_written" as ${name(WRITTEN)}`;
    if (this.#isDelete) return putDown(this.#boundary, { kind, actions, before: WRITTEN, from: written });
    if (!this.#reads && !met) return putDown(this.#boundary, { kind, actions, after: WRITTEN, from: written });
    const id = this.#target.columnOf(shape.idField);
    const from = sqlText`${written} left join ${name(BEFORE)} as "lintel_was" on ${name('lintel_was', id)} = ${name(WRITTEN, id)}`;
    return putDown(this.#boundary, { kind, actions, after: WRITTEN, before: 'lintel_was', from });
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

  #update(node: UpdateQueryNode): Body {
    const updates = node.updates ?? [];
    const needs = needsOf(this.#target, updates);
    const level = this.#narrower.level(this.#target.source(() => allBefore(this.#target, needs)));
    const { sets, fits } = this.#sets(updates, level);
    return {
      head: sqlText`update ${this.#target.table} as ${name(this.#target.alias)} set ${sets}`,
      reached: this.#reached(node.where?.where, needs, level),
      within: (alias) => allBefore(this.#target, needs, alias),
      actions: { making: [], changing: namesOf(needs) },
      checks: (named) => [...fits, ...updateChecks(this.#target, needs, named)],
    };
  }

  #delete(node: DeleteQueryNode): Body {
    const needs: Need[] = [{ action: 'delete', fields: [] }];
    const level = this.#narrower.level(this.#target.source(() => allBefore(this.#target, needs)));
    const { writer } = this.#boundary;
    return {
      head: writer.deleteFrom(this.#target.table, this.#target.alias),
      reached: this.#reached(node.where?.where, needs, level),
      within: (alias) => allBefore(this.#target, needs, alias),
      actions: { making: [], changing: ['delete'] },
      checks: () => [],
    };
  }

  #reached(where: OperationNode | undefined, needs: readonly Need[], level: Level): Fragment {
    const own = where ? [sqlText`(${new Embedded(this.#narrower.condition(where, level))})`] : [];
    return joinFragments([...own, allBefore(this.#target, needs)], ' and ');
  }

  /** What is set, of rows that were chosen already; and what has to be looked at when it is there. */
  #sets(updates: readonly ColumnUpdateNode[], level: Level): { readonly sets: Fragment; readonly fits: AfterCheck[] } {
    if (updates.length === 0) refuse('an update that sets nothing', 'name the columns to set');
    const fits: AfterCheck[] = [];
    const sets = updates.map(({ column, value }) => {
      const field = this.#target.fieldOf(column);
      fits.push(...this.#value(field, value, level));
      return sqlText`${this.#boundary.writer.columnToSet(this.#target.alias, this.#target.columnOf(field))} = ${new Embedded(value)}`;
    });
    return { sets: joinFragments(sets, ', '), fits };
  }

  #value(field: string, node: OperationNode, level: Level): AfterCheck[] {
    const value = constant(node);
    // The node is our own, and holds the value in its one spelling from here on.
    if (value !== undefined) Object.assign(node, { value: fitting(this.#target, field, value) });
    else this.#narrower.chosen(node, level);
    return value === undefined ? fitCheck(this.#target, field) : [];
  }

  #insert(node: InsertQueryNode): Body {
    const { kind } = this.#target;
    // Who may make none is told so in words, before anything is said of the rows.
    if (this.#boundary.declares(kind, 'create')) throwIfRefused(this.#boundary.standing.decide(`${kind}.create`));
    const given = givenFields(this.#target, node);
    const made = node.values?.kind === 'SelectQueryNode' ? this.#fromSelect(node.values as SelectQueryNode, given) : this.#listed(node, given);
    const conflict = node.onConflict && this.#onConflict(node.onConflict);
    const upserts = node.onConflict?.updates !== undefined && this.#target.isJournaled;
    const { answersWrites } = this.#boundary.writer;
    return {
      head: sqlText`${made.text}${answersWrites ? (conflict?.text ?? verbatim('')) : verbatim('')}`,
      actions: { making: ['create'], changing: conflict?.actions ?? [] },
      ...(conflict && !answersWrites && { upsert: upsertSteps(this.#target, made, meets(this.#target, node, given, 'in this database'), conflict) }),
      ...(upserts && { met: metRows(this.#target, node, given) }),
      // An upsert cannot tell which it was: what it made or changed has to be within reach of making and of changing.
      checks: (named) => [...made.fits, ...makingChecks(this.#target, given, named), ...(conflict?.checks(named) ?? [])],
    };
  }

  #into(fields: readonly string[]): Fragment {
    const columns = fields.map((field) => name(this.#target.columnOf(field)));
    return sqlText`${this.#boundary.writer.insertInto(this.#target.table, this.#target.alias)} (${joinFragments(columns, ', ')})`;
  }

  /** What a select brings, with what the library stamps beside it. */
  #fromSelect(rows: SelectQueryNode, given: readonly string[]): { readonly text: Fragment; readonly fits: AfterCheck[] } {
    const stamps = stampsFor(this.#target, given);
    for (const field of given) {
      if (Object.hasOwn(stamps, field)) refuseStamped(this.#target, field);
      if (this.#target.fields[field]?.role === 'owner')
        refuse('an owner that comes out of a select', 'leave it out: what you make is yours; hand it over afterwards');
    }
    const into = this.#into([...given, ...Object.keys(stamps)]);
    const fits = given.flatMap((field) => fitCheck(this.#target, field));
    const gives = this.#narrower.select(rows);
    if (gives && gives.length !== given.length) refuse(`a select of ${gives.length} columns for ${given.length}`, 'select one for each column');
    if (this.#boundary.writer.writesInside && !rows.setOperations?.length) {
      const stamped = Object.values(stamps).map((value) => ({ kind: 'SelectionNode', selection: { kind: 'ValueNode', value } }));
      Object.assign(rows, { selections: [...(rows.selections ?? []), ...stamped] });
      return { text: sqlText`${into} ${new Embedded(rows)}`, fits };
    }
    const values = [verbatim('"lintel_rows".*'), ...Object.values(stamps).map((value) => sqlText`${value}`)];
    // A select followed by "on conflict" needs a condition in between, or SQLite takes it for a join.
    return { text: sqlText`${into} select ${joinFragments(values, ', ')} from (${new Embedded(rows)}) as "lintel_rows" where true`, fits };
  }

  /** The rows to insert, with tenant and maker as they must be and the writer as owner where none is named. */
  #listed(node: InsertQueryNode, given: readonly string[]): Listed & { readonly fits: AfterCheck[] } {
    const stamps = stampsFor(this.#target, given);
    const { fields, cells } = cellsBeside(this.#target, rowsOf(this.#target, node), given, stamps);
    const level = this.#narrower.level();
    const fits = new Map<string, AfterCheck>();
    const rows = cells.map((row) => {
      const own = row.map((cell, i): Fragment => {
        if (!cell) return this.#boundary.writer.unset;
        for (const check of this.#value(fields[i] as string, cell, level)) fits.set(check.sign, check);
        return sqlText`${new Embedded(cell)}`;
      });
      return [...own, ...Object.values(stamps).map((value) => sqlText`${value}`)];
    });
    const all = [...fields, ...Object.keys(stamps)];
    const into = this.#into(all);
    const text = (some: readonly (readonly Fragment[])[]) =>
      sqlText`${into} values ${joinFragments(
        some.map((row) => sqlText`(${joinFragments(row, ', ')})`),
        ', ',
      )}`;
    return { text: text(rows), fits: [...fits.values()], fields: all, rows, some: (numbers) => text(numbers.map((i) => rows[i] as Fragment[])) };
  }

  /** What happens to a row that is there already: nothing, or an update of those that the writer reaches. */
  #onConflict(conflict: OnConflictNode): Pick<Body, 'checks'> & Conflict & { readonly text: Fragment; readonly actions: readonly string[] } {
    const columns = (conflict.columns ?? []).map((column) => name(this.#target.columnOf(this.#target.fieldOf(column))));
    const target = columns.length === 0 ? verbatim('') : sqlText` (${joinFragments(columns, ', ')})`;
    if (conflict.doNothing) return { text: sqlText` on conflict${target} do nothing`, actions: [], checks: () => [] };
    const updates = conflict.updates ?? [];
    if (updates.some(({ column }) => this.#target.fields[this.#target.fieldOf(column)]?.role === 'owner'))
      refuse('a new owner in an upsert', 'hand the record over in a statement of its own');
    const needs = needsOf(this.#target, updates);
    // What was about to be inserted is the writer's own.
    const excluded: Source = { alias: 'excluded', columns: this.#boundary.statics(this.#target.kind) };
    const level = this.#narrower.level(
      this.#target.source(() => allBefore(this.#target, needs)),
      excluded,
    );
    const { sets, fits } = this.#sets(updates, level);
    const where = this.#reached(conflict.updateWhere?.where, needs, level);
    // What is there is read before the first of it is written.
    // guard journal-reads-first by looks: The journal could tell of a row as it is after the write.
    const read =
      this.#target.isJournaled && this.#boundary.writer.writesInside
        ? /* guard journal-reads-first */ sqlText`(select count(*) from ${name(BEFORE)}) >= 0 and `
        : verbatim('');
    return {
      text: sqlText` on conflict${target} do update set ${sets} where ${read}${where}`,
      actions: namesOf(needs),
      change: { sets, where, within: allBefore(this.#target, needs) },
      checks: (named) => [...fits, ...updateChecks(this.#target, needs, named)],
    };
  }

  /** What is returned, of rows that the writer may read: one that they may not is no row here. */
  #selected(items: readonly OperationNode[]): Fragment[] {
    const { alias, kind } = this.#target;
    const isThere = () => sqlText`${name(alias, ROW)}`.toNode() as never;
    const level = this.#narrower.level({ alias, columns: this.#boundary.statics(kind), inReach: isThere });
    return items.flatMap((item): Fragment[] => {
      const { column, node, alias: as } = item as unknown as { column?: OperationNode; node?: OperationNode; alias?: OperationNode };
      if (item.kind === 'SelectAllNode' || column?.kind === 'SelectAllNode') return this.#columns;
      if (item.kind !== 'AliasNode') return [sqlText`${new Embedded(this.#narrower.value(item, level))}`];
      return [sqlText`${new Embedded(this.#narrower.value(node as OperationNode, level))} as ${new Embedded(as as OperationNode)}`];
    });
  }
}
