/* JSON with one thing in it changed. */

export type Path = readonly (string | number)[];

/** Every place in it, from the outside in. */
export function placesIn(value: unknown, at: Path = []): Path[] {
  if (typeof value !== 'object' || value === null) return [];
  return Object.entries(value).flatMap(([key, inner]) => {
    const path = [...at, Array.isArray(value) ? Number(key) : key];
    return [path, ...placesIn(inner, path)];
  });
}

export const valueAt = (json: unknown, path: Path): any => path.reduce((inner: any, key) => inner[key], json);

/** A copy with something else there; with `undefined`, without it. */
export function edited(json: unknown, path: Path, value: unknown): any {
  const copy = structuredClone(json);
  const [around, key] = [valueAt(copy, path.slice(0, -1)), path.at(-1) as string];
  if (value !== undefined) around[key] = value;
  else if (Array.isArray(around)) around.splice(Number(key), 1);
  else delete around[key];
  return copy;
}
