/* What has to come out, worked out record by record in memory: nothing here knows of SQL. */
import type { Standing } from 'warm-lintel';
import type { Data, RawLink, Row, Write } from './generate.js';
import type { Names } from './typed.js';
import { fieldsIn, GROUPS, KIND_NAMES, type KindName, PEOPLE, UNITS } from './world.js';

type AnyStanding = Standing<any>;
/** The tenant of a row: its own, or that of the row through which it has one. */
function tenantOf(kind: KindName, row: Row, tables: Data): unknown {
  const through = fieldsIn(kind).find(([, field]) => 'through' in field);
  if (!through) return row.tenantId;
  const [field, { to }] = through;
  const parent = tables[to as KindName].find(({ id }) => id === row[field]);
  return parent ? tenantOf(to as KindName, parent, tables) : null;
}

/** A record with the parents that stand in the same tenant, as it is loaded for a decision. */
function loaded(names: Names, kind: KindName, row: Row, tables: Data): Row {
  const parents: Record<string, Row | null> = {};
  const tenant = tenantOf(kind, row, tables);
  for (const [field, shape] of fieldsIn(kind)) {
    if (shape.role !== 'parent' || row[field] === null) continue;
    const to = shape.to as KindName;
    const found = tables[to].find((p) => p.id === row[field] && tenant !== null && tenantOf(to, p, tables) === tenant);
    parents[field] = found ? loaded(names, to, found, tables) : null;
  }
  return { ...names.sent(kind, row), parents };
}

/** A person's whole view of the tables: each record that they may read, the fields that they see of it, and what they may do with it. */
export function view(names: Names, standing: AnyStanding, tables: Data): Record<string, Row[]> {
  return Object.fromEntries(
    KIND_NAMES.map((kind) => {
      const { fields, actions } = standing.charter.kind(kind);
      const seen = tables[kind].flatMap((row) => {
        const record = loaded(names, kind, row, tables);
        if (tenantOf(kind, row, tables) !== names.here) return [];
        if (!standing.may(`${kind}.read`, record)) return [];
        const shown = Object.entries(fields).filter(([, field]) => field.read === undefined || standing.may(`${kind}.${field.read}`, record));
        const may = Object.keys(actions)
          .map((action) => `${kind}.${action}`)
          .filter((p) => p !== `${kind}.create` && standing.may(p, record));
        return [{ ...Object.fromEntries(shown.map(([name]) => [name, row[name]])), may }];
      });
      return [kind, seen];
    }),
  );
}

/** What a write comes to: refused as a whole, or the rows of its table afterwards and the ids that the writer is shown. */
export type Outcome = 'refused' | { readonly rows: readonly Row[]; readonly returned: readonly unknown[]; readonly written: number };

/** The record and the list of people that a link stands for. */
export const listIn = (raw: RawLink) => ('note' in raw ? (['note', raw.note, 'watchers'] as const) : (['hive', raw.hive, 'helpers'] as const));

/** The rules of a write, as the design states them. `standingOf` answers for other active members. */
export class WriteRules {
  readonly #me: AnyStanding;
  readonly #names: Names;
  readonly #tables: Data;
  readonly #standingOf: (userId: string) => AnyStanding | undefined;

  constructor(me: AnyStanding, tables: Data, names: Names, standingOf: (userId: string) => AnyStanding | undefined) {
    this.#me = me;
    this.#names = names;
    this.#tables = tables;
    this.#standingOf = standingOf;
  }

