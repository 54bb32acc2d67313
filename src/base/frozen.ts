/** The same value, with everything in it that is plain data frozen: who is given it cannot change what others were given. */
export function frozen<T>(value: T): T {
  if (typeof value !== 'object' || value === null || Object.isFrozen(value)) return value;
  if (!Array.isArray(value) && Object.getPrototypeOf(value) !== Object.prototype) return value;
  for (const inner of Array.isArray(value) ? value : Object.values(value)) frozen(inner);
  return Object.freeze(value);
}
