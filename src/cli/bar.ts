import type { SingleBar } from 'cli-progress';
import type { Surroundings } from './surroundings.js';

/** A bar on the terminal, where somebody watches. Its name is what goes on; `{value}` of `{total}` is drawn by it. */
export async function barFor({ interactive }: Surroundings, name: string, more = ''): Promise<SingleBar | undefined> {
  if (!interactive) return undefined;
  const { default: progress } = await import('cli-progress');
  return new progress.SingleBar({ format: `${name} {bar} {value}/{total}${more}`, barsize: 24, hideCursor: true, clearOnComplete: true });
}
