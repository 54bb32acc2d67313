import { readFile } from 'node:fs/promises';
import { join, relative } from 'node:path';
import { pathToFileURL } from 'node:url';
import { build, type Plugin } from 'esbuild';
import { SOURCES, withoutGuards } from './guards.js';

const ROOT = join(SOURCES, '..');

/** Our own code, with some guards taken out; every package stays outside. */
const ours = (without: ReadonlySet<string>): Plugin => ({
  name: 'ours',
  setup(building) {
    building.onResolve({ filter: /^warm-lintel(?:\/|$)/ }, ({ path }) => ({ path: join(SOURCES, path.slice('warm-lintel'.length), 'index.ts') }));
    building.onResolve({ filter: /^[^./]/ }, ({ path, kind }) => (kind === 'entry-point' ? undefined : { path, external: true }));
    building.onLoad({ filter: /\.tsx?$/ }, async ({ path }) => {
      const text = await readFile(path, 'utf8');
      const contents = path.startsWith(SOURCES) ? withoutGuards(relative(SOURCES, path), text, without) : text;
      // A file is where it was, wherever it is bundled to.
      return { contents: contents.replaceAll('import.meta.url', JSON.stringify(pathToFileURL(path).href)), loader: path.endsWith('x') ? 'tsx' : 'ts' };
    });
  },
});

/**
 * Writes the properties, over sources without these guards, as one module that Node runs; answers its path. Run by itself it is the command; imported, it
 * exports `PROPERTIES`.
 */
export async function bundleWithout(names: readonly string[], what: 'command' | 'module' = 'command'): Promise<string> {
  const outfile = join(ROOT, '.cache/properties', `${what}-${names.join('-') || 'whole'}.mjs`);
  const main = what === 'command' ? `import './properties/run.js';` : `export { PROPERTIES } from './properties/all.js';`;
  await build({
    stdin: { contents: `import './properties/harness/replacements.js';\n${main}`, resolveDir: ROOT, loader: 'ts' },
    bundle: true,
    platform: 'node',
    format: 'esm',
    target: 'node20',
    outfile,
    logLevel: 'silent',
    // Our package says that its files have no side effects; these have.
    ignoreAnnotations: true,
    plugins: [ours(new Set(names))],
  });
  return outfile;
}
