import { createQueryId, type Kysely, type OperationNode, RawNode, ValueNode } from 'kysely';

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
    const executor = db.withoutPlugins().getExecutor();
    return (await executor.executeQuery<Row>(executor.compileQuery(this.toNode(), createQueryId()))).rows;
  }
}

/** Builds a fragment: parts that are fragments are joined in, everything else becomes a parameter. */
export function sqlText(strings: TemplateStringsArray, ...parts: readonly unknown[]): Fragment {
  const texts = [strings[0] ?? ''];
  const values: unknown[] = [];
  const append = (text: string) => texts.push((texts.pop() ?? '') + text);
  parts.forEach((part, i) => {
    if (part instanceof Fragment) {
      append(part.texts[0] ?? '');
      texts.push(...part.texts.slice(1));
      values.push(...part.values);
    } else {
      values.push(part);
      texts.push('');
    }
    append(strings[i + 1] ?? '');
  });
  return new Fragment(texts, values);
}

/** A name, quoted; several make a path: `"hives"."id"`. */
export function name(...path: readonly string[]): Fragment {
  return new Fragment([path.map((part) => `"${part.replaceAll('"', '""')}"`).join('.')], []);
}

/** Text as it is. Only for constants of ours. */
export function verbatim(text: string): Fragment {
  return new Fragment([text], []);
}

export function joinFragments(parts: readonly Fragment[], separator: string): Fragment {
  return parts.reduce((all, part, i) => (i === 0 ? part : sqlText`${all}${verbatim(separator)}${part}`), verbatim(''));
}
