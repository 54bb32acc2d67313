import { type Kysely, sql } from 'kysely';
import { LintelError } from '../../base/index.js';
import type { Charter } from '../../charter/index.js';
import { type FieldShape, type KindShape, type RecordData, readValue } from '../../predicate/index.js';
import { type Fragment, joinFragments, name, sqlText, writerFor } from '../../scoping/index.js';
import { type Row, Rows } from './rows.js';

/** A record in a picture, with its row as the database holds it. */
export interface Pictured {
  readonly kind: string;
  readonly id: string;
  /** Undefined for a shared kind, or where it is empty. */
  readonly tenant: string | undefined;
  readonly record: RecordData;
  readonly row: Row;
}

/** What became of a record between two pictures. */
export interface Difference {
  readonly kind: string;
  readonly before: Pictured | undefined;
  readonly after: Pictured | undefined;
  /** Fields whose values differ; none where only a column did that is no field. */
  readonly fields: readonly string[];
}

/** A larger table is not pictured: a probe wants a small world. */
const MOST_ROWS = 20_000;
const keyOf = ({ tenant, id }: { readonly tenant: string | undefined; readonly id: string }) => `${tenant ?? ''}\n${id}`;

/** All records of a charter's kinds at a moment, to be asked in memory and to be put back. */
export class Picture {
  readonly #charter: Charter<any>;
  readonly #byKind: ReadonlyMap<string, ReadonlyMap<string, Pictured>>;
  readonly #links: ReadonlyMap<string, readonly Row[]>;
  readonly #withId = new Map<string, Map<string, Pictured[]>>();

  private constructor(charter: Charter<any>, byKind: ReadonlyMap<string, ReadonlyMap<string, Pictured>>, links: ReadonlyMap<string, readonly Row[]>) {
    this.#charter = charter;
    this.#byKind = byKind;
    this.#links = links;
  }

  /** @throws LintelError `too-large`. */
  static async take(db: Kysely<any>, charter: Charter<any>): Promise<Picture> {
    const writer = writerFor(db, charter.shapes);
    const all = new Rows(db, writer);
    const rowsOf = async (table: string, from: Fragment): Promise<Row[]> => {
      const rows = await all.read(from, MOST_ROWS + 1);
      if (rows.length <= MOST_ROWS) return rows;
      throw new LintelError(
        'too-large',
        `${table} has more than ${MOST_ROWS} rows, and what is not looked at could not be put back; try the application on a smaller world`,
        {
          table,
        },
      );
    };
    const links = new Map<string, readonly Row[]>();
    const raw = new Map<string, readonly Row[]>();
    for (const [kind, shape] of Object.entries(charter.shapes)) {
      raw.set(kind, await rowsOf(shape.table, writer.table(shape)));
      for (const { link } of Object.values(shape.fields)) if (link && !links.has(link.table)) links.set(link.table, await rowsOf(link.table, name(link.table)));
    }
    const byKind = new Map<string, Map<string, Pictured>>();
    const read = (field: FieldShape, row: Row) => readValue(field.type, writer.readCell(row[field.column], field), field.scale) ?? null;
    for (const kind of parentsFirst(charter)) {
      const shape = charter.shapes[kind] as KindShape;
      const all = new Map<string, Pictured>();
      const { throughField, fields } = shape;
      const through = throughField === undefined ? undefined : (fields[throughField] as FieldShape);
      // What others have their tenant through has an id that is unique by itself.
      const tenants = new Map(through && [...(byKind.get(through.to as string)?.values() ?? [])].map((one) => [one.id, one.tenant]));
      const tenantOf = (row: Row) => {
        if (through) return tenants.get(String(read(through, row)));
        return shape.tenantField === undefined ? undefined : (read(fields[shape.tenantField] as FieldShape, row) ?? undefined);
      };
      for (const row of raw.get(kind) ?? []) {
        const id = String(read(shape.fields[shape.idField] as FieldShape, row));
        const tenant = tenantOf(row);
        const value = (field: FieldShape) => {
          if (!field.link) return read(field, row);
          const { link } = field;
          const isHere = (one: Row) => link.tenant === undefined || String(one[link.tenant]) === String(tenant);
          const mine = (links.get(link.table) ?? []).filter((one) => isHere(one) && String(one[link.record]) === id);
          return mine.map((one) => readValue(field.type, one[link.user]) ?? null).sort();
        };
        const record: Record<string, unknown> = Object.fromEntries(Object.entries(shape.fields).map(([name, field]) => [name, value(field)]));
        const pictured = { kind, id, tenant: tenant === undefined ? undefined : String(tenant), record, row };
        all.set(keyOf(pictured), pictured);
      }
      byKind.set(kind, all);
    }
    const picture = new Picture(charter, byKind, links);
    for (const all of byKind.values()) for (const one of all.values()) (one.record as Record<string, unknown>).parents = picture.#parentsOf(one);
    return picture;
  }

