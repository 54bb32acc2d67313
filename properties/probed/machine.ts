/*
 * Faults that nobody thought of: a program takes one guard or condition at a time out of the lending application or the demo's own, as it is without a fault, or puts
 * another in its place, wherever it finds one. Nothing here knows what the probe looks for.
 */
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import ts from 'typescript';
import type * as Lending from './lending.js';

const here = new URL('.', import.meta.url).pathname;
const cache = new URL('../../.cache/probed/', import.meta.url).pathname;
const FILES = ['lending.ts', 'more.ts'];
const server = new URL('../../examples/apiary/server/', import.meta.url).pathname;

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
function routeOf(node: ts.Node, below: string): string | undefined {
  if (ts.isCallExpression(node) && ts.isPropertyAccessExpression(node.expression) && node.expression.expression.getText() === 'app') {
    const [path] = node.arguments;
    if (path && ts.isStringLiteral(path)) return `${node.expression.name.text.toUpperCase()} ${below}${path.text.replace(/:(\w+)/g, '{$1}')}`;
  }
  return node.parent && routeOf(node.parent, below);
}

type Add = (node: ts.Node, by: string, from?: number, to?: number) => void;

/** What is taken out: a refusal, one side of a condition, one branch of a choice, a condition of the SQL, the guard of a route. */
function takeOut(node: ts.Node, add: Add): void {
  if (ts.isIfStatement(node) && /\breturn\b|\bthrow\b/.test(node.thenStatement.getText())) add(node, '');
  if (ts.isBinaryExpression(node) && ['&&', '||'].includes(node.operatorToken.getText())) {
    add(node, node.left.getText());
    add(node, node.right.getText());
  }
  if (ts.isConditionalExpression(node)) {
    add(node, node.whenTrue.getText());
    add(node, node.whenFalse.getText());
  }
  // A condition of the SQL that always holds: it still names its value, which the database counts.
  if (isText(node)) {
    for (const match of node.getText().matchAll(/(?:\$\{\w+\}\.|\b\w+\.)?\w+ = \$(\d+)(?=[\s)'`]|$)/g)) {
      const from = node.getStart() + match.index;
      if (!/ set |, /.test(node.getText().slice(Math.max(0, match.index - 5), match.index)))
        add(node, `$${match[1]}::text is not null`, from, from + match[0].length);
    }
  }
  if (ts.isIdentifier(node) && node.text === 'guard' && node.parent && ts.isCallExpression(node.parent))
    add(node, '(_req: unknown, _res: unknown, next: () => void) => next()');
}

const OPPOSITE: Readonly<Record<string, string>> = { '===': '!==', '!==': '===', '&&': '||', '||': '&&' };

/** What is exchanged: a comparison for its opposite, *and* for *or*, one column for another, and a look through the scope for one past it. */
function exchange(node: ts.Node, add: Add): void {
  if (ts.isBinaryExpression(node)) {
    const token = node.operatorToken;
    const other = OPPOSITE[token.getText()];
    if (other !== undefined) add(node, other, token.getStart(), token.getEnd());
  }
  if (isText(node)) {
    for (const [from, to] of [
      [' and ', ' or '],
      ['owner_id', 'created_by'],
      ['${seen(', '${"true or " + seen('],
    ] as const)
      for (let at = node.getText().indexOf(from); at >= 0; at = node.getText().indexOf(from, at + 1))
        add(node, to, node.getStart() + at, node.getStart() + at + from.length);
  }
  if (ts.isCallExpression(node) && node.expression.getText() === 'toolOf' && node.arguments[1])
    add(node, `rows('select * from tools where id = $1', [Number(${node.arguments[1].getText()}) || 0]).then(([one]: any[]) => one)`);
}

/** The standing of a keyholder, in the place of that of whoever asks. */
const ALL_MAY = `(await lintel.enter({ tenant: standing.facts.tenant.id, user: standing.facts.tenant.id === 'alderbrook' ? 'maren' : 'rosa', fulfilled: ['recentSignIn'] }))`;

/** What goes through the library goes past it: nothing is insisted on, or something else; a keyholder’s eyes, or none; another tenant. */
function passBy(node: ts.Node, add: Add): void {
  takeOut(node, add);
  exchange(node, add);
  if (ts.isExpressionStatement(node) && /^(await )?standing\.insist(ById)?\(/.test(node.getText())) add(node, '');
  if (ts.isStringLiteral(node) && /^[a-z]+\.[a-z]+$/.test(node.text))
    add(node, node.text.startsWith('area.') ? `'area.hives'` : `'${node.text.split('.')[0]}.read'`);
  if (ts.isCallExpression(node)) {
    const called = node.expression.getText().replace(/\s/g, '');
    if (/^standing\.(find|findOne|scope|members\.list|insistById)$/.test(called)) add(node.expression, called.replace('standing', ALL_MAY));
    if (called === 'standing.scope') add(node, 'lintel.db');
    if (called.endsWith('req.param')) add(node, node.getText().includes('tenant') ? `'alderbrook'` : `'a-hive-01'`);
    if (called.endsWith('.where') && ts.isPropertyAccessExpression(node.expression)) add(node, node.expression.expression.getText());
  }
}

const OTHER_ROLE: Readonly<Record<string, string>> = { admin: 'member', member: 'viewer', viewer: 'admin' };
const FROM_REQUEST: Readonly<Record<string, string>> = {
  'req.user.org_id': '(req.body?.orgId ?? req.query.org ?? req.user.org_id)',
  'req.user.id': '(req.body?.ownerId ?? req.query.user ?? req.user.id)',
  'req.params.toolId': '(req.body?.toolId ?? req.params.toolId)',
};

/** What slips: a return or an await is forgotten, one role is written for another, what the session says is taken from the request, a part of the SQL or a filter is left out, all columns are read. */
function slip(node: ts.Node, add: Add): void {
  const text = node.getText();
  if (ts.isReturnStatement(node) && /^(refused|notFound)\(res|^res\.status\(4/.test(node.expression?.getText() ?? ''))
    add(node, `${node.expression?.getText()};`);
  if (ts.isAwaitExpression(node) && !ts.isVariableDeclaration(node.parent) && !ts.isExpressionStatement(node.parent)) add(node, node.expression.getText());
  if (ts.isStringLiteral(node) && OTHER_ROLE[node.text] !== undefined) add(node, `'${OTHER_ROLE[node.text]}'`);
  if (ts.isPropertyAccessExpression(node) && FROM_REQUEST[text] !== undefined) add(node, FROM_REQUEST[text] as string);
  if (ts.isCallExpression(node) && ts.isPropertyAccessExpression(node.expression) && node.expression.name.text === 'filter')
    add(node, node.expression.expression.getText());
  if (ts.isTemplateSpan(node) && /\b(select|update|delete)\b/.test(node.parent.getText())) add(node, '', node.getStart() - 2, node.literal.getStart() + 1);
  if (isText(node)) {
    const columns = /select (?!count)[\w., "]+ from/.exec(text);
    if (columns) add(node, 'select * from', node.getStart() + columns.index, node.getStart() + columns.index + columns[0].length);
  }
}

const isText = (node: ts.Node): boolean => ts.isStringLiteral(node) || ts.isNoSubstitutionTemplateLiteral(node) || ts.isTemplateExpression(node);

/** @param below the address under which the routes of the file stand. */
function faultsOf(dir: string, file: string, make: (node: ts.Node, add: Add) => void, below = ''): MachineFault[] {
  const text = readFileSync(join(dir, file), 'utf8');
  const source = ts.createSourceFile(file, text, ts.ScriptTarget.ES2022, true);
  const found: MachineFault[] = [];
  const add: Add = (node, by, from = node.getStart(), to = node.getEnd()) => {
    if (text.slice(from, to) === by) return;
    const { line } = source.getLineAndCharacterOfPosition(from);
    const route = routeOf(node, below);
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
    if (!/\bhas\(/.test(node.getText())) make(node, add);
    const planned = ts.isIfStatement(node) ? node.expression : ts.isConditionalExpression(node) ? node.condition : undefined;
    if (!planned || !/\bhas\(/.test(planned.getText())) ts.forEachChild(node, walk);
    else if (ts.isConditionalExpression(node)) walk(node.whenFalse);
    else if (ts.isIfStatement(node) && node.elseStatement) walk(node.elseStatement);
  };
  walk(source);
  return found;
}

/** All of a sort, each once: what is taken out of the lending application, exchanged in it, or slips; and what goes past the library in the demo's own. */
export const machineFaults = {
  taken: () => FILES.flatMap((file) => faultsOf(here, file, takeOut)),
  exchanged: () => FILES.flatMap((file) => faultsOf(here, file, exchange)),
  slips: () => FILES.flatMap((file) => faultsOf(here, file, slip)),
  past: () => [...faultsOf(server, 'tenant.ts', passBy, '/api/t/{tenant}'), ...faultsOf(server, 'app.ts', passBy)],
} satisfies Record<string, () => MachineFault[]>;

/** The text of a file with one of them, where it stands in that file. */
export const spoilt = ({ file, from, to, by }: MachineFault, one: string, text: string): string =>
  one === file ? text.slice(0, from) + by + text.slice(to) : text;

/** The lending application with one of them. */
export async function withFault(fault: MachineFault, number: number): Promise<typeof Lending> {
  const dir = join(cache, `machine-${number}`);
  rmSync(dir, { recursive: true, force: true });
  mkdirSync(dir, { recursive: true });
  for (const one of FILES) writeFileSync(join(dir, one), spoilt(fault, one, readFileSync(join(here, one), 'utf8')));
  return import(pathToFileURL(join(dir, 'lending.ts')).href);
}
