import { AsyncLocalStorage } from 'node:async_hooks';
import type { IncomingHttpHeaders, IncomingMessage, ServerResponse } from 'node:http';
import { Readable } from 'node:stream';
import { LintelError } from '../base/index.js';
import type { CharterTypes } from '../charter/index.js';
import { changesNothing, createFace, type FaceOptions, guardedRecord, isSafe, LOOK, problemResponse, type Sender, whoeverAsks } from '../http/index.js';
import type { Lintel, ScopedDb, ServerStanding } from '../server/index.js';
import { holdBack } from './held-back.js';

/** How an application of a framework's own requests says who sends one, and for which tenant. */
export interface MountOptions<R> extends Omit<FaceOptions, 'sender' | 'from' | 'at'> {
  /** Who is signed in, as the application has verified it; undefined for nobody. */
  readonly sender: (request: R) => Promise<Sender | undefined> | Sender | undefined;
  /** Where a request names the tenant. Default: the part `:tenant` of the path, else the header `Lintel-Tenant`. */
  readonly tenant?: (request: R) => string | number | undefined;
}

/** A request as a framework on Node holds it. */
export interface Arrived {
  readonly raw: IncomingMessage;
  /** Its address from where the face is mounted on: `/tenants/alderbrook/members`. */
  readonly path: string;
  /** The scheme and host by which the page that sent it knows us. */
  readonly origin: string;
  /** The client's address, as the framework works it out. */
  readonly from: string | undefined;
  /** What a parser made of the body already; undefined where none has read it. */
  readonly body: unknown;
  readonly params: Readonly<Record<string, string | undefined>>;
}

/** What a route of the application has at hand. */
export interface AtHand<T extends CharterTypes, DB> {
  readonly standing: ServerStanding<T>;
  /** The application's database, narrowed to the standing. */
  readonly scope: ScopedDb<DB>;
}

function headersOf(all: IncomingHttpHeaders, isRead: boolean): Headers {
  const headers = new Headers();
  for (const [name, value] of Object.entries(all)) {
    // A body that is written anew has a length of its own.
    if (value === undefined || (isRead && (name === 'content-length' || name === 'transfer-encoding'))) continue;
    headers.set(name, [value].flat().join(', '));
  }
  return headers;
}

function requestOf({ raw, path, origin, body }: Arrived): Request {
  const method = raw.method ?? 'GET';
  const carries = method !== 'GET' && method !== 'HEAD';
  const isRead = carries && body !== undefined;
  const init = { method, headers: headersOf(raw.headers, isRead) };
  if (!carries) return new Request(origin + path, init);
  if (isRead) return new Request(origin + path, { ...init, body: JSON.stringify(body) });
  return new Request(origin + path, { ...init, body: Readable.toWeb(raw) as ReadableStream, duplex: 'half' } as RequestInit);
}

/** The parts of an adapter that are the same in every framework on Node. */
export function mounting<T extends CharterTypes, DB, R extends object>(lintel: Lintel<T>, options: MountOptions<R>, read: (request: R) => Arrived) {
  const { sender, tenant: named, ...rest } = options;
  const withScope = (standing: ServerStanding<T>): AtHand<T, DB> => ({ standing, scope: standing.scope() as ScopedDb<DB> });
  async function standingOf(request: R): Promise<ServerStanding<T>> {
    const { raw, params } = read(request);
    const tenant = named ? named(request) : (params.tenant ?? raw.headers['lintel-tenant']);
    if (tenant === undefined || tenant === '') throw new LintelError('not-found', 'There is no such page.', {});
    // Who it is from is asked of the framework's own request; the rest of it is not needed.
    const bare = new Request('http://localhost/', { headers: headersOf(raw.headers, true) });
    return (await whoeverAsks(lintel, () => sender(request), bare, String(tenant))) as ServerStanding<T>;
  }
  /** What a look allows of a request: all, nothing, or that it is tried. */
  function inLook(request: R, { facts: { look } }: ServerStanding<T>, response: ServerResponse, mayTry: boolean): boolean {
    if (look) response.setHeader(LOOK, 'looking');
    if (!look || isSafe({ method: read(request).raw.method ?? 'GET' })) return false;
    // guard mounted-route-may-try by looks: Any route of Express or Fastify would be tried.
    return look.tries && /* guard mounted-route-may-try */ mayTry ? true : changesNothing(look);
  }
  return {
    /** @throws LintelError `no-account`, `key-invalid`, `not-found`; `only-a-look`, `not-for-trial`. */
    async atHand(request: R, response: ServerResponse): Promise<AtHand<T, DB>> {
      const standing = await standingOf(request);
      inLook(request, standing, response, false);
      return withScope(standing);
    },
    /**
     * The same for a route that may be tried: what is at hand is given to `go`, which goes on with the request. In a trial its answer is held back until it was taken back.
     *
     * @throws LintelError as `atHand`.
     */
    async tried(request: R, response: ServerResponse, go: (hand: AtHand<T, DB>) => void): Promise<void> {
      const standing = await standingOf(request);
      if (!inLook(request, standing, response, true)) return go(withScope(standing));
      const held = holdBack(response);
      const { raw } = read(request);
      const run = async (inside: ServerStanding<T>) => {
        go(withScope(inside));
        await held.answered;
        return response.statusCode;
      };
      const path = (raw as { originalUrl?: string }).originalUrl ?? raw.url ?? '';
      const trial = standing.trial(`${raw.method} ${path.replace(/\?.*/, '')}`, run, (status) => `answered ${status}`);
      // The request has gone on: whatever comes of it is answered here.
      void trial.then(
        () => {
          response.setHeader(LOOK, 'tried');
          held.send();
        },
        async (error: unknown) => held.send(problemResponse(error)),
      );
    },
    /** Insists on an action, and answers the record that the request names. @throws LintelError `unknown-action`, at once. */
    guard(action: string, id: (request: R) => string | number | undefined = (request) => read(request).params.id) {
      lintel.charter.permission(action);
      return async (standing: ServerStanding<any>, request: R) => {
        const named = id(request);
        return (await guardedRecord(standing, action, named === undefined ? undefined : String(named))) as Record<string, any>;
      };
    },
    /** The membership, as a function of the framework's request. */
    face(): (request: R) => Promise<Response> {
      const current = new AsyncLocalStorage<R>();
      const asked = () => current.getStore() as R;
      const face = createFace(lintel, { ...rest, sender: () => sender(asked()), from: () => read(asked()).from });
      return (request) => current.run(request, () => face.fetch(requestOf(read(request))));
    },
  };
}
