import { LintelError } from '../../base/index.js';
import type { ProbeTarget, Send } from './target.js';

/** A request as it went out, so that it can be sent again. */
export interface Sent {
  readonly method: string;
  readonly url: string;
  readonly body?: unknown;
  /** Besides those that sign in. */
  readonly headers?: Readonly<Record<string, string>>;
  /** Another that was sent at the same moment. */
  readonly beside?: Sent;
}

export interface Answer {
  readonly sent: Sent;
  /** 0: none came. */
  readonly status: number;
  readonly text: string;
  readonly type: string;
  readonly headers: Readonly<Record<string, string>>;
  /** Why none came. */
  readonly failed?: string;
}

/** What goes with a request besides what signs in. */
export interface Asked {
  readonly body?: unknown;
  readonly headers?: Readonly<Record<string, string>>;
  /** It is held up on purpose until this comes: how long its answer may take counts from then. */
  readonly heldUntil?: Promise<void>;
}

/** How long an answer may take, in milliseconds. */
const PATIENCE = 5000;
/** A function of a request is called under this address. */
const NOWHERE = 'http://probe.localhost';

/** @throws LintelError `probe-elsewhere` for an address that is not on this machine. */
function baseOf({ app }: ProbeTarget): string {
  if (typeof app !== 'string') return NOWHERE;
  const host = URL.canParse(app) ? new URL(app).hostname : '';
  if (['localhost', '127.0.0.1', '[::1]'].includes(host)) return app.replace(/\/$/, '');
  throw new LintelError('probe-elsewhere', `probe.app is "${app}"; only an application on this machine is tried: http://localhost:PORT`, {});
}

export function sender(target: ProbeTarget): {
  readonly send: Send;
  readonly ask: (method: string, path: string, headers: Record<string, string>, more?: Asked) => Promise<Answer>;
} {
  const base = baseOf(target);
  const call = async ({ method, path, headers = {}, body }: Parameters<Send>[0], heldUntil?: Promise<void>): Promise<Response> => {
    const patience = new AbortController();
    void (heldUntil ?? Promise.resolve()).then(() => setTimeout(() => patience.abort(), PATIENCE).unref());
    const request = new Request(`${base}${path}`, {
      method,
      redirect: 'manual',
      headers: { origin: new URL(base).origin, ...(body !== undefined && { 'content-type': 'application/json' }), ...headers },
      signal: patience.signal,
      ...(body !== undefined && { body: JSON.stringify(body) }),
    });
    const { app } = target;
    const late = new Promise<never>((_resolve, reject) => {
      patience.signal.addEventListener('abort', () => reject(new Error(`no answer within ${PATIENCE / 1000} s`)), { once: true });
    });
    return Promise.race([typeof app === 'string' ? fetch(request) : Promise.resolve(app(request)), late]);
  };
  const ask = async (method: string, path: string, headers: Record<string, string>, { body, headers: more, heldUntil }: Asked = {}): Promise<Answer> => {
    const sent = { method, url: `${base}${path}`, ...(body !== undefined && { body }), ...(more && { headers: more }) };
    try {
      const response = await call({ method, path, headers: { ...headers, ...more }, body }, heldUntil);
      return {
        sent,
        status: response.status,
        text: await response.text(),
        type: response.headers.get('content-type') ?? '',
        headers: Object.fromEntries(response.headers),
      };
    } catch (error) {
      return {
        sent,
        status: 0,
        text: '',
        type: '',
        headers: {},
        failed: error instanceof Error ? ((error.cause as Error | undefined)?.message ?? error.message) : String(error),
      };
    }
  };
  return { send: (request) => call(request), ask };
}
