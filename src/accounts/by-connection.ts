import { LintelError } from '../base/index.js';
import type { Ground } from './ground.js';
import type { Coming } from './options.js';
import type { Session } from './sessions.js';

/** Somebody whom a tenant's provider has named, and who is in. */
export interface ByConnection extends Coming {
  readonly userId: string;
  readonly tenantId: string;
  readonly connectionId: string;
  /** What they have shown there (RFC 8176). It counts in this tenant alone. */
  readonly methods: readonly string[];
  /** When they last showed there who they are, in milliseconds since 1970; absent: nobody says. */
  readonly provenAt?: number;
  /** The hash of the secret of a session by this connection, within which they show it again. */
  readonly within?: string | undefined;
}

/** For so many hours at most a session by a connection lasts. */
const HOURS = 12;

/** A session that enters that tenant and no other, while its connection is on. @throws LintelError `sign-on-failed`. */
export async function enterByConnection(ground: Ground, given: ByConnection): Promise<Session> {
  const { userId, tenantId, connectionId, methods, label, from, provenAt = 0, within } = given;
  if (within === undefined) {
    const how = { methods, label, hours: HOURS, provenAt, place: from };
    const session = await ground.sessions.beginBy(ground.db, { tenantId, id: connectionId }, userId, ground.now, how);
    if (session) return session;
    throw signOnFailed(new Error('the connection was turned off meanwhile'));
  }
  return ground.inTransaction(async (tx) => {
    const row = await tx.selectFrom('lintel_session').select(['person_id', 'connection', 'enters']).where('token_hash', '=', within).executeTakeFirst();
    // Shown again by somebody else it is no proof.
    // guard proof-by-same-person by arrival: Somebody else could prove at the identity provider who one is.
    if (/* guard proof-by-same-person */ row?.person_id !== userId || row.connection !== connectionId || row.enters?.join() !== tenantId) throw signOnFailed();
    await ground.onRecord(tx, userId, 'connection', 'in', given);
    return ground.sessions.renew(tx, within, methods, ground.now, provenAt);
  });
}

/** Nothing is said of what did not hold: it is told to the application. */
export const signOnFailed = (cause?: unknown): LintelError =>
  new LintelError('sign-on-failed', 'Sign-in failed. Start again. If it fails again, tell whoever runs your organisation here.', {}, { cause });
