/* Two or more at once, drawn: whatever they do, what must always hold does, nobody is shown a deadlock, and nothing that was said to be done is missing. */
import fc from 'fast-check';
import { type IsolationLevel, type Kysely, sql } from 'kysely';
import { isLintelError } from 'warm-lintel';
import type { Lintel, Step } from 'warm-lintel/server';
import { verifyAudit } from '../../src/membership/index.js';
import { anyStep } from '../attack/steps.js';
import { makeWorld, PEOPLE } from '../attack/world.js';
import { shorter, shrunkBy } from '../harness/shrink.js';

export const PLATFORM = 'p';
const TENANTS = [PLATFORM, 'a', 'b'] as const;
/** Those who come in again and again, and are erased. */
const GUESTS = ['eve', 'fay', 'gus'] as const;

const of = <T>(...values: readonly T[]) => fc.constantFrom(...values);
const tenant = of(...TENANTS, 'a', 'a');
const by = of('boss', 'boss', 'ann', 'ben', ...PEOPLE);
const anybody = of(...PEOPLE, ...GUESTS);
const KEYHOLDER = { role: 'keyholder', anchor: { on: 'tenant' } } as const;
const LATER = new Date(Date.now() + 86_400_000).toISOString();

/** What moves full control about. */
export const control: fc.Arbitrary<Step> = fc.oneof(
  fc.record({ do: of('set-roles' as const), holder: fc.record({ user: of('boss', 'ann') }), roles: of([], [KEYHOLDER], [KEYHOLDER]) }),
  fc.record({ do: of('leave' as const, 'close-tenant' as const, 'leave' as const, 'leave' as const) }),
  fc.record({ do: of('remove' as const, 'suspend' as const, 'restore' as const), user: of('boss', 'ann', 'ben') }),
  fc.record({ do: of('set-end' as const), user: of('boss', 'ann'), at: of(LATER, null) }),
  fc.record({ do: of('set-rules' as const), joining: of({ asks: true, open: true, domains: ['attack.example'] }, {}) }),
  fc.record({ do: of('hand-over' as const), from: of('ann', 'ben'), to: of('ben', 'ann'), kinds: of(['hive']) }),
);
const steps = fc.oneof({ weight: 3, arbitrary: fc.array(anyStep, { minLength: 1, maxLength: 2 }) }, { weight: 2, arbitrary: fc.tuple(control) });

/** Something that somebody does. */
const act = fc.oneof(
  { weight: 6, arbitrary: fc.record({ what: of('carries' as const), tenant, by, steps }) },
  { weight: 2, arbitrary: fc.record({ what: of('proposes' as const), tenant, by, steps }) },
  { weight: 3, arbitrary: fc.record({ what: of('invites' as const), tenant, by: of('boss', 'ann'), whom: of(...GUESTS, 'cas'), once: of('k', 'l', 'm') }) },
  { weight: 3, arbitrary: fc.record({ what: of('accepts' as const), user: anybody }) },
  { weight: 1, arbitrary: fc.record({ what: of('joins' as const), tenant, user: anybody }) },
  { weight: 2, arbitrary: fc.record({ what: of('erases' as const), user: of(...GUESTS, 'cas', 'dot'), byPlatform: fc.boolean() }) },
  { weight: 1, arbitrary: fc.record({ what: of('moves' as const), user: of(...GUESTS, 'cas'), to: of('x', 'y') }) },
  { weight: 1, arbitrary: fc.record({ what: of('looks' as const), tenant, by: of('boss', 'ann'), user: anybody }) },
  { weight: 1, arbitrary: fc.record({ what: of('cares' as const, 'closes' as const, 'plans' as const), tenant, by: of('boss', 'ann') }) },
  { weight: 1, arbitrary: fc.record({ what: of('opens' as const), tenant: of('c', 'd'), by: of('boss', 'ann'), keyholder: anybody }) },
  {
    weight: 2,
    arbitrary: fc.record({ what: of('writes' as const), tenant, by, ids: fc.shuffledSubarray(['h1', 'h2', 'h3'], { minLength: 1 }), to: of(...PEOPLE, null) }),
  },
  // In a transaction of the application's own, in two tenants one after the other, in whatever order.
  {
    weight: 2,
    arbitrary: fc.record({
      what: of('together' as const),
      tenants: fc.shuffledSubarray(['a', 'b', PLATFORM], { minLength: 2, maxLength: 2 }),
      by: of('boss', 'ann'),
      steps: fc.tuple(anyStep),
      level: of('read committed' as const, 'repeatable read' as const, 'serializable' as const),
    }),
  },
);
export type Act = typeof act extends fc.Arbitrary<infer T> ? T : never;

