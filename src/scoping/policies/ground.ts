import type { Charter } from '../../charter/index.js';
import { literal, WALL, type WallFunction, type WallQuery } from './rule.js';

/** What every function of the wall says: it looks nowhere that somebody else could put something, and stays in the leading process. */
const LOCKED = 'stable security definer parallel restricted set search_path = pg_catalog, pg_temp';

/** In PL/pgSQL, which plans a body once a session and not once a call. */
export const answering = (head: string, type: string, expression: string) =>
  `create function ${WALL}.${head} returns ${type} language plpgsql ${LOCKED} as $lintel$ begin return (${expression}); end $lintel$;`;
/** More ids than this are no array: each row that is found by it is compared with all of it. */
const FEW = 200;

/** The functions that answer the ids of some queries. What the standing holds is asked of it once, and not for each. */
export function listing({ name: called, type, takesKey, queries, few }: WallFunction): string[] {
  const made = (of: string, as: string, declare: string, steps: (one: WallQuery) => string, end: string) => {
    const each = queries.map((one) => (one.onlyWith === undefined ? steps(one) : `if ${isIn(literal(one.onlyWith), 'held')} then ${steps(one)} end if;`));
    const held = queries.some(({ onlyWith }) => onlyWith !== undefined) ? `held text := ${WALL}.told('held');` : '';
    return `create function ${WALL}.${of}(${takesKey ? 'key text' : ''}) returns ${as} language plpgsql ${LOCKED} as $lintel$ declare ${held} ${declare} begin ${each.join(' ')} ${end} end $lintel$;`;
  };
  const all = made(called, `setof ${type}`, '', ({ query, isAll }) => `return query ${query};${isAll ? ' return;' : ''}`, '');
  if (few === undefined) return [all];
  const put = ({ query, isAll }: WallQuery) =>
    `ids := ids || array(${query} limit ${FEW + 1}); if cardinality(ids) > ${FEW} then return null; end if;${isAll ? ' return ids;' : ''}`;
  return [all, made(few, `${type}[]`, `ids ${type}[] := '{}';`, put, 'return ids;')];
}

/**
 * One turn in one transaction of one connection: what a standing is bound to. Turns are counted by a sequence, which no savepoint takes back: what was carried
 * before does not count again.
 */
// guard standing-of-one-turn by wall: A standing carried before would count again in the same transaction.
const TURN = `int4send(pg_backend_pid()) || timestamptz_send(transaction_timestamp())${/* guard standing-of-one-turn */ ` || int8send(currval('${WALL}.turn'))`}`;
const BOUND = `encode(${TURN}, 'hex')`;

/** A line of the standing that is carried; all but the first and the fourth are JSON. */
const line = (number: number) => `split_part(payload, E'\\n', ${number})`;
const json = (number: number) => `${line(number)}::jsonb`;
const isIn = (key: string, held: string) => `position(E'\\t' || ${key} || E'\\t' in ${held}) > 0`;
const holds = (key: string) => isIn(key, line(4));
const TENANT_CARRIED = `${json(2)} #>> '{}'`;

/** A text was signed with the key that {@link KEY_READ} reads: HMAC (RFC 2104) over SHA-256. Both sides are hashed before they are compared, so that the time it takes tells nothing. */
const isSigned = (payload: string, signature: string) =>
  `sha256(convert_to(encode(sha256(outside || sha256(inside || convert_to(${payload}, 'UTF8'))), 'hex'), 'UTF8')) = sha256(convert_to(${signature}, 'UTF8'))`;
const KEY_READ = `select k.inner_pad, k.outer_pad into inside, outside from ${WALL}.key as k;`;

/**
 * Reads of the carried standing what it says, if it was signed for this transaction and charter. Each function does it for itself: what a function
 * calls in turn is set up anew in each transaction, which takes longer than the work. Step by step and not in one query, for the same reason.
 */
