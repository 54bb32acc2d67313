import { type Kysely, sql, type Transaction } from 'kysely';
import { hashOf, inTransaction, isLintelError, LintelError } from '../../base/index.js';
import { type Charter, canonicalJson, KEYHOLDER } from '../../charter/index.js';
import { type Assignment, type Facts, heldTogether } from '../../standing/index.js';
import { anchorColumns, anchorOf, isActive } from '../held/index.js';
import { type AuditEntry, putOnRecord } from '../record/index.js';
import { rolesOnRecord } from '../steps/index.js';
import {
  type Address,
  type Id,
  insertMany,
  insistOnId,
  type LintelTables,
  lockTenants,
  readAddress,
  readName,
  type Setting,
  takenBack,
} from '../terms/index.js';

/** Somebody whom an application has already. */
export interface IntakePerson {
  readonly id: Id;
  readonly name: string;
  readonly address: string;
  /** When the application has proven that the address is theirs. */
  readonly confirmedAt?: Date;
}

/** An organisation that an application has already. Units come after those that they lie below. */
export interface IntakeTenant {
  readonly id: Id;
  readonly name: string;
  readonly contact?: string;
  readonly groups?: readonly { readonly id: Id; readonly name: string }[];
  readonly units?: readonly { readonly id: Id; readonly name: string; readonly below?: Id }[];
}

/** What somebody holds in a tenant of the application. */
export interface IntakeMember {
  readonly user: Id;
  readonly tenant: Id;
  /** Of the charter; a name alone is held for the whole tenant. `keyholder`: full control, which somebody has to hold before the tenant is open. */
  readonly roles?: readonly (string | Assignment)[];
  readonly groups?: readonly Id[];
  readonly units?: readonly Id[];
  readonly attributes?: Readonly<Record<string, unknown>>;
}

type Each<T> = Iterable<T> | AsyncIterable<T>;

/** What an application has, in any order within each; streams are read as they come. */
export interface Intake {
  readonly people?: Each<IntakePerson>;
  readonly tenants?: Each<IntakeTenant>;
  readonly members?: Each<IntakeMember>;
}

export interface IntakeOptions {
  /** True: says what it would do, and does nothing. It holds one transaction meanwhile. */
  readonly dryRun?: boolean;
  /** What it comes by. What another source brought is left alone. Default `intake`. */
  readonly source?: string;
  /** Told of each that was not taken; the report holds the first 1000. */
  readonly refused?: (one: IntakeRefusal) => void;
}

/** Something that was not taken, and why. */
export interface IntakeRefusal {
  readonly what: 'person' | 'tenant' | 'member';
  readonly id: string;
  readonly tenant?: string;
  readonly code: string;
  readonly words: string;
}

export interface IntakeCount {
  readonly brought: number;
  /** Brought earlier, and otherwise now. */
  readonly changed: number;
  readonly same: number;
  /** Changed here by somebody since it was brought, or here by another way: left as it is. */
  readonly kept: number;
  readonly refused: number;
}

export interface IntakeReport {
  readonly people: IntakeCount;
  readonly tenants: IntakeCount;
  readonly members: IntakeCount;
  /** Tenants that somebody has full control of now, and that were opened. */
  readonly opened: number;
  /** Tenants that were brought and that nobody has full control of: they stay closed, and each is told with what was not taken. */
  readonly closed: number;
  readonly refused: readonly IntakeRefusal[];
}

/** So many are taken in in one transaction. */
const TOGETHER = 1000;
const SHOWN = 1000;

type What = IntakeRefusal['what'];
type Outcome = keyof IntakeCount;

const markOf = (value: unknown): string => hashOf([canonicalJson(value)]);

async function* partsOf<T>(all: Each<T> = []): AsyncGenerator<T[]> {
  let part: T[] = [];
  for await (const one of all) {
    part.push(one);
    if (part.length < TOGETHER) continue;
    yield part;
    part = [];
  }
  if (part.length > 0) yield part;
}

