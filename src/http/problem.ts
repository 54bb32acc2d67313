import { isLintelError } from '../base/index.js';
import { obligationOf } from '../standing/index.js';

/** Problem details, as RFC 9457 section 3 has them. `code` is ours: stable, for programs. */
export interface Problem {
  readonly type: 'about:blank';
  readonly title: string;
  readonly status: number;
  readonly detail: string;
  readonly code: string;
  /** What has to be done first, where the code is `obligation-open`. */
  readonly obligation?: string;
}

const STATUS: Readonly<Record<string, number>> = {
  'not-found': 404,
  'no-platform': 404,
  refused: 403,
  'obligation-open': 403,
  'guarded-field': 403,
  'write-out-of-reach': 403,
  'beyond-power': 403,
  'own-power': 403,
  'only-a-look': 403,
  'not-for-trial': 403,
  'trial-too-long': 503,
  'other-domain': 403,
  'look-over': 410,
  'care-over': 410,
  'link-invalid': 410,
  apart: 409,
  'one-role': 409,
  'proposal-stale': 409,
  'changed-meanwhile': 412,
  'key-reused': 422,
  'too-large': 413,
  'too-fast': 429,
  'key-invalid': 401,
  'sign-in-failed': 401,
  'no-account': 401,
  'invitation-used': 410,
  'invitation-expired': 410,
  'invitation-withdrawn': 410,
  'invitation-declined': 410,
  'invitation-void': 410,
  'activation-void': 410,
  'activation-invalid': 410,
  'kept-account': 403,
  'not-kept': 403,
  'demand-unmet': 409,
  'attribute-not-yours': 403,
  'invitation-invalid': 404,
  'other-address': 409,
  'already-member': 409,
  'no-seat': 409,
  'last-keyholder': 409,
  'allowed-already': 409,
  'no-appeal': 409,
  'not-met': 409,
  'people-only': 403,
  deactivated: 403,
  'session-bound': 403,
  'prove-first': 403,
  'code-needed': 403,
  'factor-exists': 409,
  'link-needed': 403,
  'not-admitted': 403,
  'removed-here': 403,
  'rules-alone': 409,
  'in-rules': 409,
  'identity-taken': 409,
  'directory-taken': 409,
  'not-tried': 409,
  'domain-not-shown': 409,
  'domain-held': 409,
  'other-connection': 409,
  'claims-too-large': 413,
  'last-way-in': 409,
  'sign-up-closed': 403,
  'terms-changed': 409,
  'too-many-appeals': 429,
  'address-taken': 409,
  'tenant-exists': 409,
  'mail-failed': 502,
  'provider-away': 502,
  'sign-on-failed': 401,
  'no-mailer': 503,
  'try-again': 503,
  'database-away': 503,
  'place-away': 503,
  'still-leaving': 409,
};
const TITLES: Readonly<Record<number, string>> = {
  400: 'Bad Request',
  401: 'Unauthorized',
  403: 'Forbidden',
  404: 'Not Found',
  409: 'Conflict',
  410: 'Gone',
  412: 'Precondition Failed',
  413: 'Content Too Large',
  422: 'Unprocessable Content',
  429: 'Too Many Requests',
  500: 'Internal Server Error',
  502: 'Bad Gateway',
  503: 'Service Unavailable',
};

/** Codes that tell a developer of a mistake in the code: they are nobody else's business. */
const OURS = new Set([
  'charter-invalid',
  'charter-mismatch',
  'schema-mismatch',
  'scope-refused',
  'unknown-table',
  'unknown-column',
  'unknown-action',
  'record-mismatch',
  'not-specialised',
  'option-missing',
  'no-policies',
  'one-connection',
  'no-place',
  'other-place',
  'several-places',
]);

/**
 * What an error says to the person who asked: its words and code, never a stack, a trace of the decision or a cause. What is
 * hidden reads like what is missing, byte for byte. An error that is not of this library says nothing at all.
 */
export function problemOf(error: unknown): Problem {
  if (!isLintelError(error) || OURS.has(error.code)) {
    return { type: 'about:blank', title: 'Internal Server Error', status: 500, detail: 'Something went wrong here. Nothing was changed.', code: 'internal' };
  }
  const status = STATUS[error.code] ?? 400;
  const obligation = obligationOf(error);
  return { type: 'about:blank', title: TITLES[status] ?? '', status, detail: error.message, code: error.code, ...(obligation !== undefined && { obligation }) };
}

/** The same as a response. */
export function problemResponse(error: unknown): Response {
  const problem = problemOf(error);
  const seconds = isLintelError(error) && problem.status === 429 ? String(error.details.seconds ?? 60) : undefined;
  return new Response(JSON.stringify(problem), {
    status: problem.status,
    headers: { 'content-type': 'application/problem+json', 'cache-control': 'no-store', ...(seconds && { 'retry-after': seconds }) },
  });
}
