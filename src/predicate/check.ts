import { didYouMean, entryOf } from '../base/index.js';
import { COMPARISONS, MEMBERSHIPS, type Operand, type Predicate, takesList } from './predicate.js';
import type { FieldShape, KindShape, Shapes } from './shape.js';
import { isOrdered, readValue } from './value.js';

/** Something wrong in data from outside: where, and what to do. */
export interface Problem {
  readonly path: string;
  readonly message: string;
}

/** Deepest nesting of a predicate that is accepted from outside. */
export const MAX_DEPTH = 16;
const MAX_LIST = 1000;

type Json = Record<string, unknown>;
type Attributes = Readonly<Record<string, Pick<FieldShape, 'type' | 'scale'> & { readonly several?: boolean }>>;

/** What stands where a word is to be, whatever it is. */
const wordOf = (value: unknown): string => (typeof value === 'string' ? value : (JSON.stringify(value) ?? 'nothing'));

const OPS = ['always', 'never', 'and', 'or', 'not', 'isEmpty', 'parent', 'followed', ...COMPARISONS, ...MEMBERSHIPS];
const FACTS = ['userId', 'groupIds', 'unitIds'];

/**
 * Checks that data is a predicate over one kind: operators, fields, types of constants, depth and size. Answers every
 * problem with its path; none means that the data may be used as a {@link Predicate}.
 *
 * @param attributes those that there are; absent: any.
 */
