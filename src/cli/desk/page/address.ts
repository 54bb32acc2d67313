import { useCallback, useEffect, useState, useSyncExternalStore } from 'react';

const listen = (changed: () => void) => {
  addEventListener('popstate', changed);
  return () => removeEventListener('popstate', changed);
};

/** Goes to a view: what is looked at stands in the address, so that it can be sent to somebody. */
export function go(view: string, query: Readonly<Record<string, string | undefined>>): void {
  const kept = Object.entries(query).filter((one): one is [string, string] => one[1] !== undefined && one[1] !== '');
  history.pushState(null, '', `/${view}?${new URLSearchParams(kept)}`);
  dispatchEvent(new PopStateEvent('popstate'));
}

export function useAddress(): { readonly view: string; readonly query: Readonly<Record<string, string>> } {
  const href = useSyncExternalStore(listen, () => location.pathname + location.search);
  const url = new URL(href, location.origin);
  return { view: url.pathname.slice(1) || 'table', query: Object.fromEntries(url.searchParams) };
}

export interface Loaded<T> {
  readonly data: T | undefined;
  readonly error: string | undefined;
  readonly again: () => void;
}

async function read<T>(response: Response): Promise<T> {
  if (response.ok) return (await response.json()) as T;
  const told = (await response.json().catch(() => ({}))) as { error?: string };
  throw new Error(told.error ?? 'The desk does not answer. Is it still running?');
}

/** Asks the desk; nothing is asked where the query is undefined. */
export function useAnswer<T>(what: string, query: Readonly<Record<string, string | undefined>> | undefined): Loaded<T> {
  const kept = query && Object.entries(query).filter((one): one is [string, string] => one[1] !== undefined && one[1] !== '');
  const address = kept === undefined ? undefined : `/api/${what}?${new URLSearchParams(kept)}`;
  const [state, setState] = useState<{ address?: string; data?: T; error?: string }>({});
  const [round, setRound] = useState(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: to ask again, the round is another
  useEffect(() => {
    if (address === undefined) return;
    let current = true;
    fetch(address)
      .then((response) => read<T>(response))
      .then(
        (data) => current && setState({ address, data }),
        (error: Error) => current && setState({ address, error: error.message }),
      );
    return () => {
      current = false;
    };
  }, [address, round]);
  const fresh = state.address === address ? state : {};
  return { data: fresh.data, error: fresh.error, again: useCallback(() => setRound((n) => n + 1), []) };
}

export async function send<T>(what: string, body: Readonly<Record<string, string>>): Promise<T> {
  return read<T>(await fetch(`/api/${what}`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) }));
}
