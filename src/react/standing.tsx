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

/** The id of the tenant that is entered. @throws Error outside of a {@link StandingProvider}. */
export const useTenant = (): string => useStanding().facts.tenant.id;
