/* Prints every sentence that people read: errors, words of decisions, findings, help. `npm run messages` */
import { readdirSync, readFileSync } from 'node:fs';
import ts from 'typescript';
import { commands } from '../src/cli/program.js';
import { ENGLISH } from '../src/index.js';
import { PROBE_CODES, REVIEW_CODES, TENANT_CODES } from '../src/rehearsal/index.js';

/** Calls whose text somebody reads, with which of what they are given it is. */
const SAID: Readonly<Record<string, number>> = { LintelError: 1, refuse: 1, Refusal: 2, report: 1, say: 1 };

const texts: string[] = [];
for (const file of readdirSync('src', { recursive: true, encoding: 'utf8' })
  .filter((name) => /\.tsx?$/.test(name))
  .sort()) {
  const source = ts.createSourceFile(file, readFileSync(`src/${file}`, 'utf8'), ts.ScriptTarget.Latest, true);
  const visit = (node: ts.Node): void => {
    if ((ts.isCallExpression(node) || ts.isNewExpression(node)) && node.arguments) {
      const name = ts.isPropertyAccessExpression(node.expression) ? node.expression.name.text : node.expression.getText();
      const words = SAID[name] === undefined ? undefined : node.arguments[SAID[name]];
      if (words && /['"`]/.test(words.getText()))
        texts.push(
          `${file}:${source.getLineAndCharacterOfPosition(node.getStart()).line + 1}  ${node.arguments[0]?.getText().slice(0, 40)}  ${words.getText().replace(/\s+/g, ' ')}`,
        );
    }
    ts.forEachChild(node, visit);
  };
  visit(source);
}
console.log(texts.join('\n'));
for (const [name, words] of Object.entries(ENGLISH)) console.log(`words  ${name}  ${String(words).replace(/\s+/g, ' ')}`);
for (const [name, { why, remedy }] of Object.entries({ ...REVIEW_CODES, ...TENANT_CODES, ...PROBE_CODES })) console.log(`finding  ${name}  ${why} ${remedy}`);
for (const one of commands({ cwd: '', out: () => {}, err: () => {}, colours: false, width: 100 }, () => {}).commands) {
  console.log(`help  ${one.name()}  ${one.description()}`);
  for (const option of one.options) console.log(`help  ${one.name()} ${option.flags}  ${option.description}`);
}
