/* The first hour, as docs/start.md tells it: from the packed package, in an empty folder, line by line. */
import { execFileSync, spawnSync } from 'node:child_process';
import { cpSync, existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, statSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { afterAll, beforeAll, expect, test } from 'vitest';

const folder = mkdtempSync(join(tmpdir(), 'first-hour-'));
let packed: string;
afterAll(() => rmSync(folder, { recursive: true, force: true }));

/** What is built already is newer than all that it is built of. */
function isBuilt(): boolean {
  const sources = readdirSync('src', { recursive: true, encoding: 'utf8' }).map((name) => statSync(join('src', name)).mtimeMs);
  const built = ['dist/index.js', 'dist/index.d.ts', 'dist/cli/bin.js'];
  return built.every((file) => existsSync(file) && statSync(file).mtimeMs > Math.max(...sources));
}

beforeAll(() => {
  const { files } = JSON.parse(readFileSync('package.json', 'utf8')) as { files: string[] };
  const root = join(folder, 'package');
  mkdirSync(root);
  for (const part of ['package.json', 'README.md', 'LICENSE', ...files])
    if (part !== 'dist' && existsSync(part)) cpSync(part, join(root, part), { recursive: true });
  if (isBuilt()) cpSync('dist', join(root, 'dist'), { recursive: true });
  else execFileSync('npx', ['tsdown', '--config', 'scripts/tsdown.config.ts', '--logLevel', 'silent', '--out-dir', join(root, 'dist')], { stdio: 'pipe' });
  const [{ filename }] = JSON.parse(execFileSync('npm', ['pack', '--json', '--ignore-scripts'], { cwd: root, encoding: 'utf8', stdio: 'pipe' }));
  packed = join(root, filename);
}, 120_000);

/** What `npm install` does, without a network: the package out of its archive, and everything else as it is here. */
function install(into: string, names: readonly string[]): void {
  const modules = join(into, 'node_modules');
  mkdirSync(join(modules, '.bin'), { recursive: true });
  for (const name of readdirSync('node_modules'))
    if (!name.startsWith('.') && name !== 'warm-lintel') symlinkSync(join(process.cwd(), 'node_modules', name), join(modules, name));
  for (const name of names) if (name !== 'warm-lintel') expect([name, existsSync(join(modules, name))]).toEqual([name, true]);
  mkdirSync(join(modules, 'warm-lintel'));
  execFileSync('tar', ['-xzf', packed, '--strip-components=1', '-C', join(modules, 'warm-lintel')]);
  symlinkSync(join(modules, 'warm-lintel/dist/cli/bin.js'), join(modules, '.bin/lintel'));
  symlinkSync(join(process.cwd(), 'node_modules/.bin/tsx'), join(modules, '.bin/tsx'));
}

test('docs/start.md, followed line by line, ends with what it says', { timeout: 120_000 }, () => {
  const at = join(folder, 'mine');
  mkdirSync(at);
  let printed = '';
  // A block, and the line before it: the name of a file, if one is.
  const blocks = [...readFileSync('docs/start.md', 'utf8').matchAll(/(?:^`([\w.]+)`\n\n)?```(\w+)\n([\s\S]*?)```/gm)];
  for (const [, file, language, text] of blocks as unknown as [string, string | undefined, string, string][]) {
    if (file !== undefined) writeFileSync(join(at, file), text);
    else if (language === 'text') expect(printed).toBe(text);
    else
      for (const line of text.trim().split('\n')) {
        const [command, what, ...names] = line.split(' ');
        if (command === 'npm' && what === 'install') install(at, names);
        else {
          const { status, stdout, stderr } = spawnSync('bash', ['-c', line], { cwd: at, encoding: 'utf8' });
          // A command of ours says no by 1.
          expect([line, line.includes('lintel why') ? 1 : 0, stderr]).toEqual([line, status, stderr]);
          printed = stdout;
        }
      }
  }
  expect(blocks.length).toBeGreaterThan(8);
});

test('an entry of the package takes nothing that only some install, before it is used', () => {
  const { dependencies, exports } = JSON.parse(readFileSync('package.json', 'utf8')) as { dependencies: object; exports: Record<string, any> };
  const own: Readonly<Record<string, readonly string[]>> = { './react': ['react'], './vitest': ['vitest', 'kysely'], './client': [], '.': [] };
  const taken = (file: string, seen = new Set<string>()): string[] => {
    if (seen.has(file)) return [];
    seen.add(file);
    const imported = [...readFileSync(file, 'utf8').matchAll(/^(?:import|export)\s+(?!type\b)(?:[^'"]*?\sfrom\s+)?'([^']+)'/gm)].map(
      ([, name]) => name as string,
    );
    return imported.flatMap((name) => {
      if (!name.startsWith('.'))
        return name.startsWith('node:')
          ? []
          : [
              name
                .split('/')
                .slice(0, name.startsWith('@') ? 2 : 1)
                .join('/'),
            ];
      const there = join(dirname(file), name.replace(/\.js$/, ''));
      const found = [`${there}.ts`, `${there}.tsx`].find((one) => existsSync(one));
      return found === undefined ? [] : taken(found, seen);
    });
  };
  for (const [entry, at] of Object.entries(exports)) {
    const file = at['warm-lintel-source']?.default as string | undefined;
    if (file === undefined) continue;
    const allowed = [...Object.keys(dependencies), ...(own[entry] ?? ['kysely'])];
    expect([entry, [...new Set(taken(file))].filter((name) => !allowed.includes(name))]).toEqual([entry, []]);
  }
});
