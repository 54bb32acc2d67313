import type { Kysely } from 'kysely';
import type { Charter, JournalData } from '../../charter/index.js';
import { type FieldShape, type KindShape, readValue } from '../../predicate/index.js';
import type { Boundary } from '../boundary.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { type Image, journaledFields, journaledKinds, journaledLists, LISTS, parsed } from './image.js';

/** A change of one field, in values as the field holds them. */
export interface FieldChange {
  readonly from: unknown;
  readonly to: unknown;
}

/** What was put down of one record at one moment, as far as it is shown to somebody. */
export interface JournalLine {
  /** It begins the next part, as `after`. */
  readonly id: string;
  readonly kind: string;
  readonly record: string;
  /** What the record was called then; null where that is not shown. */
  readonly label: string | null;
  readonly what: 'made' | 'changed' | 'handed over' | 'deleted';
  readonly at: Date;
  /** Who did it; null for whoever wrote past the library. */
  readonly actor: string | null;
  /** In whose place; by which care; that it was a program. */
  readonly way: { readonly for?: string; readonly care?: string; readonly program?: true };
  /** The actions by which it was done. */
  readonly actions: readonly string[];
  readonly fields: Readonly<Record<string, FieldChange>>;
  /** Fields of which the words were erased with whoever wrote them. */
  readonly erased: readonly string[];
}

/** Which lines: of a record, by or for somebody, older than another. */
export interface JournalQuery {
  readonly kind?: string;
  readonly record?: string;
  readonly actor?: string;
  /** The id of a line. */
  readonly after?: string;
  readonly limit: number;
}

interface Row {
  readonly id: string;
  readonly kind: string;
  readonly record_id: string;
  readonly at: Date | string;
  readonly actor: string | null;
  readonly way: unknown;
  readonly actions: unknown;
  readonly was: unknown;
  readonly became: unknown;
  readonly erased: unknown;
  readonly shown: string;
}

/** The lines of one kind that a standing may be told, the newest first. */
class KindJournal {
  readonly #boundary: Boundary;
  readonly #kind: string;
  readonly #journal: JournalData;

  constructor(boundary: Boundary, kind: string) {
    this.#boundary = boundary;
    this.#kind = kind;
    this.#journal = boundary.standing.charter.kind(kind).journal ?? {};
  }

