import { type RawBuilder, sql } from 'kysely';
import { KEYHOLDER } from '../../charter/index.js';
import type { Change } from '../change/index.js';
import { identityMark, idOfPerson, WITHOUT_ADDRESS } from '../terms/index.js';

/** Somebody new, under an account that the tenant keeps. Its address is what a source says, and nobody's: it takes that from no account. */
export async function makeKept({ tx, setting, tenantId }: Change, name: string, written: string, activatedAt: Date | null): Promise<string> {
  const id = await idOfPerson(tx, setting, undefined, { name, isProgram: false, keptBy: tenantId });
  await tx
    .insertInto('lintel_person')
    .values({ id, name, address: `${WITHOUT_ADDRESS}${id}`, address_written: written, kept_by: tenantId, activated_at: activatedAt })
    .execute();
  return id;
}

/** An account that came by a source is called as that says; what is a person's own is left alone. */
export async function renameKept({ tx, tenantId }: Change, user: string, name: string, written: string): Promise<void> {
  await tx
    .updateTable('lintel_person')
    .set({ name, address_written: written })
    .where('id', '=', user)
    .where('kept_by', '=', tenantId)
    .where('address', '=', `${WITHOUT_ADDRESS}${user}`)
    .execute();
}

/** Whether somebody here has removed whom a source knows by this subject. */
export async function isBarred({ tx, tenantId }: Change, by: string, subject: string): Promise<boolean> {
  const mark = await identityMark(tx, tenantId, by, subject);
  const found = await tx.selectFrom('lintel_identity_bar').select('mark').where('tenant_id', '=', tenantId).where('mark', '=', mark).executeTakeFirst();
  return found !== undefined;
}

/** A source says whether somebody is active; what others say of it stays. */
export async function setActive({ tx, tenantId }: Change, source: string, user: string, active: boolean): Promise<void> {
  const without = sql`array_remove(inactive_by, ${source})`;
  await sql`update lintel_member set inactive_by = ${active ? without : sql`array_append(${without}, ${source})`} where tenant_id = ${tenantId} and user_id = ${user}`.execute(
    tx,
  );
}

/** Whether somebody has full control, and nobody else who is active has it whom the same source did not bring. @param brought the rows by which it brought `o.user_id`. */
export async function isOnlyOneLeft({ tx, tenantId, at }: Change, user: string, brought: RawBuilder<unknown>): Promise<boolean> {
  const { rows } = await sql`select from lintel_assignment a where a.tenant_id = ${tenantId} and a.user_id = ${user} and a.role = ${KEYHOLDER}
      and not exists (select from lintel_assignment o join lintel_member m on m.tenant_id = o.tenant_id and m.user_id = o.user_id
        where o.tenant_id = ${tenantId} and o.role = ${KEYHOLDER} and o.until is null and o.user_id <> ${user} and lintel_is_active(m.status, m.inactive_by, m.suspended_until, m.ends_at, ${at})
          and not exists (${brought}))`.execute(tx);
  return rows.length > 0;
}