const refuse = (code: string, words: string): never => {
  throw new LintelError(code, words, {});
};
const isoOf = (until: string): string =>
  Number.isNaN(Date.parse(until)) ? refuse('bad-end', `“${until}” is no moment; write it as 2027-01-31T00:00:00Z`) : new Date(until).toISOString();

interface Ready {
  readonly user: string;
  readonly tenant: string;
  readonly roles: readonly Assignment[];
  readonly groups: readonly string[];
  readonly units: readonly string[];
  readonly attributes: Readonly<Record<string, unknown>>;
}
const heldMark = ({ roles, groups, units, attributes }: Omit<Ready, 'user' | 'tenant'>) =>
  markOf([rolesOnRecord(roles).map(canonicalJson).sort(), [...groups].sort(), [...units].sort(), attributes]);
const pairOf = (one: { readonly tenant: string; readonly user: string }) => `${one.tenant}\n${one.user}`;

/**
 * Takes in what an application has already, in parts of 1000, each one transaction: people, tenants, members, under the application's own ids. Again with the same it does nothing; with
 * other things it brings the difference to what it brought last, where nobody has changed that here meanwhile. Somebody who was removed here is not brought again.
 */
class Taking {
  readonly #setting: Setting;
  readonly #source: string;
  readonly #told: ((one: IntakeRefusal) => void) | undefined;
  readonly #refused: IntakeRefusal[] = [];
  readonly #counts = { person: zero(), tenant: zero(), member: zero() };
  #opened = 0;
  #closed = 0;

  constructor(setting: Setting, { source = 'intake', refused }: IntakeOptions) {
    this.#setting = setting;
    this.#source = source;
    this.#told = refused;
  }

