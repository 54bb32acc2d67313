import { useCallback, useEffect, useMemo, useState } from 'react';
import { type Answered, type Client, Refusal } from '../client/index.js';
import { type Doing, useDoing } from './doing.js';
import { type List, useList } from './loading.js';
import { type PasskeyCeremonies, useClient, usePlace } from './place.js';

/** What a call takes of what was given on a form. */
type Given<Id extends 'giveCode' | 'prove' | 'endSession'> = Parameters<Client[Id]>[0];

/** What the browser has of passkeys. Whoever closes its dialog has changed their mind. */
function usePasskeys() {
  const { client, passkeys } = usePlace();
  return useMemo(() => {
    const given = async (does: keyof PasskeyCeremonies, optionsJSON: unknown) => {
      if (!passkeys) throw new Error('<ClientProvider> was given no passkeys: hand it those of @simplewebauthn/browser');
      return passkeys[does]({ optionsJSON }).catch(() => {
        throw new Refusal(0, 'no-passkey', 'No passkey was given. Try again, or take another way.');
      });
    };
    return {
      show: async () => given('startAuthentication', await client.beginPasskeySignIn({})),
      make: async (link?: string) => given('startRegistration', await client.beginPasskey(link === undefined ? {} : { token: link })),
    };
  }, [client, passkeys]);
}

/** What {@link useMyTenants} gives. */
export interface MyTenants extends Doing {
  readonly tenants: List<Answered<'myTenants'>['items'][number]>;
  readonly invitations: List<Answered<'myInvitations'>['items'][number]>;
  /** Accepts one of the invitations. */
  readonly accept: (invitation: { readonly tenantId: string; readonly invitationId: string }) => Promise<void>;
}

/** The tenants to which one belongs, and the invitations that wait for one. */
export function useMyTenants(): MyTenants {
  const client = useClient();
  const { changed } = usePlace();
  const { run, ...doing } = useDoing();
  return {
    ...doing,
    tenants: useList(useCallback(() => client.myTenants(), [client])),
    invitations: useList(useCallback(() => client.myInvitations(), [client])),
    accept: ({ tenantId, invitationId }) => run(() => client.acceptInvitation({ tenantId, invitationId }).then(changed)),
  };
}

/** What {@link useAccount} gives. */
export interface Account {
  readonly account: Answered<'myAccount'>['account'] | undefined;
  readonly reload: () => void;
  readonly signOut: () => Promise<void>;
}

/** Who is signed in: undefined while it is asked, null for nobody. */
export function useAccount(): Account {
  const client = useClient();
  const [account, setAccount] = useState<Answered<'myAccount'>['account']>();
  const reload = useCallback(() => {
    client.myAccount().then(
      (answer) => setAccount(answer.account),
      () => setAccount(null),
    );
  }, [client]);
  useEffect(reload, [reload]);
  const signOut = useCallback(async () => {
    await client.signOut({});
    setAccount(null);
  }, [client]);
  return { account, reload, signOut };
}

/** What {@link useSignIn} gives. */
export interface SigningIn extends Doing {
  /** By what the second factor can be given that is still to come; undefined: the password is asked for. A recovery code is always taken. */
  readonly next: readonly ('code' | 'passkey')[] | undefined;
  readonly signIn: (address: string, password: string) => Promise<void>;
  readonly giveCode: (code: string) => Promise<void>;
  readonly giveRecoveryCode: (recoveryCode: string) => Promise<void>;
  /** A passkey alone; where a second factor is asked for, as that. */
  readonly byPasskey: () => Promise<void>;
}

/**
 * Signing in, with what is asked for next.
 *
 * @param onIn called once somebody is signed in.
 * @param tenant whose sign-in page this is, where accounts that it keeps come in too.
 */
export function useSignIn(onIn: () => void, tenant?: string): SigningIn {
  const client = useClient();
  const passkeys = usePasskeys();
  const [next, setNext] = useState<readonly ('code' | 'passkey')[]>();
  const { run, ...doing } = useDoing();
  const give = (body: () => Given<'giveCode'> | Promise<Given<'giveCode'>>) =>
    run(() =>
      Promise.resolve(body())
        .then((given) => client.giveCode(given))
        .then(onIn),
    );
  return {
    ...doing,
    next,
    signIn: (address, password) =>
      run(async () => {
        const { by } = await client.signIn({ address, password, ...(tenant !== undefined && { tenant }) });
        if (by) setNext(by);
        else onIn();
      }),
    giveCode: (code) => give(() => ({ code })),
    giveRecoveryCode: (recoveryCode) => give(() => ({ recoveryCode })),
    byPasskey: () =>
      next
        ? give(async () => ({ passkey: await passkeys.show() }))
        : run(() =>
            passkeys
              .show()
              .then((passkey) => client.signInByPasskey({ passkey }))
              .then(onIn),
          ),
  };
}

/** What {@link useLetter} gives. */
export interface Letter extends Doing {
  /** To which address a letter is on its way. */
  readonly asked: string | undefined;
  readonly askFor: (address: string) => Promise<void>;
}

