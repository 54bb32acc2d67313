/* Many invitations at once, and the least that could be written of them by hand. */
import { createHash, randomBytes, randomUUID } from 'node:crypto';
import { type Kysely, sql } from 'kysely';
import { createLintel } from 'warm-lintel/server';
import { charter } from '../examples/apiary/world/charter.js';
import { compare, type Result } from './measure.js';

class Undo extends Error {}

export async function inviting(db: Kysely<any>): Promise<Result[]> {
  const lintel = createLintel({ charter, db });
  const keyholder = await lintel.addPerson({ name: 'K', address: 'k@bulk.example' });
  const tenant = await lintel.openTenant({ name: 'Bulk', keyholder });
  const invitations = Array.from({ length: 1000 }, (_, i) => ({
    address: `b${i}@bulk.example`,
    roles: [{ role: 'keeper', anchor: { on: 'tenant' } as const }],
  }));
  const undone = (work: (tx: Kysely<any>) => Promise<unknown>) =>
    db
      .transaction()
      .execute(async (tx) => {
        await work(tx);
        throw new Undo();
      })
      .catch((error: unknown) => {
        if (!(error instanceof Undo)) throw error;
      });
  const ours = () =>
    undone(async (tx) => {
      const answers = await (await lintel.within(tx).enter({ tenant, user: keyholder })).invitations.send(invitations);
      if (answers.some(({ outcome }) => outcome !== 'invited')) throw new Error('not all were invited');
    });
  const expires = new Date(Date.now() + 14 * 86_400_000);
  const rows = invitations.map(({ address, roles }, i) => ({
    tenant_id: tenant,
    id: `hand-${i}`,
    address,
    address_written: address,
    roles: JSON.stringify(roles),
    status: 'pending',
    token_hash: 'x'.repeat(64),
    invited_by: keyholder,
    invited_at: new Date(),
    expires_at: expires,
  }));
  const byHand = () => undone((tx) => tx.insertInto('lintel_invitation').values(rows).execute());
  const whole = () => undone((tx) => threeByHand(tx, { tenant, keyholder, invitations }));
  const note = 'against the invitations alone by one hand-written insert';
  return [
    await compare('invite-bulk', `1000 addresses invited, each checked and on record, ${note}`, 2.8, 12, 1, ours, byHand),
    await compare(
      'invite-bulk-floor',
      `what must be written of it, secrets and events hashed, by three inserts by hand and no check, ${note}`,
      undefined,
      12,
      1,
      whole,
      byHand,
    ),
  ];
}

interface Asked {
  readonly tenant: string;
  readonly keyholder: string;
  readonly invitations: readonly { readonly address: string; readonly roles: readonly unknown[] }[];
}

/** Invitations with their secrets, events that are chained, and the words beside these, in the fastest way that is known here. */
async function threeByHand(tx: Kysely<any>, { tenant, keyholder, invitations }: Asked): Promise<void> {
  const sha256 = (text: string) => createHash('sha256').update(text).digest('hex');
  const at = new Date();
  let previous = sha256('');
  const rows = invitations.map(({ address, roles }, i) => {
    const [id, token, salt] = [randomUUID(), randomBytes(32).toString('base64url'), randomBytes(16).toString('hex')];
    const event = { number: 100 + i, event: { invitation: id, roles }, commitment: sha256(salt + JSON.stringify({ address })) };
    const hash = sha256(previous + JSON.stringify({ tenant, keyholder, at, ...event }));
    const told = { ...event, previous_hash: previous, hash };
    previous = hash;
    return {
      invited: { id, address, address_written: address, roles, token_hash: sha256(token) },
      told,
      words: { number: event.number, salt, words: { address } },
    };
  });
  const put = (table: string, alike: object, all: readonly object[]) => {
    const columns = sql.join([...Object.keys(alike), ...Object.keys(all[0] as object)].map((column) => sql.ref(column)));
    const base = sql`jsonb_populate_record(null::${sql.table(table)}, ${JSON.stringify(alike)})`;
    return sql`insert into ${sql.table(table)} (${columns}) select ${columns} from jsonb_populate_recordset(${base}, ${JSON.stringify(all)})`.execute(tx);
  };
  await put(
    'lintel_invitation',
    { tenant_id: tenant, status: 'pending', invited_by: keyholder, invited_at: at, expires_at: at },
    rows.map(({ invited }) => invited),
  );
  await put(
    'lintel_audit',
    { tenant_id: tenant, actor: keyholder, at, what: 'invited' },
    rows.map(({ told }) => told),
  );
  await put(
    'lintel_audit_words',
    { tenant_id: tenant },
    rows.map(({ words }) => words),
  );
}
