/*
 * Another application of another hand: houses keep their repairs. Fastify and plain SQL; repairs and notes are numbered within each house, who lives in one is known by
 * house and person together, and a token is of one house.
 */
import { randomUUID } from 'node:crypto';
import Fastify, { type FastifyReply, type FastifyRequest } from 'fastify';
import type pg from 'pg';
import { connect } from 'warm-lintel/server';
import { type Application, inTurn } from './application.js';
import { charter, SCHEMA } from './house-world.js';

interface Resident {
  readonly id: string;
  readonly house: string;
  readonly role: string;
}

async function start(pool: pg.Pool, faults: ReadonlySet<string>) {
  const has = (fault: string) => faults.has(fault);
  const tokens = new Map<string, Resident>();
  const kept = new Map<string, unknown>();
  const app = Fastify();
  const rows = async (query: string, values: unknown[] = []): Promise<any[]> => (await pool.query(query, values)).rows;
  /** The next number is that after the last. */
  const numbered = (house: string, query: string, values: unknown[]): Promise<any> =>
    inTurn(pool, house, async (its) => (await its(query, [house, ...values]))[0]);
  const refusal = (statusCode: number, message: string) => Object.assign(new Error(message), { statusCode });
  const no = {
    there: () => refusal(404, 'Not found.'),
    right: () => refusal(403, 'You may not do that.'),
  };
  const asNumber = (one: string) => (/^\d{1,9}$/.test(one) || (has('breaks-at-large-number') && /^\d+$/.test(one)) ? one : '0');
  const isUuid = (one: unknown): one is string => typeof one === 'string' && /^[0-9a-f-]{36}$/.test(one);

  app.post<{ Body: { email: string; house: string } }>('/tokens', async ({ body }) => {
    const [one] = await rows('select r.* from residencies r join people p on p.id = r.resident_id where p.email = $1 and r.house_id = $2', [
      body?.email,
      body?.house,
    ]);
    if (!one) throw no.right();
    const token = randomUUID();
    tokens.set(token, { id: one.resident_id, house: one.house_id, role: one.role });
    return { token };
  });
  const me = async (req: FastifyRequest): Promise<Resident> => {
    const token = tokens.get(String(req.headers.authorization ?? '').replace(/^Bearer /, ''));
    const house = has('house-by-header') && typeof req.headers['x-house'] === 'string' ? req.headers['x-house'] : token?.house;
    const query = req.query as Record<string, string | undefined>;
    const who = has('person-by-parameter') && isUuid(query.residentId) ? query.residentId : token?.id;
    const [one] = token ? await rows('select role from residencies where house_id = $1 and resident_id = $2', [house, who]) : [];
    if (!token || (!one && !has('token-kept') && !has('house-by-header'))) throw refusal(401, 'No token of a house.');
    return { id: who as string, house: house as string, role: has('role-of-token') || !one ? token.role : one.role };
  };
  const all = ({ role }: Resident) => role !== 'resident';
  const shown = ({ role }: Resident, one: any, open = false) => ({
    no: one.no,
    reportedBy: one.reported_by,
    title: one.title,
    details: one.details,
    state: one.state,
    private: one.private,
    ...((role === 'board' || open) && { cost: one.cost }),
  });
  const seen = (who: Resident) => (all(who) ? 'r.house_id = $1 and $2::uuid is not null' : 'r.house_id = $1 and (not r.private or r.reported_by = $2)');

  app.get<{ Querystring: Record<string, string | undefined> }>('/repairs', async (req) => {
    const who = await me(req);
    const { q, order, after } = req.query;
    const name = `${req.url}`;
    if (has('answer-kept') && kept.has(name)) return kept.get(name);
    const values: unknown[] = [who.house, who.id];
    let where = has('repairs-of-house')
      ? 'r.house_id = $1 and $2::uuid is not null'
      : has('repairs-of-all')
        ? '$1::text is not null and $2::uuid is not null'
        : seen(who);
    if (q?.includes('\0')) throw refusal(400, 'q');
    if (q !== undefined)
      where += has('search-drops-condition')
        ? ` and r.title ilike $${values.push(`%${q}%`)} or r.details ilike $${values.length}`
        : ` and r.title ilike $${values.push(`%${q}%`)}`;
    if (after !== undefined) where += ` and r.no > $${values.push(asNumber(after))}::int`;
    if (has('unknown-state-lifts') && req.query.state === 'all') where = 'r.house_id = $1 and $2::uuid is not null';
    const by = order === 'title' ? 'r.title' : order === 'cost' && (who.role === 'board' || has('order-by-cost')) ? 'r.cost' : 'r.no';
    const found = await rows(`select r.* from repairs r where ${where} order by ${by}, r.no`, values);
    const answer = { repairs: found.map((one) => shown(who, one, has('cost-listed'))) };
    kept.set(name, answer);
    return answer;
  });
  app.get('/repairs.csv', async (req, reply: FastifyReply) => {
    const who = await me(req);
    const found = await rows(
      `select r.no, r.title, r.details from repairs r where ${has('export-of-house') ? 'r.house_id = $1 and $2::uuid is not null' : seen(who)} order by r.no`,
      [who.house, who.id],
    );
    return reply.type('text/csv').send(found.map((one) => `${one.no},"${one.title}","${one.details}"`).join('\n'));
  });
  app.get('/repairs/figures', async (req) => {
    const who = await me(req);
    const [one] = await rows(
      `select count(*)::int as open, coalesce(sum(r.cost), 0)::int as "costs", max(r.cost) as dearest from repairs r where ${has('figures-of-house') ? 'r.house_id = $1 and $2::uuid is not null' : seen(who)} and r.state <> 'done'`,
      [who.house, who.id],
    );
    return who.role === 'board' || has('figures-of-house') ? one : { open: one.open };
  });
  const repairOf = async (who: Resident, wanted: string, how?: 'of the house' | 'of any') => {
    const found = await rows('select r.* from repairs r where r.no = $1 order by r.house_id desc', [asNumber(wanted)]);
    const here = found.find((one) => one.house_id === who.house);
    if (how === 'of any') return found[0];
    return here && (how === 'of the house' || all(who) || !here.private || here.reported_by === who.id) ? here : undefined;
  };
  app.get<{ Params: { no: string } }>('/repairs/:no', async (req) => {
    const who = await me(req);
    const one = await repairOf(who, req.params.no, has('repair-of-house') ? 'of the house' : has('repair-of-any-house') ? 'of any' : undefined);
    if (!one && has('private-is-told') && (await repairOf(who, req.params.no, 'of the house'))) throw refusal(403, 'This repair is private.');
    if (!one) throw no.there();
    return shown(who, one);
  });
  const words = { type: 'string', minLength: 1, maxLength: 400, pattern: '^[^\\u0000]*$' } as const;
  const repairBody = { type: 'object', required: ['title'], properties: { title: words, details: words, private: { type: 'boolean' } } } as const;
  app.post<{ Body: any }>('/repairs', { schema: has('breaks-unchecked') ? {} : { body: repairBody } }, async (req, reply) => {
    const who = await me(req);
    const { title, details = null, private: hidden = false, ...more } = req.body as any;
    const house = has('reported-elsewhere') && typeof more.houseId === 'string' && more.houseId !== '' ? more.houseId : who.house;
    const by = has('reported-for-another') && isUuid(more.reportedBy) ? more.reportedBy : who.id;
    const cost = has('reported-with-cost') && Number.isInteger(more.cost) ? more.cost : null;
    const made = await numbered(
      house,
      'insert into repairs (house_id, no, reported_by, title, details, cost, private) select $1::text, coalesce(max(no), 0) + 1, $2, $3, $4, $5, $6 from repairs where house_id = $1 returning no',
      [by, title, details, cost, hidden],
    );
    return reply.code(201).send({ no: made.no });
  });
  app.patch<{ Params: { no: string }; Body: any }>('/repairs/:no', { schema: { body: repairBody } }, async (req) => {
    const who = await me(req);
    const one = await repairOf(who, req.params.no, has('changed-by-neighbour') ? 'of the house' : undefined);
    if (!one) throw no.there();
    if (one.reported_by !== who.id && !has('changed-by-neighbour')) throw no.right();
    const { title, details = one.details } = req.body as any;
    await rows(`update repairs set title = $3, details = $4 where no = $2 ${has('changed-in-both') ? 'and $1::text is not null' : 'and house_id = $1'}`, [
      who.house,
      one.no,
      title,
      details,
    ]);
    return {};
  });
  const stateBody = { type: 'object', required: ['state'], properties: { state: { enum: ['open', 'doing', 'done'] } } } as const;
  app.put<{ Params: { no: string }; Body: { state: string } }>('/repairs/:no/state', { schema: { body: stateBody } }, async (req) => {
    const who = await me(req);
    const one = await repairOf(who, req.params.no);
    if (!one) throw no.there();
    if (!all(who) && !has('state-by-resident')) throw no.right();
    await rows(`update repairs set state = $3 where no = $2 ${has('state-in-both') ? 'and $1::text is not null' : 'and house_id = $1'}`, [
      who.house,
      one.no,
      req.body.state,
    ]);
    return {};
  });
  app.post<{ Body: { nos: number[] } }>(
    '/repairs/close',
    {
      schema: has('breaks-at-null-in-list')
        ? {}
        : {
            body: {
              type: 'object',
              required: ['nos'],
              properties: { nos: { type: 'array', maxItems: 100, items: { type: 'integer', minimum: 0, maximum: 2147483647 } } },
            },
          },
    },
    async (req) => {
      const who = await me(req);
      if (!all(who) && !has('closed-by-resident')) throw no.right();
      const nos = (req.body?.nos ?? []).map((one) => (has('breaks-at-null-in-list') ? one.toString() : one));
      await rows(`update repairs set state = 'done' where no = any ($2::int[]) ${has('closed-in-both') ? 'and $1::text is not null' : 'and house_id = $1'}`, [
        who.house,
        nos,
      ]);
      return {};
    },
  );

  const noteShown = (one: any) => ({ no: one.no, repairNo: one.repair_no, author: one.author, words: one.words });
  app.get<{ Params: { no: string } }>('/repairs/:no/notes', async (req) => {
    const who = await me(req);
    const one = await repairOf(who, req.params.no, has('notes-of-private') ? 'of the house' : undefined);
    if (!one) throw no.there();
    return (
      await rows(`select * from notes where repair_no = $2 ${has('notes-of-both') ? 'and $1::text is not null' : 'and house_id = $1'} order by no`, [
        who.house,
        one.no,
      ])
    ).map(noteShown);
  });
  app.get<{ Params: { no: string; noteNo: string } }>('/repairs/:no/notes/:noteNo', async (req) => {
    const who = await me(req);
    const one = await repairOf(who, req.params.no);
    const [note] = one ? await rows('select * from notes where house_id = $1 and no = $2', [who.house, asNumber(req.params.noteNo)]) : [];
    if (!note || (note.repair_no !== one.no && !has('note-of-another'))) throw no.there();
    return noteShown(note);
  });
  app.post<{ Params: { no: string }; Body: { words: string } }>(
    '/repairs/:no/notes',
    { schema: { body: { type: 'object', required: ['words'], properties: { words } } } },
    async (req, reply) => {
      const who = await me(req);
      const one = await repairOf(who, req.params.no, has('note-under-private') ? 'of the house' : undefined);
      if (!one) throw no.there();
      const by = has('note-by-another') && isUuid((req.body as any).author) ? (req.body as any).author : who.id;
      const made = await numbered(
        who.house,
        'insert into notes select $1::text, coalesce(max(no), 0) + 1, $2, $3, $4 from notes where house_id = $1 returning no',
        [one.no, by, req.body.words],
      );
      return reply.code(201).send({ no: made.no });
    },
  );
  app.delete<{ Params: { no: string; noteNo: string } }>('/repairs/:no/notes/:noteNo', async (req) => {
    const who = await me(req);
    const one = await repairOf(who, req.params.no);
    const [note] = one
      ? await rows('select * from notes where house_id = $1 and no = $2 and repair_no = $3', [who.house, asNumber(req.params.noteNo), one.no])
      : [];
    if (!note) throw no.there();
    if (note.author !== who.id && !has('note-deleted-by-any')) throw no.right();
    await rows('delete from notes where house_id = $1 and no = $2', [who.house, note.no]);
    return {};
  });

  app.get('/papers', async (req) => {
    const who = await me(req);
    return rows(`select id, title from papers where house_id = $1 ${who.role === 'board' || has('papers-of-board') ? '' : 'and not board_only'} order by id`, [
      who.house,
    ]);
  });
  app.get<{ Params: { paperId: string } }>('/papers/:paperId', async (req) => {
    const who = await me(req);
    const [one] = await rows('select * from papers where id = $1', [asNumber(req.params.paperId)]);
    const there = one && (has('paper-of-any') || (one.house_id === who.house && (!one.board_only || who.role === 'board')));
    if (!there) throw no.there();
    return { id: one.id, title: one.title, body: one.body, boardOnly: one.board_only };
  });

  app.get('/residents', async (req) => {
    const who = await me(req);
    if (who.role !== 'board' && !has('residents-open')) throw no.right();
    return rows(
      `select resident_id as id, role, flat from residencies where ${has('residents-of-both') ? '$1::text is not null' : 'house_id = $1'} order by flat`,
      [who.house],
    );
  });
  app.put<{ Params: { residentId: string }; Body: { role: string } }>(
    '/residents/:residentId/role',
    { schema: { body: { type: 'object', required: ['role'], properties: { role: { enum: ['board', 'resident', 'caretaker'] } } } } },
    async (req) => {
      const who = await me(req);
      const { residentId } = req.params;
      const mine = has('role-by-self') && residentId === who.id;
      const [one] = isUuid(residentId) ? await rows('select * from residencies where house_id = $1 and resident_id = $2', [who.house, residentId]) : [];
      if (!one || (who.role !== 'board' && one.resident_id !== who.id)) throw no.there();
      if (who.role !== 'board' && !mine) throw no.right();
      await rows(`update residencies set role = $3 where resident_id = $2 ${has('role-in-both') ? 'and $1::text is not null' : 'and house_id = $1'}`, [
        who.house,
        residentId,
        req.body.role,
      ]);
      return {};
    },
  );
  app.delete<{ Params: { residentId: string } }>('/residents/:residentId', async (req) => {
    const who = await me(req);
    const [one] = isUuid(req.params.residentId)
      ? await rows('select * from residencies where house_id = $1 and resident_id = $2', [who.house, req.params.residentId])
      : [];
    if (!one || (who.role !== 'board' && one.resident_id !== who.id)) throw no.there();
    if (who.role !== 'board') throw no.right();
    await rows(`delete from residencies where resident_id = $2 ${has('removed-from-both') ? 'and $1::text is not null' : 'and house_id = $1'}`, [
      who.house,
      req.params.residentId,
    ]);
    return {};
  });

  return { app: await app.listen({ port: 0, host: '127.0.0.1' }), close: () => app.close() };
}

