import type { Migration } from './migration.js';

export const STEP_0008: Migration = {
  name: '0008 which people are programs',
  sql: `
alter table lintel_person add column is_program boolean not null default false;
update lintel_person p set is_program = true where exists (select 1 from lintel_member m where m.user_id = p.id and m.responsible_id is not null)`,
};
