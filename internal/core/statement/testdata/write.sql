-- create, as harbour_master: /tugs?
insert into "harbour"."tug" as t ("name", "bollard_pull_t")
  values ($1::text, $2::numeric) returning t."id", t."name", t."bollard_pull_t", t.xmin
--   $1 the body's name
--   $2 the body's bollard_pull_t
--   version at 3

-- create, nothing given, as harbour_master: /port_calls?select=id
insert into "harbour"."port_call" as p default values returning p."id", p.xmin
--   version at 1

-- create under a rule, with a preset, as agent: /port_calls?select=id,status
with written as (
  insert into "harbour"."port_call" as p ("vessel_id", "eta", "draught_m", "status")
  values ($1::int4, $2::timestamptz, $3::numeric, $4::"harbour"."call_status") returning p.*, p.xmin as "row version"
)
select p."id", p."status", coalesce((v."agent_id" = $5::bigint), false), coalesce((v2."agent_id" = $6::bigint), false), p."row version"
from written p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id"
--   $1 the body's vessel_id
--   $2 the body's eta
--   $3 the body's draught_m
--   $4 a literal
--   $5 claim agent_id
--   $6 claim agent_id
--   version at 4
--   kept at 2
--   readable at 3

-- create that shows relations, as harbour_master: /port_calls?select=id&expand=vessel(select=name),tugs(select=name;orderby=name;top=2)
with written as (
  insert into "harbour"."port_call" as p ("vessel_id")
  values ($1::int4) returning p.*, p.xmin as "row version"
)
select p."id", case when v."id" is not null then row(v."name") end, g.rows, p."row version"
from written p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join lateral (
  select array_agg(row(r.c0)) as rows from (select t."name" as c0
  from "harbour"."tug" t
  join "harbour"."port_call_tug" j on t."id" = j."tug_id"
where j."port_call_id" = p."id"
order by t."name", t."id"
  limit $2::bigint) r
) g on true
--   $1 the body's vessel_id
--   $2 a literal
--   version at 3

-- change, as office: /port_calls/17?select=id,eta
update "harbour"."port_call" p set "eta" = $1::timestamptz
  where (p."id" = $2::integer) returning p."id", p."eta", p.xmin
--   $1 the body's eta
--   $2 a literal
--   version at 2

-- change of a version, as office: /pilotages/17/0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90/inbound?select=boarded_at
update "harbour"."pilotage" p set "boarded_at" = $1::timestamptz
  where (p."port_call_id" = $2::integer) and (p."pilot_id" = $3::uuid) and (p."direction" = $4::"harbour"."pilot_direction") and p.xmin = any($5::text[]::xid[]) returning p."boarded_at", p."port_call_id", p."pilot_id", p."direction", p.xmin
--   $1 the body's boarded_at
--   $2 a literal
--   $3 a literal
--   $4 a literal
--   $5 versions
--   version at 4

-- change under a rule that needs another table, as agent: /port_calls/17?select=id,eta
with written as (
  update "harbour"."port_call" p set "eta" = $1::timestamptz
  from (select p2."id" from "harbour"."port_call" p2
left join "harbour"."vessel" v on v."id" = p2."vessel_id" where ((v."agent_id" = $3::bigint) and (p2."status" = $4::"harbour"."call_status"))) target
  where (p."id" = $2::integer) and p."id" = target."id" returning p.*, p.xmin as "row version"
)
select p."id", p."eta", coalesce(((v2."agent_id" = $5::bigint) and (p."status" = $6::"harbour"."call_status")), false), coalesce((v3."agent_id" = $7::bigint), false), p."row version"
from written p
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id"
left join "harbour"."vessel" v3 on v3."id" = p."vessel_id"
--   $1 the body's eta
--   $2 a literal
--   $3 claim agent_id
--   $4 a literal
--   $5 claim agent_id
--   $6 a literal
--   $7 claim agent_id
--   version at 4
--   kept at 2
--   readable at 3

