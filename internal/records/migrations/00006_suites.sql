-- +goose Up
-- Suites of checks that are kept beside the document, by name.
create table suite (
  window_id integer not null references api_window on delete cascade,
  name      text not null,
  text      text not null,
  saved_at  timestamptz not null default now(),
  saved_by  text not null,
  primary key (window_id, name)
);

-- What operators have asked of a draft: the last two hundred of each.
create table asked (
  id        bigint generated always as identity primary key,
  window_id integer not null references api_window on delete cascade,
  operator  text not null,
  at        timestamptz not null default now(),
  method    text not null,
  path      text not null, -- below the window, with its query
  act_as    text not null,
  headers   jsonb not null,
  body      text not null,
  status    integer not null,
  kind      text not null,
  answer    text not null, -- its beginning
  took_ms   double precision not null
);
create index on asked (window_id, operator, id);