  /** A mark of everything that is pictured, which is another as soon as something is; undefined where the database has none. */
  static async mark(db: Kysely<any>, charter: Charter<any>): Promise<string | undefined> {
    const writer = writerFor(db, charter.shapes);
    const digests = tablesOf(db, charter).map((table) => writer.digest(table));
    if (digests.includes(undefined)) return undefined;
    const [row] = await sqlText`select array[${joinFragments(digests as Fragment[], ', ')}] as "marks"`.rows<{ marks: string[] }>(db);
    return row?.marks.join();
  }

  /** Every kind is pictured before parents are looked for, so that these are loaded as deep as there are any. */
  #parentsOf({ kind, record, tenant }: Pictured): Record<string, RecordData | null> {
    const parents = Object.entries(this.#charter.shapes[kind]?.fields ?? {}).filter(([, { to }]) => to !== undefined);
    return Object.fromEntries(
      parents.map(([field, { to }]) => {
        const at = record[field];
        return [field, at === null ? null : (this.find(to as string, String(at), tenant)?.record ?? null)];
      }),
    );
  }

  all(kind: string): Pictured[] {
    return [...(this.#byKind.get(kind)?.values() ?? [])];
  }

  /** Those of an id: several where ids are unique within a tenant only. */
  withId(kind: string, id: string): readonly Pictured[] {
    let all = this.#withId.get(kind);
    if (!all) {
      all = new Map<string, Pictured[]>();
      for (const one of this.all(kind)) all.set(one.id, [...(all.get(one.id) ?? []), one]);
      this.#withId.set(kind, all);
    }
    return all.get(id) ?? [];
  }

  find(kind: string, id: string, tenant: string | undefined): Pictured | undefined {
    const all = this.#byKind.get(kind);
    return all?.get(keyOf({ tenant, id })) ?? (this.#charter.kind(kind).shared ? all?.get(keyOf({ tenant: undefined, id })) : undefined);
  }

  /** What hangs on a record. */
  below({ kind, id, tenant }: Pictured): Pictured[] {
    return Object.entries(this.#charter.shapes).flatMap(([child, { fields }]) => {
      const parents = Object.entries(fields).flatMap(([field, { to }]) => (to === kind ? [field] : []));
      return parents.length === 0 ? [] : this.all(child).filter((one) => one.tenant === tenant && parents.some((field) => String(one.record[field]) === id));
    });
  }

  /** What is otherwise in a later picture. */
  differences(later: Picture): Difference[] {
    const found: Difference[] = [];
    for (const [kind, { fields }] of Object.entries(this.#charter.shapes)) {
      const [was, is] = [this.#byKind.get(kind) ?? new Map<string, Pictured>(), later.#byKind.get(kind) ?? new Map<string, Pictured>()];
      const gone = [...was].filter(([key]) => !is.has(key)).map(([, one]) => one);
      for (const [key, after] of is) {
        // Whoever moved to another tenant is still the same record.
        const moved = was.has(key) ? undefined : gone.findIndex(({ id }) => id === after.id);
        const before = was.get(key) ?? (moved !== undefined && moved >= 0 ? gone.splice(moved, 1)[0] : undefined);
        const differ = Object.keys(fields).filter((name) => JSON.stringify(before?.record[name]) !== JSON.stringify(after.record[name]));
        if (!before) found.push({ kind, before: undefined, after, fields: Object.keys(fields) });
        // A column that is no field has to be put back too.
        else if (differ.length > 0 || JSON.stringify(before.row) !== JSON.stringify(after.row)) found.push({ kind, before, after, fields: differ });
      }
      for (const before of gone) found.push({ kind, before, after: undefined, fields: Object.keys(fields) });
    }
    return found;
  }

  /** Puts the database back to what this picture shows, from what a later one shows. */
  async restore(db: Kysely<any>, later: Picture): Promise<void> {
    const order = parentsFirst(this.#charter);
    const changed = this.differences(later);
    const writer = writerFor(db, this.#charter.shapes);
    await db.transaction().execute(async (tx) => {
      const rows = new Rows(tx, writer);
      for (const kind of [...order].reverse()) {
        const shape = this.#charter.shapes[kind] as KindShape;
        for (const { before, after } of changed)
          if (after?.kind === kind && !before) await sql`delete from ${sql.table(qualified(shape))} where ${itself(shape, after)}`.execute(tx);
      }
      for (const kind of order) {
        const shape = this.#charter.shapes[kind] as KindShape;
        for (const { before, after } of changed) {
          if (before?.kind !== kind) continue;
          await (after ? rows.setBack(qualified(shape), itself(shape, after), after.row, before.row) : rows.put(qualified(shape), before.row));
        }
      }
      for (const [table, were] of this.#links) {
        const now = later.#links.get(table) ?? [];
        const without = (some: readonly Row[], others: readonly Row[]) => {
          const known = new Set(others.map((row) => JSON.stringify(row)));
          return some.filter((row) => !known.has(JSON.stringify(row)));
        };
        for (const row of without(now, were)) await rows.remove(table, row);
        for (const row of without(were, now)) await rows.put(table, row);
      }
    });
  }
}

export const qualified = ({ schema, table }: KindShape) => (schema === undefined ? table : `${schema}.${table}`);

/** Every table that is pictured. */
export function tablesOf(db: Kysely<any>, charter: Charter<any>): Fragment[] {
  const writer = writerFor(db, charter.shapes);
  const shapes = Object.values(charter.shapes);
  const links = new Set(shapes.flatMap(({ fields }) => Object.values(fields).flatMap(({ link }) => link?.table ?? [])));
  return [...shapes.map((shape) => writer.table(shape)), ...[...links].map((table) => name(table))];
}

/** The row of a record, as it stands now. */
export function itself(shape: KindShape, { row }: Pictured) {
  const column = (shape.fields[shape.idField] as FieldShape).column;
  const tenant = shape.tenantField === undefined ? undefined : (shape.fields[shape.tenantField] as FieldShape).column;
  const ofTenant = tenant === undefined ? sql`true` : row[tenant] === null ? sql`${sql.ref(tenant)} is null` : sql`${sql.ref(tenant)} = ${row[tenant]}`;
  return sql`${sql.ref(column)} = ${row[column]} and ${ofTenant}`;
}

/** Kinds, each after those that it hangs on. */
export function parentsFirst(charter: Charter<any>): string[] {
  const order: string[] = [];
  const add = (kind: string): void => {
    if (order.includes(kind)) return;
    for (const { to } of Object.values(charter.shapes[kind]?.fields ?? {})) if (to !== undefined && to !== kind) add(to);
    order.push(kind);
  };
  for (const kind of Object.keys(charter.data.kinds)) add(kind);
  return order;
}
