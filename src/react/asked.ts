import { useCallback, useEffect } from 'react';
import type { Answered, Asked, OperationId } from '../client/index.js';
import { type Doing, useDoing } from './doing.js';
import { type List, type Loaded, useFresh, useList, useLoaded } from './loading.js';
import { useClient, usePlace } from './place.js';
import { useTenant } from './standing.js';

/** What I was refused and ask for, as it comes over HTTP. */
export type MyAppealItem = Answered<'myAppeals'>['items'][number];
/** What somebody asks for that I may answer, as it comes over HTTP. */
export type AppealItem = Answered<'listAppeals'>['items'][number];
/** What would allow what is asked for, as it comes over HTTP. */
export type AppealRemedies = Answered<'appealRemedies'>;
/** A line of a journal, as it comes over HTTP. */
export type JournalItem = Answered<'journal'>['items'][number];
/** An event of the record of changes, as it comes over HTTP. */
export type AuditItem = Answered<'listAudit'>['items'][number];
/** Why somebody may, or may not, as it comes over HTTP. */
export type Reasons = Answered<'why'>;

/** The operations that ask something in the tenant that is entered. */
export type Readable = { readonly [Id in OperationId]: Asked<Id> extends { readonly tenant: string } ? Id : never }[OperationId];

/**
 * What any operation answers that only reads, in the tenant that is entered; read again after each change that was carried out from this page.
 *
 * @param id of an operation that is asked by GET: `listDeputies`.
 * @param asked the rest of what it is asked with.
 * @example const { data, error } = useRead('member', { user });
 */
export function useRead<Id extends Readable>(
  id: Id,
  ...[asked]: Record<never, never> extends Omit<Asked<Id>, 'tenant'> ? [asked?: Omit<Asked<Id>, 'tenant'>] : [asked: Omit<Asked<Id>, 'tenant'>]
): Loaded<Answered<Id>> {
  const { client, changes } = usePlace();
  const tenant = useTenant();
  const given = JSON.stringify(asked ?? {});
  const read = client[id] as (asked: object) => Promise<Answered<Id>>;
  const loaded = useLoaded(useCallback(() => read({ tenant, ...JSON.parse(given) }), [read, tenant, given]));
  const { reload } = loaded;
  useEffect(() => {
    if (changes > 0) reload();
  }, [changes, reload]);
  return loaded;
}

/** Whose journal: of one record, of what a member did, or, with neither, of what was done lately. */
export interface JournalAbout {
  readonly kind?: string;
  readonly record?: string;
  readonly person?: string;
  /** Entries a page, at most 200; default 50. */
  readonly limit?: number;
}

/** The journal of a record, of what a member did, or of what was done lately, the newest first. */
export function useJournal({ kind, record, person, limit }: JournalAbout): List<JournalItem> {
  const client = useClient();
  const tenant = useTenant();
  return useList(
    useCallback((after?: string) => client.journal({ tenant, kind, record, person, limit, after }), [client, tenant, kind, record, person, limit]),
  );
}

/** Which events {@link useAudit} gives. */
export interface AuditAsked {
  /** Events a page, at most 200. Default: 50. */
  readonly limit?: number;
  /** `newest`, the default, or `oldest` first. */
  readonly order?: 'newest' | 'oldest';
  /** Only what this person did. */
  readonly by?: string;
  /** Only what was done to this person. */
  readonly about?: string;
  /** Only events of this sort, as `what` calls it. */
  readonly what?: string;
}

/** The record of changes of the membership: all of it, the newest first, or what is asked for. */
export function useAudit({ limit = 50, order, by, about, what }: AuditAsked = {}): List<AuditItem> {
  const client = useClient();
  const tenant = useTenant();
  return useList(
    useCallback((after?: string) => client.listAudit({ tenant, limit, order, by, about, what, after }), [client, tenant, limit, order, by, about, what]),
  );
}

/** Why one may not; or with the right to ask, why somebody else may, or may not. */
export function useWhy({ action, record, user }: { readonly action: string; readonly record?: string; readonly user?: string }): Loaded<Reasons> {
  const client = useClient();
  const tenant = useTenant();
  return useFresh(useCallback(() => client.why({ tenant, action, record, user }), [client, tenant, action, record, user]));
}

/** What {@link useAppeals} gives. */
export interface Appeals extends Doing {
  /** What I asked for, the latest first. */
  readonly mine: List<MyAppealItem>;
  /** What waits for my answer, the longest waiting first. */
  readonly waiting: List<AppealItem>;
  /** Asks for an action on a record. The same again is asked once. */
  readonly raise: (action: string, record: string, words?: string) => Promise<void>;
  readonly withdraw: (appeal: string) => Promise<void>;
  /** What would allow it, the least that it opens first. */
  readonly remedies: (appeal: string) => Promise<AppealRemedies>;
  /** @param agreed one of {@link remedies}: its place among them, and the proposal that was shown. */
  readonly agree: (appeal: string, agreed: Omit<Parameters<ReturnType<typeof useClient>['agreeToAppeal']>[0], 'tenant' | 'appeal'>) => Promise<void>;
  readonly decline: (appeal: string, reason?: string) => Promise<void>;
}

/** What one was refused and asks for, and what others ask for that one may answer. @param onDone called after each that was done. */
export function useAppeals(onDone?: () => void): Appeals {
  const client = useClient();
  const tenant = useTenant();
  const { changed } = usePlace();
  const { run, ...doing } = useDoing();
  const after = (work: () => Promise<unknown>) =>
    run(async () => {
      await work();
      changed();
      onDone?.();
    });
  return {
    ...doing,
    mine: useList(useCallback(() => client.myAppeals({ tenant }), [client, tenant])),
    waiting: useList(useCallback(() => client.listAppeals({ tenant }), [client, tenant])),
    raise: (action, record, words) => after(() => client.raiseAppeal({ tenant, action, record, words })),
    withdraw: (appeal) => after(() => client.withdrawAppeal({ tenant, appeal })),
    remedies: (appeal) => client.appealRemedies({ tenant, appeal }),
    agree: (appeal, agreed) => after(() => client.agreeToAppeal({ tenant, appeal, ...agreed })),
    decline: (appeal, reason) => after(() => client.declineAppeal({ tenant, appeal, reason })),
  };
}
