/* The probe against a plain loop of fetch that sends the same requests. */
import pg from 'pg';
import { probe } from 'warm-lintel/rehearsal';
import { connect, createLintel } from 'warm-lintel/server';
import { charter } from '../properties/probed/charter.js';
import { SCHEMA, startLending } from '../properties/probed/lending.js';
import { lendingTarget } from '../properties/probed/target.js';
import { databaseOn } from '../test/setup.js';
import { medianOf, type Result, result } from './measure.js';

const ROUNDS = 3;
const ROUTES = ['GET /tools', 'GET /tools/{toolId}', 'POST /tools', 'PATCH /tools/{toolId}', 'GET /loans', 'POST /loans'];

const sessionIn = (answer: Response) => answer.headers.getSetCookie()[0]?.split(';')[0];

/** The lending application in a database of its own, with a way to have that as it was at first. */
async function lending(clusterUrl: string) {
  const pool = new pg.Pool({ connectionString: await databaseOn(clusterUrl), max: 4 });
  pool.on('error', () => {});
  await pool.query(SCHEMA);
  const running = await startLending(pool);
  return {
    pool,
    running,
    anew: () => pool.query(`drop table users, loans, tools; ${SCHEMA}`),
    close: async () => {
      await running.close();
      await pool.end();
    },
  };
}

export async function probing(clusterUrl: string): Promise<Result[]> {
  const [ours, plain] = [await lending(clusterUrl), await lending(clusterUrl)];
  try {
    const db = connect<any>(ours.pool);
    const lintel = createLintel({ charter, db });
    const target = await lendingTarget(ours.pool, ours.running.url);
    const walked = (app: Parameters<typeof probe>[2]['app']) => probe(lintel as never, db, { ...target, app, only: ROUTES });
    const sent: { readonly path: string; readonly init: RequestInit; readonly session: string | undefined }[] = [];
    await walked(async (request) => {
      const { pathname, search } = new URL(request.url);
      const body = request.method === 'GET' || request.method === 'HEAD' ? undefined : await request.clone().text();
      const answer = await fetch(new Request(`${ours.running.url}${pathname}${search}`, request));
      const init = { method: request.method, headers: [...request.headers] as [string, string][], ...(body && { body }) };
      sent.push({ path: pathname + search, init, session: sessionIn(answer) });
      return answer;
    });
    const loop = async () => {
      const sessions = new Map<string, string>();
      for (const { path, init, session } of sent) {
        const headers = new Headers(init.headers);
        const was = headers.get('cookie');
        if (was !== null) headers.set('cookie', sessions.get(was) ?? was);
        const answer = await fetch(`${plain.running.url}${path}`, { ...init, headers });
        await answer.text();
        // Whoever is refused is answered sooner than whoever is let in: the sessions are those of this application.
        if (session !== undefined) sessions.set(session, sessionIn(answer) ?? '');
      }
    };
    const times: [number[], number[]] = [[], []];
    let calls = 0;
    for (let i = 0; i < ROUNDS; i++)
      for (const which of i % 2 === 0 ? ([0, 1] as const) : ([1, 0] as const)) {
        await plain.anew();
        const began = performance.now();
        if (which === 0) calls = (await walked(ours.running.url)).calls;
        else await loop();
        times[which].push(((performance.now() - began) * 1000) / sent.length);
      }
    const note = `a call of lintel probe on the lending application, what it changed put back, over ${calls} calls, against a plain loop of fetch that sends the same`;
    return [result('probe-call', note, 2, medianOf(times[0]), medianOf(times[1]))];
  } finally {
    await ours.close();
    await plain.close();
  }
}
