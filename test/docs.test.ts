/* The examples of the pages in docs, run in the order in which they stand there, print what the page says. */
import { readdirSync, readFileSync } from 'node:fs';
import { formatWithOptions } from 'node:util';
import { transformSync } from 'esbuild';
import pg from 'pg';
import { expect, test } from 'vitest';
import { LintelError } from 'warm-lintel';
import { problemOf } from 'warm-lintel/http';
import { connect } from 'warm-lintel/server';
import { engineTable } from '../scripts/engines.js';
import { operationsOf } from '../src/charter/operations.js';
import { commands } from '../src/cli/program.js';
import { ROUTES } from '../src/http/routes.js';
import { HANDLERS } from '../src/membership/carrying/run.js';
import { LONG } from './long.js';
import { apiaryOnPostgres } from './worlds.js';

/** Pages with examples that run. */
const PAGES = ['guide', 'reference']
  .flatMap((folder) => readdirSync(`docs/${folder}`).map((name) => `${folder}/${name}`))
  .filter((name) => name.endsWith('.md') && readFileSync(`docs/${name}`, 'utf8').includes('```ts\n'))
  .map((name) => name.replace('.md', ''))
  // Every second page; all in the long run. The probe tries a whole application on its page.
  .filter((name, i) => LONG || (i % 2 === 0 && name !== 'guide/18-probe'));

test.for(PAGES)('each example of docs/%s.md prints what stands below it', async (name) => {
  const page = readFileSync(`docs/${name}.md`, 'utf8');
  const blocks = [...page.matchAll(/```ts\n([\s\S]*?)```\n\n```text\n([\s\S]*?)```/g)];
  expect(blocks.length).toBe([...page.matchAll(/```ts\n/g)].length);
  const { lintel, db, url } = await apiaryOnPostgres({}, 'docs_app');
  const pool = new pg.Pool({ connectionString: url.replace('lintel@', 'docs_app@'), max: 1 });
  const app = connect<any>(pool);
  const printed: string[] = [];
  const console = { log: (...parts: unknown[]) => printed.push(formatWithOptions({ colors: false }, ...(parts as [unknown]))) };
  // One function of all examples: what an earlier one names, a later one uses. `shown` tells them apart.
  const loaded = (block = '') =>
    block
      .replace(/^import (\{.+\}) from '(.+)';$/gm, "const $1 = await load('$2');")
      .replace(/^import (\w+) from '(.+)';$/gm, "const { default: $1 } = await load('$2');");
  const code = blocks.map(([, block], i) => `${loaded(block)}\nshown(${i});`).join('\n');
  const outputs: string[] = [];
  const shown = () => {
    outputs.push(printed.join('\n'));
    printed.length = 0;
  };
  const plain = transformSync(`async function run() {\n${code}\n}`, { loader: 'ts' }).code;
  const run = new Function('lintel', 'app', 'pool', 'console', 'shown', 'load', `${plain}\nreturn run();`) as (...of: unknown[]) => Promise<void>;
  await run(lintel, app, pool, console, shown, (module: string) => import(module));
  expect(outputs).toEqual(blocks.map(([, , output]) => (output as string).trimEnd()));
  await app.destroy();
  await db.destroy();
});

test('every code of an error has its line in docs/reference/errors.md, and its status over HTTP', () => {
  const sources = readdirSync('src', { recursive: true, encoding: 'utf8' }).filter((name) => /\.tsx?$/.test(name));
  const text = sources.map((name) => readFileSync(`src/${name}`, 'utf8')).join('\n');
  const thrown = [...text.matchAll(/(?:LintelError|refuse)\(\s*'([a-z-]+)'/g)].map(([, code]) => code as string);
  const lines = [...readFileSync('docs/reference/errors.md', 'utf8').matchAll(/^\| `([a-z-]+)` \| (\d+|–) \| .+ \| .+ \|$/gm)];
  const told = new Map(lines.map(([, code, status]) => [code as string, status]));
  expect(thrown.filter((code) => !told.has(code))).toEqual([]);
  // Some are put together: `${of}-invalid`, `unknown-${what}`.
  const made = (code: string) => text.includes(`'${code}'`) || /^(role-invalid|unknown-kind)$/.test(code);
  expect([...told.keys()].filter((code) => !made(code) && !code.startsWith('invitation-'))).toEqual([]);
  for (const [code, status] of told) if (status !== '–') expect([code, problemOf(new LintelError(code, '', {})).status]).toEqual([code, Number(status)]);
});

test('whatever can stand in a charter has its line in docs/reference/charter.md', () => {
  const page = readFileSync('docs/reference/charter.md', 'utf8').replace(/```[\s\S]*?```/g, '');
  const of = (file: string, pattern: RegExp) => [...readFileSync(`src/${file}`, 'utf8').matchAll(pattern)].map(([, name]) => name as string);
  const names = [
    ...of('charter/field.ts', /^export function (\w+)/gm),
    ...of('charter/field.ts', /^ {2}readonly (\w+)\??:/gm),
    ...of('charter/data.ts', /^ {2}readonly (\w+)\??:/gm),
    ...of('predicate/build.ts', /^ {2}(?:readonly )?(\w+)(?:\(other: Comp|\(list: r|\(units: F|\(groups: F|\(person: C|\(\): P|: Parent)/gm),
    ...of('charter/operations.ts', /^ {2}'([a-z.]+)':/gm),
  ];
  expect(names.length).toBeGreaterThan(80);
  expect([...new Set(names)].filter((name) => !page.includes(`\`${name}\``) && !page.includes(`\`${name}: `) && !/^(kinds|roles|areas)$/.test(name))).toEqual(
    [],
  );
});

