import { relative } from 'node:path';
import process from 'node:process';
import { fileURLToPath } from 'node:url';
import { isLintelError, LintelError } from '../base/index.js';

/** Where in somebody's own files an error came up: `lintel.config.ts:12`. Empty where only packages were at it. */
function placeOf(error: Error): string {
  const frames = [...(error.stack ?? '').matchAll(/\(?((?:file:\/\/)?\/[^\s()]+):(\d+):\d+\)?$/gm)];
  const own = frames.find(([, file]) => !file?.includes('/node_modules/') && !file?.includes('/warm-lintel/'));
  if (!own) return '';
  const [, file = '', line] = own;
  return ` (${relative(process.cwd(), file.startsWith('file:') ? fileURLToPath(file) : file)}:${line})`;
}

/** An error of somebody else's code in one sentence, with its place, and for a package that is missing what to do. */
export function sentenceOf(error: unknown): string {
  if (!(error instanceof Error)) return String(error);
  const { code } = error as { code?: string };
  const missing = /^Cannot find (?:package|module) '([^']+)'/.exec(error.message)?.[1];
  if (missing === undefined || (code !== 'ERR_MODULE_NOT_FOUND' && code !== 'MODULE_NOT_FOUND')) return `${error.message || error.name}${placeOf(error)}`;
  const isFile = /^[./]|^[A-Za-z]:|^file:/.test(missing);
  return isFile ? `there is no file ${missing}` : `the package ${missing} is not installed; npm install ${missing}`;
}

/** Does what a configuration says. @throws LintelError `config-failed` for what it throws itself. */
export async function asConfigured<R>(what: string, work: () => Promise<R> | R): Promise<R> {
  try {
    return await work();
  } catch (error) {
    if (isLintelError(error)) throw error;
    throw new LintelError('config-failed', `${what} failed: ${sentenceOf(error)}`, {}, { cause: error });
  }
}
