-- +goose Up
-- The history of a draft: a hundred versions are kept.
create table draft_version (
  window_id integer not null references api_window on delete cascade,
  number    integer not null,
  document  text not null,
  how       text not null default '', -- what made it: pushed, merged, a grant, discarded
  sent      text, -- of one that was merged, the document that was sent
  saved_at  timestamptz not null default now(),
  saved_by  text not null,
  primary key (window_id, number)
);
alter table draft add column version integer not null default 1;
insert into draft_version (window_id, number, document, saved_at, saved_by) select window_id, 1, document, updated_at, updated_by from draft;

-- What a release changed, as JSON; its description, compressed; the release that it restores.
alter table release add column changes jsonb not null default '[]', add column description bytea, add column restores integer;

alter table operator add column disabled boolean not null default false, add column signed_in_at timestamptz;
alter table client add column disabled boolean not null default false;

-- How often each caller used a resource or a field of it, by day.
create table usage (
  window_id integer not null references api_window on delete cascade,
  day       date not null,
  caller    text not null, -- '': without a token
  operation text not null,
  target    text not null, -- resource, or resource.field
  count     bigint not null,
  last_at   timestamptz not null default now(),
  primary key (window_id, day, caller, operation, target)
);
create index on usage (window_id, target);

-- What operators did. Each entry is sealed with the one before, with a key that is not in the database.
create table audit (
  id      bigint primary key,
  at      timestamptz not null,
  who     text not null,
  address text not null,
  act     text not null,
  target  text not null,
  details text not null, -- JSON, as it was sealed
  seal    bytea not null
);
create index on audit (target, id);

-- +goose StatementBegin
create function keep_audit() returns trigger language plpgsql as $$
begin
  raise exception 'entries of the audit are never changed or removed';
end
$$;
-- +goose StatementEnd

create trigger keep_audit before update or delete on audit for each row execute function keep_audit();
create trigger keep_audit_whole before truncate on audit for each statement execute function keep_audit();
