import type { Surroundings } from './surroundings.js';

export { defineConfig, type LintelConfig } from './define.js';
export { EXIT, type Surroundings } from './surroundings.js';

/**
 * Runs the `lintel` command and answers its exit code; everything it writes goes through `around`.
 *
 * @param args what follows the command's name.
 */
export async function run(args: readonly string[], around: Surroundings): Promise<number> {
  // Loaded only where it runs: a configuration file asks for its type and no more.
  const program = await import('./program.js');
  return program.run(args, around);
}
