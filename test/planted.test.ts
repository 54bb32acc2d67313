/* Errors that are planted in a copy of the sources: the comparison of engines has to find each of them. */
import { execFile } from 'node:child_process';
import { cpSync, mkdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, inject, test } from 'vitest';

const run = promisify(execFile);
const root = new URL('..', import.meta.url).pathname;
const cache = join(root, '.cache', 'planted');

type Planted = readonly [what: string, file: string, from: string, to: string];

/** What is done wrong, in which file: this text becomes that. */
const PLANTED: readonly Planted[] = [
  [
    'a tenant condition is dropped',
    'scoping/boundary.ts',
    'sqlText`${this.writer.column(shape, shape.tenantField, alias)} = ${this.standing.facts.tenant.id}`',
    "verbatim('true')",
  ],
  ['an and becomes an or', 'scoping/writer.ts', "(p.op === 'and') === wanted ? ' and ' : ' or '", "' or '"],
  [
    'what is empty is let through',
    'scoping/writer.ts',
    'return wanted ? yes : sqlText`(${yes}) is not true`',
    'return wanted ? sqlText`(${yes}) is not false` : sqlText`(${yes}) is not true`',
  ],
  [
    'the record as it becomes is forgotten',
    'scoping/write.ts',
    'if (owner === undefined) return [...values, this.#reaches(action as string)];',
    'if (owner === undefined) return values;',
  ],
  [
    'an alias is forgotten',
    'scoping/writer.ts',
    '= ${this.column(kind, kind.tenantField, alias)} and `',
    '= ${name((kind.fields[kind.tenantField] as FieldShape).column)} and `',
  ],
  ['a missing fact counts for the person', 'predicate/specialise.ts', "bias === 'shrink' ? NEVER : ALWAYS", 'ALWAYS'],
];

/** Further ones, for the long run. */
const FURTHER: readonly Planted[] = [
  [
    'what is empty is lost in a negation',
    'scoping/writer.ts',
    'return wanted ? yes : sqlText`(${yes}) is not true`',
    'return wanted ? yes : sqlText`not (${yes})`',
  ],
  [
    'a parent is sought in every tenant',
    'scoping/writer.ts',
    'sqlText`${this.column(parent, parent.tenantField, inner)} = ${this.column(kind, kind.tenantField, alias)} and `',
    "verbatim('')",
  ],
  ['a mask is forgotten', 'scoping/boundary.ts', 'return shows === undefined ? column : sqlText`case when ${shows} then ${column} end`', 'return column'],
  ['a written parent is not looked for', 'scoping/write.ts', "if (role === 'parent') {", "if (role === 'parent' && sign === '') {"],
  [
    'an anchor is ignored',
    'standing/grants.ts',
    "if (anchor.on === 'tenant') return { op: 'always' };",
    "if (anchor.on !== 'record') return { op: 'always' };",
  ],
  ['what is read after a write is not narrowed', 'scoping/boundary.ts', "where ${this.reached(kind, 'read', 't')})`", 'where true)`'],
];

let url = '';
beforeAll(() => {
  url = inject('postgres');
  rmSync(cache, { recursive: true, force: true });
});
afterAll(() => rmSync(cache, { recursive: true, force: true }));

/** Compares engines on a copy of the sources with one thing changed; answers what it prints. */
async function compareWith(number: number, [what, file, from, to]: Planted): Promise<string> {
  const copy = join(cache, String(number));
  mkdirSync(copy, { recursive: true });
  for (const part of ['src', 'agree', 'package.json', 'tsconfig.json', 'test/setup.ts', 'test/chromium.ts'])
    cpSync(join(root, part), join(copy, part), { recursive: true });
  symlinkSync(join(root, 'node_modules'), join(copy, 'node_modules'));
  const place = join(copy, 'src', file);
  const source = readFileSync(place, 'utf8');
  if (source.split(from).length !== 2) throw new Error(`${what}: the text to be changed is not in ${file} once`);
  writeFileSync(
    place,
    source.replace(from, () => to),
  );
  const args = ['--conditions=warm-lintel-source', '--import', 'tsx', 'agree/run.ts', '--cases', '600', '--seed', '5', '--postgres', url, '--as-found'];
  const done = await run(process.execPath, args, { cwd: copy, timeout: 120_000 }).catch((error: { stdout?: string; stderr?: string }) => error);
  return `${done.stdout ?? ''}${done.stderr ?? ''}`;
}

const planted = process.env.LINTEL_LONG ? [...PLANTED, ...FURTHER] : PLANTED;
test.concurrent.for(planted.map((one, i) => [one[0], i] as const))('%s: found', { timeout: 120_000 }, async ([, i], { expect: expectHere }) => {
  expectHere(await compareWith(i, planted[i] as Planted)).toContain('a disagreement within');
});
