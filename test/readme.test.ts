import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { formatWithOptions } from 'node:util';
import { expect, test, vi } from 'vitest';
import { testLong } from './long.js';

const readme = readFileSync('README.md', 'utf8');
const pagesIn = (folder: string) =>
  readdirSync(folder, { recursive: true, encoding: 'utf8' })
    .filter((name) => name.endsWith('.md'))
    .map((name) => `${folder}/${name}`);

test('the example of the README prints what the README says', async () => {
  const code = /```ts\n([\s\S]*?)```/.exec(readme)?.[1] ?? '';
  const printed = /```text\n([\s\S]*?)```/.exec(readme)?.[1];
  expect(
    code
      .trimEnd()
      .split('\n')
      .filter((line) => line !== '' && !line.startsWith('import')).length,
  ).toBeLessThanOrEqual(10);
  const dir = 'examples/apiary/.cache';
  mkdirSync(dir, { recursive: true });
  const file = `${dir}/readme-${process.pid}.ts`;
  // What the application has already: the table, and who is where.
  const before = `import { emptyPglite } from '../../../test/pglite.js';
const db = await emptyPglite();
await db.exec("create table hives (id text primary key, tenant_id text, keeper_id text, name text)");
const there = (lintel) => lintel.prepare().then(async () => {
  for (const id of ['anna', 'bent']) await lintel.addPerson({ id, name: id, address: id + '@bees.example' });
  await lintel.openTenant({ id: 'bees', name: 'Bees', keyholder: 'anna', contact: 'Anna' });
  const anna = await lintel.enter({ tenant: 'bees', user: 'anna' });
  const [{ token }] = await anna.invitations.send([{ address: 'bent@bees.example', roles: [{ role: 'keeper', anchor: { on: 'tenant' } }] }]);
  await lintel.acceptInvitation('bent', { token });
  await db.exec("insert into hives values ('h1', 'bees', 'anna', 'Birch')");
});`;
  writeFileSync(file, `${before}\n${code.replace('const bent = ', 'await there(lintel);\nconst bent = ')}\nawait db.close();\n`);
  const log = vi.spyOn(console, 'log').mockImplementation(() => {});
  try {
    await import(join(process.cwd(), file));
    expect(log.mock.calls.map((parts) => `${formatWithOptions({ colors: false }, ...(parts as [unknown]))}\n`).join('')).toBe(printed);
  } finally {
    log.mockRestore();
    rmSync(file);
  }
});

testLong('the tour holds at each step and stays a story of under sixty lines', () => {
  const out = execFileSync(process.execPath, ['--conditions=warm-lintel-source', '--import', 'tsx', 'examples/tour/tour.ts'], { encoding: 'utf8' });
  expect(out).toContain('There is no such hive.');
  expect(out).toContain('Bent Ravn may not change a hive: Birch hive (hive-1)');
});

test('every picture that is kept is shown, and every one that is shown is kept', () => {
  const kept = readdirSync('docs/screenshots').sort();
  const pages = [readme, ...pagesIn('docs').map((page) => readFileSync(page, 'utf8'))].join('\n');
  const shown = [...pages.matchAll(/screenshots\/([\w-]+\.png)/g)].map((m) => m[1] as string);
  expect([...new Set(shown)].sort()).toEqual(kept);
  expect(kept.length).toBeLessThan(20);
});

test('forty questions of a stranger lead each to a page that is no longer than it takes to read it', () => {
  const rows = [...readFileSync('docs/questions.md', 'utf8').matchAll(/^\| (.+\?|.+ What now\?) \| \[(.+)\]\(([^)#]+)(#[^)]+)?\) \|$/gm)];
  expect(rows.length).toBe(40);
  for (const [, , title, page] of rows as unknown as string[][]) {
    const text = readFileSync(`docs/${page}`, 'utf8');
    expect([page, text.split('\n').length < 200, text.split('\n').some((line) => /^#+ /.test(line) && line.replace(/^#+ /, '') === title)]).toEqual([
      page,
      true,
      true,
    ]);
  }
});

test('no link of a page leads nowhere, in the repository or in the package', () => {
  const { files } = JSON.parse(readFileSync('package.json', 'utf8')) as { files: string[] };
  const packed = (place: string) => [...files, 'README.md', 'LICENSE'].some((one) => place === one || place.startsWith(`${one}/`));
  const pages = ['README.md', 'CHANGELOG.md', 'CONTRIBUTING.md', ...readdirSync('docs', { recursive: true, encoding: 'utf8' }).map((name) => `docs/${name}`)];
  /** As they are made of headings, a second one of the same words with a number; and those that stand in the page itself. */
  const anchorsOf = (page: string) => {
    const text = readFileSync(page, 'utf8');
    const seen = new Map<string, number>();
    const heads = [...text.replace(/```[\s\S]*?```/g, '').matchAll(/^#+ (.+)$/gm)].map(([, head]) => {
      const anchor = (head as string)
        .toLowerCase()
        .replace(/[^\p{L}\p{N}_\- ]/gu, '')
        .replaceAll(' ', '-');
      const before = seen.get(anchor);
      seen.set(anchor, (before ?? -1) + 1);
      return before === undefined ? anchor : `${anchor}-${before + 1}`;
    });
    return new Set([...heads, ...[...text.matchAll(/<a id="([^"]+)">/g)].map(([, id]) => id as string)]);
  };
  const anchors = new Map<string, Set<string>>();
  const isThere = (place: string, anchor: string) => (anchors.get(place) ?? anchors.set(place, anchorsOf(place)).get(place))?.has(anchor);
  const dead = pages
    .filter((page) => page.endsWith('.md'))
    .flatMap((page) =>
      [...readFileSync(page, 'utf8').matchAll(/\]\(([^)\s]+)\)/g)].flatMap(([, link]) => {
        const [to, anchor] = (link as string).split('#') as [string, string?];
        if (/^\w+:/.test(to)) return [];
        const place = to === '' ? page : join(dirname(page), to);
        const leads = existsSync(place) && packed(place) && (anchor === undefined || isThere(place, anchor));
        return leads ? [] : [`${page}: ${link}`];
      }),
    );
  expect(dead).toEqual([]);
});
