/*
 * Faults that nobody thought of: a program takes one guard or condition at a time out of the lending application, as it is without a fault, wherever it finds one.
 * Nothing here knows what the probe looks for.
 */
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import ts from 'typescript';
import type * as Lending from './lending.js';

const here = new URL('.', import.meta.url).pathname;
const cache = new URL('../.cache/probed/', import.meta.url).pathname;
const FILES = ['lending.ts', 'more.ts'];

export interface MachineFault {
  readonly name: string;
  /** What was there, and what is in its place. */
  readonly what: string;
  readonly file: string;
  readonly from: number;
  readonly to: number;
  readonly by: string;
  /** The route in which it stands; none: in what all routes use. */
  readonly route?: string;
}

const short = (text: string) => text.replace(/\s+/g, ' ').slice(0, 70);

/** `GET /tools/{toolId}` for `app.get('/tools/:toolId', ...)`. */
function routeOf(node: ts.Node): string | undefined {
  if (ts.isCallExpression(node) && ts.isPropertyAccessExpression(node.expression) && node.expression.expression.getText() === 'app') {
    const [path] = node.arguments;
    if (path && ts.isStringLiteral(path)) return `${node.expression.name.text.toUpperCase()} ${path.text.replace(/:(\w+)/g, '{$1}')}`;
  }
  return node.parent && routeOf(node.parent);
}

function faultsOf(file: string): MachineFault[] {
  const text = readFileSync(join(here, file), 'utf8');
  const source = ts.createSourceFile(file, text, ts.ScriptTarget.ES2022, true);
  const found: MachineFault[] = [];
  const add = (node: ts.Node, by: string, from = node.getStart(), to = node.getEnd()) => {
    const { line } = source.getLineAndCharacterOfPosition(from);
    const route = routeOf(node);
    found.push({
      name: `${file}:${line + 1}`,
      what: `${short(text.slice(from, to))} → ${short(by) || 'nothing'}`,
      file,
      from,
      to,
      by,
      ...(route && { route }),
    });
  };
  const walk = (node: ts.Node): void => {
    // What is there for the faults that people wrote is no part of the application.
    const planted = /\bhas\(/.test(node.getText());
    if (!planted && ts.isIfStatement(node) && /\breturn\b/.test(node.thenStatement.getText())) add(node, '');
    if (!planted && ts.isBinaryExpression(node) && ['&&', '||'].includes(node.operatorToken.getText())) {
      add(node, node.left.getText());
      add(node, node.right.getText());
    }
    if (!planted && ts.isConditionalExpression(node)) {
      add(node, node.whenTrue.getText());
      add(node, node.whenFalse.getText());
    }
    // A condition of the SQL that always holds: it still names its value, which the database counts.
    if (!planted && (ts.isStringLiteral(node) || ts.isNoSubstitutionTemplateLiteral(node) || ts.isTemplateExpression(node))) {
      for (const match of node.getText().matchAll(/(?:\$\{\w+\}\.|\b\w+\.)?\w+ = \$(\d+)(?=[\s)'`]|$)/g)) {
        const from = node.getStart() + match.index;
        if (!/ set |, /.test(node.getText().slice(Math.max(0, match.index - 5), match.index)))
          add(node, `$${match[1]}::text is not null`, from, from + match[0].length);
      }
    }
    if (ts.isIdentifier(node) && node.text === 'guard' && node.parent && ts.isCallExpression(node.parent))
      add(node, '(_req: unknown, _res: unknown, next: () => void) => next()');
    const planned = ts.isIfStatement(node) ? node.expression : ts.isConditionalExpression(node) ? node.condition : undefined;
    if (!planned || !/\bhas\(/.test(planned.getText())) ts.forEachChild(node, walk);
    else if (ts.isConditionalExpression(node)) walk(node.whenFalse);
    else if (ts.isIfStatement(node) && node.elseStatement) walk(node.elseStatement);
  };
  walk(source);
  return found;
}

/** All of them, each once. */
export const machineFaults = (): MachineFault[] => FILES.flatMap(faultsOf);

/** The lending application with one of them. */
export async function withFault({ file, from, to, by }: MachineFault, number: number): Promise<typeof Lending> {
  const dir = join(cache, `machine-${number}`);
  rmSync(dir, { recursive: true, force: true });
  mkdirSync(dir, { recursive: true });
  for (const one of FILES) {
    const text = readFileSync(join(here, one), 'utf8');
    writeFileSync(join(dir, one), one === file ? text.slice(0, from) + by + text.slice(to) : text);
  }
  return import(pathToFileURL(join(dir, 'lending.ts')).href);
}
