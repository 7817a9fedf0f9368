select k.conrelid, k.contype::text, k.conname,
       array(select a.attname::text from unnest(k.conkey) with ordinality u(num, ord) join pg_attribute a on a.attrelid = k.conrelid and a.attnum = u.num order by u.ord),
       coalesce(tn.nspname, ''), coalesce(tc.relname, ''),
       array(select a.attname::text from unnest(k.confkey) with ordinality u(num, ord) join pg_attribute a on a.attrelid = k.confrelid and a.attnum = u.num order by u.ord),
       case when k.contype = 'c' then pg_get_expr(k.conbin, k.conrelid) else '' end
from pg_constraint k
join pg_class c on c.oid = k.conrelid
join pg_namespace n on n.oid = c.relnamespace
left join pg_class tc on tc.oid = k.confrelid
left join pg_namespace tn on tn.oid = tc.relnamespace
where k.contype in ('p', 'f', 'c') and not c.relispartition
  and n.nspname not like 'pg\_%' and n.nspname <> 'information_schema'
  and not exists (select from pg_class part where part.oid = k.confrelid and part.relispartition)
order by k.conrelid, k.conname
