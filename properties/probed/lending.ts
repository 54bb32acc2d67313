/*
 * A small application of another hand: associations lend tools among their members. Express and plain SQL, a table of users with a role in it, nothing of the
 * library. `faults` names what is wrong with it; without any it is sound.
 */
import { randomUUID } from 'node:crypto';
import type { Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import express, { type NextFunction, type Request, type Response } from 'express';
import type pg from 'pg';
import { addFirst, addMore, type Shop } from './more.js';

export const SCHEMA = `
  create table users (id text primary key, org_id text not null, name text not null, email text not null, role text not null, active boolean not null default true);
  create table tools (id serial primary key, org_id text not null, owner_id text, created_by text not null, name text not null, note text, price numeric(8, 2), serial_code text, shared boolean not null default false, archived boolean not null default false, touched integer not null default 0);
  create table loans (id serial primary key, org_id text not null, tool_id integer not null references tools (id) on delete cascade, borrower_id text not null, remark text);
  insert into users values
    ('ada', 'north', 'Ada Field', 'ada@north.example', 'admin'), ('ben', 'north', 'Ben Moor', 'ben@north.example', 'member'),
    ('cleo', 'north', 'Cleo Marsh', 'cleo@north.example', 'member'), ('dora', 'north', 'Dora Vale', 'dora@north.example', 'viewer'),
    ('emil', 'south', 'Emil Ridge', 'emil@south.example', 'admin'), ('fay', 'south', 'Fay Brook', 'fay@south.example', 'member');
  insert into tools (org_id, owner_id, created_by, name, note, price, serial_code, shared, archived) values
    ('north', 'ada', 'ada', 'Honey extractor', 'in the shed by the gate', 310.00, 'NX-4471', true, false), ('north', 'ben', 'ben', 'Bee brush', 'soft bristles only', 7.50, 'NX-4472', true, false),
    ('north', 'ben', 'ben', 'Smoker of Ben', 'leaks at the seam', 32.00, 'NX-4473', false, false), ('north', 'cleo', 'cleo', 'Smoker of Cleo', 'bought second hand', 28.00, 'NX-4474', false, false),
    ('north', 'cleo', 'cleo', 'Uncapping fork', 'one tine is bent', 11.00, 'NX-4475', true, true), ('north', 'ben', 'ben', 'Old hive tool', 'kept for parts', 3.00, 'NX-4476', false, true),
    ('south', 'emil', 'emil', 'Wax melter', 'needs a new fuse', 140.00, 'SX-9001', true, false), ('south', 'fay', 'fay', 'Veil of Fay', 'small, with a patch', 15.00, 'SX-9002', false, false);
  insert into loans (org_id, tool_id, borrower_id, remark) values
    ('north', 1, 'ben', 'back by the weekend'), ('north', 2, 'cleo', 'for the school visit'), ('north', 3, 'ben', 'lent to a cousin'),
    ('north', 4, 'cleo', 'taken to the repair'), ('south', 7, 'fay', 'for the candle evening');
`;

interface User {
  id: string;
  org_id: string;
  role: 'admin' | 'member' | 'viewer';
}
type Asked = Request & { user: User };

export interface Running {
  readonly url: string;
  close(): Promise<void>;
}

/** Starts it on a port that is free. */
export async function startLending(pool: pg.Pool, faults: ReadonlySet<string> = new Set()): Promise<Running> {
  const has = (fault: string) => faults.has(fault);
  const sessions = new Map<string, { id: string; user: User }>();
  const app = express();
  app.use(express.json());
  // No text of the database holds it.
  app.use((req, res, next) => void (JSON.stringify(req.body ?? '').includes('\\u0000') ? res.status(400).json({ error: 'text' }) : next()));
  const rows = async (text: string, values: unknown[] = []): Promise<any[]> => (await pool.query(text, values)).rows;
  const signedIn = async (req: Request): Promise<User | undefined> => {
    const sid = /sid=([^;]+)/.exec(req.headers.cookie ?? '')?.[1];
    const session = sid === undefined ? undefined : sessions.get(sid);
    if (!session) return undefined;
    if (has('stale-session')) return session.user;
    const [user] = await rows('select id, org_id, role from users where id = $1 and active', [session.id]);
    return user;
  };
  const guard = async (req: Request, res: Response, next: NextFunction) => {
    const user = await signedIn(req);
    if (!user) return void res.status(401).json({ error: 'Sign in.' });
    (req as Asked).user = (req as Request & { role?: User['role'] }).role === 'admin' ? { ...user, role: 'admin' } : user;
    next();
  };
  const handle = (work: (req: Asked, res: Response) => Promise<unknown>) => (req: Request, res: Response, next: NextFunction) =>
    void work(req as Asked, res).catch(next);
  const notFound = (res: Response) => res.status(404).json({ error: 'Not found.' });
  const refused = (res: Response) => res.status(403).json({ error: 'You may not do that.' });
  const valid = (id: unknown) => /^\d{1,9}$/.test(String(id));

  /** What somebody sees of the tools: an admin all of theirs, others what is shared and what is their own. */
  const seen = (user: User, t = 't') => (user.role === 'admin' ? `${t}.org_id = $1` : `${t}.org_id = $1 and (${t}.shared or ${t}.owner_id = $2)`);
  const who = (user: User) => (user.role === 'admin' ? [user.org_id] : [user.org_id, user.id]);
  const shown = (user: User, tool: any, unmasked = false) => {
    const { id, owner_id, created_by, name, note, price, serial_code, shared, archived } = tool;
    const price_ = user.role === 'admin' || unmasked ? { price } : {};
    const code = user.role === 'admin' || unmasked ? { serialCode: serial_code } : {};
    return { id, ownerId: owner_id, createdBy: created_by, name, note, shared, archived, ...price_, ...code };
  };
  const toolOf = async (user: User, id: unknown) =>
    valid(id) ? (await rows(`select t.* from tools t where ${seen(user)} and t.id = ${Number(id)}`, who(user)))[0] : undefined;
  const mayChange = (user: User, tool: any) => !tool.archived && (user.role === 'admin' || (user.role === 'member' && tool.owner_id === user.id));

  const shop: Shop = { has, rows, guard, handle, notFound, refused, valid, seen, who, toolOf };
  addFirst(app, shop);
  app.post(
    '/sign-in',
    handle(async (req, res) => {
      const [user] = await rows('select id, org_id, role from users where email = $1 and active', [req.body?.email]);
      if (!user) return refused(res);
      const sid = randomUUID();
      sessions.set(sid, { id: user.id, user });
      res.cookie('sid', sid, { httpOnly: true }).json({});
    }),
  );

  app.get(
    '/tools',
    has('list-open') ? (_req, _res, next) => next() : guard,
    handle(async (req, res) => {
      const user = req.user ?? { id: '', org_id: 'north', role: 'admin' };
      const org = has('tenant-by-query') && typeof req.query.org === 'string' ? { ...user, org_id: req.query.org, role: 'admin' as const } : user;
      let where = seen(org);
      let values: unknown[] = who(org);
      if (has('list-all-tenants')) [where, values] = ['true', []];
      if (has('list-whole-tenant')) [where, values] = ['t.org_id = $1', [org.org_id]];
      if (has('list-all-by-flag') && req.query.all === 'true') [where, values] = ['t.org_id = $1', [org.org_id]];
      const limit = Number(req.query.limit ?? 50);
      if (has('list-limit-lifts') && limit > 1000) [where, values] = ['t.org_id = $1', [org.org_id]];
      if (!has('list-limit-breaks') && !(limit >= 0 && limit <= 1e9)) return res.status(400).json({ error: 'limit' });
      const search = typeof req.query.q === 'string' ? req.query.q : undefined;
      if (search?.includes('\0')) return res.status(400).json({ error: 'q' });
      if (search !== undefined) {
        if (has('search-unscoped')) [where, values] = ['t.org_id = $1', [org.org_id]];
        values = [...values, `%${search}%`];
        const more = has('search-unscoped') ? ['t.note'] : has('search-by-masked') || org.role === 'admin' ? ['t.serial_code'] : [];
        where = `${where} and (${['t.name', ...more].map((column) => `${column} ilike $${values.length}`).join(' or ')})`;
      }
      const sort = String(req.query.sort ?? 'id');
      const order = has('sort-breaks') ? sort : ['id', 'name'].includes(sort) ? sort : 'id';
      const found = await rows(`select t.* from tools t where ${where} order by t.${order} limit ${limit}`, values);
      const [{ count }] = await rows(
        has('total-unscoped') || has('total-in-header')
          ? 'select count(*)::int from tools t where t.org_id = $1'
          : `select count(*)::int from tools t where ${where}`,
        has('total-unscoped') || has('total-in-header') ? [org.org_id] : values,
      );
      if (has('total-in-header')) return res.set('x-total-count', String(count)).json({ tools: found.map((one) => shown(org, one)) });
      res.json({ tools: found.map((one) => shown(org, one, has('list-unmasked'))), total: count });
    }),
  );

  app.get(
    '/tools.csv',
    guard,
    handle(async (req, res) => {
      const found = await rows(
        `select t.* from tools t where ${has('export-unscoped') ? 't.org_id = $1' : seen(req.user)} order by t.id`,
        has('export-unscoped') ? [req.user.org_id] : who(req.user),
      );
      const cells = (one: any) => [one.id, one.name, one.note, ...(req.user.role === 'admin' || has('export-unmasked') ? [one.serial_code] : [])];
      res.type('text/csv').send(
        found
          .map((one) =>
            cells(one)
              .map((cell) => `"${cell ?? ''}"`)
              .join(','),
          )
          .join('\n'),
      );
    }),
  );
  app.get(
    '/tools.html',
    guard,
    handle(async (req, res) => {
      const found = await rows(
        `select t.name, t.note from tools t where ${has('page-unscoped') ? 't.org_id = $1' : seen(req.user)} order by t.id`,
        has('page-unscoped') ? [req.user.org_id] : who(req.user),
      );
      res.type('html').send(`<ul>${found.map(({ name, note }) => `<li><b>${name}</b> ${note}</li>`).join('')}</ul>`);
    }),
  );
  app.get(
    '/suggest',
    guard,
    handle(async (req, res) => {
      const found = await rows(
        `select t.id, t.name from tools t where ${has('suggest-unscoped') ? 't.org_id = $1' : seen(req.user)} order by t.name limit 100`,
        has('suggest-unscoped') ? [req.user.org_id] : who(req.user),
      );
      res.json(found);
    }),
  );
  app.get(
    '/stats',
    guard,
    handle(async (req, res) => {
      const where = has('stats-unscoped') ? 't.org_id = $1' : seen(req.user);
      const [one] = await rows(`select count(*)::int as "toolCount" from tools t where ${where}`, has('stats-unscoped') ? [req.user.org_id] : who(req.user));
      res.json(one);
    }),
  );

  app.get(
    '/tools/:toolId',
    guard,
    handle(async (req, res) => {
      const id = req.params.toolId;
      let tool = await toolOf(req.user, id);
      const [any] = valid(id) ? await rows('select * from tools where id = $1', [id]) : [];
      if (has('detail-any-tenant')) tool = any;
      if (has('detail-whole-tenant') && any?.org_id === req.user.org_id) tool = any;
      if (!tool && any && has('detail-403')) return refused(res);
      if (!tool && any && has('detail-other-words')) return res.status(404).json({ error: 'This tool is not shared with you.' });
      if (!tool && any && has('detail-names-it')) return res.status(404).json({ error: 'Not found.', hint: any.name });
      if (!tool) return has('detail-breaks') ? res.json({ name: tool.name }) : notFound(res);
      if (has('get-writes')) await rows("update tools set note = coalesce(note, '') || '.' where id = $1", [tool.id]);
      const loans = await rows(
        `select l.id, l.borrower_id as "borrowerId", l.remark from loans l where l.tool_id = $1 ${has('nested-unscoped') || req.user.role === 'admin' ? '' : 'and (l.borrower_id = $2)'} order by l.id`,
        has('nested-unscoped') || req.user.role === 'admin' ? [tool.id] : [tool.id, req.user.id],
      );
      res.json({ ...shown(req.user, tool, has('detail-unmasked')), loans });
    }),
  );

  /** Loans: an admin all of theirs, others their own. */
  app.get(
    '/loans',
    guard,
    handle(async (req, res) => {
      const mine = req.user.role === 'admin' || has('loans-whole-tenant') ? 'l.org_id = $1' : 'l.org_id = $1 and l.borrower_id = $2';
      const values = req.user.role === 'admin' || has('loans-whole-tenant') ? [req.user.org_id] : [req.user.org_id, req.user.id];
      const join = has('join-leaks') ? 'cross join tools t' : 'join tools t on t.id = l.tool_id';
      const seesAll = req.user.role === 'admin' || has('loans-whole-tenant');
      const only = has('join-leaks') ? 'and t.org_id = l.org_id' : seesAll ? '' : 'and (t.shared or t.owner_id = $2)';
      res.json(await rows(`select l.id, l.remark, t.name as tool from loans l ${join} where ${mine} ${only} order by l.id`, values));
    }),
  );
  app.get(
    '/tools/:toolId/loans',
    guard,
    handle(async (req, res) => {
      const tool = has('loans-of-any-tool')
        ? valid(req.params.toolId)
          ? (await rows('select * from tools where id = $1', [req.params.toolId]))[0]
          : undefined
        : await toolOf(req.user, req.params.toolId);
      if (!tool) return notFound(res);
      const all = req.user.role === 'admin' || has('loans-of-any-tool');
      res.json(
        await rows(`select l.id, l.remark from loans l where l.tool_id = $1 ${all ? '' : 'and l.borrower_id = $2'}`, all ? [tool.id] : [tool.id, req.user.id]),
      );
    }),
  );

  app.post(
    '/tools',
    guard,
    handle(async (req, res) => {
      const { name, note, shared = false, ...more } = req.body ?? {};
      if (req.user.role === 'viewer' && !has('create-by-viewer')) return refused(res);
      if (typeof name !== 'string' || (note !== undefined && typeof note !== 'string')) return res.status(400).json({ error: 'name' });
      const org = has('create-takes-tenant') && typeof more.orgId === 'string' && more.orgId !== '' ? more.orgId : req.user.org_id;
      const owner = has('create-takes-owner') && typeof more.ownerId === 'string' ? more.ownerId : req.user.id;
      const maker = has('create-takes-maker') && typeof more.createdBy === 'string' ? more.createdBy : req.user.id;
      const price = has('create-takes-guarded') ? (more.price ?? null) : null;
      const [made] = await rows(
        'insert into tools (org_id, owner_id, created_by, name, note, shared, price) values ($1, $2, $3, $4, $5, $6, $7) returning id',
        [org, owner, maker, name, note ?? null, shared === true, price],
      );
      res.status(201).json({ id: made.id });
    }),
  );

  const change = handle(async (req, res) => {
    const id = req.params.toolId;
    const [any] = valid(id) ? await rows('select * from tools where id = $1', [id]) : [];
    const tool = has('change-any-tenant') ? any : has('change-whole-tenant') && any?.org_id === req.user.org_id ? any : await toolOf(req.user, id);
    if (has('write-then-check') && any && typeof req.body?.name === 'string') await rows('update tools set name = $2 where id = $1', [any.id, req.body.name]);
    if (!tool) return notFound(res);
    const may =
      has('change-any-tenant') ||
      has('change-whole-tenant') ||
      mayChange(req.user, tool) ||
      (has('change-by-viewer') && !tool.archived) ||
      (has('change-archived') && mayChange(req.user, { ...tool, archived: false }));
    if (!may) return refused(res);
    const allowed: Record<string, string> = { name: 'name', note: 'note', shared: 'shared' };
    if (has('change-takes-tenant')) Object.assign(allowed, { orgId: 'org_id', org_id: 'org_id' });
    if (has('change-takes-owner')) Object.assign(allowed, { ownerId: 'owner_id', owner_id: 'owner_id' });
    if (has('change-takes-maker')) Object.assign(allowed, { createdBy: 'created_by', created_by: 'created_by' });
    if (has('change-takes-guarded') || req.user.role === 'admin') Object.assign(allowed, { price: 'price' });
    const set = Object.entries(req.body ?? {}).filter(
      ([key, value]) => Object.hasOwn(allowed, key) && (key === 'shared' ? typeof value === 'boolean' : typeof value === 'string' && value !== ''),
    );
    if (set.length === 0) return res.status(400).json({ error: 'nothing to change' });
    await rows(`update tools set touched = touched + 1, ${set.map(([key], i) => `${allowed[key]} = $${i + 2}`).join(', ')} where id = $1`, [
      tool.id,
      ...set.map(([, value]) => value),
    ]);
    res.json({});
  });
  app.patch('/tools/:toolId', guard, change);
  // Somebody added it for an old client, and forgot the guard.
  if (has('forgotten-put'))
    app.put(
      '/tools/:toolId',
      handle(async (req, res) => {
        if (valid(req.params.toolId) && typeof req.body?.name === 'string')
          await rows('update tools set name = $2 where id = $1', [req.params.toolId, req.body.name]);
        res.json({});
      }),
    );
  app.delete(
    '/tools/:toolId',
    guard,
    handle(async (req, res) => {
      const id = req.params.toolId;
      const [any] = valid(id) ? await rows('select * from tools where id = $1', [id]) : [];
      const tool = has('delete-any-tenant') ? any : has('delete-whole-tenant') && any?.org_id === req.user.org_id ? any : await toolOf(req.user, id);
      if (!tool) return notFound(res);
      const unchecked = has('delete-any-tenant') || has('delete-whole-tenant');
      if (!unchecked && !mayChange(req.user, { ...tool, archived: false })) return refused(res);
      // Asked once more as it goes: somebody may have handed it on meanwhile.
      const [gone] = await rows('delete from tools where id = $1 and ($2 or owner_id = $3) returning id', [
        tool.id,
        unchecked || req.user.role === 'admin',
        req.user.id,
      ]);
      if (!gone) return notFound(res);
      res.json({});
    }),
  );
  app.post(
    '/tools/archive',
    guard,
    handle(async (req, res) => {
      const ids = Array.isArray(req.body?.ids) ? req.body.ids.filter(valid).map(Number) : [];
      if (req.user.role === 'viewer') return refused(res);
      const own = req.user.role === 'admin' ? '' : 'and owner_id = $3';
      const where = has('bulk-unchecked')
        ? 'id = any($1)'
        : has('bulk-checks-first') && ids.length > 0 && (await toolOf(req.user, ids[0]))
          ? 'id = any($1)'
          : `id = any($1) and org_id = $2 ${own}`;
      const values = where === 'id = any($1)' ? [ids] : req.user.role === 'admin' ? [ids, req.user.org_id] : [ids, req.user.org_id, req.user.id];
      await rows(`update tools set archived = true where ${where}`, values);
      res.json({});
    }),
  );
  app.post(
    '/tools/:toolId/owner',
    guard,
    handle(async (req, res) => {
      const tool = await toolOf(req.user, req.params.toolId);
      if (!tool) return notFound(res);
      if (req.user.role !== 'admin' && !has('hand-over-by-anybody')) return refused(res);
      const [to] = await rows('select id from users where id = $1 and org_id = $2 and active', [req.body?.ownerId, req.user.org_id]);
      if (!to) return res.status(400).json({ error: 'nobody of that name' });
      const [handed] = await rows('update tools set owner_id = $2 where id = $1 returning id', [tool.id, to.id]);
      if (!handed) return notFound(res);
      res.json({});
    }),
  );
  app.post(
    '/loans',
    guard,
    handle(async (req, res) => {
      const { toolId, remark } = req.body ?? {};
      if (req.user.role === 'viewer') return refused(res);
      const tool = has('loan-of-any-tool') && valid(toolId) ? (await rows('select * from tools where id = $1', [toolId]))[0] : await toolOf(req.user, toolId);
      if (!tool) return res.status(400).json({ error: 'no such tool' });
      const borrower = has('loan-for-another') && typeof req.body.borrowerId === 'string' ? req.body.borrowerId : req.user.id;
      const [made] = await rows('insert into loans (org_id, tool_id, borrower_id, remark) values ($1, $2, $3, $4) returning id', [
        req.user.org_id,
        tool.id,
        borrower,
        typeof remark === 'string' ? remark : null,
      ]);
      res.status(201).json({ id: made.id });
    }),
  );
  addMore(app, shop);
  app.use((_req, res) => void notFound(res));
  // Its tool went between the look and the write.
  app.use((error: Error & { code?: string }, _req: Request, res: Response, next: NextFunction) =>
    error.code === '23503' ? void res.status(400).json({ error: 'no such tool' }) : next(error),
  );
  app.use(
    (error: Error & { status?: number }, _req: Request, res: Response, _next: NextFunction) =>
      void res.status(error.status ?? 500).json({ error: has('sort-breaks') ? error.message : 'Something went wrong.' }),
  );

  const server = await new Promise<Server>((resolve) => {
    const started = app.listen(0, '127.0.0.1', () => resolve(started));
  });
  return { url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, close: () => new Promise((resolve) => void server.close(() => resolve())) };
}
