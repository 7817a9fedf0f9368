-- +goose Up
-- Which making of a client its tokens are for: another secret makes another generation, and so does adding it anew.
alter table client add column generation uuid not null default gen_random_uuid();

-- How often a live release or a source has changed, which every instance must know. Whoever missed the notice sees it in the number.
create table revision (
  topic  text not null, -- the table
  name   text not null,
  number bigint not null default 1,
  primary key (topic, name)
);

-- +goose StatementBegin
create function note_change() returns trigger language plpgsql set search_path = eager_window as $$
begin
  insert into revision (topic, name) values (tg_table_name, case when tg_op = 'DELETE' then old.name else new.name end)
    on conflict (topic, name) do update set number = revision.number + 1;
  notify eager_window;
  return null;
end
$$;
-- +goose StatementEnd

create trigger note_change after insert or update of live_release or delete on api_window for each row execute function note_change();
create trigger note_change after insert or update or delete on source for each row execute function note_change();
