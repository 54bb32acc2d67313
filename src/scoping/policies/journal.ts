import type { Charter } from '../../charter/index.js';
import type { FieldShape, KindShape } from '../../predicate/index.js';
import { type Fragment, name } from '../fragment.js';
import { imageFields, journaledFields } from '../journal/image.js';
import { calledBy, inline, literal, type RuleWriter, WALL } from './rule.js';

/** What the triggers are called that put down what is written to a table. */
export const JOURNAL_TRIGGERS = ['lintel_journal_made', 'lintel_journal_changed', 'lintel_journal_deleted'];

/** Who writes, where scope says so on a connection that carries nobody: it counts for the statement that says it alone. */
// guard journal-actor-of-statement by looks: An actor that scope named would count for later statements.
const SAID = `${/* guard journal-actor-of-statement */ "case when said ->> 'at' = statement_timestamp()::text then "}said${/* guard journal-actor-of-statement */ ' end'}`;

/**
 * Triggers by which whatever is written to a kind is put down, by whatever SQL: with the person that the transaction carries; with whom scope names; else with nobody. What scope
 * has put down itself, since it knew of no triggers, is not put down again.
 */
export function journalStatements(charter: Charter, writer: RuleWriter, kind: string): string[] {
  const { journal } = charter.kind(kind);
  if (!journal) return [];
  const shape = charter.shapes[kind] as KindShape;
  const table = inline(writer.qualified(kind));
  const image = (alias: string) => inline(writer.image(shape, imageFields(charter, kind), alias));
  const id = (alias: string) => inline(writer.column(shape, shape.idField, alias));
  const column = (field: string, alias: string) => inline(name(alias, (shape.fields[field] as FieldShape).column));
  const called = `${WALL}.${calledBy(`${kind}_put`, kind)}`;
  const tenant = (alias: string) => inline(writer.tenantOf(shape, alias) as Fragment);
  const entry = (from: string, was: string | undefined, became: string | undefined, actions: string) => {
    const at = became ?? (was as string);
    const [before, after] = [
      was ? `case when ${id(was)} is not null then ${image(was)} end` : 'null::jsonb',
      became ? `case when ${id(became)} is not null then ${image(became)} end` : 'null::jsonb',
    ];
    const [record, of] =
      was && became
        ? [`coalesce(${id(was)}, ${id(became)})::text`, `coalesce(${tenant(became)}, ${tenant(was)})::text`]
        : [`${id(at)}::text`, `${tenant(at)}::text`];
    const differs =
      was && became
        ? ` where ${journaledFields(charter.kind(kind))
            .map((field) => `${column(field, was)} is distinct from ${column(field, became)}`)
            .join(' or ')}`
        : '';
    // guard journal-put-once by looks: A trigger would put down again what scope did.
    return `insert into public.lintel_journal (tenant_id, kind, record_id, actor, way, actions, was, became)
    select e.of, ${literal(kind)}, e.record, who, way, ${actions}, e.was, e.became
    from (select coalesce(${of}, carried, said ->> 'tenant') as of, ${record} as record, ${before} as was, ${after} as became from ${from}${differs}) as e
    where e.of is not null${
      /* guard journal-put-once */ ` and not exists (select 1 from public.lintel_journal as j where j.tenant_id = e.of and j.kind = ${literal(kind)} and j.record_id = e.record
      and j.at = statement_timestamp() and j.was is not distinct from e.was and j.became is not distinct from e.became)`
    };`;
  };
  const by = (what: 'making' | 'changing', otherwise: string) => `coalesce(said -> '${what}', ${otherwise})`;
  // guard journal-actor-carried by looks: The journal would not name who is carried.
  return [
    `create function ${called}() returns trigger language plpgsql security definer set search_path = pg_catalog, pg_temp as $lintel$
declare
  carried text := ${WALL}.told('tenant');
  said jsonb := nullif(current_setting('lintel.journal', true), '')::jsonb;
  who text;
  way jsonb;
begin
  said := case when carried is null then ${SAID} end;
  ${/* guard journal-actor-carried */ `who := case when carried is null then said ->> 'actor' else ${WALL}.told('user') end;`}
  way := said -> 'way';
  if jsonb_typeof(way) = 'null' then way := null; end if;
  if tg_op = 'INSERT' then
    ${entry('became as w', undefined, 'w', by('making', `'["create"]'`))}
  elsif tg_op = 'DELETE' then
    ${entry('was as b', 'b', undefined, by('changing', `'["delete"]'`))}
  else
    ${entry(`was as b full join became as w on ${id('w')} = ${id('b')}`, 'b', 'w', by('changing', 'null'))}
  end if;
  return null;
end $lintel$;`,
    `create trigger lintel_journal_made after insert on ${table} referencing new table as became for each statement execute function ${called}();`,
    `create trigger lintel_journal_changed after update on ${table} referencing old table as was new table as became for each statement execute function ${called}();`,
    `create trigger lintel_journal_deleted after delete on ${table} referencing old table as was for each statement execute function ${called}();`,
  ];
}
