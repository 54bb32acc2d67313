import type { Kysely } from 'kysely';
import type { FieldShape, Scalar } from '../../predicate/index.js';
import type { Boundary } from '../boundary.js';
import { type Fragment, joinFragments, name, sqlText, verbatim } from '../fragment.js';
import { type Image, imageFields, journaledFields, journaledLists, LISTS, parsed } from './image.js';

/** The rows of a kind as they were before a statement, in it. */
export const BEFORE = 'lintel_before';

/** The journal, with the columns of a line as they are put down. */
const JOURNAL = verbatim('"lintel_journal" ("tenant_id", "kind", "record_id", "actor", "way", "actions", "was", "became")');

/** By what, besides whoever asks, something is done: in a look, by care, by a program. */
function wayOf({ standing: { facts } }: Boundary): Readonly<Record<string, unknown>> {
  const { care, look, program } = facts;
  return { ...(care && { care: care.id }), ...(look && { look: look.id, lookedBy: look.by.userId }), ...(program && { program }) };
}

/** The way by which a row was reached, as JSON: for whom, where only standing in for another reaches it. */
function wayOn(boundary: Boundary, kind: string, actions: readonly string[], alias: string): Fragment {
  const way = wayOf(boundary);
  const plain = Object.keys(way).length === 0 ? null : JSON.stringify(way);
  const others = new Map((boundary.standing.facts.standsFor ?? []).map(({ of }) => [of.userId, JSON.stringify({ ...way, for: of.userId })]));
  if (others.size === 0) return boundary.writer.json(plain);
  const by = (wanted: string | undefined) => actions.map((action) => sqlText`(${boundary.reachedBy(kind, action, alias, wanted)})`);
  const each = [...others].map(([of, line]) => sqlText`when ${joinFragments(by(of), ' or ')} then ${boundary.writer.json(line)}`);
  return sqlText`case when ${joinFragments(by(undefined), ' and ')} then ${boundary.writer.json(plain)} ${joinFragments(each, ' ')} end`;
}

/** A row of a kind as JSON, by column. */
function imageOf(boundary: Boundary, kind: string, alias: string): Fragment {
  return boundary.writer.image(boundary.shape(kind), imageFields(boundary.standing.charter, kind), alias);
}

/** By which actions a row is made, and by which it is changed or deleted. */
export interface Actions {
  readonly making: readonly string[];
  readonly changing: readonly string[];
}

/** The columns of which it is told. */
function toldColumns(boundary: Boundary, kind: string): string[] {
  const { fields } = boundary.shape(kind);
  return journaledFields(boundary.standing.charter.kind(kind)).map((field) => (fields[field] as { column: string }).column);
}

/** What is put down, of rows that stand in these places. Images are of the same row. */
interface Written {
  readonly kind: string;
  /** The actions by which it was done: for a row that is new, and for one that was there. */
  readonly actions: Actions;
  /** The rows as they became: a name of them. Absent for those that are gone. */
  readonly after?: string;
  /** As they were. Absent for those that are new. */
  readonly before?: string;
  readonly from: Fragment;
}

/** Puts down what was written, in the statement that writes it; nothing where a trigger does. */
export function putDown(boundary: Boundary, { kind, actions, after, before, from }: Written): Fragment {
  const { standing, writer } = boundary;
  const shape = boundary.shape(kind);
  const at = (after ?? before) as string;
  const image = (alias: string | undefined) => (alias === undefined ? writer.json(null) : imageOf(boundary, kind, alias));
  const wasThere = before === undefined || after === undefined ? undefined : sqlText`${writer.column(shape, shape.idField, before)} is not null`;
  const was = wasThere ? sqlText`case when ${wasThere} then ${image(before)} end` : image(before);
  const by = (write: (of: readonly string[], alias: string) => Fragment): Fragment => {
    const [made, changed] = [() => write(actions.making, at), () => write(actions.changing, before as string)];
    if (before === undefined) return made();
    return wasThere && actions.making.length > 0 ? sqlText`case when ${wasThere} then ${changed()} else ${made()} end` : changed();
  };
  const wayFor = (of: readonly string[], alias: string) => wayOn(boundary, kind, of, alias);
  const told = toldColumns(boundary, kind);
  const differs =
    after !== undefined && before !== undefined
      ? [
          sqlText`(${joinFragments(
            told.map((column) => writer.differs(name(after, column), name(before, column))),
            ' or ',
          )})`,
        ]
      : [];
  // Where they are, they alone put it down; what is believed of them is asked of the database.
  const untold = boundary.support.triggered?.has(kind) ? [writer.noTrigger(shape)] : [];
  const where = joinFragments([...differs, ...untold], ' and ');
  return sqlText`insert into ${JOURNAL} select ${standing.facts.tenant.id}, ${kind}, ${writer.idAsText(writer.column(shape, shape.idField, at))}, ${standing.userId ?? null}, ${by(wayFor)}, ${by((of) => writer.json(JSON.stringify(of)))}, ${was}, ${image(after)} from ${from}${where.texts.length > 1 || where.texts[0] !== '' ? sqlText` where ${where}` : verbatim('')}`;
}

