/** A sequence of choices that a number fixes. */
export class Choices {
  #state: number;
  constructor(seed: number) {
    this.#state = seed >>> 0;
  }
  /** mulberry32 */
  next(below: number): number {
    this.#state = (this.#state + 0x6d2b79f5) >>> 0;
    let t = this.#state;
    t = Math.imul(t ^ (t >>> 15), t | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) % below;
  }
  of<T>(all: readonly T[]): T {
    return all[this.next(all.length)] as T;
  }
  oneIn(n: number): boolean {
    return this.next(n) === 0;
  }
}
