import { didYouMean, LintelError } from '../base/index.js';
import type { Problem } from '../predicate/index.js';

export type Json = Record<string, unknown>;

const NAME = /^[a-z][A-Za-z0-9]{0,62}$/;

/** Collects every problem of a charter with its path, instead of stopping at the first. */
export class Checker {
  readonly problems: Problem[] = [];

  report(path: string, message: string): void {
    this.problems.push({ path, message });
  }

  /** An object with only these keys, or an empty one where it is none. */
  object(value: unknown, path: string, keys?: readonly string[]): Json {
    if (value === undefined) return {};
    if (typeof value !== 'object' || value === null || Array.isArray(value)) {
      this.report(path, 'must be an object');
      return {};
    }
    for (const key of Object.keys(value)) {
      if (keys && !keys.includes(key)) this.report(join(path, key), `unknown entry${didYouMean(key, keys)}`);
    }
    return value as Json;
  }

  /** The entries of an object whose keys are names that the charter makes. */
  named(value: unknown, path: string): [string, Json, string][] {
    return Object.entries(this.object(value, path)).flatMap(([name, inner]) => {
      const at = join(path, name);
      if (!NAME.test(name)) this.report(at, 'a name begins with a small letter and has only letters and digits, 63 at most');
      else if (typeof inner === 'object' && inner !== null) return [[name, inner as Json, at] as [string, Json, string]];
      else this.report(at, 'must be an object');
      return [];
    });
  }

  text(value: unknown, path: string, needed = false): void {
    if (value === undefined && !needed) return;
    if (typeof value !== 'string' || value.trim() === '') this.report(path, 'must be a text that is not empty');
  }

  oneOf(value: unknown, path: string, what: string, allowed: Iterable<string>): boolean {
    const list = [...allowed];
    if (typeof value === 'string' && list.includes(value)) return true;
    this.report(path, `no such ${what}${typeof value === 'string' ? didYouMean(value, list) : ''}`);
    return false;
  }

  list(value: unknown, path: string): string[] {
    if (value === undefined) return [];
    if (Array.isArray(value) && value.every((item) => typeof item === 'string')) return value as string[];
    this.report(path, 'must be a list of names');
    return [];
  }

  boolean(value: unknown, path: string): void {
    if (value !== undefined && typeof value !== 'boolean') this.report(path, 'must be true or false');
  }

  throwIfAny(of: 'charter' | 'role' = 'charter'): void {
    if (this.problems.length === 0) return;
    const lines = this.problems.map((p) => `${p.path}: ${p.message}`);
    throw new LintelError(`${of}-invalid`, `the ${of} has ${lines.length === 1 ? 'a problem' : `${lines.length} problems`}:\n${lines.join('\n')}`, {
      problems: this.problems,
    });
  }
}

function join(path: string, key: string): string {
  return NAME.test(key) ? (path === '' ? key : `${path}.${key}`) : `${path}[${JSON.stringify(key)}]`;
}
