import { type FieldShape, readValue, VALUE_TYPES } from '../predicate/index.js';
import type { Checker } from './checker.js';
import type { Field } from './field.js';

/** Who may say what an attribute is: a source (a directory, a connection, a file, the application); people who arrange; the member. */
export const SETTERS = ['source', 'people', 'member'] as const;
export type Setter = (typeof SETTERS)[number];

/** A fact about a member that rules can ask: `me.attribute('region')`. As plain data. */
export interface AttributeData {
  readonly type: FieldShape['type'];
  /** Places after the point, for a decimal. */
  readonly scale?: number;
  /** The only values that it takes. */
  readonly options?: readonly string[];
  /** True: a list of values, for `in`. */
  readonly several?: boolean;
  readonly label?: string;
  /** Who may say it. Where several do, the first of these counts. */
  readonly setBy: readonly Setter[];
}

/** An attribute as it is declared: `{ is: oneOf(['north', 'south']), setBy: ['source'] }`. */
export interface AttributeInput extends Omit<AttributeData, 'type' | 'scale' | 'options' | 'setBy'> {
  /** Of what type: `text()`, `oneOf([...])`, `integer()`, `flag()`, `decimal({ scale })`, `instant()`. */
  readonly is: Field<any, 'plain', string, never>;
  /** Default: a source, then people. */
  readonly setBy?: readonly Setter[];
}

export const DEFAULT_SETTERS: readonly Setter[] = ['source', 'people'];

/** As data, from how they are declared. */
export function attributesOf(declared: Readonly<Record<string, AttributeInput>>): Record<string, Partial<AttributeData>> {
  return Object.fromEntries(
    Object.entries(declared).map(([name, { is, ...more }]) => {
      const { type, scale, options } = is;
      return [name, { type, ...(scale !== undefined && { scale }), ...(options && { options }), ...more }];
    }),
  );
}

export function checkAttributes(c: Checker, attributes: unknown): void {
  for (const [, one, at] of c.named(attributes, 'attributes')) {
    c.object(one, at, ['type', 'scale', 'options', 'several', 'label', 'setBy']);
    c.oneOf(one.type, `${at}.type`, 'type', VALUE_TYPES);
    c.text(one.label, `${at}.label`);
    c.boolean(one.several, `${at}.several`);
    c.list(one.options, `${at}.options`);
    if (one.type === 'decimal' && !(Number.isInteger(one.scale) && (one.scale as number) >= 0 && (one.scale as number) <= 18))
      c.report(`${at}.scale`, 'a decimal says its places after the point, 0 to 18');
    const setBy = c.list(one.setBy, `${at}.setBy`);
    for (const setter of setBy) c.oneOf(setter, `${at}.setBy`, 'setter', SETTERS);
    if (one.setBy !== undefined && new Set(setBy).size !== setBy.length) c.report(`${at}.setBy`, 'names each once');
    if (one.setBy !== undefined && setBy.length === 0) c.report(`${at}.setBy`, 'names at least one who may say it');
  }
}

/** A value of an attribute in its one form; undefined for what is none. */
export function readAttribute({ type, scale, options, several }: AttributeData, value: unknown): unknown {
  if (several) {
    if (!Array.isArray(value) || value.length > MOST) return undefined;
    const read = value.map((one) => readOne(type, scale, options, one));
    return read.includes(undefined) ? undefined : [...new Set(read)];
  }
  return readOne(type, scale, options, value);
}

const TRUTH: Readonly<Record<string, boolean>> = { true: true, yes: true, false: false, no: false };

/** One value as a text says it, for {@link readAttribute}: `yes` and `no` are truth values where such are wanted. */
export const attributeFromText = ({ type }: AttributeData, text: string): unknown =>
  type === 'boolean' ? (Object.hasOwn(TRUTH, text.toLowerCase()) ? TRUTH[text.toLowerCase()] : undefined) : text;

/** So many values a list has at most. */
const MOST = 1000;
/** So long a text is at most. */
const LONGEST = 500;

function readOne(type: AttributeData['type'], scale: number | undefined, options: readonly string[] | undefined, value: unknown): unknown {
  const read = readValue(type, value, scale);
  if (read === undefined || (typeof read === 'string' && read.length > LONGEST) || (options && !options.includes(String(read)))) return undefined;
  return read;
}
