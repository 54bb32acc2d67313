/** JSON with sorted keys and without undefined, so that equal data gives equal text. */
export function canonicalJson(value: unknown): string {
  if (Array.isArray(value)) return `[${value.map(canonicalJson).join(',')}]`;
  if (typeof value !== 'object' || value === null) return JSON.stringify(value) ?? 'null';
  const all = value as Record<string, unknown>;
  let told = '';
  for (const key of Object.keys(all).sort()) {
    if (all[key] !== undefined) told += `${told && ','}${JSON.stringify(key)}:${canonicalJson(all[key])}`;
  }
  return `{${told}}`;
}
