import { useCallback, useEffect, useState } from 'react';
import { useFresh } from './fresh.js';

/** Asks the membership over HTTP: `(path) => fetch('/lintel' + path).then((response) => response.json())`, as the application sends its requests. Errors are thrown. */
export type AskFace = (path: string) => Promise<unknown>;

/** Somebody whom whoever reads may know. */
interface Somebody {
  readonly userId: string;
  readonly name: string;
}

/** What was done to one record at one moment, as it comes over HTTP. */
export interface JournalItem {
  readonly id: string;
  readonly kind: string;
  readonly record: string;
  readonly label: string | null;
  readonly what: 'made' | 'changed' | 'handed over' | 'deleted';
  /** ISO 8601. */
  readonly at: string;
  /** Null: somebody of whom one may not know, or whoever wrote past the library. */
  readonly by: Somebody | null;
  readonly for?: Somebody | null;
  readonly fields: Readonly<Record<string, { readonly from: unknown; readonly to: unknown }>>;
  readonly erased: readonly string[];
}

/** Why somebody may, or may not. */
export interface Reasons {
  readonly who: { readonly id: string; readonly name: string; readonly powers: string };
  readonly action: { readonly name: string; readonly label: string };
  readonly record: { readonly kind: string; readonly id: string; readonly label: string } | null;
  readonly allowed: boolean | 'unknown';
  readonly reason: string;
  readonly grants: readonly { readonly holds: 'yes' | 'no' | 'not loaded'; readonly by: string; readonly where: string; readonly failed: readonly string[] }[];
  readonly readGrants: Reasons['grants'];
  readonly told: string;
  readonly ask: readonly string[];
}

const query = (about: object) =>
  new URLSearchParams(Object.entries(about).flatMap(([key, value]) => (value === undefined ? [] : [[key, String(value)]]))).toString();

/** The journal of a record, of what a member did, or of what was done lately, the newest first. `more` is there where there is more. */
export function useJournal(
  ask: AskFace,
  tenant: string,
  about: { readonly kind?: string; readonly record?: string; readonly person?: string; readonly limit?: number },
): { readonly items: readonly JournalItem[] | undefined; readonly error: unknown; readonly more: (() => void) | undefined; readonly reload: () => void } {
  const path = `/tenants/${encodeURIComponent(tenant)}/journal?${query(about)}`;
  const [read, setRead] = useState<{ readonly path: string; readonly items?: readonly JournalItem[]; readonly next?: string | null; readonly error?: unknown }>(
    { path },
  );
  const load = useCallback(
    (before: readonly JournalItem[], after?: string) => {
      ask(after === undefined ? path : `${path}&after=${encodeURIComponent(after)}`).then(
        (part) => {
          const { items, next } = part as { items: JournalItem[]; next: string | null };
          setRead({ path, items: [...before, ...items], next });
        },
        (error: unknown) => setRead((now) => ({ ...now, path, error })),
      );
    },
    [ask, path],
  );
  const reload = useCallback(() => load([]), [load]);
  useEffect(reload, [reload]);
  const { items, next, error } = read.path === path ? read : { items: undefined, next: null, error: undefined };
  return { items, error, more: items && next ? () => load(items, next) : undefined, reload };
}

/** Why one may not; or with the right to ask, why somebody else may, or may not. */
export function useWhy(
  ask: AskFace,
  tenant: string,
  about: { readonly action: string; readonly record?: string; readonly user?: string },
): { readonly data: Reasons | undefined; readonly error: unknown; readonly reload: () => void } {
  const path = `/tenants/${encodeURIComponent(tenant)}/why?${query(about)}`;
  const load = useCallback(() => ask(path) as Promise<Reasons>, [ask, path]);
  return useFresh(load);
}