/** Does it. Answers how many events it put on record. */
async function doIt(lintel: Lintel<any>, one: Act): Promise<number> {
  const enter = (user: string, at: string, on = lintel) => on.enter({ tenant: at, user, fulfilled: [] });
  switch (one.what) {
    case 'carries':
      return (await (await enter(one.by, one.tenant)).carryOut(one.steps)).length;
    case 'proposes': {
      const standing = await enter(one.by, one.tenant);
      const proposal = await standing.propose(one.steps);
      return (await standing.carryOut(proposal)).length;
    }
    case 'invites': {
      const answers = await (await enter(one.by, one.tenant)).invitations.send([{ address: `${one.whom}@attack.example`, roles: [] }], { once: one.once });
      // The same again under a key puts nothing on record, and has no secret.
      return answers.filter(({ token }) => token !== undefined).length;
    }
    case 'accepts': {
      const held = await lintel.myInvitations(one.user);
      for (const { tenantId, invitationId } of held) await lintel.acceptInvitation(one.user, { tenantId, invitationId });
      return held.length;
    }
    case 'joins':
      return (await lintel.askToJoin(one.user, one.tenant)) === 'joined' ? 1 : Number.NaN;
    case 'erases':
      await (one.byPlatform ? lintel.platform('boss') : lintel).erasePerson(one.user);
      return Number.NaN;
    case 'moves': {
      const { token = '' } = await lintel.changeAddress(one.user, `${one.to}@attack.example`);
      await lintel.proveAddress(one.user, token);
      return 0;
    }
    case 'looks':
      await (await enter(one.by, one.tenant)).lookAs({ user: one.user });
      return 1;
    case 'cares':
      await lintel.platform(one.by).beginCare({ tenant: one.tenant, reason: 'asked', hours: 1 });
      return 2;
    case 'closes':
      await lintel.platform(one.by).closeTenant(one.tenant, 'asked');
      await lintel.platform('boss').reopenTenant(one.tenant, 'asked');
      return 4;
    case 'plans':
      await lintel.platform(one.by).setPlan(one.tenant, { seats: null });
      return 2;
    case 'opens':
      await lintel.platform(one.by).openTenant({ id: one.tenant, name: 'C', keyholder: one.keyholder });
      return 2;
    case 'writes':
      await (await enter(one.by, one.tenant)).change('hive', one.ids, { ownerId: one.to });
      return 0;
    case 'together': {
      const work = async (tx: Kysely<any>) => {
        let events = 0;
        for (const at of one.tenants) events += (await (await enter(one.by, at, lintel.within(tx))).carryOut(one.steps)).length;
        return events;
      };
      return lintel.db
        .transaction()
        .setIsolationLevel(one.level as IsolationLevel)
        .execute(work as never);
    }
  }
}

/** What must always hold; each statement finds what breaks it. */
const NEVER: Readonly<Record<string, string>> = {
  'an organisation without somebody of full control': `select t.id from lintel_tenant t where not exists (
     select 1 from lintel_member m join lintel_person p on p.id = m.user_id join lintel_assignment a on a.tenant_id = m.tenant_id and a.user_id = m.user_id
     where m.tenant_id = t.id and m.status = 'active' and m.ends_at is null and not p.is_program and a.role = 'keyholder' and a.until is null)`,
  'a member who is nobody': `select m.user_id from lintel_member m where not exists (select 1 from lintel_person p where p.id = m.user_id)`,
  'a member of whom their list of organisations does not know': `select user_id, tenant_id from lintel_member where responsible_id is null except select person_id, tenant_id from lintel_person_tenant`,
  'an organisation in a list that does not have them': `select person_id, tenant_id from lintel_person_tenant except select user_id, tenant_id from lintel_member`,
  'a role that is held and is none': `select a.role from lintel_assignment a where a.role like 'own-%' and not exists (select 1 from lintel_role r where r.tenant_id = a.tenant_id and r.id = a.role)`,
  'a unit that lies elsewhere than it is said to': `with recursive lies as (select tenant_id, id as below_id, id as above_id from lintel_unit
     union select l.tenant_id, l.below_id, u.parent_id from lies l join lintel_unit u on u.tenant_id = l.tenant_id and u.id = l.above_id where u.parent_id is not null)
     (select * from lies except select tenant_id, below_id, above_id from lintel_unit_below)
     union all (select tenant_id, below_id, above_id from lintel_unit_below except select * from lies)`,
  'a number of a change that is missing': `select t.id from lintel_tenant t where t.last_number <> (select count(*) from lintel_audit a where a.tenant_id = t.id)`,
  'an invitation that was accepted by nobody': `select id from lintel_invitation where status = 'accepted' and accepted_by is null`,
  'two open invitations of one address': `select tenant_id, address from lintel_invitation where status = 'pending' group by 1, 2 having count(*) > 1`,
  'a key that was answered without what was done': `select key from lintel_answer where answer is null`,
  'an address whose owner has left nothing but it': `select i.address from lintel_invitation i where i.status = 'accepted' and i.address not like 'erased%' and not exists (select 1 from lintel_person p where p.id = i.accepted_by)`,
};

