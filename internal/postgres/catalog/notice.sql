-- Tells whoever listens that tables have changed. It never keeps a change from being made.
create schema if not exists eager_window;

create or replace function eager_window.tell_ddl() returns event_trigger language plpgsql as $$
begin
  perform pg_notify('eager_window_ddl', '');
exception when others then
  null;
end
$$;

create event trigger eager_window_ddl on ddl_command_end execute function eager_window.tell_ddl();
create event trigger eager_window_drop on sql_drop execute function eager_window.tell_ddl();
