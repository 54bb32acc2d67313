/* What the application of clubs is, and what is in it. */
import { defineCharter, defineKinds, flag, id, instant, integer, maker, oneOf, owner, person, tenant, text, through } from 'warm-lintel';

/** Made-up ids, alike at each start. */
export const uid = (sort: string, n: number) => `${sort}0000000-0000-4000-8000-0000000000${String(n).padStart(2, '0')}`;
const quoted = (sort: string) => (n: number) => `'${uid(sort, n)}'`;
const [club_, runner_, member_] = [quoted('c'), quoted('a'), quoted('b')];
const [team_, start_, split_] = [quoted('d'), quoted('e'), quoted('f')];

export const SCHEMA = `
  create table clubs (id uuid primary key, name text not null);
  create table runners (id uuid primary key, name text not null, email text not null unique);
  create table club_members (id uuid primary key default gen_random_uuid(), club_id uuid not null references clubs (id), runner_id uuid not null references runners (id), rank text not null, phone text, unique (club_id, runner_id));
  create table teams (id uuid primary key default gen_random_uuid(), club_id uuid not null references clubs (id), name text not null, captain_id uuid, created_by uuid not null, budget int, secret boolean not null default false);
  create table starts (id uuid primary key default gen_random_uuid(), team_id uuid not null references teams (id) on delete cascade, runner_id uuid not null, race text not null, at timestamptz not null, remark text);
  create table splits (id uuid primary key default gen_random_uuid(), start_id uuid not null references starts (id) on delete cascade, seconds int not null, pulse int);
  insert into clubs values (${club_(1)}, 'Ridge runners'), (${club_(2)}, 'Harbour harriers');
  insert into runners values (${runner_(1)}, 'Gerd Alm', 'gerd@club.example'), (${runner_(2)}, 'Hilde Bro', 'hilde@club.example'), (${runner_(3)}, 'Ivar Dal', 'ivar@club.example'), (${runner_(4)}, 'Jorun Eng', 'jorun@club.example'), (${runner_(5)}, 'Knut Foss', 'knut@club.example'), (${runner_(6)}, 'Liv Gran', 'liv@club.example');
  insert into club_members values (${member_(1)}, ${club_(1)}, ${runner_(1)}, 'coach', '0170 11'), (${member_(2)}, ${club_(1)}, ${runner_(2)}, 'runner', '0170 22'), (${member_(3)}, ${club_(1)}, ${runner_(3)}, 'runner', '0170 33'), (${member_(4)}, ${club_(1)}, ${runner_(4)}, 'helper', '0170 44'), (${member_(5)}, ${club_(2)}, ${runner_(5)}, 'coach', '0170 55'), (${member_(6)}, ${club_(2)}, ${runner_(6)}, 'runner', '0170 66'), (${member_(7)}, ${club_(2)}, ${runner_(2)}, 'coach', '0170 77');
  insert into teams values (${team_(1)}, ${club_(1)}, 'Ridge relay', ${runner_(2)}, ${runner_(1)}, 900, false), (${team_(2)}, ${club_(1)}, 'Night squad', ${runner_(3)}, ${runner_(1)}, 1500, true), (${team_(3)}, ${club_(1)}, 'Saturday six', ${runner_(3)}, ${runner_(1)}, 250, false), (${team_(4)}, ${club_(1)}, 'Trial list', null, ${runner_(1)}, 4000, true), (${team_(7)}, ${club_(1)}, 'Old boys', null, ${runner_(1)}, 120, false), (${team_(5)}, ${club_(2)}, 'Harbour eight', ${runner_(6)}, ${runner_(5)}, 700, false), (${team_(6)}, ${club_(2)}, 'Pier pair', null, ${runner_(5)}, 310, true);
  insert into starts values (${start_(1)}, ${team_(1)}, ${runner_(2)}, 'Valley half', '2026-09-06T08:00:00Z', 'knee is taped'), (${start_(2)}, ${team_(1)}, ${runner_(3)}, 'Valley half', '2026-09-06T08:00:00Z', 'first long one'), (${start_(3)}, ${team_(2)}, ${runner_(3)}, 'Moon mile', '2026-09-12T20:00:00Z', 'without a lamp'), (${start_(4)}, ${team_(3)}, ${runner_(2)}, 'Six hours', '2026-10-03T06:00:00Z', null), (${start_(5)}, ${team_(5)}, ${runner_(6)}, 'Quay ten', '2026-09-20T09:00:00Z', 'asthma spray at hand'), (${start_(6)}, ${team_(6)}, ${runner_(6)}, 'Pier dash', '2026-09-27T09:00:00Z', 'no photographs');
  insert into splits values (${split_(1)}, ${start_(1)}, 1490, 162), (${split_(2)}, ${start_(1)}, 1533, 171), (${split_(3)}, ${start_(2)}, 1611, 158), (${split_(4)}, ${start_(3)}, 402, 180), (${split_(5)}, ${start_(5)}, 2710, 149), (${split_(6)}, ${start_(6)}, 333, 177);
`;

