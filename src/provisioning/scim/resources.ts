import { readName } from '../../membership/index.js';
import type { DirectoryGroup, KeptGroup, KeptUser } from '../../server/index.js';
import { badValue } from './error.js';
import { isJson, type Json, valueIn } from './json.js';
import { DECLARED, USER } from './user.js';

export const GROUP = 'urn:ietf:params:scim:schemas:core:2.0:Group';

/** So many people has a group. */
const MOST_MEMBERS = 50_000;

const metaOf = (
  resourceType: 'User' | 'Group',
  { id, version, madeAt, changedAt }: Pick<KeptUser, 'id' | 'version' | 'madeAt' | 'changedAt'>,
  base: string,
) => ({
  resourceType,
  created: madeAt.toISOString(),
  lastModified: changedAt.toISOString(),
  location: `${base}/${resourceType}s/${encodeURIComponent(id)}`,
  version: etagOf(version),
});

export const etagOf = (version: number): string => `W/"${version}"`;

type Membership = { readonly group: string; readonly groupName: string; readonly user: string; readonly userName: string };

/** Somebody as a directory reads them. */
export function userOf(kept: KeptUser, groups: readonly Pick<Membership, 'group' | 'groupName'>[], base: string): Json {
  return {
    schemas: [USER, ...(DECLARED in kept.resource ? [DECLARED] : [])],
    id: kept.id,
    ...kept.resource,
    groups: groups.map(({ group, groupName }) => ({ value: group, display: groupName, $ref: `${base}/Groups/${encodeURIComponent(group)}` })),
    meta: metaOf('User', kept, base),
  };
}

/** A group as a directory reads it. @param members absent: they were not asked for. */
export function groupOf(kept: KeptGroup, members: readonly Membership[] | undefined, base: string): Json {
  return {
    schemas: [GROUP],
    id: kept.id,
    displayName: kept.name,
    ...(kept.externalId !== null && { externalId: kept.externalId }),
    ...(members && {
      members: members.map(({ user, userName }) => ({ value: user, display: userName, type: 'User', $ref: `${base}/Users/${encodeURIComponent(user)}` })),
    }),
    meta: metaOf('Group', kept, base),
  };
}

/** A group as a directory sends it. @throws ScimError `invalidValue`. */
export function readGroup(body: unknown): DirectoryGroup {
  if (!isJson(body)) throw badValue('a group is an object');
  const name = valueIn(body, 'displayName');
  if (typeof name !== 'string' || name.trim() === '') throw badValue('displayName is missing');
  const externalId = valueIn(body, 'externalId');
  if (externalId !== undefined && externalId !== null && (typeof externalId !== 'string' || externalId.length > 500))
    throw badValue('externalId is a text of at most 500 characters');
  const given = [valueIn(body, 'members')].flat(1).filter((one) => one !== undefined && one !== null);
  if (given.length > MOST_MEMBERS) throw badValue(`a group has at most ${MOST_MEMBERS} members`);
  const members = given.map((one) => {
    const value = isJson(one) ? valueIn(one, 'value') : one;
    if (typeof value !== 'string' || value.length > 200) throw badValue('a member is named by its id, under value');
    return value;
  });
  return {
    name: readName(name.slice(0, 120), 'a group'),
    ...(typeof externalId === 'string' && externalId !== '' && { externalId }),
    members: [...new Set(members)],
  };
}

/** Without the attributes that were not asked for (RFC 7644, section 3.9). */
export function shown(resource: Json, { attributes, excluded }: { readonly attributes?: readonly string[]; readonly excluded?: readonly string[] }): Json {
  const always = ['schemas', 'id'];
  const is = (names: readonly string[], key: string) =>
    names.some((name) => name.toLowerCase() === key.toLowerCase() || name.toLowerCase().startsWith(`${key.toLowerCase()}.`));
  return Object.fromEntries(
    Object.entries(resource).filter(
      ([key]) =>
        always.includes(key) || ((attributes === undefined || is(attributes, key)) && !excluded?.some((name) => name.toLowerCase() === key.toLowerCase())),
    ),
  );
}
