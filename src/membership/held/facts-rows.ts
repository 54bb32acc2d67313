import { CompiledQuery, type Kysely } from 'kysely';
import { PREPARED } from '../../base/index.js';
import type { Charter, RoleData } from '../../charter/index.js';
import { type Demands, openingKey } from '../../standing/index.js';
import type { AssignmentRow, LintelTables } from '../terms/index.js';

/** One statement for all that standings in a tenant rest on. It is a function, so that its plan is made once a connection and not once a request. */
const FACTS = `select f as row from lintel_facts($1, $2, $3, $4) f${PREPARED}`;

export type ViaColumn = 'user' | 'group' | 'unit';

export interface FactsRow {
  name: string;
  status: string;
  contact: string | null;
  features: string[];
  bases: Record<string, string>;
  person_id: string | null;
  person: string | null;
  known: boolean;
  /** By source. */
  attributes: Record<string, Record<string, unknown>> | null;
  /** Of the person, and for a program of whoever answers for it: null for nobody. */
  bars: (Bar | null)[] | null;
  held: [ViaColumn, string, string, string | null, string | null, AssignmentRow['anchor'], string, string | null, string[], string[] | null][] | null;
  /** Units that the person is placed at, and what is below these and below units at which something is held, themselves among it. */
  placed: string[];
  below: Record<string, string[]> | null;
  groups: string[];
  opened: [string, string, string[], string, string, ViaColumn, string, string | null][] | null;
  roles: Record<string, RoleData> | null;
  group_names: Record<string, string> | null;
  unit_names: Record<string, string> | null;
  stands_for: [string, string[], string, string][] | null;
  program: boolean;
  /** By the platform, everywhere. */
  deactivated: boolean;
  demands: Demands;
  asked_password: boolean;
}

/** As it is read. Of several people, the people of a group stand in the first row that asks for them. Of an opening there are also those who left the group. */
type ReadRow = [
  name: string,
  status: string,
  contact: string | null,
  features: string[],
  bases: Record<string, string>,
  demands: Demands,
  personId: string | null,
  person: string | null,
  deactivated: boolean,
  known: boolean,
  askedPassword: boolean,
  attributes: FactsRow['attributes'],
  program: boolean,
  bars: FactsRow['bars'],
  ...ofMember: Partial<OfMember>,
];

type OfMember = [
  held: FactsRow['held'],
  placed: FactsRow['placed'],
  below: FactsRow['below'],
  groups: FactsRow['groups'],
  people: [string, string[]][] | null,
  opened: [string, string, string[], string, string, ViaColumn, string, string | null, string[] | null, string[] | null][] | null,
  roles: FactsRow['roles'],
  groupNames: FactsRow['group_names'],
  unitNames: FactsRow['unit_names'],
  standsFor: FactsRow['stands_for'],
];

/** What was read of several people of one tenant: lists of people are held once, by all whose facts name them. */
export interface Read {
  readonly rows: FactsRow[];
  /** By group, and by {@link openingKey}. */
  readonly people: Map<string, readonly string[]>;
}

/** What keeps a member from holding anything: a suspension, until a moment or for good, and the end of the membership. */
export type Bar = readonly [status: 'active' | 'suspended', suspendedUntil: string | null, endsAt: string | null];

const asking = new WeakMap<Charter, boolean>();

/** True if a rule asks whether somebody is in a group: then the facts have to hold the people of groups. */
export function asksForGroupPeople(charter: Charter): boolean {
  const { kinds, limits } = charter.data;
  const known = asking.get(charter) ?? JSON.stringify([Object.values(kinds).map((k) => k.reaches), limits]).includes('"op":"among"');
  asking.set(charter, known);
  return known;
}

/** Reads of several people in one tenant what their standings rest on. */
export async function readRows(db: Kysely<LintelTables>, charter: Charter, tenant: string, users: readonly string[], now: number): Promise<Read> {
  const { rows } = await db.executeQuery<{ row: ReadRow }>(CompiledQuery.raw(FACTS, [tenant, users, asksForGroupPeople(charter), new Date(now).toISOString()]));
  const people = new Map<string, readonly string[]>();
  const keep = (key: string, of: readonly string[] | null) => of && !people.has(key) && people.set(key, of);
  const plain = rows.map(({ row }): FactsRow => {
    const [name, status, contact, features, bases, demands, person_id, person, deactivated, known, asked_password, attributes, program, bars, ...more] = row;
    const [held = null, placed = [], below = null, groups = [], inside, opened = null, roles = null, group_names = null, unit_names = null, stands_for = null] =
      more;
    for (const [id, of] of inside ?? []) keep(id, of);
    for (const [, , , group, , , , , of] of opened ?? []) keep(group, of);
    for (const [id, , , group, , , , , , left] of opened ?? []) {
      const inside = people.get(group) ?? [];
      keep(openingKey(id), left ? [...new Set([...inside, ...left])] : inside);
    }
    return {
      name,
      status,
      contact,
      features,
      bases,
      demands,
      person_id,
      person,
      deactivated,
      known,
      asked_password,
      attributes,
      program,
      bars,
      held,
      placed: placed.length > 1 ? [...new Set(placed)].sort() : placed,
      below,
      groups,
      opened: opened?.map((one) => one.slice(0, 8) as never) ?? null,
      roles,
      group_names,
      unit_names,
      stands_for,
    };
  });
  return { rows: plain, people };
}
