import { useCallback, useEffect, useState } from 'react';
import type { Anchor } from 'warm-lintel';

/** What the server says in words when it refuses. */
export class Refusal extends Error {
  readonly status: number;
  readonly code: string;
  /** What has to be done first, if that is why. */
  readonly obligation: string | undefined;

  constructor(status: number, detail: string, code: string, obligation?: string) {
    super(detail);
    this.status = status;
    this.code = code;
    this.obligation = obligation;
  }
}

/** Told of what was sent in a look that tries. */
export const TRIED = 'tried';
/** How it came out: what the person would have been told, if it was refused. */
export interface Tried {
  readonly refused?: string;
}

/** @param once a key under which the server does the same request once. */
export async function call<T>(method: string, path: string, data?: unknown, once?: string): Promise<T> {
  // A look is this tab's alone, and of one organisation.
  const tenant = /^\/(?:api\/t|lintel\/tenants)\/([^/]+)/.exec(path)?.[1];
  const look = tenant === undefined ? null : sessionStorage.getItem(`look ${tenant}`);
  const response = await fetch(path, {
    method,
    headers: { ...(data !== undefined && { 'content-type': 'application/json' }), ...(once && { 'idempotency-key': once }), ...(look && { 'x-look': look }) },
    ...(data !== undefined && { body: JSON.stringify(data) }),
  });
  const answer = (await response.json().catch(() => ({}))) as T & { detail?: string; code?: string; obligation?: string };
  if (response.headers.get('lintel-look') === 'tried')
    window.dispatchEvent(new CustomEvent<Tried>(TRIED, { detail: response.ok ? {} : { refused: answer.detail ?? '' } }));
  if (response.ok) return answer;
  if (answer.code === 'look-over') {
    sessionStorage.removeItem(`look ${tenant}`);
    window.location.assign(`/t/${tenant}`);
  }
  throw new Refusal(response.status, answer.detail ?? 'The server does not answer. Try again.', answer.code ?? '', answer.obligation);
}

/** Asks the library's face. */
export const askFace = (path: string): Promise<unknown> => call('GET', `/lintel${path}`);

export interface Loaded<T> {
  data: T | undefined;
  error: Refusal | undefined;
  reload: () => void;
}

/** Loads a JSON address, and again on `reload`. */
export function useLoad<T>(path: string): Loaded<T> {
  const [state, setState] = useState<{ path: string; data?: T; error?: Refusal }>({ path });
  const load = useCallback(() => {
    call<T>('GET', path).then(
      (data) => setState({ path, data }),
      (error: Refusal) => setState({ path, error }),
    );
  }, [path]);
  useEffect(load, [load]);
  // What was loaded for another address is not shown under this one.
  return { data: state.path === path ? state.data : undefined, error: state.path === path ? state.error : undefined, reload: load };
}

/** A list of the membership, whole or its first page. */
export interface Listed<T> {
  items: T[];
  next?: string | null;
}

export interface MeAnswer {
  user: { id: string; name: string; address: string } | null;
  tenants: { id: string; name: string }[];
  invitations: { tenantId: string; invitationId: string; tenantName: string }[];
  mail: boolean;
  tray: boolean;
  demo: { password: string; people: { name: string; address: string; note: string }[] } | null;
}

export interface Hive {
  id: string;
  tenantId: string;
  name: string;
  colonies: number;
  keeperId: string | null;
  siteId: string | null;
  status: 'active' | 'archived';
  registrationNo?: string | null;
  inspectors: string[];
  followers: string[];
  may: string[];
}
export interface Named {
  id: string;
  name: string;
}
export interface RoleHeld {
  role: string;
  label: string;
  anchor: Anchor;
  until?: string;
  without?: string[];
  /** By which alone it came, where nobody here gave it. */
  sources?: string[];
}
