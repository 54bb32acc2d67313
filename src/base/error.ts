/**
 * The one base of every error that Warm Lintel throws. `code` is stable and meant for programs; the message names the
 * place, quotes the bad value and says the remedy, and is meant for people.
 */
export class LintelError<Code extends string = string> extends Error {
  override readonly name: string = 'LintelError';
  /** Stable, machine-readable cause, for example `invitation-expired`. */
  readonly code: Code;
  /** Fields that belong to the code, for example `{ invitationId }`. Never holds a secret. */
  readonly details: Readonly<Record<string, unknown>>;

  constructor(code: Code, message: string, details: Record<string, unknown> = {}, options?: ErrorOptions) {
    super(message, options);
    this.code = code;
    this.details = details;
  }
}

/** True for any error of this library, also one thrown by another copy of it. With `code`, for that cause only. */
export function isLintelError(error: unknown, code?: string): error is LintelError {
  if (!(error instanceof Error) || typeof (error as { code?: unknown }).code !== 'string') return false;
  if (typeof (error as { details?: unknown }).details !== 'object') return false;
  return code === undefined || (error as LintelError).code === code;
}
