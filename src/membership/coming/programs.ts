import { type Kysely, sql } from 'kysely';
import { LintelError, newId, PREPARED } from '../../base/index.js';
import { everythingMet, type Standing, throwIfRefused } from '../../standing/index.js';
import { type Change, type Handlers, heldBy, insistOnSetter } from '../change/index.js';
import { gainsAhead, giverInTenant, insistOnGains } from '../held/index.js';
import { insistOnHolder, readUntil } from '../steps/index.js';
import { idOfPerson, isSecret, type LintelTables, newKey, readKey, readName, type Setting } from '../terms/index.js';

const DAY = 86_400_000;
/** Days that a key counts, where nothing is said, and at most. */
const [USUAL_DAYS, MOST_DAYS] = [90, 366];
const MAX_KEYS = 10;

/** @throws LintelError `not-found` unless it is a program of the tenant. */
async function insistOnProgram({ tx, tenantId }: Change, program: string): Promise<void> {
  const found = await tx
    .selectFrom('lintel_member')
    .select('user_id')
    .where('tenant_id', '=', tenantId)
    .where('user_id', '=', program)
    .where('responsible_id', 'is not', null)
    .executeTakeFirst();
  if (!found) throw new LintelError('not-found', 'There is no such program.', {});
}

/** @throws LintelError `not-found`, `no-person` for a program that is to answer for another. */
async function insistOnPerson(change: Change, user: string): Promise<void> {
  await insistOnHolder(change, { user });
  const { is_program } = await change.tx.selectFrom('lintel_person').select('is_program').where('id', '=', user).executeTakeFirstOrThrow();
  if (is_program) throw new LintelError('no-person', 'A person answers for a program, not another program.', {});
}

/**
 * What somebody holds has to be within the power of whoever makes a way in for them.
 *
 * @param held what is theirs also has to be held, and not only be given, by whoever makes it: they keep the way in. `until`: when it ends.
 * @throws LintelError `beyond-power`.
 */
export async function insistOnPower(change: Change, user: string, held?: { readonly until: number }): Promise<void> {
  const { giver } = change;
  if (giver.isKeyholder) return;
  for (const holding of (await heldBy(change, [user])).values()) {
    // guard key-no-longer-than-maker by attack: A key could count longer than its maker holds what it opens.
    const counting = gainsAhead(undefined, holding, giver).filter(
      ({ moment }) => held === undefined || /* guard key-no-longer-than-maker (negated) */ moment < held.until,
    );
    insistOnGains(giver, counting, new Set(), new Set(held && [user]));
  }
}

function readEnd(ends: string | undefined, change: Change): Date {
  const end = readUntil(ends, change) ?? new Date(change.at.getTime() + USUAL_DAYS * DAY);
  if (end.getTime() > change.at.getTime() + MOST_DAYS * DAY)
    throw new LintelError('bad-end', `A key counts for at most ${MOST_DAYS} days; give an earlier end than ${end.toISOString()}.`, {});
  return end;
}

export const programSteps: Handlers<'make-program' | 'entrust-program' | 'make-key' | 'end-key'> = {
  'make-program': {
    needs: () => 'program.arrange',
    touches: ({ id }) => ({ users: id === undefined ? [] : [id] }),
    run: async (change, { id: given, name, responsible }) => {
      const { tx, tenantId, at, setting } = change;
      const named = readName(name, 'a program');
      await insistOnPerson(change, responsible);
      const id = await idOfPerson(tx, setting, given, { name: named, isProgram: true });
      // What stands for its address is none: nobody can be invited by it, or sign in with it.
      const address = `program ${id}`;
      const made = await tx
        .insertInto('lintel_person')
        .values({ id, name: named, address, address_written: address, is_program: true })
        .onConflict((c) => c.doNothing())
        .returning('id')
        .executeTakeFirst();
      if (!made) throw new LintelError('program-exists', `the id "${id}" is taken; choose another`, {});
      await tx.insertInto('lintel_member').values({ tenant_id: tenantId, user_id: id, status: 'active', since: at, responsible_id: responsible }).execute();
      return { what: 'program made', event: { program: id, responsible }, words: { name: named }, id };
    },
  },
  'entrust-program': {
    needs: () => 'program.arrange',
    // It may have been suspended with the one before.
    touches: ({ program }) => ({ users: [program] }),
    run: async (change, { program, responsible }) => {
      const { tx, tenantId } = change;
      await insistOnProgram(change, program);
      await insistOnPerson(change, responsible);
      await tx.updateTable('lintel_member').set({ responsible_id: responsible }).where('tenant_id', '=', tenantId).where('user_id', '=', program).execute();
      return { what: 'program entrusted', event: { program, responsible } };
    },
  },
  'make-key': {
    needs: () => 'program.arrange',
    touches: () => ({}),
    run: async (change, { program, label, ends }) => {
      const { tx, tenantId, at, actor, setting } = change;
      await insistOnProgram(change, program);
      const endsAt = readEnd(ends, change);
      const holds = await giverInTenant(tx, setting, { tenant: tenantId, user: program, fulfilled: everythingMet(setting.charter) });
      // A key that was made before its program had the right does not count as a directory's: whoever gives the right later need not be who may set this up.
      const forDirectory = holds.now.may('directory.write');
      // guard directory-key-by-keyholder by arrival: Whoever arranges programs could make a directory's key.
      if (forDirectory) insistOnSetter(change);
      await insistOnPower(change, program, { until: endsAt.getTime() });
      const { count } = await tx
        .selectFrom('lintel_key')
        .select((eb) => eb.fn.countAll<string>().as('count'))
        .where('tenant_id', '=', tenantId)
        .where('program_id', '=', program)
        .where('ends_at', '>', at)
        .executeTakeFirstOrThrow();
      if (Number(count) >= MAX_KEYS) throw new LintelError('too-many', `This program has ${count} keys that count. End one first.`, {});
      const id = newId();
      const { key, hash } = newKey(tenantId, id);
      const named = label === undefined ? 'key' : readName(label, 'a key');
      await tx
        .insertInto('lintel_key')
        .values({
          tenant_id: tenantId,
          id,
          program_id: program,
          label: named,
          secret_hash: hash,
          made_by: actor.userId as string,
          made_at: at,
          ends_at: endsAt,
          for_directory: forDirectory,
        })
        .execute();
      return { what: 'key made', event: { program, key: id, ends: endsAt.toISOString() }, words: { label: named }, id, secret: key };
    },
  },
  'end-key': {
    needs: () => 'program.arrange',
    touches: () => ({}),
    run: async (change, { key, at }) => {
      const ends = readUntil(at, change) ?? change.at;
      const ended = await change.tx
        .updateTable('lintel_key')
        .set((eb) => ({ ends_at: eb.fn<Date>('least', ['ends_at', eb.val(ends)]) }))
        .where('tenant_id', '=', change.tenantId)
        .where('id', '=', key)
        .returning('program_id')
        .executeTakeFirst();
      if (!ended) throw new LintelError('not-found', 'There is no such key.', {});
      return { what: 'key ended', event: { program: ended.program_id, key, ends: ends.toISOString() } };
    },
  },
};

