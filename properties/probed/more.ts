/* More of the lending application, and what is wrong with it: written without a look at what the probe looks for, and tried once. */
import type { Express, Request, RequestHandler, Response } from 'express';
import type { ProbeRoute } from 'warm-lintel/rehearsal';

interface Person {
  id: string;
  org_id: string;
  role: string;
}
type Asked = Request & { user: Person };

/** What the application has for all its routes. */
export interface Shop {
  readonly has: (fault: string) => boolean;
  readonly rows: (text: string, values?: unknown[]) => Promise<any[]>;
  readonly guard: RequestHandler;
  readonly handle: (work: (req: any, res: Response) => Promise<unknown>) => RequestHandler;
  readonly notFound: (res: Response) => unknown;
  readonly refused: (res: Response) => unknown;
  readonly valid: (id: unknown) => boolean;
  readonly seen: (user: any) => string;
  readonly who: (user: any) => string[];
  readonly toolOf: (user: any, id: unknown) => Promise<any>;
}

/** Goes before all other routes. */
export function addFirst(app: Express, { has, rows }: Shop): void {
  app.use((req, _res, next) => {
    // Behind a proxy that somebody once meant to set it.
    if (has('role-by-header') && req.headers['x-role'] === 'admin') (req as Request & { role?: string }).role = 'admin';
    next();
  });
  if (has('head-unguarded'))
    app.head('/tools/:toolId', (req, res, next) => {
      rows('select id from tools where id = $1', [Number(req.params.toolId) || 0]).then(([tool]) => void res.status(tool ? 200 : 404).end(), next);
    });
  if (has('override-unguarded'))
    app.post('/tools/:toolId', (req, res, next) => {
      if (req.headers['x-http-method-override'] !== 'DELETE') return next();
      rows('delete from tools where id = $1', [Number(req.params.toolId) || 0]).then(() => void res.json({}), next);
    });
}