  /** The action that shows it. */
  get #shownBy(): string {
    return this.#journal.shownBy ?? 'read';
  }

  /** False where no record's is shown. */
  get any(): boolean {
    return this.#boundary.standing.reachOf(`${this.#kind}.${this.#shownBy}`).op !== 'never';
  }

  /** Fields that are hidden on some records. */
  get masked(): string[] {
    return journaledFields(this.#boundary.standing.charter.kind(this.#kind)).filter((field) => this.#boundary.shows(this.#kind, field, 't') !== undefined);
  }

  /** A condition holds of the record as it is now; of one that is gone, as it was last. */
  #now(holds: Fragment): Fragment {
    const { writer } = this.#boundary;
    const shape = this.#boundary.shape(this.#kind);
    const is = sqlText`${writer.column(shape, shape.idField, 't')} = ${writer.idFromText(verbatim('"j"."record_id"'), shape.fields[shape.idField] as FieldShape)}`;
    const there = sqlText`select 1 from ${writer.table(shape)} as "t" where ${is}`;
    const last = verbatim(
      '(select "d"."was" from "lintel_journal" as "d" where "d"."tenant_id" = "j"."tenant_id" and "d"."kind" = "j"."kind" and "d"."record_id" = "j"."record_id" and "d"."became" is null order by "d"."number" desc limit 1)',
    );
    return sqlText`(exists (${there} and ${holds}) or (not exists (${there}) and exists (select 1 from ${writer.fromImage(shape, last)} as "t" where ${holds})))`;
  }

  #then(holds: Fragment): Fragment {
    const image = this.#boundary.writer.fromImage(this.#boundary.shape(this.#kind), verbatim('coalesce("j"."became", "j"."was")'));
    return sqlText`exists (select 1 from ${image} as "t" where ${holds})`;
  }

  select({ record, actor, after, limit }: JournalQuery): Fragment {
    const { standing, writer } = this.#boundary;
    const tenantId = standing.facts.tenant.id;
    const reached = this.#boundary.reached(this.#kind, this.#shownBy, 't');
    const shown = this.masked.map((field) => sqlText`case when ${this.#now(this.#boundary.shows(this.#kind, field, 't') as Fragment)} then '1' else '0' end`);
    // guard journal-days by looks: The journal would show what is too old.
    // guard journal-hidden-then by looks: The journal would show what was hidden then.
    const conditions = [
      sqlText`"j"."tenant_id" = ${tenantId} and "j"."kind" = ${this.#kind}`,
      ...(record === undefined ? [] : [sqlText`"j"."record_id" = ${record}`]),
      ...(actor === undefined ? [] : [sqlText`"j"."actor" = ${actor}`]),
      ...(after === undefined
        ? []
        : [
            sqlText`"j"."number" < (select "k"."number" from "lintel_journal" as "k" where "k"."tenant_id" = ${tenantId} and ${writer.idAsText(verbatim('"k"."id"'))} = ${after})`,
          ]),
      ...(this.#journal.days === undefined ? [] : /* guard journal-days */ [sqlText`"j"."at" > ${writer.daysAgo(this.#journal.days)}`]),
      // guard journal-in-reach by looks: The journal would show records out of reach.
      this.#now(reached),
      ...(this.#journal.earlier === 'hidden' ? /* guard journal-hidden-then */ [this.#then(reached)] : []),
    ];
    const columns = ['number', 'id', 'kind', 'record_id', 'at', 'actor', 'way', 'actions', 'was', 'became', 'erased'].map((column) => name('j', column));
    return sqlText`select * from (select ${joinFragments(columns, ', ')}, ${shown.length === 0 ? verbatim("''") : writer.joined(shown)} as "shown" from "lintel_journal" as "j" where ${joinFragments(conditions, ' and ')} order by "j"."number" desc limit ${limit}) as ${name(`of_${this.#kind}`)}`;
  }

  /** Undefined where nothing of it is shown. */
  line(row: Row): JournalLine | undefined {
    return lineOf(this.#boundary.standing.charter, row, new Set(this.masked.filter((_, i) => row.shown[i] !== '1')));
  }
}

/** A row as a line, without the fields that are hidden. */
function lineOf(charter: Charter, row: Row, hidden: ReadonlySet<string>): JournalLine | undefined {
  const data = charter.kind(row.kind);
  const { fields } = charter.shapes[row.kind] as KindShape;
  const [was, became] = [parsed<Image>(row.was), parsed<Image>(row.became)];
  const valueIn = (image: Image | null, field: string) => {
    const { column, type, scale } = fields[field] as FieldShape;
    const raw = image?.[column] ?? null;
    return raw === null ? null : (readValue(type, type === 'boolean' ? Boolean(raw) : raw, scale) ?? raw);
  };
  const changes = journaledFields(data).flatMap((field): [string, FieldChange][] => {
    // guard journal-hides-fields by looks: The journal would show hidden fields.
    if (hidden.has(field)) return [];
    const change = { from: valueIn(was, field), to: valueIn(became, field) };
    return change.from === change.to ? [] : [[field, change]];
  });
  const listIn = (image: Image | null, field: string) => (image?.[LISTS] as Record<string, unknown> | undefined)?.[field];
  // A list of people stands in images of its own change alone.
  const lists = journaledLists(data).flatMap((field): [string, FieldChange][] =>
    listIn(became, field) === undefined || hidden.has(field) ? [] : [[field, { from: listIn(was, field), to: listIn(became, field) }]],
  );
  const erased = (parsed<string[]>(row.erased) ?? []).filter((field) => !hidden.has(field));
  if (was && became && changes.length + lists.length === 0 && erased.length === 0) return undefined;
  const owner = charter.fieldWith(row.kind, 'owner');
  const isHandover = changes.some(([field]) => field === owner);
  const label = hidden.has(data.label) ? null : valueIn(became ?? was, data.label);
  return {
    id: row.id,
    kind: row.kind,
    record: row.record_id,
    label: label === null ? null : String(label),
    what: !was ? 'made' : !became ? 'deleted' : isHandover ? 'handed over' : 'changed',
    at: new Date(row.at),
    actor: row.actor,
    way: parsed<JournalLine['way']>(row.way) ?? {},
    actions: parsed<string[]>(row.actions) ?? [],
    fields: Object.fromEntries([...changes, ...lists]),
    erased,
  };
}

/** Does work, and tells what was put down meanwhile, whoever may know of it. */
export async function linesSince<R>(db: Kysely<any>, charter: Charter, work: () => Promise<R>): Promise<{ readonly result: R; readonly lines: JournalLine[] }> {
  const [last] = await sqlText`select coalesce(max("number"), 0) as "number" from "lintel_journal"`.rows<{ number: string | number }>(db);
  const result = await work();
  const rows = await sqlText`select * from "lintel_journal" where "number" > ${last?.number} order by "number"`.rows<Row>(db);
  return { result, lines: rows.flatMap((row) => lineOf(charter, row, new Set()) ?? []) };
}

/**
 * What was put down, the newest first, as far as this standing may be told: of records that it reaches now, and of those that are gone as they were last; without fields that are
 * hidden from it.
 *
 * @returns the lines, and whether there may be more: the id with which the next part begins.
 */
export async function readJournal(
  db: Kysely<any>,
  boundary: Boundary,
  query: JournalQuery,
): Promise<{ readonly lines: JournalLine[]; readonly next?: string }> {
  const kinds = query.kind === undefined ? journaledKinds(boundary.standing.charter) : [query.kind];
  const each = new Map(kinds.map((kind) => [kind, new KindJournal(boundary, kind)] as const).filter(([, one]) => one.any));
  if (each.size === 0) return { lines: [] };
  const selects = [...each.values()].map((one) => one.select({ ...query, limit: query.limit + 1 }));
  const rows = await sqlText`${joinFragments(selects, ' union all ')} order by "number" desc limit ${query.limit + 1}`.rows<Row>(db);
  const page = rows.slice(0, query.limit);
  const last = rows.length > query.limit ? page.at(-1)?.id : undefined;
  return { lines: page.flatMap((row) => each.get(row.kind)?.line(row) ?? []), ...(last !== undefined && { next: last }) };
}
