/* Coming in by a provider where nothing changes, against what one would write by hand. */
import { createHash, randomBytes } from 'node:crypto';
import { type Kysely, sql } from 'kysely';
import type pg from 'pg';
import { everythingMet } from 'warm-lintel';
import { Accounts } from 'warm-lintel/accounts';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { compare, type Result } from './measure.js';

const PEOPLE = 1000;

/** A provider's people, who have all come in before. */
export async function arrivals(db: Kysely<any>, pool: pg.Pool): Promise<Result[]> {
  const lintel = createLintel({ charter, db });
  await lintel.prepare();
  const accounts = new Accounts(lintel);
  const keyholder = await lintel.addPerson({ name: 'K', address: 'k@arrivals.example' });
  const tenantId = await lintel.openTenant({ name: 'Arrivals', keyholder });
  const standing = await lintel.enter({ tenant: tenantId, user: keyholder, fulfilled: everythingMet(charter) });
  const rules = [
    { requires: 'org', is: ['us'], words: 'Only ours.' },
    { when: 'groups', is: ['keepers'], gives: { roles: [{ role: 'keeper', anchor: { on: 'tenant' } }] } },
  ] as const;
  const terms = { kind: 'oidc', issuer: 'https://sign-in.bench.example', clientId: 'x' } as const;
  await standing.carryOut([{ do: 'make-connection', id: 'c', name: 'C', terms, rules }]);
  await standing.connections.try({ connection: 'c', claims: { sub: 'x' } });
  await standing.carryOut([{ do: 'turn-connection', id: 'c', to: 'on' }]);
  const claims = (i: number) => ({ sub: `s${i}`, name: `Person ${i}`, email: `p${i}@bench.example`, org: 'us', groups: ['keepers', 'others'] });
  for (let i = 0; i < PEOPLE; i++) await lintel.arrive({ tenantId, connectionId: 'c', claims: claims(i) });
  await sql`create table bench_signed_in (token_hash text primary key, person_id text not null, started_at timestamptz not null, expires_at timestamptz not null)`.execute(
    db,
  );
  await sql`analyze`.execute(db);
  const changes = async () => Number((await sql<{ n: string }>`select last_number as n from lintel_tenant where id = ${tenantId}`.execute(db)).rows[0]?.n);
  const before = await changes();
  let [i, j] = [0, 0];
  const ours = async () => {
    i = (i + 7) % PEOPLE;
    const { userId = '' } = await lintel.arrive({ tenantId, connectionId: 'c', claims: claims(i) });
    return accounts.enterByConnection({ userId, tenantId, connectionId: 'c', methods: ['pwd'] });
  };
  const byHand = async () => {
    j = (j + 7) % PEOPLE;
    const { rows } = await pool.query(
      `select p.id, p.name, m.status, c.state from lintel_connection c join lintel_identity i on i.tenant_id = c.tenant_id and i.connection_id = c.id join lintel_person p on p.id = i.user_id
        join lintel_member m on m.tenant_id = i.tenant_id and m.user_id = i.user_id where c.tenant_id = $1 and c.id = $2 and i.subject = $3`,
      [tenantId, 'c', `s${j}`],
    );
    const token = randomBytes(32).toString('base64url');
    await pool.query("insert into bench_signed_in values ($1, $2, now(), now() + interval '12 hours')", [
      createHash('sha256').update(token).digest('hex'),
      rows[0].id,
    ]);
    return token;
  };
  const result = await compare(
    'arrive-same',
    'an arrival that changes nothing, with its session, against a hand-written look-up and session',
    2,
    60,
    20,
    ours,
    byHand,
  );
  if ((await changes()) !== before) throw new Error('an arrival changed something');
  return [result];
}