/** Says to triggers, in the statement that writes, who does; for a deputy it is not told for whom. */
export function sayWho(boundary: Boundary, { making, changing }: Actions): Fragment {
  const { standing } = boundary;
  const said = { actor: standing.userId ?? null, tenant: standing.facts.tenant.id, way: wayOf(boundary), making, changing };
  return sqlText`set_config('lintel.journal', (${JSON.stringify(said)}::jsonb || jsonb_build_object('at', statement_timestamp()::text))::text, true) as "lintelsaid"`;
}

/** A row before or after a write, where that is a statement of its own: its id, its image, and the way by which it was reached. */
export interface Seen {
  readonly lintelid: unknown;
  /** JSON, which some drivers have read already. */
  readonly lintelimage: unknown;
  readonly lintelway: string | null;
}

/** What of a row is looked at for the journal, where the write is a statement of its own. */
export function seenOf(boundary: Boundary, kind: string, actions: readonly string[], alias: string): Fragment {
  const { writer } = boundary;
  const shape = boundary.shape(kind);
  return sqlText`${writer.column(shape, shape.idField, alias)} as "lintelid", ${imageOf(boundary, kind, alias)} as "lintelimage", ${wayOn(boundary, kind, actions, alias)} as "lintelway"`;
}

/** Puts down what was written by statements of their own. Undefined for nothing. */
export function putSeen(boundary: Boundary, kind: string, actions: Actions, before: readonly Seen[], after: readonly Seen[] | undefined): Fragment | undefined {
  const { standing } = boundary;
  const told = toldColumns(boundary, kind);
  const wasOf = new Map(before.map((one) => [one.lintelid, one]));
  const entries = (after ?? before).flatMap((one) => {
    const was = wasOf.get(one.lintelid);
    const [a, b] = [was && parsed<Image>(was.lintelimage), after && parsed<Image>(one.lintelimage)];
    if (a && b && told.every((column) => a[column] === b[column])) return [];
    const by = was ? actions.changing : actions.making;
    const cells = [standing.facts.tenant.id, kind, String(one.lintelid), standing.userId ?? null, (was ?? one).lintelway, JSON.stringify(by)];
    return [
      sqlText`(${joinFragments(
        [...cells, a ? JSON.stringify(a) : null, b ? JSON.stringify(b) : null].map((cell) => sqlText`${cell}`),
        ', ',
      )})`,
    ];
  });
  if (entries.length === 0) return undefined;
  return sqlText`insert into ${JOURNAL} values ${joinFragments(entries, ', ')}`;
}

/** Puts down that a list of people of one record is another. Triggers stand on the table of the records, and do not see it. */
export async function putLinks(
  tx: Kysely<any>,
  boundary: Boundary,
  kind: string,
  field: string,
  action: string,
  [id, was, becomes]: readonly [id: Scalar, was: readonly unknown[], becomes: readonly unknown[]],
): Promise<void> {
  const { standing, writer } = boundary;
  const data = standing.charter.kind(kind);
  if (!data.journal || !journaledLists(data).includes(field)) return;
  const shape = boundary.shape(kind);
  const is = writer.equals(writer.column(shape, shape.idField, 't'), id, shape.fields[shape.idField] as FieldShape);
  const [seen] = await sqlText`select ${seenOf(boundary, kind, [action], 't')} from ${writer.table(shape)} as "t" where ${is}`.rows<Seen>(tx);
  const image = (people: readonly unknown[]) => writer.json(JSON.stringify({ ...parsed<Image>(seen?.lintelimage), [LISTS]: { [field]: people.toSorted() } }));
  const way = seen?.lintelway ? writer.json(JSON.stringify(parsed(seen.lintelway))) : writer.json(null);
  const cells = [sqlText`${standing.facts.tenant.id}`, sqlText`${kind}`, sqlText`${String(id)}`, sqlText`${standing.userId ?? null}`, way];
  await sqlText`insert into ${JOURNAL} values (${joinFragments([...cells, writer.json(JSON.stringify([action])), image(was), image(becomes)], ', ')})`.rows(tx);
}
