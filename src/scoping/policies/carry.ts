import { CompiledQuery, type Kysely, sql, type Transaction } from 'kysely';
import { CLEANING, entryOf, HELD, hashOf, LintelError, toHex } from '../../base/index.js';
import { type Charter, idType } from '../../charter/index.js';
import { type Comparison, readEach, type Scalar, takesList, type ValueType } from '../../predicate/index.js';
import { openingKey, type Standing } from '../../standing/index.js';
import { sqlText } from '../fragment.js';
import type { ScopeSupport } from '../support.js';
import { anchoredMark, claimsOf, factsAsked } from './facts.js';
import { WALL } from './rule.js';

/** Key of the wall as the database keeps it: padded for HMAC (RFC 2104). */
export interface WallKey {
  readonly inner: Uint8Array;
  readonly outer: Uint8Array;
  /** The wall took a standing that was signed with it. */
  proven?: boolean;
}

/**
 * Reads the key, on a connection that owns the wall.
 *
 * @throws LintelError `no-policies` when the policies are not there.
 */
export async function readWallKey(db: Kysely<any>): Promise<WallKey> {
  const { rows } = await sql<WallKey>`select inner_pad as inner, outer_pad as outer from ${sql.table(`${WALL}.key`)}`
    .execute(db.withoutPlugins())
    .catch((error: unknown) => {
      throw missing(error);
    });
  return rows[0] as WallKey;
}

function missing(cause: unknown): LintelError {
  const message = 'the row policies are not in this database, or its owner is another; run the statements that `lintel policies` prints';
  return new LintelError('no-policies', message, {}, { cause });
}

/** SQLSTATE `undefined_function`. */
const NOT_THERE = '42883';

/** What is asked of the wall is named by what it does: what is not there is said otherwise by the policies in the database. */
function outdated(error: unknown): unknown {
  const { code, message } = (error ?? {}) as { code?: unknown; message?: unknown };
  if (code !== NOT_THERE || !String(message).includes(`${WALL}.`)) return error;
  const told = 'the row policies in this database are of another release of warm-lintel; run the statements that `lintel policies` prints';
  return new LintelError('no-policies', told, {}, { cause: error });
}

/** HMAC (RFC 2104) over SHA-256. */
const signed = (key: WallKey, text: string) => hashOf([key.outer, fromHex(hashOf([key.inner, text]))]);

const fromHex = (hex: string) => Uint8Array.from({ length: hex.length / 2 }, (_, i) => Number.parseInt(hex.slice(2 * i, 2 * i + 2), 16));

function worthCarrying(standing: Standing): Carried {
  const known = carried.get(standing) ?? worthKeeping(standing);
  carried.set(standing, known);
  return known;
}

interface Carried {
  /**
   * What a standing holds, in lines, as the policies ask for it: the charter, the tenant, the person, what is held for the whole tenant, and the rest. What is asked most is read without
   * reading all. What it is bound to comes before it.
   */
  readonly payload: string;
  /** For each place of {@link claimsOf}, 1 for what is held. */
  readonly claims: string;
}

/** Ids as fields of a type hold them. What is none of that type stands in no row, and would be an error where it is compared. */
const idsOf = (type: ValueType = 'text', ids: readonly string[] = []): string[] => readEach(type, ids).map(String);

/** A standing does not change: what is said of it is worked out once. */
const carried = new WeakMap<Standing, Carried>();

