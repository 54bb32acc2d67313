import { type Kysely, sql, type Transaction } from 'kysely';
import type { Charter } from '../../charter/index.js';
import { columnsUnderPolicies, type PolicyOptions, policyStatements, tablesUnderPolicies } from './ddl.js';
import { WALL } from './rule.js';

/** Something by which the policies of a live database are not what the charter says, or by which one gets around them. */
export interface PolicyFinding {
  /** Stable, for programs: `differs`, `bypasses`, `truncate`, ... */
  readonly code: string;
  /** The table, function or role that it is about. */
  readonly object: string;
  readonly message: string;
  readonly remedy: string;
}

interface Part {
  readonly object: string;
  readonly text: string;
}

/** Everything in the catalogue that the statements put up, object by object, as the database prints it. */
async function standingParts(tx: Kysely<any>, tables: readonly string[]): Promise<Map<string, string>> {
  const { rows } = await sql<Part>`
    select format('row level security of %s', c.oid::regclass) as object, c.relrowsecurity::text as text from pg_class c where c.oid = any(${tables}::regclass[])
    union all
    select format('policy %s on %s', p.polname, p.polrelid::regclass), format('%s %s %s %s %s', p.polcmd, p.polpermissive, p.polroles, pg_get_expr(p.polqual, p.polrelid), pg_get_expr(p.polwithcheck, p.polrelid))
    from pg_policy p where p.polrelid = any(${tables}::regclass[]) and p.polname like 'lintel\\_%'
    union all
    select format('trigger %s on %s', t.tgname, t.tgrelid::regclass), format('%s %s', t.tgenabled, pg_get_triggerdef(t.oid)) from pg_trigger t where t.tgrelid = any(${tables}::regclass[]) and (t.tgname = 'lintel_changed' or t.tgname like 'lintel\\_journal\\_%')
    union all
    select format('function %s', p.oid::regprocedure), format('%s %s', pg_get_functiondef(p.oid), p.proowner::regrole) from pg_proc p where p.pronamespace = to_regnamespace(${WALL}) and p.prokind = 'f'
    union all
    select format('view %s', c.oid::regclass), pg_get_viewdef(c.oid) from pg_class c where c.relnamespace = to_regnamespace(${WALL}) and c.relkind = 'v'`.execute(
    tx,
  );
  return new Map(rows.map((row) => [row.object, row.text]));
}

class Undo extends Error {}

/** Puts the policies up anew beside the live ones, in a transaction that is undone, and names what that changes. */
async function differences(db: Kysely<any>, charter: Charter, options: PolicyOptions): Promise<PolicyFinding[]> {
  const tables = tablesUnderPolicies(charter);
  const found: PolicyFinding[] = [];
  const add = (object: string, message: string) =>
    found.push({ code: 'differs', object, message: `${object} ${message}`, remedy: 'run the statements that `lintel policies` prints' });
  await db
    .transaction()
    .execute(async (tx) => {
      await sql`set local lock_timeout = '5s'`.execute(tx);
      const before = await standingParts(tx, tables);
      for (const statement of policyStatements(charter, options)) await sql.raw(statement).execute(tx);
      const after = await standingParts(tx, tables);
      for (const [object, text] of after) if (before.get(object) !== text) add(object, before.has(object) ? 'is not as the charter says' : 'is missing');
      for (const object of before.keys()) if (!after.has(object)) add(object, 'is not of this charter');
      throw new Undo();
    })
    .catch((error: unknown) => {
      if (!(error instanceof Undo)) throw error;
    });
  return found;
}

type Hole = readonly [
  code: string,
  remedy: string,
  find: (
    tx: Transaction<any>,
    role: string,
    tables: readonly string[],
    declared: readonly (readonly [table: string, column: string])[],
  ) => Promise<{ rows: { object: string; message: string }[] }>,
];

