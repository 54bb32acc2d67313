create table users (
  id serial primary key,
  name text not null,
  email text not null unique,
  password text not null
);
create table sessions (
  token text primary key,
  user_id integer not null references users
);
create table workshops (
  id serial primary key,
  name text not null
);
create table staff (
  workshop_id integer not null references workshops,
  user_id integer not null references users,
  role text not null check (role in ('manager', 'mechanic', 'customer')),
  primary key (workshop_id, user_id)
);
create table jobs (
  id serial primary key,
  workshop_id integer not null references workshops,
  title text not null,
  state text not null default 'open' check (state in ('open', 'done')),
  price integer,
  mechanic_id integer references users,
  opened_by integer not null references users
);
create table comments (
  id serial primary key,
  job_id integer not null references jobs on delete cascade,
  author_id integer not null references users,
  body text not null
);
create table watchers (
  job_id integer not null references jobs on delete cascade,
  user_id integer not null references users,
  primary key (job_id, user_id)
);
