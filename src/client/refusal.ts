/** A call that the server refused, in its words (RFC 9457). Codes are listed in the reference; two are the client's own: `no-answer` and `no-passkey`. */
export class Refusal extends Error {
  override readonly name = 'Refusal';
  /** Of HTTP; 0 where no answer came. */
  readonly status: number;
  readonly code: string;
  /** What has to be done first, of a refusal with the code `obligation-open`. */
  readonly obligation: string | undefined;
  /** What else the answer says: `seconds` to wait, of `too-fast`. */
  readonly more: Readonly<Record<string, unknown>>;

  constructor(status: number, code: string, words: string, more: Readonly<Record<string, unknown>> = {}) {
    super(words);
    this.status = status;
    this.code = code;
    this.obligation = typeof more.obligation === 'string' ? more.obligation : undefined;
    this.more = more;
  }
}
