/*
 * Somebody with SQL in the application's connection leaves there, or runs beside, whatever such a role may, before others carry their standing and after: nobody
 * comes to see a record but their own, and nobody's is touched.
 */
import { type Kysely, sql } from 'kysely';
import { Choices } from '../harness/tape.js';
import { noteOf, PEOPLE, type Person, reset, type World } from './world.js';

const rowsOf = async (db: Kysely<any>, text: string): Promise<unknown[]> => (await sql.raw<any>(text).execute(db)).rows;

/** Goes on after a statement that fails, as far as whoever sent it left something to go back to. */
async function tried(db: Kysely<any>, text: string): Promise<unknown[]> {
  await rowsOf(db, 'savepoint wall_tried').catch(() => []);
  return rowsOf(db, text).catch(async () => {
    await rowsOf(db, 'rollback to savepoint wall_tried').catch(() => []);
    return [];
  });
}

/** Whose records somebody may come to see. */
const MINE = 'ben' satisfies Person;

/** What a role that owns nothing may send; some of it makes sense one after the other. */
function hostile(c: Choices): string {
  const taken = c.of([
    'note',
    'id',
    `current_setting('lintel.standing', true)`,
    `current_setting('lintel.given', true)`,
    `current_setting('lintel.tenant', true)`,
    `current_setting('lintel.claims', true)`,
  ]);
  const copy = `insert into lumber select ${taken} from leaves`;
  const statements: readonly (() => string)[] = [
    () => `declare kept${c.next(2)} cursor with hold for select note from leaves`,
    () => `declare kept${c.next(2)} scroll cursor with hold for select current_setting('lintel.standing', true)`,
    () => `prepare ask as ${c.of([copy, 'select note from leaves', 'delete from leaves', `with w as (${copy} returning 1) select note from leaves`])}`,
    () => 'deallocate all',
    () => `create temp ${c.of(['table', 'view'])} leaves as select 'x'::text as id, 'note-ben-9'::text as note`,
    // What one left stands in the way of the next.
    () => `drop ${c.of(['table', 'view'])} if exists pg_temp.leaves`,
    () => 'discard temp',
    () => `create temp table stolen as select note from leaves`,
    () => `create temp view leaves as with w as (select note from public.leaves) select 'x'::text as id, note from w`,
    () => `create function pg_temp.told(text) returns text language sql as $$ select 'u' $$`,
    () => `create function public.mine() returns text language sql as $$ select note from leaves limit 1 $$`,
    () => `create schema mine`,
    () => `create rule loud as on update to lumber do also ${copy}`,
    () => `create trigger loud before insert on lumber execute function pg_catalog.suppress_redundant_updates_trigger()`,
    () => `set ${c.of(['', 'local', 'session'])} search_path = ${c.of(['pg_temp, public', 'lintel_wall, public', 'public, pg_catalog', `''`])}`,
    () => `set row_security = off`,
    () =>
      `alter role current_user set ${c.of(['search_path = pg_temp, public', 'row_security = off', `lintel.standing = 'x'`, 'default_transaction_isolation = serializable'])}`,
    () => `set role ${c.of(['none', 'postgres', 'lintel', 'pg_read_all_data'])}`,
    () => `set session authorization default`,
    () => c.of(['begin', 'commit', 'rollback', 'savepoint theirs', 'rollback to savepoint theirs', 'release savepoint theirs']),
    () => `set transaction isolation level ${c.of(['repeatable read', 'serializable', 'read committed'])}`,
    () => copy,
    () => `insert into lumber values (current_setting('lintel.standing', true))`,
    () => `select set_config('lintel.standing', (select what from lumber where what like '%.%' order by random() limit 1), ${c.oneIn(2)})`,
    () => `select set_config('lintel.tenant', '${c.of(['t', 'u', ''])}', ${c.oneIn(2)})`,
    () => `select set_config('lintel.claims', ${c.of(["repeat('1', 200)", "''", "reverse(current_setting('lintel.claims', true))"])}, ${c.oneIn(2)})`,
    () => `select set_config('lintel.given', (select what from lumber limit 1), ${c.oneIn(2)})`,
    () =>
      c.of(['select lintel_wall.challenge()', 'select lintel_wall.next_turn()', `select nextval('lintel_wall.turn')`, 'discard sequences', 'discard plans']),
    () => `select * from ${c.of(['lintel_wall.key', 'lintel_wall.turn', 'lintel_person', 'pg_stat_activity', 'pg_cursors', 'pg_prepared_statements'])}`,
    () => `select lintel_wall.${c.of([`told('user')`, `told('tenant')`, `units('leaf.read own')`, `opened('leaf.read')`, `give('leaf:x')`, `seal('x')`])}`,
    // A question of one's own, which leaves its answer where it is found.
    () =>
      `select lintel_wall.asked($$select set_config('wall.told', (select string_agg(note, ',') from public.leaves), false) <> ''$$, ${c.of(['null', "''", "left(current_setting('lintel.standing', true), 64)"])}, '{}'), current_setting('wall.told', true)`,
    () => `select ${c.of(['hidden', 'leaves', '*', 'ctid, xmin', 'leaves::text'])} from leaves`,
    () =>
      `insert into leaves (id, tenant_id, owner_id, note) values ('${c.of(['ada-0', 'cleo-0', 'new'])}', '${c.of(['t', 't', 'u'])}', ${c.of([`'ben'`, 'null'])}, 'note-ben-5') on conflict ${c.of(['do nothing', 'do nothing', '(id) do update set note = excluded.note'])}`,
    () =>
      `update leaves set ${c.of([`note = 'note-ben-6'`, `owner_id = 'ada'`, `unit_id = 'near-t'`, `tenant_id = 'u'`, `hidden = 'x'`])} where id = '${c.of(['ada-0', 'ben-0', 'ben-1', 'cleo-1'])}' returning *`,
    () => `select note from leaves where id = '${c.of(['ada-0', 'cleo-0'])}' for ${c.of(['update', 'share'])}`,
    () => `delete from leaves where id = '${c.of(['ada-0', 'cleo-0', 'new'])}'`,
    () => `copy (select note from leaves) to program 'cat'`,
    () => `do $$ begin ${copy}; exception when others then null; end $$`,
    () =>
      `do $$ begin perform lo_from_bytea(0, convert_to(coalesce((select string_agg(note, ',') from leaves), ''), 'UTF8')); exception when others then null; end $$`,
    () => `listen everything`,
    () => `fetch all from kept${c.next(2)}`,
    () => `execute ask`,
    () => `select * from ${c.of(['lumber', 'stolen', 'leaves', 'public.leaves'])}`,
  ];
  return c.of(statements)();
}

