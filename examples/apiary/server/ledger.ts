import { randomUUID } from 'node:crypto';
import { Hono } from 'hono';
import { LintelError } from 'warm-lintel';
import { type FaceOptions, type Standing as OfRequest, tried } from 'warm-lintel/http';
import type { ApiaryTables } from '../world/tables.js';
import { type Apiary, body, str } from './app.js';
import { around } from './here.js';

function readEntry(input: Record<string, unknown>): { purpose: string; amount: string } {
  const [purpose, amount] = [str(input.purpose).trim(), str(input.amount).trim()];
  if (purpose === '') throw new LintelError('bad-request', 'Say what it was for.', {});
  if (!/^-?\d{1,9}(\.\d{1,2})?$/.test(amount)) throw new LintelError('bad-request', 'The amount is a number like 12.50, or -12.50 for what was spent.', {});
  return { purpose, amount };
}

/** The honey ledger: entries are written by one and booked by another. */
export function ledgerRoutes(lintel: Apiary, sender: FaceOptions['sender']): Hono<OfRequest> {
  const app = new Hono<OfRequest>();
  const { enter, names } = around(lintel, sender);
  app.on(['POST', 'PATCH'], '/*', tried(lintel as never, { sender }));

  app.get('/', async (c) => {
    const standing = await enter(c);
    standing.insist('area.ledger');
    const [entries, people] = await Promise.all([standing.find('entry', { order: 'id', limit: 200, may: ['entry.update', 'entry.book'] }), names(standing)]);
    return c.json({ entries, people });
  });
  app.post('/', async (c) => {
    const standing = await enter(c);
    const values = { id: `entry-${randomUUID().slice(0, 8)}`, ...readEntry(await body(c)) };
    await standing
      .scope<ApiaryTables>()
      .insertInto('entries')
      .values(values as never)
      .execute();
    return c.json({ id: values.id }, 201);
  });
  app.patch('/:id', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    const change = readEntry(await body(c));
    await standing.insistById('entry.update', id);
    await standing.scope<ApiaryTables>().updateTable('entries').set(change).where('id', '=', id).execute();
    return c.json({});
  });
  app.post('/:id/book', async (c) => {
    const standing = await enter(c);
    const id = c.req.param('id');
    await standing.insistById('entry.book', id);
    await standing.scope<ApiaryTables>().updateTable('entries').set({ status: 'booked' }).where('id', '=', id).execute();
    return c.json({});
  });
  return app;
}
