import type { Kysely } from 'kysely';
import { entryOf, hashOf, LintelError, newId } from '../../base/index.js';
import { type Charter, type Identified, idType } from '../../charter/index.js';
import { readValue } from '../../predicate/index.js';
import type { Anchor } from '../../standing/index.js';
import type { Setting } from './setting.js';

/** An id as code has it: of the type that the charter gives it, or as text. */
export type Id = string | number;

/** Before an id that the library itself makes up, for somebody whom there is not. */
const OWN = 'lintel:';
/** Signed in, and nobody that anything belongs to. */
export const NOBODY = `${OWN}nobody`;
/** An id of somebody who is made up for a moment. */
export const madeUpId = (): string => `${OWN}${newId()}`;

/** The one text in which an id is written everywhere: `5`, a lower-case uuid; undefined for what is no id of that type. */
function spelling(charter: Charter<any>, what: Identified, id: unknown): string | undefined {
  const read = readValue(idType(charter, what), typeof id === 'number' ? String(id) : id);
  return read === undefined ? undefined : String(read);
}

/** An id of nothing, for what no database holds as text. */
const NOTHING = `${OWN}nothing`;
/** PostgreSQL's texts hold no NUL, and no half of a character. */
const isText = (text: string) => !/[\0\p{Cs}]/u.test(text);

/** The same, and what is none as it is: it is the id of nothing. */
export function spelled(charter: Charter<any>, what: Identified, id: Id): string {
  const text = spelling(charter, what, id) ?? String(id);
  return isText(text) ? text : NOTHING;
}

/** @throws LintelError `bad-id` for what is no id of the type that the charter gives. */
export function insistOnId(charter: Charter<any>, what: Identified, id: Id): string {
  const read = spelling(charter, what, id);
  if (read !== undefined && !read.startsWith(OWN) && isText(read)) return read;
  const type = idType(charter, what);
  const takes = type === 'text' ? `is a text that does not begin with “${OWN}”` : `is ${type === 'integer' ? 'an integer' : 'a uuid'} in the charter`;
  throw new LintelError('bad-id', `“${String(id).slice(0, 80)}” is no id of a ${what}: that ${takes}`, { id });
}

/** Somebody who comes in: a person, or whom the library has made up. @throws LintelError `bad-id`. */
export const idOfComer = (charter: Charter<any>, id: Id): string => (String(id).startsWith(OWN) ? String(id) : insistOnId(charter, 'person', id));

/** Makes somebody where the application keeps its people itself, in the transaction that makes them here; answers the id. */
export type PersonMaker = (
  tx: Kysely<any>,
  person: {
    readonly name: string /** Absent for a program, and for a kept account. */;
    readonly address?: string;
    readonly isProgram: boolean /** The tenant that keeps the account, of somebody who was enrolled. */;
    readonly keptBy?: string;
  },
) => Promise<Id> | Id;

/**
 * The id of a person or a program: the one that was given, the one that the application makes, or a uuid.
 *
 * @throws LintelError `bad-id`; `id-used` for that of somebody who was erased; `option-missing` where ids are numbers, which only the application can make.
 */
export async function idOfPerson(tx: Kysely<any>, setting: Setting, given: Id | undefined, person: Parameters<PersonMaker>[1]): Promise<string> {
  const { charter, newPerson } = setting;
  if (given !== undefined || newPerson) {
    const id = insistOnId(charter, 'person', given ?? (await (newPerson as PersonMaker)(tx, person)));
    const used = await tx.selectFrom('lintel_erased').select('person_id').where('person_id', '=', id).executeTakeFirst();
    if (used)
      throw new LintelError('id-used', `“${id}” was the id of somebody who was erased; what they owned would be another's. Give an id that nobody had.`, {
        id,
      });
    return id;
  }
  if (idType(charter, 'person') !== 'integer') return newId();
  throw new LintelError(
    'option-missing',
    'people have integer ids here, which only the application can make; give the id, or give createLintel newPerson, which makes a person and answers the id',
    {},
  );
}

/** The id of a tenant. @throws LintelError `bad-id`; `option-missing` where ids are numbers and none was given. */
export function idOfTenant(charter: Charter<any>, given: Id | undefined): string {
  if (given !== undefined) return insistOnId(charter, 'tenant', given);
  if (idType(charter, 'tenant') !== 'integer') return newId();
  throw new LintelError('option-missing', 'tenants have integer ids here, which only the application can make; give the id', {});
}

