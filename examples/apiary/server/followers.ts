import type { Kysely } from 'kysely';
import { everythingMet } from 'warm-lintel';
import type { Mailer } from 'warm-lintel/mail';
import { charter } from '../world/charter.js';
import type { ApiaryTables } from '../world/tables.js';
import type { Apiary } from './app.js';
import type { Here } from './here.js';

/** The program that reads the journal of an association: it may see its hives, inspections and members, and nothing else. */
const programOf = (tenant: string) => `letters-of-${tenant}`;
const ALL = { on: 'tenant' } as const;

export interface Followers {
  readonly lintel: Apiary;
  readonly mailer: Mailer;
  readonly origin: () => string;
}

/** Takes the program in where there is none yet. What was done before is told to nobody. */
export async function beginTelling({ lintel }: Followers, tenant: string, keyholder: string): Promise<void> {
  const program = programOf(tenant);
  const standing = await lintel.enter({ tenant, user: keyholder, fulfilled: everythingMet(charter) });
  if ((await standing.programs.list()).some(({ id }) => id === program)) return;
  await standing.carryOut([
    { do: 'make-program', id: program, name: 'Letters to followers', responsible: keyholder },
    {
      do: 'set-permissions',
      holder: { user: program },
      permissions: ['hive.read', 'inspection.read', 'member.read'].map((permission) => ({ permission, reach: 'tenant', anchor: ALL })),
    },
  ]);
  await newLines(lintel, await lintel.enter({ tenant, user: program }), async () => {});
}

/** Each line of the journal that was not told yet, the oldest first. Whoever takes a line up tells it: two that run at once tell nothing twice, and what failed is told later. */
async function newLines(lintel: Apiary, program: Here, tell: (line: Line) => Promise<void>): Promise<void> {
  const db = lintel.db as unknown as Kysely<ApiaryTables>;
  const { items } = await program.journal.recent({ limit: 200 });
  const told = new Set(
    (
      await db
        .selectFrom('told_lines')
        .select('line')
        .where('line', 'in', ['', ...items.map(({ id }) => id)])
        .execute()
    ).map(({ line }) => line),
  );
  for (const line of items.toReversed()) {
    if (told.has(line.id)) continue;
    const taken = await db
      .insertInto('told_lines')
      .values({ line: line.id })
      .onConflict((c) => c.doNothing())
      .returning('line')
      .executeTakeFirst();
    if (!taken) continue;
    try {
      await tell(line);
    } catch (error) {
      await db.deleteFrom('told_lines').where('line', '=', line.id).execute();
      throw error;
    }
  }
}
type Line = Awaited<ReturnType<Here['journal']['recent']>>['items'][number];

/**
 * Tells whoever follows a hive what was done to it, by a letter that says who and what and no value: those who may see it by then, and not whoever did it. What was tried and taken back
 * stands in no journal, and is told to nobody.
 */
export async function tellFollowers({ lintel, mailer, origin }: Followers, tenant: string): Promise<void> {
  const program = await lintel.enter({ tenant, user: programOf(tenant) });
  await newLines(lintel, program, async (line) => {
    const { by, what } = line;
    const id = line.kind === 'hive' ? line.record : line.fields.hiveId?.to;
    // Who is on the list is of no interest to the list.
    if (typeof id !== 'string' || what === 'deleted' || Object.keys(line.fields).join() === 'followers') return;
    const [hive] = await program.find('hive', { where: { id } });
    const followers = hive?.followers ?? [];
    if (followers.length === 0) return;
    const did = line.kind === 'inspection' ? 'wrote an inspection of' : what === 'made' ? 'added' : what === 'changed' ? 'changed' : 'handed over';
    const said = `${by?.name ?? 'Somebody'} ${did} ${hive?.name ?? 'a hive'}`;
    const { people } = await program.who('hive.read', id, { limit: 200 });
    const members = new Map((await program.members.list()).map((one) => [one.userId, one]));
    for (const follower of followers) {
      const to = members.get(follower);
      if (!to || follower === by?.userId || !people.some(({ userId }) => userId === follower)) continue;
      const link = `${origin()}/t/${tenant}/hives/${encodeURIComponent(id)}`;
      await mailer.send({
        to: { name: to.name, address: to.address },
        subject: said,
        text: `${said}. You follow this hive: ${link}`,
        html: `<p>${escaped(said)}. You follow this hive: <a href="${link}">look at it</a></p>`,
      });
    }
  });
}

const escaped = (text: string) => text.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('"', '&quot;');
