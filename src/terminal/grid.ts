import Table from 'cli-table3';
import pc from 'picocolors';

/** Colours of a terminal, or none. */
export type Colours = ReturnType<typeof pc.createColors>;

/** Without any colour, for a file or a pipe. */
export const plain: Colours = pc.createColors(false);

/** Columns of a terminal of which nothing is known. */
const USUAL_WIDTH = 160;
/** Between two columns. */
const GAP = 2;
/** No column is made narrower for others. */
const LEAST = 12;

const LINES = [
  'top',
  'top-mid',
  'top-left',
  'top-right',
  'bottom',
  'bottom-mid',
  'bottom-left',
  'bottom-right',
  'left',
  'left-mid',
  'mid',
  'mid-mid',
  'right',
  'right-mid',
  'middle',
];
const NO_LINES = Object.fromEntries(LINES.map((part) => [part, '']));

// biome-ignore lint/suspicious/noControlCharactersInRegex: colours of a terminal are such
const bare = (text: string) => text.replace(/\u001b\[\d+m/g, '');
const widest = (texts: readonly string[]) => Math.max(0, ...texts.map((text) => bare(text).length));

/** Columns as wide as what is in them; where the line is too short, the widest give way. */
function narrowed(natural: readonly number[], width: number): number[] {
  const widths = [...natural];
  for (let over = widths.reduce((a, b) => a + b, 0) - width; over > 0; over--) {
    const at = widths.indexOf(Math.max(...widths));
    if ((widths[at] as number) <= LEAST) break;
    widths[at] = (widths[at] as number) - 1;
  }
  return widths;
}

export interface GridOptions {
  /** Columns of the terminal; default 160. */
  readonly width?: number;
  readonly colours?: Colours;
  /** Of the columns, where they are not to follow what is in them. */
  readonly widths?: readonly number[];
}

/** A table for a terminal: no lines, columns that stand apart, what is too long broken. All tables of the command are of this one style. */
export function grid(
  head: readonly string[],
  rows: readonly (readonly string[])[],
  { width = USUAL_WIDTH, colours = plain, widths: given }: GridOptions = {},
): string {
  const natural = head.map((title, i) => widest([title, ...rows.flatMap((row) => (row[i] ?? '').split('\n'))]) + (i < head.length - 1 ? GAP : 0));
  const widths = given ?? narrowed(natural, width);
  // A word that is longer than its column could only be cut off: then lines are broken anywhere.
  const isTooLong = widths.some((one, i) => widest(rows.flatMap((row) => (row[i] ?? '').split(/\s+/))) > one - GAP);
  const table = new Table({
    chars: NO_LINES,
    style: { head: [], border: [], 'padding-left': 0, 'padding-right': GAP },
    head: head.map((title) => (title === '' ? '' : colours.underline(title))),
    colWidths: widths.map((one, i) => one + (i === widths.length - 1 ? GAP : 0)),
    wordWrap: true,
    wrapOnWordBoundary: !isTooLong,
  });
  table.push(...rows.map((row) => [...row]));
  return table.toString().replace(/ +$/gm, '');
}
