import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
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

test('no link of a page leads nowhere, in the repository or in the package', () => {
  const { files } = JSON.parse(readFileSync('package.json', 'utf8')) as { files: string[] };
  const packed = (place: string) => [...files, 'README.md', 'LICENSE'].some((one) => place === one || place.startsWith(`${one}/`));
  const pages = ['README.md', 'CHANGELOG.md', 'CONTRIBUTING.md', ...readdirSync('docs', { recursive: true, encoding: 'utf8' }).map((name) => `docs/${name}`)];
  const anchorsOf = (page: string) =>
    [...readFileSync(page, 'utf8').matchAll(/^#+ (.+)$/gm)].map(([, head]) =>
      (head as string)
        .toLowerCase()
        .replace(/[^\w\- ]/g, '')
        .replaceAll(' ', '-'),
    );
  const dead = pages
    .filter((page) => page.endsWith('.md'))
    .flatMap((page) =>
      [...readFileSync(page, 'utf8').matchAll(/\]\(([^)\s]+)\)/g)].flatMap(([, link]) => {
        const [to, anchor] = (link as string).split('#') as [string, string?];
        if (/^\w+:/.test(to)) return [];
        const place = to === '' ? page : join(dirname(page), to);
        const leads = existsSync(place) && packed(place) && (anchor === undefined || anchorsOf(place).includes(anchor));
        return leads ? [] : [`${page}: ${link}`];
      }),
    );
  expect(dead).toEqual([]);
});