const verified = (
  charter: Charter,
  head: string,
  type: string,
  expression: string,
) => `create function ${WALL}.${head} returns ${type} language plpgsql ${LOCKED} as $lintel$
declare
  carried text := current_setting('lintel.standing', true);
  payload text := substr(carried, 66);
  inside bytea;
  outside bytea;
begin
  if coalesce(carried, '') = '' then return null; end if;
  ${KEY_READ}
  if ${isSigned('payload', 'left(carried, 64)')} and ${line(1)} = ${BOUND} || ' ' || ${literal(charter.hash)} then return ${expression}; end if;
  return null;
end $lintel$;`;

/** Schemas in which the application's own tables are. */
const schemasOf = (charter: Charter) => [...new Set(Object.values(charter.shapes).map(({ schema }) => schema ?? 'public'))];

/**
 * What somebody who had the connection before may have left there is taken away, and a new turn begins: what was carried until now counts no more. It runs with the
 * rights of whoever calls it, sets no path of its own, which would come back at its end, and names everything in full.
 */
// guard statements-deallocated by wall: A prepared statement of an earlier user would act for the next.
const cleaning = (charter: Charter) => `create function ${WALL}.challenge() returns bytea language plpgsql volatile security invoker as $lintel$
begin
  execute 'close all';
  ${/* guard statements-deallocated */ `execute 'deallocate all';`}
  ${/* guard no-temporary-objects */ `execute 'discard temp';`}
  execute 'reset all';
  perform pg_catalog.set_config('search_path', ${literal(['pg_catalog', ...schemasOf(charter), /* guard no-temporary-objects */ 'pg_temp'].join(', '))}, true);
  perform pg_catalog.set_config('row_security', 'on', true);
  return ${WALL}.next_turn();
end $lintel$;`;

