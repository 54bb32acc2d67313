import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { SOURCES } from './guards.js';

/** A case that was wrong, as it is kept: as a file it can be run again. */
export interface KeptCase {
  readonly property: string;
  readonly variant: string;
  /** To which class of faults it belongs. */
  readonly class: string;
  readonly sentence: string;
  readonly case: unknown;
}

/** Where cases are that are known to fail: each is taken off when it passes. */
export const FOUND = join(SOURCES, '../properties/found');

export function keepCase(file: string, kept: KeptCase): void {
  mkdirSync(dirname(file), { recursive: true });
  writeFileSync(file, `${JSON.stringify(kept)}\n`);
}

export const readCase = (file: string): KeptCase => JSON.parse(readFileSync(file, 'utf8')) as KeptCase;

/** The files of cases that are known to fail. */
export const foundCases = (): string[] =>
  readdirSync(FOUND)
    .filter((file) => file.endsWith('.json'))
    .sort()
    .map((file) => join(FOUND, file));
