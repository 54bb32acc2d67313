import type { ColumnNode, DeleteQueryNode, IdentifierNode, InsertQueryNode, OperationNode, ReferenceNode, TableNode, UpdateQueryNode } from 'kysely';
import { didYouMean, LintelError } from '../../base/index.js';
import type { FieldData } from '../../charter/index.js';
import type { FieldShape, KindShape, Scalar } from '../../predicate/index.js';
import type { Boundary } from '../boundary.js';
import { type Fragment, verbatim } from '../fragment.js';
import type { Source } from '../narrow/sources.js';
import { insistOnFree, refuse } from '../read/refuse.js';

export type WriteNode = InsertQueryNode | UpdateQueryNode | DeleteQueryNode;

/** What the rows are called while they are looked at as they became. */
export const WRITTEN = 'w';

/** The table that a write is made to. */
export class Target {
  readonly boundary: Boundary;
  readonly kind: string;
  /** What the statement calls it. */
  readonly alias: string;

  /** @throws LintelError `scope-refused`, `unknown-table`. */
  constructor(boundary: Boundary, node: WriteNode) {
    if (!boundary.writable) refuse('a write over several tenants', 'enter the one that it is for');
    const [place, another] = node.kind === 'InsertQueryNode' ? [node.into] : node.kind === 'UpdateQueryNode' ? [node.table] : node.from.froms;
    if (another) refuse('a write to several tables', 'write to one');
    const { node: inside, alias } = place as unknown as { node?: TableNode; alias?: IdentifierNode };
    const { table } = inside ?? (place as TableNode);
    this.boundary = boundary;
    this.kind = boundary.insistOnKind(table);
    this.alias = alias?.name ?? table.identifier.name;
    if (alias) insistOnFree(this.alias);
    if (boundary.standing.charter.kind(this.kind).shared) refuse(`a write to ${this.kind}, which is shared by all tenants`, 'only the platform writes it');
  }

  /** What is written to it is put down with it; under the row policies triggers do that. @throws LintelError `scope-refused` where there are none. */
  get isJournaled(): boolean {
    if (this.boundary.standing.charter.kind(this.kind).journal === undefined) return false;
    if (!this.boundary.isWalled) return true;
    if (!this.isTriggered)
      refuse(
        `a write to ${this.kind}, which has a journal, under the row policies`,
        'run the statements that `lintel policies --journal` prints, and start again',
      );
    return false;
  }

  /** Triggers put down what is written to it, as far as is known. */
  get isTriggered(): boolean {
    return this.boundary.support.triggered?.has(this.kind) ?? false;
  }

  get fields(): Readonly<Record<string, FieldData>> {
    return this.boundary.standing.charter.kind(this.kind).fields;
  }

  get shape(): KindShape {
    return this.boundary.shape(this.kind);
  }

  get table(): Fragment {
    return this.boundary.writer.table(this.shape);
  }

  shapeOf(field: string): FieldShape {
    return this.shape.fields[field] as FieldShape;
  }

  columnOf(field: string): string {
    return this.shapeOf(field).column;
  }

  /** The id of the writer, as a field holds it; null for nobody. */
  meIn(field: string): Scalar | null {
    return this.boundary.standing.idIn(this.shapeOf(field));
  }

  /** A column of a row as it became. */
  column(field: string): Fragment {
    return this.boundary.writer.column(this.shape, field, WRITTEN);
  }

  /** The field that a column holds. @throws LintelError `unknown-column` with the near match. */
  fieldOf(node: OperationNode): string {
    const column = node.kind === 'ReferenceNode' ? ((node as ReferenceNode).column as ColumnNode) : (node as ColumnNode);
    return this.fieldIn(column.column.name);
  }

  fieldIn(column: string): string {
    const fields = this.boundary.columnFields(this.kind);
    const found = fields.find(([, shape]) => shape.column === column);
    if (found) return found[0];
    const near = didYouMean(
      column,
      fields.map(([, shape]) => shape.column),
    );
    throw new LintelError('unknown-column', `${this.kind} has no field for the column "${column}"${near}`, { column });
  }

  /** An action that the kind does not declare reaches nothing. */
  reachedBy(action: string, alias: string, image?: 'after'): Fragment {
    return this.boundary.declares(this.kind, action) ? this.boundary.reached(this.kind, action, alias, image) : verbatim('false');
  }

  /**
   * The table as it is written to, with columns that a select would not show: each that is named must be a declared field which this standing may read on every row.
   *
   * @param reached the condition under which the write reaches a row.
   */
  source(reached: () => Fragment): Source {
    return {
      alias: this.alias,
      columns: this.boundary.statics(this.kind),
      // guard written-values-in-reach by queries: A written value would be worked out of rows out of reach.
      inReach: () => reached().toNode() as never,
      onNamed: (column) => {
        const field = this.fieldIn(column);
        if (this.boundary.shows(this.kind, field, this.alias))
          refuse(`${field} of ${this.kind} in a write`, 'it is hidden from you on some records; name the records by other fields');
      },
    };
  }
}
