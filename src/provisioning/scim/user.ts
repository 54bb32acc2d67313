import { isLintelError } from '../../base/index.js';
import { attributeFromText, type Charter, readAttribute } from '../../charter/index.js';
import { type DirectoryUser, readAddress, readName } from '../../membership/index.js';
import { badValue } from './error.js';
import { isJson, type Json, valueIn } from './json.js';

export const USER = 'urn:ietf:params:scim:schemas:core:2.0:User';
export const ENTERPRISE = 'urn:ietf:params:scim:schemas:extension:enterprise:2.0:User';
/** Where attributes that the charter declares stand by their own names. */
export const DECLARED = 'urn:lintel:params:scim:schemas:attributes:2.0:User';

/** So long is a text, and so many addresses has somebody. */
const LONGEST = 500;
const MOST = 20;
/** What belongs to every resource and is ours to say. */
const OURS = new Set(['schemas', 'id', 'meta', 'groups']);
const NAMES = ['formatted', 'familyName', 'givenName', 'middleName'];

/** As directories write it: also as a text, in any case. */
function truth(value: unknown, otherwise: boolean): boolean {
  if (value === undefined || value === null) return otherwise;
  const said = { true: true, false: false }[String(value).toLowerCase()];
  if (said === undefined) throw badValue('active is true or false');
  return said;
}

function textIn(object: unknown, name: string): string | undefined {
  const value = valueIn(object, name);
  if (value === undefined || value === null || value === '') return undefined;
  const text = typeof value === 'number' ? String(value) : value;
  if (typeof text !== 'string' || text.length > LONGEST || /[\0\p{Cs}]/u.test(text)) throw badValue(`${name} is a text of at most ${LONGEST} characters`);
  return text;
}

/** Text as it may stand in a name that people see; undefined where it may not. */
function nameOf(text: string | undefined): string | undefined {
  try {
    return readName(text?.slice(0, 120), 'somebody');
  } catch (error) {
    if (isLintelError(error)) return undefined;
    throw error;
  }
}

function addressOf(texts: readonly (string | undefined)[]): string {
  for (const text of texts) {
    try {
      return readAddress(text).written;
    } catch (error) {
      if (!isLintelError(error)) throw error;
    }
  }
  return '';
}

/** The attributes that the charter declares and a source says. */
const declaredBy = (charter: Charter<any>) => Object.entries(charter.data.attributes ?? {}).filter(([, data]) => data.setBy.includes('source'));

/**
 * Where an attribute stands that a directory names by a path, whichever schema it names: one that the charter declares under its own.
 *
 * @returns the schema; undefined for the core.
 */
export function homeIn(charter: Charter<any>): (schema: string | undefined, attribute: string) => string | undefined {
  const names = new Map(declaredBy(charter).map(([name]) => [name.toLowerCase(), name]));
  return (schema, attribute) => (names.has(attribute.toLowerCase()) ? DECLARED : schema);
}

/** Their values: by their own names, in our schema, in the one of enterprises, or among those of the core. */
function declaredIn(charter: Charter<any>, body: Json, unknown: Set<string>): Record<string, unknown> {
  const homes = [valueIn(body, ENTERPRISE), valueIn(body, DECLARED), body];
  return Object.fromEntries(
    declaredBy(charter).flatMap(([name, data]) => {
      const said = homes.map((home) => valueIn(home, name)).find((one) => one !== undefined && one !== null && one !== '');
      if (said === undefined) return [];
      const plain = (one: unknown) => (isJson(one) ? valueIn(one, 'value') : one);
      const each = [said]
        .flat(1)
        .map(plain)
        .map((one) => (typeof one === 'string' ? attributeFromText(data, one) : one));
      const value = readAttribute(data, data.several ? each : each.length === 1 ? each[0] : undefined);
      if (value !== undefined) return [[name, value]];
      unknown.add(`${name}: a value that it does not take`);
      return [];
    }),
  );
}

/**
 * Somebody as a directory sends them. What nobody here knows is kept out, and named in `unknown`.
 *
 * @throws ScimError `invalidValue`.
 */
export function readUser(charter: Charter<any>, body: unknown): { readonly user: DirectoryUser; readonly unknown: readonly string[] } {
  if (!isJson(body)) throw badValue('a user is an object');
  const unknown = new Set<string>();
  const userName = textIn(body, 'userName')?.trim();
  if (userName === undefined || userName === '') throw badValue('userName is missing');
  const externalId = textIn(body, 'externalId');
  const displayName = textIn(body, 'displayName');
  const named = valueIn(body, 'name');
  const name = Object.fromEntries(
    NAMES.flatMap((one) => {
      const text = textIn(named, one);
      return text === undefined ? [] : [[one, text]];
    }),
  );
  const given = [valueIn(body, 'emails')].flat(1).filter(isJson);
  if (given.length > MOST) throw badValue(`somebody has at most ${MOST} addresses`);
  const emails = given.flatMap((one) => {
    const value = textIn(one, 'value');
    const type = textIn(one, 'type');
    const primary = truth(valueIn(one, 'primary'), false);
    return value === undefined ? [] : [{ value, ...(type !== undefined && { type }), ...(primary && { primary }) }];
  });
  const active = truth(valueIn(body, 'active'), true);
  const attributes = declaredIn(charter, body, unknown);
  const known = new Set([
    'username',
    'externalid',
    'displayname',
    'name',
    'emails',
    'active',
    'password',
    ...declaredBy(charter).map(([one]) => one.toLowerCase()),
  ]);
  for (const key of Object.keys(body)) {
    const low = key.toLowerCase();
    if (OURS.has(low) || known.has(low)) continue;
    if ([ENTERPRISE.toLowerCase(), DECLARED.toLowerCase()].includes(low) && isJson(body[key])) {
      for (const inner of Object.keys(body[key] as Json)) if (!known.has(inner.toLowerCase())) unknown.add(inner);
    } else unknown.add(key);
  }
  const full = [name.givenName, name.familyName].filter((one) => one !== undefined).join(' ');
  const primary = emails.find((one) => one.primary)?.value ?? emails[0]?.value;
  const resource = {
    userName,
    ...(externalId !== undefined && { externalId }),
    ...(Object.keys(name).length > 0 && { name }),
    ...(displayName !== undefined && { displayName }),
    ...(emails.length > 0 && { emails }),
    active,
    ...(Object.keys(attributes).length > 0 && { [DECLARED]: attributes }),
  };
  return {
    user: {
      userName,
      ...(externalId !== undefined && { externalId }),
      active,
      name: nameOf(displayName) ?? nameOf(name.formatted) ?? nameOf(full) ?? nameOf(userName) ?? 'Without a name',
      address: addressOf([primary, userName]),
      attributes,
      resource,
    },
    unknown: [...unknown],
  };
}
