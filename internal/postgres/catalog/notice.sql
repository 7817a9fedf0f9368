-- Tells whoever listens that tables have changed, apart from temporary ones. It never keeps a change from being made.
create schema if not exists eager_window;

create or replace function eager_window.tell_ddl() returns event_trigger language plpgsql as $$
begin
  if tg_event = 'sql_drop' and exists (select from pg_event_trigger_dropped_objects() where not is_temporary)
    or tg_event = 'ddl_command_end' and exists (select from pg_event_trigger_ddl_commands() where schema_name is distinct from 'pg_temp') then
    perform pg_notify('eager_window_ddl', '');
  end if;
exception when others then
  null;
end
$$;

create event trigger eager_window_ddl on ddl_command_end execute function eager_window.tell_ddl();
create event trigger eager_window_drop on sql_drop execute function eager_window.tell_ddl();
