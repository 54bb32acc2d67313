/* A few people of two tenants, each with records that no other may see, in a database under row policies. */
import { randomBytes } from 'node:crypto';
import { type Kysely, sql } from 'kysely';
import pg from 'pg';
import { readCharter } from 'warm-lintel';
import { connect, createLintel, policyStatements } from 'warm-lintel/server';
import { databaseOn } from '../../test/setup.js';

const text = { type: 'text' } as const;
const actions = Object.fromEntries(['read', 'create', 'update', 'delete', 'move'].map((label) => [label, { label }]));
export const charter = readCharter({
  kinds: {
    leaf: {
      table: 'leaves',
      label: 'note',
      one: 'leaf',
      many: 'leaves',
      actions,
      fields: {
        id: { role: 'id', ...text },
        tenantId: { role: 'tenant', ...text },
        ownerId: { role: 'owner', ...text },
        unitId: { role: 'unit', ...text, change: 'move' },
        note: { role: 'plain', ...text },
      },
      reaches: { own: { op: 'is', field: 'ownerId', to: { me: 'userId' } } },
    },
  },
  roles: {
    // Whoever makes one that is nobody's does not see it.
    own: { label: 'Own', may: Object.fromEntries(Object.keys(actions).map((action) => [`leaf.${action}`, [action === 'create' ? 'tenant' : 'own']])) },
    all: { label: 'All', may: Object.fromEntries(Object.keys(actions).map((action) => [`leaf.${action}`, ['tenant']])) },
  },
});

export const PEOPLE = { ada: 't', ben: 't', cleo: 'u' } as const;
export type Person = keyof typeof PEOPLE;

/** What a note of somebody's looks like, wherever it turns up. */
export const noteOf = (who: string, number: number) => `note-${who}-${number}`;

export interface World {
  /** Whoever owns the tables. */
  readonly owner: Kysely<any>;
  readonly lintel: ReturnType<typeof createLintel>;
  /** The application: one connection, which is lent to one after the other. */
  readonly app: Kysely<any>;
  /** The same role, on a connection of its own. */
  readonly beside: Kysely<any>;
  /** A connection that is new. */
  anew(): Kysely<any>;
  close(): Promise<void>;
}

export async function makeWorld(server: string): Promise<World> {
  const url = await databaseOn(server);
  // Roles of several runs on one server do not meet.
  const role = `wall_app_${randomBytes(6).toString('hex')}`;
  const owners = new pg.Pool({ connectionString: url, max: 2 });
  owners.on('error', () => {});
  const owner = connect<any>(owners);
  const say = (statement: string) => sql.raw(statement).execute(owner);
  await say(`create table leaves (id text primary key, tenant_id text not null, owner_id text, unit_id text, note text, hidden text default 'note-nobody-0')`);
  // What the application keeps for itself, which everybody of it reads and writes.
  await say('create table lumber (what text)');
  const lintel = createLintel({ charter, db: owner });
  await lintel.prepare();
  for (const id of [...Object.keys(PEOPLE), 'key']) await lintel.addPerson({ id, name: id, address: `${id}@wall.example`, confirmedAt: new Date(0) });
  for (const id of ['t', 'u']) {
    await lintel.openTenant({ id, name: id, keyholder: 'key' });
    const standing = await lintel.enter({ tenant: id, user: 'key' });
    for (const unit of ['near', 'far']) await standing.carryOut([{ do: 'add-unit', id: `${unit}-${id}`, name: unit }]);
    for (const [user, tenant] of Object.entries(PEOPLE)) {
      if (tenant !== id) continue;
      await owner
        .insertInto('lintel_member')
        .values({ tenant_id: id, user_id: user, status: 'active', since: new Date(0), attributes: '{}' })
        .execute();
      await owner.insertInto('lintel_assignment').values({ tenant_id: id, user_id: user, role: 'own', anchor: 'tenant', anchor_id: id }).execute();
    }
  }
  // Ada also has what lies near, whosever it is.
  await owner.insertInto('lintel_assignment').values({ tenant_id: 't', user_id: 'ada', role: 'all', anchor: 'unit', anchor_id: 'near-t' }).execute();
  await say(`create role ${role} login`);
  await say(`grant select, insert, update, delete on lumber to ${role}`);
  for (const statement of policyStatements(charter as never, { role })) await say(statement);
  const open = () => {
    const pool = new pg.Pool({ connectionString: url.replace('lintel@', `${role}@`), max: 1 });
    pool.on('error', () => {});
    return connect<any>(pool);
  };
  const [app, beside] = [open(), open()];
  return {
    owner,
    lintel,
    app,
    beside,
    anew: open,
    close: async () => {
      await Promise.all([app, beside, owner].map((db) => db.destroy()));
    },
  };
}

/** Puts every record back to what it was. */
export async function reset({ owner }: World): Promise<void> {
  await sql`delete from leaves`.execute(owner);
  await sql`delete from lumber`.execute(owner);
  for (const [who, tenant] of Object.entries(PEOPLE))
    for (let i = 0; i < 2; i++)
      await sql`insert into leaves (id, tenant_id, owner_id, unit_id, note) values (${`${who}-${i}`}, ${tenant}, ${who}, ${`far-${tenant}`}, ${noteOf(who, i)})`.execute(
        owner,
      );
}
