import { type Kysely, sql, type Transaction } from 'kysely';
import { hashOf, inTransaction, isLintelError, LintelError } from '../../../base/index.js';
import { type Charter, canonicalJson } from '../../../charter/index.js';
import { SAID_BY } from '../../held/index.js';
import { type AuditEntry, putNext } from '../../record/index.js';
import { type Id, type LintelTables, PLATFORM_SOURCE, type Setting } from '../../terms/index.js';
import type { IntakeCount, IntakeOptions, IntakeRefusal, IntakeReport } from './terms.js';

const SHOWN = 1000;

type What = IntakeRefusal['what'];
type Outcome = keyof IntakeCount;

export const markOf = (value: unknown): string => hashOf([canonicalJson(value)]);
export const pairOf = (one: { readonly tenant: string; readonly user: string }) => `${one.tenant}\n${one.user}`;

/** So many are taken in in one transaction. */
export const TOGETHER = 1000;

/**
 * What comes of something that is said: by the mark of what is said now, of what was said last, and of what is here, if it is. Where somebody changed it here since, it is kept.
 * `isSaid`: what is said now is what is here from then on.
 */
export function compared(
  mark: string,
  last: string | undefined,
  is: string | undefined,
): { readonly outcome: Exclude<Outcome, 'refused'>; readonly isSaid: boolean } {
  if (is === undefined) return { outcome: 'brought', isSaid: true };
  if (mark === last) return { outcome: 'same', isSaid: false };
  const outcome = is === mark ? 'same' : is === last ? 'changed' : 'kept';
  return { outcome, isSaid: outcome !== 'kept' };
}

/** Says why something is not taken. */
export const refuse = (code: string, words: string): never => {
  throw new LintelError(code, words, {});
};

function zero(): Record<Outcome, number> {
  return { brought: 0, changed: 0, same: 0, kept: 0, refused: 0 };
}

/** One intake in progress: what it counts, and what it knows of what it brought before. */
export class Taking {
  readonly setting: Setting;
  readonly source: string;
  readonly #told: ((one: IntakeRefusal) => void) | undefined;
  readonly #refused: IntakeRefusal[] = [];
  /** Of the part in progress: told when it is done. */
  #pending: IntakeRefusal[] = [];
  #counts = { person: zero(), tenant: zero(), member: zero() };
  #opened = 0;
  #closed = 0;

  constructor(setting: Setting, { source = 'intake', refused }: IntakeOptions) {
    const ours = [PLATFORM_SOURCE, SAID_BY.member];
    if (!/^[\w.-]{1,60}$/.test(source) || ours.includes(source))
      refuse('bad-source', `“${source}” is no name of a source: 1 to 60 letters, digits, -, _ and . can be, and not ${ours.join(' or ')}`);
    this.setting = setting;
    this.source = source;
    this.#told = refused;
  }

  get charter(): Charter {
    return this.setting.charter;
  }

  get report(): IntakeReport {
    const { person, tenant, member } = this.#counts;
    return { people: person, tenants: tenant, members: member, opened: this.#opened, closed: this.#closed, refused: this.#refused };
  }

  /** Does one part. Where somebody came in by another way in the same moment it is begun again, and finds them there. */
  async each(work: (tx: Transaction<LintelTables>) => Promise<void>): Promise<void> {
    const [before, opened, closed] = [this.#counts, this.#opened, this.#closed];
    await inTransaction(this.setting.db, (tx) => {
      this.#counts = structuredClone(before);
      [this.#opened, this.#closed] = [opened, closed];
      this.#pending = [];
      return work(tx);
    });
    for (const one of this.#pending) {
      if (this.#refused.length < SHOWN) this.#refused.push(one);
      this.#told?.(one);
    }
  }

  count(what: What, outcome: Outcome): void {
    this.#counts[what][outcome] += 1;
  }

  refuse(one: IntakeRefusal): void {
    this.count(one.what, 'refused');
    this.tell(one);
  }

  tell(one: IntakeRefusal): void {
    this.#pending.push(one);
  }

  /** What can be read of each; the others are refused. */
  read<T, R>(what: What, part: readonly T[], about: (one: T) => { readonly id: Id; readonly tenant?: Id }, read: (one: T) => R, key: (one: R) => string): R[] {
    const known = new Set<string>();
    return part.flatMap((one) => {
      try {
        const ready = read(one);
        if (known.has(key(ready))) refuse('said-twice', 'is there twice');
        known.add(key(ready));
        return [ready];
      } catch (error) {
        this.refuseFor(what, about(one), error);
        return [];
      }
    });
  }

  refuseFor(what: What, { id, tenant }: { readonly id: Id; readonly tenant?: Id }, error: unknown): void {
    if (!isLintelError(error)) throw error;
    this.refuse({ what, id: String(id), ...(tenant !== undefined && { tenant: String(tenant) }), code: error.code, words: error.message });
  }

  async marks(tx: Kysely<LintelTables>, what: What, ids: readonly string[]): Promise<Map<string, string>> {
    const rows = await tx
      .selectFrom('lintel_brought')
      .select(['tenant_id', 'id', 'mark'])
      .where('source', '=', this.source)
      .where('what', '=', what)
      .where(sql<boolean>`id = any(${ids}::text[])`)
      .execute();
    return new Map(rows.map((row) => [what === 'member' ? pairOf({ tenant: row.tenant_id, user: row.id }) : row.id, row.mark]));
  }

  async mark(
    tx: Kysely<LintelTables>,
    what: What,
    all: readonly { readonly id: string; readonly tenant?: string; readonly mark: string; readonly waits?: boolean }[],
  ): Promise<void> {
    const rows = all.map(({ id, tenant = '', mark, waits = false }) => ({ source: this.source, what, tenant_id: tenant, id, mark, waits }));
    if (rows.length === 0) return;
    await sql`insert into lintel_brought select * from json_populate_recordset(null::lintel_brought, ${JSON.stringify(rows)})
      on conflict (source, what, tenant_id, id) do update set mark = excluded.mark`.execute(tx);
  }

  async record(
    tx: Kysely<LintelTables>,
    row: { readonly id: string; readonly last_number: unknown; readonly last_hash: string },
    entries: readonly AuditEntry[],
  ): Promise<void> {
    if (entries.length === 0) return;
    const ground = { tx, tenantId: row.id, number: Number(row.last_number) + 1, latest: row.last_hash, at: new Date(this.setting.now()), actor: {} };
    await putNext(ground, entries);
  }

  /** A tenant that was brought is open from now on, or stays closed. */
  opens(is: boolean): void {
    if (is) this.#opened += 1;
    else this.#closed += 1;
  }
}
