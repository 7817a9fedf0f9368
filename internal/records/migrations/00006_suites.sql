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
