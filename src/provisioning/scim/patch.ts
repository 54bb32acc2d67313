import { canonicalJson } from '../../charter/index.js';
import { badPath, badSyntax, badValue, ScimError } from './error.js';
import { fixedBy, holds } from './filter.js';
import { isJson, type Json, keyIn, valueIn } from './json.js';
import { type Path, readPath } from './path.js';

/** So many operations has one request. */
const MOST = 1000;

interface Operation {
  readonly op: 'add' | 'remove' | 'replace';
  readonly path?: Path;
  readonly value?: unknown;
}

/** @throws ScimError `invalidSyntax`, `invalidPath`. */
function readOperations(body: unknown): Operation[] {
  const all = valueIn(body, 'Operations');
  if (!Array.isArray(all)) throw badSyntax('the request has no Operations');
  if (all.length > MOST) throw new ScimError(413, `the request has ${all.length} operations; at most ${MOST} can be`);
  return all.map((one): Operation => {
    // As directories send it: in any case.
    const op = String(valueIn(one, 'op') ?? '').toLowerCase();
    if (op !== 'add' && op !== 'remove' && op !== 'replace') throw badSyntax(`“${op.slice(0, 40)}” is no operation; there are add, remove and replace`);
    const path = valueIn(one, 'path');
    return { op, value: valueIn(one, 'value'), ...(path !== undefined && path !== null && path !== '' && { path: readPath(path) }) };
  });
}

const typeOf = (one: unknown) => (isJson(one) ? (valueIn(one, 'type') ?? null) : null);

/** Two values of one attribute that say the same of the same. */
function isSame(a: unknown, b: unknown): boolean {
  const key = (one: unknown) => (isJson(one) ? valueIn(one, 'value') : one);
  const [ka, kb] = [key(a), key(b)];
  return ka !== undefined && ka === kb && canonicalJson(typeOf(a)) === canonicalJson(typeOf(b));
}

/** Of several values one at most is the primary one: the one that was said last (RFC 7644, section 3.5.2). */
function onePrimary(all: readonly unknown[], fresh: readonly unknown[]): unknown[] {
  const last = fresh.filter((one) => isJson(one) && valueIn(one, 'primary') === true).at(-1);
  return last === undefined
    ? [...all]
    : all.map((one) => (one !== last && isJson(one) && valueIn(one, 'primary') === true ? { ...one, [keyIn(one, 'primary')]: false } : one));
}

/** What is added to what is there: lists grow by what they do not have, parts are set, anything else is replaced. */
function joined(there: unknown, value: unknown): unknown {
  if (Array.isArray(there)) {
    const fresh = [value].flat(1).filter((one) => one !== null && one !== undefined);
    const [kept, added] = [[...there], [] as unknown[]];
    for (const one of fresh) {
      const at = kept.findIndex((other) => isSame(other, one));
      if (at < 0) {
        kept.push(one);
        added.push(one);
      } else if (isJson(one) && isJson(kept[at])) {
        kept[at] = merged(kept[at] as Json, one);
        added.push(kept[at]);
      }
    }
    return onePrimary(kept, added);
  }
  return isJson(there) && isJson(value) ? merged(there, value) : value;
}

function merged(there: Json, value: Json): Json {
  const after = { ...there };
  for (const [name, one] of Object.entries(value)) set(after, name, one);
  return after;
}

function set(object: Json, name: string, value: unknown): void {
  const key = keyIn(object, name);
  if (value === null || value === undefined) delete object[key];
  else Object.defineProperty(object, key, { value, enumerable: true, configurable: true, writable: true });
}

/** The resource, or the extension of it, in which an attribute stands. The extension is made where it is missing and something is to stand in it. */
function homeOf(resource: Json, { schema }: Path, makes: boolean): Json | undefined {
  if (schema === undefined || /^urn:ietf:params:scim:schemas:core:/i.test(schema)) return resource;
  const there = valueIn(resource, schema);
  if (isJson(there)) {
    const own = { ...there };
    set(resource, schema, own);
    return own;
  }
  if (!makes) return undefined;
  const fresh: Json = {};
  set(resource, schema, fresh);
  return fresh;
}

/** In which schema an attribute stands that is named so. */
type HomeIn = (schema: string | undefined, attribute: string) => string | undefined;

function whole(resource: Json, op: 'add' | 'replace', value: unknown, homeIn: HomeIn): void {
  if (!isJson(value)) throw badValue('without a path the value is an object with the attributes');
  for (const [name, one] of Object.entries(value)) {
    // Paths stand in the place of names too: `"name.givenName": "Ada"`, `"urn:…:User:department": "Bees"`.
    const isExtension = /^urn:/i.test(name) && isJson(one);
    if (!isExtension) run(resource, { op, path: readPath(name), value: one }, homeIn);
    else for (const [inner, it] of Object.entries(one)) run(resource, { op, path: { ...readPath(inner), schema: name }, value: it }, homeIn);
  }
}

