import { lookup as resolve } from 'node:dns';
import { request as plainRequest, type RequestOptions } from 'node:http';
import { request as secureRequest } from 'node:https';
import type { LookupFunction } from 'node:net';
import ipaddr from 'ipaddr.js';
import { LintelError } from '../../base/index.js';

export interface FetchBounds {
  /** True: also http, and addresses of this machine and of private networks. For development and tests alone. */
  readonly allowLocal?: boolean;
}

/** So long an answer may take, and so large may it be. */
const SECONDS = 10;
const BYTES = 1_000_000;

/** Why is told to the application alone: else whoever sets an address could ask what its name leads to. */
const refused = (why: string) =>
  new LintelError(
    'address-refused',
    'The provider has an address that is not asked from here: each has to be https, and public.',
    {},
    { cause: new Error(why) },
  );

export const providerAway = (cause: unknown) =>
  new LintelError('provider-away', 'The provider does not answer as it should. Try again in a while.', {}, { cause });

/** True for an address that anybody on the internet reaches. */
const isPublic = (address: string) => ipaddr.isValid(address) && ipaddr.process(address).range() === 'unicast';

/** What a name stands for is looked at where the connection is made: a name that means something else the second time is not asked for a second time. */
const publicOnly: LookupFunction = (host, options, done) => {
  resolve(host, { ...options, all: true }, (error, found) => {
    if (error) return done(error, '');
    const inside = found.find(({ address }) => !isPublic(address));
    if (inside) return done(refused(`${host} is ${inside.address}, which is not public`) as NodeJS.ErrnoException, '');
    if (options.all) return (done as unknown as (error: null, all: typeof found) => void)(null, found);
    const [first] = found as [(typeof found)[number]];
    done(null, first.address, first.family);
  });
};

/** An address to which a browser may be sent. @throws LintelError `address-refused` for one that is not https. */
export function browserAddress(address: string, { allowLocal = false }: FetchBounds): URL {
  let url: URL;
  try {
    url = new URL(address);
  } catch {
    throw refused(`“${address.slice(0, 200)}” is none`);
  }
  if (url.protocol !== 'https:' && !(allowLocal && url.protocol === 'http:')) throw refused(`${url.protocol.slice(0, 20)} is not https:`);
  if (url.username !== '' || url.password !== '') throw refused('it has a name or a password in it');
  return url;
}

/** An address that is asked from here. @throws LintelError `address-refused` also for what is not public. */
export function insistOnOutside(address: string, bounds: FetchBounds): URL {
  const url = browserAddress(address, bounds);
  const host = url.hostname.replace(/^\[|\]$/g, '');
  // guard no-inner-host-by-number by arrival: An inner address would be fetched by its number.
  if (!bounds.allowLocal && ipaddr.isValid(host) && !isPublic(host)) throw refused(`${host} is not public`);
  return url;
}

/** What is asked of a provider, as `fetch` takes it. */
export interface Asked {
  readonly method?: string;
  readonly headers?: Readonly<Record<string, string>>;
  readonly body?: unknown;
  readonly signal?: AbortSignal | undefined;
}

/**
 * Asks an address that a tenant has given: https, public wherever its name leads, without redirects, at most 10 seconds and a megabyte.
 *
 * @throws LintelError `address-refused`, `provider-away`.
 */
export async function guardedFetch(address: string, { method = 'GET', headers = {}, body, signal }: Asked, bounds: FetchBounds): Promise<Response> {
  const url = insistOnOutside(address, bounds);
  const bytes = body === undefined || body === null ? undefined : new Uint8Array(await new Response(body as BodyInit).arrayBuffer());
  const within = AbortSignal.any([AbortSignal.timeout(SECONDS * 1000), ...(signal ? [signal] : [])]);
  const options: RequestOptions = {
    method,
    headers: { ...headers, ...(bytes && { 'content-length': String(bytes.length) }) },
    signal: within,
    agent: false,
    // guard no-inner-host-by-name by arrival: A name that resolves to an inner address would be fetched.
    ...(!bounds.allowLocal && { lookup: publicOnly }),
  };
  return new Promise((answer, fail) => {
    const away = (why: string, cause?: unknown) => fail(cause instanceof LintelError ? cause : providerAway(new Error(`${url.host}: ${why}`, { cause })));
    const request = (url.protocol === 'https:' ? secureRequest : plainRequest)(url, options, (response) => {
      const { statusCode: status = 0 } = response;
      if (status < 200 || (status >= 300 && status < 400)) {
        response.destroy();
        return away(`it leads elsewhere (${status})`);
      }
      const parts: Uint8Array[] = [];
      let size = 0;
      response.on('data', (part: Uint8Array) => {
        size += part.length;
        parts.push(part);
        if (size <= BYTES) return;
        response.destroy();
        away(`its answer has more than ${BYTES} bytes`);
      });
      response.on('error', (cause) => away('it broke off', cause));
      response.on('end', () => {
        const type = response.headers['content-type'];
        const empty = status === 204 || status === 304;
        answer(new Response(empty ? null : new Blob(parts as Uint8Array<ArrayBuffer>[]), { status, headers: { ...(type && { 'content-type': type }) } }));
      });
    });
    request.on('error', (cause) => away(cause.message, cause));
    request.end(bytes);
  });
}
