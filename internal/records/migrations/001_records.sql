-- +goose Up
create table operator (
  id            integer generated always as identity primary key,
  email         text not null unique,
  password_hash text not null,
  created_at    timestamptz not null default now()
);

create table session (
  token_hash  bytea primary key,
  operator_id integer not null references operator on delete cascade,
  created_at  timestamptz not null default now(),
  expires_at  timestamptz not null
);

create table source (
  name       text primary key,
  sealed_dsn bytea not null,
  created_at timestamptz not null default now()
);

create table api_window (
  id           integer generated always as identity primary key,
  name         text not null unique,
  live_release integer
);

create table draft (
  window_id  integer primary key references api_window on delete cascade,
  document   text not null,
  updated_at timestamptz not null default now(),
  updated_by text not null
);

create table release (
  window_id  integer not null references api_window on delete cascade,
  number     integer not null,
  document   text not null,
  catalog    jsonb not null,
  note       text not null default '',
  created_at timestamptz not null default now(),
  created_by text not null,
  primary key (window_id, number)
);

create table client (
  window_id   integer not null references api_window on delete cascade,
  id          text not null,
  secret_hash text not null,
  roles       text[] not null,
  claims      jsonb not null default '{}',
  created_at  timestamptz not null default now(),
  primary key (window_id, id)
);

create table signing_key (
  id             text primary key,
  sealed_private bytea not null,
  created_at     timestamptz not null default now()
);
