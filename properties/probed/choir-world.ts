/* What the application of choirs is, and what is in it. */
import { decimal, defineCharter, defineKinds, flag, id, instant, maker, oneOf, owner, person, tenant, text, through } from 'warm-lintel';

export const SCHEMA = `
  create table choirs (id serial primary key, name text not null);
  create table singers (id serial primary key, name text not null, email text not null unique);
  create table memberships (id serial primary key, choir_id int not null references choirs (id), singer_id int not null references singers (id), part text not null, unique (choir_id, singer_id));
  create table pieces (id serial primary key, choir_id int not null references choirs (id), title text not null, composer text, licence_cost numeric(8, 2), draft boolean not null default false);
  create table rehearsals (id serial primary key, choir_id int not null references choirs (id), called_by int not null, place text not null, starts_at timestamptz not null, closed boolean not null default false);
  create table attendances (id serial primary key, rehearsal_id int not null references rehearsals (id) on delete cascade, singer_id int not null references singers (id), excuse text);
  insert into choirs (name) values ('Brook choir'), ('Fell voices');
  insert into singers (name, email) values ('Mia Lund', 'mia@choir.example'), ('Lars Holt', 'lars@choir.example'), ('Nina Falk', 'nina@choir.example'), ('Oskar Vind', 'oskar@choir.example'), ('Petra Hage', 'petra@choir.example'), ('Runa Dale', 'runa@choir.example');
  insert into memberships (choir_id, singer_id, part) values (1, 1, 'leader'), (1, 2, 'librarian'), (1, 3, 'singer'), (1, 4, 'singer'), (2, 5, 'leader'), (2, 6, 'singer'), (2, 1, 'singer');
  insert into pieces (choir_id, title, composer, licence_cost, draft) values
    (1, 'Evening by the weir', 'H. Straw', 120.50, false), (1, 'Four small rounds', 'H. Straw', 15.00, false), (1, 'Winter litany', 'B. Keel', 310.75, true), (1, 'Reed song', 'A. Munn', 44.20, false), (1, 'Ferry psalm', 'B. Keel', 8.90, false),
    (2, 'Stone and lichen', 'T. Aske', 71.30, false), (2, 'Nine herdsmen', 'T. Aske', 260.10, true), (2, 'High pasture', null, 18.40, false);
  insert into rehearsals (choir_id, called_by, place, starts_at, closed) values
    (1, 1, 'Mill hall', '2026-05-04T18:00:00Z', false), (1, 1, 'Parish room', '2026-05-11T18:00:00Z', true), (2, 5, 'School gym', '2026-05-06T18:30:00Z', false), (2, 5, 'Fell barn', '2026-05-13T18:30:00Z', false);
  insert into attendances (rehearsal_id, singer_id, excuse) values
    (1, 3, 'a sore throat'), (1, 4, 'late shift at the dairy'), (2, 3, null), (2, 4, 'at the dentist'), (3, 6, 'lambing season'), (3, 1, 'train from the coast'), (4, 6, 'a cousin marries');
`;

const number = { type: 'integer' } as const;

const kinds = defineKinds(
  {
    membership: {
      table: 'memberships',
      label: 'part',
      many: 'members',
      fields: { id: id(number), choirId: tenant(number), singerId: person(number), part: oneOf(['leader', 'librarian', 'singer'], { change: 'cast' }) },
      actions: {
        read: { label: 'See who is in the choir' },
        create: { label: 'Take somebody in' },
        cast: { label: 'Say which part somebody has' },
        delete: { label: 'Put somebody out' },
      },
    },
    piece: {
      table: 'pieces',
      label: 'title',
      fields: {
        id: id(number),
        choirId: tenant(number),
        title: text(),
        composer: text(),
        licenceCost: decimal({ scale: 2, read: 'price', change: 'price' }),
        draft: flag(),
      },
      actions: {
        read: { label: 'See a piece' },
        create: { label: 'Add a piece' },
        update: { label: 'Change a piece' },
        delete: { label: 'Drop a piece' },
        price: { label: 'See and set what a licence costs' },
      },
    },
    rehearsal: {
      table: 'rehearsals',
      label: 'place',
      fields: { id: id(number), choirId: tenant(number), calledBy: maker(number), place: text(), startsAt: instant(), closed: flag({ change: 'close' }) },
      actions: {
        read: { label: 'See a rehearsal' },
        create: { label: 'Call a rehearsal' },
        update: { label: 'Move a rehearsal' },
        close: { label: 'Close a rehearsal' },
      },
    },
    attendance: {
      table: 'attendances',
      label: 'excuse',
      fields: { id: id(number), rehearsalId: through('rehearsal', { ...number, follow: false }), singerId: owner(number), excuse: text() },
      actions: {
        read: { label: 'See who comes' },
        create: { label: 'Say that one comes' },
        update: { label: 'Change an excuse' },
        delete: { label: 'Take it back' },
      },
    },
  },
  {
    membership: { own: ({ record, me }) => record.singerId.is(me.userId) },
    piece: { sung: ({ record }) => record.draft.is(false) },
    attendance: { own: ({ record, me }) => record.singerId.is(me.userId) },
  },
);

const own = { 'attendance.read': 'own', 'attendance.create': 'own', 'attendance.update': 'own', 'attendance.delete': 'own' } as const;

export const charter = defineCharter(kinds, {
  roles: {
    leader: {
      label: 'Leader',
      may: {
        ...own,
        'membership.read': 'tenant',
        'membership.create': 'tenant',
        'membership.cast': 'tenant',
        'membership.delete': 'tenant',
        'piece.read': 'tenant',
        'piece.create': 'tenant',
        'piece.update': 'tenant',
        'piece.delete': 'tenant',
        'piece.price': 'tenant',
        'rehearsal.read': 'tenant',
        'rehearsal.create': 'tenant',
        'rehearsal.update': 'tenant',
        'rehearsal.close': 'tenant',
        'attendance.read': 'tenant',
      },
    },
    librarian: {
      label: 'Librarian',
      may: {
        ...own,
        'membership.read': 'own',
        'piece.read': 'tenant',
        'piece.create': 'tenant',
        'piece.update': 'tenant',
        'piece.price': 'tenant',
        'rehearsal.read': 'tenant',
      },
    },
    singer: { label: 'Singer', may: { ...own, 'membership.read': 'own', 'piece.read': 'sung', 'rehearsal.read': 'tenant' } },
  },
  limits: { rehearsal: { closed: { actions: ['update'], where: ({ record }) => record.closed.is(true), sentence: 'a closed rehearsal does not move.' } } },
});
