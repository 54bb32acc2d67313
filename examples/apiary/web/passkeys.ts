import {
  type PublicKeyCredentialCreationOptionsJSON,
  type PublicKeyCredentialRequestOptionsJSON,
  startAuthentication,
  startRegistration,
} from '@simplewebauthn/browser';
import { call, Refusal } from './api.js';

/** Whoever closes the browser's dialog has changed their mind. */
async function orCancelled<R>(work: Promise<R>): Promise<R> {
  return work.catch(() => {
    throw new Refusal(0, 'No passkey was given. Try again, or take another way.', '');
  });
}

/** Asks the browser for a passkey, to sign in or to show again who one is. */
export async function askPasskey() {
  const optionsJSON = await call<PublicKeyCredentialRequestOptionsJSON>('POST', '/lintel/account/passkeys/ask', {});
  return orCancelled(startAuthentication({ optionsJSON }));
}

/** Makes a passkey. The first factor of an account takes the link of a letter. */
export async function makePasskey(link?: string): Promise<{ recoveryCodes?: string[] }> {
  const optionsJSON = await call<PublicKeyCredentialCreationOptionsJSON>('POST', '/lintel/account/passkeys/begin', link === undefined ? {} : { token: link });
  const passkey = await orCancelled(startRegistration({ optionsJSON }));
  return call('POST', '/lintel/account/passkeys/add', { passkey, label: navigator.platform });
}
