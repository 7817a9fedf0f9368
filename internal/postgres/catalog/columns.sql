select case when c.relkind = 'c' then c.reltype else c.oid end, c.relkind = 'c', a.attname, a.atttypid, a.atttypmod, format_type(a.atttypid, a.atttypmod),
       a.attnotnull, case when a.attgenerated = '' then coalesce(pg_get_expr(d.adbin, d.adrelid), '') else '' end,
       a.attgenerated <> '', case a.attidentity when 'a' then 'always' when 'd' then 'by default' else '' end,
       coalesce(col_description(a.attrelid, a.attnum), ''),
       case when a.attgenerated <> '' then coalesce(pg_get_expr(d.adbin, d.adrelid), '') else '' end,
       c.relkind = 'v' and not pg_column_is_updatable(c.oid, a.attnum, true)
         and not exists (select from pg_trigger g where g.tgrelid = c.oid and g.tgtype & 64 <> 0) -- instead of
from pg_attribute a
join pg_class c on c.oid = a.attrelid
join pg_namespace n on n.oid = c.relnamespace
left join pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum
where a.attnum > 0 and not a.attisdropped and c.relkind in ('r', 'p', 'v', 'm', 'f', 'c') and not c.relispartition and c.relpersistence <> 't'
  and n.nspname not like 'pg\_%' and n.nspname <> 'information_schema'
order by c.relkind = 'c' desc, c.oid, a.attnum
