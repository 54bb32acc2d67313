import { LintelError } from '../base/index.js';
import { askForLink, type LinkUse, lookAtLink, spendLink } from '../mail/index.js';
import { readAddress } from '../membership/index.js';
import type { Ground } from './ground.js';
import type { Coming, Entered } from './options.js';
import { keepPassword } from './password.js';

/** Asks for a letter: the same work whether or not there is somebody of this address. @throws LintelError `no-mailer`, `bad-address`, `look-alike-address`, `too-fast`. */
export async function askFor(ground: Ground, what: LinkUse, { address, from }: { readonly address: string } & Coming): Promise<void> {
  const to = readAddress(address);
  if (!ground.lintel.hasMailer) throw new LintelError('no-mailer', 'No mail is set up, so that no address can be proven; give createLintel a mailer.', {});
  await ground.places.count(from);
  await ground.inTransaction((tx) => askForLink(tx, what, to, new Date(ground.now)));
}

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
