select c.oid, n.nspname, c.relname,
       case c.relkind when 'v' then 'view' when 'm' then 'materialized view' when 'f' then 'foreign table' else 'table' end, c.relkind = 'p',
       coalesce(obj_description(c.oid, 'pg_class'), ''), c.reltuples::bigint,
       u.events & 8 <> 0, u.events & 4 <> 0, u.events & 16 <> 0
from pg_class c
join pg_namespace n on n.oid = c.relnamespace
cross join lateral (select case when c.relkind = 'v' then pg_relation_is_updatable(c.oid, true) else 0 end as events) u
where c.relkind in ('r', 'p', 'v', 'm', 'f') and not c.relispartition and c.relpersistence <> 't'
  and n.nspname not like 'pg\_%' and n.nspname <> 'information_schema'
order by n.nspname, c.relname