const SWEEP = [
  'fetch all from kept0',
  'fetch all from kept1',
  'select * from stolen',
  'select * from lumber',
  'select note from leaves',
  `select convert_from(lo_get(oid), 'UTF8') from pg_largeobject_metadata`,
  'execute ask',
  'select * from lumber',
];

/** Plays the round of a tape. Answers what it told, with all that was sent; and how many records were seen by those whose they are. */
export async function playRound(world: World, tape: readonly number[]): Promise<{ readonly told: string | undefined; readonly seen: number }> {
  await reset(world);
  const round = new Round(world, new Choices(tape));
  await round.play().finally(() => round.end());
  return { told: round.told && [`told something: ${round.told}`, ...round.done].join('\n'), seen: round.seen };
}

class Round {
  readonly #world: World;
  readonly #c: Choices;
  readonly done: string[] = [];
  readonly #anew: Kysely<any>[] = [];
  told: string | undefined;
  /** How many records somebody saw: a round in which nobody sees any would prove nothing. */
  seen = 0;

  constructor(world: World, c: Choices) {
    this.#world = world;
    this.#c = c;
  }

  async play(): Promise<void> {
    for (let turn = 0; turn < 2; turn++) {
      await this.#attack();
      if (this.#c.oneIn(4)) await this.#oneTransaction();
      else await this.#honest(this.#victim(), this.#c.oneIn(3) ? this.#freshConnection() : this.#world.app);
    }
    await this.#sweep(this.#world.app);
    await this.#sweep(this.#world.beside);
    await this.#looked();
  }

  async end(): Promise<void> {
    const { owner, app } = this.#world;
    const [{ rolname }] = (await rowsOf(app, 'select session_user as rolname').catch(() => [{ rolname: undefined }])) as [{ rolname?: string }];
    if (rolname) await rowsOf(owner, `alter role ${rolname} reset all`);
    for (const db of [app, this.#world.beside]) await rowsOf(db, 'rollback').catch(() => []);
    await Promise.all(this.#anew.map((db) => db.destroy()));
  }

  #freshConnection(): Kysely<any> {
    const db = this.#world.anew();
    this.#anew.push(db);
    return db;
  }

  #victim(): Person {
    return this.#c.of(['ada', 'cleo'] as const);
  }

  #enter(who: Person) {
    return this.#world.lintel.enter({ tenant: PEOPLE[who], user: who });
  }

  /** Nothing that comes to whoever attacks is of somebody else. */
  #hold(what: string, rows: unknown[]): void {
    const text = JSON.stringify(rows, (_, value) => (typeof value === 'bigint' ? String(value) : value)) ?? '';
    const foreign = /note-(?!ben)\w+-\d/.exec(text)?.[0];
    if (foreign !== undefined) this.told ??= `${foreign} by ${what}`;
  }

