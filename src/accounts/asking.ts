import { LintelError } from '../base/index.js';
import { askForLink, type LinkUse } from '../mail/index.js';
import { readAddress } from '../membership/index.js';
import type { Ground } from './ground.js';
import type { Coming } from './options.js';

/** Asks for a letter: the same work whether or not there is somebody of this address. @throws LintelError `no-mailer`, `bad-address`, `look-alike-address`, `too-fast`. */
export async function askFor(ground: Ground, what: LinkUse, { address, from }: { readonly address: string } & Coming): Promise<void> {
  const to = readAddress(address);
  if (!ground.lintel.hasMailer) throw new LintelError('no-mailer', 'No mail is set up, so that no address can be proven; give createLintel a mailer.', {});
  await ground.places.count(from);
  await ground.inTransaction((tx) => askForLink(tx, what, to, new Date(ground.now)));
}