function worthKeeping(standing: Standing): Carried {
  const { charter, facts } = standing;
  const { shapes } = charter;
  const [personType, unitType] = [idType(charter, 'person'), idType(charter, 'unit')];
  const idTypeOf = (kind: string) => shapes[kind]?.fields[shapes[kind].idField]?.type;
  const holds: string[] = [];
  const opened: Record<string, string[]> = {};
  const anchored: Record<string, { units: string[]; records: Record<string, string[]> }> = {};
  for (const permission of charter.permissions.values()) {
    if (!permission.kind) continue;
    for (const { reach, anchor, path } of standing.grantsFor(permission.name)) {
      const key = `${permission.name} ${reach}`;
      if (path.by === 'opening') {
        holds.push(anchoredMark(permission.name));
        const owners = idsOf(personType, entryOf(facts.people, openingKey(path.opening)));
        opened[permission.name] = [...(opened[permission.name] ?? []), ...owners];
        continue;
      }
      if (anchor.on === 'tenant') {
        holds.push(key);
        continue;
      }
      holds.push(anchoredMark(permission.name));
      const at = anchored[key] ?? { units: [], records: {} };
      anchored[key] = at;
      if (anchor.on === 'unit') at.units.push(...idsOf(unitType, entryOf(facts.below, anchor.unitId)));
      else at.records[anchor.kind] = [...(at.records[anchor.kind] ?? []), ...idsOf(idTypeOf(anchor.kind), [anchor.id])];
    }
  }
  const known = factsAsked(charter as Charter).map(({ key, kind, asked }) => [key, factFor(standing, asked, kind)] as const);
  const rest = { anchored, opened, facts: Object.fromEntries(known) };
  const [user = null] = idsOf(personType, facts.me.userId === undefined ? [] : [facts.me.userId]);
  const held = new Set(holds);
  return {
    payload: [charter.hash, JSON.stringify(facts.tenant.id), JSON.stringify(user), `\t${holds.join('\t')}\t`, JSON.stringify(rest)].join('\n'),
    claims: claimsOf(charter as Charter)
      .map((key) => (held.has(key) ? '1' : '0'))
      .join(''),
  };
}

/** The value with which a comparison is made for a person: a list for one that takes a list, null where it is missing. */
function factFor(standing: Standing, asked: Comparison, kind: string): Scalar | readonly Scalar[] | null {
  const found = standing.reaches.specialise(asked, kind, 'grow');
  if (found.op === 'always') return null;
  if (found.op === 'never') return [];
  const { value } = (found as { readonly to: { readonly value: Scalar | readonly Scalar[] } }).to;
  return takesList(asked.op) && !Array.isArray(value) ? [value as Scalar] : value;
}

// Everything is named in full, and nothing is prepared under a name: whoever had the connection before could have put something else there.
const CHALLENGE = `select ${WALL}.challenge() as turn${CLEANING}`;
const CARRY = `select ${['standing', 'tenant', 'claims'].map((what, i) => `pg_catalog.set_config('lintel.${what}', $${i + 1}, true) is not null`).join(' and ')}`;

/** Runs a statement in a transaction of the application's, and answers its rows, as the client of the application gives them. */
export type RunStatement = (text: string, values: readonly unknown[]) => Promise<unknown>;

/** A client answers rows, or an object that holds them. */
async function rowsOf<Row>(run: RunStatement, text: string, values: readonly unknown[] = []): Promise<Row[]> {
  const answer = await run(text, values).catch((error: unknown) => {
    throw missing(error);
  });
  return (Array.isArray(answer) ? answer : (answer as { rows: unknown[] }).rows) as Row[];
}

const through =
  (db: Kysely<any>): RunStatement =>
  (text, values) =>
    db.withoutPlugins().executeQuery(CompiledQuery.raw(text, [...values]));

/** Lets a transaction carry a standing, signed for this transaction alone. */
async function carry(run: RunStatement, standing: Standing, key: WallKey): Promise<void> {
  const [row] = await rowsOf<{ turn: Uint8Array }>(run, CHALLENGE);
  // A tenant that no row can be of lets nothing through.
  if (idsOf(idType(standing.charter, 'tenant'), [standing.facts.tenant.id]).length === 0) return;
  const { payload, claims } = worthCarrying(standing);
  const text = `${toHex((row as { turn: Uint8Array }).turn)} ${payload}`;
  const values = [`${signed(key, text)}.${text}`, standing.facts.tenant.id, claims];
  if (key.proven) {
    await rowsOf(run, CARRY, values);
    return;
  }
  // The first time it is asked whether the wall takes what is signed so; after that, one that is exchanged lets nobody through.
  const [carried] = await rowsOf<{ taken: boolean }>(run, `${CARRY} and ${WALL}.told('tenant') is not null as taken`, values);
  if (!carried?.taken)
    throw new LintelError(
      'charter-mismatch',
      'the row policies in this database are those of another charter, or their key was renewed; run the statements that `lintel policies` prints and start again',
      { charter: standing.charter.hash },
    );
  key.proven = true;
}