/** The parts that are the same for every charter: the key, the carried standing, and what is read from it. */
export function ground(charter: Charter): string[] {
  // guard question-of-one-turn by policies: A signed question would be answered in every transaction.
  // guard unsigned-question-refused by wall: A question without a signature would be answered.
  return [
    `create sequence if not exists ${WALL}.turn;`,
    `create function ${WALL}.next_turn() returns bytea language plpgsql volatile security definer set search_path = pg_catalog, pg_temp as $lintel$
begin
  perform nextval('${WALL}.turn');
  return ${TURN};
end $lintel$;`,
    cleaning(charter),
    `create table if not exists ${WALL}.key (inner_pad bytea not null, outer_pad bytea not null);`,
    `do $lintel$
declare
  secret bytea := sha256(convert_to(gen_random_uuid()::text || gen_random_uuid()::text, 'UTF8'));
  inner_pad bytea := decode(repeat('36', 64), 'hex');
  outer_pad bytea := decode(repeat('5c', 64), 'hex');
begin
  if exists (select 1 from ${WALL}.key) then return; end if;
  for i in 0..31 loop
    inner_pad := set_byte(inner_pad, i, get_byte(inner_pad, i) # get_byte(secret, i));
    outer_pad := set_byte(outer_pad, i, get_byte(outer_pad, i) # get_byte(secret, i));
  end loop;
  insert into ${WALL}.key values (inner_pad, outer_pad);
end $lintel$;`,
    // What is asked for somebody other than whoever is carried: the library alone can sign it, for this turn.
    `create function ${WALL}.this_turn() returns bytea language plpgsql ${LOCKED} as $lintel$ begin return ${TURN}; end $lintel$;`,
    `create function ${WALL}.asked(question text, signature text, record jsonb) returns boolean language plpgsql ${LOCKED} as $lintel$
declare
  inside bytea;
  outside bytea;
  yes boolean;
begin
  ${KEY_READ}
  if (${isSigned(`${/* guard question-of-one-turn */ `${BOUND} || `}' asks ' || question`, 'signature')}) ${/* guard unsigned-question-refused (replaced) */ 'is not true'} then return false; end if;
  execute question into yes using record;
  return coalesce(yes, false);
end $lintel$;`,
    // One function for what is read once a statement: the first call in a statement costs several times what the next ones do.
    verified(
      charter,
      "told(what text, key text default '', only_with text default null)",
      'text',
      `case told.what
        when 'holds' then case when ${holds('told.key')} then ${TENANT_CARRIED} end
        when 'held' then ${line(4)}
        when 'fact' then case when told.only_with is null or ${holds('told.only_with')} then ${json(5)} -> 'facts' ->> told.key end
        when 'anchored' then case when ${json(5)} -> 'anchored' ? told.key then 'yes' end
        when 'tenant' then ${TENANT_CARRIED}
        when 'user' then ${json(3)} #>> '{}' end`,
    ),
    verified(
      charter,
      'facts(key text, only_with text default null)',
      'text[]',
      `case when (facts.only_with is null or ${holds('facts.only_with')}) and jsonb_typeof(${json(5)} -> 'facts' -> facts.key) = 'array' then array(select jsonb_array_elements_text(${json(5)} -> 'facts' -> facts.key)) end`,
    ),
    verified(charter, 'opened(key text)', 'text[]', `array(select jsonb_array_elements_text(${json(5)} -> 'opened' -> opened.key))`),
    verified(charter, 'units(key text)', 'text[]', `array(select jsonb_array_elements_text(${json(5)} -> 'anchored' -> units.key -> 'units'))`),
    verified(
      charter,
      'records(key text, kind text)',
      'text[]',
      `array(select jsonb_array_elements_text(${json(5)} -> 'anchored' -> records.key -> 'records' -> records.kind))`,
    ),
    answering(
      'is_member(person text)',
      'boolean',
      `exists (select 1 from public.lintel_member as m where m.tenant_id = ${WALL}.told('tenant') and m.user_id = person and public.lintel_is_active(m.status, m.inactive_by, m.suspended_until, m.ends_at, now()))`,
    ),
    answering('is_unit(unit text)', 'boolean', `exists (select 1 from public.lintel_unit as u where u.tenant_id = ${WALL}.told('tenant') and u.id = unit)`),
    answering(
      'is_group(id text)',
      'boolean',
      `exists (select 1 from public.lintel_group as g where g.tenant_id = ${WALL}.told('tenant') and g.id = is_group.id)`,
    ),
    // Rows that this transaction made or handed over, and that their writer cannot read any more, stay in sight of their writer until its end, so that the database lets the write be:
    // as they were written, and no longer than they are so.
    `create function ${WALL}.seal(given text) returns text language plpgsql ${LOCKED} as $lintel$
declare k record;
begin
  select inner_pad, outer_pad into k from ${WALL}.key;
  return encode(sha256(k.outer_pad || sha256(k.inner_pad || convert_to('given ' || ${BOUND} || ${WALL}.told('tenant') || coalesce(${WALL}.told('user'), '') || given, 'UTF8'))), 'hex');
end $lintel$;`,
    `create function ${WALL}.given(one text) returns boolean language plpgsql ${LOCKED} as $lintel$
declare
  carried text := coalesce(current_setting('lintel.given', true), '');
begin
  return left(carried, 64) = ${WALL}.seal(substr(carried, 65)) and substr(carried, 65)::jsonb ? one;
exception when others then return false;
end $lintel$;`,
    `create function ${WALL}.give(one text) returns void language plpgsql volatile security definer set search_path = pg_catalog, pg_temp as $lintel$
declare
  carried text := coalesce(current_setting('lintel.given', true), '');
  list jsonb := '[]';
begin
  if left(carried, 64) = ${WALL}.seal(substr(carried, 65)) then list := substr(carried, 65)::jsonb; end if;
  list := list || to_jsonb(one);
  perform set_config('lintel.given', ${WALL}.seal(list::text) || list::text, true);
end $lintel$;`,
  ];
}
