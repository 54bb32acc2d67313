import { type Kysely, type Selectable, sql } from 'kysely';
import { hashOf, LintelError, newId } from '../../base/index.js';
import { canonicalJson } from '../../charter/index.js';
import { aKeyholder, type Standing } from '../../standing/index.js';
import { type Change, changeTenant, type Handlers, insistOnSetter } from '../change/index.js';
import { insistOnAll, insistOnPeople, keyholdersOf } from '../held/index.js';
import { tell } from '../record/index.js';
import { keepOpenIn } from '../steps/index.js';
import {
  type AdmissionRule,
  type ClaimNames,
  type ConnectionTerms,
  connectionSource,
  type Done,
  directorySource,
  identityMark,
  type LintelTables,
  readName,
  type Setting,
} from '../terms/index.js';
import { checkRules } from './rules.js';

/** So many connections has a tenant. */
const MOST = 20;

/** A provider by which people come in, for whoever has full control. Its secret is shown to nobody again. */
export interface Connection {
  readonly id: string;
  readonly name: string;
  readonly state: 'draft' | 'on' | 'off';
  readonly terms: ConnectionTerms;
  readonly claims: ClaimNames;
  readonly rules: readonly AdmissionRule[];
  readonly hasSecret: boolean;
  /** It was tried with claims as it is now. */
  readonly isTried: boolean;
  /** People who come in by it. */
  readonly people: number;
}

export type ConnectionRow = Selectable<LintelTables['lintel_connection']>;

/** What is tried and what is then turned on are the same. */
export const triedMark = ({ terms, claims, rules }: Pick<ConnectionRow, 'terms' | 'claims' | 'rules'>): string =>
  hashOf([canonicalJson([terms, claims, rules])]);

/** @throws LintelError `not-found`. */
export async function connectionOf(db: Kysely<LintelTables>, tenantId: string, id: string): Promise<ConnectionRow> {
  const row = await db.selectFrom('lintel_connection').selectAll().where('tenant_id', '=', tenantId).where('id', '=', id).executeTakeFirst();
  if (row) return row;
  throw new LintelError('not-found', 'There is no such connection.', {});
}

/** The connections of a tenant, by name. @throws LintelError `refused` without full control. */
export async function listConnections(setting: Setting, standing: Standing<any>): Promise<Connection[]> {
  if (!standing.isKeyholder) throw new LintelError('refused', `Only ${aKeyholder(standing.charter)} sees how people sign in.`, {});
  const rows = await setting.db
    .selectFrom('lintel_connection as c')
    .selectAll()
    .select((eb) =>
      eb
        .selectFrom('lintel_identity as i')
        .select(eb.fn.countAll().as('people'))
        .whereRef('i.tenant_id', '=', 'c.tenant_id')
        .whereRef('i.connection_id', '=', 'c.id')
        .where('i.user_id', 'is not', null)
        .as('people'),
    )
    .where('c.tenant_id', '=', standing.facts.tenant.id)
    .orderBy('c.name')
    .orderBy('c.id')
    .execute();
  return rows.map((row) => ({
    id: row.id,
    name: row.name,
    state: row.state,
    terms: row.terms,
    claims: row.claims,
    rules: row.rules,
    hasSecret: row.sealed !== null,
    isTried: row.tried === triedMark(row),
    people: Number(row.people),
  }));
}

/** What sources that go on saying what they say are called, for whoever sees the members: by their names in `sources`. @throws LintelError `refused`. */
export async function listSources(setting: Setting, standing: Standing<any>): Promise<{ readonly source: string; readonly name: string }[]> {
  insistOnPeople(standing);
  const { id: tenantId } = standing.facts.tenant;
  const connections = await setting.db.selectFrom('lintel_connection').select(['id', 'name']).where('tenant_id', '=', tenantId).orderBy('name').execute();
  const programs = await setting.db
    .selectFrom('lintel_directory_user as d')
    .innerJoin('lintel_person as p', 'p.id', 'd.program_id')
    .select(['p.id', 'p.name'])
    .distinct()
    .where('d.tenant_id', '=', tenantId)
    .orderBy('p.name')
    .execute();
  return [
    ...connections.map(({ id, name }) => ({ source: connectionSource(id), name })),
    ...programs.map(({ id, name }) => ({ source: directorySource(id), name })),
  ];
}

/** Somebody who came by a connection and was not let in. */
export interface RefusedArrival {
  readonly connection: string;
  readonly subject: string;
  readonly name: string;
  readonly address: string;
  readonly code: string;
  readonly words: string;
  readonly at: Date;
}

