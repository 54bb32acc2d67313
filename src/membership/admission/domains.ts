import { type Kysely, sql } from 'kysely';
import { inTransaction, LintelError, randomSecret } from '../../base/index.js';
import { aKeyholder, type Standing } from '../../standing/index.js';
import { type Change, changeTenant, type Handlers, insistOnSetter } from '../change/index.js';
import { type LintelTables, lockTenants, readDomain, type Setting } from '../terms/index.js';
import { connectionOf } from './connections.js';

/** A mail domain that a tenant says is theirs, for whoever has full control. */
export interface Domain {
  readonly domain: string;
  /** What its owner puts into the DNS, so that it is seen to be theirs. */
  readonly record: { readonly name: string; readonly value: string };
  /** Absent: nobody has shown yet that it is theirs. */
  readonly provenAt?: Date;
  readonly by?: 'dns' | 'platform';
  /** When the record was last seen there. */
  readonly seenAt?: Date;
  /** Since when it does not count any more. */
  readonly lapsedAt?: Date;
  /** The connection to which people of it are sent. */
  readonly connection?: string;
}

/** So many domains has a tenant. */
const MOST = 50;
/** A record that is not seen for so many days ends what was shown by it. */
export const LAPSE_DAYS = 3;
const DAY = 86_400_000;

/** The DNS record by which a domain is shown to be somebody's (TXT). */
export const recordOf = (domain: string, challenge: string) => ({ name: `_lintel.${domain}`, value: `lintel-domain=${challenge}` });

/** @throws LintelError `not-found`. */
async function domainOf({ tx, tenantId }: Pick<Change, 'tx' | 'tenantId'>, domain: string) {
  const row = await tx.selectFrom('lintel_domain').selectAll().where('tenant_id', '=', tenantId).where('domain', '=', domain).executeTakeFirst();
  if (row) return row;
  throw new LintelError('not-found', 'There is no such domain here.', {});
}

export const domainSteps: Handlers<'claim-domain' | 'send-domain' | 'give-up-domain'> = {
  'claim-domain': {
    needs: () => undefined,
    touches: () => ({}),
    run: async (change, { domain: raw }) => {
      insistOnSetter(change);
      const { tx, tenantId } = change;
      const domain = readDomain(raw);
      const all = await tx.selectFrom('lintel_domain').select('domain').where('tenant_id', '=', tenantId).execute();
      if (all.length >= MOST) throw new LintelError('bad-domain', `an organisation has ${MOST} domains at most`, {});
      if (all.some((one) => one.domain === domain)) throw new LintelError('bad-domain', `“${domain}” is among them already`, {});
      await tx.insertInto('lintel_domain').values({ tenant_id: tenantId, domain, challenge: randomSecret() }).execute();
      return { what: 'domain claimed', event: { domain } };
    },
  },
  'send-domain': {
    needs: () => undefined,
    touches: () => ({}),
    run: async (change, { domain, connection }) => {
      insistOnSetter(change);
      const { tx, tenantId } = change;
      const row = await domainOf(change, domain);
      if (row.proven_at === null || row.lapsed_at !== null)
        throw new LintelError('domain-not-shown', `Nobody has shown yet that ${domain} is yours. Put the record into the DNS first.`, { domain });
      if (connection !== null) await connectionOf(tx, tenantId, connection);
      await tx.updateTable('lintel_domain').set({ connection_id: connection }).where('tenant_id', '=', tenantId).where('domain', '=', domain).execute();
      return { what: 'domain sent', event: { domain, after: connection }, was: { before: row.connection_id } };
    },
  },
  'give-up-domain': {
    needs: () => undefined,
    touches: () => ({}),
    run: async (change, { domain }) => {
      insistOnSetter(change);
      const { tx, tenantId } = change;
      await domainOf(change, domain);
      await tx.deleteFrom('lintel_domain_holder').where('domain', '=', domain).where('tenant_id', '=', tenantId).execute();
      await tx.deleteFrom('lintel_domain').where('tenant_id', '=', tenantId).where('domain', '=', domain).execute();
      return { what: 'domain given up', event: { domain } };
    },
  },
};

