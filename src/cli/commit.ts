import { execFile } from 'node:child_process';
import { existsSync } from 'node:fs';
import { mkdir, mkdtemp, realpath, rm, symlink } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { dirname, join, relative } from 'node:path';
import { promisify } from 'node:util';
import { LintelError } from '../base/index.js';
import type { Charter } from '../charter/index.js';
import { findCharterFile, readConfig, type Sources } from './config.js';

const run = promisify(execFile);

/** Directories from one down to another that lies in it. */
function between(top: string, inner: string): string[] {
  return inner === top || dirname(inner) === inner ? [top] : [...between(top, dirname(inner)), inner];
}

/**
 * The charter as it was at a commit: the files of that commit are written into a directory of their own, and the configuration there is read with the packages that are
 * installed now. The repository, its index and its working copy stay as they are.
 *
 * @throws LintelError `no-commit`, and what reading a configuration throws.
 */
export async function charterAt(commit: string, sources: Sources, cwd: string): Promise<Charter<any>> {
  const file = await realpath(await findCharterFile(sources, cwd));
  const git = (args: readonly string[], env: Record<string, string> = {}) =>
    run('git', ['-C', dirname(file), ...args], { env: { ...process.env, ...env } }).then(
      ({ stdout }) => stdout.trim(),
      (error: { code?: unknown; stderr?: string; message: string }) => {
        const why = error.code === 'ENOENT' ? 'git is not installed' : (error.stderr?.trim().split('\n')[0] ?? error.message);
        throw new LintelError('no-commit', `The charter at ${commit} cannot be read: ${why}`, { commit }, { cause: error });
      },
    );
  const top = await git(['rev-parse', '--show-toplevel']);
  const id = await git(['rev-parse', '--verify', '--quiet', '--end-of-options', `${commit}^{commit}`]).catch(() => {
    throw new LintelError('no-commit', `There is no commit "${commit}" here. Give a branch, a tag or an id; a shallow clone has only the last.`, { commit });
  });
  const dir = await realpath(await mkdtemp(join(tmpdir(), 'lintel-')));
  try {
    const index = { GIT_INDEX_FILE: join(dir, 'index') };
    await git(['read-tree', id], index);
    await git(['-C', top, 'checkout-index', '--all', '--quiet', `--prefix=${join(dir, 'files')}/`], index);
    for (const place of between(top, dirname(file))) {
      const there = join(dir, 'files', relative(top, place));
      if (!existsSync(join(place, 'node_modules')) || existsSync(join(there, 'node_modules'))) continue;
      await mkdir(there, { recursive: true });
      await symlink(join(place, 'node_modules'), join(there, 'node_modules'));
    }
    const then = join(dir, 'files', relative(top, file));
    if (!existsSync(then)) throw new LintelError('no-commit', `At ${commit} there was no ${relative(top, file)} yet.`, { commit });
    return (await readConfig(sources.charter === undefined ? { config: then } : { charter: then }, cwd)).charter;
  } finally {
    await rm(dir, { recursive: true, force: true });
  }
}
