import { type FieldData, type KindData, snakeCase } from '../charter/index.js';
import type { Proposed } from './proposal.js';

const isName = (text: string) => /^[A-Za-z_$][\w$]*$/.test(text);
const quoted = (text: string) => `'${text.replaceAll('\\', '\\\\').replaceAll("'", "\\'").replaceAll('\n', '\\n')}'`;
const key = (text: string) => (isName(text) ? text : quoted(text));

/** A value as it is written in a source. */
export function literal(value: unknown): string {
  if (typeof value === 'string') return quoted(value);
  if (Array.isArray(value)) return `[${value.map(literal).join(', ')}]`;
  if (typeof value === 'object' && value !== null)
    return `{ ${Object.entries(value)
      .map(([name, one]) => `${key(name)}: ${literal(one)}`)
      .join(', ')} }`;
  return String(value);
}

/** By which function of the library a field is declared. */
const BUILDERS: Partial<Record<FieldData['type'], string>> = { boolean: 'flag', integer: 'integer', decimal: 'decimal', instant: 'instant', text: 'text' };

function fieldSource(field: FieldData): { readonly builder: string; readonly text: string } {
  const { role, type, options, to, through, follow, link, column, scale, change, label } = field;
  const common = { ...(label !== undefined && { label }), ...(column !== undefined && { column }), ...(change !== undefined && { change }) };
  if (role === 'plain') {
    const builder = options ? 'oneOf' : (BUILDERS[type] as string);
    const more = { ...(scale !== undefined && { scale }), ...common };
    const args = [...(options ? [literal(options)] : []), ...(Object.keys(more).length > 0 ? [literal(more)] : [])];
    return { builder, text: `${builder}(${args.join(', ')})` };
  }
  const builder = role === 'parent' ? (through ? 'through' : 'parent') : role;
  // An id is a uuid where nothing is said.
  const more = { ...(type !== 'uuid' && { type }), ...link, ...(follow === false && { follow }), ...common };
  const args = [...(to === undefined ? [] : [quoted(to)]), ...(Object.keys(more).length > 0 ? [literal(more)] : [])];
  return { builder, text: `${builder}(${args.join(', ')})` };
}

function kindSource(name: string, kind: KindData, notes: ReadonlyMap<string, readonly string[]>, used: Set<string>): string {
  const { table, label, one, many, shared, fields, actions } = kind;
  const noted = (at: string, indent: string) =>
    (notes.get(at) ?? []).map((words) => `${indent}// To decide: ${words}${words.endsWith('?') ? '' : '.'}\n`).join('');
  const ofColumn = (field: string, { column, link }: FieldData) => link?.table ?? column ?? snakeCase(field);
  const declared = Object.entries(fields).map(([field, data]) => {
    const { builder, text } = fieldSource(data);
    used.add(builder);
    return `${noted(`${table}.${ofColumn(field, data)}`, '        ')}        ${key(field)}: ${text},\n`;
  });
  const there = new Set(Object.entries(fields).map(([field, data]) => `${table}.${ofColumn(field, data)}`));
  const missing = [...notes].filter(([at]) => at.startsWith(`${table}.`) && !there.has(at));
  const left = missing.map(([at, words]) => `        // ${at.slice(table.length + 1)}: ${words.join('; ')}.\n`).join('');
  return `${noted(table, '    ')}    ${key(name)}: {
      table: ${quoted(table)},
      label: ${quoted(label)},
      one: ${quoted(one)},
      many: ${quoted(many)},
${shared ? '      shared: true,\n' : ''}      fields: {
${declared.join('')}${left}      },
      actions: {
${Object.entries(actions)
  .map(([action, words]) => `        ${key(action)}: ${literal(words)},\n`)
  .join('')}      },
    },
`;
}

/** A reach as a function of the record and the person. */
function reachSource(kind: KindData): string {
  const lines = Object.entries(kind.reaches).map(([name, reach]) => {
    const { op, field } = reach as { op: 'is' | 'includes'; field: string };
    return `      ${key(name)}: ({ record, me }) => record.${field}.${op}(me.userId),\n`;
  });
  return lines.join('');
}

/** The charter as TypeScript to be edited, with a comment on each thing that the schema did not settle. */
export function charterSource({ charter, unsure }: Proposed): string {
  const { kinds, roles, keyholder } = charter;
  const used = new Set<string>();
  const notes = new Map<string, string[]>();
  for (const { at, words } of unsure) notes.set(at, [...(notes.get(at) ?? []), words]);
  const declared = Object.entries(kinds).map(([name, kind]) => kindSource(name, kind, notes, used));
  const reaching = Object.entries(kinds).filter(([, kind]) => Object.keys(kind.reaches).length > 0);
  const reaches = reaching.map(([name, kind]) => `    ${key(name)}: {\n${reachSource(kind)}    },\n`).join('');
  const own = Object.entries(kinds).filter(([, { shared }]) => !shared);
  const first =
    own.find(
      ([
        ,
        {
          reaches: { own },
        },
      ]) => own,
    ) ??
    own.find(([, { reaches: all }]) => Object.keys(all).length > 0) ??
    own[0];
  const hint = (kind: KindData, name: string) => {
    const own = Object.keys(kind.reaches)[0] ?? 'tenant';
    return `        // '${name}.read': 'tenant', '${name}.create': 'tenant', '${name}.update': '${own}',\n`;
  };
  const given = Object.entries(roles).map(
    ([name, { label }]) =>
      `    ${key(name)}: {\n      label: ${quoted(label)},\n      may: {\n        // Nothing yet. What they may, and how far: all of their organisation (tenant), or a reach from above.\n${first ? hint(first[1], first[0]) : ''}      },\n    },\n`,
  );
  return `import { ${['defineCharter', 'defineKinds', ...used].sort().join(', ')} } from 'warm-lintel';

/* Proposed from the schema. Go through what is marked "To decide", then say what each role may. */

const kinds = defineKinds(
  {
${declared.join('')}  },
  {
${reaches}  },
);

export const charter = defineCharter(kinds, {
${keyholder ? `  // Full control, under the name that your application has for it. It reaches everything, and is no role below.\n  keyholder: ${literal(keyholder)},\n` : ''}  roles: {
${given.join('')}  },
});
`;
}
