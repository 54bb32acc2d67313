/* An application on the demo's world that was written in a hurry: what `lintel probe` says of it. */
import { Hono } from 'hono';
import { defineConfig } from 'warm-lintel/cli';
import { connect } from 'warm-lintel/server';
import { charter } from '../../examples/apiary/world/charter.js';
import { embeddedWorld } from '../../examples/apiary/world/embedded.js';

export default defineConfig({
  charter,
  database: () => embeddedWorld(),
  probe: (database) => {
    const db = connect<any>(database);
    const app = new Hono();
    app.get('/:tenant/hives', async (c) => {
      const hives = await db.selectFrom('hives').select(['id', 'name', 'status']).where('tenant_id', '=', c.req.param('tenant')).execute();
      return c.req.header('user') ? c.json({ hives }) : c.json({}, 401);
    });
    app.patch('/:tenant/hives/:id', async (c) => {
      if (!c.req.header('user')) return c.json({}, 401);
      const { name, status } = await c.req.json();
      await db
        .updateTable('hives')
        .set({ ...(name && { name }), ...(status && { status }) })
        .where('id', '=', c.req.param('id'))
        .execute();
      return c.json({});
    });
    return {
      app: (request) => app.fetch(request),
      signIn: async ({ id }) => ({ user: id }),
      routes: [
        { method: 'get', path: '/:tenant/hives' },
        { method: 'patch', path: '/:tenant/hives/:id', body: { name: 'Probe' } },
      ],
    };
  },
});
