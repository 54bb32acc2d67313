import { type Kysely, sql } from 'kysely';

/** The application's own tables, as its own code sees them. */
export interface ApiaryTables {
  hives: {
    id: string;
    tenant_id: string;
    keeper_id: string | null;
    made_by: string;
    site_id: string | null;
    name: string;
    colonies: number;
    status: 'active' | 'archived';
    registration_no: string | null;
  };
  hive_inspectors: { tenant_id: string; hive_id: string; user_id: string };
  hive_followers: { tenant_id: string; hive_id: string; user_id: string };
  inspections: { id: string; tenant_id: string; hive_id: string; made_by: string; held_at: Date | string; summary: string };
  entries: { id: string; tenant_id: string; made_by: string; purpose: string; amount: string; status: 'draft' | 'booked' };
  reports: { id: string; tenant_id: string; hive_id: string; made_by: string; disease: string; findings: string };
  told_lines: { line: string };
  sheets: { id: string; title: string; body: string };
}

const TABLES = [
  `create table if not exists hives (id text primary key, tenant_id text not null, keeper_id text, made_by text not null, site_id text, name text not null,
    colonies integer not null default 1, status text not null default 'active' check (status in ('active', 'archived')), registration_no text)`,
  'create index if not exists hives_by_tenant on hives (tenant_id, id)',
  'create index if not exists hives_by_keeper on hives (tenant_id, keeper_id, id)',
  'create table if not exists hive_inspectors (tenant_id text not null, hive_id text not null references hives (id) on delete cascade, user_id text not null, primary key (tenant_id, hive_id, user_id))',
  'create table if not exists hive_followers (tenant_id text not null, hive_id text not null references hives (id) on delete cascade, user_id text not null, primary key (tenant_id, hive_id, user_id))',
  'create table if not exists inspections (id text primary key, tenant_id text not null, hive_id text not null references hives (id), made_by text not null, held_at timestamptz not null, summary text not null)',
  'create index if not exists inspections_by_hive on inspections (tenant_id, hive_id)',
  "create table if not exists entries (id text primary key, tenant_id text not null, made_by text not null, purpose text not null, amount numeric(12, 2) not null, status text not null default 'draft' check (status in ('draft', 'booked')))",
  'create table if not exists reports (id text primary key, tenant_id text not null, hive_id text not null, made_by text not null, disease text not null, findings text not null)',
  'create table if not exists told_lines (line text primary key)',
  'create table if not exists sheets (id text primary key, title text not null, body text not null)',
];

export async function makeTables(db: Kysely<any>): Promise<void> {
  for (const statement of TABLES) await sql.raw(statement).execute(db);
}
