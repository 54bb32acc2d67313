/*
 * Guards are marked where they stand, by a line in front of what guards:
 *
 *   // guard some-name by attack: A sentence that says what falls without it.
 *
 * `by` names the check that must notice when the guard is gone. What follows is taken out: a statement, or the `.call()` of a chain. Where only a part of it guards, a
 * comment in front of the part says so, and the part is taken out: a side of `&&`, `||` or `??`, a branch of a choice, an argument, an element, a property, a piece of
 * a template, what stands in an object. The same comment, or a line of it, marks further places of the guard; all change together.
 *
 *   if (isOver || /* guard some-name *\/ isElsewhere) throw ...
 *
 * A word in brackets behind the name says otherwise: `(negated)` negates an expression, or the condition of an `if`; `(unwrapped)` leaves of a call its last argument;
 * `(replaced)` puts the function of that name in `replacements.ts` around an expression.
 */
import { readdirSync, readFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import ts from 'typescript';

export const SOURCES = new URL('../../src/', import.meta.url).pathname;

type Way = 'taken out' | 'negated' | 'unwrapped' | 'replaced';

export interface GuardMark {
  readonly name: string;
  /** The check that must notice, and what falls without the guard; undefined at all places of a guard but one. */
  readonly says: { readonly check: string; readonly sentence: string } | undefined;
  readonly way: Way;
  /** Relative to the sources. */
  readonly file: string;
  readonly line: number;
}

interface Edit {
  readonly from: number;
  readonly to: number;
  readonly by: string;
}

interface Found {
  readonly mark: GuardMark;
  readonly isLine: boolean;
  /** What follows the mark. */
  readonly within: ts.Node;
  readonly edit: (mark: GuardMark) => Edit | undefined;
}

/** A mark with the change that it stands for; none for one that only says of which guard a part is marked. */
interface Placed {
  readonly mark: GuardMark;
  readonly edit: Edit | undefined;
}

const MARK = /^(?:\/\/|\/\*)\s*guard ([a-z0-9-]+)(?: \((negated|unwrapped|replaced)\))?(?: by ([a-z-]+): (.+?))?\s*(?:\*\/)?$/;

function commentsBefore(text: string, at: number): readonly ts.CommentRange[] {
  return [...(ts.getTrailingCommentRanges(text, at) ?? []), ...(ts.getLeadingCommentRanges(text, at) ?? [])];
}

/** What a side of a condition is when it says nothing. */
const NEUTRAL: Readonly<Partial<Record<ts.SyntaxKind, string>>> = {
  [ts.SyntaxKind.AmpersandAmpersandToken]: 'true',
  [ts.SyntaxKind.BarBarToken]: 'false',
  [ts.SyntaxKind.QuestionQuestionToken]: 'undefined',
};
const isLogical = (node: ts.Node): node is ts.BinaryExpression => ts.isBinaryExpression(node) && NEUTRAL[node.operatorToken.kind] !== undefined;

/** An element of a list with the comma behind it. A comma that is left at the end of a list means nothing. */
function elementEdit(list: ts.NodeArray<ts.Node>, node: ts.Node): Edit {
  const next = list[list.indexOf(node) + 1];
  return { from: node.getStart(), to: next ? next.getStart() : list.hasTrailingComma ? list.end : node.getEnd(), by: '' };
}

const whole = (node: ts.Node, by: string): Edit => ({ from: node.getStart(), to: node.getEnd(), by });

/** How a node is taken out where it stands; undefined where the language needs something there. */
function removal(node: ts.Node): Edit | undefined {
  const { parent } = node;
  if (ts.isStatement(node) && !ts.isVariableStatement(node)) {
    // The condition is not worked out, and what comes else is done.
    return whole(node, ts.isIfStatement(node) && node.elseStatement ? node.elseStatement.getText() : ';');
  }
  if (isLogical(parent)) return whole(node, NEUTRAL[parent.operatorToken.kind] as string);
  if (ts.isConditionalExpression(parent) && node !== parent.condition) {
    return whole(parent, (node === parent.whenTrue ? parent.whenFalse : parent.whenTrue).getText());
  }
  if ((ts.isCallExpression(parent) || ts.isNewExpression(parent)) && parent.arguments && node !== parent.expression) return elementEdit(parent.arguments, node);
  if (ts.isArrayLiteralExpression(parent)) return elementEdit(parent.elements, node);
  if (ts.isObjectLiteralExpression(parent)) return elementEdit(parent.properties, node);
  const literal = ts.isParenthesizedExpression(node) ? node.expression : node;
  if (ts.isObjectLiteralExpression(literal)) return whole(node, '({})');
  if (ts.isTemplateSpan(parent)) return { from: parent.getFullStart() - 2, to: parent.literal.getStart() + 1, by: '' };
  return undefined;
}

/** The nodes that begin where a node begins, from the outside in. */
function beginningWith(node: ts.Node): ts.Node[] {
  const first = ts.forEachChild(node, (child) => (child.getStart() === node.getStart() ? child : undefined));
  return first ? [node, ...beginningWith(first)] : [node];
}

/** The innermost side of a row of conditions that begins with a node: its first. */
const firstSide = (node: ts.Node): ts.Node => (isLogical(node) ? firstSide(node.left) : node);

const hasAwait = (node: ts.Node): boolean => ts.isAwaitExpression(node) || (!ts.isFunctionLike(node) && (ts.forEachChild(node, hasAwait) ?? false));

function editOf(node: ts.Node, way: Way, name: string): Edit | undefined {
  if (way === 'taken out') return removal(node) ?? (isLogical(node) ? removal(firstSide(node)) : undefined);
  if (way === 'unwrapped') {
    const call = beginningWith(node).find(ts.isCallExpression);
    return call?.arguments.length ? whole(call, call.arguments.at(-1)?.getText() as string) : undefined;
  }
  const of = ts.isIfStatement(node) ? node.expression : ts.isExpression(node) ? node : undefined;
  if (!of) return undefined;
  if (way === 'negated') return whole(of, `!(${of.getText()})`);
  const replace = `(globalThis as any).lintelReplacements[${JSON.stringify(name)}]`;
  return whole(of, hasAwait(of) ? `((made: any) => ${replace}(() => made))(${of.getText()})` : `${replace}(() => (${of.getText()}))`);
}

/** By text: many guards are taken out of one file. */
const read = new Map<string, readonly Placed[]>();

function placed(file: string, text: string): readonly Placed[] {
  if (!text.includes('guard ')) return [];
  const known = read.get(text) ?? readMarks(file, text);
  read.set(text, known);
  return known;
}

/** The marks of a file, each with the change that it stands for. */
function readMarks(file: string, text: string): Placed[] {
  const source = ts.createSourceFile(file, text, ts.ScriptTarget.ES2022, true, file.endsWith('x') ? ts.ScriptKind.TSX : ts.ScriptKind.TS);
  const found = new Map<number, Found>();
  const look = (at: number, until: number, within: ts.Node, edit: Found['edit']): void => {
    for (const comment of commentsBefore(text, at)) {
      if (comment.end > until || found.has(comment.pos)) continue;
      const [, name, word, check, sentence] = MARK.exec(text.slice(comment.pos, comment.end)) ?? [];
      if (name === undefined) continue;
      const line = source.getLineAndCharacterOfPosition(comment.pos).line + 1;
      const says = check === undefined || sentence === undefined ? undefined : { check, sentence };
      found.set(comment.pos, { mark: { name, says, way: (word ?? 'taken out') as Way, file, line }, isLine: text.startsWith('//', comment.pos), within, edit });
    }
  };
  const walk = (node: ts.Node): void => {
    if (ts.isPropertyAccessExpression(node) && ts.isCallExpression(node.parent) && node.parent.expression === node) {
      const call = node.parent;
      look(node.expression.getEnd(), node.name.getStart(), call, () => ({ from: node.expression.getEnd(), to: call.getEnd(), by: '' }));
    }
    if (node !== source && !ts.isTemplateSpan(node)) look(node.getFullStart(), node.getStart(), node, ({ way, name }) => editOf(node, way, name));
    ts.forEachChild(node, walk);
  };
  walk(source);
  return [...found].map(([at, { mark, within, edit }]): Placed => {
    // What a sentence stands in front of is only where its guard is, if a part of that is marked.
    const isIn = (other: number) => other > at && other < within.getEnd();
    const hasPart = mark.says !== undefined && [...found].some(([other, one]) => !one.isLine && one.mark.name === mark.name && isIn(other));
    const done = hasPart ? undefined : edit(mark);
    if (!hasPart && !done) throw new Error(`${file}:${mark.line}: what follows the guard ${mark.name} cannot be ${mark.way}`);
    return { mark, edit: done };
  });
}

export const marksIn = (file: string, text: string): GuardMark[] => placed(file, text).map(({ mark }) => mark);

/** The text of a file without these guards; the text itself where it has none of them. */
export function withoutGuards(file: string, text: string, names: ReadonlySet<string>): string {
  const edits = placed(file, text)
    .flatMap(({ mark, edit }) => (edit && names.has(mark.name) ? [edit] : []))
    .sort((a, b) => b.from - a.from);
  let [changed, last] = [text, Number.POSITIVE_INFINITY];
  for (const { from, to, by } of edits) {
    // What lies within something that is taken out is gone with it.
    if (to > last) throw new Error(`${file}: two guards of one name overlap`);
    changed = changed.slice(0, from) + by + changed.slice(to);
    last = from;
  }
  return changed;
}

/** All marks in the sources, by file and line. */
export function allMarks(root = SOURCES): GuardMark[] {
  const files = readdirSync(root, { recursive: true, encoding: 'utf8' }).filter((file) => /\.tsx?$/.test(file));
  return files.sort().flatMap((file) => marksIn(relative(root, join(root, file)), readFileSync(join(root, file), 'utf8')));
}
