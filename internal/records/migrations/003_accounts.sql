-- +goose Up
alter table client add column used_at timestamptz, add column last_request text not null default '';

-- People who sign in to a window's API.
create table account (
  id            uuid primary key default gen_random_uuid(),
  window_id     integer not null references api_window on delete cascade,
  email         text not null,
  password_hash text not null,
  roles         text[] not null,
  claims        jsonb not null default '{}',
  disabled      boolean not null default false,
  created_at    timestamptz not null default now(),
  used_at       timestamptz,
  last_request  text not null default '',
  unique (window_id, email)
);

-- Where an account is signed in. It ends when its account signs out, when a refresh token is used twice, or with time.
create table account_session (
  id         uuid primary key default gen_random_uuid(),
  account_id uuid not null references account on delete cascade,
  created_at timestamptz not null default now(),
  expires_at timestamptz not null
);
create index on account_session (account_id);

-- The refresh tokens of a session, by their hashes. Each is good once.
create table refresh_token (
  hash       bytea primary key,
  session_id uuid not null references account_session on delete cascade,
  used       boolean not null default false
);
create index on refresh_token (session_id);

-- Guesses at passwords and secrets that were wrong, by who was guessed at and from where.
create table wrong_guess (
  at_what text primary key,
  count   integer not null,
  last_at timestamptz not null
);