export function addMore(app: Express, shop: Shop): void {
  const { has, rows, guard, handle, notFound, refused, valid, seen, who, toolOf } = shop;
  const inTenant = async (user: Person, id: unknown) =>
    valid(id) ? (await rows('select * from tools where id = $1 and org_id = $2', [id, user.org_id]))[0] : undefined;
  const anywhere = async (id: unknown) => (valid(id) ? (await rows('select * from tools where id = $1', [id]))[0] : undefined);

  app.get(
    '/tools/:toolId/label',
    guard,
    handle(async (req: Asked, res) => {
      const id = req.params.toolId;
      const tool = has('label-other-tenant') ? await anywhere(id) : has('label-unscoped') ? await inTenant(req.user, id) : await toolOf(req.user, id);
      if (!tool) return notFound(res);
      res.type('text').send(`${tool.name}\n${tool.note ?? ''}`);
    }),
  );

  const kept = new Map<string, string>();
  app.get(
    '/tools/:toolId/file',
    guard,
    handle(async (req: Asked, res) => {
      const id = String(req.params.toolId);
      const cached = kept.get(id);
      if (has('file-cached') && cached !== undefined) return res.type('text').send(cached);
      const tool = has('file-unchecked') ? await anywhere(id) : await toolOf(req.user, id);
      if (!tool) return notFound(res);
      const code = req.user.role === 'admin' || has('file-with-code') ? `\ncode ${tool.serial_code ?? 'none'}` : '';
      const text = `Manual of ${tool.name}${code}`;
      kept.set(id, text);
      res.attachment(`${tool.id}.txt`).type('text').send(text);
    }),
  );

  let feed: unknown;
  app.get(
    '/activity',
    guard,
    handle(async (req: Asked, res) => {
      if (has('feed-cached') && feed !== undefined) return res.json(feed);
      const all = has('feed-unscoped') || has('feed-of-ids');
      const found = await rows(
        `select t.id, t.name, t.touched from tools t where ${all ? 't.org_id = $1' : seen(req.user)} order by t.touched desc, t.id limit 20`,
        all ? [req.user.org_id] : who(req.user),
      );
      const lines = found.map(({ id, name, touched }) => (has('feed-of-ids') ? { toolId: id, touched } : { toolId: id, name, touched }));
      feed = { activity: lines };
      res.json(feed);
    }),
  );

  app.get(
    '/batch',
    guard,
    handle(async (req: Asked, res) => {
      const ids = String(req.query.ids ?? '')
        .split(',')
        .filter(valid)
        .slice(0, 50);
      const first = has('batch-checks-first') && ids.length > 0 && (await toolOf(req.user, ids[0]));
      const found = [];
      for (const id of ids) {
        const tool = has('batch-unchecked') || first ? await anywhere(id) : await toolOf(req.user, id);
        if (tool) found.push({ id: tool.id, name: tool.name });
        else if (has('batch-tells') && (await anywhere(id))) found.push({ id: Number(id), error: 'not for you' });
      }
      res.json({ tools: found });
    }),
  );

  app.get(
    '/people',
    guard,
    handle(async (req: Asked, res) => {
      const where = has('people-count-all') ? 't.org_id = $1' : seen(req.user);
      const counted = await rows(
        `select t.owner_id, count(*)::int as tools from tools t where ${where} group by 1 order by 1`,
        has('people-count-all') ? [req.user.org_id] : who(req.user),
      );
      const people = await rows('select id, name from users where org_id = $1 and active order by name', [req.user.org_id]);
      res.json(people.map(({ id, name }) => ({ name, tools: counted.find(({ owner_id }) => owner_id === id)?.tools ?? 0 })));
    }),
  );

  app.post(
    '/tools/:toolId/copy',
    guard,
    handle(async (req: Asked, res) => {
      const tool = has('copy-of-unread') ? await inTenant(req.user, req.params.toolId) : await toolOf(req.user, req.params.toolId);
      if (!tool) return notFound(res);
      if (req.user.role === 'viewer') return refused(res);
      const worth = has('copy-with-worth') ? [tool.price, tool.serial_code] : [null, null];
      const owner = has('copy-keeps-owner') ? tool.owner_id : req.user.id;
      const [made] = await rows(
        'insert into tools (org_id, owner_id, created_by, name, note, price, serial_code) values ($1, $2, $3, $4, $5, $6, $7) returning id',
        [req.user.org_id, owner, req.user.id, `${tool.name} (copy)`, tool.note, ...worth],
      );
      res.status(201).json({ id: made.id });
    }),
  );

  app.post(
    '/loans/:loanId/move',
    guard,
    handle(async (req: Asked, res) => {
      const [loan] = valid(req.params.loanId) ? await rows('select * from loans where id = $1', [req.params.loanId]) : [];
      const own = loan?.org_id === req.user.org_id && loan?.borrower_id === req.user.id;
      if (!loan || (!own && !(has('move-any-loan') && loan.org_id === req.user.org_id))) return notFound(res);
      if (req.user.role === 'viewer') return refused(res);
      const tool = has('move-to-unread') ? await anywhere(req.body?.toolId) : await toolOf(req.user, req.body?.toolId);
      if (!tool) return res.status(400).json({ error: 'no such tool' });
      await rows('update loans set tool_id = $2 where id = $1', [loan.id, tool.id]);
      res.json({});
    }),
  );

  app.post(
    '/search',
    guard,
    handle(async (req: Asked, res) => {
      const text = typeof req.body?.text === 'string' ? req.body.text : '';
      const wanted = typeof req.body?.field === 'string' ? req.body.field : 'name';
      const fields = has('search-any-field') || req.user.role === 'admin' ? ['name', 'note', 'serial_code'] : ['name', 'note'];
      const field = fields.includes(wanted) ? wanted : 'name';
      const all = has('post-search-unscoped');
      const values = all ? [req.user.org_id] : who(req.user);
      const found = await rows(
        `select t.id, t.name from tools t where ${all ? 't.org_id = $1' : seen(req.user)} and t.${field} ilike $${values.length + 1} order by t.id`,
        [...values, `%${text}%`],
      );
      res.json({ found });
    }),
  );

  app.get(
    '/codes/:code',
    guard,
    handle(async (req: Asked, res) => {
      if (req.user.role !== 'admin' && !has('code-open') && !has('code-any')) return notFound(res);
      const [tool] = await rows('select * from tools where serial_code = $1 and org_id = $2', [req.params.code, req.user.org_id]);
      if (!tool || (!has('code-any') && !(await toolOf(req.user, tool.id)))) return notFound(res);
      res.json({ id: tool.id, name: tool.name });
    }),
  );

  app.post(
    '/tools/import',
    guard,
    handle(async (req: Asked, res) => {
      if (req.user.role === 'viewer') return refused(res);
      const given: any[] = Array.isArray(req.body?.tools) ? req.body.tools.slice(0, 20) : [];
      const ids: number[] = [];
      for (const row of given) {
        if (typeof row?.name !== 'string') continue;
        const org = has('import-takes-tenant') && typeof row.orgId === 'string' && row.orgId !== '' ? row.orgId : req.user.org_id;
        const owner = has('import-takes-owner') && typeof row.ownerId === 'string' ? row.ownerId : req.user.id;
        const [made] = await rows('insert into tools (org_id, owner_id, created_by, name) values ($1, $2, $3, $4) returning id', [
          org,
          owner,
          req.user.id,
          row.name,
        ]);
        ids.push(made.id);
        for (const loan of Array.isArray(row.loans) ? row.loans.slice(0, 5) : []) {
          const borrower = has('import-nested-borrower') && typeof loan?.borrowerId === 'string' ? loan.borrowerId : req.user.id;
          await rows('insert into loans (org_id, tool_id, borrower_id, remark) values ($1, $2, $3, $4)', [
            req.user.org_id,
            made.id,
            borrower,
            loan?.remark ?? null,
          ]);
        }
      }
      res.status(201).json({ ids });
    }),
  );

  app.get(
    '/export.json',
    guard,
    handle(async (req: Asked, res) => {
      const tools = await rows(`select t.id, t.name, t.note from tools t where ${seen(req.user)} order by t.id`, who(req.user));
      const all = req.user.role === 'admin' || has('export-nested');
      for (const tool of tools)
        tool.loans = await rows(
          `select l.id, l.remark from loans l where l.tool_id = $1 ${all ? '' : 'and l.borrower_id = $2'}`,
          all ? [tool.id] : [tool.id, req.user.id],
        );
      res.json({ tools });
    }),
  );

  app.get(
    '/tools/:toolId/near',
    guard,
    handle(async (req: Asked, res) => {
      const tool = await toolOf(req.user, req.params.toolId);
      if (!tool) return notFound(res);
      const all = has('near-unscoped');
      const values = all ? [req.user.org_id] : who(req.user);
      const near = (than: string, order: string) =>
        rows(
          `select t.id, t.name from tools t where ${all ? 't.org_id = $1' : seen(req.user)} and t.id ${than} ${tool.id} order by t.id ${order} limit 1`,
          values,
        );
      res.json({ before: (await near('<', 'desc'))[0] ?? null, after: (await near('>', 'asc'))[0] ?? null });
    }),
  );

  app.post(
    '/tools/share',
    guard,
    handle(async (req: Asked, res) => {
      if (req.user.role === 'viewer') return refused(res);
      const ids = Array.isArray(req.body?.ids) ? req.body.ids.filter(valid).map(Number) : [];
      const shared = req.body?.shared === true;
      const own = req.user.role === 'admin' || has('share-unchecked');
      await rows(`update tools set shared = $2 where id = any($1) and org_id = $3 and not archived ${own ? '' : 'and owner_id = $4'}`, [
        ids,
        shared,
        req.user.org_id,
        ...(own ? [] : [req.user.id]),
      ]);
      res.json({});
    }),
  );

  app.get(
    '/taken',
    guard,
    handle(async (req: Asked, res) => {
      const all = has('taken-in-hidden');
      if (String(req.query.name ?? '').includes('\0')) return res.status(400).json({ error: 'name' });
      const values = all ? [req.user.org_id] : who(req.user);
      const [one] = await rows(`select 1 from tools t where ${all ? 't.org_id = $1' : seen(req.user)} and t.name = $${values.length + 1}`, [
        ...values,
        String(req.query.name ?? ''),
      ]);
      res.json({ taken: one !== undefined });
    }),
  );

  app.get(
    '/pages',
    guard,
    handle(async (req: Asked, res) => {
      const after = valid(req.query.after) ? Number(req.query.after) : 0;
      const found = await rows(`select t.id, t.name from tools t where ${seen(req.user)} and t.id > ${after} order by t.id limit 3`, who(req.user));
      const page = found.slice(0, 2);
      const last = page.at(-1)?.id ?? after;
      const [hidden] = await rows('select id from tools where org_id = $1 and id > $2 order by id limit 1', [req.user.org_id, last]);
      const next = has('cursor-is-hidden') ? (hidden?.id ?? null) : found.length > 2 ? last : null;
      res.json({ tools: page, next, ...(has('more-of-hidden') && { more: hidden !== undefined }) });
    }),
  );
}