/** Asking for a letter: for an account (`sign-up`), or for another password (`forgotten`). The answer is the same whether or not there is an account. */
export function useLetter(what: 'sign-up' | 'forgotten'): Letter {
  const client = useClient();
  const [asked, setAsked] = useState<string>();
  const { run, ...doing } = useDoing();
  const askFor = (address: string) => run(() => (what === 'sign-up' ? client.signUp : client.forgotten)({ address }).then(() => setAsked(address)));
  return { ...doing, asked, askFor };
}

/** What {@link useProof} gives. */
export interface Proving extends Doing {
  /** What is asked for: where there is a second factor, a code of it. Undefined while it is not known. */
  readonly by: 'password' | 'code' | undefined;
  readonly prove: (secret: string) => Promise<void>;
  readonly byPasskey: () => Promise<void>;
}

/** Showing again who one is, in the middle of something. @param onProven goes on with it. */
export function useProof(onProven: () => void): Proving {
  const client = useClient();
  const passkeys = usePasskeys();
  const { account } = useAccount();
  const { run, ...doing } = useDoing();
  const by = account ? (account.hasFactor ? 'code' : 'password') : undefined;
  const prove = (body: () => Given<'prove'> | Promise<Given<'prove'>>) =>
    run(() =>
      Promise.resolve(body())
        .then((given) => client.prove(given))
        .then(onProven),
    );
  return {
    ...doing,
    by,
    prove: (secret) => prove(() => (by === 'code' ? { code: secret } : { password: secret })),
    byPasskey: () => prove(async () => ({ passkey: await passkeys.show() })),
  };
}

/** What {@link useMySessions} gives. */
export interface MySessions extends Doing {
  readonly sessions: readonly Answered<'mySessions'>['items'][number][] | undefined;
  readonly end: (id: string) => Promise<void>;
  readonly endOthers: () => Promise<void>;
}

/** Where one is signed in. */
export function useMySessions(): MySessions {
  const client = useClient();
  const { items, error, reload } = useList(useCallback(() => client.mySessions(), [client]));
  const { run, ...doing } = useDoing();
  const end = (which: Given<'endSession'>) => run(() => client.endSession(which).then(reload));
  return { ...doing, error: doing.error ?? error, sessions: items, end: (id) => end({ id }), endOthers: () => end({ others: true }) };
}

/** What {@link useMyFactors} gives. */
export interface MyFactors extends Doing {
  readonly passkeys: readonly Answered<'myPasskeys'>['items'][number][] | undefined;
  /** Ten, to be shown once, where the last step made some. */
  readonly recoveryCodes: readonly string[] | undefined;
  /** What an authenticator takes, once it was begun: a picture (SVG), and the key to type. */
  readonly authenticator: { readonly svg: string; readonly secret: string; readonly uri: string } | undefined;
  /** True once the letter is on its way by whose link the first factor is added. */
  readonly asked: boolean;
  readonly askForLetter: () => Promise<void>;
  /** @param link of the letter; an account that a tenant keeps takes none. */
  readonly beginAuthenticator: (link?: string) => Promise<void>;
  readonly confirmAuthenticator: (code: string) => Promise<void>;
  readonly removeAuthenticator: () => Promise<void>;
  readonly newRecoveryCodes: () => Promise<void>;
  /** @param link for the first factor; `label`: what its owner knows it by. */
  readonly addPasskey: (label?: string, link?: string) => Promise<void>;
  readonly removePasskey: (id: string) => Promise<void>;
}

/** One's second factors. What changes them may be refused with `prove-first`: show {@link useProof}, then do it `again`. */
export function useMyFactors(): MyFactors {
  const client = useClient();
  const browser = usePasskeys();
  const { items, reload } = useList(useCallback(() => client.myPasskeys(), [client]));
  const [state, setState] = useState<{ asked?: boolean; recoveryCodes?: readonly string[]; authenticator?: { svg: string; secret: string; uri: string } }>({});
  const { run, ...doing } = useDoing();
  const codesOf = ({ recoveryCodes }: { readonly recoveryCodes?: readonly string[] }) => {
    setState(recoveryCodes ? { recoveryCodes } : {});
    reload();
  };
  return {
    ...doing,
    passkeys: items,
    recoveryCodes: state.recoveryCodes,
    authenticator: state.authenticator,
    asked: state.asked === true,
    askForLetter: () => run(() => client.askForFactor({}).then(() => setState({ asked: true }))),
    beginAuthenticator: (link) => run(async () => setState({ authenticator: await client.beginFactor(link === undefined ? {} : { token: link }) })),
    confirmAuthenticator: (code) => run(() => client.confirmFactor({ code }).then(codesOf)),
    removeAuthenticator: () => run(() => client.removeFactor({}).then(codesOf)),
    newRecoveryCodes: () => run(() => client.newRecoveryCodes({}).then(codesOf)),
    addPasskey: (label, link) =>
      run(async () => codesOf(await client.addPasskey({ passkey: await browser.make(link), ...(label !== undefined && { label }) }))),
    removePasskey: (id) => run(() => client.removePasskey({ id }).then(codesOf)),
  };
}
