import type { Comparison, Operand, Predicate } from './predicate.js';

const WORDS: Record<Comparison['op'], readonly [string, string]> = {
  is: ['is', 'is not'],
  before: ['is before', 'is not before'],
  after: ['is after', 'is not after'],
  atLeast: ['is at least', 'is below'],
  atMost: ['is at most', 'is above'],
  in: ['is one of', 'is none of'],
  within: ['lies within', 'lies outside'],
  includes: ['include', 'do not include'],
};

/** `keeperId` as people say it: "keeper". */
export function fieldWords(field: string): string {
  return field
    .replace(/Ids?$/, '')
    .replace(/([a-z0-9])([A-Z])/g, (_all, before: string, letter: string) => `${before} ${letter.toLowerCase()}`);
}

function operandWords(to: Operand): string {
  if ('me' in to) return to.me === 'userId' ? 'me' : `my ${fieldWords(to.me.replace(/^attributes\./, ''))}${to.me.endsWith('Ids') ? 's' : ''}`;
  if ('context' in to) return `the request's ${fieldWords(to.context)}`;
  if ('field' in to) return `the ${fieldWords(to.field)}`;
  const one = (value: unknown) => (typeof value === 'string' ? `“${value}”` : String(value));
  return Array.isArray(to.value) ? `(${to.value.map(one).join(', ')})` : one(to.value);
}

/**
 * A predicate as one readable line: `keeper is me or keeper is empty`.
 *
 * @param wanted with `false`, the line says the opposite.
 * @param subject stands before each field, for a step to a parent.
 */
export function print(p: Predicate, wanted = true, subject = ''): string {
  switch (p.op) {
    case 'always':
    case 'never':
      return (p.op === 'always') === wanted ? 'always' : 'never';
    case 'not':
      return print(p.of, !wanted, subject);
    case 'and':
    case 'or': {
      const op = (p.op === 'and') === wanted ? 'and' : 'or';
      const inner = p.of.map((part) => {
        const line = print(part, wanted, subject);
        return 'of' in part && Array.isArray(part.of) ? `(${line})` : line;
      });
      return inner.join(` ${op} `);
    }
    case 'isEmpty':
      return `${subject}${fieldWords(p.field)} is ${wanted ? '' : 'not '}empty`;
    case 'followed':
      return `the ${fieldWords(p.via)} may ${wanted ? '' : 'not '}be read`;
    case 'parent': {
      const owner = `the ${fieldWords(p.via)}’s `;
      if (p.where.op === 'always') return `the ${fieldWords(p.via)} ${wanted ? 'exists' : 'does not exist'}`;
      return wanted ? print(p.where, true, owner) : `not (${print(p.where, true, owner)})`;
    }
    default:
      return `${subject}${fieldWords(p.field)} ${WORDS[p.op][wanted ? 0 : 1]} ${operandWords(p.to)}`;
  }
}
