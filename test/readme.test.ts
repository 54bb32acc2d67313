import { execFileSync } from 'node:child_process';
import { mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { expect, test } from 'vitest';

const readme = readFileSync('README.md', 'utf8');

test('the example of the README prints what the README says', () => {
  const code = /```ts\n([\s\S]*?)```/.exec(readme)?.[1] ?? '';
  const printed = /```text\n([\s\S]*?)```/.exec(readme)?.[1];
  expect(code.split('\n').length).toBeLessThan(45);
  const dir = 'examples/apiary/.cache';
  mkdirSync(dir, { recursive: true });
  const file = `${dir}/readme-${process.pid}.ts`;
  writeFileSync(file, `${code}\nprocess.exit(0);\n`);
  try {
    expect(execFileSync(process.execPath, ['--conditions=warm-lintel-source', '--import', 'tsx', file], { encoding: 'utf8' })).toBe(printed);
  } finally {
    rmSync(file);
  }
});

test('the tour holds at each step and stays a story of under sixty lines', () => {
  const out = execFileSync(process.execPath, ['--conditions=warm-lintel-source', '--import', 'tsx', 'examples/tour/tour.ts'], { encoding: 'utf8' });
  expect(out).toContain('There is no such hive.');
  expect(out).toContain('Bent Ravn may not change a hive: Birch hive (hive-1)');
});

test('every picture that is kept is shown, and every one that is shown is kept', () => {
  const kept = readdirSync('docs/screenshots').sort();
  const shown = [...readme.matchAll(/docs\/screenshots\/([\w-]+\.png)/g)].map((m) => m[1]).sort();
  expect(shown).toEqual(kept);
});
