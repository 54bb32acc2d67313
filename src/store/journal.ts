import { type Kysely, sql } from 'kysely';
import { BINARY, writerFor } from '../scoping/index.js';
import { STEP_0018 } from './migrations/0018-journal.js';

const IN_SQLITE = `create table if not exists lintel_journal (
  tenant_id text not null,
  number integer primary key autoincrement,
  id text not null default (lower(hex(randomblob(16)))),
  kind text not null,
  record_id text not null,
  at text not null default (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
  actor text,
  way text,
  actions text,
  was text,
  became text,
  erased text
);
create index if not exists lintel_journal_record on lintel_journal (tenant_id, kind, record_id, number);
create index if not exists lintel_journal_actor on lintel_journal (tenant_id, actor, number);
create index if not exists lintel_journal_id on lintel_journal (tenant_id, id)`;

const IN_MARIADB = `create table if not exists lintel_journal (
  tenant_id varchar(191) not null,
  number bigint not null auto_increment primary key,
  id varchar(36) not null default uuid(),
  kind varchar(191) not null,
  record_id varchar(191) not null,
  at datetime(6) not null default utc_timestamp(6),
  actor varchar(191),
  way longtext,
  actions longtext,
  was longtext,
  became longtext,
  erased longtext,
  key lintel_journal_record (tenant_id, kind, record_id, number),
  key lintel_journal_actor (tenant_id, actor, number),
  key lintel_journal_id (tenant_id, id)
) character set utf8mb4 collate ${BINARY}`;

/** Makes the journal where the application's records are, if that is another database. Can be run again. */
export async function prepareJournal(records: Kysely<any>): Promise<void> {
  const text = {
    sqlite: IN_SQLITE,
    mariadb: IN_MARIADB,
    postgres: STEP_0018.sql.replaceAll(/create (table|index) /g, 'create $1 if not exists '),
  }[writerFor(records, {}).vocabulary];
  await records.transaction().execute(async (tx) => {
    for (const statement of text.split(';\n')) await sql.raw(statement).execute(tx);
  });
}
