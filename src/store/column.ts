/** What a database says of a column. */
export interface Column {
  table: string;
  schema: string;
  column: string;
  deterministic: boolean | null;
  /** Its type, by the name that the catalogue has for it; `enum` for any of these. Absent where a database keeps anything in any column. */
  type?: string;
  collation?: string | null;
  /** Places that it keeps, where that was said: of a decimal, or of a second. */
  places?: number | null;
  /** No two rows have the same in it. */
  unique: boolean;
}
