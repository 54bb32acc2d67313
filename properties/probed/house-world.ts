/* What the application of houses is, and what is in it. */
import { defineCharter, defineKinds, flag, id, integer, maker, oneOf, parent, tenant, text } from 'warm-lintel';

const person = (n: number) => `7a000000-0000-4000-8000-00000000000${n}`;

export const SCHEMA = `
  create table people (id uuid primary key, name text not null, email text not null unique);
  create table residencies (house_id text not null, resident_id uuid not null references people (id), role text not null, flat text not null, primary key (house_id, resident_id));
  create table repairs (house_id text not null, no int not null, reported_by uuid not null, title text not null, details text, cost int, state text not null default 'open', private boolean not null default false, primary key (house_id, no));
  create table notes (house_id text not null, no int not null, repair_no int not null, author uuid not null, words text not null, primary key (house_id, no), foreign key (house_id, repair_no) references repairs (house_id, no));
  create table papers (id serial primary key, house_id text not null, title text not null, body text not null, board_only boolean not null default false);
  insert into people values ('${person(1)}', 'Abel Quist', 'abel@house.example'), ('${person(2)}', 'Bodil Ras', 'bodil@house.example'), ('${person(3)}', 'Carl Sund', 'carl@house.example'), ('${person(4)}', 'Disa Torn', 'disa@house.example'), ('${person(5)}', 'Egil Ude', 'egil@house.example'), ('${person(6)}', 'Frida Vang', 'frida@house.example');
  insert into residencies values ('elm', '${person(1)}', 'board', '1 left'), ('elm', '${person(2)}', 'resident', '2 right'), ('elm', '${person(3)}', 'resident', '3 left'), ('elm', '${person(4)}', 'caretaker', 'cellar'), ('oak', '${person(5)}', 'board', 'ground floor'), ('oak', '${person(6)}', 'resident', 'attic'), ('oak', '${person(2)}', 'resident', 'back house');
  insert into repairs (house_id, no, reported_by, title, details, cost, state, private) values
    ('elm', 1, '${person(2)}', 'Stairwell lamp', 'flickers since spring', 85, 'open', false), ('elm', 2, '${person(3)}', 'Damp in the bedroom', 'behind the wardrobe', 1900, 'open', true), ('elm', 3, '${person(2)}', 'Lock of the flat', 'key was stolen', 240, 'doing', true), ('elm', 4, '${person(3)}', 'Letter boxes', 'two are bent', 130, 'done', false), ('elm', 5, '${person(1)}', 'Gutter', 'full of leaves', 310, 'open', false),
    ('oak', 1, '${person(6)}', 'Chimney flap', 'stuck half open', 420, 'open', false), ('oak', 2, '${person(6)}', 'Mould by the window', 'tenant is ill of it', 2700, 'open', true), ('oak', 7, '${person(5)}', 'Courtyard gate', 'hinge is loose', 60, 'done', false);
  insert into notes values ('elm', 1, 1, '${person(1)}', 'the electrician comes on Friday'), ('elm', 2, 2, '${person(3)}', 'it smells of mushrooms'), ('elm', 3, 2, '${person(1)}', 'insurer was asked'), ('elm', 4, 3, '${person(2)}', 'police have the number'), ('elm', 5, 4, '${person(4)}', 'bent back by hand'),
    ('oak', 1, 1, '${person(5)}', 'the sweep has a ladder'), ('oak', 2, 2, '${person(6)}', 'doctor wrote a letter'), ('oak', 3, 7, '${person(5)}', 'oil was enough');
  insert into papers (house_id, title, body, board_only) values ('elm', 'House rules', 'no drumming after nine', false), ('elm', 'Minutes of May', 'arrears of the third floor', true), ('elm', 'Budget', 'reserve of eleven thousand', true), ('oak', 'Bicycle cellar', 'one bicycle each', false), ('oak', 'Offer of the bank', 'a loan at four percent', true);
`;

const kinds = defineKinds(
  {
    residency: {
      table: 'residencies',
      label: 'flat',
      one: 'resident',
      many: 'residents',
      fields: {
        id: id({ column: 'resident_id' }),
        houseId: tenant({ type: 'text' }),
        role: oneOf(['board', 'resident', 'caretaker'], { change: 'appoint' }),
        flat: text(),
      },
      actions: {
        read: { label: 'See who lives here' },
        create: { label: 'Let somebody in' },
        appoint: { label: 'Give a role' },
        delete: { label: 'Take somebody out' },
      },
    },
    repair: {
      table: 'repairs',
      label: 'title',
      fields: {
        id: id({ type: 'integer', column: 'no' }),
        houseId: tenant({ type: 'text' }),
        reportedBy: maker(),
        title: text(),
        details: text(),
        cost: integer({ read: 'price', change: 'price' }),
        state: oneOf(['open', 'doing', 'done'], { change: 'progress' }),
        private: flag(),
      },
      actions: {
        read: { label: 'See a repair' },
        create: { label: 'Report a repair' },
        update: { label: 'Change a repair' },
        progress: { label: 'Say how far a repair is' },
        price: { label: 'See and set what it costs' },
      },
    },
    note: {
      table: 'notes',
      label: 'words',
      fields: {
        id: id({ type: 'integer', column: 'no' }),
        houseId: tenant({ type: 'text' }),
        repairNo: parent('repair', { type: 'integer' }),
        author: maker(),
        words: text(),
      },
      actions: { read: { label: 'See a note' }, create: { label: 'Write a note' }, delete: { label: 'Delete a note' } },
    },
    paper: {
      table: 'papers',
      label: 'title',
      fields: { id: id({ type: 'integer' }), houseId: tenant({ type: 'text' }), title: text(), body: text(), boardOnly: flag() },
      actions: { read: { label: 'See a paper' }, create: { label: 'Add a paper' }, update: { label: 'Change a paper' } },
    },
  },
  {
    residency: { own: ({ record, me }) => record.id.is(me.userId) },
    repair: { own: ({ record, me }) => record.reportedBy.is(me.userId), common: ({ record }) => record.private.is(false) },
    note: { own: ({ record, me }) => record.author.is(me.userId) },
    paper: { posted: ({ record }) => record.boardOnly.is(false) },
  },
);

const everybody = {
  'residency.read': 'own',
  'repair.read': ['own', 'common'],
  'repair.create': 'own',
  'repair.update': 'own',
  'note.read': 'followed',
  'note.create': 'own',
  'note.delete': 'own',
  'paper.read': 'posted',
} as const;

export const charter = defineCharter(kinds, {
  roles: {
    board: {
      label: 'Board',
      may: {
        ...everybody,
        'residency.read': 'tenant',
        'residency.create': 'tenant',
        'residency.appoint': 'tenant',
        'residency.delete': 'tenant',
        'repair.read': 'tenant',
        'repair.progress': 'tenant',
        'repair.price': 'tenant',
        'paper.read': 'tenant',
        'paper.create': 'tenant',
        'paper.update': 'tenant',
      },
    },
    caretaker: { label: 'Caretaker', may: { ...everybody, 'repair.read': 'tenant', 'repair.progress': 'tenant' } },
    resident: { label: 'Resident', may: everybody },
  },
});