  async #send(db: Kysely<any>, as: string): Promise<void> {
    const text = hostile(this.#c);
    this.done.push(`${as}: ${text}`);
    this.#hold(text, await tried(db, text));
  }

  async #attack(): Promise<void> {
    const { app, beside } = this.#world;
    for (let i = 1 + this.#c.next(3); i > 0; i--) {
      const count = 1 + this.#c.next(4);
      const db = this.#c.oneIn(4) ? beside : app;
      const many = async (on: Kysely<any>, as: string) => {
        for (let n = 0; n < count; n++) await this.#send(on, as);
        this.#hold('what is left at the end', await tried(on, 'select note from public.leaves'));
      };
      if (this.#c.oneIn(3)) await db.connection().execute((connection) => many(connection, 'nobody'));
      else await (await this.#enter(MINE)).withPolicies(db, (tx) => many(tx, MINE)).catch(() => {});
    }
  }

  /** What an application does for somebody, on the connection that it is lent. */
  async #honest(who: Person, db: Kysely<any>): Promise<void> {
    const standing = await this.#enter(who);
    await standing
      .withPolicies(db, (tx) => this.#work(who, tx))
      .catch((error: Error) => {
        // What was left may spoil the work of others; it may not show them anything.
        this.done.push(`${who}: ${error.message}`);
      });
  }

  /** @param spoilt somebody had the transaction before, and may have ended it: then nothing is seen. */
  async #work(who: Person, tx: Kysely<any>, spoilt = false): Promise<void> {
    const own = [noteOf(who, 0), noteOf(who, 1)];
    const read = async (text: string) => {
      this.done.push(`${who}: ${text}`);
      const notes = ((await rowsOf(tx, text)) as { note: string }[]).map(({ note }) => note).sort();
      this.seen += notes.length;
      if (JSON.stringify(notes) !== JSON.stringify(own) && !(spoilt && notes.length === 0)) this.told ??= `${who} sees ${notes.join(', ') || 'nothing'}`;
    };
    await read('select note from leaves');
    // A statement under a name, made where it is not there.
    const isThere = (await rowsOf(tx, `select 1 from pg_prepared_statements where name = 'ask'`)).length > 0;
    if (!isThere) await rowsOf(tx, `prepare ask as select note from leaves`);
    await read('execute ask');
    await rowsOf(tx, `update leaves set note = note where owner_id = '${who}'`);
  }

  /** One after the other in one transaction of the application's. */
  async #oneTransaction(): Promise<void> {
    const who = this.#victim();
    const [mine, theirs] = [await this.#enter(MINE), await this.#enter(who)];
    await this.#world.app
      .transaction()
      .execute(async (tx) => {
        await mine.withPolicies(tx as never, async (within) => {
          await tried(within, `insert into lumber values (current_setting('lintel.standing', true))`);
          for (let i = 0; i < 3; i++) await this.#send(within, MINE);
          await rowsOf(within, 'savepoint theirs').catch(() => []);
        });
        await theirs.withPolicies(tx as never, async (within) => {
          await this.#work(who, within as Kysely<any>, true);
          // Whoever came before may have their words sent now: what a function, a trigger or a mistake of the application does.
          await rowsOf(within as Kysely<any>, 'rollback to savepoint theirs').catch(() => []);
          const notes = (await rowsOf(within as Kysely<any>, 'select note from leaves').catch(() => [])) as { note: string }[];
          if (notes.some(({ note }) => !note.includes(who))) this.told ??= `${who} sees ${notes.map(({ note }) => note).join(', ')} after a savepoint`;
        });
        for (let i = 0; i < 3; i++) await this.#send(tx, 'nobody');
      })
      .catch(() => {});
  }

  async #sweep(db: Kysely<any>): Promise<void> {
    await db.connection().execute(async (connection) => {
      for (const text of SWEEP) this.#hold(text, await tried(connection, text));
    });
    await (await this.#enter(MINE))
      .withPolicies(db, async (tx) => {
        for (const text of SWEEP) this.#hold(text, await tried(tx, text));
      })
      .catch(() => {});
  }

  /** Records of others are as they were. */
  async #looked(): Promise<void> {
    const rows = (await rowsOf(
      this.#world.owner,
      `select id, tenant_id, owner_id, note, hidden from leaves where id like 'ada%' or id like 'cleo%' order by id`,
    )) as Record<string, string>[];
    const should = (['ada', 'cleo'] as const).flatMap((who) =>
      [0, 1].map((i) => ({ id: `${who}-${i}`, tenant_id: PEOPLE[who], owner_id: who, note: noteOf(who, i), hidden: 'note-nobody-0' })),
    );
    if (JSON.stringify(rows) !== JSON.stringify(should)) this.told ??= `what is of others is ${JSON.stringify(rows)}`;
  }
}