/** Who was not let in lately, or is in and was not given what came, the latest first. @throws LintelError `refused` for somebody who may not invite. */
export async function listRefused(setting: Setting, standing: Standing<any>): Promise<RefusedArrival[]> {
  standing.insist('member.invite');
  insistOnAll(standing);
  const rows = await setting.db
    .selectFrom('lintel_identity')
    .select(['connection_id', 'subject', 'name', 'address', 'said', 'at'])
    .where('tenant_id', '=', standing.facts.tenant.id)
    .where('said', 'is not', null)
    .orderBy('at', 'desc')
    .limit(500)
    .execute();
  return rows.map(({ connection_id, said, ...row }) => ({ connection: connection_id, ...row, code: said?.code ?? '', words: said?.words ?? '' }));
}

/** @throws LintelError `bad-connection`. */
export function readTerms(terms: ConnectionTerms): ConnectionTerms {
  const bad = (why: string) => new LintelError('bad-connection', why, {});
  const text = (value: unknown, what: string) => {
    if (typeof value !== 'string' || value.trim() === '' || value.length > 2000) throw bad(`${what} is missing, or longer than 2000 characters`);
    return value.trim();
  };
  // Templates stand for every tenant of a provider: whoever has any of them would be let in.
  const issuer = text(terms.issuer, 'issuer');
  if (/[{}*]/.test(issuer)) throw bad(`the issuer is a template: “${issuer.slice(0, 100)}”; write that of your own organisation, without braces`);
  if (terms.kind === 'oidc') {
    const { scopes = [] } = terms;
    return {
      kind: 'oidc',
      issuer,
      clientId: text(terms.clientId, 'clientId'),
      ...(scopes.length > 0 && { scopes: scopes.map((one) => text(one, 'a scope')) }),
    };
  }
  if (terms.kind !== 'saml') throw bad(`there is no kind “${String((terms as { kind: unknown }).kind)}”; there are oidc and saml`);
  const { certificates } = terms;
  if (!Array.isArray(certificates) || certificates.length < 1 || certificates.length > 2) throw bad('give one certificate, or two while one rolls over');
  return { kind: 'saml', issuer, signOnUrl: text(terms.signOnUrl, 'signOnUrl'), certificates: certificates.map((one) => text(one, 'a certificate')) };
}

/** What makes a provider another one: who it brought are somebody else there. */
const isOther = (a: ConnectionRow, terms: ConnectionTerms, claims: ClaimNames) =>
  canonicalJson([a.terms.issuer, a.terms.kind, 'clientId' in a.terms ? a.terms.clientId : '', a.claims.subject ?? '']) !==
  canonicalJson([terms.issuer, terms.kind, 'clientId' in terms ? terms.clientId : '', claims.subject ?? '']);

/** Everybody with full control is told: by a provider somebody can come in as whoever it names. */
async function tellKeyholders(change: Change, name: string, what: string): Promise<void> {
  const { tx, tenantId, at, actor } = change;
  const all = (await keyholdersOf(tx, tenantId, at.getTime())).map(({ address }) => address);
  await tell(change, actor.userId as string, all, 'connection-changed', { tenant: actor.facts.tenant.name, by: actor.facts.me.name ?? '', name, what });
}

const rulesOnRecord = (rules: readonly AdmissionRule[]) => hashOf([canonicalJson(rules)]).slice(0, 16);

/** @throws LintelError `bad-rule`, `records-elsewhere`. */
function insistOnRules({ actor, setting }: Change, rules: readonly AdmissionRule[]): void {
  checkRules(actor.charter as never, rules);
  const onRecord = rules.some(
    (rule) => 'gives' in rule && [...(rule.gives.roles ?? []), ...(rule.gives.permissions ?? [])].some(({ anchor }) => anchor.on === 'record'),
  );
  if (setting.recordsElsewhere && onRecord)
    throw new LintelError(
      'records-elsewhere',
      'The records are in another database, where nobody could see whether one is there: give roles for the whole organisation or at a unit.',
      {},
    );
}

/** @throws LintelError `not-tried`. */
const notTried = () => new LintelError('not-tried', 'Try it with claims first, as it is to be: what it would give is shown then.', {});

