/** An object of JSON. */
export type Json = Record<string, unknown>;

export const isJson = (value: unknown): value is Json => typeof value === 'object' && value !== null && !Array.isArray(value);

/** The key of an object under which an attribute stands, however it is written; the name itself where there is none. */
export function keyIn(object: Json, name: string): string {
  const wanted = name.toLowerCase();
  return Object.keys(object).find((key) => key.toLowerCase() === wanted) ?? name;
}

/** The value of an attribute, however its name is written. */
export const valueIn = (object: unknown, name: string): unknown => (isJson(object) ? object[keyIn(object, name)] : undefined);
