import type { Kysely } from 'kysely';
import { everythingMet } from 'warm-lintel';
import { type AdmissionRule, createLintel, type Lintel } from 'warm-lintel/server';
import { charter } from './charter.js';
import { type ApiaryTables, makeTables } from './tables.js';

type Anchor = { on: 'tenant' } | { on: 'unit'; unitId: string };
interface Somebody {
  id: string;
  name: string;
  address: string;
  /** What they are here for, for those who try the demo. */
  note: string;
}
const tenantWide: Anchor = { on: 'tenant' };

/** Everybody in the demo is made up. */
export const people: readonly Somebody[] = [
  { id: 'maren', name: 'Maren Holt', address: 'maren@alderbrook.example', note: 'keyholder of Alderbrook' },
  { id: 'tobias', name: 'Tobias Renn', address: 'tobias@alderbrook.example', note: 'keeper in Alderbrook' },
  { id: 'sela', name: 'Sela Vardy', address: 'sela@alderbrook.example', note: 'keeper in Alderbrook, reader in Quillmoor' },
  { id: 'otto', name: 'Otto Feld', address: 'otto@alderbrook.example', note: 'warden of the orchard sites, mentor of the juniors' },
  { id: 'junia', name: 'Junia Marsh', address: 'junia@alderbrook.example', note: 'junior at the junior yard' },
  { id: 'pavel', name: 'Pavel Lorne', address: 'pavel@alderbrook.example', note: 'treasurer of Alderbrook' },
  { id: 'hanne', name: 'Hanne Birk', address: 'hanne@alderbrook.example', note: 'health officer of Alderbrook' },
  { id: 'wim', name: 'Wim Castell', address: 'wim@alderbrook.example', note: 'secretary of Alderbrook: brings people in' },
  { id: 'lene', name: 'Lene Arp', address: 'lene@alderbrook.example', note: 'member of Alderbrook without any role' },
  { id: 'ingrid', name: 'Ingrid Oakes', address: 'ingrid@inspections.example', note: 'inspector, in both associations from outside' },
  { id: 'rosa', name: 'Rosa Quill', address: 'rosa@quillmoor.example', note: 'keyholder of Quillmoor' },
  { id: 'mads', name: 'Mads Thorn', address: 'mads@quillmoor.example', note: 'keeper in Quillmoor' },
];

const roles: readonly [tenant: string, inviter: string, user: string, roles: readonly { role: string; anchor: Anchor }[]][] = [
  ['alderbrook', 'maren', 'tobias', [{ role: 'keeper', anchor: tenantWide }]],
  ['alderbrook', 'maren', 'sela', [{ role: 'keeper', anchor: tenantWide }]],
  [
    'alderbrook',
    'maren',
    'otto',
    [
      { role: 'warden', anchor: { on: 'unit', unitId: 'orchards' } },
      { role: 'reader', anchor: tenantWide },
    ],
  ],
  ['alderbrook', 'maren', 'junia', [{ role: 'junior', anchor: tenantWide }]],
  ['alderbrook', 'maren', 'pavel', [{ role: 'treasurer', anchor: tenantWide }]],
  ['alderbrook', 'maren', 'hanne', [{ role: 'healthOfficer', anchor: tenantWide }]],
  ['alderbrook', 'maren', 'wim', [{ role: 'secretary', anchor: tenantWide }]],
  ['alderbrook', 'maren', 'lene', []],
  ['alderbrook', 'maren', 'ingrid', [{ role: 'inspector', anchor: tenantWide }]],
  ['quillmoor', 'rosa', 'mads', [{ role: 'keeper', anchor: tenantWide }]],
  ['quillmoor', 'rosa', 'sela', [{ role: 'reader', anchor: tenantWide }]],
  ['quillmoor', 'rosa', 'ingrid', [{ role: 'inspector', anchor: tenantWide }]],
];

const sites = [
  { id: 'orchards', name: 'Orchard side' },
  { id: 'upper-orchard', name: 'Upper orchard', below: 'orchards' },
  { id: 'mill-meadow', name: 'Mill meadow', below: 'orchards' },
  { id: 'junior-yard', name: 'Junior yard' },
  { id: 'heath', name: 'Heath edge' },
];

