import { LintelError } from '../../base/index.js';
import { aKeyholder, OWN_SIGN_IN, type Standing } from '../../standing/index.js';

/**
 * Whoever sets up a provider, or makes the key of a directory, can be everybody whom it brings: somebody with full control, who has just shown who they are by something of their own.
 *
 * @throws LintelError `refused`, `prove-first`.
 */
export function insistOnSetter({ actor }: { readonly actor: Standing<any> }): void {
  // guard provider-set-by-keyholder by arrival: Anybody who arranges could set up how people sign in.
  if (!actor.isKeyholder) throw new LintelError('refused', `Only ${aKeyholder(actor.charter)} sets up how people sign in.`, {});
  if (actor.facts.fulfilled.includes(OWN_SIGN_IN)) return;
  throw new LintelError('prove-first', 'This takes a password, or a passkey, of your own that was given a few minutes ago at most. Give it once more.', {});
}
