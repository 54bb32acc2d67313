/* Why, inside the application: over HTTP the answers are the command’s, cut to what whoever asks may know. */
import { expect, test } from 'vitest';
import { everythingMet } from 'warm-lintel';
import { createFace } from 'warm-lintel/http';
import { charter as apiary } from '../examples/apiary/world/charter.js';
import { explainIn, findTenant } from '../src/cli/look.js';
import { club, code } from './club.js';
import { LONG } from './long.js';
import { apiaryOnPostgres } from './worlds.js';

const asked = async (face: ReturnType<typeof createFace>, user: string, path: string) => {
  const response = await face.fetch(new Request(`http://x/tenants/${path}`, { headers: { 'x-user': user } }));
  return { status: response.status, data: (await response.json()) as any };
};
const sender = ({ headers }: Request) => ({ user: headers.get('x-user') as string, fulfilled: everythingMet(apiary as never) });

test('for every cell of the demo the answer over HTTP is that of the command, for whoever may know everything', async () => {
  const { lintel, db } = await apiaryOnPostgres();
  const face = createFace(lintel as never, { sender, perMinute: 100_000 });
  const tenant = await findTenant(lintel as never, 'alderbrook');
  const maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren' });
  let cells = 0;
  // Of each second member; of all in the long run.
  for (const { id: user } of tenant.members.filter((_, i) => LONG || i % 8 === 0)) {
    const standing = await tenant.standingOf(user);
    for (const [action, { kind, action: name }] of lintel.charter.permissions) {
      const all = kind ? ((await maren.find(kind as never, { order: 'id' })) as unknown as { id: string }[]) : [];
      const records = kind && name !== 'create' ? (LONG ? all : [all[all.length >> 1]]).flatMap((one) => one ?? []) : [undefined];
      for (const record of records) {
        const decision = record ? await standing.decideById(action, record.id) : standing.decide(action as never);
        const theirs = await explainIn(tenant, standing as never, decision, record && { kind: kind as string, id: record.id });
        const { status, data } = await asked(face, 'maren', `alderbrook/why?user=${user}&action=${action}${record ? `&record=${record.id}` : ''}`);
        expect([status, data]).toEqual([200, JSON.parse(JSON.stringify(theirs))]);
        cells += 1;
      }
    }
  }
  expect(cells).toBeGreaterThan(LONG ? 200 : 50);
  // Of oneself anybody asks; of others, who may.
  const own = await asked(face, 'tobias', 'alderbrook/why?action=hive.update&record=a-hive-02');
  expect([own.status, own.data.allowed, own.data.grants[0].by]).toMatchObject([200, false, expect.stringContaining('role Keeper')]);
  expect((await asked(face, 'tobias', 'alderbrook/why?action=hive.update&user=sela')).status).toBe(403);
  expect((await asked(face, 'tobias', 'alderbrook/why?action=hive.update&record=q-hive-01')).data).toEqual(
    (await asked(face, 'tobias', 'alderbrook/why?action=hive.update&record=none')).data,
  );
  expect((await asked(face, 'tobias', 'alderbrook/gives?action=hive.update')).status).toBe(403);
  const gives = (await asked(face, 'maren', 'alderbrook/gives?action=hive.update')).data.items;
  expect(gives.map(({ by }: any) => by)).toEqual(expect.arrayContaining(['full control', 'role Keeper']));
  const compared = (await asked(face, 'maren', 'alderbrook/compare?users=tobias,sela&on=hive.update')).data;
  expect([compared.names, compared.records.groups.reduce((sum: number, { count }: any) => sum + count, 0)]).toEqual([['Tobias Renn', 'Sela Vardy'], 24]);
  expect((await asked(face, 'tobias', 'alderbrook/compare?users=tobias,sela')).status).toBe(403);
  // What is about no record has its remedies too, and they are carried out.
  for (const [action, granted] of [
    ['hive.create', 'hive.create'],
    ['area.ledger', 'area.ledger'],
    ['member.invite', 'member.invite'],
  ] as const) {
    const { data } = await asked(face, 'maren', `alderbrook/remedies?user=junia&action=${action}`);
    const chosen = data.remedies.find((one: any) => one.proposal);
    expect([data.allowed, chosen !== undefined]).toEqual([false, true]);
    await maren.carryOut(chosen.proposal);
    expect((await tenant.standingOf('junia')).may(granted as never)).toBe(true);
  }
  expect(await code(maren.remedies('junia', 'hive.update'))).toBe('no-record');
  await db.destroy();
});

test('two worlds that differ in what is hidden from whoever asks are answered alike', async () => {
  const answers: unknown[] = [];
  for (const others of [['ben'], ['key']]) {
    const { db, enter, member, lintel } = await club();
    const face = createFace(lintel as never, { sender });
    for (const [user, role] of [
      ['ann', 'writer'],
      ['ben', 'writer'],
      ['side', 'neighbour'],
    ] as const)
      await member(user, role);
    await (await enter('key')).carryOut([
      { do: 'add-unit', id: 'hall', name: 'Hall' },
      { do: 'make-group', id: 'reds', name: 'Reds', people: others },
      { do: 'open-records', group: 'reds', to: { user: 'ann' }, kind: 'note', actions: ['read', 'update'], keeps: false },
      { do: 'place', user: 'side', units: ['hall'] },
      { do: 'place', user: 'ann', units: ['hall'] },
      { do: 'set-permissions', holder: { user: 'side' }, permissions: [{ permission: 'access.ask', reach: 'units', anchor: { on: 'tenant' } }] },
    ]);
    const note = { id: 'n', tenant_id: 'club', owner_id: 'ben', made_by: 'ben', room_id: 'hall', title: 'n', secret: others[0] };
    await db.insertInto('notes').values(note).execute();
    const paths = ['note.update', 'note.unfold', 'note.create', 'note.read', 'member.read'].flatMap((action) => [
      `why?user=ann&action=${action}&record=n`,
      `why?user=ann&action=${action}`,
      `why?user=ben&action=${action}`,
      `why?action=${action}&record=n`,
    ]);
    const said = await Promise.all(
      [...paths, 'gives?action=note.update', 'compare?users=ann,side', 'compare?users=ann,side&on=note.read'].map((path) =>
        asked(face, 'side', `club/${path}`),
      ),
    );
    // Ids are made up in each.
    answers.push(JSON.parse(JSON.stringify(said).replace(/[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}/g, 'made up')));
    expect(said[0]?.data.allowed).toBe('unknown');
    // Whoever may know everything is told.
    expect((await asked(face, 'key', 'club/why?user=ann&action=note.update&record=n')).data.allowed).toBe(others[0] === 'ben');
    await db.destroy();
  }
  expect(answers[0]).toEqual(answers[1]);
});
