import { randomBytes, timingSafeEqual } from 'node:crypto';
import { existsSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import { createRequire } from 'node:module';
import type { AddressInfo } from 'node:net';
import { dirname, extname, join, normalize } from 'node:path';
import { serve } from '@hono/node-server';
import { Hono } from 'hono';
import { getCookie, setCookie } from 'hono/cookie';
import { secureHeaders } from 'hono/secure-headers';
import { isLintelError, LintelError } from '../../base/index.js';
import { ANSWERS, type DeskParts, WORKS } from './answers.js';

/** Where the built page lies in the package, from the sources as from what is built of them. */
const PAGE = join(dirname(createRequire(import.meta.url).resolve('warm-lintel/package.json')), 'desk');
const TYPES: Readonly<Record<string, string>> = { '.html': 'text/html; charset=utf-8', '.js': 'text/javascript', '.css': 'text/css', '.svg': 'image/svg+xml' };

const same = (a: string, b: string) => a.length === b.length && timingSafeEqual(Buffer.from(a), Buffer.from(b));

/** The desk as a function of a request. It answers whoever came by the ticket, which lets in once. */
export function deskApp(parts: DeskParts, ticket: string, hosts: () => readonly string[]): Hono {
  const session = randomBytes(32).toString('base64url');
  let unused = true;
  const app = new Hono();
  app.onError((error, c) => {
    if (isLintelError(error)) return c.json({ error: error.message }, error.code === 'not-found' ? 404 : 400);
    return c.json({ error: error instanceof Error ? error.message : String(error) }, 500);
  });
  app.use(
    '*',
    secureHeaders({
      contentSecurityPolicy: { defaultSrc: ["'self'"], styleSrc: ["'self'", "'unsafe-inline'"], frameAncestors: ["'none'"] },
      referrerPolicy: 'no-referrer',
      strictTransportSecurity: false,
    }),
  );
  // Another name that leads here is another page’s doing.
  app.use('*', async (c, next) => {
    if (!hosts().includes(c.req.header('host') ?? '')) return c.text('This desk is not known under that name.', 421);
    await next();
    c.header('cache-control', 'no-store');
  });
  app.get('/enter/:ticket', (c) => {
    if (!unused || !same(c.req.param('ticket'), ticket)) return c.text('This link has been used. Start lintel desk again.', 403);
    unused = false;
    setCookie(c, 'lintel_desk', session, { httpOnly: true, sameSite: 'Strict', path: '/' });
    return c.redirect('/table');
  });
  app.use('*', async (c, next) => {
    if (!same(getCookie(c, 'lintel_desk') ?? '', session)) return c.text('Open the link that lintel desk printed.', 403);
    await next();
  });
  app.get('/api/:what', async (c) => {
    const answer = ANSWERS[c.req.param('what')];
    if (!answer) throw new LintelError('not-found', 'There is no such page.', {});
    return c.json((await answer(parts, c.req.query())) as object);
  });
  app.post('/api/:what', async (c) => {
    const work = WORKS[c.req.param('what')];
    if (!work) throw new LintelError('not-found', 'There is no such page.', {});
    if (!hosts().some((host) => c.req.header('origin') === `http://${host}`)) throw new LintelError('refused', 'This was sent from another page.', {});
    return c.json((await work(parts, (await c.req.json()) as Record<string, string>)) as object);
  });
  app.get('*', async (c) => {
    const asked = normalize(c.req.path).replace(/^[/.]+/, '');
    const file = extname(asked) === '' ? 'index.html' : asked;
    const path = join(PAGE, file);
    if (!path.startsWith(PAGE) || !existsSync(path)) throw new LintelError('not-found', 'There is no such page.', {});
    return c.body(await readFile(path), 200, { 'content-type': TYPES[extname(file)] ?? 'application/octet-stream' });
  });
  return app;
}

export interface Desk {
  /** Opens it, once. */
  readonly link: string;
  close(): Promise<void>;
}

/** Puts the desk up on the loopback address alone. @throws LintelError `no-page` where it was not built, `port-taken`. */
export async function startDesk(parts: DeskParts, port: number): Promise<Desk> {
  if (!existsSync(join(PAGE, 'index.html'))) throw new LintelError('no-page', 'The page of the desk is not built; run npm run desk:build.', {});
  const ticket = randomBytes(24).toString('base64url');
  let taken = 0;
  const app = deskApp(parts, ticket, () => [`127.0.0.1:${taken}`, `localhost:${taken}`]);
  const server = await new Promise<ReturnType<typeof serve>>((resolve, reject) => {
    const started = serve({ fetch: app.fetch, port, hostname: '127.0.0.1' }, () => resolve(started));
    started.once('error', (error: Error & { code?: string }) => {
      const taken = error.code === 'EADDRINUSE';
      reject(taken ? new LintelError('port-taken', `The port ${port} is taken; give another, or none for one that is free.`, {}, { cause: error }) : error);
    });
  });
  taken = (server.address() as AddressInfo).port;
  return {
    link: `http://127.0.0.1:${taken}/enter/${ticket}`,
    close: () =>
      new Promise((resolve) => {
        server.close(() => resolve());
        if ('closeAllConnections' in server) server.closeAllConnections();
      }),
  };
}
