/** What has no parts, in JSON. A text in which nothing has to be escaped stands as it is. */
const simple = (value: unknown): string => (typeof value === 'string' && !/["\\\p{C}]/u.test(value) ? `"${value}"` : (JSON.stringify(value) ?? 'null'));

/** JSON with sorted keys and without undefined, so that equal data gives equal text; a moment is its text, as elsewhere in JSON. */
export function canonicalJson(value: unknown): string {
  if (Array.isArray(value)) return `[${value.map(canonicalJson).join()}]`;
  if (!value || typeof value !== 'object' || value instanceof Date) return simple(value);
  const parts = value as Record<string, unknown>;
  let told = '';
  for (const key of Object.keys(parts).sort()) {
    if (parts[key] !== undefined) told += `${told && ','}${simple(key)}:${canonicalJson(parts[key])}`;
  }
  return `{${told}}`;
}