const names = [
  'Amber',
  'Bramble',
  'Clover',
  'Damson',
  'Elder',
  'Foxglove',
  'Gorse',
  'Heather',
  'Ivy',
  'Juniper',
  'Knapweed',
  'Linden',
  'Mallow',
  'Nettle',
  'Oxlip',
  'Poppy',
  'Quince',
  'Rowan',
  'Sorrel',
  'Thyme',
  'Umbel',
  'Vetch',
  'Willow',
  'Yarrow',
];

/** Twenty-four hives in Alderbrook and ten in Quillmoor; a few nobody's, a few archived, one whose keeper has left. */
function hives(): ApiaryTables['hives'][] {
  const keepers = ['tobias', 'sela', null, 'tobias', 'otto', 'sela', 'tobias', 'gone'];
  const places = ['upper-orchard', 'mill-meadow', 'junior-yard', 'heath'];
  const one = (tenant: string, i: number, keeper: string | null, site: string | null): ApiaryTables['hives'] => ({
    id: `${tenant[0]}-hive-${String(i + 1).padStart(2, '0')}`,
    tenant_id: tenant,
    keeper_id: keeper,
    made_by: tenant === 'alderbrook' ? 'maren' : 'rosa',
    site_id: site,
    name: `${names[(i * (tenant === 'alderbrook' ? 1 : 5)) % names.length]} hive`,
    colonies: 1 + ((i * 7) % 4),
    status: i % 9 === 8 ? 'archived' : 'active',
    registration_no: i % 3 === 0 ? `R-${tenant === 'alderbrook' ? 'A' : 'Q'}${1040 + i * 13}` : null,
  });
  return [
    ...Array.from({ length: 24 }, (_, i) => one('alderbrook', i, keepers[i % keepers.length] ?? null, places[i % places.length] ?? null)),
    ...Array.from({ length: 10 }, (_, i) => one('quillmoor', i, i % 4 === 3 ? null : 'mads', null)),
  ];
}

async function addRecords(db: Kysely<ApiaryTables>): Promise<void> {
  const all = hives();
  await db.insertInto('hives').values(all).execute();
  const appointed = all.filter((_hive, i) => i % 5 === 0);
  await db
    .insertInto('hive_inspectors')
    .values(appointed.map((h) => ({ tenant_id: h.tenant_id, hive_id: h.id, user_id: 'ingrid' })))
    .execute();
  // Sela is told what is done to a hive of Tobias’s, and Otto to one of hers.
  await db
    .insertInto('hive_followers')
    .values([
      { tenant_id: 'alderbrook', hive_id: 'a-hive-01', user_id: 'sela' },
      { tenant_id: 'alderbrook', hive_id: 'a-hive-02', user_id: 'otto' },
    ])
    .execute();
  const summaries = ['Queen seen, brood in all stages', 'Stores low, fed', 'Varroa count 3 in 300', 'Comb renewed', 'Calm, two supers on'];
  await db
    .insertInto('inspections')
    .values(
      all.flatMap((h, i) =>
        i % 2 === 0
          ? [
              {
                id: `${h.id}-visit`,
                tenant_id: h.tenant_id,
                hive_id: h.id,
                made_by: h.keeper_id ?? h.made_by,
                held_at: new Date(Date.UTC(2026, 4, 1 + i)),
                summary: summaries[i % summaries.length] ?? '',
              },
            ]
          : [],
      ),
    )
    .execute();
  await db
    .insertInto('entries')
    .values(
      ['Honey sold at the May market', 'Jars and lids', 'Hive tool hire', 'Membership fees', 'Wax exchange', 'Extractor repair'].map((purpose, i) => ({
        id: `a-entry-${i + 1}`,
        tenant_id: 'alderbrook',
        made_by: 'pavel',
        purpose,
        amount: (i % 2 === 0 ? 184.5 + i * 20 : -42.25 - i).toFixed(2),
        status: i < 3 ? ('booked' as const) : ('draft' as const),
      })),
    )
    .execute();
  await db
    .insertInto('reports')
    .values([
      {
        id: 'a-report-1',
        tenant_id: 'alderbrook',
        hive_id: 'a-hive-06',
        made_by: 'ingrid',
        disease: 'Chalkbrood',
        findings: 'A few mummies on the floor; ventilate.',
      },
      {
        id: 'q-report-1',
        tenant_id: 'quillmoor',
        hive_id: 'q-hive-02',
        made_by: 'ingrid',
        disease: 'Nosema',
        findings: 'Spotting at the entrance; sample sent.',
      },
    ])
    .execute();
  await db
    .insertInto('sheets')
    .values([
      { id: 'sheet-varroa', title: 'Counting varroa', body: 'Three hundred bees, powdered sugar, one minute.' },
      { id: 'sheet-swarm', title: 'When a swarm comes', body: 'Keep calm, keep the box in the shade.' },
    ])
    .execute();
}

