import { type Charter, reachesOfKind } from '../../charter/index.js';
import { type Comparison, type FieldShape, type Predicate, takesList } from '../../predicate/index.js';

/** The name under which a standing carries a fact, for one way of asking it and one type of value. */
export function factKey(p: Comparison, field: FieldShape): string {
  const fact = 'me' in p.to ? `me.${p.to.me}` : 'context' in p.to ? `context.${p.to.context}` : '';
  const how = takesList(p.op) ? ` ${p.op}` : '';
  return `${fact}${how} ${field.type}${field.scale === undefined ? '' : field.scale}`;
}

export interface FactAsked {
  readonly key: string;
  readonly kind: string;
  readonly asked: Comparison;
}

/** Every fact that the rules of a charter name, with a comparison that asks it. */
export function factsAsked(charter: Charter): FactAsked[] {
  const found = new Map<string, FactAsked>();
  const visit = (p: Predicate, kind: string): void => {
    if (p.op === 'and' || p.op === 'or') for (const inner of p.of) visit(inner, kind);
    else if (p.op === 'not') visit(p.of, kind);
    else if (p.op === 'parent') visit(p.where, charter.kind(kind).fields[p.via]?.to as string);
    else if ('to' in p && ('me' in p.to || 'context' in p.to)) {
      const field = charter.shapes[kind]?.fields[p.field] as FieldShape;
      found.set(factKey(p, field), { key: factKey(p, field), kind, asked: p });
    }
  };
  for (const [kind, data] of Object.entries(charter.data.kinds)) {
    for (const where of Object.values(data.reaches)) visit(where, kind);
    for (const { where } of charter.limitsOf(kind)) visit(where, kind);
  }
  return [...found.values()];
}

/** What a standing carries among what it holds when something of a permission is held at units or records. */
export const anchoredMark = (permission: string) => `@${permission}`;

/** What a connection claims of the standing that it carries, each in its place: by it a statement is planned, and nothing is let through. */
export function claimsOf(charter: Charter): string[] {
  return Object.entries(charter.data.kinds).flatMap(([kind, data]) => [
    ...reachesOfKind(data).map((reach) => `${kind}.read ${reach}`),
    anchoredMark(`${kind}.read`),
  ]);
}
