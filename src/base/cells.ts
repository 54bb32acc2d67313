/** What a spreadsheet would take for a formula, or for the mark by which a cell is none. */
const FORMULA = /^['=+\-@\t\r]/;
/** What parts several in one cell, or is lost at its edge, cannot be said in one. */
export const isSayable = (text: string) => !/[;|]/.test(text) && text === text.trim() && text !== '';
/** Makes a cell that no spreadsheet runs; {@link plainCell} takes it back. */
export const safeCell = (text: string) => (FORMULA.test(text) ? `'${text}` : text);
export const plainCell = (text: string) => (text.startsWith("'") && FORMULA.test(text.slice(1)) ? text.slice(1) : text);
