import { createQueryId, type Kysely, type OperationNode, RawNode, ValueNode } from 'kysely';
import { inTongue } from './tongue.js';

/** A node of a query among the values of a fragment. Never made from data: only what was narrowed may stand here. */
export class Embedded {
  readonly node: OperationNode;

  constructor(node: OperationNode) {
    this.node = node;
  }
}

/** A piece of SQL text with its parameters: text and values alternate, beginning and ending with text. */
export class Fragment {
  readonly texts: readonly string[];
  readonly values: readonly unknown[];

  constructor(texts: readonly string[], values: readonly unknown[]) {
    this.texts = texts;
    this.values = values;
  }

  /** As a node of a Kysely query; parameters are numbered when the whole query is compiled. */
  toNode(): RawNode {
    return RawNode.create(
      [...this.texts],
      this.values.map((value) => (value instanceof Embedded ? value.node : ValueNode.create(value))),
    );
  }

  /** As text, each value written by `mark`. */
  toText(mark: (value: unknown, index: number) => string): string {
    return this.texts.reduce((all, text, i) => (i === 0 ? text : all + mark(this.values[i - 1], i - 1) + text), '');
  }

  /** Runs it as a query of its own, past every plugin. */
  async rows<Row>(db: Kysely<any>): Promise<Row[]> {
    const executor = db.getExecutor().withoutPlugins();
    return (await executor.executeQuery<Row>(inTongue(executor.adapter, executor.compileQuery(this.toNode(), createQueryId())))).rows;
  }
}

/** Builds a fragment: parts that are fragments are joined in, everything else becomes a parameter. */
export function sqlText(strings: TemplateStringsArray, ...parts: readonly unknown[]): Fragment {
  const texts: string[] = [];
  const values: unknown[] = [];
  // The text that the next one goes on.
  let open = strings[0] as string;
  for (let i = 0; i < parts.length; i++) {
    const part = parts[i];
    if (part instanceof Fragment) open = take(part, texts, values, open);
    else {
      values.push(part);
      texts.push(open);
      open = '';
    }
    open += strings[i + 1];
  }
  texts.push(open);
  return new Fragment(texts, values);
}

/** Takes a fragment in behind an open text; answers the text that is open then. */
function take({ texts: of, values: with_ }: Fragment, texts: string[], values: unknown[], open: string): string {
  if (with_.length === 0) return open + of[0];
  texts.push(open + of[0]);
  for (let i = 1; i < of.length - 1; i++) texts.push(of[i] as string);
  for (const value of with_) values.push(value);
  return of.at(-1) as string;
}

const quoted = (part: string) => (part.includes('"') ? `"${part.replaceAll('"', '""')}"` : `"${part}"`);

/** A name, quoted; several make a path: `"hives"."id"`. */
export function name(...path: readonly string[]): Fragment {
  return new Fragment([path.map(quoted).join('.')], []);
}

/** Text as it is. Only for constants of ours. */
export function verbatim(text: string): Fragment {
  return new Fragment([text], []);
}

export function joinFragments(parts: readonly Fragment[], separator: string): Fragment {
  const texts: string[] = [];
  const values: unknown[] = [];
  let open = '';
  for (const [i, part] of parts.entries()) open = take(part, texts, values, i === 0 ? open : open + separator);
  texts.push(open);
  return new Fragment(texts, values);
}
