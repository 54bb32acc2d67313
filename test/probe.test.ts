/* The probe: on an application of another hand, sound and with faults, and on the demo’s. The whole list of faults: `npm run properties -- probed`. */
import { mkdtempSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import express from 'express';
import Fastify from 'fastify';
import { Hono } from 'hono';
import { expect, inject, test } from 'vitest';
import { EXIT, run } from 'warm-lintel/cli';
import { asCurl, asTest, type ProbeReport, type ProbeTarget, probe } from 'warm-lintel/rehearsal';
import { edited, PLANTED, probeApiary } from '../properties/probed/apiary.js';
import { APPLICATIONS, probeApplication } from '../properties/probed/applications.js';
import { FAULTS } from '../properties/probed/faults.js';
import { probeLending } from '../properties/probed/score.js';
import { LONG, testLong } from './long.js';
import { apiaryOnPostgres } from './worlds.js';

const clusterUrl = inject('postgres');

/** Of the sound application all in the long run; else some of each sort, among them those on which it was once thought that something is wrong. */
const SOUND = LONG ? undefined : ['PATCH /tools/{toolId}'];

test('on a sound application nothing is found, everything stands as it was, and what was reached is told', { timeout: 120_000 }, async () => {
  const { report, untouched } = await probeLending(clusterUrl, [], SOUND);
  expect([report.findings, untouched, report.unreached.map(({ route }) => route)]).toEqual([[], true, ['GET /codes/{code}', 'all routes']]);
  expect(report.unreached.at(-1)?.why).toBe('organisations that are mixed up: nobody belongs to two');
  const answered = report.coverage.filter(({ by }) => by.some((one) => one.answered > 0)).length;
  expect([answered, report.people.at(-1), report.calls > 50]).toEqual([report.coverage.length, 'a visitor', true]);
});

/** Some faults; all by `npm run properties -- probed`: the routes on which it is looked for, and as what it is found. */
const SAMPLE: Readonly<Record<string, readonly [only: string, code: string]>> = {
  'list-open': ['GET /tools', 'shows-hidden'],
  'detail-403': ['GET /tools/{toolId}', 'tells-existence'],
  'change-archived': ['PATCH /tools/{toolId}', 'changes-unlawfully'],
  'stale-session': ['GET /loans', 'open-after-removal'],
  'sort-breaks': ['GET /tools', 'breaks'],
};

test.each(Object.entries(SAMPLE).filter((_, i) => LONG || i < 2))('%s is found where it is', { timeout: 60_000 }, async (fault, [only, code]) => {
  expect(FAULTS.map(([name]) => name)).toContain(fault);
  const { report, untouched } = await probeLending(clusterUrl, [fault], [only]);
  expect([report.findings.map((one) => one.code), untouched]).toEqual([expect.arrayContaining([code]), true]);
  const found = report.findings.find((one) => one.code === code);
  expect([asCurl(found as never), asTest(found as never)]).toEqual([expect.stringMatching(/^curl -i -X [A-Z]+ /), expect.stringContaining(code)]);
  // The test that it is given as names the route where it was: there it is found again.
  const again = found?.route === only ? report : (await probeLending(clusterUrl, [fault], [found?.route ?? ''])).report;
  expect(again.findings.map((one) => one.code)).toContain(code);
});

testLong.each([
  ['first-tenant-taken', 'other-tenant'],
  ['page-for-all', 'lets-in'],
])('%s in the demo’s own application is found', { timeout: 60_000 }, async (name, code) => {
  const planted = PLANTED.find((one) => one.name === name) as (typeof PLANTED)[number];
  expect((await probeApiary(clusterUrl, name, edited(planted), planted.only.slice(0, 1))).findings.map((one) => one.code)).toContain(code);
});

testLong('what a session of before still changes is found where it reads nothing', { timeout: 60_000 }, async () => {
  const { report, untouched } = await probeLending(clusterUrl, ['stale-session'], ['PATCH /tools/{toolId}']);
  expect([untouched, report.findings.map(({ code, message }) => `${code} ${message}`)]).toEqual([
    true,
    expect.arrayContaining([expect.stringMatching(/^open-after-removal .* was put out, and yet: /)]),
  ]);
});

testLong('several faults at once are several findings, each on its route', { timeout: 60_000 }, async () => {
  const wanted: Readonly<Record<string, string>> = {
    'feed-of-ids': 'tells-existence GET /activity',
    'batch-unchecked': 'shows-hidden GET /batch',
    'near-unscoped': 'shows-hidden GET /tools/{toolId}/near',
    'taken-in-hidden': 'filter-tells GET /taken',
    'override-unguarded': 'changes-unlawfully POST /tools/{toolId}',
    'import-nested-borrower': 'changes-unlawfully POST /tools/import',
  };
  const routes = [...Object.values(wanted).map((one) => one.slice(one.indexOf(' ') + 1)), 'GET /tools/{toolId}'].filter(
    (one) => one !== 'POST /tools/{toolId}',
  );
  const { report, untouched } = await probeLending(clusterUrl, [...Object.keys(wanted), 'head-unguarded'], routes);
  const found = report.findings.map(({ code, route }) => `${code} ${route}`);
  expect(found).toEqual(expect.arrayContaining([...Object.values(wanted), 'tells-existence GET /tools/{toolId}']));
  const overridden = report.findings.find(({ request }) => request.headers);
  expect([untouched, asCurl(overridden as never)]).toEqual([true, expect.stringContaining("-H 'x-http-method-override: DELETE'")]);
});

test('what cannot be tried is said in a sentence, and an application that hangs, breaks or sends elsewhere is told', { timeout: 60_000 }, async () => {
  const { lintel, db } = await apiaryOnPostgres();
  const calls: string[] = [];
  const app = (request: Request) => {
    const { pathname } = new URL(request.url);
    calls.push(pathname);
    if (pathname.startsWith('/hang')) return new Promise<Response>(() => {});
    if (pathname.startsWith('/away')) return Response.redirect('http://elsewhere.example/hives', 302);
    return new Response('oh', { status: pathname.startsWith('/breaks') ? 500 : 404 });
  };
  const target: ProbeTarget = {
    app,
    signIn: async () => ({}),
    routes: [
      { method: 'get', path: '/breaks' },
      { method: 'get', path: '/away' },
      { method: 'get', path: '/x/:thing' },
    ],
  };
  const tried = (more: Partial<ProbeTarget>) => probe(lintel as never, db, { ...target, ...more });
  const report = await tried({});
  expect(report.findings.map(({ code, route }) => `${code} ${route}`)).toEqual(
    ['GET', 'POST', 'PUT', 'PATCH', 'DELETE'].map((verb) => `breaks ${verb} /breaks`),
  );
  expect(report.unreached).toEqual([
    { route: 'GET /x/{thing}', why: expect.stringContaining('say it in params') },
    { route: 'GET /breaks', why: expect.stringContaining('nobody was let in') },
    { route: 'GET /away', why: expect.stringContaining('nobody was let in') },
  ]);
  expect(calls.some((path) => path.startsWith('/hives'))).toBe(false);
  const people = [{ id: 'maren', name: 'Maren', address: 'maren@alderbrook.example', tenant: 'alderbrook', roles: ['keyholder'] }];
  // That nothing answers is seen after five seconds.
  if (LONG) {
    const hung = await tried({ routes: [{ method: 'get', path: '/hang' }], people, putOut: async () => async () => {} });
    expect(hung.findings[0]?.message).toContain('no answer within 5 s');
  }
  await expect(tried({ routes: [] })).rejects.toThrow('there is no route to try');
  for (const [wrong, sentence] of [
    [{ app: undefined }, 'probe.app is missing'],
    [{ app: 'http://localhost:9' }, 'start the application first'],
    [{ signIn: undefined }, 'probe.signIn is missing'],
    [{ signIn: async () => undefined }, 'it answered undefined, and not the headers'],
    [{ sessions: 'tenants' }, 'write person or tenant'],
    [{ routes: [{ path: '/hives' }] }, 'probe.routes[0] is not { method, path }'],
    [{ membership: { kind: 'hove', person: 'keeperId' } }, 'did you mean hive'],
    [{ membership: { kind: 'hive', person: 'keperId' } }, 'did you mean keeperId'],
    [{ turns: [{ what: 'was moved', roles: ['kepper'], make: async () => async () => {} }] }, 'did you mean keeper'],
    [{ turns: [{ what: 'was moved', roles: [] }] }, 'probe.turns[0] is not { what, roles, make }'],
  ] as const)
    await expect(tried(wrong as never)).rejects.toThrow(sentence);
  await expect(tried({ only: ['GET /brakes'] })).rejects.toThrow('did you mean GET /breaks');
  await expect(tried({ app: 'https://apiary.example' })).rejects.toThrow('only an application on this machine');
  await expect(tried({ signIn: () => Promise.reject(new Error('wrong password')) })).rejects.toThrow(/could not sign .* in: wrong password/);
  await expect(tried({ people: [{ ...people[0], roles: ['kepper'] } as never] })).rejects.toThrow('did you mean keeper');
  await db.destroy();
});

test('routes come out of an OpenAPI description too', { timeout: 60_000 }, async () => {
  const { lintel, db } = await apiaryOnPostgres();
  const asked: [string, unknown][] = [];
  const body = { type: 'object', properties: { name: { type: 'string' }, colonies: { type: 'integer', minimum: 3 }, kind: { enum: ['a', 'b'] } } };
  const routes = {
    openapi: '3.1.0',
    components: { schemas: { Hive: body } },
    paths: {
      '/org/{org}/hives/{hiveId}': {
        parameters: [{ name: 'org', in: 'path' }],
        get: { parameters: [{ name: 'sort', in: 'query' }] },
        patch: { requestBody: { content: { 'application/json': { schema: { $ref: '#/components/schemas/Hive' } } } } },
      },
    },
  };
  const app = async (request: Request) => {
    if (request.method === 'PATCH') asked.push([new URL(request.url).pathname, await request.json()]);
    return new Response('{}', { status: 404 });
  };
  const people = [{ id: 'maren', name: 'Maren', address: 'maren@alderbrook.example', tenant: 'alderbrook', roles: ['keyholder'] }];
  const steps: [number, number][] = [];
  const target = { app, signIn: async () => ({}), routes, people, putOut: async () => async () => {} };
  await probe(lintel as never, db, target, ({ done, of }) => steps.push([done, of]));
  // Each step is told before it is made, and all of them are made.
  expect(steps).toEqual(steps.map((_, i) => [i, steps.length]));
  expect(steps.length).toBeGreaterThan(0);
  expect(asked[0]).toEqual([expect.stringMatching(/^\/org\/alderbrook\/hives\/a-hive-\d\d$/), { name: expect.any(String), colonies: 77, kind: 'a' }]);
  await db.destroy();
});

/** Faults in applications of other shapes that are planted together, and as what each is told; all, one by one, by `npm run properties -- probed`. */
const PLACES = 'PATCH /gardens/{garden}/places/{placeId}';
const PLOT = '/gardens/{garden}/plots/{plotId}';
const TOGETHER: readonly (readonly [application: string, faults: readonly string[], found: readonly string[]])[] = [
  [
    'choir',
    ['removed-across', 'part-kept', 'fields-obeyed', 'sum-tells', 'child-of-another', 'breaks-at-cost'],
    [
      'changes-unlawfully DELETE /members/{memberId} membership gone',
      'open-after-change PATCH /pieces/{pieceId} piece title',
      'shows-masked GET /pieces piece.licenceCost',
      'rests-on-hidden GET /summary',
      'shows-hidden GET /rehearsals/{rehearsalId}/attendances/{attendanceId} attendance',
      'breaks PATCH /pieces/{pieceId}',
    ],
  ],
  [
    'house',
    ['state-in-both', 'person-by-parameter', 'papers-of-board', 'note-by-another'],
    [
      'changes-unlawfully PUT /repairs/{no}/state repair state',
      'shows-hidden GET /papers paper',
      'changes-unlawfully POST /repairs/{no}/notes note made for another',
    ],
  ],
  [
    'garden',
    ['taken-at-once', 'wardens-at-once', 'sown-at-once', 'signs-at-once'],
    [
      `neither-order POST ${PLOT}/take POST ${PLOT}/take`,
      `neither-order ${PLACES} ${PLACES}`,
      `neither-order POST ${PLOT}/crops DELETE ${PLOT}`,
      'breaks POST /gardens/{garden}/plots POST /gardens/{garden}/plots',
    ],
  ],
];

/** One application in each run; all of them in the long one. */
const SOME = LONG
  ? TOGETHER
  : TOGETHER.filter(([name]) => name === 'house').map(([name, faults, found]) => [name, faults.slice(0, 2), found.slice(0, 1)] as const);

test.each(SOME)('in %s, with numbers for ids, %j are found', { timeout: 120_000 }, async (name, faults, found) => {
  const application = APPLICATIONS[name] as (typeof APPLICATIONS)[string];
  const routes = [...new Set(found.flatMap((one) => one.match(/[A-Z]+ \/\S+/g) ?? []))];
  const { report, untouched } = await probeApplication(clusterUrl, application, faults, routes);
  expect(report.findings.map(({ code, route, about }) => `${code} ${route} ${about}`.trim())).toEqual(expect.arrayContaining([...found]));
  expect(untouched).toBe(true);
  if (!LONG) return;
  const sound = await probeApplication(clusterUrl, application, []);
  expect([sound.report.findings, sound.untouched]).toEqual([[], true]);
});

testLong('what tries need and is not there is made where that is allowed, and gone after', { timeout: 120_000 }, async () => {
  const { choir } = APPLICATIONS as { choir: (typeof APPLICATIONS)[string] };
  const poor = { ...choir, schema: `${choir.schema}; delete from pieces where draft or id > 3` };
  const routes = ['GET /pieces/{pieceId}', 'GET /pieces'];
  const made = { ...poor, target: async (...of: Parameters<typeof poor.target>) => ({ ...(await poor.target(...of)), makeMissing: true }) };
  const tried = async (application: typeof poor, faults: readonly string[]) => {
    const { report, untouched } = await probeApplication(clusterUrl, application, faults, routes);
    return {
      found: report.findings.map(({ code, route }) => `${code} ${route}`),
      gaps: report.unreached.filter(({ why }) => why.startsWith('what is hidden')),
      untouched,
    };
  };
  const faults = ['draft-by-id', 'cost-by-sort'];
  const gap = { route: 'GET /pieces and 1 more', why: expect.stringContaining('whoever is called reads all pieces') };
  expect(await tried(poor, faults)).toEqual({ found: [], gaps: [gap], untouched: true });
  expect(await tried(made, faults)).toEqual({
    found: ['shows-hidden GET /pieces/{pieceId}', 'tells-existence GET /pieces/{pieceId}', 'order-tells GET /pieces'],
    gaps: [],
    untouched: true,
  });
  expect(await tried(made, [])).toEqual({ found: [], gaps: [], untouched: true });
});

test('routes are read from an application of Express, Fastify or Hono, and from a recording of requests', { timeout: 60_000 }, async () => {
  const { lintel, db } = await apiaryOnPostgres();
  const router = express.Router();
  router.get('/hives/:hiveId', () => {});
  const ofExpress = express().use('/t/:tenant', router);
  const ofFastify = Fastify();
  ofFastify.get('/t/:tenant/hives/:hiveId', async () => '');
  ofFastify.get('/t/:tenant/hives.csv', async () => '');
  await ofFastify.ready();
  const ofHono = new Hono().route(
    '/t/:tenant',
    new Hono().get('/hives/:hiveId', (c) => c.text('')),
  );
  const entry = (path: string) => ({ request: { method: 'GET', url: `http://localhost${path}` }, response: { content: { mimeType: 'application/json' } } });
  const recorded = { log: { entries: [entry('/t/alderbrook/hives/a-hive-01?q=a'), entry('/t/alderbrook/hives/a-hive-02'), entry('/t/alderbrook/about')] } };
  const people = [{ id: 'maren', name: 'Maren', address: 'maren@alderbrook.example', tenant: 'alderbrook', roles: ['keyholder'] }];
  const app = () => new Response('', { status: 404 });
  const read = async (routes: ProbeTarget['routes']) =>
    (await probe(lintel as never, db, { app, signIn: async () => ({}), people, routes })).coverage.map(({ route }) => route);
  expect(await read(ofExpress as never)).toEqual(['GET /t/{tenant}/hives/{hiveId}']);
  expect((await read(ofFastify)).sort()).toEqual(['GET /t/{tenant}/hives.csv', 'GET /t/{tenant}/hives/{hiveId}']);
  expect(await read(ofHono)).toEqual(['GET /t/{tenant}/hives/{hiveId}']);
  expect(await read(recorded)).toEqual(['GET /t/{tId}/hives/{hivesId}', 'GET /t/{tId}/about']);
  await expect(read({} as never)).rejects.toThrow('nothing that routes are read from');
  await db.destroy();
});

testLong('the command writes what it found, and on the demo it finds nothing', { timeout: 300_000 }, async () => {
  const tried = async (...args: string[]) => {
    const [out, err]: [string[], string[]] = [[], []];
    const around = { cwd: process.cwd(), out: (t: string) => out.push(t), err: (t: string) => err.push(t), colours: false, width: 160 };
    return { code: await run(['probe', ...args], around), out: out.join('\n'), err: err.join('\n') };
  };
  const careless = ['--config', 'properties/probed/careless.config.ts', '--only', 'GET /{tenant}/hives'];
  const all: ProbeReport = JSON.parse((await tried(...careless, '--format', 'json')).out);
  // As if that list had been tight when the report was written.
  const file = join(mkdtempSync(join(tmpdir(), 'lintel-')), 'report.json');
  writeFileSync(file, JSON.stringify({ ...all, findings: all.findings.filter((one) => one.code !== 'shows-hidden') }));
  const { code, out, err } = await tried(...careless, '--since', file);
  expect([code, err, out]).toEqual([
    EXIT.refused,
    expect.stringMatching(
      /^Trying the application as everybody. What is changed by it is put back.\nThe application wrote \d+ lines? to its console meanwhile, left out here.$/,
    ),
    expect.stringMatching(/^error {2}GET \/\{tenant\}\/hives hive {2}shows-hidden\n {2}Hanne Birk is shown [\s\S]* people: 1 found\.$/),
  ]);
  expect((await tried('--since', 'no-such.json')).err).toContain('--since no-such.json: it cannot be read; give a report');
  if (!LONG) return;
  const demo = await tried();
  expect([demo.code, demo.err + demo.out]).toEqual([EXIT.yes, expect.stringMatching(/nothing was found\.$/)]);
});
