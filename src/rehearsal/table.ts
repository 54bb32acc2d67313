import type { Kysely } from 'kysely';
import { type Charter, KEYHOLDER, type Permission } from '../charter/index.js';
import { anyOf } from '../predicate/index.js';
import { tallyRecords } from '../scoping/index.js';
import { type Facts, Standing, wayWords } from '../standing/index.js';

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
}

export interface Cell {
  /** How far the permission reaches, one way each: `all`, `own`, `all in Orchard side`. Empty: not at all. */
  readonly ways: readonly string[];
  /** Records reached, where they were counted. */
  readonly count: number | null;
}

export interface Section {
  readonly name: string;
  readonly permissions: readonly { readonly name: string; readonly short: string; readonly label: string }[];
  readonly rows: readonly { readonly subject: { readonly id: string; readonly name: string; readonly line: string }; readonly cells: readonly Cell[] }[];
  /** Records of the kind in the tenant, where they were counted. */
  readonly total: number | null;
}

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
    fulfilled: Object.keys(charter.data.obligations),
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

/**
 * The access table: subjects against actions, each cell how far it reaches, with counts on the real records where a database
 * is given. Counts are made by the database, those of people alike in one pass; no record is loaded.
 *
 * @param only groups to show (`hive`, `area`, `member`); none means all.
 */
export async function accessTable(
  charter: Charter<any>,
  by: AccessTable['by'],
  subjects: readonly Subject[],
  options: { readonly tenant?: Facts['tenant']; readonly db?: Kysely<any>; readonly only?: readonly string[] } = {},
): Promise<AccessTable> {
  const { tenant, db, only = [] } = options;
  const held = new Map(subjects.map((subject) => [subject, new Map(subject.shown.describe().permissions.map((p) => [p.permission, p]))]));
  const sections: Section[] = [];
  for (const [name, permissions] of sectionsOf(charter, only)) {
    const kind = permissions[0]?.kind;
    let total: number | null = null;
    const counted = permissions.filter((p) => p.action !== 'create');
    const counts = new Map<string, number | null>();
    if (db && tenant && kind) {
      const asked = subjects.flatMap(({ standings }) => counted.map((p) => anyOf(standings.map((s) => s.reachOf(p.name)))));
      const found = await tallyRecords(db, charter.shapes, kind, tenant.id, asked);
      total = found.total;
      for (const [i, count] of found.counts.entries())
        counts.set(`${Math.floor(i / counted.length)} ${(counted[i % counted.length] as Permission).name}`, count);
    }
    const rows = subjects.map((subject, i): Section['rows'][number] => ({
      subject: { id: subject.id, name: subject.name, line: subject.line },
      cells: permissions.map((p) => ({ ways: wayWords(held.get(subject)?.get(p.name)?.ways ?? [], p), count: counts.get(`${i} ${p.name}`) ?? null })),
    }));
    sections.push({ name, total, permissions: permissions.map((p) => ({ name: p.name, short: p.name.split('.')[1] as string, label: p.label })), rows });
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

/** A row for each member. */
export function peopleSubjects(standings: readonly Standing<any>[]): Subject[] {
  return standings.map((s) => ({ id: s.userId ?? '', name: s.facts.me.name ?? s.userId ?? '', line: s.describe().line, standings: [s], shown: s }));
}
