import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from 'react';

/** What the browser does for passkeys: `startAuthentication` and `startRegistration` of `@simplewebauthn/browser`, handed in. */
export interface PasskeyCeremonies {
  readonly startAuthentication: (asked: { readonly optionsJSON: any }) => Promise<unknown>;
  readonly startRegistration: (asked: { readonly optionsJSON: any }) => Promise<unknown>;
}

/** Whom the server knows by the session cookie; moments as ISO 8601. */
export interface MyAccount {
  readonly userId: string;
  readonly name: string;
  readonly address: string;
  readonly sessionId: string;
  readonly signedInAt: string;
  readonly provenAt: string;
  /** By what they have shown who they are (RFC 8176). */
  readonly methods: readonly string[];
  readonly hasFactor: boolean;
  /** The tenants that the session enters; absent: all of theirs. */
  readonly enters?: readonly string[];
  /** The tenant that keeps the account, if one does. */
  /** The connection by which they came in; absent: by something of their own. */
  readonly connection?: string;
  readonly keptBy?: string;
  readonly fulfilled: readonly string[];
  /** The version of the terms that is to be accepted; absent: none is, or it was. */
  readonly terms?: string;
}

export interface SessionItem {
  readonly id: string;
  readonly label: string | null;
  readonly startedAt: string;
  readonly seenAt: string;
  readonly isThis: boolean;
}

export interface PasskeyItem {
  readonly id: string;
  readonly label: string | null;
  readonly madeAt: string;
  readonly usedAt: string | null;
}

/** What the server refused, in its words (RFC 9457). */
export class AccountRefusal extends Error {
  override readonly name = 'AccountRefusal';
  readonly status: number;
  readonly code: string;
  /** What has to be done first, of a refusal with the code `obligation-open`. */
  readonly obligation: string | undefined;

  constructor(status: number, code: string, words: string, obligation?: string) {
    super(words);
    this.status = status;
    this.code = code;
    this.obligation = obligation;
  }
}

/** Something that somebody does on a form: whether it is under way, what was refused, and how to do the same once more. */
export interface Doing {
  readonly busy: boolean;
  readonly error: (AccountRefusal & { again?: () => void }) | undefined;
}

interface Place {
  readonly at: string;
  readonly passkeys: PasskeyCeremonies | undefined;
}

const Current = createContext<Place>({ at: '/lintel', passkeys: undefined });

/**
 * Says where the library's face is mounted (default `/lintel`), for the hooks below that sign somebody in and look after their account.
 *
 * @param props `passkeys`: needed for what has to do with them.
 */
export function AccountProvider({ at = '/lintel', passkeys, children }: { at?: string; passkeys?: PasskeyCeremonies; children: ReactNode }): ReactNode {
  const place = useMemo(() => ({ at, passkeys }), [at, passkeys]);
  return <Current.Provider value={place}>{children}</Current.Provider>;
}

type Ask = <A>(path: string, body?: object) => Promise<A>;

function useAsk(): Ask {
  const { at } = useContext(Current);
  return useCallback(
    async (path, body) => {
      const headers = { accept: 'application/json', ...(body && { 'content-type': 'application/json' }) };
      const response = await fetch(`${at}/account${path}`, body ? { method: 'POST', headers, body: JSON.stringify(body) } : { headers });
      const answer = await response.json().catch(() => ({}));
      if (response.ok) return answer;
      throw new AccountRefusal(response.status, answer.code ?? '', answer.detail ?? 'The server does not answer. Try again.', answer.obligation);
    },
    [at],
  );
}

/** What the browser has of passkeys. Whoever closes its dialog has changed their mind. */
function usePasskeys(ask: Ask) {
  const { passkeys } = useContext(Current);
  return useMemo(() => {
    const given = async (does: keyof PasskeyCeremonies, optionsJSON: unknown) => {
      if (!passkeys) throw new Error('<AccountProvider> was given no passkeys: hand it those of @simplewebauthn/browser');
      return passkeys[does]({ optionsJSON }).catch(() => {
        throw new AccountRefusal(0, 'no-passkey', 'No passkey was given. Try again, or take another way.');
      });
    };
    return {
      show: async () => given('startAuthentication', await ask('/passkeys/ask', {})),
      make: async (link?: string) => given('startRegistration', await ask('/passkeys/begin', link === undefined ? {} : { token: link })),
    };
  }, [ask, passkeys]);
}

function useDoing(): Doing & { readonly run: (work: () => Promise<void>) => Promise<void> } {
  const [{ busy, error }, setState] = useState<Doing>({ busy: false, error: undefined });
  const run = useCallback(async (work: () => Promise<void>): Promise<void> => {
    setState({ busy: true, error: undefined });
    try {
      await work();
      setState({ busy: false, error: undefined });
    } catch (reason) {
      const refusal = reason instanceof AccountRefusal ? reason : new AccountRefusal(0, '', 'Something went wrong. Try again.');
      setState({ busy: false, error: Object.assign(refusal, { again: () => void run(work) }) });
    }
  }, []);
  return { busy, error, run };
}

function useListed<A>(path: string): { readonly items: readonly A[] | undefined; readonly error: AccountRefusal | undefined; readonly reload: () => void } {
  const ask = useAsk();
  const [{ items, error }, setState] = useState<{ readonly items?: readonly A[]; readonly error?: AccountRefusal }>({});
  const reload = useCallback(() => {
    ask<{ items: A[] }>(path).then(
      (answer) => setState({ items: answer.items }),
      (refused: AccountRefusal) => setState({ error: refused }),
    );
  }, [ask, path]);
  useEffect(reload, [reload]);
  return { items, error, reload };
}

