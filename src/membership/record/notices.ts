import { type Kysely, sql } from 'kysely';
import type { LintelTables } from '../terms/index.js';

/** What people are told by mail besides invitations, with what the words can speak of. */
export interface Notices {
  /** To an address that somebody wants to have: its link proves it. */
  readonly 'prove-address': { readonly name: string; readonly person: string };
  /** To the address that somebody had before. */
  readonly 'address-changed': { readonly name: string; readonly address: string };
  /** To the keyholders: somebody of the platform looks after their organisation. */
  readonly 'care-begun': { readonly tenant: string; readonly by: string; readonly until: string; readonly reason: string };
  /** To the keyholders: somebody set up how people sign in. `what`: made, changed, turned on, turned off, dropped. */
  readonly 'connection-changed': { readonly tenant: string; readonly by: string; readonly name: string; readonly what: string };
  readonly 'let-in': { readonly tenant: string };
  readonly 'turned-away': { readonly tenant: string };
  /** To those who may answer: somebody was refused and asks for it. Of the record nothing is told by mail. */
  readonly 'appeal-raised': { readonly tenant: string; readonly person: string; readonly action: string };
  readonly 'appeal-agreed': { readonly tenant: string; readonly action: string; readonly reason: string };
  /** To an address under which somebody wants an account. By its link they make one; where there is one already its owner is told so, without a link. */
  readonly 'sign-up': Record<string, never>;
  readonly 'sign-up-taken': Record<string, never>;
  /** To an address whose password somebody has forgotten. Where there is no account for it, that is what is said. */
  readonly forgotten: Record<string, never>;
  readonly 'forgotten-unknown': Record<string, never>;
  /** To the owner of an account: something by which they sign in was changed, or somebody cannot get in. */
  readonly 'password-changed': { readonly name: string };
  readonly 'sign-in-locked': { readonly name: string };
  /** To an address whose owner wants a second factor: its link lets them add the first. */
  readonly factor: Record<string, never>;
  /** To the owner of an account whose second factor is to be removed a day later: by its link they keep it. */
  readonly 'keep-factors': Record<string, never>;
  readonly 'factor-added': { readonly name: string };
  readonly 'factor-removed': { readonly name: string };
  readonly 'recovery-code-used': { readonly name: string; readonly left: string };
  readonly 'appeal-declined': { readonly tenant: string; readonly action: string; readonly reason: string };
}

export type NoticeName = keyof Notices;

/** What a message belongs to: a change of a tenant, or a person and no tenant. */
export interface Telling {
  readonly tx: Kysely<LintelTables>;
  readonly at: Date;
  readonly setting: { readonly hasMailer: boolean };
  readonly tenantId?: string;
  readonly number?: number;
}

/**
 * Puts messages into the outbox, in the transaction of what they are about. Without a mailer nobody is told.
 *
 * @param about the person of whom they speak: with that person they are erased.
 */
export async function tell<N extends NoticeName>(telling: Telling, about: string, addresses: readonly string[], notice: N, of: Notices[N]): Promise<void> {
  const { tx, at, setting, tenantId = '', number = 0 } = telling;
  if (!setting.hasMailer || addresses.length === 0) return;
  const part = sql<number>`nextval('lintel_notice_number')`;
  const rows = addresses.map((to_address) => ({
    tenant_id: tenantId,
    number,
    part,
    invitation_id: null,
    notice,
    to_address,
    about_id: about,
    of: JSON.stringify(of),
    next_at: at,
    queued_at: at,
  }));
  await tx.insertInto('lintel_outbox').values(rows).execute();
}
