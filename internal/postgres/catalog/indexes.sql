select i.indrelid, x.relname, am.amname,
       array(select coalesce(a.attname::text, '') from unnest(i.indkey::int2[]) with ordinality u(num, ord)
             left join pg_attribute a on a.attrelid = i.indrelid and a.attnum = u.num and u.num > 0 where u.ord <= i.indnkeyatts order by u.ord),
       i.indisunique, i.indisprimary, i.indpred is not null, i.indexprs is null, pg_get_indexdef(i.indexrelid),
       case when i.indnkeyatts = 1 then coalesce(pg_get_expr(i.indexprs, i.indrelid), '') else '' end
from pg_index i
join pg_class x on x.oid = i.indexrelid
join pg_class c on c.oid = i.indrelid
join pg_namespace n on n.oid = c.relnamespace
join pg_am am on am.oid = x.relam
where i.indisvalid and not c.relispartition and c.relpersistence <> 't'
  and n.nspname not like 'pg\_%' and n.nspname <> 'information_schema'
order by i.indrelid, x.relname
