import type { OutgoingHttpHeader, OutgoingHttpHeaders, ServerResponse } from 'node:http';

/** An answer that goes out later than it is given, or another in its place. */
export interface HeldBack {
  /** The answer was given whole, or nobody waits for it any more. */
  readonly answered: Promise<void>;
  /** @param instead goes out in the place of what was given. */
  send(instead?: Response): Promise<void>;
}

/** Keeps what is answered from now on, until it is sent. */
export function holdBack(response: ServerResponse): HeldBack {
  const { write, end, writeHead, flushHeaders } = response;
  const given: Buffer[] = [];
  let done = (): void => {};
  const answered = new Promise<void>((resolve) => {
    done = resolve;
  });
  response.once('close', done);
  const keep = (chunk: unknown, encoding: unknown): void => {
    if (typeof chunk === 'string') given.push(Buffer.from(chunk, typeof encoding === 'string' ? (encoding as BufferEncoding) : 'utf8'));
    else if (chunk instanceof Uint8Array) given.push(Buffer.from(chunk));
  };
  const told = (rest: readonly unknown[]): void => {
    for (const one of rest) if (typeof one === 'function') queueMicrotask(one as () => void);
  };
  Object.assign(response, {
    write: (chunk: unknown, ...rest: unknown[]) => {
      keep(chunk, rest[0]);
      told(rest);
      return true;
    },
    end: (...rest: unknown[]) => {
      keep(rest[0], rest[1]);
      told(rest);
      done();
      return response;
    },
    writeHead: (status: number, ...rest: unknown[]) => {
      response.statusCode = status;
      for (const headers of rest) {
        if (typeof headers !== 'object' || headers === null) continue;
        const each = Array.isArray(headers) ? pairs(headers) : Object.entries(headers as OutgoingHttpHeaders);
        for (const [name, value] of each) if (value !== undefined) response.setHeader(name, value as OutgoingHttpHeader);
      }
      return response;
    },
    flushHeaders: () => undefined,
  });
  return {
    answered,
    async send(instead) {
      Object.assign(response, { write, end, writeHead, flushHeaders });
      let body: Uint8Array = Buffer.concat(given);
      if (instead) {
        for (const name of response.getHeaderNames()) if (name.startsWith('content-') || name === 'etag') response.removeHeader(name);
        response.statusCode = instead.status;
        instead.headers.forEach((value, name) => {
          response.setHeader(name, value);
        });
        body = Buffer.from(await instead.arrayBuffer());
      }
      response.end(body);
    },
  };
}

/** Headers as Node also takes them: name and value by turns. */
const pairs = (flat: readonly unknown[]): [string, unknown][] =>
  flat.every((one) => Array.isArray(one)) ? (flat as [string, unknown][]) : flat.flatMap((name, i) => (i % 2 === 0 ? [[String(name), flat[i + 1]]] : []));
