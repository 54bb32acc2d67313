import type { Charter } from '../../charter/index.js';
import type { FieldShape, KindShape } from '../../predicate/index.js';
import type { Player } from './cast.js';
import { type Knowledge, namesOf, tenantOf } from './judge.js';
import type { Picture, Pictured } from './picture.js';
import { kindCalled } from './routes.js';

/** What an answer holds of one record, as far as it can be told: fields by their names, and those whose values are those of the record. */
export interface Shown {
  readonly one: Pictured;
  readonly fields: readonly string[];
}

type Cells = Readonly<Record<string, unknown>>;
type Objects = readonly (readonly [kind: string, Cells])[];

function isSame(cell: unknown, value: unknown, { type }: FieldShape): boolean {
  if (String(cell) === String(value)) return true;
  if (type === 'integer' || type === 'decimal') return Number(cell) === Number(value);
  return type === 'instant' && Date.parse(String(cell)) === Date.parse(String(value));
}

const cellOf = (cells: Cells, shape: KindShape, field: string) =>
  namesOf(shape, field)
    .map((name) => cells[name])
    .find((cell) => cell !== undefined);

/** Objects of an answer with an id, and the kinds that they may be of: what they stand under says so, else what the route is about. */
export function objectsIn(charter: Charter<any>, kind: string | undefined, answer: string): Objects {
  const found: [string, Cells][] = [];
  const walk = (value: unknown, of: string | undefined): void => {
    if (Array.isArray(value)) for (const one of value) walk(one, of);
    else if (typeof value === 'object' && value !== null) {
      if (of !== undefined) found.push([of, value as Cells]);
      for (const [name, inner] of Object.entries(value)) walk(inner, kindCalled(charter, name) ?? of);
    }
  };
  try {
    walk(JSON.parse(answer), kind);
  } catch {
    // Not JSON: nothing says which is whose.
  }
  return found;
}

/**
 * The records that an answer shows: an object with the id of one, at least one more of its values, and none that is another. Where several have the id, one that
 * is read is meant before one that is hidden, and one of the tenant that was asked before others.
 */
export function shownIn(charter: Charter<any>, picture: Picture, objects: Objects, tenant: string, { readable }: Knowledge): Shown[] {
  return objects.flatMap(([of, cells]) => {
    const shape = charter.shapes[of] as KindShape;
    const id = cellOf(cells, shape, shape.idField);
    const candidates = picture.withId(of, String(id)).flatMap((one): Shown[] => {
      const told = Object.entries(shape.fields).flatMap(([field, its]) => {
        const cell = its.link || field === shape.idField ? undefined : cellOf(cells, shape, field);
        const isTold = (typeof cell !== 'object' && cell !== undefined) || cell === null;
        return isTold && cell !== null && one.record[field] !== null ? [[field, isSame(cell, one.record[field], its)] as const] : [];
      });
      return told.length > 0 && told.every(([, same]) => same) ? [{ one, fields: told.map(([field]) => field) }] : [];
    });
    const rank = ({ one }: Shown) => (readable.has(one) ? 0 : 2) + (one.tenant === tenant ? 0 : 1);
    return candidates.sort((a, b) => rank(a) - rank(b)).slice(0, 1);
  });
}

/**
 * Fields of records which somebody reads without them, and that an answer holds under their names: what is no text, or too short to be looked for by itself.
 */
export function maskedIn(
  charter: Charter<any>,
  picture: Picture,
  objects: Objects,
  tenant: string,
  player: Player,
  { readable }: Knowledge,
): readonly (readonly [string, Pictured])[] {
  return objects.flatMap(([of, cells]) => {
    const shape = charter.shapes[of] as KindShape;
    const guarded = Object.entries(charter.kind(of).fields).filter(([, { read }]) => read !== undefined);
    const all = guarded.length === 0 ? [] : picture.withId(of, String(cellOf(cells, shape, shape.idField))).filter((one) => readable.has(one));
    const one = all.find((each) => each.tenant === tenant) ?? all[0];
    if (!one) return [];
    return guarded.flatMap(([field, { read }]): [string, Pictured][] => {
      const [told, is] = [cellOf(cells, shape, field), one.record[field]];
      if (told === undefined || told === null || is === null || is === undefined || !isSame(told, is, shape.fields[field] as FieldShape)) return [];
      return player.in(tenantOf(one, player) ?? '').may(`${of}.${read}`, one.record as never) ? [] : [[field, one]];
    });
  });
}
