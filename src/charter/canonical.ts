/** Letters that a text in JSON does not hold as they are. */
const ESCAPED = /["\\\p{Cc}\p{Cs}]/u;
const quoted = (text: string) => (ESCAPED.test(text) ? JSON.stringify(text) : `"${text}"`);

/** JSON with sorted keys and without undefined, so that equal data gives equal text; a moment is its text, as elsewhere in JSON. */
export function canonicalJson(value: unknown): string {
  if (typeof value === 'string') return quoted(value);
  if (typeof value !== 'object' || value === null) return JSON.stringify(value) ?? 'null';
  if (Array.isArray(value)) return `[${value.map(canonicalJson).join(',')}]`;
  if (value instanceof Date) return canonicalJson(value.toJSON());
  const all = value as Record<string, unknown>;
  let told = '';
  for (const key of Object.keys(all).sort()) {
    if (all[key] !== undefined) told += `${told && ','}${quoted(key)}:${canonicalJson(all[key])}`;
  }
  return `{${told}}`;
}
