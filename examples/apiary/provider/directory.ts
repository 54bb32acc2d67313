/* The county's directory, as a script: it pushes people and groups to the application by SCIM 2.0, as a company's directory does. */

const USER = 'urn:ietf:params:scim:schemas:core:2.0:User';
const GROUP = 'urn:ietf:params:scim:schemas:core:2.0:Group';
const PATCH = 'urn:ietf:params:scim:api:messages:2.0:PatchOp';

/** Whom the county's office knows, in which groups. */
export const OFFICE = {
  people: [
    { externalId: 'c-1017', userName: 'nora@county.example', displayName: 'Nora Fern', active: true },
    { externalId: 'c-1031', userName: 'ida@county.example', displayName: 'Ida Rowe', active: true },
    { externalId: 'c-1032', userName: 'karl@county.example', displayName: 'Karl Venn', active: true },
    { externalId: 'c-1033', userName: 'lotte@county.example', displayName: 'Lotte Hale', active: false },
  ],
  groups: { Beekeepers: ['c-1017', 'c-1031', 'c-1032'], 'Site wardens': ['c-1031'] },
} as const;

/** Pushes all of it: whom it has pushed before it changes, and what is the same it leaves alone. */
export async function push(base: string, key: string, { people, groups }: typeof OFFICE = OFFICE): Promise<string[]> {
  const ask = async (method: string, path: string, body?: object): Promise<any> => {
    const headers = { authorization: `Bearer ${key}`, ...(body && { 'content-type': 'application/scim+json' }) };
    const response = await fetch(`${base}${path}`, { method, headers, ...(body && { body: JSON.stringify(body) }) });
    const answer: any = response.status === 204 ? {} : await response.json();
    if (!response.ok) throw new Error(`${method} ${path}: ${response.status} ${answer.detail}`);
    return answer;
  };
  const find = async (path: string, filter: string) => (await ask('GET', `${path}?filter=${encodeURIComponent(filter)}`)).Resources[0];
  const said: string[] = [];
  const ids = new Map<string, string>();
  for (const person of people) {
    const known = await find('/Users', `externalId eq "${person.externalId}"`);
    const made = known ? await ask('PUT', `/Users/${known.id}`, { schemas: [USER], ...person }) : await ask('POST', '/Users', { schemas: [USER], ...person });
    ids.set(person.externalId, made.id);
    said.push(`${person.displayName}: ${known ? (known.meta.version === made.meta.version ? 'as before' : 'changed') : 'brought'}`);
  }
  for (const [displayName, members] of Object.entries(groups)) {
    const known = (await find('/Groups', `displayName eq "${displayName}"`)) ?? (await ask('POST', '/Groups', { schemas: [GROUP], displayName }));
    const value = members.map((one) => ({ value: ids.get(one) }));
    const after = await ask('PATCH', `/Groups/${known.id}`, { schemas: [PATCH], Operations: [{ op: 'Replace', path: 'members', value }] });
    said.push(`${displayName}: ${after.members.length} people`);
  }
  return said;
}

const [key, base = 'http://localhost:4173/scim/alderbrook/v2'] = process.argv.slice(2);
if (process.argv[1]?.endsWith('directory.ts')) {
  if (!key) {
    console.error('Give the key of a program that may “Write as a directory”:\n  npm run directory -w apiary -- lintel_key_…');
    process.exit(1);
  }
  for (const line of await push(base, key)) console.log(line);
}