test('every export, step, operation, permission, hook, command and option has its line in the reference', () => {
  const read = (name: string) => readFileSync(`docs/reference/${name}.md`, 'utf8');
  const without = (page: string, names: readonly string[]) => names.filter((name) => !page.includes(name)).map((name) => `${page.split('\n')[0]}: ${name}`);
  const { exports } = JSON.parse(readFileSync('package.json', 'utf8')) as { exports: Record<string, any> };
  const missing: string[] = [];
  let counted = 0;
  for (const [entry, at] of Object.entries(exports)) {
    const file = at['warm-lintel-source']?.default as string | undefined;
    if (file === undefined) continue;
    const names = [...readFileSync(file, 'utf8').matchAll(/^export (?:type )?\{([\s\S]*?)\}/gm)].flatMap(([, list]) =>
      (list as string).split(',').flatMap(
        (one) =>
          one
            .trim()
            .replace(/^type /, '')
            .split(' as ')
            .at(-1) || [],
      ),
    );
    counted += names.length;
    const page = read(`api/${entry === '.' ? 'index' : entry.slice(2)}`).replaceAll('\\_', '_');
    missing.push(...names.filter((name) => !new RegExp(`^#+ (?:~~)?${name}\\b`, 'm').test(page)).map((name) => `${entry}: ${name}`));
  }
  expect(counted).toBeGreaterThan(300);
  missing.push(
    ...without(
      read('steps'),
      Object.keys(HANDLERS).map((name) => `| \`${name}\` |`),
    ),
  );
  missing.push(
    ...without(
      read('http'),
      Object.keys(ROUTES).map((name) => `| \`${name}\` |`),
    ),
  );
  missing.push(
    ...without(
      read('permissions'),
      Object.keys(operationsOf(true)).map((name) => `| \`${name}\` |`),
    ),
  );
  const hooks = [...readFileSync('src/react/index.ts', 'utf8').matchAll(/\b(use[A-Z]\w+)/g)].map(([, name]) => name as string);
  const guide = ['react', '06-second-factor'].map((name) => readFileSync(`docs/guide/${name}.md`, 'utf8')).join('\n');
  missing.push(...hooks.filter((name) => !guide.includes(name)).map((name) => `guide: ${name}`));
  const commandsPage = read('commands');
  for (const one of commands({ cwd: '', out: () => {}, err: () => {}, colours: false, width: 100 }, () => {}).commands) {
    const part = commandsPage.split(/^## /m).find((text) => text.startsWith(`${one.name()}\n`)) ?? '';
    missing.push(
      ...one.options.filter(({ flags, description }) => !part.includes(`\`${flags}\``) || description === '').map(({ flags }) => `${one.name()} ${flags}`),
    );
  }
  expect(missing).toEqual([]);
});

test('what the page on databases says of each is what the code has', () => {
  expect(readFileSync('docs/guide/databases.md', 'utf8')).toContain(engineTable());
});
