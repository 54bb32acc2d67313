import { LintelError } from '../../base/index.js';

/** Kinds of mistakes (RFC 7644, section 3.12). */
type ScimType = 'invalidFilter' | 'tooMany' | 'uniqueness' | 'mutability' | 'invalidSyntax' | 'invalidPath' | 'noTarget' | 'invalidValue';

/** What a directory asked cannot be done, as SCIM says it. */
export class ScimError extends LintelError {
  readonly status: number;
  readonly scimType: ScimType | undefined;

  constructor(status: number, words: string, scimType?: ScimType) {
    super(`scim-${scimType ?? status}`, words, {});
    this.status = status;
    this.scimType = scimType;
  }
}

export const badValue = (words: string) => new ScimError(400, words, 'invalidValue');
export const badSyntax = (words: string) => new ScimError(400, words, 'invalidSyntax');
export const badPath = (words: string) => new ScimError(400, words, 'invalidPath');
