/* An application of so many people, to be taken in. Run by itself with a database and a number it takes them in, and prints the most memory that took, in kilobytes. */
import process from 'node:process';
import pg from 'pg';
import { defineCharter, defineKinds, group, id, maker, tenant, text, unit } from 'warm-lintel';
import { connect, createLintel, type Intake, type IntakeMember, type IntakePerson, type IntakeTenant } from 'warm-lintel/server';

const ids = { type: 'integer' } as const;
const words = (label: string) => ({ label });
export const charter = defineCharter(
  defineKinds(
    {
      job: {
        table: 'jobs',
        label: 'title',
        fields: { id: id(ids), workshopId: tenant(ids), openedBy: maker(ids), crewId: group(ids), bayId: unit(ids), title: text() },
        actions: { read: words('See'), create: words('Open'), update: words('Change') },
      },
    },
    { job: { crew: ({ record, me }) => record.crewId.in(me.groupIds) } },
  ),
  {
    roles: { mechanic: { label: 'Mechanic', may: { 'job.read': 'tenant' } }, clerk: { label: 'Clerk', may: { 'job.read': 'crew' } } },
    apart: { both: { hold: ['mechanic', 'clerk'], sentence: 'who mends keeps no books.' } },
  },
);

export const EACH = 100;
export function* people(count: number): Generator<IntakePerson> {
  for (let i = 1; i <= count; i++) yield { id: i, name: `Person ${i}`, address: `p${i}@taken.example`, confirmedAt: new Date(0) };
}
export function* tenants(count: number): Generator<IntakeTenant> {
  for (let i = 1; i <= count / EACH; i++)
    yield {
      id: i,
      name: `Shop ${i}`,
      groups: [{ id: 7, name: 'Crew' }],
      units: [
        { id: 1, name: 'Hall' },
        { id: 2, name: 'Bay', below: 1 },
      ],
    };
}
export function* members(count: number): Generator<IntakeMember> {
  for (let i = 1; i <= count; i++) {
    const roles = i % EACH === 1 ? ['keyholder'] : i % 2 === 0 ? ['mechanic'] : [{ role: 'clerk', anchor: { on: 'unit' as const, unitId: '1' } }];
    yield { user: i, tenant: Math.ceil(i / EACH), roles, groups: i % 3 === 0 ? [7] : [], units: i % 5 === 0 ? [2] : [] };
  }
}
export const everything = (count: number): Intake => ({ people: people(count), tenants: tenants(count), members: members(count) });

if (process.argv[1]?.endsWith('taken.ts')) {
  const [url, count] = process.argv.slice(2);
  const pool = new pg.Pool({ connectionString: url, max: 1 });
  await pool.query('create table jobs (id integer primary key, workshop_id integer, opened_by integer, crew_id integer, bay_id integer, title text)');
  const lintel = createLintel({ charter, db: connect<any>(pool) });
  await lintel.prepare();
  const { people: all, members: some, opened } = await lintel.intake(everything(Number(count)));
  console.log(JSON.stringify({ people: all.brought, members: some.brought, opened, kilobytes: process.resourceUsage().maxRSS }));
  await pool.end();
}
