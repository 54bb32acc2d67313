import { randomUUID } from 'node:crypto';
import { type Context, Hono } from 'hono';
import { type Anchor, LintelError, Standing } from 'warm-lintel';
import { type FaceOptions, type Standing as OfRequest, standingOfRequest, tried } from 'warm-lintel/http';
import { accessTable, madeUpFacts, peopleSubjects, roleSubjects, type Subject } from 'warm-lintel/rehearsal';
import type { ApiaryTables } from '../world/tables.js';
import { type Apiary, body, str } from './app.js';

type Here = Awaited<ReturnType<Apiary['enter']>>;

/** How long a snapshot counts in a browser, in seconds. */
const SNAPSHOT = 15 * 60;
const HIVE_ACTIONS = ['hive.read', 'hive.update', 'hive.transfer', 'hive.archive', 'hive.inspect', 'inspection.create'] as const;
const hiveMay = HIVE_ACTIONS.filter((name) => name.startsWith('hive.'));

/** Roles as a form sends them: for the whole tenant, or for a unit. */
function readRoles(value: unknown): { role: string; anchor: Anchor }[] {
  if (!Array.isArray(value)) throw new LintelError('bad-request', 'roles must be a list.', {});
  return value.map((item: { role?: unknown; unitId?: unknown }) => ({
    role: str(item?.role),
    anchor: item?.unitId ? { on: 'unit', unitId: str(item.unitId) } : { on: 'tenant' },
  }));
}

