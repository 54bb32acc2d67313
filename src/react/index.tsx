import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from 'react';
import type { Charter, CharterTypes } from '../charter/index.js';
import { type Decision, openStanding, type Snapshot, type Standing } from '../standing/index.js';

export {
  AccountProvider,
  AccountRefusal,
  type Doing,
  type MyAccount,
  type PasskeyCeremonies,
  type PasskeyItem,
  type SessionItem,
  useAccount,
  useLetter,
  useMyFactors,
  useMySessions,
  useProof,
  useSignIn,
} from './account.js';

const Current = createContext<Standing<any> | undefined>(undefined);

/** Opens a standing from the server's snapshot for everything below. For display only: the server checks again. */
export function StandingProvider<T extends CharterTypes>(props: {
  readonly charter: Charter<T>;
  readonly snapshot: Snapshot;
  readonly children: ReactNode;
}): ReactNode {
  const { charter, snapshot, children } = props;
  const standing = useMemo(() => openStanding(charter, snapshot), [charter, snapshot]);
  return <Current.Provider value={standing}>{children}</Current.Provider>;
}

/** The standing of whoever looks at the page. @throws Error outside of a {@link StandingProvider}. */
export function useStanding<T extends CharterTypes>(): Standing<T> {
  const standing = useContext(Current);
  if (!standing) throw new Error('useStanding: there is no <StandingProvider> above this component');
  return standing as Standing<T>;
}

/** May they, and if not why, in words to show beside a greyed button. In a look as somebody else `could` says what they could do, which is not done in it. */
export function useDecision(action: string, record?: object): Decision {
  const standing = useStanding();
  return useMemo(() => standing.decide(action, record as never), [standing, action, record]);
}

/** Shows its children where the action is allowed; `inLook` where somebody looks as a person who could do it; and `otherwise` else. */
export function IfAllowed(props: {
  readonly action: string;
  readonly record?: object;
  readonly children: ReactNode;
  /** What stands there for that person, to be marked as not carried out. */
  readonly inLook?: (decision: Decision) => ReactNode;
  readonly otherwise?: (decision: Decision) => ReactNode;
}): ReactNode {
  const decision = useDecision(props.action, props.record);
  if (decision.allowed) return props.children;
  const shown = decision.could?.allowed === true ? props.inLook : props.otherwise;
  return shown?.(decision) ?? null;
}

/**
 * Loads something (a snapshot above all) and keeps it fresh: again every so many seconds while the page is in view, when somebody comes back to it, and on
 * `reload`. What was loaded last stays while it is loaded anew, and when that fails; a snapshot itself ends when it has expired.
 *
 * @param load the same function from one drawing to the next (`useCallback`): another one loads something else.
 * @param seconds default 60.
 */
export function useFresh<A>(load: () => Promise<A>, seconds = 60): { readonly data: A | undefined; readonly error: unknown; readonly reload: () => void } {
  const [state, setState] = useState<{ readonly load: typeof load; readonly data?: A; readonly error?: unknown }>({ load });
  const reload = useCallback(() => {
    load().then(
      (data) => setState({ load, data }),
      (error: unknown) => setState((before) => ({ ...(before.load === load ? before : { load }), error })),
    );
  }, [load]);
  useEffect(() => {
    reload();
    const ifInView = () => document.visibilityState === 'visible' && reload();
    const timer = setInterval(ifInView, seconds * 1000);
    document.addEventListener('visibilitychange', ifInView);
    return () => {
      clearInterval(timer);
      document.removeEventListener('visibilitychange', ifInView);
    };
  }, [reload, seconds]);
  const current = state.load === load;
  return { data: current ? state.data : undefined, error: current ? state.error : undefined, reload };
}