export const house: Application = {
  name: 'house',
  charter,
  schema: SCHEMA,
  tables: ['residencies', 'repairs', 'notes', 'papers'],
  start,
  target: async (pool, app) => ({
    app,
    sessions: 'tenant',
    signIn: async ({ address }, send, { tenant }) => {
      const answer = await send({ method: 'POST', path: '/tokens', body: { email: address, house: tenant } });
      return { authorization: `Bearer ${((await answer.json()) as { token: string }).token}` };
    },
    membership: { kind: 'residency', person: 'id', role: 'role' },
    people: (
      await connect<any>(pool)
        .selectFrom('residencies as r')
        .innerJoin('people as p', 'p.id', 'r.resident_id')
        .select(['p.id', 'p.name', 'p.email', 'r.house_id', 'r.role'])
        .orderBy('r.house_id')
        .orderBy('p.id')
        .execute()
    ).map(({ id: who, name, email, house_id, role }) => ({ id: who, name, address: email, tenant: house_id, roles: [role] })),
    routes: [
      { method: 'get', path: '/repairs', query: ['q', 'order', 'after'] },
      { method: 'get', path: '/repairs.csv', kind: 'repair' },
      { method: 'get', path: '/repairs/figures', kind: 'repair' },
      { method: 'get', path: '/repairs/:no' },
      { method: 'post', path: '/repairs', body: { title: 'Probe', details: 'Probe', private: false } },
      { method: 'patch', path: '/repairs/:no', body: { title: 'Probe', details: 'Probe' } },
      { method: 'put', path: '/repairs/:no/state', body: { state: 'doing' } },
      { method: 'post', path: '/repairs/close', body: { nos: [] } },
      { method: 'get', path: '/repairs/:no/notes' },
      { method: 'get', path: '/repairs/:no/notes/:noteNo' },
      { method: 'post', path: '/repairs/:no/notes', kind: 'note', body: { words: 'Probe' } },
      { method: 'delete', path: '/repairs/:no/notes/:noteNo' },
      { method: 'get', path: '/papers' },
      { method: 'get', path: '/papers/:paperId' },
      { method: 'get', path: '/residents', kind: 'residency' },
      { method: 'put', path: '/residents/:residentId/role', params: { residentId: 'residency' }, body: { role: 'resident' } },
      { method: 'delete', path: '/residents/:residentId', params: { residentId: 'residency' } },
    ],
  }),
  faults: [
    ['repairs-of-house', 'a list with what is private'],
    ['repairs-of-all', 'a list of all houses'],
    ['repair-of-house', 'what is private, by its number'],
    ['repair-of-any-house', 'a number without its house'],
    ['private-is-told', 'what is private is refused, and not missing'],
    ['search-drops-condition', 'a search whose or goes past the condition'],
    ['unknown-state-lifts', 'a parameter that no route describes, and that lifts the condition'],
    ['order-by-cost', 'a list in the order of what is masked'],
    ['cost-listed', 'what it costs, in the list of all'],
    ['export-of-house', 'an export with what is private'],
    ['figures-of-house', 'sums and the dearest of all, to everybody'],
    ['answer-kept', 'an answer that is kept for whoever asks next'],
    ['reported-elsewhere', 'a repair in the house that the body names'],
    ['reported-for-another', 'a repair in the name of another'],
    ['reported-with-cost', 'a cost that the body brings along'],
    ['changed-by-neighbour', 'a repair of another, changed'],
    ['changed-in-both', 'a change by number, in every house that has one'],
    ['state-by-resident', 'a state set by whoever may not'],
    ['state-in-both', 'a state set by number, in every house that has one'],
    ['closed-by-resident', 'many closed by whoever may not'],
    ['closed-in-both', 'many closed by number, in every house that has them'],
    ['notes-of-private', 'notes of what is private'],
    ['notes-of-both', 'notes by number, of every house that has one'],
    ['note-of-another', 'a note under another repair than its own'],
    ['note-under-private', 'a note under what is private'],
    ['note-by-another', 'a note in the name of another'],
    ['note-deleted-by-any', 'a note of another, deleted'],
    ['papers-of-board', 'what is the board’s, in the list of all'],
    ['paper-of-any', 'a paper by its number, of whatever house'],
    ['residents-open', 'who lives here, to everybody'],
    ['residents-of-both', 'who lives in all houses, to a board'],
    ['role-by-self', 'a role that one gives oneself'],
    ['role-in-both', 'a role given in every house of somebody'],
    ['removed-from-both', 'a removal from every house of somebody'],
    ['token-kept', 'a token that outlives the residency'],
    ['role-of-token', 'a token that keeps the role of before'],
    ['house-by-header', 'the house out of a header'],
    ['person-by-parameter', 'the person out of a parameter'],
    ['breaks-unchecked', 'a body that is not checked'],
    ['breaks-at-large-number', 'a number that is too large for the column'],
    ['breaks-at-null-in-list', 'nothing in a list'],
  ],
};
