import { randomUUID } from 'node:crypto';
import { Hono } from 'hono';
import { LintelError } from 'warm-lintel';
import { type FaceOptions, type Standing as OfRequest, tried } from 'warm-lintel/http';
import type { ApiaryTables } from '../world/tables.js';
import { type Apiary, body, str, texts } from './app.js';
import { type Around, around, type Here } from './here.js';

const MAY = ['read', 'update', 'transfer', 'archive', 'inspect', 'appoint', 'follow', 'delete'].map((action) => `hive.${action}`) as never[];
/** Lists of people of a hive, with the action that changes each. */
const LISTS = { inspectors: 'hive.appoint', followers: 'hive.follow' } as const;

/** What it takes to write an inspection: to make it, and to say which hive it is about. */
const WRITING = ['inspection.create', 'inspection.refile'] as const;

/** An inspection that could be written of a hive, with what this person may do with it: their browser does not know whose hive it is. */
async function toWrite(standing: Here, hiveId: string): Promise<{ hiveId: string; may: readonly string[]; could?: Record<string, unknown> }> {
  const { allowed, could } = standing.decide('inspection.create', await standing.withParents('inspection', { hiveId } as never));
  return { hiveId, may: allowed ? WRITING : [], ...(could && { could: Object.fromEntries(WRITING.map((action) => [action, could.allowed])) }) };
}

const noted = (summary: unknown): string => {
  if (str(summary).trim() === '') throw new LintelError('bad-request', 'Say in a few words what was seen.', {});
  return str(summary);
};

/** How many colonies; where nothing is said, one. */
const counted = (colonies: unknown): number => {
  const many = colonies === undefined || colonies === null || colonies === '' ? 1 : Number(colonies);
  if (!Number.isInteger(many) || many < 0 || many > 1000) throw new LintelError('bad-request', 'Colonies are a whole number, at most 1000.', {});
  return many;
};

/** Nothing written means that somebody else was first: the answer is what is so now. */
async function written({ names }: Around, standing: Here, id: string, update: { executeTakeFirst(): Promise<{ numUpdatedRows: bigint }> }): Promise<void> {
  if ((await update.executeTakeFirst()).numUpdatedRows > 0n) return;
  const now = await standing.findOne('hive', id);
  const keeper = (await names(standing)).find((p) => p.id === now.keeperId)?.name;
  throw new LintelError('refused', `Somebody was faster: ${String(now.name)} is ${keeper ? `kept by ${keeper}` : 'changed'} now. Load the page again.`, {});
}

/** Hives, their inspections, and the people who are linked to them. */
export function hiveRoutes(lintel: Apiary, sender: FaceOptions['sender']): Hono<OfRequest> {
  const app = new Hono<OfRequest>();
  const here = around(lintel, sender);
  const { enter, names, units } = here;
  // What is done to hives can be tried by somebody who looks as another.
  app.on(['POST', 'PATCH', 'DELETE'], '/*', tried(lintel as never, { sender }));

  app.get('/', async (c) => {
    const standing = await enter(c);
    standing.insist('area.hives');
    const [hives, people, sites] = await Promise.all([standing.find('hive', { order: 'name', limit: 200, may: MAY }), names(standing), units(standing)]);
    return c.json({ hives, people, sites });
  });
  app.get('/:id', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    const hive = await standing.findOne('hive', id, { may: MAY });
    const [draft, inspections, people, sites] = await Promise.all([
      toWrite(standing, id),
      standing.find('inspection', { where: { hiveId: id }, order: '-heldAt', may: ['inspection.update'] }),
      names(standing),
      units(standing),
    ]);
    return c.json({ hive, draft, inspections, people, sites });
  });
  app.post('/', async (c) => {
    const standing = await enter(c);
    const { name, colonies, siteId, ...rest } = await body(c);
    if (str(name).trim() === '') throw new LintelError('bad-request', 'A hive needs a name.', {});
    const values = {
      id: `hive-${randomUUID().slice(0, 8)}`,
      name: str(name),
      colonies: counted(colonies),
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
  app.patch('/:id', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    const input = await body(c);
    const change = {
      ...(input.name !== undefined && { name: str(input.name) }),
      ...(input.colonies !== undefined && { colonies: counted(input.colonies) }),
      ...(input.siteId !== undefined && { site_id: str(input.siteId) || null }),
    };
    if (Object.keys(change).length === 0) throw new LintelError('bad-request', 'There is nothing to change.', {});
    if (change.name?.trim() === '') throw new LintelError('bad-request', 'A hive needs a name.', {});
    await standing.insistById('hive.update', id, { fields: Object.keys(input) });
    await written(here, standing, id, standing.scope<ApiaryTables>().updateTable('hives').set(change).where('id', '=', id));
    return c.json({});
  });
  app.delete('/:id', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    await standing.insistById('hive.delete', id);
    await standing
      .scope<ApiaryTables>()
      .deleteFrom('hives')
      .where('id', '=', id)
      .execute()
      .catch((error: { code?: string }) => {
        // The database keeps what an inspection names.
        if (error.code === '23503') throw new LintelError('refused', 'It has inspections, and stays. Archive it instead.', {});
        throw error;
      });
    return c.json({});
  });
  app.post('/:id/keeper', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    const to = str((await body(c)).to);
    // To take what is nobody's is an ordinary change; everything else is a handover.
    const hive = await standing.findOne('hive', id);
    await standing.insistById(hive.keeperId === null && to === standing.userId ? 'hive.update' : 'hive.transfer', id);
    await written(here, standing, id, standing.scope<ApiaryTables>().updateTable('hives').set({ keeper_id: to }).where('id', '=', id));
    return c.json({});
  });
  app.post('/:id/archive', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    const status = (await body(c)).archived === true ? 'archived' : 'active';
    await standing.insistById('hive.archive', id);
    await written(here, standing, id, standing.scope<ApiaryTables>().updateTable('hives').set({ status }).where('id', '=', id));
    return c.json({});
  });
  for (const [list, action] of Object.entries(LISTS))
    app.post(`/:id/${list}`, async (c) => {
      const standing = await enter(c);
      const id = c.req.param('id') as string;
      const { add, remove } = await body(c);
      await standing.insistById(action, id);
      await standing.change('hive', [id], { [list]: { add: texts(add), remove: texts(remove) } });
      return c.json({});
    });
  app.post('/:id/inspections', async (c) => {
    const standing = await enter(c);
    const { summary, heldAt } = await body(c);
    const values = { id: `inspection-${randomUUID().slice(0, 8)}`, hive_id: c.req.param('id'), summary: noted(summary), held_at: new Date(str(heldAt)) };
    if (Number.isNaN(values.held_at.getTime())) throw new LintelError('bad-request', 'Say on which day it was.', {});
    await standing
      .scope<ApiaryTables>()
      .insertInto('inspections')
      .values(values as never)
      .execute();
    return c.json({ id: values.id }, 201);
  });
  app.patch('/:id/inspections/:inspection', async (c) => {
    const standing = await enter(c);
    const { inspection } = c.req.param();
    const change = { summary: noted((await body(c)).summary) };
    await standing.insistById('inspection.update', inspection);
    await standing.scope<ApiaryTables>().updateTable('inspections').set(change).where('id', '=', inspection).execute();
    return c.json({});
  });
  return app;
}
