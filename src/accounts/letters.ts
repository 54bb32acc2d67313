import { lookAtLink, spendLink } from '../mail/index.js';
import type { Ground } from './ground.js';
import type { Coming, Entered } from './options.js';
import { keepPassword } from './password.js';

export interface Activation extends Coming {
  readonly token: string;
  readonly name: string;
  readonly password: string;
  readonly tenantName?: string;
}

export async function activate(ground: Ground, input: Activation): Promise<Entered & { readonly tenantId?: string }> {
  const { token, name, tenantName = '' } = input;
  const { address } = await lookAtLink(ground.db, 'sign-up', token, ground.now);
  const opens = (ground.options.signUp ?? 'tenant') === 'tenant';
  const password = await ground.newHash(input.password, [name, address, tenantName], input);
  return ground.inTransaction(async (tx) => {
    const inside = ground.lintel.within(tx);
    await spendLink(tx, 'sign-up', token, ground.now);
    // guard unproven-address-given-up by accounts: An address that nobody proved would stay with the account that claimed it first.
    await inside.giveUpAddress(address);
    const userId = await inside.addPerson({ name, address, confirmedAt: new Date(ground.now) });
    await keepPassword(tx, userId, password, ground.now);
    const tenantId = opens ? await inside.openTenant({ name: tenantName, keyholder: userId }) : undefined;
    return { ...(await ground.enter(tx, userId, ['pwd'], input)), ...(tenantId !== undefined && { tenantId }) };
  });
}

export interface Joining extends Coming {
  readonly invitation: string;
  readonly name: string;
  readonly password: string;
}

export async function joinByInvitation(ground: Ground, input: Joining): Promise<Entered & { readonly tenantId: string }> {
  const { address, mailed, tenantName } = await ground.lintel.lookAtInvitation(input.invitation);
  const password = await ground.newHash(input.password, [input.name, address, tenantName], input);
  return ground.inTransaction(async (tx) => {
    const inside = ground.lintel.within(tx);
    // The mailed link proves the address: an account that bears it unproven loses it, and nothing else.
    if (mailed) await inside.giveUpAddress(address);
    const userId = await inside.addPerson({ name: input.name, address });
    await keepPassword(tx, userId, password, ground.now);
    const { tenantId } = await inside.acceptInvitation(userId, { token: input.invitation });
    return { ...(await ground.enter(tx, userId, ['pwd'], input)), tenantId };
  });
}