/** Signs what is asked of the wall for another than the carried standing; for this turn of the transaction alone. */
export async function signQuestion(db: Kysely<any>, key: WallKey, question: string): Promise<string> {
  const [row] = await rowsOf<{ turn: Uint8Array }>(through(db), `select ${WALL}.this_turn() as turn`);
  return signed(key, `${/* guard question-of-one-turn */ toHex((row as { turn: Uint8Array }).turn)} asks ${question}`);
}

/** Ends what is carried: a new turn begins, in which nothing is. */
const drop = (db: Kysely<any>) => through(db)(CHALLENGE, []);

/**
 * Lets a transaction that the application opened, by whatever client, carry a standing until its end: {@link carryStanding} for who writes plain SQL.
 *
 * @throws LintelError `no-policies`, `charter-mismatch`; `no-transaction` where the statements do not come to one transaction; `policies-bypassed` for a connection that the
 *   policies do not hold.
 */
export async function carryInto(run: RunStatement, standing: Standing, key: WallKey): Promise<void> {
  await carry(run, standing, key);
  const [{ table, schema = 'public' } = { table: '' }] = Object.values(standing.charter.shapes);
  const held = `pg_catalog.row_security_active(pg_catalog.format('%I.%I', $1::text, $2::text))`;
  const [row] = await rowsOf<{ carried: boolean; held: boolean }>(
    run,
    `select pg_catalog.current_setting('lintel.standing', true) <> '' as carried, ${held} as held`,
    [schema, table],
  );
  if (!row?.carried)
    throw new LintelError(
      'no-transaction',
      'a standing is carried in one transaction: begin one, and give its own connection, not a pool that lends another each time',
      {},
    );
  if (!row.held)
    throw new LintelError(
      'policies-bypassed',
      'the row policies do not hold this connection, since its role owns the tables or may pass them; connect as the role that `lintel policies` was given',
      {},
    );
}

/**
 * Runs work in one transaction of the application's own connection, in which the row policies let through what the standing
 * may. The standing is signed for this turn of this transaction alone: it is gone when the work is done, and counts nowhere else. What somebody left in the
 * connection is taken away before it carries the standing, and after it did. In a transaction that is open already work that throws is to be undone with it.
 *
 * @throws LintelError `no-policies`, `charter-mismatch`.
 */
export async function carryStanding<DB, R>(db: Kysely<DB>, standing: Standing, key: WallKey, work: (tx: Transaction<DB>) => Promise<R>): Promise<R> {
  if (db.isTransaction) {
    const tx = db as Transaction<DB>;
    await carry(through(tx), standing, key);
    const result = await work(tx).catch((error: unknown) => {
      throw outdated(error);
    });
    await drop(tx);
    return result;
  }
  // Whoever waits for the work need not wait until the connection is clean again: it is lent to nobody before.
  return new Promise<R>((resolve, reject) => {
    db.connection()
      .execute(async (connection) => {
        // A transaction that somebody left open would go on.
        await through(connection)(`rollback${HELD}`, []);
        await connection
          .transaction()
          .execute(async (tx) => {
            await carry(through(tx), standing, key);
            return work(tx);
          })
          .then(resolve, (error: unknown) => reject(outdated(error)));
        // Where that cannot be done the connection is lost; and it is cleaned again before it carries anybody.
        await drop(connection).catch(() => {});
      })
      .catch(reject);
  });
}

/** Conditions on people, units and groups for statements that run under the policies, where the membership's tables cannot be looked at. */
export const CARRIED_CONDITIONS: NonNullable<ScopeSupport['conditions']> = {
  person: (column) => sqlText`lintel_wall.is_member(${column}::text)`,
  unit: (column) => sqlText`lintel_wall.is_unit(${column}::text)`,
  group: (column) => sqlText`lintel_wall.is_group(${column}::text)`,
};
