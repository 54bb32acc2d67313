import { keptAddress, readAddress } from '../membership/index.js';
import { dropFactors } from './factors.js';
import type { Ground } from './ground.js';
import type { Coming, Entered } from './options.js';
import { replacePassword } from './password.js';
import { forgive } from './tries.js';

export interface FirstPassword extends Coming {
  /** What was handed over. */
  readonly activation: string;
  readonly password: string;
}

/** Somebody who was handed a way in to an account that a tenant keeps chooses its password. Whatever they came in by before counts no more. */
export async function choosePassword(ground: Ground, input: FirstPassword): Promise<Entered & { readonly tenantId: string }> {
  const { tenantId, name, address, tenantName } = await ground.lintel.lookAtActivation(input.activation);
  const hash = await ground.newHash(input.password, [name, address, tenantName], input);
  const key = await ground.keyOf(keptAddress(tenantId, readAddress(address).normal));
  return ground.inTransaction(async (tx) => {
    const { userId } = await ground.lintel.within(tx).spendActivation(input.activation);
    await replacePassword(ground, tx, userId, hash);
    await forgive(tx, key);
    // guard activation-drops-factors by accounts: A lost second factor would stay after a new activation.
    await dropFactors(tx, userId);
    return { ...(await ground.enter(tx, userId, ['pwd'], input)), tenantId };
  });
}

/** Somebody with an account of their own, who has shown lately who they are, takes the place of the one that was made for them. */
export async function takePlace(ground: Ground, token: string, activation: string): Promise<{ readonly tenantId: string }> {
  const { person_id } = await ground.ownLately(token);
  return ground.lintel.takePlace(person_id, activation);
}