/** The id of a unit or a group. A number is that of the change which makes it: no other in the tenant has it, then or later. @throws LintelError `bad-id`. */
export function idOfOwn({ setting, number }: { readonly setting: Setting; readonly number: number }, what: 'unit' | 'group', given: Id | undefined): string {
  if (given !== undefined) return insistOnId(setting.charter, what, given);
  return idType(setting.charter, what) === 'integer' ? String(number) : newId();
}

/** Which ids stand under a name in a step, one or several. What is called `id` is of what the step is about. */
const IDS: Readonly<Record<string, Identified>> = {
  user: 'person',
  people: 'person',
  program: 'person',
  responsible: 'person',
  of: 'person',
  from: 'person',
  to: 'person',
  unit: 'unit',
  unitId: 'unit',
  units: 'unit',
  below: 'unit',
  group: 'group',
  groups: 'group',
};
const ABOUT: readonly (readonly [RegExp, Identified])[] = [
  [/-unit$/, 'unit'],
  [/-group$/, 'group'],
  [/-program$|^enrol$/, 'person'],
];

/** Under these nothing is an id, whatever it is called: values of attributes; and rules, which are read when somebody comes by them. */
const NO_IDS: readonly string[] = ['attributes', 'rules', 'terms', 'claims'];

const isAnchorAtRecord = (value: unknown): value is Extract<Anchor, { readonly on: 'record' }> =>
  typeof value === 'object' && value !== null && 'on' in value && value.on === 'record';

/** The id of a record of a kind, as text. */
export function recordId({ shapes }: Charter<any>, kind: string, id: unknown): string {
  const shape = entryOf(shapes, kind);
  return String(readValue(shape?.fields[shape.idField]?.type ?? 'text', id) ?? id);
}

/** What somebody asks for, a step or a part of one, with each id in it as `write` has it. */
function withIds<S extends object>(charter: Charter<any>, asked: S, write: (id: Id, what: Identified) => Id): S {
  const does = 'do' in asked ? String(asked.do) : '';
  const about = ABOUT.find(([pattern]) => pattern.test(does))?.[1];
  const written = (value: unknown, what: Identified | undefined): unknown => {
    if (Array.isArray(value)) return value.map((one) => written(one, what));
    if (isAnchorAtRecord(value)) return { ...value, id: recordId(charter, value.kind, value.id) };
    if (typeof value === 'object' && value !== null)
      return Object.fromEntries(Object.entries(value).map(([key, inner]) => [key, NO_IDS.includes(key) ? inner : written(inner, whatOf(key, value))]));
    return what !== undefined && (typeof value === 'string' || typeof value === 'number') ? write(value, what) : value;
  };
  const whatOf = (key: string, holder: object) => (key === 'id' && holder === asked ? about : Object.hasOwn(IDS, key) ? IDS[key] : undefined);
  return written(asked, undefined) as S;
}

/** What somebody asks for, a step or a part of one, in which each id is written in its one spelling, however it was given. */
export const inOneSpelling = <S extends object>(charter: Charter<any>, asked: S): S => withIds(charter, asked, (id, what) => spelled(charter, what, id));

/**
 * Steps from outside: an id that they give a new program, or somebody whom they enrol, is a name within them, for which an id of ours stands that nobody can choose. The same steps of the same
 * person have the same.
 *
 * @param by what nobody else has: tenant and person.
 */
export function withOurIds<S extends { readonly do: string }>(charter: Charter<any>, steps: readonly S[], by: readonly string[]): S[] {
  const given = new Set(steps.flatMap((step) => (['make-program', 'enrol'].includes(step.do) && 'id' in step ? [String(step.id)] : [])));
  const ours = (id: Id) => hashOf([JSON.stringify([...by, String(id)])]).replace(/^(.{8})(.{4}).(.{3}).(.{3})(.{12}).*$/, '$1-$2-8$3-8$4-$5');
  return steps.map((step) => withIds(charter, step, (id, what) => (what === 'person' && given.has(String(id)) ? ours(id) : id)));
}
