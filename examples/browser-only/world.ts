import { PGlite } from '@electric-sql/pglite';
import { type AccessTable, accessTable, type Comparison, compare, type Explanation, explain, peopleSubjects } from 'warm-lintel/rehearsal';
import { connect, createLintel, type ServerStanding } from 'warm-lintel/server';
import { charter } from '../apiary/world/charter.js';
import { people, seed } from '../apiary/world/seed.js';

const TENANT = 'alderbrook';

/** What the page asks: of a database that is in the page itself, and gone with it. */
export interface World {
  readonly people: readonly { readonly id: string; readonly name: string }[];
  readonly actions: readonly { readonly name: string; readonly label: string }[];
  readonly hives: readonly { readonly id: string; readonly name: string }[];
  table(kind: string): Promise<AccessTable>;
  compare(people: readonly string[], action: string): Promise<Comparison>;
  why(person: string, action: string, hive: string): Promise<Explanation>;
}

/** Opens a PostgreSQL in this page and builds the demo's world in it: some seconds, once. */
export async function openWorld(): Promise<World> {
  const db = connect<any>(new PGlite());
  await seed(db);
  const lintel = createLintel({ charter, db });
  const fulfilled = Object.keys(charter.data.obligations);
  const standingOf = (user: string) => lintel.enter({ tenant: TENANT, user, fulfilled });
  const maren = await standingOf('maren');
  const members = (await maren.members.list()).map(({ userId, name }) => ({ id: userId, name }));
  const standings: ServerStanding<any>[] = [];
  for (const { id } of members) standings.push(await standingOf(id));
  const nameOf = (id: string) => people.find((person) => person.id === id)?.name ?? id;
  return {
    people: members,
    actions: [...charter.permissions.values()]
      .filter(({ kind, name }) => kind === 'hive' && name !== 'hive.create')
      .map(({ name, label }) => ({ name, label })),
    hives: (await maren.find('hive', { order: 'name', limit: 100 })).map(({ id, name }) => ({ id: id as string, name: name as string })),
    table: (kind) => accessTable(charter, 'people', peopleSubjects(standings), { tenant: maren.facts.tenant, db, only: [kind] }),
    compare: async (ids, action) => {
      const sides = [];
      for (const id of ids) sides.push({ name: nameOf(id), standing: await standingOf(id) });
      return compare(sides, { db, action, some: 10 });
    },
    why: async (person, action, hive) => {
      const standing = (await standingOf(person)) as ServerStanding<any>;
      return explain(
        standing,
        await standing.decideById(action, hive),
        { kind: 'hive', id: hive },
        { keyholders: [{ id: 'maren', name: nameOf('maren') }], names: new Map(people.map(({ id, name }) => [id, name])) },
      );
    },
  };
}
