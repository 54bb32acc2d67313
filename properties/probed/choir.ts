/*
 * Another application of another hand: choirs keep their music and who comes to rehearse. Express and plain SQL; numbers for ids, of people and choirs too; who is in a
 * choir stands in a table of its own, and what hangs on a rehearsal has no column for the choir. A session is of one choir at a time, which is chosen after signing in.
 */
import { randomUUID } from 'node:crypto';
import type { Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import express, { type NextFunction, type Request, type Response } from 'express';
import type pg from 'pg';
import { connect } from 'warm-lintel/server';
import type { Application } from './application.js';
import { charter, SCHEMA } from './choir-world.js';

interface Singer {
  id: number;
  choir: number;
  part: string;
}
type Asked = Request & { singer: Singer };

async function start(pool: pg.Pool, faults: ReadonlySet<string>) {
  const has = (fault: string) => faults.has(fault);
  const sessions = new Map<string, { id: number; choir?: number; part?: string }>();
  const app = express();
  app.use(express.json());
  const rows = async (query: string, values: unknown[] = []): Promise<any[]> => (await pool.query(query, values)).rows;
  const handle = (work: (req: Asked, res: Response) => Promise<unknown>) => (req: Request, res: Response, next: NextFunction) =>
    void work(req as Asked, res).catch(next);
  const sessionOf = (req: Request) => sessions.get(/choir-session=([^;]+)/.exec(req.headers.cookie ?? '')?.[1] ?? '');
  const guard = (req: Request, res: Response, next: NextFunction) =>
    void (async () => {
      const session = sessionOf(req);
      const choir = has('choir-by-header') && /^\d+$/.test(String(req.headers['x-choir-id'])) ? Number(req.headers['x-choir-id']) : session?.choir;
      if (session === undefined || choir === undefined) return res.status(401).json({ error: 'Sign in, and choose a choir.' });
      const [held] = await rows('select part from memberships where singer_id = $1 and choir_id = $2', [session.id, choir]);
      const part = has('choir-by-header')
        ? (held?.part ?? 'singer')
        : has('part-kept') && held
          ? session.part
          : has('session-kept')
            ? (held?.part ?? session.part)
            : held?.part;
      if (part === undefined) return res.status(401).json({ error: 'Sign in, and choose a choir.' });
      (req as Asked).singer = { id: session.id, choir, part };
      next();
    })().catch(next);
  const notFound = (res: Response) => res.status(404).json({ error: 'Not found.' });
  const refused = (res: Response) => res.status(403).json({ error: 'You may not do that.' });
  const wrong = (res: Response, what: string) => res.status(400).json({ error: what });
  const asId = (one: unknown) => (/^\d{1,9}$/.test(String(one)) ? Number(one) : has('breaks-at-large-id') && /^\d+$/.test(String(one)) ? one : 0);
  const isText = (one: unknown): one is string => typeof one === 'string' && one.length > 0 && one.length < 500 && !one.includes('\0');
  const isCost = (one: unknown) => (typeof one === 'number' || typeof one === 'string') && /^\d{1,6}(\.\d{1,2})?$/.test(String(one));
  const sees = ({ part }: Singer) => part === 'leader' || part === 'librarian';

  app.post(
    '/sign-in',
    handle(async (req, res) => {
      const [one] = isText(req.body?.email) ? await rows('select id from singers where email = $1', [req.body.email]) : [];
      if (!one) return refused(res);
      const key = randomUUID();
      sessions.set(key, { id: one.id });
      res.cookie('choir-session', key, { httpOnly: true }).json({});
    }),
  );
  app.post(
    '/choose',
    handle(async (req, res) => {
      const session = sessionOf(req);
      const [held] = session
        ? await rows('select choir_id, part from memberships where singer_id = $1 and choir_id = $2', [session.id, asId(req.body?.choirId)])
        : [];
      if (!session || !held) return refused(res);
      Object.assign(session, { choir: held.choir_id, part: held.part });
      res.json({});
    }),
  );

  app.get(
    '/members',
    guard,
    handle(async ({ singer }, res) => {
      const all = singer.part === 'leader' || has('members-open');
      const [where, values] = has('members-of-all')
        ? ['true', []]
        : all
          ? ['choir_id = $1', [singer.choir]]
          : ['choir_id = $1 and singer_id = $2', [singer.choir, singer.id]];
      res.json({ members: await rows(`select id, singer_id as "singerId", part from memberships where ${where} order by id`, values as unknown[]) });
    }),
  );
  const memberOf = async ({ id: me, choir, part }: Singer, wanted: unknown, across = false) => {
    const [one] = await rows('select id, choir_id, singer_id as "singerId", part from memberships where id = $1', [asId(wanted)]);
    return one && (across || (one.choir_id === choir && (part === 'leader' || one.singerId === me))) ? one : undefined;
  };
  app.get(
    '/members/:memberId',
    guard,
    handle(async ({ singer, params }, res) => {
      const one = await memberOf(singer, params.memberId, has('member-of-any'));
      return one ? res.json({ id: one.id, singerId: one.singerId, part: one.part }) : notFound(res);
    }),
  );
  const PARTS = ['leader', 'librarian', 'singer'];
  app.post(
    '/members',
    guard,
    handle(async ({ singer, body }, res) => {
      if (singer.part !== 'leader') return refused(res);
      const [who] = await rows('select id from singers where id = $1', [asId(body?.singerId)]);
      if (!who || !PARTS.includes(body?.part)) return wrong(res, 'singerId, part');
      const choir = has('added-elsewhere') && asId(body.choirId) ? asId(body.choirId) : singer.choir;
      const [made] = await rows('insert into memberships (choir_id, singer_id, part) values ($1, $2, $3) on conflict do nothing returning id', [
        choir,
        who.id,
        body.part,
      ]);
      return made ? res.status(201).json({ id: made.id }) : res.status(409).json({ error: 'They are in the choir.' });
    }),
  );
  app.patch(
    '/members/:memberId',
    guard,
    handle(async ({ singer, params, body }, res) => {
      const one = await memberOf(singer, params.memberId, has('cast-across'));
      if (!one) return notFound(res);
      const self = has('cast-by-self') && one.singerId === singer.id;
      if (singer.part !== 'leader' && !self) return refused(res);
      if (!PARTS.includes(body?.part)) return wrong(res, 'part');
      await rows('update memberships set part = $2 where id = $1', [one.id, body.part]);
      res.json({});
    }),
  );
  app.delete(
    '/members/:memberId',
    guard,
    handle(async ({ singer, params }, res) => {
      const one = await memberOf(singer, params.memberId, has('removed-across'));
      if (!one) return notFound(res);
      if (singer.part !== 'leader' && !has('removed-by-singers')) return refused(res);
      await rows('delete from memberships where id = $1', [one.id]);
      res.json({});
    }),
  );

  const shown = (singer: Singer, { id: no, title, composer, licence_cost, draft }: any, open = false) => ({
    id: no,
    title,
    composer,
    draft,
    ...((sees(singer) || open) && { licenceCost: licence_cost }),
  });
  app.get(
    '/pieces',
    guard,
    handle(async ({ singer, query }, res) => {
      const values: unknown[] = [singer.choir];
      let where = sees(singer) || has('drafts-listed') ? 'choir_id = $1' : 'choir_id = $1 and not draft';
      const page = Number(query.page ?? 1);
      if (!Number.isInteger(page) || page < 1 || page > 1e6) return wrong(res, 'page');
      if (has('page-past-the-end') && page > 2) where = '$1::int is not null';
      if (isText(query.q)) where += ` and title ilike '%' || $${values.push(query.q)} || '%'`;
      if (has('cost-by-filter') && isCost(query.licenceCost)) where += ` and licence_cost = $${values.push(query.licenceCost)}`;
      const sorts: Record<string, string> = { title: 'title', id: 'id', ...((sees(singer) || has('cost-by-sort')) && { licenceCost: 'licence_cost' }) };
      const found = await rows(
        `select * from pieces where ${where} order by ${sorts[String(query.sort)] ?? 'id'}, id limit 50 offset ${has('page-past-the-end') && page > 2 ? 0 : (page - 1) * 50}`,
        values,
      );
      const fields = String(query.fields ?? '').split(',');
      const open = has('cost-listed') || (has('fields-obeyed') && fields.includes('licenceCost'));
      res.json({ pieces: found.map((one) => shown(singer, one, open)), total: found.length });
    }),
  );
  const pieceOf = async (singer: Singer, wanted: unknown, what?: 'drafts' | 'all') => {
    const [one] = await rows('select * from pieces where id = $1', [asId(wanted)]);
    return one && (what === 'all' || (one.choir_id === singer.choir && (!one.draft || sees(singer) || what === 'drafts'))) ? one : undefined;
  };
  app.get(
    '/pieces/:pieceId',
    guard,
    handle(async ({ singer, params }, res) => {
      const one = await pieceOf(singer, params.pieceId, has('piece-of-any') ? 'all' : has('draft-by-id') ? 'drafts' : undefined);
      return one ? res.json(shown(singer, one)) : notFound(res);
    }),
  );
  const readPiece = (body: any) => {
    const { title, composer = null, licenceCost = null, draft = false } = has('breaks-without-body') ? body : (body ?? {});
    const cost = licenceCost === null || isCost(licenceCost) || has('breaks-at-cost');
    return isText(title) && (composer === null || isText(composer)) && cost && typeof draft === 'boolean' ? [title, composer, licenceCost, draft] : undefined;
  };
  app.post(
    '/pieces',
    guard,
    handle(async ({ singer, body }, res) => {
      if (!sees(singer) && !has('piece-by-singer')) return refused(res);
      const values = readPiece(body);
      if (!values) return wrong(res, 'title, composer, licenceCost, draft');
      const [made] = await rows('insert into pieces (choir_id, title, composer, licence_cost, draft) values ($1, $2, $3, $4, $5) returning id', [
        singer.choir,
        ...values,
      ]);
      res.status(201).json({ id: made.id });
    }),
  );
  app.get(
    '/pieces/title-free/:title',
    guard,
    handle(async ({ singer, params }, res) => {
      if (!isText(params.title)) return wrong(res, 'title');
      const drafts = sees(singer) || has('title-taken') ? '' : 'and not draft';
      const [one] = await rows(`select id from pieces where choir_id = $1 and title = $2 ${drafts}`, [singer.choir, params.title]);
      res.json({ free: !one });
    }),
  );
  app.patch(
    '/pieces/:pieceId',
    guard,
    handle(async ({ singer, params, body }, res) => {
      const one = await pieceOf(singer, params.pieceId, has('piece-changed-across') ? 'all' : undefined);
      if (!one) return notFound(res);
      if (!sees(singer)) return refused(res);
      const values = readPiece(body);
      if (!values) return wrong(res, 'title, composer, licenceCost, draft');
      await rows('update pieces set title = $2, composer = $3, licence_cost = coalesce($4, licence_cost), draft = $5 where id = $1', [one.id, ...values]);
      res.json({});
    }),
  );
  app.delete(
    '/pieces/:pieceId',
    guard,
    handle(async ({ singer, params }, res) => {
      const one = await pieceOf(singer, params.pieceId);
      if (!one) return notFound(res);
      if (singer.part !== 'leader' && !(has('dropped-by-librarian') && sees(singer))) return refused(res);
      await rows('delete from pieces where id = $1', [one.id]);
      res.json({});
    }),
  );

  const attendance =
    'select a.id, a.rehearsal_id as "rehearsalId", a.singer_id as "singerId", a.excuse from attendances a join rehearsals r on r.id = a.rehearsal_id';
  app.get(
    '/rehearsals',
    guard,
    handle(async ({ singer, query }, res) => {
      const found = await rows('select id, place, starts_at as "startsAt", closed from rehearsals where choir_id = $1 order by id', [singer.choir]);
      if (has('include-obeyed') && query.include === 'attendances')
        for (const one of found) one.attendances = await rows(`${attendance} where r.id = $1`, [one.id]);
      res.json(found);
    }),
  );
  const rehearsalOf = async ({ choir }: Singer, wanted: unknown, across = false) =>
    (await rows('select * from rehearsals where id = $1', [asId(wanted)])).find((one) => across || one.choir_id === choir);
  app.get(
    '/rehearsals/:rehearsalId',
    guard,
    handle(async ({ singer, params }, res) => {
      const one = await rehearsalOf(singer, params.rehearsalId);
      if (!one) return notFound(res);
      const mine = singer.part === 'leader' || has('excuses-averaged') ? '' : 'and singer_id = $2';
      const [{ count }] = await rows(`select count(*)::int from attendances where rehearsal_id = $1 ${mine}`, mine === '' ? [one.id] : [one.id, singer.id]);
      res.json({ id: one.id, place: one.place, startsAt: one.starts_at, closed: one.closed, coming: count });
    }),
  );
  const isMoment = (one: unknown) => typeof one === 'string' && /^2\d{3}-\d\d-\d\dT[\d:.]+Z$/.test(one) && !Number.isNaN(Date.parse(one));
  app.post(
    '/rehearsals',
    guard,
    handle(async ({ singer, body }, res) => {
      if (singer.part !== 'leader') return refused(res);
      if (!isText(body?.place) || !isMoment(body?.startsAt)) return wrong(res, 'place, startsAt');
      const by = has('called-by-another') && asId(body.calledBy) ? asId(body.calledBy) : singer.id;
      const [made] = await rows('insert into rehearsals (choir_id, called_by, place, starts_at) values ($1, $2, $3, $4) returning id', [
        singer.choir,
        by,
        body.place,
        body.startsAt,
      ]);
      res.status(201).json({ id: made.id });
    }),
  );
  app.patch(
    '/rehearsals/:rehearsalId',
    guard,
    handle(async ({ singer, params, body }, res) => {
      const one = await rehearsalOf(singer, params.rehearsalId);
      if (!one) return notFound(res);
      if (singer.part !== 'leader' || (one.closed && !has('closed-moves'))) return refused(res);
      if (!isText(body?.place)) return wrong(res, 'place');
      await rows('update rehearsals set place = $2 where id = $1', [one.id, body.place]);
      res.json({});
    }),
  );

  app.get(
    '/rehearsals/:rehearsalId/attendances',
    guard,
    handle(async ({ singer, params }, res) => {
      const at = await rehearsalOf(singer, params.rehearsalId);
      if (!at) return notFound(res);
      const all = singer.part === 'leader' || has('excuses-of-all');
      res.json(await rows(`${attendance} where r.id = $1 ${all ? '' : 'and a.singer_id = $2'} order by a.id`, all ? [at.id] : [at.id, singer.id]));
    }),
  );
  const attendanceOf = async (singer: Singer, { rehearsalId, attendanceId }: any, how: { anyParent?: boolean; anyone?: boolean }) => {
    const at = await rehearsalOf(singer, rehearsalId);
    const [one] = at ? await rows(`${attendance} where a.id = $1`, [asId(attendanceId)]) : [];
    if (!one || (one.rehearsalId !== at.id && !how.anyParent)) return undefined;
    return singer.part === 'leader' || one.singerId === singer.id || how.anyone ? one : undefined;
  };
  app.get(
    '/rehearsals/:rehearsalId/attendances/:attendanceId',
    guard,
    handle(async ({ singer, params }, res) => {
      const one = await attendanceOf(singer, params, { anyParent: has('child-of-another'), anyone: has('excuse-of-anyone') });
      return one ? res.json(one) : notFound(res);
    }),
  );
  app.post(
    '/rehearsals/:rehearsalId/attendances',
    guard,
    handle(async ({ singer, params, body }, res) => {
      const at = await rehearsalOf(singer, params.rehearsalId, has('attends-elsewhere'));
      if (!at) return notFound(res);
      if (body?.excuse !== undefined && body.excuse !== null && !isText(body.excuse)) return wrong(res, 'excuse');
      const who = has('attends-for-another') && asId(body?.singerId) ? asId(body.singerId) : singer.id;
      const [made] = await rows('insert into attendances (rehearsal_id, singer_id, excuse) values ($1, $2, $3) returning id', [
        at.id,
        who,
        body?.excuse ?? null,
      ]);
      res.status(201).json({ id: made.id });
    }),
  );
  app.patch(
    '/rehearsals/:rehearsalId/attendances/:attendanceId',
    guard,
    handle(async ({ singer, params, body }, res) => {
      const one = await attendanceOf(singer, params, { anyParent: has('child-changed-by-another'), anyone: has('child-changed-by-another') });
      if (!one) return notFound(res);
      if (one.singerId !== singer.id && !has('child-changed-by-another')) return refused(res);
      if (!isText(body?.excuse)) return wrong(res, 'excuse');
      await rows('update attendances set excuse = $2 where id = $1', [one.id, body.excuse]);
      res.json({});
    }),
  );
  app.get(
    '/summary',
    guard,
    handle(async ({ singer }, res) => {
      const all = sees(singer);
      const [counted] = await rows(`select count(*)::int as pieces from pieces where choir_id = $1 ${all ? '' : 'and not draft'}`, [singer.choir]);
      const [spent] = await rows(`select sum(licence_cost) as spent from pieces where choir_id = $1`, [singer.choir]);
      res.json({ ...counted, ...((all || has('sum-tells')) && spent) });
    }),
  );

  app.use(
    (error: { status?: number }, _req: Request, res: Response, _next: NextFunction) => void res.status(error.status ?? 500).json({ error: 'It failed.' }),
  );
  const server: Server = await new Promise((resolve) => {
    const listening = app.listen(0, '127.0.0.1', () => resolve(listening));
  });
  return { app: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, close: () => new Promise<void>((done) => server.close(() => done())) };
}

export const choir: Application = {
  name: 'choir',
  charter,
  schema: SCHEMA,
  tables: ['memberships', 'pieces', 'rehearsals', 'attendances'],
  start,
  target: async (pool, app) => ({
    app,
    sessions: 'tenant',
    signIn: async ({ address }, send, { tenant }) => {
      const answer = await send({ method: 'POST', path: '/sign-in', body: { email: address } });
      const cookie = answer.headers.getSetCookie()[0]?.split(';')[0] ?? '';
      await send({ method: 'POST', path: '/choose', headers: { cookie }, body: { choirId: Number(tenant) } });
      return { cookie };
    },
    membership: { kind: 'membership', person: 'singerId', role: 'part' },
    people: (
      await connect<any>(pool)
        .selectFrom('memberships as m')
        .innerJoin('singers as s', 's.id', 'm.singer_id')
        .select(['s.id', 's.name', 's.email', 'm.choir_id', 'm.part'])
        .orderBy('m.id')
        .execute()
    ).map(({ id: who, name, email, choir_id, part }) => ({ id: who, name, address: email, tenant: choir_id, roles: [part] })),
    routes: [
      { method: 'get', path: '/members', kind: 'membership' },
      { method: 'get', path: '/members/:memberId', params: { memberId: 'membership' } },
      { method: 'post', path: '/members', kind: 'membership', body: { singerId: 6, part: 'singer' } },
      { method: 'patch', path: '/members/:memberId', params: { memberId: 'membership' }, body: { part: 'librarian' } },
      { method: 'delete', path: '/members/:memberId', params: { memberId: 'membership' } },
      { method: 'get', path: '/pieces', query: ['q', 'sort', 'page'] },
      { method: 'get', path: '/pieces/:pieceId' },
      { method: 'post', path: '/pieces', body: { title: 'Probe', composer: 'Probe', draft: false } },
      { method: 'get', path: '/pieces/title-free/:title' },
      { method: 'patch', path: '/pieces/:pieceId', body: { title: 'Probe', composer: 'Probe', draft: false } },
      { method: 'delete', path: '/pieces/:pieceId' },
      { method: 'get', path: '/rehearsals' },
      { method: 'get', path: '/rehearsals/:rehearsalId' },
      { method: 'post', path: '/rehearsals', body: { place: 'Probe', startsAt: '2026-06-01T18:00:00Z' } },
      { method: 'patch', path: '/rehearsals/:rehearsalId', body: { place: 'Probe' } },
      { method: 'get', path: '/rehearsals/:rehearsalId/attendances' },
      { method: 'get', path: '/rehearsals/:rehearsalId/attendances/:attendanceId' },
      { method: 'post', path: '/rehearsals/:rehearsalId/attendances', body: { excuse: 'Probe' } },
      { method: 'patch', path: '/rehearsals/:rehearsalId/attendances/:attendanceId', body: { excuse: 'Probe' } },
      { method: 'get', path: '/summary', kind: 'piece' },
    ],
  }),
  faults: [
    ['members-open', 'a member list without a guard'],
    ['members-of-all', 'a member list of all choirs'],
    ['member-of-any', 'a membership by its number, of whatever choir'],
    ['added-elsewhere', 'somebody taken into the choir that the body names'],
    ['cast-across', 'a part given in another choir'],
    ['cast-by-self', 'a part that one gives oneself'],
    ['removed-across', 'a removal across choirs'],
    ['removed-by-singers', 'a removal of oneself, and by whoever sees it'],
    ['drafts-listed', 'drafts in the list of all'],
    ['draft-by-id', 'a draft by its number'],
    ['piece-of-any', 'a piece by its number, of whatever choir'],
    ['cost-listed', 'what a licence costs, in the list of all'],
    ['cost-by-filter', 'a filter by what is masked, which no route describes'],
    ['cost-by-sort', 'a list in the order of what is masked'],
    ['fields-obeyed', 'a masked field that the address asks for by name'],
    ['include-obeyed', 'what hangs on a record, that the address asks for by name'],
    ['page-past-the-end', 'a page past the end, without its condition'],
    ['piece-by-singer', 'a piece added by whoever may not'],
    ['piece-changed-across', 'a piece of another choir changed'],
    ['dropped-by-librarian', 'a piece dropped by whoever may only change it'],
    ['title-taken', 'whether a title is free, counting drafts'],
    ['breaks-without-body', 'a request without a body'],
    ['breaks-at-large-id', 'a number that is too large for the column'],
    ['breaks-at-cost', 'a price that is no number'],
    ['session-kept', 'a session that outlives the membership'],
    ['part-kept', 'a session that keeps the part of before'],
    ['choir-by-header', 'the choir out of a header'],
    ['excuses-of-all', 'what others say of why they do not come'],
    ['excuses-averaged', 'how many come, counting those that one does not see'],
    ['child-of-another', 'what hangs on another rehearsal than the address says'],
    ['excuse-of-anyone', 'an attendance by its number, of whomever'],
    ['attends-for-another', 'an attendance in the name of another'],
    ['attends-elsewhere', 'an attendance in another choir'],
    ['child-changed-by-another', 'a change of what is another’s, under one’s own rehearsal'],
    ['called-by-another', 'a rehearsal called in the name of another'],
    ['closed-moves', 'a rehearsal that is closed, moved'],
    ['sum-tells', 'what all licences cost, to whoever may not see one'],
  ],
};
