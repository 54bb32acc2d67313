/** A step of the library's tables, which is run once in each database. */
export interface Migration {
  /** It begins with its number, by which steps follow each other. */
  readonly name: string;
  readonly sql: string;
}