export function checkPredicate(data: unknown, kindName: string, shapes: Shapes, path: string, attributes?: Attributes): Problem[] {
  const problems: Problem[] = [];
  const report = (at: string, message: string) => void problems.push({ path: at, message });

  function fieldAt(kind: KindShape, name: unknown, at: string): FieldShape | undefined {
    if (typeof name === 'string' && Object.hasOwn(kind.fields, name)) return kind.fields[name];
    report(at, `no such field ${JSON.stringify(name)}${didYouMean(wordOf(name), Object.keys(kind.fields))}`);
    return undefined;
  }

  function checkOperand(p: Json, field: FieldShape, kind: KindShape, at: string): void {
    const to = p.to as Json | undefined;
    const keys = typeof to === 'object' && to !== null ? Object.keys(to) : [];
    if (keys.length !== 1) return report(`${at}.to`, 'give exactly one of me, context, value, field');
    const operand = to as unknown as Operand;
    const list = takesList(wordOf(p.op));
    if ('me' in operand) {
      const known = FACTS.includes(operand.me) || (typeof operand.me === 'string' && /^attributes\.\w+$/.test(operand.me));
      const named = typeof operand.me === 'string' ? /^attributes\.(.*)$/.exec(operand.me)?.[1] : undefined;
      const attribute = named !== undefined && attributes ? entryOf(attributes, named) : undefined;
      if (named !== undefined && attributes && !attribute) report(`${at}.to.me`, `no such attribute "${named}"${didYouMean(named, Object.keys(attributes))}`);
      else if (attribute && (attribute.type !== field.type || attribute.scale !== field.scale))
        report(`${at}.to.me`, `the attribute "${named}" is of another type (${attribute.type}) than ${field.type}`);
      else if (attribute && (attribute.several === true) !== list)
        report(`${at}.to.me`, list ? 'needs a list; write is, or declare the attribute with several' : 'is a list; write in');
      else if (!known) report(`${at}.to.me`, `no such fact "${wordOf(operand.me)}"${didYouMean(wordOf(operand.me), FACTS)}`);
      else if (operand.me === 'userId' ? list : operand.me.endsWith('Ids') && !list) {
        report(`${at}.to.me`, list ? 'needs a list; write is' : 'is a list; write in or within');
      }
    } else if ('context' in operand) {
      if (typeof operand.context !== 'string') report(`${at}.to.context`, 'is no name');
    } else if ('field' in operand) {
      const other = fieldAt(kind, operand.field, `${at}.to.field`);
      if (list || p.op === 'includes') report(`${at}.to`, `${p.op} cannot be asked of another field`);
      else if (other && (other.link || other.type !== field.type || other.scale !== field.scale)) {
        report(`${at}.to.field`, `is of another type (${other.type}) than ${field.type}`);
      }
    } else if ('value' in operand) {
      if (p.op === 'within') return report(`${at}.to`, 'units are data; compare with me.unitIds');
      if (p.op === 'among') return report(`${at}.to`, 'groups are data; compare with me.groupIds');
      if (list !== Array.isArray(operand.value))
        return report(`${at}.to.value`, list ? 'must be a list' : 'must be one value; for an empty field write isEmpty');
      const values = Array.isArray(operand.value) ? operand.value : [operand.value];
      if (values.length > MAX_LIST) report(`${at}.to.value`, `has ${values.length} items; at most ${MAX_LIST}`);
      values.forEach((value, i) => {
        if (readValue(field.type, value, field.scale) === undefined) {
          report(`${at}.to.value${list ? `[${i}]` : ''}`, `${JSON.stringify(value) ?? 'nothing'} is no ${field.type}`);
        }
      });
    } else report(`${at}.to`, 'give exactly one of me, context, value, field');
  }

  function checkComparison(p: Json, kind: KindShape, at: string): void {
    const field = fieldAt(kind, p.field, `${at}.field`);
    if (!field) return;
    const op = wordOf(p.op);
    if ((op === 'includes') !== (field.link !== undefined)) {
      return report(`${at}.op`, field.link ? `${p.field} is a list; write includes` : `${p.field} is no list; write is`);
    }
    if (op === 'among' && !field.person) return report(`${at}.op`, `${p.field} holds no person, so it is in no group`);
    if (op === 'within' && !field.unit) return report(`${at}.op`, `${p.field} holds no unit, so nothing lies within it`);
    if (op !== 'is' && op !== 'includes' && !takesList(op) && !isOrdered(field.type)) {
      return report(`${at}.op`, `${p.field} (${field.type}) has no order`);
    }
    checkOperand(p, field, kind, at);
  }

  function visit(node: unknown, kindHere: string, at: string, depth: number): void {
    const kind = shapes[kindHere];
    if (!kind) return;
    if (depth > MAX_DEPTH) return report(at, `is nested deeper than ${MAX_DEPTH}`);
    if (typeof node !== 'object' || node === null || Array.isArray(node)) return report(at, 'is no predicate');
    const p = node as Json;
    const op = wordOf(p.op);
    if (!OPS.includes(op)) return report(`${at}.op`, `no such operator "${op}"${didYouMean(op, OPS)}`);
    switch (op) {
      case 'always':
      case 'never':
        return;
      case 'and':
      case 'or':
        if (!Array.isArray(p.of) || p.of.length === 0) return report(`${at}.of`, 'must be a list that is not empty');
        if (p.of.length > MAX_LIST) return report(`${at}.of`, `has ${p.of.length} parts; at most ${MAX_LIST}`);
        p.of.forEach((inner, i) => {
          visit(inner, kindHere, `${at}.of[${i}]`, depth + 1);
        });
        return;
      case 'not':
        return visit(p.of, kindHere, `${at}.of`, depth + 1);
      case 'isEmpty': {
        const field = fieldAt(kind, p.field, `${at}.field`);
        if (field?.link) report(`${at}.field`, 'is a list of people; a list is asked with includes');
        return;
      }
      case 'parent':
      case 'followed': {
        const field = fieldAt(kind, p.via, `${at}.via`);
        if (!field) return;
        if (!field.to) return report(`${at}.via`, `${p.via} points to no parent record`);
        if (op === 'parent') visit(p.where, field.to, `${at}.where`, depth + 1);
        return;
      }
      default:
        checkComparison(p, kind, at);
    }
  }

  visit(data, kindName, path, 0);
  return problems;
}

/** Constants brought into their normal form, so that equal predicates are written equally. Takes a checked predicate. */
export function normalise(p: Predicate, kindName: string, shapes: Shapes): Predicate {
  const kind = shapes[kindName] as KindShape;
  switch (p.op) {
    case 'and':
    case 'or':
      return { op: p.op, of: p.of.map((inner) => normalise(inner, kindName, shapes)) };
    case 'not':
      return { op: 'not', of: normalise(p.of, kindName, shapes) };
    case 'parent':
      return { op: 'parent', via: p.via, where: normalise(p.where, kind.fields[p.via]?.to as string, shapes) };
    case 'always':
    case 'never':
      return { op: p.op };
    case 'isEmpty':
      return { op: p.op, field: p.field };
    case 'followed':
      return { op: p.op, via: p.via };
    default: {
      if (!('value' in p.to)) return { op: p.op, field: p.field, to: p.to };
      const { type, scale } = kind.fields[p.field] as FieldShape;
      const one = (value: unknown) => readValue(type, value, scale) as string;
      return { op: p.op, field: p.field, to: { value: Array.isArray(p.to.value) ? p.to.value.map(one) : one(p.to.value) } };
    }
  }
}
