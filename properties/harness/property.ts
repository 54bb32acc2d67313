import type fc from 'fast-check';
import type { Servers } from './servers.js';

/** A property over its databases: what is drawn, and what must hold of each case. */
export interface Opened<Case> {
  /** Cases are plain data: they can be kept as JSON and run again. */
  readonly cases: fc.Arbitrary<Case>;
  /** What is wrong, in a few lines that name what was drawn; undefined where all is well. */
  judge(one: Case): Promise<string | undefined>;
  /** How much was drawn of what, so that a generator which draws nothing is seen. */
  tally(): Readonly<Record<string, number>>;
  close(): Promise<void>;
}

export interface Property<Case = any> {
  readonly name: string;
  /** One sentence that says what must hold. */
  readonly holds: string;
  /** On what else it can be tried than on the first, which is the default. */
  readonly variants: readonly [string, ...string[]];
  /** Cases of a usual run, of a long run, and of one that has to notice a guard that is taken out. */
  readonly volume: { readonly usual: number; readonly long: Readonly<Record<string, number>>; readonly guard: number };
  open(servers: Servers, variant: string): Promise<Opened<Case>>;
}