/** Who is signed in: undefined while it is asked, null for nobody. */
export function useAccount(): { readonly account: MyAccount | null | undefined; readonly reload: () => void; readonly signOut: () => Promise<void> } {
  const ask = useAsk();
  const [account, setAccount] = useState<MyAccount | null>();
  const reload = useCallback(() => {
    ask<{ account: MyAccount | null }>('').then(
      (answer) => setAccount(answer.account),
      () => setAccount(null),
    );
  }, [ask]);
  useEffect(reload, [reload]);
  const signOut = useCallback(async () => {
    await ask('/sign-out', {});
    setAccount(null);
  }, [ask]);
  return { account, reload, signOut };
}

/**
 * Signing in, with what is asked for next.
 *
 * @param onIn called once somebody is signed in.
 * @param tenant whose sign-in page this is, where accounts that it keeps come in too.
 */
export function useSignIn(
  onIn: () => void,
  tenant?: string,
): Doing & {
  /** By what the second factor can be given that is still to come; undefined: the password is asked for. A recovery code is always taken. */
  readonly next: readonly ('code' | 'passkey')[] | undefined;
  readonly signIn: (address: string, password: string) => Promise<void>;
  readonly giveCode: (code: string) => Promise<void>;
  readonly giveRecoveryCode: (recoveryCode: string) => Promise<void>;
  /** A passkey alone; where a second factor is asked for, as that. */
  readonly byPasskey: () => Promise<void>;
} {
  const ask = useAsk();
  const passkeys = usePasskeys(ask);
  const [next, setNext] = useState<readonly ('code' | 'passkey')[]>();
  const { run, ...doing } = useDoing();
  const give = (body: () => object | Promise<object>) =>
    run(() =>
      Promise.resolve(body())
        .then((given) => ask<void>('/code', given))
        .then(onIn),
    );
  return {
    ...doing,
    next,
    signIn: (address, password) =>
      run(async () => {
        const { by } = await ask<{ by?: ('code' | 'passkey')[] }>('/sign-in', { address, password, ...(tenant !== undefined && { tenant }) });
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
              .then((passkey) => ask<void>('/passkeys/sign-in', { passkey }))
              .then(onIn),
          ),
  };
}

/** Asking for a letter: for an account (`sign-up`), or for another password (`forgotten`). The answer is the same whether or not there is an account. */
export function useLetter(what: 'sign-up' | 'forgotten'): Doing & {
  /** To which address a letter is on its way. */
  readonly asked: string | undefined;
  readonly askFor: (address: string) => Promise<void>;
} {
  const ask = useAsk();
  const [asked, setAsked] = useState<string>();
  const { run, ...doing } = useDoing();
  const askFor = (address: string) => run(() => ask<void>(`/${what}`, { address }).then(() => setAsked(address)));
  return { ...doing, asked, askFor };
}

/** Showing again who one is, in the middle of something. @param onProven goes on with it. */
export function useProof(onProven: () => void): Doing & {
  /** What is asked for: where there is a second factor, a code of it. Undefined while it is not known. */
  readonly by: 'password' | 'code' | undefined;
  readonly prove: (secret: string) => Promise<void>;
  readonly byPasskey: () => Promise<void>;
} {
  const ask = useAsk();
  const passkeys = usePasskeys(ask);
  const { account } = useAccount();
  const { run, ...doing } = useDoing();
  const by = account ? (account.hasFactor ? 'code' : 'password') : undefined;
  const prove = (body: () => object | Promise<object>) =>
    run(() =>
      Promise.resolve(body())
        .then((given) => ask<void>('/prove', given))
        .then(onProven),
    );
  return {
    ...doing,
    by,
    prove: (secret) => prove(() => (by === 'code' ? { code: secret } : { password: secret })),
    byPasskey: () => prove(async () => ({ passkey: await passkeys.show() })),
  };
}

/** Where one is signed in. */
export function useMySessions(): Doing & {
  readonly sessions: readonly SessionItem[] | undefined;
  readonly end: (id: string) => Promise<void>;
  readonly endOthers: () => Promise<void>;
} {
  const ask = useAsk();
  const { items, error, reload } = useListed<SessionItem>('/sessions');
  const { run, ...doing } = useDoing();
  const end = (which: object) => run(() => ask<void>('/sessions/end', which).then(reload));
  return { ...doing, error: doing.error ?? error, sessions: items, end: (id) => end({ id }), endOthers: () => end({ others: true }) };
}

/** One's second factors. What changes them may be refused with `prove-first`: show {@link useProof}, then do it `again`. */
export function useMyFactors(): Doing & {
  readonly passkeys: readonly PasskeyItem[] | undefined;
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
} {
  const ask = useAsk();
  const browser = usePasskeys(ask);
  const { items, reload } = useListed<PasskeyItem>('/passkeys');
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
    askForLetter: () => run(() => ask<void>('/factor/ask', {}).then(() => setState({ asked: true }))),
    beginAuthenticator: (link) => run(async () => setState({ authenticator: await ask('/factor/begin', link === undefined ? {} : { token: link }) })),
    confirmAuthenticator: (code) => run(() => ask<{ recoveryCodes: string[] }>('/factor/confirm', { code }).then(codesOf)),
    removeAuthenticator: () => run(() => ask<object>('/factor/remove', {}).then(codesOf)),
    newRecoveryCodes: () => run(() => ask<{ recoveryCodes: string[] }>('/factor/recovery-codes', {}).then(codesOf)),
    addPasskey: (label, link) =>
      run(async () => codesOf(await ask('/passkeys/add', { passkey: await browser.make(link), ...(label !== undefined && { label }) }))),
    removePasskey: (id) => run(() => ask<object>('/passkeys/remove', { id }).then(codesOf)),
  };
}
