import { createContext, type ReactNode, useContext, useMemo } from 'react';
import type { Charter, CharterTypes } from '../charter/index.js';
import { type Decision, openStanding, type Snapshot, type Standing } from '../standing/index.js';

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

/** May they, and if not why, in words to show beside a greyed button. */
export function useDecision(action: string, record?: object): Decision {
  const standing = useStanding();
  return useMemo(() => standing.decide(action, record as never), [standing, action, record]);
}

/** Shows its children where the action is allowed, and `otherwise` where it is not. */
export function Gate(props: {
  readonly may: string;
  readonly on?: object;
  readonly children: ReactNode;
  readonly otherwise?: (decision: Decision) => ReactNode;
}): ReactNode {
  const decision = useDecision(props.may, props.on);
  return decision.allowed ? props.children : (props.otherwise?.(decision) ?? null);
}
