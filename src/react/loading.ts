import { useCallback, useEffect, useRef, useState } from 'react';
import type { Refusal } from '../client/index.js';
import { usePlace } from './place.js';

/** Something that is loaded. `data` stays while it is loaded anew, and when that fails. */
export interface Loaded<A> {
  /** Undefined until it is there. */
  readonly data: A | undefined;
  /** Why the last try failed. */
  readonly error: Refusal | undefined;
  readonly reload: () => void;
}

/** A list that is read page by page. */
export interface List<I> {
  /** Undefined until it is there. */
  readonly items: readonly I[] | undefined;
  readonly error: Refusal | undefined;
  /** Reads the next page; undefined at the end. */
  readonly more: (() => void) | undefined;
  readonly reload: () => void;
}

/** Loads something, and again on `reload`. What was loaded by another `load` is not shown for this one. */
export function useLoaded<A>(load: () => Promise<A>): Loaded<A> {
  const [state, setState] = useState<{ readonly load: typeof load; readonly data?: A; readonly error?: Refusal }>({ load });
  const reload = useCallback(() => {
    load().then(
      (data) => setState({ load, data }),
      (error: Refusal) => setState((before) => ({ ...(before.load === load ? before : { load }), error })),
    );
  }, [load]);
  useEffect(reload, [reload]);
  const current = state.load === load;
  return { data: current ? state.data : undefined, error: current ? state.error : undefined, reload };
}

/**
 * Loads something (a snapshot above all) and keeps it fresh: again every so many seconds while the page is in view, when somebody comes back to it, and on
 * `reload`. A snapshot itself ends when it has expired.
 *
 * @param load the same function from one drawing to the next (`useCallback`): another one loads something else.
 * @param seconds default 60.
 */
export function useFresh<A>(load: () => Promise<A>, seconds = 60): Loaded<A> {
  const loaded = useLoaded(load);
  const { reload } = loaded;
  useEffect(() => {
    const ifInView = () => document.visibilityState === 'visible' && reload();
    const timer = setInterval(ifInView, seconds * 1000);
    document.addEventListener('visibilitychange', ifInView);
    return () => {
      clearInterval(timer);
      document.removeEventListener('visibilitychange', ifInView);
    };
  }, [reload, seconds]);
  return loaded;
}

/** A page of a list, and where the next begins. */
export interface Page<I> {
  readonly items: readonly I[];
  readonly next?: string | null;
}

/**
 * A list, page by page; after a change that was carried out from this page it is read again, as far as it was.
 *
 * @param read reads the page after a place, the first without one; the same function from one drawing to the next (`useCallback`).
 */
export function useList<I>(read: (after?: string) => Promise<Page<I>>): List<I> {
  const { changes } = usePlace();
  const [state, setState] = useState<{ readonly of: typeof read; readonly error?: Refusal } & Partial<Page<I>>>({ of: read });
  const held = useRef({ of: read, pages: 1 });
  const set = useCallback(
    (found: Promise<Page<I>>) =>
      found.then(
        ({ items, next = null }) => setState({ of: read, items, next }),
        (error: Refusal) => setState((before) => ({ ...(before.of === read ? before : { of: read }), error })),
      ),
    [read],
  );
  const reload = useCallback(() => {
    const pages = held.current.of === read ? held.current.pages : 1;
    held.current = { of: read, pages };
    const all = async () => {
      let { items, next = null } = await read();
      for (let page = 1; page < pages && next !== null; page++) {
        const part = await read(next);
        items = [...items, ...part.items];
        next = part.next ?? null;
      }
      return { items, next };
    };
    void set(all());
  }, [read, set]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: again after each change
  useEffect(reload, [reload, changes]);
  const { items, next, error } = state.of === read ? state : ({} as Partial<typeof state>);
  const more = (after: string) => {
    held.current = { of: read, pages: held.current.pages + 1 };
    void set(read(after).then((part) => ({ items: [...(items ?? []), ...part.items], next: part.next ?? null })));
  };
  return { items, error, more: next ? () => more(next) : undefined, reload };
}