/** A program, with the keys that still count. No secret is kept, so none is here. */
export interface Program {
  readonly id: string;
  readonly name: string;
  readonly responsible: { readonly id: string; readonly name: string };
  readonly keys: readonly { readonly id: string; readonly label: string; readonly madeAt: Date; readonly endsAt: Date; readonly lastUsedAt: Date | null }[];
}

/** The programs of the tenant, by name. @throws LintelError `refused` without the permission to arrange them. */
export async function listPrograms(setting: Setting, standing: Standing): Promise<Program[]> {
  throwIfRefused(standing.decide('program.arrange'));
  const tenantId = standing.facts.tenant.id;
  const programs = await setting.db
    .selectFrom('lintel_member as m')
    .innerJoin('lintel_person as p', 'p.id', 'm.user_id')
    .leftJoin('lintel_person as r', 'r.id', 'm.responsible_id')
    .select(['m.user_id', 'p.name', 'm.responsible_id', 'r.name as by'])
    .where('m.tenant_id', '=', tenantId)
    .where('m.responsible_id', 'is not', null)
    .orderBy('p.name')
    .execute();
  const keys = await setting.db
    .selectFrom('lintel_key')
    .selectAll()
    .where('tenant_id', '=', tenantId)
    .where('ends_at', '>', new Date(setting.now()))
    .orderBy('made_at')
    .execute();
  return programs.map((m) => ({
    id: m.user_id,
    name: m.name,
    responsible: { id: m.responsible_id as string, name: m.by ?? '' },
    keys: keys
      .filter((key) => key.program_id === m.user_id)
      .map(({ id, label, made_at, ends_at, last_used_at }) => ({ id, label, madeAt: made_at, endsAt: ends_at, lastUsedAt: last_used_at })),
  }));
}

/** The use of a key is noted at most so often. */
const NOTED_EVERY = 60_000;

/**
 * Which program a key belongs to.
 *
 * @param asDirectory true: it has to be a key that was made for a directory.
 * @throws LintelError `key-invalid` for a key that is none, was ended, or has run out; no more is said; `refused` for one that was made for no directory.
 */
export async function programOfKey(
  db: Kysely<LintelTables>,
  now: number,
  key: unknown,
  asDirectory: boolean,
): Promise<{ readonly tenant: string; readonly user: string }> {
  const invalid = () => new LintelError('key-invalid', 'This key does not count. Ask for a new one.', {});
  const read = readKey(key);
  if (!read) throw invalid();
  const row = await db
    .selectFrom('lintel_key')
    .selectAll()
    .where('tenant_id', '=', read.tenantId)
    .where('id', '=', read.id)
    .modifyEnd(sql.raw(PREPARED))
    .executeTakeFirst();
  if (!isSecret(read.secret, row?.secret_hash ?? null) || !row || row.ends_at.getTime() <= now) throw invalid();
  if (row.last_used_at === null || row.last_used_at.getTime() <= now - NOTED_EVERY) {
    await db
      .updateTable('lintel_key')
      .set({ last_used_at: new Date(now) })
      .where('tenant_id', '=', read.tenantId)
      .where('id', '=', read.id)
      .execute();
  }
  // guard directory-key-made-as-one by arrival: A key made before would act as a directory's.
  if (asDirectory && !row.for_directory) throw new LintelError('refused', 'This key was made before its program could act as a directory. Make a new one.', {});
  return { tenant: read.tenantId, user: row.program_id };
}