-- change under a rule of the row alone, as pilot: /pilotages/17/0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90/inbound?select=boarded_at
update "harbour"."pilotage" p set "boarded_at" = $1::timestamptz
  where (p."port_call_id" = $2::integer) and (p."pilot_id" = $3::uuid) and (p."direction" = $4::"harbour"."pilot_direction") and (p."pilot_id" = $5::uuid) returning p."boarded_at", p."port_call_id", p."pilot_id", p."direction", coalesce((p."pilot_id" = $6::uuid), false), coalesce((p."pilot_id" = $7::uuid), false), p.xmin
--   $1 the body's boarded_at
--   $2 a literal
--   $3 a literal
--   $4 a literal
--   $5 claim pilot_id
--   $6 claim pilot_id
--   $7 claim pilot_id
--   version at 6
--   kept at 4
--   readable at 5

-- change of nothing in the row itself, as office: /port_calls/17?select=id
update "harbour"."port_call" p set "vessel_id" = p."vessel_id"
  where (p."id" = $1::integer) returning p."id", p.xmin
--   $1 a literal
--   version at 1

-- replacement, as office: /berths/N05?select=code
update "harbour"."berth" b set "quay" = $1::text, "shore_power" = default
  where (b."code" = $2::text) returning b."code", b.xmin
--   $1 the body's quay
--   $2 a literal
--   version at 1

-- change as two roles, as agent and pilot: /port_calls/17?select=id,remarks
with written as (
  update "harbour"."port_call" p set "etd" = $1::timestamptz
  from (select p2."id" from "harbour"."port_call" p2
left join "harbour"."vessel" v on v."id" = p2."vessel_id" where ((v."agent_id" = $3::bigint) and (p2."status" = $4::"harbour"."call_status"))) target
  where (p."id" = $2::integer) and p."id" = target."id" returning p.*, p.xmin as "row version"
)
select p."id", p."remarks", p."kept row", p."readable row", p."row version"
from (select coalesce(((v2."agent_id" = $5::bigint) and (p3."status" = $6::"harbour"."call_status")), false) as "kept row", coalesce(true, false) as "readable row", coalesce((v3."agent_id" = $7::bigint), false) as "shown 0", coalesce((v4."agent_id" = $8::bigint), false) as "shown 1", coalesce((v5."agent_id" = $9::bigint), false) as "shown 2", coalesce((v6."agent_id" = $10::bigint), false) as "shown 3", p3."id", p3."vessel_id", p3."berth_code", p3."status", p3."eta", p3."etd", case when (v3."agent_id" = $7::bigint) then p3."arrived_at" end as "arrived_at", case when (v4."agent_id" = $8::bigint) then p3."departed_at" end as "departed_at", p3."draught_m", p3."hazardous", p3."remarks", case when (v5."agent_id" = $9::bigint) then p3."created_at" end as "created_at", case when (v6."agent_id" = $10::bigint) then p3."updated_at" end as "updated_at", p3."row version"
  from written p3
left join "harbour"."vessel" v2 on v2."id" = p3."vessel_id"
left join "harbour"."vessel" v3 on v3."id" = p3."vessel_id"
left join "harbour"."vessel" v4 on v4."id" = p3."vessel_id"
left join "harbour"."vessel" v5 on v5."id" = p3."vessel_id"
left join "harbour"."vessel" v6 on v6."id" = p3."vessel_id") p
--   $1 the body's etd
--   $2 a literal
--   $3 claim agent_id
--   $4 a literal
--   $5 claim agent_id
--   $6 a literal
--   $7 claim agent_id
--   $8 claim agent_id
--   $9 claim agent_id
--   $10 claim agent_id
--   version at 4
--   kept at 2
--   readable at 3

-- deletion, as harbour_master: /tugs/3?
delete from "harbour"."tug" t
where (t."id" = $1::integer) returning true
--   $1 a literal

-- deletion of a version, as harbour_master: /tugs/3?
delete from "harbour"."tug" t
where (t."id" = $1::integer) and t.xmin = any($2::text[]::xid[]) returning true
--   $1 a literal
--   $2 versions

