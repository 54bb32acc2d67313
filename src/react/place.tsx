import { createContext, type ReactNode, useContext, useMemo, useState } from 'react';
import { type Client, createClient } from '../client/index.js';

/** What the browser does for passkeys: `startAuthentication` and `startRegistration` of `@simplewebauthn/browser`, handed in. */
export interface PasskeyCeremonies {
  readonly startAuthentication: (asked: { readonly optionsJSON: any }) => Promise<any>;
  readonly startRegistration: (asked: { readonly optionsJSON: any }) => Promise<any>;
}

interface Place {
  readonly client: Client;
  readonly passkeys: PasskeyCeremonies | undefined;
  /** How many changes have been carried out from this page: what is listed is read again after each. */
  readonly changes: number;
  readonly changed: () => void;
}

const Current = createContext<Place>({ client: createClient(), passkeys: undefined, changes: 0, changed: () => {} });

/**
 * Says by which client the hooks below ask. After a change that was carried out by one of them, all lists below are read again.
 *
 * @param props `client` default: one of `/lintel`; the same from one drawing to the next. `passkeys`: needed for what has to do with them.
 */
export function ClientProvider(props: { readonly client?: Client; readonly passkeys?: PasskeyCeremonies; readonly children: ReactNode }): ReactNode {
  const { client: given, passkeys, children } = props;
  const client = useMemo(() => given ?? createClient(), [given]);
  const [changes, setChanges] = useState(0);
  const place = useMemo(() => ({ client, passkeys, changes, changed: () => setChanges((so) => so + 1) }), [client, passkeys, changes]);
  return <Current.Provider value={place}>{children}</Current.Provider>;
}

export const usePlace = (): Place => useContext(Current);

/** Has all lists below {@link ClientProvider} read again: for what was changed by a call of your own. */
export const useChanged = (): (() => void) => usePlace().changed;

/** The client by which the hooks ask, for what has no hook of its own. */
export const useClient = (): Client => usePlace().client;
