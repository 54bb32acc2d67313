import { sql, type Transaction } from 'kysely';
import { KEYHOLDER } from '../../../charter/index.js';
import { underFullControl } from '../../change/index.js';
import type { AuditEntry } from '../../record/index.js';
import { type Id, insertMany, insistOnId, type LintelTables, lockTenants, readName } from '../../terms/index.js';
import { readPlace } from '../tenants.js';
import { compared, markOf, type Taking, TOGETHER } from './taking.js';
import type { IntakeTenant } from './terms.js';

export async function takeTenants(taking: Taking, tx: Transaction<LintelTables>, part: readonly IntakeTenant[]): Promise<void> {
  const own = (what: 'group' | 'unit', id: Id) => insistOnId(taking.charter, what, id);
  const read = (one: IntakeTenant) => ({
    id: insistOnId(taking.charter, 'tenant', one.id),
    name: readName(one.name, 'an organisation'),
    contact: one.contact === undefined ? null : readName(one.contact, 'the contact'),
    place: one.place === undefined ? null : readPlace(taking.setting, one.place),
    groups: (one.groups ?? []).map(({ id, name }) => ({ id: own('group', id), name: readName(name, 'a group') })),
    units: (one.units ?? []).map(({ id, name, below }) => ({
      id: own('unit', id),
      name: readName(name, 'a unit'),
      below: below === undefined ? null : own('unit', below),
    })),
  });
  const ready = taking.read(
    'tenant',
    part,
    ({ id }) => ({ id }),
    read,
    ({ id }) => id,
  );
  const ids = ready.map(({ id }) => id);
  const marks = await taking.marks(tx, 'tenant', ids);
  const known = new Map((await lockTenants(tx, ids)).map((row) => [row.id, row]));
  const fresh = ready.filter(({ id }) => !known.has(id));
  // Nobody enters it before somebody has full control of it.
  await insertMany(
    tx,
    'lintel_tenant',
    fresh.map(({ id, name, contact, place }) => ({ id, name, contact, place, status: 'closed' as const })),
  );
  for (const row of await lockTenants(
    tx,
    fresh.map(({ id }) => id),
  ))
    known.set(row.id, row);
  const tenantMark = (name: string, contact: string | null) => markOf([name, contact]);
  const marked: { id: string; mark: string; waits?: boolean }[] = [];
  for (const { id, name, contact, place, groups, units } of ready) {
    const row = known.get(id) as NonNullable<ReturnType<typeof known.get>>;
    const isNew = fresh.some((one) => one.id === id);
    const mark = tenantMark(name, contact);
    const { outcome, isSaid } = compared(mark, marks.get(id), isNew ? undefined : tenantMark(row.name, row.contact));
    const entries: AuditEntry[] = isNew ? [{ what: 'tenant taken in', event: { source: taking.source }, words: { name } }] : [];
    if (!isNew && place !== null) await tx.updateTable('lintel_tenant').set({ place }).where('id', '=', id).where('place', 'is', null).execute();
    if (outcome === 'changed') {
      await tx.updateTable('lintel_tenant').set({ name, contact }).where('id', '=', id).execute();
      entries.push({ what: 'tenant renamed', event: {}, words: { nameBefore: row.name, nameAfter: name } });
    }
    entries.push(...(await takeParts(taking, tx, id, groups, units)));
    await taking.record(tx, row, entries);
    taking.count('tenant', !isNew && entries.length > 0 ? 'changed' : outcome);
    if (isSaid) marked.push({ id, mark, waits: isNew });
  }
  await taking.mark(tx, 'tenant', marked);
}

/** Groups and units that are not there yet. */
async function takeParts(
  taking: Taking,
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
      taking.refuse({
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

/** Opens the tenants that were brought and that somebody has full control of by now; says which are not. */
export async function openAll(taking: Taking): Promise<void> {
  let after = '';
  for (;;) {
    const waiting = await taking.setting.db
      .selectFrom('lintel_brought')
      .select('id')
      .where('source', '=', taking.source)
      .where('what', '=', 'tenant')
      .where('waits', '=', true)
      .where('id', '>', after)
      .orderBy('id')
      .limit(TOGETHER)
      .execute();
    if (waiting.length === 0) return;
    const ids = waiting.map(({ id }) => id);
    after = ids.at(-1) as string;
    await taking.each((tx) => openThese(taking, tx, ids));
  }
}

async function openThese(taking: Taking, tx: Transaction<LintelTables>, ids: readonly string[]): Promise<void> {
  const tenants = await lockTenants(tx, ids);
  const kept = await underFullControl(tx, ids, taking.setting.now());
  for (const row of tenants) {
    if (!kept.has(row.id)) {
      taking.opens(false);
      taking.tell({
        what: 'tenant',
        id: row.id,
        code: 'no-keyholder',
        words: `nobody has full control, so that it stays closed: give one of its members the role ${KEYHOLDER}`,
      });
      continue;
    }
    taking.opens(true);
    await taking.record(tx, row, [{ what: 'tenant opened again', event: {} }]);
    await tx.updateTable('lintel_tenant').set({ status: 'open' }).where('id', '=', row.id).execute();
  }
  await sql`update lintel_brought set waits = false where source = ${taking.source} and what = 'tenant' and id = any(${[...kept]}::text[])`.execute(tx);
}
