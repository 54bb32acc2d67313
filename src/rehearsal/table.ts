import type { Kysely } from 'kysely';
import { type Charter, KEYHOLDER, type Permission } from '../charter/index.js';
import { anyOf } from '../predicate/index.js';
import { tallyRecords } from '../scoping/index.js';
import { everythingMet, type Facts, Standing, wayWords } from '../standing/index.js';
import { type Members, type Stray, strayRecords } from './stray.js';

/** A row of the table: a person, a role, or a subject that holds no role. */
export interface Subject {
  readonly id: string;
  readonly name: string;
  /** A person's powers, or a role's holders, in one line. */
  readonly line: string;
  /** The standings that stand behind it: one for a person, one for each holder of a role. */
  readonly standings: readonly Standing<any>[];
  /** A standing that shows what the row holds, also where nobody stands behind it. */
  readonly shown: Standing<any>;
  /** True: left out of sections where it has nothing. */
  readonly sparse?: true;
}

/** How far somebody reaches with one action. */
export interface Cell {
  /** How far the permission reaches, one way each: `all`, `own`, `all in Orchard side`. Empty: not at all. */
  readonly ways: readonly string[];
  /** Records reached, where they were counted. */
  readonly count: number | null;
}

/** The part of an access table for one kind, or for areas. */
export interface Section {
  readonly name: string;
  readonly permissions: readonly { readonly name: string; readonly short: string; readonly label: string }[];
  readonly rows: readonly { readonly subject: { readonly id: string; readonly name: string; readonly line: string }; readonly cells: readonly Cell[] }[];
  /** Records of the kind in the tenant, where they were counted. */
  readonly total: number | null;
  /** What stands out among the records, where they were looked over. */
  readonly stray?: Stray;
}

/** Who reaches what, by kind: people or roles at the side, actions across. */
export interface AccessTable {
  readonly tenant: string | null;
  readonly by: 'people' | 'roles';
  readonly sections: readonly Section[];
}

/** Facts about a made-up member who holds just these roles: for a row that is about a role, or about somebody to be invited. */
export function madeUpFacts(charter: Charter<any>, tenant: Facts['tenant'], assignments: Facts['assignments'], below: Facts['below'] = {}): Facts {
  return {
    charter: charter.hash,
    tenant,
    subject: 'member',
    me: { userId: 'somebody', groupIds: [], unitIds: [], attributes: {} },
    assignments,
    below,
    fulfilled: everythingMet(charter),
  };
}

function sectionsOf(charter: Charter<any>, only: readonly string[]): Map<string, Permission[]> {
  const sections = new Map<string, Permission[]>();
  for (const permission of charter.permissions.values()) {
    const group = permission.name.split('.')[0] as string;
    if (only.length > 0 && !only.includes(group)) continue;
    sections.set(permission.section, [...(sections.get(permission.section) ?? []), permission]);
  }
  return sections;
}

/** `update` of `hive.update`; where several in a section end so, the whole. */
function shortOf({ name }: Permission, all: readonly Permission[]): string {
  const short = (one: string) => one.split('.')[1] as string;
  return all.filter((other) => short(other.name) === short(name)).length > 1 ? name : short(name);
}

export interface TableOptions {
  readonly tenant?: Facts['tenant'];
  readonly db?: Kysely<any>;
  /** Groups to show (`hive`, `area`, `member`); none means all. */
  readonly only?: readonly string[];
  /** The members of the tenant: then the records are looked over for what stands out among them. */
  readonly members?: Members;
  /** So many people may read a record: those that more read are counted. */
  readonly most?: number;
}

/**
 * The access table: subjects against actions, each cell how far it reaches, with counts on the real records where a database
 * is given. Counts are made by the database, those of people alike in one pass; no record is loaded.
 */