  get #here(): unknown {
    return this.#names.here;
  }

  #isHere(kind: KindName, row: Row): boolean {
    return tenantOf(kind, row, this.#tables) === this.#here;
  }

  /** The id of whoever writes, as fields have it. */
  get #mine(): unknown {
    const { userId } = this.#me;
    return userId !== undefined && this.#names.types.person === 'integer' ? Number(userId) : (userId ?? null);
  }

  #isOne(what: 'person' | 'unit' | 'group', id: unknown): boolean {
    return { person: PEOPLE, unit: UNITS, group: GROUPS }[what].some((name) => this.#names.id(what, name) === id);
  }

  outcome(write: Write): Outcome {
    if (write.do === 'insert') return this.#insert(write.kind, write.rows);
    if (write.do === 'update' && this.#isNeverDone(write.kind, Object.keys(write.set))) return 'refused';
    const reached = (row: Row) => write.ids.includes(row.id) && this.#isHere(write.kind, row) && this.#reaches(write, row);
    const rows = this.#tables[write.kind];
    if (write.do === 'delete')
      return this.#done(
        write.kind,
        rows.filter((row) => !reached(row)),
        rows.filter(reached),
      );
    const became = new Map(rows.filter(reached).map((row) => [row, { ...row, ...write.set }]));
    for (const after of became.values()) if (!this.#mayBecome(write.kind, after, Object.keys(write.set))) return 'refused';
    return this.#done(
      write.kind,
      rows.map((row) => became.get(row) ?? row),
      [...became.values()],
    );
  }

  #done(kind: KindName, rows: readonly Row[], written: readonly Row[]): Outcome {
    const returned = written.filter((row) => this.#may(kind, 'read', row)).map((row) => row.id);
    return { rows, returned, written: written.length };
  }

  #may(kind: KindName, action: string, row: Row, after = false, standing = this.#me): boolean {
    return this.#isHere(kind, row) && standing.may(`${kind}.${action}`, loaded(this.#names, kind, row, this.#tables), { after });
  }

  #field(kind: KindName, name: string) {
    return this.#me.charter.kind(kind).fields[name] as { role: string; change?: string; to?: string };
  }

  /** Changes that no statement may ask for, whatever the rows. */
  #isNeverDone(kind: KindName, names: readonly string[]): boolean {
    const fields = names.map((name) => this.#field(kind, name));
    if (fields.some((f) => f.role === 'owner') && fields.length > 1) return true;
    return fields.some((f) => ['unit', 'group', 'parent'].includes(f.role) && f.change === undefined);
  }

  #reaches(write: Write, row: Row): boolean {
    if (write.do !== 'update') return this.#may(write.kind, 'delete', row);
    return Object.entries(write.set).every(([name, value]) => {
      const { role, change } = this.#field(write.kind, name);
      if (role !== 'owner') return this.#may(write.kind, change ?? 'update', row);
      const handOver = change !== undefined && this.#may(write.kind, change, row);
      const take = value !== null && value === this.#mine && row[name] === null && this.#may(write.kind, 'update', row);
      return handOver || take;
    });
  }

  #mayBecome(kind: KindName, after: Row, names: readonly string[]): boolean {
    return names.every((name) => this.#isThere(kind, name, after) && this.#mayHold(kind, after, name));
  }

  /** A field of a row may be as it is now. */
  #mayHold(kind: KindName, after: Row, name: string): boolean {
    const { role, change } = this.#field(kind, name);
    if (role !== 'owner') return this.#may(kind, change ?? 'update', after, true);
    if (after[name] === null || after[name] !== this.#mine) return change === undefined || !this.#isHeld(kind, change, after);
    return this.#may(kind, 'update', after, true) || (change !== undefined && this.#may(kind, change, after, true));
  }

  /** A new row is nobody's, one's own, or belongs to another where there is an action for that. */
  #mayOwn(kind: KindName, row: Row): boolean {
    return fieldsIn(kind).every(
      ([name, { role }]) => role !== 'owner' || row[name] === null || row[name] === this.#mine || this.#field(kind, name).change !== undefined,
    );
  }

  /** Whether somebody may be linked to a record, or taken off. */
  letsLink(raw: RawLink): boolean {
    const [kind, id, field] = listIn(raw);
    const row = this.#tables[kind].find((one) => one.id === id && this.#isHere(kind, one));
    const { change } = this.#field(kind, field);
    return (
      ('note' in raw || raw.tenant === this.#here) &&
      row !== undefined &&
      change !== undefined &&
      this.#may(kind, change, row) &&
      (raw.do === 'unlink' || this.#isOne('person', raw.user))
    );
  }

  /** The same by the library, which names the tenant itself. Nothing is asked of who is linked already. */
  letsLinkByName(raw: RawLink): boolean {
    const here = 'note' in raw ? raw : { ...raw, tenant: this.#here as never };
    const [kind, id, field] = listIn(raw);
    const row = this.#tables[kind].find((one) => one.id === id && this.#isHere(kind, one));
    return this.letsLink(raw.do === 'link' && (row?.[field] as unknown[] | undefined)?.includes(raw.user) ? { ...here, do: 'unlink' } : here);
  }

  /**
   * Whether one row may come to be so, be taken away, or be made, by a hand that goes past scope. Its fields are asked one by one, as the wall does; and of a
   * new owner no more than that they are a member.
   */
  lets(kind: KindName, before: Row | undefined, after: Row | undefined): boolean {
    const changed = after ? fieldsIn(kind).filter(([name, { role }]) => role !== 'people' && after[name] !== (before?.[name] ?? null)) : [];
    if (before && after && changed.length === 0) return true;
    if (before && !this.#isHere(kind, before)) return false;
    if (!after) return before !== undefined && this.#may(kind, 'delete', before);
    const isThere = changed.every(([name, { role }]) =>
      role === 'owner' ? after[name] === null || this.#isOne('person', after[name]) : this.#isThere(kind, name, after),
    );
    if (!isThere) return false;
    if (!before) {
      const stamped = fieldsIn(kind).every(
        ([name, { role }]) => (role !== 'tenant' || after[name] === this.#here) && (role !== 'maker' || after[name] === this.#mine),
      );
      return stamped && this.#mayOwn(kind, after) && this.#may(kind, 'create', after);
    }
    return changed.every(([name, { role }]) => {
      if (['id', 'tenant', 'maker'].includes(role) || this.#isNeverDone(kind, [name])) return false;
      return this.#reaches({ do: 'update', kind, ids: [before.id], set: { [name]: after[name] } }, before) && this.#mayHold(kind, after, name);
    });
  }

  /** A limit refuses that a record becomes so. */
  #isHeld(kind: KindName, action: string, row: Row): boolean {
    const limit = this.#me.charter.data.limits[kind]?.held;
    if (!limit?.actions.includes(action) || limit.before) return false;
    return this.#me.decide(`${kind}.${action}`, loaded(this.#names, kind, row, this.#tables), { after: true }).outcome === 'limit';
  }

  /** What a field names is there for the writer; a new owner can read what they get. */
  #isThere(kind: KindName, name: string, row: Row): boolean {
    const value = row[name];
    if (value === null || value === undefined) return true;
    const { role, to } = this.#field(kind, name);
    if (role === 'unit') return this.#isOne('unit', value);
    if (role === 'group') return this.#isOne('group', value);
    if (role === 'person') return this.#isOne('person', value);
    if (role === 'parent') {
      const parent = this.#tables[to as KindName].find((p) => p.id === value && this.#isHere(to as KindName, p));
      return parent !== undefined && (this.#may(to as KindName, 'read', parent) || (to === 'plot' && this.#may('plot', 'choose', parent)));
    }
    if (role !== 'owner' || value === this.#mine) return true;
    const them = this.#standingOf(String(value));
    return them !== undefined && this.#may(kind, 'read', row, false, them);
  }

  #insert(kind: KindName, rows: readonly Row[]): Outcome {
    const made = rows.map((row) => this.#stamped(kind, row));
    for (const row of made) {
      const isThere = fieldsIn(kind).every(([name]) => this.#isThere(kind, name, row));
      if (!isThere || !this.#mayOwn(kind, row) || !this.#may(kind, 'create', row)) return 'refused';
    }
    return this.#done(kind, [...this.#tables[kind], ...made], made);
  }

  #stamped(kind: KindName, row: Row): Row {
    const me = this.#mine;
    const stamp = (name: string, role: string) => {
      if (role === 'tenant') return this.#here;
      if (role === 'maker') return me;
      if (role === 'people') return [];
      return row[name] === undefined ? (role === 'owner' ? me : null) : row[name];
    };
    return Object.fromEntries(fieldsIn(kind).map(([name, { role }]) => [name, stamp(name, role)]));
  }
}