  get #charter(): Charter {
    return this.#setting.charter;
  }

  get report(): IntakeReport {
    const { person, tenant, member } = this.#counts;
    return { people: person, tenants: tenant, members: member, opened: this.#opened, closed: this.#closed, refused: this.#refused };
  }

  async all({ people, tenants, members }: Intake): Promise<void> {
    for await (const part of partsOf(people)) await this.#each((tx) => this.#people(tx, part));
    for await (const part of partsOf(tenants)) await this.#each((tx) => this.#tenants(tx, part));
    for await (const part of partsOf(members)) await this.#each((tx) => this.#members(tx, part));
    await this.#open();
  }

  #each<R>(work: (tx: Transaction<LintelTables>) => Promise<R>): Promise<R> {
    return inTransaction(this.#setting.db, work);
  }

  #count(what: What, outcome: Outcome): void {
    this.#counts[what][outcome] += 1;
  }

  #refuse(one: IntakeRefusal): void {
    this.#count(one.what, 'refused');
    this.#tell(one);
  }

  #tell(one: IntakeRefusal): void {
    if (this.#refused.length < SHOWN) this.#refused.push(one);
    this.#told?.(one);
  }

  /** What can be read of each; the others are refused. */
  #read<T, R>(what: What, part: readonly T[], about: (one: T) => { readonly id: Id; readonly tenant?: Id }, read: (one: T) => R, key: (one: R) => string): R[] {
    const known = new Set<string>();
    return part.flatMap((one) => {
      try {
        const ready = read(one);
        if (known.has(key(ready))) refuse('said-twice', 'is there twice');
        known.add(key(ready));
        return [ready];
      } catch (error) {
        this.#refuseFor(what, about(one), error);
        return [];
      }
    });
  }

  #refuseFor(what: What, { id, tenant }: { readonly id: Id; readonly tenant?: Id }, error: unknown): void {
    if (!isLintelError(error)) throw error;
    this.#refuse({ what, id: String(id), ...(tenant !== undefined && { tenant: String(tenant) }), code: error.code, words: error.message });
  }

  async #marks(tx: Kysely<LintelTables>, what: What, ids: readonly string[]): Promise<Map<string, string>> {
    const rows = await tx
      .selectFrom('lintel_brought')
      .select(['tenant_id', 'id', 'mark'])
      .where('source', '=', this.#source)
      .where('what', '=', what)
      .where(sql<boolean>`id = any(${ids}::text[])`)
      .execute();
    return new Map(rows.map((row) => [what === 'member' ? pairOf({ tenant: row.tenant_id, user: row.id }) : row.id, row.mark]));
  }

  async #mark(
    tx: Kysely<LintelTables>,
    what: What,
    all: readonly { readonly id: string; readonly tenant?: string; readonly mark: string; readonly waits?: boolean }[],
  ): Promise<void> {
    const rows = all.map(({ id, tenant = '', mark, waits = false }) => ({ source: this.#source, what, tenant_id: tenant, id, mark, waits }));
    if (rows.length === 0) return;
    await sql`insert into lintel_brought select * from json_populate_recordset(null::lintel_brought, ${JSON.stringify(rows)})
      on conflict (source, what, tenant_id, id) do update set mark = excluded.mark`.execute(tx);
  }

  async #people(tx: Transaction<LintelTables>, part: readonly IntakePerson[]): Promise<void> {
    const read = (one: IntakePerson) => ({
      id: insistOnId(this.#charter, 'person', one.id),
      name: readName(one.name, 'a person'),
      address: readAddress(one.address),
      confirmed_at: one.confirmedAt ?? null,
    });
    const ready = this.#read(
      'person',
      part,
      ({ id }) => ({ id }),
      read,
      ({ id }) => id,
    );
    const ids = ready.map(({ id }) => id);
    const { rows: there } = await sql<{ id: string; name: string; address: string; address_written: string; is_program: boolean }>`
      select id, name, address, address_written, is_program from lintel_person where id = any(${ids}::text[]) or address = any(${ready.map(({ address }) => address.normal)}::text[])`.execute(
      tx,
    );
    const { rows: erased } = await sql<{ person_id: string }>`select person_id from lintel_erased where person_id = any(${ids}::text[])`.execute(tx);
    const [byId, byAddress] = [new Map(there.map((row) => [row.id, row])), new Map(there.map((row) => [row.address, row.id]))];
    const [gone, marks] = [new Set(erased.map((row) => row.person_id)), await this.#marks(tx, 'person', ids)];
    const personMark = (name: string, written: string) => markOf([name, written]);
    const made: (typeof ready)[number][] = [];
    const marked: { id: string; mark: string }[] = [];
    for (const one of ready) {
      try {
        const held = byId.get(one.id);
        const [owner, mark, last] = [byAddress.get(one.address.normal), personMark(one.name, one.address.written), marks.get(one.id)];
        if (gone.has(one.id)) refuse('id-used', 'was the id of somebody who was erased');
        if (owner !== undefined && owner !== one.id) refuse('address-taken', `somebody else has the address ${one.address.written}`);
        if (held?.is_program) refuse('person-exists', 'is the id of a program');
        byAddress.set(one.address.normal, one.id);
        const is = held && personMark(held.name, held.address_written);
        if (is === undefined) made.push(one);
        else if (is !== mark && is === last) await this.#changePerson(tx, held as { address: string }, one);
        this.#count('person', is === undefined ? 'brought' : mark === is || mark === last ? 'same' : is === last ? 'changed' : 'kept');
        if (is === undefined || (last !== mark && (is === mark || is === last))) marked.push({ id: one.id, mark });
      } catch (error) {
        this.#refuseFor('person', one, error);
      }
    }
    await insertMany(
      tx,
      'lintel_person',
      made.map(({ id, name, address, confirmed_at }) => ({
        id,
        name,
        address: address.normal,
        address_written: address.written,
        confirmed_at,
        is_program: false,
      })),
    );
    await this.#mark(tx, 'person', marked);
  }

  async #changePerson(
    tx: Kysely<LintelTables>,
    held: { readonly address: string },
    { id, name, address, confirmed_at }: { readonly id: string; readonly name: string; readonly address: Address; readonly confirmed_at: Date | null },
  ): Promise<void> {
    const moved = held.address !== address.normal;
    if (moved)
      await tx
        .insertInto('lintel_address_held')
        .values({ person_id: id, address: held.address, until: new Date(this.#setting.now()) })
        .execute();
    const set = { name, address_written: address.written, ...(moved && { address: address.normal, confirmed_at }) };
    await tx.updateTable('lintel_person').set(set).where('id', '=', id).execute();
  }

  async #tenants(tx: Transaction<LintelTables>, part: readonly IntakeTenant[]): Promise<void> {
    const own = (what: 'group' | 'unit', id: Id) => insistOnId(this.#charter, what, id);
    const read = (one: IntakeTenant) => ({
      id: insistOnId(this.#charter, 'tenant', one.id),
      name: readName(one.name, 'an organisation'),
      contact: one.contact === undefined ? null : readName(one.contact, 'the contact'),
      groups: (one.groups ?? []).map(({ id, name }) => ({ id: own('group', id), name: readName(name, 'a group') })),
      units: (one.units ?? []).map(({ id, name, below }) => ({
        id: own('unit', id),
        name: readName(name, 'a unit'),
        below: below === undefined ? null : own('unit', below),
      })),
    });
    const ready = this.#read(
      'tenant',
      part,
      ({ id }) => ({ id }),
      read,
      ({ id }) => id,
    );
    const ids = ready.map(({ id }) => id);
    const marks = await this.#marks(tx, 'tenant', ids);
    const known = new Map((await lockTenants(tx, ids)).map((row) => [row.id, row]));
    const fresh = ready.filter(({ id }) => !known.has(id));
    // Nobody enters it before somebody has full control of it.
    await insertMany(
      tx,
      'lintel_tenant',
      fresh.map(({ id, name, contact }) => ({ id, name, contact, status: 'closed' as const })),
    );
    for (const row of await lockTenants(
      tx,
      fresh.map(({ id }) => id),
    ))
      known.set(row.id, row);
    const tenantMark = (name: string, contact: string | null) => markOf([name, contact]);
    const marked: { id: string; mark: string; waits?: boolean }[] = [];
    for (const { id, name, contact, groups, units } of ready) {
      const row = known.get(id) as NonNullable<ReturnType<typeof known.get>>;
      const isNew = fresh.some((one) => one.id === id);
      const [mark, last, is] = [tenantMark(name, contact), marks.get(id), tenantMark(row.name, row.contact)];
      const entries: AuditEntry[] = isNew ? [{ what: 'tenant taken in', event: { source: this.#source }, words: { name } }] : [];
      if (!isNew && mark !== is && is === last) {
        await tx.updateTable('lintel_tenant').set({ name, contact }).where('id', '=', id).execute();
        entries.push({ what: 'tenant renamed', event: {}, words: { nameBefore: row.name, nameAfter: name } });
      }
      entries.push(...(await this.#parts(tx, id, groups, units)));
      await this.#record(tx, row, entries);
      this.#count('tenant', isNew ? 'brought' : entries.length > 0 ? 'changed' : mark === is || mark === last ? 'same' : 'kept');
      if (isNew || (last !== mark && (is === mark || is === last))) marked.push({ id, mark, waits: isNew });
    }
    await this.#mark(tx, 'tenant', marked);
  }

  /** Groups and units that are not there yet. */
  async #parts(
    tx: Transaction<LintelTables>,
    tenantId: string,
    groups: readonly { readonly id: string; readonly name: string }[],
    units: readonly { readonly id: string; readonly name: string; readonly below: string | null }[],
  ): Promise<AuditEntry[]> {
    const entries: AuditEntry[] = [];
    for (const { id, name } of groups) {
      const made = await tx
        .insertInto('lintel_group')
        .values({ tenant_id: tenantId, id, name })
        .onConflict((c) => c.doNothing())
        .executeTakeFirst();
      if (made.numInsertedOrUpdatedRows) entries.push({ what: 'group made', event: { group: id, people: [] }, words: { name } });
    }
    for (const { id, name, below } of units) {
      if (below !== null && !(await tx.selectFrom('lintel_unit').select('id').where('tenant_id', '=', tenantId).where('id', '=', below).executeTakeFirst())) {
        this.#refuse({
          what: 'tenant',
          id: tenantId,
          code: 'no-such-unit',
          words: `the unit "${id}" lies below "${below}", which is not there; name that first`,
        });
        continue;
      }
      const made = await tx
        .insertInto('lintel_unit')
        .values({ tenant_id: tenantId, id, name, parent_id: below })
        .onConflict((c) => c.doNothing())
        .executeTakeFirst();
      if (!made.numInsertedOrUpdatedRows) continue;
      await sql`insert into lintel_unit_below (tenant_id, above_id, below_id)
        select ${tenantId}, ${id}, ${id} union select tenant_id, above_id, ${id} from lintel_unit_below where tenant_id = ${tenantId} and below_id = ${below}`.execute(
        tx,
      );
      entries.push({ what: 'unit added', event: { unit: id, below }, words: { name } });
    }
    return entries;
  }

  async #record(
    tx: Kysely<LintelTables>,
    row: { readonly id: string; readonly last_number: unknown; readonly last_hash: string },
    entries: readonly AuditEntry[],
  ): Promise<void> {
    if (entries.length === 0) return;
    const number = Number(row.last_number) + 1;
    const at = new Date(this.#setting.now());
    const last_hash = await putOnRecord({ tx, tenantId: row.id, number, latest: row.last_hash, at, actor: {} }, entries);
    await tx
      .updateTable('lintel_tenant')
      .set({ last_number: number + entries.length - 1, last_hash })
      .where('id', '=', row.id)
      .execute();
  }

  #readMember({ user, tenant, roles = [], groups = [], units = [], attributes = {} }: IntakeMember): Ready {
    const id = (what: 'person' | 'tenant' | 'group' | 'unit', given: Id) => insistOnId(this.#charter, what, given);
    const all = roles.map((role): Assignment => {
      if (typeof role === 'string') return { role, anchor: { on: 'tenant' } };
      return role.until === undefined ? role : { ...role, until: isoOf(role.until) };
    });
    for (const { role, anchor, until } of all) {
      this.#charter.role(role);
      if (role === KEYHOLDER && (anchor.on !== 'tenant' || until !== undefined))
        refuse('keyholder-anchor', 'full control is held for the whole organisation, without an end');
      if (anchor.on === 'record') this.#charter.kind(anchor.kind);
    }
    const each = (what: 'group' | 'unit', ids: readonly Id[]) => [...new Set(ids.map((one) => id(what, one)))];
    return { user: id('person', user), tenant: id('tenant', tenant), roles: all, groups: each('group', groups), units: each('unit', units), attributes };
  }

  async #members(tx: Transaction<LintelTables>, part: readonly IntakeMember[]): Promise<void> {
    const ready = this.#read(
      'member',
      part,
      ({ user, tenant }) => ({ id: user, tenant }),
      (one) => this.#readMember(one),
      pairOf,
    );
    const users = [...new Set(ready.map(({ user }) => user))];
    const tenants = new Map(
      (
        await lockTenants(
          tx,
          ready.map(({ tenant }) => tenant),
        )
      ).map((row) => [row.id, row]),
    );
    const around = await this.#around(tx, [...tenants.keys()], users, ready);
    const marks = await this.#marks(tx, 'member', users);
    const [fresh, changed]: [Ready[], Ready[]] = [[], []];
    const marked: { id: string; tenant: string; mark: string }[] = [];
    for (const one of ready) {
      try {
        const row = tenants.get(one.tenant) ?? refuse('not-found', 'the organisation is not there; take it in first');
        const [held, mark, last] = [around.held.get(pairOf(one)), heldMark(one), marks.get(pairOf(one))];
        if (mark === last && held) {
          this.#count('member', 'same');
          continue;
        }
        this.#insistOnSound(one, row.one_role, around);
        const is = held && heldMark(held);
        if (!held && (last !== undefined || around.removed.has(pairOf(one))))
          refuse('removed-here', 'was removed here, and comes in again only by somebody here');
        const takesControl = held?.roles.some(({ role }) => role === KEYHOLDER) && !one.roles.some(({ role }) => role === KEYHOLDER);
        if (is === last && takesControl) refuse('takes-full-control', 'holds full control here, which is taken by somebody here');
        this.#count('member', !held ? 'brought' : is === mark ? 'same' : is === last ? 'changed' : 'kept');
        if (!held) fresh.push(one);
        else if (is === last && is !== mark) changed.push(one);
        if (!held || is === last || is === mark) marked.push({ id: one.user, tenant: one.tenant, mark });
      } catch (error) {
        this.#refuseFor('member', { id: one.user, tenant: one.tenant }, error);
      }
    }
    await this.#write(tx, fresh, changed);
    await this.#mark(tx, 'member', marked);
    const said = new Map<string, Ready[]>();
    for (const one of [...fresh, ...changed]) said.set(one.tenant, [...(said.get(one.tenant) ?? []), one]);
    for (const [tenant, all] of said) {
      const people = all.map(({ user, roles, groups, units }) => ({ user, roles: rolesOnRecord(roles), groups, units }));
      await this.#record(tx, tenants.get(tenant) as NonNullable<ReturnType<typeof tenants.get>>, [
        { what: 'people taken in', event: { source: this.#source, people } },
      ]);
    }
  }

  #insistOnSound(one: Ready, oneRole: boolean, { people, groups, units }: Around): void {
    if (!people.has(one.user)) refuse('no-account', 'is no person here; take them in first');
    if (people.get(one.user)) refuse('no-person', 'is a program');
    for (const group of one.groups) if (!groups.has(`${one.tenant}\n${group}`)) refuse('no-such-group', `there is no group "${group}"`);
    for (const unit of [...one.units, ...one.roles.flatMap(({ anchor }) => (anchor.on === 'unit' ? [anchor.unitId] : []))])
      if (!units.has(`${one.tenant}\n${unit}`)) refuse('no-such-unit', `there is no unit "${unit}"`);
    if (oneRole && one.roles.length > 1) refuse('one-role', 'everybody has one role at most there');
    const facts: Facts = {
      charter: this.#charter.hash,
      tenant: { id: one.tenant, name: '', open: true, contact: null, features: [] },
      subject: 'member',
      me: { userId: one.user, groupIds: [], unitIds: [], attributes: {} },
      assignments: one.roles,
      fulfilled: [],
    };
    const [apart] = heldTogether(this.#charter, facts);
    if (apart !== undefined) refuse('apart', `would hold together what is to be apart: ${this.#charter.data.apart[apart]?.sentence}`);
  }

  async #around(tx: Kysely<LintelTables>, tenants: readonly string[], users: readonly string[], ready: readonly Ready[]): Promise<Around> {
    const named = (pick: (one: Ready) => readonly string[]) => [...new Set(ready.flatMap(pick))];
    const among = sql`unnest(${ready.map(({ tenant }) => tenant)}::text[], ${ready.map(({ user }) => user)}::text[]) as w (tenant_id, user_id)`;
    const rows = async <R>(query: ReturnType<typeof sql>) => (await query.execute(tx)).rows as R[];
    type Pair = { tenant_id: string; user_id: string; id: string };
    // Held until the part is done: nobody is erased past it.
    const people = await rows<{ id: string; is_program: boolean }>(
      sql`select id, is_program from lintel_person where id = any(${users}::text[]) order by id for key share`,
    );
    const own = (table: string, ids: readonly string[]) =>
      rows<Pair>(sql`select tenant_id, id from ${sql.table(table)} where tenant_id = any(${tenants}::text[]) and id = any(${ids}::text[])`);
    const groups = await own(
      'lintel_group',
      named(({ groups }) => groups),
    );
    const units = await own(
      'lintel_unit',
      named(({ units, roles }) => [...units, ...roles.flatMap(({ anchor }) => (anchor.on === 'unit' ? [anchor.unitId] : []))]),
    );
    const members = await rows<Pair & { attributes: Record<string, unknown> }>(
      sql`select m.tenant_id, m.user_id, m.attributes from lintel_member m join ${among} using (tenant_id, user_id)`,
    );
    const held = new Map(
      members.map((m) => [pairOf({ tenant: m.tenant_id, user: m.user_id }), { roles: [], groups: [], units: [], attributes: m.attributes } as Held]),
    );
    const of = (row: Pair) => held.get(pairOf({ tenant: row.tenant_id, user: row.user_id }));
    if (members.length > 0) {
      const roles = await rows<Pair & { role: string; anchor: 'tenant' | 'unit' | 'record'; anchor_id: string; until: Date | null; without: string[] }>(
        sql`select a.* from lintel_assignment a join ${among} using (tenant_id, user_id)`,
      );
      for (const row of roles)
        of(row)?.roles.push({
          role: row.role,
          anchor: anchorOf(row.anchor, row.anchor_id),
          ...(row.until && { until: row.until.toISOString() }),
          ...(row.without.length > 0 && { without: row.without }),
        });
      for (const row of await rows<Pair>(
        sql`select g.tenant_id, g.user_id, g.group_id as id from lintel_group_member g join ${among} using (tenant_id, user_id)`,
      ))
        of(row)?.groups.push(row.id);
      for (const row of await rows<Pair>(sql`select p.tenant_id, p.user_id, p.unit_id as id from lintel_placement p join ${among} using (tenant_id, user_id)`))
        of(row)?.units.push(row.id);
    }
    const removed = await rows<Pair>(
      sql`select distinct a.tenant_id, a.event ->> 'user' as user_id from lintel_audit a join ${among} on w.tenant_id = a.tenant_id and w.user_id = a.event ->> 'user' where a.what in ('member removed', 'member left', 'member erased')`,
    );
    return {
      people: new Map(people.map((one) => [one.id, one.is_program])),
      groups: new Set(groups.map((one) => `${one.tenant_id}\n${one.id}`)),
      units: new Set(units.map((one) => `${one.tenant_id}\n${one.id}`)),
      held,
      removed: new Set(removed.map((one) => pairOf({ tenant: one.tenant_id, user: one.user_id }))),
    };
  }

  async #write(tx: Transaction<LintelTables>, fresh: readonly Ready[], changed: readonly Ready[]): Promise<void> {
    const key = ({ tenant, user }: Ready) => ({ tenant_id: tenant, user_id: user });
    for (const one of changed) {
      for (const table of ['lintel_assignment', 'lintel_group_member', 'lintel_placement'] as const)
        await tx.deleteFrom(table).where('tenant_id', '=', one.tenant).where('user_id', '=', one.user).execute();
      await tx
        .updateTable('lintel_member')
        .set({ attributes: JSON.stringify(one.attributes) })
        .where('tenant_id', '=', one.tenant)
        .where('user_id', '=', one.user)
        .execute();
    }
    const since = new Date(this.#setting.now());
    await insertMany(
      tx,
      'lintel_member',
      fresh.map((one) => ({ ...key(one), status: 'active' as const, since, attributes: one.attributes as never })),
    );
    await insertMany(
      tx,
      'lintel_person_tenant',
      fresh.map(({ tenant, user }) => ({ person_id: user, tenant_id: tenant })),
    );
    const all = [...fresh, ...changed];
    await insertMany(
      tx,
      'lintel_assignment',
      all.flatMap((one) =>
        one.roles.map((r) => ({
          ...key(one),
          role: r.role,
          ...anchorColumns(one.tenant, r.anchor),
          until: r.until === undefined ? null : new Date(r.until),
          without: (r.without ?? []) as never,
        })),
      ),
    );
    await insertMany(
      tx,
      'lintel_group_member',
      all.flatMap((one) => one.groups.map((group_id) => ({ ...key(one), group_id }))),
    );
    await insertMany(
      tx,
      'lintel_placement',
      all.flatMap((one) => one.units.map((unit_id) => ({ ...key(one), unit_id }))),
    );
  }

  /** Opens the tenants that were brought and that somebody has full control of by now; says which are not. */
  async #open(): Promise<void> {
    let after = '';
    for (;;) {
      const waiting = await this.#setting.db
        .selectFrom('lintel_brought')
        .select('id')
        .where('source', '=', this.#source)
        .where('what', '=', 'tenant')
        .where('waits', '=', true)
        .where('id', '>', after)
        .orderBy('id')
        .limit(TOGETHER)
        .execute();
      if (waiting.length === 0) return;
      const ids = waiting.map(({ id }) => id);
      after = ids.at(-1) as string;
      await this.#each((tx) => this.#openThese(tx, ids));
    }
  }

  async #openThese(tx: Transaction<LintelTables>, ids: readonly string[]): Promise<void> {
    const tenants = await lockTenants(tx, ids);
    const held = await tx
      .selectFrom('lintel_assignment as a')
      .innerJoin('lintel_member as m', (join) => join.onRef('m.tenant_id', '=', 'a.tenant_id').onRef('m.user_id', '=', 'a.user_id'))
      .select('a.tenant_id')
      .distinct()
      .where(sql<boolean>`a.tenant_id = any(${ids}::text[])`)
      .where('a.role', '=', KEYHOLDER)
      .where('a.until', 'is', null)
      .where('m.ends_at', 'is', null)
      .where(isActive('m', this.#setting.now()))
      .execute();
    const kept = new Set(held.map((row) => row.tenant_id));
    for (const row of tenants) {
      if (!kept.has(row.id)) {
        this.#closed += 1;
        this.#tell({
          what: 'tenant',
          id: row.id,
          code: 'no-keyholder',
          words: `nobody has full control, so that it stays closed: give one of its members the role ${KEYHOLDER}`,
        });
        continue;
      }
      this.#opened += 1;
      await this.#record(tx, row, [{ what: 'tenant opened again', event: {} }]);
      await tx.updateTable('lintel_tenant').set({ status: 'open' }).where('id', '=', row.id).execute();
    }
    await sql`update lintel_brought set waits = false where source = ${this.#source} and what = 'tenant' and id = any(${[...kept]}::text[])`.execute(tx);
  }
}

interface Held {
  readonly roles: Assignment[];
  readonly groups: string[];
  readonly units: string[];
  readonly attributes: Readonly<Record<string, unknown>>;
}

interface Around {
  /** By id, whether it is a program. */
  readonly people: ReadonlyMap<string, boolean>;
  readonly groups: ReadonlySet<string>;
  readonly units: ReadonlySet<string>;
  readonly held: ReadonlyMap<string, Held>;
  readonly removed: ReadonlySet<string>;
}

function zero(): Record<Outcome, number> {
  return { brought: 0, changed: 0, same: 0, kept: 0, refused: 0 };
}

/** Takes in what an application has already. See {@link Taking}. */
export async function intake(setting: Setting, what: Intake, options: IntakeOptions = {}): Promise<IntakeReport> {
  if (options.dryRun) {
    return takenBack(setting.db, async (tx) => {
      const taking = new Taking({ ...setting, db: tx }, options);
      await taking.all(what);
      return taking.report;
    });
  }
  const taking = new Taking(setting, options);
  await taking.all(what);
  return taking.report;
}