/** The routes above, as somebody lists them. */
export const moreRoutes: readonly ProbeRoute[] = [
  { method: 'get', path: '/tools/:toolId/label' },
  { method: 'get', path: '/tools/:toolId/file' },
  { method: 'get', path: '/activity', kind: 'tool' },
  { method: 'get', path: '/batch', kind: 'tool', query: ['ids'] },
  { method: 'get', path: '/people' },
  { method: 'post', path: '/tools/:toolId/copy', body: {} },
  { method: 'post', path: '/loans/:loanId/move', body: { toolId: 1 } },
  { method: 'post', path: '/search', kind: 'tool', body: { text: 'o', field: 'name' } },
  { method: 'get', path: '/codes/:code', kind: 'tool' },
  { method: 'post', path: '/tools/import', body: { tools: [{ name: 'Probe', loans: [{ remark: 'Probe' }] }] } },
  { method: 'get', path: '/export.json', kind: 'tool' },
  { method: 'get', path: '/tools/:toolId/near' },
  { method: 'post', path: '/tools/share', body: { ids: [], shared: true } },
  { method: 'get', path: '/taken', kind: 'tool', query: ['name'] },
  { method: 'get', path: '/pages', kind: 'tool', query: ['after'] },
];

export const MORE_FAULTS: readonly (readonly [fault: string, what: string])[] = [
  ['label-unscoped', 'a label to print, of whatever in the tenant'],
  ['label-other-tenant', 'a label to print, of whatever tenant'],
  ['file-unchecked', 'a file by the id of its record'],
  ['file-with-code', 'a file that holds a masked field'],
  ['file-cached', 'a file kept for whoever asks next'],
  ['feed-unscoped', 'a feed of what changed, without the scope'],
  ['feed-of-ids', 'the same with ids alone'],
  ['feed-cached', 'a feed kept for whoever asks next'],
  ['batch-unchecked', 'several records by their ids, none checked'],
  ['batch-checks-first', 'several by their ids, of which the first is checked'],
  ['batch-tells', 'several by their ids, where hidden ones say so'],
  ['people-count-all', 'figures by person that count what is hidden'],
  ['copy-of-unread', 'a copy of what one does not read'],
  ['copy-keeps-owner', 'a copy that belongs to the owner of the original'],
  ['copy-with-worth', 'a copy that takes masked fields along'],
  ['move-any-loan', 'another’s record put under another parent'],
  ['move-to-unread', 'a record put under a parent that one does not read'],
  ['search-any-field', 'a search in whatever column the body names'],
  ['post-search-unscoped', 'a search by POST, without the scope'],
  ['code-open', 'a way to try values of a masked field'],
  ['code-any', 'a record by the value of a masked field, whoever owns it'],
  ['import-takes-tenant', 'the tenant of imported rows out of the body'],
  ['import-takes-owner', 'the owner of imported rows out of the body'],
  ['import-nested-borrower', 'the owner of what is nested in them out of the body'],
  ['export-nested', 'an export with what hangs on its records, whoever owns that'],
  ['near-unscoped', 'the record before and behind, without the scope'],
  ['share-unchecked', 'many ids at once, whoever owns them'],
  ['taken-in-hidden', 'whether a name is taken, also by what is hidden'],
  ['cursor-is-hidden', 'a cursor that is the id of what is hidden'],
  ['more-of-hidden', 'whether there is more, counting what is hidden'],
  ['role-by-header', 'a role out of a header'],
  ['head-unguarded', 'HEAD of an address, without a guard'],
  ['override-unguarded', 'a verb out of a header, without a guard'],
];