async function insist(db: Kysely<any>): Promise<void> {
  const { rows } = await sql<{ what: string; found: unknown }>`${sql.raw(
    Object.entries(NEVER)
      .map(([what, found]) => `select '${what}' as what, to_jsonb(x) as found from (${found}) x`)
      .join('\nunion all '),
  )}`.execute(db);
  if (rows.length > 0) throw new Error(`there is ${rows.map(({ what, found }) => `${what}: ${JSON.stringify(found)}`).join('; ')}`);
}

/** Of whoever does not hold everything, nobody holds together what is to be apart. */
async function insistOnApart(lintel: Lintel<any>): Promise<void> {
  for (const at of TENANTS) {
    for (const user of PEOPLE) {
      const { inMemory: standing, facts } = await lintel.enter({ tenant: at, user });
      const holds = (permission: string) => standing.grantsFor(permission).length > 0;
      if (facts.assignments.some(({ role }) => role === 'keyholder') || !holds('hive.move') || !holds('hive.transfer')) continue;
      throw new Error(`${user} holds together in ${at} what is to be apart`);
    }
  }
}

/** All tables of the library as they stand, to begin from again. */
async function saved(db: Kysely<any>): Promise<() => Promise<void>> {
  const { rows } = await sql<{ name: string; columns: string[] }>`
    select table_name as name, json_agg(column_name::text) as columns from information_schema.columns
    where table_schema = 'public' and table_name <> 'lintel_migration' and is_generated = 'NEVER' group by 1`.execute(db);
  await sql`create schema saved`.execute(db);
  for (const { name } of rows) await sql`create table ${sql.id('saved', name)} as table ${sql.id('public', name)}`.execute(db);
  const all = sql.join(rows.map(({ name }) => sql.id('public', name)));
  return async () => {
    const fill = rows.map(({ name, columns }) => {
      const these = sql.join(columns.map((column) => sql.id(column)));
      return sql`insert into ${sql.id('public', name)} (${these}) select ${these} from ${sql.id('saved', name)}`;
    });
    await db.transaction().execute(async (tx) => {
      await sql`set local session_replication_role = replica`.execute(tx);
      await sql`truncate ${all}`.execute(tx);
      for (const one of fill) await one.execute(tx);
    });
  };
}

/** Codes that may be shown: in the application's own transaction, and where connections are broken. */
const mayBeShown = (one: Act, code: string, breaks: boolean) =>
  (code === 'try-again' && (one.what === 'together' || breaks)) || (code === 'database-away' && breaks);

/** Acts at once. */
const AT_ONCE = 16;
/** Rounds from one state. */
const ROUNDS = 6;

/** What is done at once. */
export const round: fc.Arbitrary<readonly Act[]> = shrunkBy<readonly Act[]>(fc.array(act, { minLength: AT_ONCE, maxLength: AT_ONCE }), (acts) =>
  shorter(acts, 1),
);

