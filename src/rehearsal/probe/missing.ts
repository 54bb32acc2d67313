import type { Kysely } from 'kysely';
import type { Charter } from '../../charter/index.js';
import type { FieldShape, KindShape, RecordData } from '../../predicate/index.js';
import { writerFor } from '../../scoping/index.js';
import type { Player } from './cast.js';
import { FEWEST_ORDERED, maskedFrom, mayRead, valuesIn } from './judge.js';
import { type Picture, type Pictured, parentsFirst, qualified } from './picture.js';
import { Rows } from './rows.js';
import { otherThan } from './states.js';

/** A record as another is, but for some fields. */
interface Like {
  readonly of: Pictured;
  readonly set: Readonly<Record<string, unknown>>;
}

/**
 * Makes what tries need and is not there: where somebody reads everything of a kind in a tenant, a record that they do not, if one can be; and of what is masked from
 * somebody so many that an order would show. Each is like one that is there, under an id of its own. What the database refuses is left out.
 *
 * @returns whether anything was made.
 */
export async function makeMissing(db: Kysely<any>, charter: Charter<any>, picture: Picture, players: readonly Player[]): Promise<boolean> {
  let made = 0;
  for (const kind of parentsFirst(charter)) {
    if (charter.kind(kind).shared) continue;
    for (const tenant of new Set(players.flatMap(({ tenants }) => tenants))) {
      const here = picture.all(kind).filter((one) => one.tenant === tenant);
      for (const like of wanted(
        charter,
        picture,
        here,
        players.filter((one) => one.tenants.includes(tenant)),
      ))
        if (await makeLike(db, charter, picture, like, made + 1)) made += 1;
    }
  }
  return made > 0;
}

function wanted(charter: Charter<any>, picture: Picture, here: readonly Pictured[], members: readonly Player[]): Like[] {
  const [first] = here;
  if (!first) return [];
  const found: Like[] = [];
  const as = ({ of, set }: Like): Pictured => ({ ...of, record: recordWith(charter, picture, of, set) });
  const reads = (player: Player, like: Like) => mayRead(charter, player, as(like));
  const others = here.slice(0, 3).flatMap((of) => variations(charter, picture, of, members));
  for (const player of members) {
    if (here.some((one) => !mayRead(charter, player, one)) || found.some((like) => !reads(player, like))) continue;
    found.push(...others.filter((like) => !reads(player, like)).slice(0, 1));
  }
  for (const [field, { read, type }] of Object.entries(charter.kind(first.kind).fields)) {
    if (read === undefined) continue;
    for (const player of members) {
      const masked = maskedFrom(charter, player, field, here, (one) => mayRead(charter, player, one));
      const values = valuesIn(masked, field);
      const [of] = masked;
      const isShort = of && values < FEWEST_ORDERED && !found.some(({ set }) => Object.hasOwn(set, field));
      for (let i = values; isShort && i < FEWEST_ORDERED; i++) {
        const value = of.record[field];
        found.push({ of, set: { [field]: otherThan(value, type, i + 1) ?? value } });
      }
    }
  }
  return found;
}

/** The same with another owner, maker, parent, state: one thing at a time. */
function variations(charter: Charter<any>, picture: Picture, of: Pictured, members: readonly Player[]): Like[] {
  const people = members.map(({ person }) => person?.id);
  return Object.entries(charter.kind(of.kind).fields).flatMap(([field, { role, type, options, to }]) => {
    const typed = (value: unknown) => (type === 'integer' && typeof value === 'string' ? Number(value) : value);
    const values: readonly unknown[] =
      role === 'owner'
        ? [...people, null]
        : role === 'maker' || role === 'person'
          ? people
          : role === 'parent'
            ? picture.all(to as string).flatMap((one) => (one.tenant === of.tenant ? [one.id] : []))
            : role !== 'plain'
              ? []
              : (options ?? (type === 'boolean' ? [true, false] : []));
    return values
      .filter((value) => value !== undefined && String(value) !== String(of.record[field]))
      .map((value): Like => ({ of, set: { [field]: typed(value) } }));
  });
}

/** As it would be: nobody is listed at it yet. */
function recordWith(charter: Charter<any>, picture: Picture, { kind, record, tenant }: Pictured, set: Like['set']): RecordData {
  const { fields } = charter.kind(kind);
  const lists = Object.fromEntries(Object.entries(fields).flatMap(([field, { role }]) => (role === 'people' ? [[field, []]] : [])));
  const parents = Object.fromEntries(
    Object.entries(set).flatMap(([field, value]) => {
      const { to } = fields[field] ?? {};
      return to === undefined ? [] : [[field, picture.find(to, String(value), tenant)?.record ?? null]];
    }),
  );
  return { ...record, ...lists, ...set, parents: { ...(record.parents as RecordData['parents'] & object), ...parents } };
}

async function makeLike(db: Kysely<any>, charter: Charter<any>, picture: Picture, { of, set }: Like, n: number): Promise<boolean> {
  const shape = charter.shapes[of.kind] as KindShape;
  const column = (field: string) => (shape.fields[field] as FieldShape).column;
  const id = freshId(picture, shape, of, n);
  const texts = Object.entries(charter.kind(of.kind).fields).filter(
    ([field, { role, type, options }]) => role === 'plain' && type === 'text' && !options && typeof of.record[field] === 'string' && !Object.hasOwn(set, field),
  );
  const named = (fields: readonly string[]) => Object.fromEntries(fields.map((field) => [column(field), `${String(of.record[field])} ${n}`]));
  const { label } = charter.kind(of.kind);
  const plain = { ...Object.fromEntries(Object.entries(set).map(([field, value]) => [column(field), value])), [column(shape.idField)]: id };
  // Whatever is not to be there twice is a text, as a rule.
  for (const also of [named(texts.map(([field]) => field)), named(texts.some(([field]) => field === label) ? [label] : []), {}]) {
    const isMade = await db
      .transaction()
      .execute((tx) => new Rows(tx, writerFor(db, charter.shapes)).putLike(qualified(shape), of.row, { ...also, ...plain }))
      .then(
        () => true,
        () => false,
      );
    if (isMade) return true;
  }
  return false;
}

/** Far from what the application counts up to. */
function freshId(picture: Picture, { fields, idField }: KindShape, { kind, id }: Pictured, n: number): string | number {
  const { type } = fields[idField] as FieldShape;
  if (type === 'integer') return Math.max(...picture.all(kind).map((one) => Number(one.id))) + 10_000 + n;
  return type === 'uuid' ? crypto.randomUUID() : `${id}-${n}`;
}
