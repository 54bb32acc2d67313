import type { AuthenticationResponseJSON } from '@simplewebauthn/server';
import { isLintelError } from '../base/index.js';
import { takeRunOut } from '../mail/index.js';
import { keptAddress, lockPerson, readAddress, tell } from '../membership/index.js';
import { codeIsRight, dropFactors, knowsRecoveryCode, takeRecoveryCode } from './factors.js';
import { type Ground, signInFailed } from './ground.js';
import type { Coming, Entered, HalfWay } from './options.js';
import { BY_PASSKEY, ownerByPasskey } from './passkeys.js';
import { written } from './passwords.js';
import { sha256 } from './sessions.js';
import { countTry, forgive, LOCKS } from './tries.js';

/** As addresses are compared, in whatever way it is written; undefined for what is none. */
function read(address: unknown): { readonly normal: string; readonly written: string } | undefined {
  try {
    return readAddress(String(address));
  } catch (error) {
    if (isLintelError(error)) return undefined;
    throw error;
  }
}

export interface SignIn extends Coming {
  readonly address: string;
  readonly password: string;
  /** The tenant whose sign-in page this is: an account that it keeps under that address comes first. Without, none that a tenant keeps is looked for. */
  readonly tenant?: string | undefined;
  /** What {@link Entered} gave this device. */
  readonly device?: string | undefined;
}

export async function signIn(ground: Ground, input: SignIn): Promise<Entered | HalfWay> {
  const { from } = input;
  const takeBack = await ground.places.count(from);
  const address = read(input.address);
  const typed = address?.normal ?? String(input.address).slice(0, 300);
  // What is no address is nobody's, also where it is written as what stands for one.
  const sought = address ? [typed, keptAddress(String(input.tenant ?? ''), typed)] : ['', ''];
  const found = await ground.db
    .selectFrom('lintel_person as p')
    .leftJoin('lintel_credential as c', 'c.person_id', 'p.id')
    .leftJoin('lintel_device as d', (join) => join.onRef('d.person_id', '=', 'p.id').on('d.token_hash', '=', sha256(String(input.device ?? ''))))
    .select(['p.id', 'p.address', 'p.kept_by', 'c.password_hash', 'd.token_hash as device'])
    .where('p.address', 'in', sought)
    // guard deactivated-no-sign-in by accounts: A deactivated account could sign in.
    .where('p.deactivated_at', 'is', null)
    .orderBy('p.kept_by', (o) => o.asc().nullsLast())
    .executeTakeFirst();
  // Tries are counted of whom they are about, by whatever tenant's page they come.
  // guard tries-by-person by accounts: Tries would be counted by page, so that a guesser gets more of them.
  const compared = /* guard tries-by-person (replaced) */ found?.address ?? typed;
  const [who, key] = await Promise.all([ground.keyOf(compared), ground.keyOf(found?.device ?? compared)]);
  const wrong = await countTry(ground.db, key, ground.now);
  if (wrong === undefined) throw signInFailed();
  const hash = found?.password_hash ?? undefined;
  const password = written(input.password).slice(0, 300);
  if (!(await ground.hashing.isRight(hash, password, from)) || !found || hash === undefined) {
    await refused(ground, who, input, wrong >= LOCKS && found?.device == null && found?.kept_by == null ? address?.written : undefined);
    throw signInFailed();
  }
  await takeBack();
  const by = await ground.factorsOf(found.id);
  const better = ground.hashing.isOld(hash) ? await ground.hashing.hash(password, from) : undefined;
  return ground.inTransaction(async (tx) => {
    // The password has to be theirs still.
    const person = await lockPerson(tx as never, found.id);
    const present = await tx.selectFrom('lintel_credential').select('password_hash').where('person_id', '=', found.id).executeTakeFirst();
    if (!person || present?.password_hash !== hash) throw signInFailed();
    if (better !== undefined) await tx.updateTable('lintel_credential').set({ password_hash: better }).where('person_id', '=', found.id).execute();
    await forgive(tx, key);
    // Told a day ago that they are to be removed, their owner did not say that they are still there.
    if (by.length > 0 && (await takeRunOut(tx, 'keep-factors', found.address, ground.now))) {
      await dropFactors(tx, found.id);
      await ground.tell(tx, 'factor-removed', { id: found.id, name: person.name, address: person.address_written });
      return ground.enter(tx, found.id, ['pwd'], input);
    }
    if (by.length === 0) return ground.enter(tx, found.id, ['pwd'], input);
    return {
      ...(await ground.sessions.begin(tx, found.id, ground.now, { methods: ['pwd'], label: input.label, isHalf: true })),
      next: 'secondFactor' as const,
      by,
    };
  });
}

/** Puts on record that somebody was not let in, by whatever address they typed; and at the wrong try that locks it, a letter for its owner, if it has one. */
async function refused(ground: Ground, who: string, coming: Coming, locked: string | undefined): Promise<void> {
  await ground.inTransaction(async (tx) => {
    await ground.onRecord(tx, who, 'pwd', 'refused', coming);
    const telling = { tx: tx as never, at: new Date(ground.now), setting: ground.lintel };
    if (locked !== undefined) await tell(telling, '', [locked], 'sign-in-locked', { name: '' });
  });
}

/** A second factor: a code, or a recovery code. */
export type Code = { readonly code: string } | { readonly recoveryCode: string } | { readonly passkey: AuthenticationResponseJSON };

/** Goes on from the password to the second factor. */
export async function giveCode(ground: Ground, token: string, given: Code, coming: Coming): Promise<Entered> {
  const half = await ground.sessions.readHalf(ground.db, token, ground.now);
  if (!half) throw signInFailed();
  // guard deactivated-no-second-step by accounts: An account deactivated after the password could go on to the second factor.
  await ground.insistOnActive(half.person_id);
  if ('passkey' in given) {
    const owner = await ownerByPasskey(ground, given.passkey);
    // guard passkey-of-same-person by accounts: Another person's passkey would be the second factor.
    if (owner !== half.person_id) throw signInFailed();
  } else {
    await ground.counted(`code ${half.person_id}`, () =>
      'recoveryCode' in given ? knowsRecoveryCode(ground, half.person_id, given.recoveryCode) : codeIsRight(ground, half.person_id, given.code),
    );
  }
  return ground.inTransaction(async (tx) => {
    const person = await lockPerson(tx as never, half.person_id);
    // Of several at once one goes on.
    if (!person || (await ground.sessions.end(tx, half.person_id, { id: half.id })) === 0) throw signInFailed();
    if ('recoveryCode' in given) {
      const left = await takeRecoveryCode(tx, half.person_id, given.recoveryCode);
      await ground.tell(tx, 'recovery-code-used', { id: half.person_id, name: person.name, address: person.address_written }, { left: String(left) });
    }
    return ground.enter(tx, half.person_id, ['pwd', ...('passkey' in given ? BY_PASSKEY : ['otp'])], { ...coming, label: half.label ?? coming.label });
  });
}
