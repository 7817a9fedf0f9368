-- +goose Up
-- Requests of live releases, added up by minute (kept for two days), hour (35 days) and day (400 days).
create table traffic (
  window_id integer not null references api_window on delete cascade,
  grain     text not null check (grain in ('minute', 'hour', 'day')),
  at        timestamptz not null, -- when the minute, hour or day begins
  resource  text not null,
  role      text not null,
  status    integer not null,
  count     bigint not null,
  times     bigint[] not null, -- how many took how long: the bounds are those of package traffic
  primary key (window_id, grain, at, resource, role, status)
);

-- Shapes of requests, which have no values in them, by hour.
create table traffic_shape (
  window_id integer not null references api_window on delete cascade,
  at        timestamptz not null,
  shape     text not null,
  role      text not null,
  count     bigint not null,
  waited_us bigint not null, -- for the database, in all
  rows      bigint not null, -- that were answered
  times     bigint[] not null,
  primary key (window_id, at, shape, role)
);

-- Requests that were refused: the last two hundred of a window. Their query strings are not kept.
create table refusal (
  id        bigint generated always as identity primary key,
  window_id integer not null references api_window on delete cascade,
  at        timestamptz not null,
  caller    text not null, -- '': without a token
  role      text not null,
  method    text not null,
  path      text not null,
  status    integer not null,
  code      text not null,
  message   text not null
);
create index on refusal (window_id, id);

-- +goose StatementBegin
create function sum_times(a bigint[], b bigint[]) returns bigint[] language sql immutable as $$
  select array_agg(coalesce(x, 0) + coalesce(y, 0) order by i) from unnest(a, b) with ordinality t (x, y, i)
$$;
-- +goose StatementEnd

-- Runs of checks: the last hundred of a window.
create table run (
  id        bigint generated always as identity primary key,
  window_id integer not null references api_window on delete cascade,
  at        timestamptz not null default now(),
  by        text not null,
  version   text not null, -- draft, live, or the number of a release
  ended_at  timestamptz,
  passed    integer not null default 0,
  failed    integer not null default 0,
  results   jsonb not null default '[]'
);
create index on run (window_id, id);

-- Operators see each other's edits and runs as they happen.
-- +goose StatementBegin
create function note_window_change() returns trigger language plpgsql set search_path = eager_window as $$
begin
  insert into revision (topic, name) select tg_table_name, name from api_window where id = new.window_id
    on conflict (topic, name) do update set number = revision.number + 1;
  notify eager_window;
  return null;
end
$$;
-- +goose StatementEnd
create trigger note_change after insert or update on draft for each row execute function note_window_change();
create trigger note_change after insert or update on run for each row execute function note_window_change();