const HOLES: readonly Hole[] = [
  [
    'bypasses',
    'connect the application as a role that owns nothing, is no superuser, and has nobypassrls',
    (tx, role, tables) =>
      sql`
      select r.rolname as object, format('the role %s %s', r.rolname, case when r.rolsuper then 'is a superuser' when r.rolbypassrls then 'bypasses row level security' else 'owns the tables, or can become who owns them' end) as message
      from pg_roles r where pg_has_role(${role}, r.oid, 'MEMBER') and (r.rolsuper or r.rolbypassrls or exists (select 1 from pg_class c where c.oid = any(${tables}::regclass[]) and c.relowner = r.oid))`.execute(
        tx,
      ) as never,
  ],
  [
    'truncate',
    'revoke truncate, references and trigger on the table: no policy holds them',
    (tx, role, tables) =>
      sql`
      select c.oid::regclass::text as object, format('%s may %s %s', ${role}::text, lower(p.verb), c.oid::regclass) as message
      from pg_class c cross join unnest(array['TRUNCATE', 'REFERENCES', 'TRIGGER']) as p(verb) where c.oid = any(${tables}::regclass[]) and has_table_privilege(${role}, c.oid, p.verb)`.execute(
        tx,
      ) as never,
  ],
  [
    'view-of-owner',
    'create the view with security_invoker = true, or do not grant it to the role',
    (tx, role, tables) =>
      sql`
      select distinct v.oid::regclass::text as object, format('the %s %s shows %s with the rights of its owner', case v.relkind when 'm' then 'materialized view' else 'view' end, v.oid::regclass, t.oid::regclass) as message
      from pg_class v join pg_rewrite w on w.ev_class = v.oid join pg_depend d on d.objid = w.oid and d.classid = 'pg_rewrite'::regclass join pg_class t on t.oid = d.refobjid
      where v.relkind in ('v', 'm') and t.oid = any(${tables}::regclass[]) and v.relnamespace is distinct from to_regnamespace(${WALL})
        and not coalesce(v.reloptions @> array['security_invoker=true'] or v.reloptions @> array['security_invoker=on'], false) and has_table_privilege(${role}, v.oid, 'SELECT')`.execute(
        tx,
      ) as never,
  ],
  [
    'partition',
    'revoke everything on the partition: it is reached through its parent',
    (tx, role, tables) =>
      sql`
      select c.oid::regclass::text as object, format('%s is a part of %s and can be reached directly, past its policies', c.oid::regclass, i.inhparent::regclass) as message
      from pg_inherits i join pg_class c on c.oid = i.inhrelid where i.inhparent = any(${tables}::regclass[]) and has_table_privilege(${role}, c.oid, 'SELECT, INSERT, UPDATE, DELETE') and not c.relrowsecurity`.execute(
        tx,
      ) as never,
  ],
  [
    'foreign-policy',
    'look at what it is for, and drop it if nothing needs it',
    (tx, _role, tables) =>
      sql`
      select p.polrelid::regclass::text as object, format('there is another policy on %s: %s', p.polrelid::regclass, p.polname) as message
      from pg_policy p where p.polrelid = any(${tables}::regclass[]) and p.polname not like 'lintel\\_%'`.execute(tx) as never,
  ],
  [
    'definer-function',
    'revoke execute on it from the role and from public, or show that it lets nobody past the policies',
    (tx, role) =>
      sql`
      select p.oid::regprocedure::text as object, format('%s runs with the rights of %s and may be called by %s', p.oid::regprocedure, p.proowner::regrole, ${role}::text) as message
      from pg_proc p join pg_namespace n on n.oid = p.pronamespace where p.prosecdef and n.nspname <> ${WALL} and n.nspname not in ('pg_catalog', 'information_schema') and has_function_privilege(${role}, p.oid, 'EXECUTE')`.execute(
        tx,
      ) as never,
  ],
  [
    'membership-readable',
    'revoke it: who is a member is not for plain SQL of the application',
    (tx, role) =>
      sql`
      select c.oid::regclass::text as object, format('%s has rights on %s', ${role}::text, c.oid::regclass) as message
      from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind = 'r' and c.relpersistence <> 't' and (c.relname like 'lintel\\_%' or n.nspname = ${WALL}) and has_table_privilege(${role}, c.oid, 'SELECT, INSERT, UPDATE, DELETE, TRUNCATE')`.execute(
        tx,
      ) as never,
  ],
  [
    'makes-objects',
    'revoke it from the role and from public: what is made there can stand before what the next one means',
    (tx, role) =>
      sql`
      select n.nspname as object, format('%s may create objects in the schema %s', ${role}::text, n.nspname) as message
      from pg_namespace n where has_schema_privilege(${role}, n.oid, 'CREATE') and n.nspname not like 'pg\\_temp%' and n.nspname not like 'pg\\_toast%'
      union all
      select current_database(), format('%s may make %s in the database %s', ${role}::text, case p.verb when 'TEMP' then 'temporary objects' else 'schemas' end, current_database())
      from unnest(array['TEMP', 'CREATE']) as p(verb) where has_database_privilege(${role}, current_database(), p.verb)`.execute(tx) as never,
  ],
  [
    'role-settings',
    'reset it: alter role ... reset all, as a superuser; a role may set this for itself, and it counts on every connection to come',
    (tx, role) =>
      sql`
      select r.rolname as object, format('%s begins with %s', r.rolname, array_to_string(s.setconfig, ', ')) as message
      from pg_db_role_setting s join pg_roles r on r.oid = s.setrole where pg_has_role(${role}, r.oid, 'MEMBER')`.execute(tx) as never,
  ],
  [
    'undeclared-column',
    'revoke it, or declare the column in the charter: what is not declared is nobody’s',
    (tx, role, tables, declared) =>
      sql`
      select format('%s.%s', a.attrelid::regclass, a.attname) as object, format('%s may use %s of %s, which the charter does not declare', ${role}::text, a.attname, a.attrelid::regclass) as message
      from pg_attribute a where a.attrelid = any(${tables}::regclass[]) and a.attnum > 0 and not a.attisdropped
        and not (format('%s.%s', a.attrelid::regclass::oid, a.attname) = any(select format('%s.%s', d.t::regclass::oid, d.c) from unnest(${declared.map(([table]) => table)}::text[], ${declared.map(([, column]) => column)}::text[]) as d(t, c)))
        and (has_column_privilege(${role}, a.attrelid, a.attnum, 'SELECT, INSERT, UPDATE'))`.execute(tx) as never,
  ],
  [
    'collation',
    'give the column a deterministic collation',
    (tx, _role, tables) =>
      sql`
      select a.attrelid::regclass::text as object, format('%s.%s holds different texts for equal', a.attrelid::regclass, a.attname) as message
      from pg_attribute a join pg_collation k on k.oid = a.attcollation where a.attrelid = any(${tables}::regclass[]) and a.attnum > 0 and not k.collisdeterministic`.execute(
        tx,
      ) as never,
  ],
];

/**
 * Compares the policies of a live database with the charter, and looks for ways around them. Run it as the owner of the tables: it
 * puts the policies up in a transaction that is undone, for which it locks them a moment.
 */
export async function checkPolicies(db: Kysely<any>, charter: Charter, options: PolicyOptions): Promise<PolicyFinding[]> {
  const { rows } = await sql<{ known: boolean }>`select exists (select 1 from pg_roles where rolname = ${options.role}) as known`.execute(db);
  if (!rows[0]?.known) {
    return [
      {
        code: 'no-role',
        object: options.role,
        message: `there is no role ${options.role} in this database`,
        remedy: 'create it, without a right to anything, and put the policies up',
      },
    ];
  }
  const found = await differences(db, charter, options);
  const tables = tablesUnderPolicies(charter);
  const declared = columnsUnderPolicies(charter).flatMap(({ table, columns }) => columns.map((column) => [table, column] as const));
  await db.transaction().execute(async (tx) => {
    for (const [code, remedy, find] of HOLES) for (const row of (await find(tx, options.role, tables, declared)).rows) found.push({ code, ...row, remedy });
  });
  return found;
}
