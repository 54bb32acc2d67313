import { readFile } from 'node:fs/promises';
import { dirname, relative, resolve } from 'node:path';

/** Where something of a charter stands in the source. */
export interface SourcePlace {
  /** Relative to where the command was called, with slashes. */
  readonly file: string;
  /** From 1. */
  readonly line: number;
}

/** `roles.keeper.may["hive.update"]` as its parts. */
const partsOf = (place: string): string[] => [...place.matchAll(/\["([^"]+)"\]|([^.[\]]+)/g)].map(([, quoted, plain]) => quoted ?? plain ?? '');

const escaped = (text: string) => text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');

/** The text at which a key stands behind an offset: `keeper:`, `'hive.update':`, `"keeper":`. */
function keyAt(text: string, key: string, from: number): number | undefined {
  const found = new RegExp(`(?<![\\w.'"])(['"]?)${escaped(key)}\\1\\s*:`, 'g');
  found.lastIndex = from;
  return found.exec(text)?.index;
}

/** The file with the roles of a charter: the one that is named, or one that it imports. */
async function charterSource(file: string, depth = 0): Promise<{ readonly file: string; readonly text: string } | undefined> {
  const text = await readFile(file, 'utf8').catch(() => undefined);
  if (text === undefined || keyAt(text, 'roles', 0) !== undefined) return text === undefined ? undefined : { file, text };
  if (depth > 2) return undefined;
  for (const [, path] of text.matchAll(/from\s+['"](\.[^'"]+)['"]/g)) {
    const there = resolve(dirname(file), path as string);
    for (const one of [there.replace(/\.js$/, '.ts'), there, `${there}.ts`]) {
      const found = await charterSource(one, depth + 1);
      if (found) return found;
    }
  }
  return undefined;
}

/**
 * Finds the lines on which parts of a charter stand: by their names, one within the other as far as they are written so. What is made by code and has its name nowhere has
 * none.
 */
export async function placesIn(charterFile: string, cwd: string): Promise<(place: string) => SourcePlace | undefined> {
  const source = await charterSource(charterFile);
  if (!source) return () => undefined;
  const { file, text } = source;
  return (place) => {
    const parts = partsOf(place);
    const start = keyAt(text, parts[0] ?? '', 0);
    // Kinds are often declared apart, in a call that names no `kinds`.
    let at = start ?? (parts[0] === 'kinds' ? 0 : undefined);
    if (at === undefined) return undefined;
    for (const part of parts.slice(1)) at = keyAt(text, part, at) ?? at;
    return { file: relative(cwd, file).replaceAll('\\', '/'), line: text.slice(0, at).split('\n').length };
  };
}
