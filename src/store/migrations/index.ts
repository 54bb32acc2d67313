import { type Kysely, sql } from 'kysely';
import { STEP_0001 } from './0001-tenants-members-invitations.js';
import { STEP_0002 } from './0002-accounts.js';
import { STEP_0003 } from './0003-groups.js';
import { STEP_0004 } from './0004-own-roles-openings.js';
import { STEP_0005 } from './0005-charters-programs.js';
import { STEP_0006 } from './0006-rules-views-care.js';
import { STEP_0007 } from './0007-appeals.js';
import { STEP_0008 } from './0008-people-that-are-programs.js';
import { STEP_0009 } from './0009-what-is-held-later.js';
import { STEP_0010 } from './0010-what-erasing-takes.js';
import { STEP_0011 } from './0011-each-list-once.js';
import { STEP_0012 } from './0012-what-was-brought.js';
import { STEP_0013 } from './0013-by-what-each-came.js';
import { STEP_0014 } from './0014-sign-in.js';
import { STEP_0015 } from './0015-kept-accounts-demands.js';
import { STEP_0016 } from './0016-arrivals.js';
import { STEP_0017 } from './0017-looks.js';
import { STEP_0018 } from './0018-journal.js';
import { STEP_0019 } from './0019-facts-in-fewer-steps.js';
import { STEP_0020 } from './0020-long-lists.js';
import { STEP_0021 } from './0021-facts-anew.js';
import { STEP_0022 } from './0022-places.js';
import { STEP_0023 } from './0023-facts-a-list-at-once.js';
import { STEP_0024 } from './0024-facts-group-by-group.js';
import type { Migration } from './migration.js';

/**
 * The library's tables, as steps that are each run once. Keys of a tenant's tables begin with the tenant and no foreign key
 * crosses tenants, so that they can be distributed by tenant; `lintel_person` and `lintel_person_tenant` are keyed by person.
 */
const STEPS: readonly Migration[] = [
  STEP_0001,
  STEP_0002,
  STEP_0003,
  STEP_0004,
  STEP_0005,
  STEP_0006,
  STEP_0007,
  STEP_0008,
  STEP_0009,
  STEP_0010,
  STEP_0011,
  STEP_0012,
  STEP_0013,
  STEP_0014,
  STEP_0015,
  STEP_0016,
  STEP_0017,
  STEP_0018,
  STEP_0019,
  STEP_0020,
  STEP_0021,
  STEP_0022,
  STEP_0023,
  STEP_0024,
];

/** Brings the library's tables up to date. Can be run again, and by several processes at once. */
export async function migrate(db: Kysely<never>): Promise<string[]> {
  return db.transaction().execute(async (tx) => {
    await sql`select pg_advisory_xact_lock(7741203118)`.execute(tx);
    await sql`create table if not exists lintel_migration (name text primary key, at timestamptz not null default now())`.execute(tx);
    const { rows } = await sql<{ name: string }>`select name from lintel_migration`.execute(tx);
    const done = new Set(rows.map((row) => row.name));
    const run: string[] = [];
    for (const step of STEPS) {
      if (done.has(step.name)) continue;
      for (const statement of statements(step.sql)) await sql.raw(statement).execute(tx);
      await sql`insert into lintel_migration (name) values (${step.name})`.execute(tx);
      run.push(step.name);
    }
    return run;
  });
}

/** One statement at a time: what a prepared query of every driver takes. A function's body is one piece. */
function statements(text: string): string[] {
  return text.split(/;\n/).reduce<string[]>((all, piece) => {
    const last = all.at(-1);
    if (last !== undefined && (last.split('$$').length - 1) % 2 === 1) all[all.length - 1] = `${last};\n${piece}`;
    else if (piece.trim() !== '') all.push(piece.trim());
    return all;
  }, []);
}
