import { useCallback, useEffect, useState } from 'react';
import { type Answered, createClient, Refusal } from 'warm-lintel/client';

/** Told of what was sent in a look that tries. */
export const TRIED = 'tried';
/** How it came out: what the person would have been told, if it was refused. */
export interface Tried {
  readonly refused?: string;
}

/** Sends a request as this tab does: a look is this tab's alone, and of one organisation. */
async function send(path: string, init: RequestInit & { headers: Record<string, string> }): Promise<Response> {
  const tenant = /^\/(?:api\/t|lintel\/tenants)\/([^/]+)/.exec(path)?.[1];
  const look = tenant === undefined ? null : sessionStorage.getItem(`look ${tenant}`);
  const response = await fetch(path, { ...init, headers: { ...init.headers, ...(look && { 'x-look': look }) } });
  const refused: { detail?: string; code?: string } = response.ok
    ? {}
    : await response
        .clone()
        .json()
        .catch(() => ({}));
  if (response.headers.get('lintel-look') === 'tried')
    window.dispatchEvent(new CustomEvent<Tried>(TRIED, { detail: response.ok ? {} : { refused: refused.detail ?? '' } }));
  if (refused.code === 'look-over') {
    sessionStorage.removeItem(`look ${tenant}`);
    window.location.assign(`/t/${tenant}`);
  }
  return response;
}

/** The membership, as the library's face answers it. */
export const client = createClient({ fetch: send });

/** Asks this application's own routes. */
export async function call<T>(method: string, path: string, data?: unknown): Promise<T> {
  const headers: Record<string, string> = data === undefined ? {} : { 'content-type': 'application/json' };
  const response = await send(path, { method, headers, ...(data !== undefined && { body: JSON.stringify(data) }) });
  const answer = (await response.json().catch(() => ({}))) as T & { detail?: string; code?: string };
  if (response.ok) return answer;
  throw new Refusal(response.status, answer.code ?? 'no-answer', answer.detail ?? 'The server does not answer. Try again.', answer);
}

export interface Loaded<T> {
  data: T | undefined;
  error: Refusal | undefined;
  reload: () => void;
}

/** Loads a JSON address of this application, and again on `reload`. @param data what is asked with, where it takes something. */
export function useLoad<T>(path: string, data?: object): Loaded<T> {
  const sent = data === undefined ? undefined : JSON.stringify(data);
  const [state, setState] = useState<{ path: string; data?: T; error?: Refusal }>({ path });
  const load = useCallback(() => {
    call<T>(sent === undefined ? 'GET' : 'POST', path, sent === undefined ? undefined : JSON.parse(sent)).then(
      (data) => setState({ path, data }),
      (error: Refusal) => setState({ path, error }),
    );
  }, [path, sent]);
  useEffect(load, [load]);
  // What was loaded for another address is not shown under this one.
  return { data: state.path === path ? state.data : undefined, error: state.path === path ? state.error : undefined, reload: load };
}

/** Whoever is signed in, as the face knows them. */
export type Account = NonNullable<Answered<'myAccount'>['account']>;

/** What the face lists, one of each. */
export type { GroupItem as Group, MemberItem as Member, RoleItem as Role, UnitItem as Unit } from 'warm-lintel/react';
export type JoinRequest = Answered<'listRequests'>['items'][number];

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