/** What the county's sign-in says of somebody, and what that gives them in Alderbrook. */
export const COUNTY_RULES: readonly AdmissionRule[] = [
  { requires: 'associations', is: ['alderbrook'], words: 'The county does not list you as a member of Alderbrook. Ask the secretary.' },
  { when: 'groups', is: ['beekeepers'], gives: { roles: [{ role: 'keeper', anchor: tenantWide }] } },
  { when: 'groups', is: ['site-wardens'], gives: { roles: [{ role: 'warden', anchor: { on: 'unit', unitId: { by: 'site' } } }] } },
  { when: 'groups', is: ['juniors'], gives: { roles: [{ role: 'junior', anchor: tenantWide }], units: ['junior-yard'] } },
];

/** What members did to their records lately: the journal tells of it. */
async function work(lintel: Lintel): Promise<void> {
  const as = (user: string) => lintel.enter({ tenant: 'alderbrook', user, fulfilled: everythingMet(charter) });
  const [tobias, sela, maren] = [await as('tobias'), await as('sela'), await as('maren')];
  const [his] = (await tobias.find('hive', { where: { keeperId: 'tobias' }, order: 'name', limit: 1 })) as unknown as {
    id: string;
    name: string;
    colonies: number;
  }[];
  const [hers] = (await sela.find('hive', { where: { keeperId: 'sela' }, order: 'name', limit: 1 })) as unknown as { id: string; name: string }[];
  if (!his || !hers) throw new Error('seeding: there are no hives to work on');
  await tobias.change('hive', [his.id], { colonies: his.colonies + 1 });
  await tobias.change('hive', [his.id], { name: `${his.name} (split)` });
  await maren.change('hive', [his.id], { name: his.name, colonies: his.colonies });
  await sela.change('hive', [hers.id], { name: `Old ${hers.name}` });
  await sela.change('hive', [hers.id], { name: hers.name });
}

/** Builds the whole demo world, people and memberships by the library's own operations. */
export async function seed(db: Kysely<any>): Promise<Lintel> {
  const lintel = createLintel({ charter, db });
  await makeTables(db);
  await lintel.prepare();
  const confirmedAt = new Date(Date.UTC(2026, 0, 15));
  for (const { id, name, address } of people) await lintel.addPerson({ id, name, address, confirmedAt });
  await lintel.openTenant({ id: 'alderbrook', name: 'Alderbrook Beekeepers', keyholder: 'maren', contact: 'Maren Holt, maren@alderbrook.example' });
  await lintel.openTenant({ id: 'quillmoor', name: 'Quillmoor Bee Society', keyholder: 'rosa', contact: 'the office, office@quillmoor.example' });
  const maren = await lintel.enter({ tenant: 'alderbrook', user: 'maren' });
  for (const site of sites) await maren.tenant.addUnit(site);
  for (const [tenant, inviter, user, given] of roles) {
    const standing = await lintel.enter({ tenant, user: inviter });
    const address = people.find((p) => p.id === user)?.address ?? '';
    const [answer] = await standing.invitations.send([{ address, roles: given }]);
    if (!answer?.token) throw new Error(`seeding: ${answer?.words}`);
    await lintel.acceptInvitation(user, { token: answer.token });
  }
  await maren.members.place('junia', ['junior-yard']);
  await maren.members.place('otto', ['junior-yard']);
  await addRecords(db);
  await work(lintel as unknown as Lintel);
  // Prepared, and not on yet: the demo turns it on with a provider of its own.
  const county = { kind: 'oidc', issuer: 'https://sign-in.county.example', clientId: 'apiary' } as const;
  const proven = await lintel.enter({ tenant: 'alderbrook', user: 'maren', fulfilled: everythingMet(charter) });
  await proven.carryOut([{ do: 'make-connection', id: 'county', name: 'The county’s sign-in', terms: county, rules: COUNTY_RULES }]);
  // One of them was refused, and asks for it.
  const otto = await lintel.enter({ tenant: 'alderbrook', user: 'otto' });
  await otto.appeals.raise('hive.update', 'a-hive-03', 'I look after it while its keeper is away.');
  return lintel as unknown as Lintel;
}