/** Everything about records inside one tenant; what is done with people is asked of the library's own face. The tenant is in the address, so a form changes the tenant it was opened in, or nothing. */
export function tenantRoutes(lintel: Apiary, sender: FaceOptions['sender']): Hono<OfRequest> {
  const app = new Hono<OfRequest>();
  // What is done to hives can be tried by somebody who looks as another; whatever else they send is refused before it is answered.
  for (const path of ['/hives', '/hives/:id', '/hives/:id/keeper', '/hives/:id/archive']) app.on(['POST', 'PATCH'], path, tried(lintel as never, { sender }));
  async function enter(c: Context<OfRequest>): Promise<Here> {
    if (c.get('standing')) return c.get('standing') as unknown as Here;
    return standingOfRequest(lintel, sender, c.req.raw, c.req.param('tenant') ?? '');
  }
  const units = (standing: Here) =>
    lintel.db
      .selectFrom('lintel_unit')
      .select(['id', 'name', 'parent_id as parentId'])
      .where('tenant_id', '=', standing.facts.tenant.id)
      .orderBy('name')
      .execute();
  const names = async (standing: Here) => {
    const mine = { userId: standing.userId ?? '', name: standing.facts.me.name ?? '', status: 'active' };
    const known = standing.may('member.read') ? await standing.members.list() : [mine];
    return known.filter(({ status }) => status === 'active').map(({ userId, name }) => ({ id: userId, name }));
  };

  /** Whole counts are for whoever may ask about everybody's access. */
  const counting = (standing: Here) => ({
    tenant: standing.facts.tenant,
    ...(standing.grantsFor('access.ask').some(({ reach }) => reach === 'tenant') && { db: lintel.db }),
  });

  app.get('/standing', async (c) => {
    const standing = await enter(c);
    return c.json({ snapshot: standing.snapshot(SNAPSHOT), line: standing.describe().line, startsAt: standing.startsAt() ?? null });
  });

  app.get('/hives', async (c) => {
    const standing = await enter(c);
    standing.insist('area.hives');
    const [hives, people, sites] = await Promise.all([standing.find('hive', { order: 'name', limit: 200, may: hiveMay }), names(standing), units(standing)]);
    return c.json({ hives, people, sites });
  });
  app.get('/hives/:id', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    const hive = await standing.findOne('hive', id, { may: hiveMay });
    const [inspections, people, sites] = await Promise.all([
      standing.find('inspection', { where: { hiveId: id }, order: '-heldAt' }),
      names(standing),
      units(standing),
    ]);
    return c.json({ hive, inspections, people, sites });
  });
  app.post('/hives', async (c) => {
    const standing = await enter(c);
    const { name, colonies, siteId, ...rest } = await body(c);
    if (str(name).trim() === '') throw new LintelError('bad-request', 'A hive needs a name.', {});
    const values = {
      id: `hive-${randomUUID().slice(0, 8)}`,
      name: str(name),
      colonies: Number(colonies ?? 1) || 1,
      ...(siteId ? { site_id: str(siteId) } : {}),
      ...(rest.tenantId ? { tenant_id: str(rest.tenantId) } : {}),
    };
    const [made] = await standing
      .scope<ApiaryTables>()
      .insertInto('hives')
      .values(values as never)
      .returning('id')
      .execute();
    return c.json({ id: made?.id }, 201);
  });
  app.patch('/hives/:id', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    const input = await body(c);
    const change = {
      ...(input.name !== undefined && { name: str(input.name) }),
      ...(input.colonies !== undefined && { colonies: Number(input.colonies) || 1 }),
      ...(input.siteId !== undefined && { site_id: str(input.siteId) || null }),
    };
    if (Object.keys(change).length === 0) throw new LintelError('bad-request', 'There is nothing to change.', {});
    if (change.name?.trim() === '') throw new LintelError('bad-request', 'A hive needs a name.', {});
    await standing.insistById('hive.update', id, { fields: Object.keys(input) });
    await written(standing, id, standing.scope<ApiaryTables>().updateTable('hives').set(change).where('id', '=', id));
    return c.json({});
  });
  app.post('/hives/:id/keeper', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    const to = str((await body(c)).to);
    // To take what is nobody's is an ordinary change; everything else is a handover.
    const hive = await standing.findOne('hive', id);
    await standing.insistById(hive.keeperId === null && to === standing.userId ? 'hive.update' : 'hive.transfer', id);
    await written(standing, id, standing.scope<ApiaryTables>().updateTable('hives').set({ keeper_id: to }).where('id', '=', id));
    return c.json({});
  });
  app.post('/hives/:id/archive', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    const status = (await body(c)).archived === true ? 'archived' : 'active';
    await standing.insistById('hive.archive', id);
    await written(standing, id, standing.scope<ApiaryTables>().updateTable('hives').set({ status }).where('id', '=', id));
    return c.json({});
  });

  /** Nothing written means that somebody else was first: the answer is what is so now. */
  async function written(standing: Here, id: string, update: { executeTakeFirst(): Promise<{ numUpdatedRows: bigint }> }): Promise<void> {
    if ((await update.executeTakeFirst()).numUpdatedRows > 0n) return;
    const now = await standing.findOne('hive', id);
    const keeper = (await names(standing)).find((p) => p.id === now.keeperId)?.name;
    throw new LintelError('refused', `Somebody was faster: ${String(now.name)} is ${keeper ? `kept by ${keeper}` : 'changed'} now. Load the page again.`, {});
  }

  app.get('/records/:area', async (c) => {
    const standing = await enter(c);
    const area = c.req.param('area');
    if (area === 'ledger') {
      standing.insist('area.ledger');
      return c.json({ title: 'Ledger', columns: ['purpose', 'amount', 'status'], rows: await standing.find('entry', { order: 'id', limit: 200 }) });
    }
    if (area === 'health') {
      standing.insist('area.health');
      return c.json({ title: 'Disease reports', columns: ['disease', 'findings'], rows: await standing.find('report', { order: 'id', limit: 200 }) });
    }
    standing.insist('area.sheets');
    return c.json({ title: 'Reference sheets', columns: ['title', 'body'], rows: await standing.find('sheet', { order: 'title' }) });
  });

  app.post('/invitations/preview', async (c) => {
    const standing = await enter(c);
    standing.insist('member.invite');
    const roles = readRoles((await body(c)).roles);
    const below = Object.fromEntries(
      (await lintel.db.selectFrom('lintel_unit_below').selectAll().where('tenant_id', '=', standing.facts.tenant.id).execute()).reduce(
        (all, row) => all.set(row.above_id, [...(all.get(row.above_id) ?? []), row.below_id]),
        new Map<string, string[]>(),
      ),
    );
    const newcomer = new Standing(standing.charter, madeUpFacts(standing.charter, standing.facts.tenant, roles, below));
    const subject: Subject = { id: 'newcomer', name: 'newcomer', line: '', standings: [newcomer], shown: newcomer };
    const table = await accessTable(standing.charter, 'people', [subject], counting(standing));
    const opens = table.sections
      .flatMap((s) => s.permissions.map((p, i) => ({ section: s.name, label: p.label, total: s.total, ...(s.rows[0]?.cells[i] ?? { ways: [], count: null }) })))
      .filter((line) => line.ways.length > 0);
    const gives = newcomer.describe().permissions.some((p) => p.ways.some((way) => way.path.by !== 'everyMember'));
    return c.json({ opens, empty: !gives });
  });
  app.get('/access', async (c) => {
    const standing = await enter(c);
    standing.insist('area.members');
    const members = await standing.members.list();
    const fulfilled = Object.keys(lintel.charter.data.obligations);
    const standings = await Promise.all(members.map((m) => lintel.enter({ tenant: standing.facts.tenant.id, user: m.userId, fulfilled })));
    standings.sort((a, b) => (a.facts.me.name ?? '').localeCompare(b.facts.me.name ?? ''));
    const by = c.req.query('by') === 'people' ? 'people' : 'roles';
    const subjects = by === 'people' ? peopleSubjects(standings) : roleSubjects(lintel.charter, standing.facts.tenant, standings);
    return c.json(await accessTable(lintel.charter, by, subjects, counting(standing)));
  });
  return app;
}