export const connectionSteps: Handlers<'make-connection' | 'edit-connection' | 'turn-connection' | 'drop-connection' | 'unbar'> = {
  'make-connection': {
    needs: () => undefined,
    touches: () => ({}),
    run: async (change, { id = newId(), name, terms, claims = {}, rules = [] }) => {
      insistOnSetter(change);
      const { tx, tenantId, actor } = change;
      const [named, read] = [readName(name, 'a connection'), readTerms(terms)];
      if (!/^[\w.-]{1,60}$/.test(id))
        throw new LintelError('bad-connection', `“${id}” is no id of a connection: 1 to 60 letters, digits, -, _ and . can be`, {});
      insistOnRules(change, rules);
      const all = await tx.selectFrom('lintel_connection').select('id').where('tenant_id', '=', tenantId).execute();
      if (all.some((one) => one.id === id)) throw new LintelError('bad-connection', `there is a connection “${id}” already; choose another id`, {});
      if (all.length >= MOST) throw new LintelError('bad-connection', `an organisation has ${MOST} connections at most`, {});
      const row = { terms: JSON.stringify(read), claims: JSON.stringify(claims), rules: JSON.stringify(rules) };
      await tx
        .insertInto('lintel_connection')
        .values({ tenant_id: tenantId, id, name: named, state: 'draft', by_id: actor.userId as string, ...row })
        .execute();
      await tellKeyholders(change, named, 'made');
      return {
        what: 'connection made',
        event: { connection: id, kind: read.kind, rules: rulesOnRecord(rules) },
        words: { name: named, issuer: read.issuer },
        id,
      };
    },
  },
  'edit-connection': {
    needs: () => undefined,
    touches: () => ({}),
    run: async (change, { id, name, terms, claims, rules }) => {
      insistOnSetter(change);
      const { tx, tenantId, actor } = change;
      const before = await connectionOf(tx, tenantId, id);
      const after = {
        name: name === undefined ? before.name : readName(name, 'a connection'),
        terms: terms === undefined ? before.terms : readTerms(terms),
        claims: claims ?? before.claims,
        rules: rules === undefined ? before.rules : [...rules],
      };
      insistOnRules(change, after.rules);
      // guard issuer-keeps-people by arrival: Another issuer could be put behind the same people.
      if (isOther(before, after.terms, after.claims) && (await hasPeople(change, id)))
        throw new LintelError(
          'other-connection',
          'Another issuer, client or subject is another connection, in which nobody is who they are here. Make a new one.',
          {},
        );
      if (before.state === 'on' && before.tried !== triedMark(after) && triedMark(before) !== triedMark(after)) throw notTried();
      await tx
        .updateTable('lintel_connection')
        .set({
          name: after.name,
          terms: JSON.stringify(after.terms),
          claims: JSON.stringify(after.claims),
          rules: JSON.stringify(after.rules),
          // Whoever looks it through and says so answers for what it gives from then on.
          by_id: actor.userId as string,
        })
        .where('tenant_id', '=', tenantId)
        .where('id', '=', id)
        .execute();
      await tellKeyholders(change, after.name, 'changed');
      const event = { connection: id, after: rulesOnRecord(after.rules) };
      return { what: 'connection changed', event, was: { before: rulesOnRecord(before.rules) }, words: { name: after.name, issuer: after.terms.issuer } };
    },
  },
  'turn-connection': {
    needs: () => undefined,
    touches: () => ({}),
    run: async (change, { id, to }) => {
      insistOnSetter(change);
      const { tx, tenantId } = change;
      const row = await connectionOf(tx, tenantId, id);
      // guard connection-tried-first by arrival: A connection could be turned on that nobody has tried.
      if (to === 'on' && row.tried !== triedMark(row)) throw notTried();
      await tx.updateTable('lintel_connection').set({ state: to }).where('tenant_id', '=', tenantId).where('id', '=', id).execute();
      // guard connection-off-ends-sessions by arrival: Sessions would go on after their connection was turned off.
      if (to === 'off') await endSessions(change, id);
      await tellKeyholders(change, row.name, `turned ${to}`);
      return { what: `connection turned ${to}`, event: { connection: id }, words: { name: row.name } };
    },
  },
  'drop-connection': {
    needs: () => undefined,
    touches: () => ({ everybody: true }),
    run: async (change, { id }) => {
      insistOnSetter(change);
      const row = await connectionOf(change.tx, change.tenantId, id);
      const suspended = await drop(change, id);
      await tellKeyholders(change, row.name, 'dropped');
      return { what: 'connection dropped', event: { connection: id, suspended }, words: { name: row.name } };
    },
  },
  unbar: {
    needs: () => 'member.invite',
    touches: () => ({}),
    run: async (change, { connection, subject }): Promise<Done> => {
      const { tx, tenantId } = change;
      const mark = await identityMark(tx, tenantId, connection, subject);
      const gone = await tx.deleteFrom('lintel_identity_bar').where('tenant_id', '=', tenantId).where('mark', '=', mark).executeTakeFirst();
      if (gone.numDeletedRows === 0n) throw new LintelError('not-found', 'Nobody with this id was removed here.', {});
      // What they were told then is over.
      await tx
        .deleteFrom('lintel_identity')
        .where('tenant_id', '=', tenantId)
        .where('connection_id', '=', connection)
        .where('subject', '=', subject)
        .where('user_id', 'is', null)
        .execute();
      return { what: 'let in again', event: { connection }, words: { subject } };
    },
  },
};

