import type { IncomingMessage, ServerResponse } from 'node:http';
import type { CharterTypes } from '../charter/index.js';
import { problemOf, problemResponse } from '../http/index.js';
import { type AtHand, type MountOptions, mounting } from '../mounting/index.js';
import type { Lintel, ScopedDb, ServerStanding } from '../server/index.js';

declare global {
  namespace Express {
    /** What {@link forExpress} puts on a request. */
    interface Request {
      /** Of whoever sent the request, in the tenant that it names: behind `standing`. */
      standing: ServerStanding<any>;
      /** The application's database, narrowed to that. */
      scope: ScopedDb<any>;
      /** The record that the path names: behind `guard`, where the action is about one. */
      record: Record<string, any>;
    }
  }
}

/** What is used of a request of Express, 4 or 5. */
export interface ExpressRequest extends IncomingMessage {
  readonly params: any;
  readonly protocol: string;
  readonly ip?: string | undefined;
  readonly body?: any;
}

type Next = (error?: unknown) => void;
type Handler = (request: any, response: ServerResponse, next: Next) => void;

/** The parts of {@link forExpress}. */
export interface ForExpress<T extends CharterTypes, DB> {
  /** Middleware: puts `standing` and `scope` on the request, or ends it as not found. */
  readonly standing: Handler;
  /**
   * In the place of `standing`, for a route that may be tried, and in front of it: where somebody looks as another and tries, it runs in one transaction that is taken back, answers as it
   * would have, and says so in the header `lintel-look`. Behind `standing` such a request is refused already.
   */
  readonly tried: Handler;
  /**
   * Middleware behind `standing`: goes on only where the action is allowed. About records, the one that the path names is loaded and put on the request as `record`; a hidden one is
   * not found, like one that is missing.
   *
   * @throws LintelError `unknown-action`, at once.
   * @param options `id`: where the request names the record; default the part `:id` of the path. Without one the action is asked about no record.
   */
  guard(action: T['permissions'], options?: { readonly id?: (request: any) => string | number | undefined }): Handler;
  /** Middleware for errors, behind all routes: answers ours as problem details (RFC 9457), and hands on every other. */
  readonly problems: (error: unknown, request: any, response: ServerResponse, next: Next) => void;
  /** The membership over HTTP, to be mounted: `app.use('/lintel', at.face())`, before or behind `express.json()`. */
  face(): Handler;
  /** What is on a request, with the types of the charter and the tables. */
  of(request: object): AtHand<T, DB>;
}

async function send(response: ServerResponse, answer: Response): Promise<void> {
  response.statusCode = answer.status;
  answer.headers.forEach((value, name) => {
    response.setHeader(name, value);
  });
  response.end(Buffer.from(await answer.arrayBuffer()));
}

/**
 * Everything for an application in Express, 4 or 5. Errors go to `next`, also in 4.
 *
 * @param options who sends a request, and where it names the tenant. An application that is behind a proxy sets `trust proxy`, so that Express knows the client's address.
 * @example
 * const at = forExpress(lintel, { sender: (req) => req.session && { user: req.session.userId } });
 * app.use('/lintel', at.face());
 * app.use('/w/:tenant', at.standing);
 * app.get('/w/:tenant/jobs/:id', at.guard('job.read'), (req, res) => res.json(req.record));
 * app.use(at.problems);
 */
export function forExpress<T extends CharterTypes, DB = any>(lintel: Lintel<T>, options: MountOptions<any>): ForExpress<T, DB> {
  const mount = mounting<T, DB, ExpressRequest>(lintel, options, (request) => ({
    raw: request,
    path: request.url ?? '/',
    origin: `${request.protocol}://${request.headers.host ?? 'localhost'}`,
    from: request.ip,
    body: request.body,
    params: request.params,
  }));
  const handing =
    (work: (request: any, response: ServerResponse) => Promise<void>): Handler =>
    (request, response, next) => {
      work(request, response).then(() => next(), next);
    };
  return {
    standing: handing(async (request, response) => {
      Object.assign(request, await mount.atHand(request, response));
    }),
    tried: (request, response, next) => {
      const go = (hand: AtHand<T, DB>) => {
        Object.assign(request, hand);
        next();
      };
      mount.tried(request, response, go).catch(next);
    },
    guard: (action, { id } = {}) => {
      const insist = mount.guard(action, id);
      return handing(async (request) => {
        request.record = await insist(request.standing, request);
      });
    },
    problems: (error, _request, response, next) => {
      const problem = problemOf(error);
      if (problem.status === 500 || response.headersSent) next(error);
      else void send(response, problemResponse(error)).catch(next);
    },
    face: () => {
      const answer = mount.face();
      return (request, response, next) => {
        answer(request)
          .then((one) => send(response, one))
          .catch(next);
      };
    },
    of: (request) => request as AtHand<T, DB>,
  };
}