/** The domains of a tenant. @throws LintelError `refused` without full control. */
export async function listDomains(setting: Setting, standing: Standing<any>): Promise<Domain[]> {
  if (!standing.isKeyholder) throw new LintelError('refused', `Only ${aKeyholder(standing.charter)} sees how people sign in.`, {});
  const rows = await setting.db.selectFrom('lintel_domain').selectAll().where('tenant_id', '=', standing.facts.tenant.id).orderBy('domain').execute();
  return rows.map((row) => ({
    domain: row.domain,
    record: recordOf(row.domain, row.challenge),
    ...(row.proven_at && { provenAt: row.proven_at }),
    ...(row.proven_by && { by: row.proven_by }),
    ...(row.seen_at && { seenAt: row.seen_at }),
    ...(row.lapsed_at && { lapsedAt: row.lapsed_at }),
    ...(row.connection_id !== null && { connection: row.connection_id }),
  }));
}

/** A domain as somebody looks at it from outside: in whose DNS which record has to be. */
export interface DomainToSee {
  readonly tenantId: string;
  readonly domain: string;
  readonly challenge: string;
}

/** Who has a domain. */
export async function holderOf(db: Kysely<LintelTables>, domain: string): Promise<(DomainToSee & { readonly connection: string | null }) | undefined> {
  const row = await db
    .selectFrom('lintel_domain_holder as h')
    .innerJoin('lintel_domain as d', (join) => join.onRef('d.domain', '=', 'h.domain').onRef('d.tenant_id', '=', 'h.tenant_id'))
    .select(['d.tenant_id', 'd.domain', 'd.challenge', 'd.connection_id'])
    .where('h.domain', '=', domain)
    .executeTakeFirst();
  return row && { tenantId: row.tenant_id, domain: row.domain, challenge: row.challenge, connection: row.connection_id };
}

/** Domains that were shown by the DNS and not looked at since, the longest first. */
export async function domainsToSee(db: Kysely<LintelTables>, before: Date, limit: number): Promise<DomainToSee[]> {
  const rows = await db
    .selectFrom('lintel_domain')
    .select(['tenant_id', 'domain', 'challenge'])
    .where('proven_by', '=', 'dns')
    .where('lapsed_at', 'is', null)
    .where('looked_at', '<', before)
    .orderBy('looked_at')
    .limit(limit)
    .execute();
  return rows.map((row) => ({ tenantId: row.tenant_id, domain: row.domain, challenge: row.challenge }));
}

/** What was seen in the DNS; `unknown`: nothing that can be relied on. */
export type Seen = 'there' | 'missing' | 'unknown';

async function lapse({ tx, tenantId, at }: Change, domain: string): Promise<void> {
  await tx.updateTable('lintel_domain').set({ lapsed_at: at }).where('tenant_id', '=', tenantId).where('domain', '=', domain).execute();
  // guard lapsed-domain-binds-nobody by arrival: A domain that lapsed would still bind people.
  await tx.deleteFrom('lintel_domain_holder').where('domain', '=', domain).where('tenant_id', '=', tenantId).execute();
}

/**
 * A domain was looked at again. One that is missing lapses, three days after it was last seen; at once where `now` says so, since somebody else has shown that it is theirs. From then on nothing is
 * bound or sent by it; who is bound goes on.
 */
export async function domainSeen(setting: Setting, tenantId: string, domain: string, seen: Seen, now = false): Promise<void> {
  await changeTenant(
    setting,
    tenantId,
    undefined,
    async (change) => {
      const { tx, at } = change;
      const row = await tx.selectFrom('lintel_domain').selectAll().where('tenant_id', '=', tenantId).where('domain', '=', domain).executeTakeFirst();
      if (!row || row.proven_at === null || row.lapsed_at !== null) return { result: undefined, entry: [] };
      await tx
        .updateTable('lintel_domain')
        .set({ looked_at: at, ...(seen === 'there' && { seen_at: at }) })
        .where('tenant_id', '=', tenantId)
        .where('domain', '=', domain)
        .execute();
      const gone = seen === 'missing' && row.proven_by === 'dns' && (now || (row.seen_at ?? row.proven_at).getTime() + LAPSE_DAYS * DAY <= at.getTime());
      if (!gone) return { result: undefined, entry: [] };
      await lapse(change, domain);
      return { result: undefined, entry: { what: 'domain lapsed', event: { domain } } };
    },
    { evenClosed: true },
  );
}

/**
 * Somebody with full control has shown by the DNS that a domain is theirs; whoever had it before has it no more where `first` says so, which was looked at just then.
 *
 * @param first who has it still, and whether their record was there.
 * @throws LintelError `refused`, `prove-first`, `not-found`; `domain-held` where another has it.
 */