async function hasPeople({ tx, tenantId }: Change, id: string): Promise<boolean> {
  const found = await tx
    .selectFrom('lintel_identity')
    .select('subject')
    .where('tenant_id', '=', tenantId)
    .where('connection_id', '=', id)
    .where('user_id', 'is not', null)
    .limit(1)
    .executeTakeFirst();
  return found !== undefined;
}

/** Sessions that were begun by a connection. */
async function endSessions({ tx, tenantId }: Change, id: string): Promise<void> {
  await sql`delete from lintel_session where connection = ${id} and enters = ${[tenantId]}::text[]`.execute(tx);
}

/** Takes back what came by a connection. Whom it said to be inactive stays suspended. Answers who. */
async function drop(change: Change, id: string): Promise<string[]> {
  const { tx, tenantId } = change;
  const source = connectionSource(id);
  await endSessions(change, id);
  const left = await tx
    .deleteFrom('lintel_group_member')
    .where('tenant_id', '=', tenantId)
    .where('source', '=', source)
    .returning(['tenant_id', 'user_id', 'group_id'])
    .execute();
  await keepOpenIn(tx, left);
  for (const table of ['lintel_assignment', 'lintel_placement'] as const)
    await tx.deleteFrom(table).where('tenant_id', '=', tenantId).where('source', '=', source).execute();
  const { rows } = await sql<{ user_id: string; was_inactive: boolean }>`update lintel_member m set attributes = m.attributes - ${source}::text,
      inactive_by = array_remove(m.inactive_by, ${source}), status = case when ${source} = any(m.inactive_by) then 'suspended' else m.status end
    from lintel_member b where m.tenant_id = ${tenantId} and b.tenant_id = m.tenant_id and b.user_id = m.user_id and (b.attributes ? ${source} or ${source} = any(b.inactive_by))
    returning m.user_id, ${source} = any(b.inactive_by) as was_inactive`.execute(tx);
  await tx.updateTable('lintel_domain').set({ connection_id: null }).where('tenant_id', '=', tenantId).where('connection_id', '=', id).execute();
  await tx.deleteFrom('lintel_connection').where('tenant_id', '=', tenantId).where('id', '=', id).execute();
  return rows.flatMap((one) => (one.was_inactive ? [one.user_id] : []));
}

/** Keeps the client's secret, which is sealed already. It is on no record, and in no answer. @throws LintelError `refused`, `prove-first`, `not-found`. */
export async function keepSealed(setting: Setting, tenantId: string, actorId: string, id: string, sealed: string): Promise<void> {
  await changeTenant(setting, tenantId, actorId, async (change) => {
    insistOnSetter(change);
    const { name } = await connectionOf(change.tx, tenantId, id);
    await change.tx.updateTable('lintel_connection').set({ sealed }).where('tenant_id', '=', tenantId).where('id', '=', id).execute();
    await tellKeyholders(change, name, 'given another secret');
    return { result: undefined, entry: { what: 'connection secret set', event: { connection: id } } };
  });
}

/** A connection that is on, for whoever signs people in by it. */
export interface OpenConnection {
  readonly id: string;
  readonly name: string;
  readonly tenantName: string;
  readonly terms: ConnectionTerms;
  readonly sealed: string | null;
}

/** The connections of a tenant that are on, by name; none where there is no such tenant, or it is closed. */
export async function openConnections(db: Kysely<LintelTables>, tenantId: string): Promise<OpenConnection[]> {
  return db
    .selectFrom('lintel_connection as c')
    .innerJoin('lintel_tenant as t', 't.id', 'c.tenant_id')
    .select(['c.id', 'c.name', 'c.terms', 'c.sealed', 't.name as tenantName'])
    .where('c.tenant_id', '=', tenantId)
    .where('c.state', '=', 'on')
    .where('t.status', '=', 'open')
    .orderBy('c.name')
    .orderBy('c.id')
    .execute();
}
