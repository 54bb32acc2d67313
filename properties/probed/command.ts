import { run } from 'warm-lintel/cli';

/** Runs the command in this process; answers its exit code, and all that it says. */
export async function command(...args: string[]): Promise<{ code: number; out: string }> {
  const out: string[] = [];
  const say = (text: string) => out.push(text);
  const code = await run(args, { cwd: process.cwd(), out: say, err: say, colours: false, width: 160 });
  return { code, out: out.join('\n') };
}

/** Parts of predicates, as a charter has them. */
export const me = { me: 'userId' };
export const is = (field: string, to: unknown) => ({ op: 'is', field, to });