export async function proveDomain(
  setting: Setting,
  tenantId: string,
  actorId: string,
  domain: string,
  first: { readonly tenantId: string; readonly seen: Seen } | undefined,
): Promise<void> {
  await inTransaction(setting.db, async (tx) => {
    const inside = { ...setting, db: tx };
    await lockTenants(tx, [tenantId, ...(first ? [first.tenantId] : [])]);
    if (first) await domainSeen(inside, first.tenantId, domain, first.seen, true);
    await changeTenant(inside, tenantId, actorId, async (change) => {
      insistOnSetter(change);
      await hold(change, domain, 'dns');
      return { result: undefined, entry: { what: 'domain shown', event: { domain } } };
    });
  });
}

/** The staff of the platform says whose a domain is: whoever had it has it no more. It stays so until they say otherwise. */
export async function giveDomain(setting: Setting, tenantId: string, domain: string): Promise<void> {
  const held = await holderOf(setting.db, domain);
  if (held && held.tenantId !== tenantId)
    await changeTenant(
      setting,
      held.tenantId,
      undefined,
      async (change) => {
        await lapse(change, domain);
        return { result: undefined, entry: { what: 'domain lapsed', event: { domain, by: 'platform' } } };
      },
      { evenClosed: true },
    );
  await changeTenant(setting, tenantId, undefined, async (change) => {
    await hold(change, domain, 'platform');
    return { result: undefined, entry: { what: 'domain shown', event: { domain, by: 'platform' } } };
  });
}

/** @throws LintelError `domain-held`. */
async function hold(change: Change, domain: string, by: 'dns' | 'platform'): Promise<void> {
  const { tx, tenantId, at } = change;
  const row = await domainOf(change, domain);
  await tx
    .insertInto('lintel_domain_holder')
    .values({ domain, tenant_id: tenantId })
    .onConflict((c) => c.doNothing())
    .execute();
  const holder = await tx.selectFrom('lintel_domain_holder').select('tenant_id').where('domain', '=', domain).executeTakeFirst();
  if (holder?.tenant_id !== tenantId)
    throw new LintelError(
      'domain-held',
      `Another organisation has shown that ${domain} is theirs, and its record is there still. Whoever runs this application decides.`,
      { domain },
    );
  await tx
    .updateTable('lintel_domain')
    .set({
      proven_at: at,
      proven_by: by,
      seen_at: at,
      looked_at: at,
      lapsed_at: null,
      // What was sent by it before it lapsed is sent by it only when somebody says so again.
      ...(row.lapsed_at !== null && { connection_id: null }),
    })
    .where('tenant_id', '=', tenantId)
    .where('domain', '=', domain)
    .execute();
}

/** True of an address whose domain was shown to be the tenant's, and is sent to this connection. */
export async function isSentHere({ tx, tenantId }: Change, connectionId: string, address: string): Promise<boolean> {
  const holder = await holderOf(tx, address.slice(address.lastIndexOf('@') + 1));
  return holder?.tenantId === tenantId && holder.connection === connectionId;
}

/** The id of an active member, without full control, who has proven an address of a domain that is sent to this connection, and whom no other subject of it is. */
export async function memberByAddress({ tx, tenantId, at }: Change, connectionId: string, address: string): Promise<string | undefined> {
  const domain = address.slice(address.lastIndexOf('@') + 1);
  // guard bound-address-proven by arrival: An address that its account never proved would bind it.
  // guard keyholder-not-bound-by-address by arrival: Full control would be taken over by an address.
  // guard one-subject-a-person by arrival: A second subject would be bound to the same person.
  const { rows } = await sql<{ id: string }>`
    select p.id from lintel_person p
      join lintel_member m on m.tenant_id = ${tenantId} and m.user_id = p.id
      join lintel_domain_holder h on h.domain = ${domain} and h.tenant_id = ${tenantId}
      join lintel_domain d on d.tenant_id = ${tenantId} and d.domain = ${domain} and d.connection_id = ${connectionId}${/* guard lapsed-domain-binds-nobody */ sql` and d.lapsed_at is null`}
    where p.address = ${address}${/* guard bound-address-proven */ sql` and p.confirmed_at is not null`} and p.kept_by is null and lintel_is_active(m.status, m.inactive_by, m.suspended_until, m.ends_at, ${at})
      ${/* guard keyholder-not-bound-by-address */ sql`and not exists (select from lintel_assignment a where a.tenant_id = ${tenantId} and a.user_id = p.id and a.role = 'keyholder')`}
      ${/* guard one-subject-a-person */ sql`and not exists (select from lintel_identity i where i.tenant_id = ${tenantId} and i.connection_id = ${connectionId} and i.user_id = p.id)`}`.execute(
    tx,
  );
  return rows[0]?.id;
}
