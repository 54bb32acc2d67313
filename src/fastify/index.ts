import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { CharterTypes } from '../charter/index.js';
import { problemOf, problemResponse } from '../http/index.js';
import { type AtHand, type MountOptions, mounting } from '../mounting/index.js';
import type { Lintel, ScopedDb, ServerStanding } from '../server/index.js';

declare module 'fastify' {
  /** What {@link forFastify} puts on a request. */
  interface FastifyRequest {
    /** Of whoever sent the request, in the tenant that it names: behind `standing`. */
    standing: ServerStanding<any>;
    /** The application's database, narrowed to that. */
    scope: ScopedDb<any>;
    /** The record that the path names: behind `guard`, where the action is about one. */
    record: Record<string, any>;
  }
}

type Hook = (request: FastifyRequest, reply: FastifyReply) => Promise<void>;

/** The parts of {@link forFastify}. */
export interface ForFastify<T extends CharterTypes, DB> {
  /** A `preHandler`: puts `standing` and `scope` on the request, or ends it as not found. */
  readonly standing: Hook;
  /**
   * In the place of `standing`, for a route that may be tried: where somebody looks as another and tries, it runs in one transaction that is taken back, answers as it would have, and
   * says so in the header `lintel-look`.
   */
  readonly tried: Hook;
  /**
   * A `preHandler` behind `standing`: goes on only where the action is allowed. About records, the one that the path names is loaded and put on the request as `record`; a hidden one is
   * not found, like one that is missing.
   *
   * @throws LintelError `unknown-action`, at once.
   * @param options `id`: where the request names the record; default the part `:id` of the path. Without one the action is asked about no record.
   */
  guard(action: T['permissions'], options?: { readonly id?: (request: FastifyRequest) => string | number | undefined }): Hook;
  /** For `app.setErrorHandler`: answers our errors as problem details (RFC 9457), and throws every other on. */
  readonly problems: (error: unknown, request: FastifyRequest, reply: FastifyReply) => Promise<void>;
  /** A plugin, the membership over HTTP: `app.register(at.face, { prefix: '/lintel' })`. */
  readonly face: (app: FastifyInstance) => Promise<void>;
  /** What is on a request, with the types of the charter and the tables. */
  of(request: FastifyRequest): AtHand<T, DB>;
}

async function send(reply: FastifyReply, answer: Response): Promise<void> {
  await reply
    .code(answer.status)
    .headers(Object.fromEntries(answer.headers))
    .send(Buffer.from(await answer.arrayBuffer()));
}

/**
 * Everything for an application in Fastify, 5.
 *
 * @param options who sends a request, and where it names the tenant. An application that is behind a proxy sets `trustProxy`, so that Fastify knows the client's address.
 * @example
 * const at = forFastify(lintel, { sender: (request) => request.session && { user: request.session.userId } });
 * app.setErrorHandler(at.problems);
 * app.register(at.face, { prefix: '/lintel' });
 * app.get('/w/:tenant/jobs/:id', { preHandler: [at.standing, at.guard('job.read')] }, (request) => request.record);
 */
export function forFastify<T extends CharterTypes, DB = any>(lintel: Lintel<T>, options: MountOptions<FastifyRequest>): ForFastify<T, DB> {
  const mounted = new WeakMap<FastifyRequest, string>();
  const mount = mounting<T, DB, FastifyRequest>(lintel, options, (request) => ({
    raw: request.raw,
    path: request.url.slice((mounted.get(request) ?? '').length) || '/',
    origin: `${request.protocol}://${request.host}`,
    from: request.ip,
    // Of a request without a body Fastify says so too.
    body: request.body ?? undefined,
    params: request.params as Record<string, string>,
  }));
  return {
    standing: async (request, reply) => {
      Object.assign(request, await mount.atHand(request, reply.raw));
    },
    tried: (request, reply) =>
      new Promise((resolve, reject) => {
        const go = (hand: AtHand<T, DB>) => {
          Object.assign(request, hand);
          resolve();
        };
        mount.tried(request, reply.raw, go).catch(reject);
      }),
    guard: (action, { id } = {}) => {
      const insist = mount.guard(action, id);
      return async (request) => {
        request.record = await insist(request.standing, request);
      };
    },
    problems: async (error, _request, reply) => {
      if (problemOf(error).status === 500) throw error;
      await send(reply, problemResponse(error));
    },
    face: async (app) => {
      const answer = mount.face();
      app.all('/*', async (request, reply) => {
        mounted.set(request, app.prefix);
        await send(reply, await answer(request));
        return reply;
      });
    },
    of: (request) => request as AtHand<T, DB>,
  };
}
