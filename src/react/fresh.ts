import { useCallback, useEffect, useState } from 'react';

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
