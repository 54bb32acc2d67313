/** What stands under a name in an object whose names came from outside: `constructor` and its like are names as any other. */
export const entryOf = <T>(of: Readonly<Record<string, T>> | null | undefined, name: string): T | undefined =>
  of && Object.hasOwn(of, name) ? of[name] : undefined;
