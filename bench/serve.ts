/* Serves one of the two routes in a process of its own: by its parent it is asked what memory it holds. */
import { serve } from '@hono/node-server';
import pg from 'pg';
import { connect } from 'warm-lintel/server';
import { guardedApp, handApp } from './routes.js';

const [, , which, url] = process.argv;
const pool = new pg.Pool({ connectionString: url, max: 20 });
const app = which === 'guarded' ? guardedApp(connect<any>(pool), pool) : handApp(pool);
serve({ fetch: app.fetch, port: 0, hostname: '127.0.0.1' }, ({ port }) => process.send?.({ port }));
process.on('message', () => {
  for (let i = 0; i < 3; i++) globalThis.gc?.();
  process.send?.({ heap: process.memoryUsage().heapUsed });
});