-- change of each, as agent: /port_calls/$filter(vessel%2Fflag eq 'NO')/$each?
with target as (
  select p."id" from "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id" and (v2."agent_id" = $3::bigint)
left join "harbour"."vessel" v3 on v3."id" = p."vessel_id"
where (v."agent_id" = $2::bigint) and (v2."flag" = $4::bpchar) and ((v3."agent_id" = $5::bigint) and (p."status" = $6::"harbour"."call_status"))
), written as (
  update "harbour"."port_call" p2 set "etd" = $1::timestamptz
  from target where p2."id" = target."id" returning p2.*
)
select count(*), coalesce(bool_and(((v4."agent_id" = $7::bigint) and (p3."status" = $8::"harbour"."call_status"))), true)
from written p3
left join "harbour"."vessel" v4 on v4."id" = p3."vessel_id"
--   $1 the body's etd
--   $2 claim agent_id
--   $3 claim agent_id
--   $4 a literal
--   $5 claim agent_id
--   $6 a literal
--   $7 claim agent_id
--   $8 a literal
--   total at 0
--   kept at 1

-- change of each, shown, as agent: /port_calls/$filter(status eq 'expected')/$each?select=id,etd
with target as (
  select p."id" from "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id"
where (v."agent_id" = $2::bigint) and (p."status" = $3::"harbour"."call_status") and ((v2."agent_id" = $4::bigint) and (p."status" = $5::"harbour"."call_status"))
), written as (
  update "harbour"."port_call" p2 set "etd" = $1::timestamptz
  from target where p2."id" = target."id" returning p2.*
)
select p3."id", p3."etd", coalesce(((v3."agent_id" = $6::bigint) and (p3."status" = $7::"harbour"."call_status")), false), coalesce((v4."agent_id" = $8::bigint), false)
from written p3
left join "harbour"."vessel" v3 on v3."id" = p3."vessel_id"
left join "harbour"."vessel" v4 on v4."id" = p3."vessel_id"
--   $1 the body's etd
--   $2 claim agent_id
--   $3 a literal
--   $4 claim agent_id
--   $5 a literal
--   $6 claim agent_id
--   $7 a literal
--   $8 claim agent_id
--   kept at 2
--   readable at 3

-- deletion of each, as harbour_master: /cargo_items/$filter(port_call%2Fstatus eq 'cancelled')/$each?
with target as (
  select c."id" from "harbour"."cargo_item" c
left join "harbour"."port_call" p on p."id" = c."port_call_id"
where (p."status" = $1::"harbour"."call_status")
), gone as (
  delete from "harbour"."cargo_item" c2 using target where c2."id" = target."id" returning true
)
select count(*) from gone
--   $1 a literal
--   total at 0

-- how many a change would touch, as agent: /port_calls/$filter(draught_m gt 5)/$each?
with target as (
  select p."id" from "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id"
where (v."agent_id" = $1::bigint) and (p."draught_m" > $2::numeric) and ((v2."agent_id" = $3::bigint) and (p."status" = $4::"harbour"."call_status"))
)
select count(*) from target
--   $1 claim agent_id
--   $2 a literal
--   $3 claim agent_id
--   $4 a literal
--   total at 0

-- creation of many, as harbour_master: /tugs?
with input as (
  select * from unnest($1::text[], $2::text[], $3::boolean[], $4::text[], $5::boolean[]) with ordinality i(v0, v1, g1, v2, g2, n)
), written as (
  insert into "harbour"."tug" ("name", "bollard_pull_t", "id")
  select input.v0::text, case when input.g1 then input.v1::numeric else null end, case when input.g2 then input.v2::int4 else nextval(pg_get_serial_sequence('"harbour"."tug"', 'id')) end from input order by input.n returning *
)
select count(*)
from written t
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   $4 list 3
--   $5 list 4
--   total at 0