const kinds = defineKinds(
  {
    clubMember: {
      table: 'club_members',
      label: 'phone',
      one: 'member',
      many: 'members',
      fields: { id: id(), clubId: tenant(), runnerId: person(), rank: oneOf(['coach', 'runner', 'helper'], { change: 'rank' }), phone: text() },
      actions: {
        read: { label: 'See a member' },
        create: { label: 'Take in' },
        update: { label: 'Change a number' },
        rank: { label: 'Give a rank' },
        delete: { label: 'Put out' },
      },
    },
    team: {
      table: 'teams',
      label: 'name',
      fields: {
        id: id(),
        clubId: tenant(),
        name: text(),
        captainId: owner({ change: 'captain' }),
        createdBy: maker(),
        budget: integer({ read: 'money', change: 'money' }),
        secret: flag({ change: 'hide' }),
      },
      actions: {
        read: { label: 'See a team' },
        create: { label: 'Found a team' },
        update: { label: 'Name a team' },
        delete: { label: 'Dissolve a team' },
        captain: { label: 'Name its captain' },
        money: { label: 'See and set its budget' },
        hide: { label: 'Hide a team' },
      },
    },
    start: {
      table: 'starts',
      label: 'race',
      fields: {
        id: id(),
        teamId: through('team', { follow: false }),
        runnerId: owner({ change: 'enter' }),
        race: text(),
        at: instant(),
        remark: text({ read: 'care', change: 'care' }),
      },
      actions: {
        read: { label: 'See a start' },
        create: { label: 'Enter a race' },
        update: { label: 'Change a start' },
        delete: { label: 'Withdraw' },
        enter: { label: 'Enter somebody else' },
        care: { label: 'See and set what is to be heeded' },
      },
    },
    split: {
      table: 'splits',
      label: 'id',
      fields: { id: id(), startId: through('start'), seconds: integer(), pulse: integer() },
      actions: { read: { label: 'See a split' }, create: { label: 'Take a split' } },
    },
  },
  {
    clubMember: { own: ({ record, me }) => record.runnerId.is(me.userId) },
    team: { own: ({ record, me }) => record.captainId.is(me.userId), open: ({ record }) => record.secret.is(false) },
    start: { own: ({ record, me }) => record.runnerId.is(me.userId) },
  },
);

const everybody = {
  'clubMember.read': 'own',
  'clubMember.update': 'own',
  'team.read': ['own', 'open'],
  'start.read': 'own',
  'start.create': 'own',
  'start.update': 'own',
  'start.delete': 'own',
  'start.care': 'own',
  'split.read': 'followed',
} as const;

export const charter = defineCharter(kinds, {
  roles: {
    coach: {
      label: 'Coach',
      may: {
        'clubMember.read': 'tenant',
        'clubMember.create': 'tenant',
        'clubMember.update': 'tenant',
        'clubMember.rank': 'tenant',
        'clubMember.delete': 'tenant',
        'team.read': 'tenant',
        'team.create': 'tenant',
        'team.update': 'tenant',
        'team.delete': 'tenant',
        'team.captain': 'tenant',
        'team.money': 'tenant',
        'team.hide': 'tenant',
        'start.read': 'tenant',
        'start.create': 'tenant',
        'start.update': 'tenant',
        'start.delete': 'tenant',
        'start.enter': 'tenant',
        'start.care': 'tenant',
        'split.read': 'tenant',
        'split.create': 'tenant',
      },
    },
    helper: { label: 'Helper', may: { ...everybody, 'start.read': 'tenant', 'split.create': 'followed' } },
    runner: { label: 'Runner', may: { ...everybody, 'team.update': 'own' } },
  },
});