function run(resource: Json, { op, path: named, value }: Operation, homeIn: HomeIn): void {
  if (named === undefined) {
    if (op === 'remove') throw new ScimError(400, 'to remove takes a path', 'noTarget');
    whole(resource, op, value, homeIn);
    return;
  }
  const schema = homeIn(named.schema, named.attribute);
  const { schema: _, ...rest } = named;
  const path: Path = { ...rest, ...(schema !== undefined && { schema }) };
  const home = homeOf(resource, path, op !== 'remove');
  if (!home) return;
  const there = valueIn(home, path.attribute);
  if (path.where !== undefined) selected(home, path, there, op, value);
  else if (path.sub !== undefined) part(home, path.attribute, path.sub, there, op, value);
  else if (op === 'remove') removed(home, path.attribute, there, value);
  else if (op === 'replace') set(home, path.attribute, Array.isArray(there) ? [value].flat(1) : value);
  else set(home, path.attribute, joined(there ?? (LISTS.has(path.attribute.toLowerCase()) ? [] : undefined), value));
}

/** Attributes of several values, which are lists although there is none yet. */
const LISTS = new Set(['members', 'emails', 'phonenumbers', 'addresses', 'roles', 'photos', 'ims', 'entitlements', 'x509certificates']);

/** All of it; or, as some directories send it, the values that are named. */
function removed(home: Json, attribute: string, there: unknown, value: unknown): void {
  if (value === undefined || value === null || !Array.isArray(there)) return set(home, attribute, undefined);
  const gone = [value].flat(1);
  set(
    home,
    attribute,
    there.filter(
      (one) => !gone.some((other) => isSame(one, other) || (isJson(one) && valueIn(one, 'value') === (isJson(other) ? valueIn(other, 'value') : other))),
    ),
  );
}

function part(home: Json, attribute: string, sub: string, there: unknown, op: Operation['op'], value: unknown): void {
  if (Array.isArray(there)) {
    set(
      home,
      attribute,
      there.map((one) => (isJson(one) ? withPart(one, sub, op === 'remove' ? undefined : value) : one)),
    );
    return;
  }
  if (there !== undefined && !isJson(there)) throw badPath(`“${attribute}” has no parts`);
  if (there === undefined && op === 'remove') return;
  set(home, attribute, withPart(isJson(there) ? there : {}, sub, op === 'remove' ? undefined : value));
}

function withPart(one: Json, sub: string, value: unknown): Json {
  const after = { ...one };
  set(after, sub, value);
  return after;
}

/** The values for which a filter holds. Where there is none, one is made of what the filter fixes: `emails[type eq "work"].value`. */
function selected(home: Json, { attribute, where, sub }: Path, there: unknown, op: Operation['op'], value: unknown): void {
  const all: unknown[] = there === undefined ? [] : [there].flat(1);
  const is = (one: unknown) => where !== undefined && holds(where, one);
  if (op === 'remove') {
    const left = sub === undefined ? all.filter((one) => !is(one)) : all.map((one) => (is(one) && isJson(one) ? withPart(one, sub, undefined) : one));
    return set(home, attribute, left);
  }
  const changed = (one: unknown): unknown => {
    if (sub !== undefined) return withPart(isJson(one) ? one : {}, sub, value);
    return isJson(one) && isJson(value) ? merged(one, value) : value;
  };
  if (all.some(is)) {
    const after = all.map((one) => (is(one) ? changed(one) : one));
    return set(
      home,
      attribute,
      onePrimary(
        after,
        after.filter((one) => !all.includes(one)),
      ),
    );
  }
  const fixed = where && fixedBy(where);
  if (!fixed) throw new ScimError(400, `nothing is there for which ${attribute}[…] holds`, 'noTarget');
  const fresh = changed(fixed);
  set(home, attribute, onePrimary([...all, fresh], [fresh]));
}

/**
 * What becomes of a resource by a PATCH (RFC 7644, section 3.5.2), in the shapes in which directories really send it. The resource that is given stays as it is.
 *
 * @throws ScimError `invalidSyntax`, `invalidPath`, `invalidFilter`, `invalidValue`, `noTarget`.
 */
export function patched(resource: Json, body: unknown, homeIn: HomeIn = (schema) => schema): Json {
  const after = structuredClone(resource);
  for (const operation of readOperations(body)) run(after, operation, homeIn);
  return after;
}
