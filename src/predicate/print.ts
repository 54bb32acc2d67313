import type { Comparison, Operand, Predicate } from './predicate.js';

const WORDS: Record<Comparison['op'], readonly [string, string]> = {
  is: ['is', 'is not'],
  before: ['is before', 'is not before'],
  after: ['is after', 'is not after'],
  atLeast: ['is at least', 'is below'],
  atMost: ['is at most', 'is above'],
  in: ['is one of', 'is none of'],
  within: ['lies within', 'lies outside'],
  among: ['is in one of', 'is in none of'],
  includes: ['include', 'do not include'],
};

/** `keeperId` as people say it: "keeper". */
export function fieldWords(field: string): string {
  return field.replace(/Ids?$/, '').replace(/([a-z0-9])([A-Z])/g, (_all, before: string, letter: string) => `${before} ${letter.toLowerCase()}`);
}

/** A value as a line shows it: a text in marks, so that one sees where it ends. */
export const valueWords = (value: unknown): string => (typeof value === 'string' ? `“${value}”` : String(value));

/** Who the line speaks of: `keeper is me`, or `keeper is you` when it is said to them. */
export type Voice = 'me' | 'you';

function operandWords(to: Operand, voice: Voice): string {
  if ('me' in to) {
    const fact = fieldWords(to.me.replace(/^attributes\./, ''));
    return to.me === 'userId' ? voice : `${voice === 'me' ? 'my' : 'your'} ${fact}${to.me.endsWith('Ids') ? 's' : ''}`;
  }
  if ('context' in to) return `the request's ${fieldWords(to.context)}`;
  if ('field' in to) return `the ${fieldWords(to.field)}`;
  return Array.isArray(to.value) ? `(${to.value.map(valueWords).join(', ')})` : valueWords(to.value);
}

/**
 * A predicate as one readable line: `keeper is me or keeper is empty`.
 *
 * @param wanted with `false`, the line says the opposite.
 */
export function print(p: Predicate, wanted = true, voice: Voice = 'me'): string {
  return line(p, wanted, voice, '');
}

/** `subject` stands before each field, for a step to a parent. */
function line(p: Predicate, wanted: boolean, voice: Voice, subject: string): string {
  switch (p.op) {
    case 'always':
    case 'never':
      return (p.op === 'always') === wanted ? 'always' : 'never';
    case 'not':
      return line(p.of, !wanted, voice, subject);
    case 'and':
    case 'or': {
      const op = (p.op === 'and') === wanted ? 'and' : 'or';
      const inner = p.of.map((part) => {
        const words = line(part, wanted, voice, subject);
        return 'of' in part && Array.isArray(part.of) ? `(${words})` : words;
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
      return wanted ? line(p.where, true, voice, owner) : `not (${line(p.where, true, voice, owner)})`;
    }
    case 'is':
      if (voice === 'you' && 'me' in p.to && p.to.me === 'userId') return `you are ${wanted ? '' : 'not '}${subject || 'the '}${fieldWords(p.field)}`;
      return comparison(p, wanted, voice, subject);
    default:
      return comparison(p, wanted, voice, subject);
  }
}

function comparison(p: Comparison, wanted: boolean, voice: Voice, subject: string): string {
  return `${subject}${fieldWords(p.field)} ${WORDS[p.op][wanted ? 0 : 1]} ${operandWords(p.to, voice)}`;
}
