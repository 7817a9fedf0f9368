-- One number for each system table that says what the tables of a database are, apart from those of the system itself.
with own as materialized (
  select c.oid from pg_class c join pg_namespace n on n.oid = c.relnamespace
  where n.nspname not in ('pg_catalog', 'information_schema') and n.nspname !~ '^pg_(toast|temp)' and c.relkind in ('r', 'v', 'm', 'f', 'p')
)
select concat_ws(' ',
  (select sum(hashtextextended(concat_ws(',', c.oid, c.relname, c.relnamespace, c.relkind, c.relrowsecurity, c.relispopulated), 0))
   from pg_class c join own on own.oid = c.oid),
  (select sum(hashtextextended(concat_ws(',', n.oid, n.nspname), 0)) from pg_namespace n where n.nspname !~ '^pg_'),
  (select sum(hashtextextended(concat_ws(',', a.attrelid, a.attnum, a.attname, a.atttypid, a.atttypmod, a.attnotnull, a.attisdropped,
     a.attidentity, a.attgenerated, a.atthasdef), 0))
   from pg_attribute a join own on own.oid = a.attrelid where a.attnum > 0),
  (select sum(hashtextextended(concat_ws(',', d.adrelid, d.adnum, d.adbin), 0)) from pg_attrdef d join own on own.oid = d.adrelid),
  (select sum(hashtextextended(concat_ws(',', k.oid, k.conname, k.contype, k.xmin), 0)) from pg_constraint k
   where k.conrelid = 0 or k.conrelid in (select oid from own)),
  (select sum(hashtextextended(concat_ws(',', i.indexrelid, i.indrelid, i.indisunique, i.indisvalid), 0)) from pg_index i
   join own on own.oid = i.indrelid),
  (select sum(hashtextextended(concat_ws(',', t.oid, t.typname, t.typnotnull, t.typdefault), 0)) from pg_type t
   join pg_namespace n on n.oid = t.typnamespace where n.nspname !~ '^pg_' and t.typtype in ('e', 'd', 'r', 'm')),
  (select sum(hashtextextended(concat_ws(',', e.enumtypid, e.enumlabel, e.enumsortorder), 0)) from pg_enum e),
  (select sum(hashtextextended(concat_ws(',', r.ev_class, r.xmin), 0)) from pg_rewrite r join own on own.oid = r.ev_class),
  (select sum(hashtextextended(concat_ws(',', d.objoid, d.objsubid, d.description), 0)) from pg_description d
   join own on own.oid = d.objoid where d.classoid = 'pg_class'::regclass))