-- creation of many, shown, as agent: /port_calls?select=id
with input as (
  select * from unnest($1::text[], $2::text[], $3::text[]) with ordinality i(v0, v1, v2, n)
), inserted as (
  insert into "harbour"."port_call" ("vessel_id", "eta", "draught_m", "status")
  select input.v0::int4, input.v1::timestamptz, input.v2::numeric, $4::"harbour"."call_status" from input order by input.n returning *
), written as (
  select *, row_number() over () as "row number" from inserted
)
select p."id", p."row number", coalesce((v."agent_id" = $5::bigint), false), coalesce((v2."agent_id" = $6::bigint), false)
from written p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id"
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   $4 a literal
--   $5 claim agent_id
--   $6 claim agent_id
--   number at 1
--   kept at 2
--   readable at 3

-- change of many, as agent: /port_calls?
with input as (
  select * from unnest($1::text[], $2::text[], $3::boolean[], $4::text[], $5::boolean[]) with ordinality i(k0, v0, g0, v1, g1, n)
), written as (
  update "harbour"."port_call" p set "eta" = case when input.g0 then input.v0::timestamptz else p."eta" end, "etd" = case when input.g1 then input.v1::timestamptz else p."etd" end
  from input, (select p2."id" from "harbour"."port_call" p2
left join "harbour"."vessel" v on v."id" = p2."vessel_id" where ((v."agent_id" = $6::bigint) and (p2."status" = $7::"harbour"."call_status"))) target
  where p."id" = input.k0::int4 and p."id" = target."id" returning p.*, input.n as "row number"
)
select count(*), (select string_agg(input.n::text, ',' order by input.n) from input where not exists (select from written where written."row number" = input.n)), coalesce(bool_and(((v2."agent_id" = $8::bigint) and (p3."status" = $9::"harbour"."call_status"))), true)
from written p3
left join "harbour"."vessel" v2 on v2."id" = p3."vessel_id"
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   $4 list 3
--   $5 list 4
--   $6 claim agent_id
--   $7 a literal
--   $8 claim agent_id
--   $9 a literal
--   total at 0
--   missing at 1
--   kept at 2

-- change of many versions, shown, as harbour_master: /berths?
with input as (
  select * from unnest($1::text[], $2::text[], $3::text[]) with ordinality i(k0, version, v0, n)
), written as (
  update "harbour"."berth" b set "quay" = input.v0::text
  from input
  where (input.version is null or b.xmin = input.version::xid) and b."code" = input.k0::text returning b.*, input.n as "row number"
)
select b2."code", b2."quay", b2."length_m", b2."max_draught_m", b2."shore_power", b2."row number"
from written b2
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   number at 5

-- deletion of many, as harbour_master: /pilotages?
with input as (
  select * from unnest($1::text[], $2::text[], $3::text[], $4::text[]) with ordinality i(k0, k1, k2, version, n)
), written as (
  delete from "harbour"."pilotage" p
  using input
  where (input.version is null or p.xmin = input.version::xid) and p."port_call_id" = input.k0::int4 and p."pilot_id" = input.k1::uuid and p."direction" = input.k2::"harbour"."pilot_direction" returning input.n as "row number"
)
select count(*), (select string_agg(input.n::text, ',' order by input.n) from input where not exists (select from written where written."row number" = input.n))
from written w
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   $4 list 3
--   total at 0
--   missing at 1

-- tie, as office: /port_calls/17?
with near as (select p."id" from "harbour"."port_call" p
where (p."id" = $1::integer)),
far as (select t."id" from "harbour"."tug" t
where (t."id" = $2::integer)),
done as (
  insert into "harbour"."port_call_tug" ("port_call_id", "tug_id")
  select near."id", far."id" from near, far
  on conflict do nothing
)
select (select count(*) from near) * (select count(*) from far)
--   $1 a literal
--   $2 a literal
--   total at 0

-- untie, as office: /port_calls/17?
with near as (select p."id" from "harbour"."port_call" p
where (p."id" = $1::integer)),
far as (select t."id" from "harbour"."tug" t
where (t."id" = $2::integer)),
done as (
  delete from "harbour"."port_call_tug" j using near, far
  where j."port_call_id" = near."id" and j."tug_id" = far."id" returning true
)
select (select count(*) from done)
--   $1 a literal
--   $2 a literal
--   total at 0