export async function accessTable(
  charter: Charter<any>,
  by: AccessTable['by'],
  subjects: readonly Subject[],
  options: TableOptions = {},
): Promise<AccessTable> {
  const { tenant, db, only = [], members, most } = options;
  const held = new Map(subjects.map((subject) => [subject, new Map(subject.shown.describe().permissions.map((p) => [p.permission, p]))]));
  const sections: Section[] = [];
  for (const [name, permissions] of sectionsOf(charter, only)) {
    const kind = permissions[0]?.kind;
    let total: number | null = null;
    const counted = permissions.filter((p) => p.action !== 'create');
    const counts = new Map<string, number | null>();
    let stray: Stray | undefined;
    if (db && tenant && kind) {
      if (members && !charter.kind(kind).shared) stray = await strayRecords(db, charter, kind, tenant.id, members, most);
      const asked = subjects.flatMap(({ standings }) => counted.map((p) => anyOf(standings.map((s) => s.reachOf(p.name)))));
      const found = await tallyRecords(db, charter.shapes, kind, tenant.id, asked);
      total = found.total;
      for (const [i, count] of found.counts.entries())
        counts.set(`${Math.floor(i / counted.length)} ${(counted[i % counted.length] as Permission).name}`, count);
    }
    const rows = subjects.flatMap((subject, i): Section['rows'] => {
      const cells = permissions.map((p) => ({ ways: wayWords(held.get(subject)?.get(p.name)?.ways ?? [], p), count: counts.get(`${i} ${p.name}`) ?? null }));
      if (subject.sparse && cells.every(({ ways }) => ways.length === 0)) return [];
      return [{ subject: { id: subject.id, name: subject.name, line: subject.line }, cells }];
    });
    sections.push({
      name,
      total,
      ...(stray && { stray }),
      permissions: permissions.map((p) => ({ name: p.name, short: shortOf(p, permissions), label: p.label })),
      rows,
    });
  }
  return { tenant: tenant?.name || null, by, sections };
}

/** A row for each role, keyholder first, with the standings of those who hold it. */
export function roleSubjects(charter: Charter<any>, tenant: Facts['tenant'], holders: readonly Standing<any>[]): Subject[] {
  return [KEYHOLDER, ...Object.keys(charter.data.roles)].map((role) => {
    const standings = holders
      .filter((s) => s.facts.assignments.some((a) => a.role === role))
      .map((s) => new Standing(charter, { ...s.facts, direct: [], opened: [], assignments: s.facts.assignments.filter((a) => a.role === role) }));
    const line = holders.length === 0 ? '' : standings.length === 0 ? 'nobody holds it' : standings.length === 1 ? '1 holder' : `${standings.length} holders`;
    return {
      id: role,
      name: charter.role(role).label,
      line,
      standings,
      shown: new Standing(charter, madeUpFacts(charter, tenant, [{ role, anchor: { on: 'tenant' } }])),
    };
  });
}

/** A row for everybody to whom the charter gives something without a role: every member, whoever is signed in, and whoever is not. */
export function openSubjects(charter: Charter<any>, tenant: Facts['tenant']): Subject[] {
  const open = [
    { id: 'everyMember', name: 'Every member', subject: 'member' },
    { id: 'signedIn', name: 'Signed in, no member', subject: 'signedIn' },
    { id: 'visitor', name: 'Visitors', subject: 'visitor' },
  ] as const;
  return open.flatMap(({ id, name, subject }) => {
    if (Object.keys(charter.data[id]).length === 0) return [];
    const { me, ...facts } = madeUpFacts(charter, tenant, []);
    const { userId: _, ...nobody } = me;
    const shown = new Standing(charter, { ...facts, subject, me: subject === 'visitor' ? nobody : me });
    return [{ id, name, line: '', standings: [shown], shown, sparse: true }];
  });
}

/** A row for each member. */
export function peopleSubjects(standings: readonly Standing<any>[]): Subject[] {
  return standings.map((s) => ({ id: s.userId ?? '', name: s.facts.me.name ?? s.userId ?? '', line: s.describe().line, standings: [s], shown: s }));
}