async function prepared(db: Kysely<any>, lintel: Lintel<any>): Promise<void> {
  await makeWorld(db, lintel, TENANTS);
  for (const id of ['fay', 'gus']) await lintel.addPerson({ id, name: id, address: `${id}@attack.example`, confirmedAt: new Date() });
  for (const at of TENANTS) {
    const boss = await lintel.enter({ tenant: at, user: 'boss' });
    await boss.carryOut([
      { do: 'set-roles', holder: { user: 'ann' }, roles: [KEYHOLDER] },
      { do: 'set-roles', holder: { user: 'ben' }, roles: [{ role: 'arranger', anchor: { on: 'tenant' } }] },
      { do: 'make-role', id: 'own-a', role: { label: 'A', may: {} } },
      { do: 'make-role', id: 'own-b', role: { label: 'B', may: {} } },
      { do: 'set-rules', joining: { asks: true, open: true, domains: ['attack.example'] } },
    ]);
    await boss.invitations.send(GUESTS.map((name) => ({ address: `${name}@attack.example`, roles: [] })));
  }
}

/** A database in which rounds are played, over as many connections as are to be in use. */
export class Arena {
  readonly #lintel: Lintel<any>;
  readonly #own: Kysely<any>;
  readonly #calm: Lintel<any>;
  readonly #breaks: (() => Promise<void>) | undefined;
  #again: () => Promise<void> = async () => {};
  #played = 0;
  #isFailed = false;
  /** How often each act came out, by `done` or the code of the error. */
  readonly came: Record<string, number> = {};

  /** @param breaks breaks every connection of `lintel`; `own` and `calm` are never broken. */
  constructor(lintel: Lintel<any>, own: Kysely<any>, calm: Lintel<any>, breaks?: () => Promise<void>) {
    this.#lintel = lintel;
    this.#own = own;
    this.#calm = calm;
    this.#breaks = breaks;
  }

  async prepare(): Promise<void> {
    await prepared(this.#own, this.#calm);
    await sql`insert into hives (id, tenant_id, owner_id, site_id, name) select 'h' || n, 'a', 'ann', null, 'Hive' from generate_series(1, 3) n`.execute(
      this.#own,
    );
    this.#again = await saved(this.#own);
  }

  /** Plays a round. Answers what came of it that must not. */
  async play(acts: readonly Act[]): Promise<string | undefined> {
    // What failed once is played from the same state each time, so that it can be made smaller.
    if (this.#isFailed || this.#played % ROUNDS === 0) await this.#again();
    this.#played += 1;
    const wrong = await this.#round(acts, this.#breaks !== undefined && this.#played % 2 === 0).catch((error: unknown) => (error as Error).message);
    if (wrong !== undefined) this.#isFailed = true;
    return wrong;
  }

  async #round(acts: readonly Act[], breaks: boolean): Promise<string | undefined> {
    const before = await events(this.#own);
    const under = acts.map((one) =>
      doIt(this.#lintel, one).then(
        (counted) => ({ one, code: 'done', counted }),
        (error: unknown) => {
          if (!isLintelError(error))
            throw new Error(`${JSON.stringify(one)} was shown ${(error as { code?: string }).code ?? ''} ${String(error)}`, { cause: error });
          return { one, code: error.code, counted: several(one) ? Number.NaN : 0 };
        },
      ),
    );
    if (breaks) await this.#breaks?.();
    const settled = await Promise.allSettled(under);
    const came = settled.map((one) => (one.status === 'fulfilled' ? one.value : Promise.reject(one.reason)));
    const all = await Promise.all(came);
    for (const { one, code } of all) {
      this.came[code] = (this.came[code] ?? 0) + 1;
      if (SHOWN_NEVER.has(code) && !mayBeShown(one, code, breaks)) return `${JSON.stringify(one)} was shown ${code}`;
    }
    const counted = all.reduce((sum, one) => sum + one.counted, 0);
    await insist(this.#own);
    const more = (await events(this.#own)) - before;
    if (!breaks && !Number.isNaN(counted) && more !== counted) return `there are ${more} more events, and ${counted} were said to be done`;
    if (this.#isFailed || this.#played % ROUNDS === 0) {
      await insistOnApart(this.#calm);
      for (const at of TENANTS) {
        const { broken } = await verifyAudit(this.#own, at);
        if (broken) return `the record of ${at} is broken: ${JSON.stringify(broken)}`;
      }
    }
    return undefined;
  }
}

const SHOWN_NEVER = new Set(['try-again', 'database-away']);
/** What was done in several transactions may be done in part. */
const several = (one: Act) => one.what === 'accepts' || one.what === 'closes';

async function events(db: Kysely<any>): Promise<number> {
  const { rows } = await sql<{ count: string }>`select count(*) as count from lintel_audit`.execute(db);
  return Number(rows[0]?.count);
}
