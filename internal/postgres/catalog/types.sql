-- Row types of tables are left out: no column has one in practice, and there is one for each table.
select t.oid,
       case when t.typcategory = 'A' and t.typelem <> 0 then 'array'
            when t.typtype = 'e' then 'enum' when t.typtype = 'd' then 'domain' when t.typtype = 'c' then 'composite'
            when t.typtype = 'r' then 'range' when t.typtype = 'm' then 'multirange' else 'base' end,
       n.nspname, t.typname, format_type(t.oid, null),
       case when t.typcategory = 'A' then t.typelem
            when t.typtype = 'd' then t.typbasetype
            when t.typtype = 'r' then (select r.rngsubtype from pg_range r where r.rngtypid = t.oid)
            when t.typtype = 'm' then (select r.rngtypid from pg_range r where r.rngmultitypid = t.oid)
            else 0 end::oid,
       t.typtypmod, t.typnotnull,
       case when t.typtype = 'e' then array(select e.enumlabel::text from pg_enum e where e.enumtypid = t.oid order by e.enumsortorder) end,
       case when t.typtype = 'd' then (select jsonb_agg(jsonb_build_object('name', k.conname, 'expression', pg_get_expr(k.conbin, 0)) order by k.conname)
                                       from pg_constraint k where k.contypid = t.oid and k.contype = 'c') end,
       exists (select from pg_opclass o join pg_am m on m.oid = o.opcmethod where m.amname = 'btree' and o.opcdefault and o.opcintype = t.oid)
from pg_type t
join pg_namespace n on n.oid = t.typnamespace
left join pg_class c on c.oid = t.typrelid
left join pg_type e on e.oid = t.typelem and t.typcategory = 'A'
left join pg_class ec on ec.oid = e.typrelid
where t.typtype <> 'p' and (t.typrelid = 0 or c.relkind = 'c') and (ec.oid is null or ec.relkind = 'c')
