-- create, as harbour_master: /tugs?
insert into "harbour"."tug" as t ("name", "bollard_pull_t")
  values ($1::text, $2::numeric) returning t.xmin, t."id", t."name", t."bollard_pull_t"
--   $1 the body's name
--   $2 the body's bollard_pull_t
--   version at 0

-- create, nothing given, as harbour_master: /port_calls?select=id
insert into "harbour"."port_call" as p default values returning p.xmin, p."id"
--   version at 0

-- create under a rule, with a preset, as agent: /port_calls?select=id,status
with written as (
  insert into "harbour"."port_call" as p ("vessel_id", "eta", "draught_m", "status")
  values ($1::int4, $2::timestamptz, $3::numeric, $4::"harbour"."call_status") returning p.*, p.xmin
)
select p.xmin, p."id", p."status", coalesce((v."agent_id" = $5::bigint), false), coalesce((v2."agent_id" = $6::bigint), false)
from written p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id"
--   $1 the body's vessel_id
--   $2 the body's eta
--   $3 the body's draught_m
--   $4 a literal
--   $5 claim agent_id
--   $6 claim agent_id
--   version at 0
--   kept at 3
--   readable at 4

-- create that shows relations, as harbour_master: /port_calls?select=id&expand=vessel(select=name),tugs(select=name;orderby=name;top=2)
with written as (
  insert into "harbour"."port_call" as p ("vessel_id")
  values ($1::int4) returning p.*, p.xmin
)
select p.xmin, p."id", case when v."id" is not null then row(v.xmin, v."name") end, g.rows
from written p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join lateral (
  select array_agg(row(r.c0, r.c1)) as rows from (select t.xmin as c0, t."name" as c1
  from "harbour"."tug" t
  join "harbour"."port_call_tug" j on t."id" = j."tug_id"
where j."port_call_id" = p."id"
order by t."name", t."id"
  limit $2::bigint) r
) g on true
--   $1 the body's vessel_id
--   $2 a literal
--   version at 0

-- change, as office: /port_calls/17?select=id,eta
update "harbour"."port_call" p set "eta" = $1::timestamptz
  where (p."id" = $2::integer) returning p.xmin, p."id", p."eta"
--   $1 the body's eta
--   $2 a literal
--   version at 0

-- change of a version, as office: /pilotages/17/0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90/inbound?select=boarded_at
update "harbour"."pilotage" p set "boarded_at" = $1::timestamptz
  where (p."port_call_id" = $2::integer) and (p."pilot_id" = $3::uuid) and (p."direction" = $4::"harbour"."pilot_direction") and p.xmin = any($5::text[]::xid[]) returning p.xmin, p."boarded_at", p."port_call_id", p."pilot_id", p."direction"
--   $1 the body's boarded_at
--   $2 a literal
--   $3 a literal
--   $4 a literal
--   $5 versions
--   version at 0

-- change under a rule that needs another table, as agent: /port_calls/17?select=id,eta
with written as (
  update "harbour"."port_call" p set "eta" = $1::timestamptz
  where (p."id" = $2::integer) and exists (select from (select) one
left join "harbour"."vessel" v on v."id" = p."vessel_id" where ((v."agent_id" = $3::bigint) and (p."status" = $4::"harbour"."call_status"))) returning p.*, p.xmin
)
select p.xmin, p."id", p."eta", coalesce(((v2."agent_id" = $5::bigint) and (p."status" = $6::"harbour"."call_status")), false), coalesce((v3."agent_id" = $7::bigint), false)
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
--   version at 0
--   kept at 3
--   readable at 4

-- change under a rule of the row alone, as pilot: /pilotages/17/0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90/inbound?select=boarded_at
update "harbour"."pilotage" p set "boarded_at" = $1::timestamptz
  where (p."port_call_id" = $2::integer) and (p."pilot_id" = $3::uuid) and (p."direction" = $4::"harbour"."pilot_direction") and (p."pilot_id" = $5::uuid) returning p.xmin, p."boarded_at", p."port_call_id", p."pilot_id", p."direction", coalesce((p."pilot_id" = $6::uuid), false), coalesce((p."pilot_id" = $7::uuid), false)
--   $1 the body's boarded_at
--   $2 a literal
--   $3 a literal
--   $4 a literal
--   $5 claim pilot_id
--   $6 claim pilot_id
--   $7 claim pilot_id
--   version at 0
--   kept at 5
--   readable at 6

-- change of nothing in the row itself, as office: /port_calls/17?select=id
update "harbour"."port_call" p set "vessel_id" = p."vessel_id"
  where (p."id" = $1::integer) returning p.xmin, p."id"
--   $1 a literal
--   version at 0

-- replacement, as office: /berths/N05?select=code
update "harbour"."berth" b set "quay" = $1::text, "shore_power" = default
  where (b."code" = $2::text) returning b.xmin, b."code"
--   $1 the body's quay
--   $2 a literal
--   version at 0

-- change as two roles, as agent and pilot: /port_calls/17?select=id,remarks
with written as (
  update "harbour"."port_call" p set "etd" = $1::timestamptz
  where (p."id" = $2::integer) and exists (select from (select) one
left join "harbour"."vessel" v on v."id" = p."vessel_id" where ((v."agent_id" = $3::bigint) and (p."status" = $4::"harbour"."call_status"))) returning p.*, p.xmin
)
select p.xmin, p."id", p."remarks", p."kept row", p."readable row"
from (select coalesce(((v2."agent_id" = $5::bigint) and (p2."status" = $6::"harbour"."call_status")), false) as "kept row", coalesce(true, false) as "readable row", coalesce((v3."agent_id" = $7::bigint), false) as "shown 0", coalesce((v4."agent_id" = $8::bigint), false) as "shown 1", coalesce((v5."agent_id" = $9::bigint), false) as "shown 2", coalesce((v6."agent_id" = $10::bigint), false) as "shown 3", p2."id", p2."vessel_id", p2."berth_code", p2."status", p2."eta", p2."etd", case when (v3."agent_id" = $7::bigint) then p2."arrived_at" end as "arrived_at", case when (v4."agent_id" = $8::bigint) then p2."departed_at" end as "departed_at", p2."draught_m", p2."hazardous", p2."remarks", case when (v5."agent_id" = $9::bigint) then p2."created_at" end as "created_at", case when (v6."agent_id" = $10::bigint) then p2."updated_at" end as "updated_at", p2.xmin
  from written p2
left join "harbour"."vessel" v2 on v2."id" = p2."vessel_id"
left join "harbour"."vessel" v3 on v3."id" = p2."vessel_id"
left join "harbour"."vessel" v4 on v4."id" = p2."vessel_id"
left join "harbour"."vessel" v5 on v5."id" = p2."vessel_id"
left join "harbour"."vessel" v6 on v6."id" = p2."vessel_id") p
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
--   version at 0
--   kept at 3
--   readable at 4

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
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id" and (v2."agent_id" = $2::bigint)
left join "harbour"."vessel" v3 on v3."id" = p."vessel_id"
where (v."agent_id" = $1::bigint) and (v2."flag" = $3::bpchar) and ((v3."agent_id" = $4::bigint) and (p."status" = $5::"harbour"."call_status"))
  for update of p
), written as (
  update "harbour"."port_call" p2 set "etd" = $6::timestamptz
  from target where p2."id" = target."id" returning p2.*, p2.xmin
)
select count(*), coalesce(bool_and(((v4."agent_id" = $7::bigint) and (p3."status" = $8::"harbour"."call_status"))), true)
from written p3
left join "harbour"."vessel" v4 on v4."id" = p3."vessel_id"
--   $1 claim agent_id
--   $2 claim agent_id
--   $3 a literal
--   $4 claim agent_id
--   $5 a literal
--   $6 the body's etd
--   $7 claim agent_id
--   $8 a literal
--   total at 0
--   kept at 1

-- change of each, shown, as agent: /port_calls/$filter(status eq 'expected')/$each?select=id,etd
with target as (
  select p."id" from "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id"
where (v."agent_id" = $1::bigint) and (p."status" = $2::"harbour"."call_status") and ((v2."agent_id" = $3::bigint) and (p."status" = $4::"harbour"."call_status"))
  for update of p
), written as (
  update "harbour"."port_call" p2 set "etd" = $5::timestamptz
  from target where p2."id" = target."id" returning p2.*, p2.xmin
)
select p3.xmin, p3."id", p3."etd", coalesce(((v3."agent_id" = $6::bigint) and (p3."status" = $7::"harbour"."call_status")), false), coalesce((v4."agent_id" = $8::bigint), false)
from written p3
left join "harbour"."vessel" v3 on v3."id" = p3."vessel_id"
left join "harbour"."vessel" v4 on v4."id" = p3."vessel_id"
--   $1 claim agent_id
--   $2 a literal
--   $3 claim agent_id
--   $4 a literal
--   $5 the body's etd
--   $6 claim agent_id
--   $7 a literal
--   $8 claim agent_id
--   kept at 3
--   readable at 4

-- deletion of each, as harbour_master: /cargo_items/$filter(port_call%2Fstatus eq 'cancelled')/$each?
with target as (
  select c."id" from "harbour"."cargo_item" c
left join "harbour"."port_call" p on p."id" = c."port_call_id"
where (p."status" = $1::"harbour"."call_status")
  for update of c
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
  select * from unnest((select $1::text[]), (select $2::text[]), (select $3::boolean[]), (select $4::text[]), (select $5::boolean[])) with ordinality i(v0, v1, g1, v2, g2, n)
)
insert into "harbour"."tug" ("name", "bollard_pull_t", "id")
  select input.v0::text, case when input.g1 then input.v1::numeric else null end, case when input.g2 then input.v2::int4 else nextval(pg_get_serial_sequence('"harbour"."tug"', 'id')) end from input order by input.n
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   $4 list 3
--   $5 list 4

-- creation of many, shown, as agent: /port_calls?select=id
with input as (
  select * from unnest((select $1::text[]), (select $2::text[]), (select $3::text[])) with ordinality i(v0, v1, v2, n)
), inserted as (
  insert into "harbour"."port_call" ("vessel_id", "eta", "draught_m", "status")
  select input.v0::int4, input.v1::timestamptz, input.v2::numeric, $4::"harbour"."call_status" from input order by input.n returning *, "harbour"."port_call".xmin
), written as (
  select *, row_number() over () as "row number" from inserted
)
select p.xmin, p."id", p."row number", coalesce((v."agent_id" = $5::bigint), false), coalesce((v2."agent_id" = $6::bigint), false)
from written p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id"
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   $4 a literal
--   $5 claim agent_id
--   $6 claim agent_id
--   number at 2
--   kept at 3
--   readable at 4

-- creation of many that later steps refer to, as harbour_master: /vessels?
with input as (
  select * from unnest((select $1::text[])) with ordinality i(v0, n)
), inserted as (
  insert into "harbour"."vessel" ("name")
  select input.v0::text from input order by input.n returning *, "harbour"."vessel".xmin
), written as (
  select *, row_number() over () as "row number" from inserted
)
select v."row number", v."id", v."imo_number"
from written v
--   $1 list 0
--   number at 0

-- creation of many of which nothing is given, as harbour_master: /port_calls?
with input as (
  select * from unnest((select $1::text[])) with ordinality i(nothing, n)
), inserted as (
  insert into "harbour"."port_call" ("vessel_id")
  select null from input order by input.n returning *, "harbour"."port_call".xmin
), written as (
  select *, row_number() over () as "row number" from inserted
)
select p."row number", p."id"
from written p
--   $1 list 0
--   number at 0

-- change of many, as agent: /port_calls?
with input as (
  select * from unnest((select $1::text[]), (select $2::text[]), (select $3::boolean[]), (select $4::text[]), (select $5::boolean[])) with ordinality i(k0, v0, g0, v1, g1, n)
), written as (
  update "harbour"."port_call" p set "eta" = case when input.g0 then input.v0::timestamptz else p."eta" end, "etd" = case when input.g1 then input.v1::timestamptz else p."etd" end
  from input
  where p."id" = input.k0::int4 and exists (select from (select) one
left join "harbour"."vessel" v on v."id" = p."vessel_id" where ((v."agent_id" = $6::bigint) and (p."status" = $7::"harbour"."call_status"))) returning p.*, p.xmin, input.n as "row number"
)
select count(*), (select string_agg(input.n::text, ',' order by input.n) from input where not exists (select from written where written."row number" = input.n)), coalesce(bool_and(((v2."agent_id" = $8::bigint) and (p2."status" = $9::"harbour"."call_status"))), true)
from written p2
left join "harbour"."vessel" v2 on v2."id" = p2."vessel_id"
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
  select * from unnest((select $1::text[]), (select $2::text[]), (select $3::text[])) with ordinality i(k0, version, v0, n)
), written as (
  update "harbour"."berth" b set "quay" = input.v0::text
  from input
  where (input.version is null or b.xmin = any(string_to_array(input.version, ',')::xid[])) and b."code" = input.k0::text returning b.*, b.xmin, input.n as "row number"
)
select b2.xmin, b2."code", b2."quay", b2."length_m", b2."max_draught_m", b2."shore_power", b2."row number"
from written b2
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   number at 6

-- change of many that must be tied, as office: /cargo_items?
with input as (
  select * from unnest((select $1::text[]), (select $2::text[]), (select $3::text[])) with ordinality i(k0, t0, v0, n)
), written as (
  update "harbour"."cargo_item" c set "description" = input.v0::text
  from input
  where c."id" = input.k0::int4 and (input.t0 is null or c."port_call_id" = input.t0::int4) returning c.*, c.xmin, input.n as "row number"
)
select count(*), (select string_agg(input.n::text, ',' order by input.n) from input where not exists (select from written where written."row number" = input.n))
from written c2
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   total at 0
--   missing at 1

-- change of many as two roles, which later steps refer to, as agent and pilot: /port_calls?
with input as (
  select * from unnest((select $1::text[]), (select $2::text[])) with ordinality i(k0, v0, n)
), written as (
  update "harbour"."port_call" p set "etd" = input.v0::timestamptz
  from input
  where p."id" = input.k0::int4 and exists (select from (select) one
left join "harbour"."vessel" v on v."id" = p."vessel_id" where ((v."agent_id" = $3::bigint) and (p."status" = $4::"harbour"."call_status"))) returning p.*, p.xmin, input.n as "row number"
)
select p2."row number", r."id", r."berth_code", p2."kept row", p2."readable row"
from (select coalesce(((v2."agent_id" = $5::bigint) and (p3."status" = $6::"harbour"."call_status")), false) as "kept row", coalesce(true, false) as "readable row", coalesce((v3."agent_id" = $7::bigint), false) as "shown 0", coalesce((v4."agent_id" = $8::bigint), false) as "shown 1", coalesce((v5."agent_id" = $9::bigint), false) as "shown 2", coalesce((v6."agent_id" = $10::bigint), false) as "shown 3", p3."id", p3."vessel_id", p3."berth_code", p3."status", p3."eta", p3."etd", case when (v3."agent_id" = $7::bigint) then p3."arrived_at" end as "arrived_at", case when (v4."agent_id" = $8::bigint) then p3."departed_at" end as "departed_at", p3."draught_m", p3."hazardous", p3."remarks", case when (v5."agent_id" = $9::bigint) then p3."created_at" end as "created_at", case when (v6."agent_id" = $10::bigint) then p3."updated_at" end as "updated_at", p3.xmin, p3."row number"
  from written p3
left join "harbour"."vessel" v2 on v2."id" = p3."vessel_id"
left join "harbour"."vessel" v3 on v3."id" = p3."vessel_id"
left join "harbour"."vessel" v4 on v4."id" = p3."vessel_id"
left join "harbour"."vessel" v5 on v5."id" = p3."vessel_id"
left join "harbour"."vessel" v6 on v6."id" = p3."vessel_id") p2
join written r on r."row number" = p2."row number"
--   $1 list 0
--   $2 list 1
--   $3 claim agent_id
--   $4 a literal
--   $5 claim agent_id
--   $6 a literal
--   $7 claim agent_id
--   $8 claim agent_id
--   $9 claim agent_id
--   $10 claim agent_id
--   number at 0
--   kept at 3
--   readable at 4

-- deletion of many, as harbour_master: /pilotages?
with input as (
  select * from unnest((select $1::text[]), (select $2::text[]), (select $3::text[]), (select $4::text[])) with ordinality i(k0, k1, k2, version, n)
), written as (
  delete from "harbour"."pilotage" p
  using input
  where (input.version is null or p.xmin = any(string_to_array(input.version, ',')::xid[])) and p."port_call_id" = input.k0::int4 and p."pilot_id" = input.k1::uuid and p."direction" = input.k2::"harbour"."pilot_direction" returning input.n as "row number"
)
select count(*), (select string_agg(input.n::text, ',' order by input.n) from input where not exists (select from written where written."row number" = input.n))
from written w
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   $4 list 3
--   total at 0
--   missing at 1

-- deletion of many that a junction ties, as harbour_master: /tugs?
with input as (
  select * from unnest((select $1::text[]), (select $2::text[])) with ordinality i(k0, t0, n)
), written as (
  delete from "harbour"."tug" t
  using input
  where t."id" = input.k0::int4 and (input.t0 is null or exists (select from "harbour"."port_call_tug" j where j."port_call_id" = input.t0::int4 and t."id" = j."tug_id")) returning input.n as "row number"
)
select count(*), (select string_agg(input.n::text, ',' order by input.n) from input where not exists (select from written where written."row number" = input.n))
from written w
--   $1 list 0
--   $2 list 1
--   total at 0
--   missing at 1

-- look-up by key, as agent: /port_calls?
with input as (
  select * from unnest((select $1::text[])) with ordinality i(k0, n)
)
select input.n, p."id", p."vessel_id"
from input
join (select p.* from "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id" where (v."agent_id" = $2::bigint)) p on p."id" = input.k0::int4
--   $1 list 0
--   $2 claim agent_id
--   number at 0

-- look-up along relations, as agent: /port_calls?
with input as (
  select * from unnest((select $1::text[]), (select $4::text[])) with ordinality i(k0, k1, n)
)
select input.n
from input
join (select p.* from "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id" where (v."agent_id" = $2::bigint)) p on p."id" = input.k0::int4
join "harbour"."vessel" v2 on v2."id" = p."vessel_id" and (v2."agent_id" = $3::bigint)
join (select p2.* from "harbour"."port_call" p2
left join "harbour"."vessel" v3 on v3."id" = p2."vessel_id" where (v3."agent_id" = $5::bigint)) p2 on p2."vessel_id" = v2."id" and p2."id" = input.k1::int4
--   $1 list 0
--   $2 claim agent_id
--   $3 claim agent_id
--   $4 list 1
--   $5 claim agent_id
--   number at 0

-- release of what is left out, as office: /vessels?
with input as (
  select * from unnest((select $1::text[])) with ordinality i(t0, n)
), near as (
  select input.t0::text as "code", n from input
), stays as (
  select * from unnest((select $2::text[])) with ordinality i(k0, n)
), left_out as (
  select p."id", near.n from near, "harbour"."port_call" p
where p."berth_code" = near."code" and not exists (select from stays where p."id" = stays.k0::int4)
), written as (
  update "harbour"."port_call" p2 set "berth_code" = null
  from left_out join near using (n)
  where p2."id" = left_out."id" and p2."berth_code" = near."code" returning p2.*
)
select count(*), (select count(*) from left_out)
from written p3
--   $1 list 0
--   $2 list 1
--   total at 0
--   expected at 1

-- look-up of what is left out, as agent: /vessels?
with input as (
  select * from unnest((select $1::text[])) with ordinality i(t0, n)
), near as (
  select input.t0::int4 as "id", n from input
), left_out as (
  select p."id", near.n from near, "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
where p."vessel_id" = near."id" and (v."agent_id" = $2::bigint)
)
select l.n, l."id"
from left_out l order by l.n, l."id" limit 1
--   $1 list 0
--   $2 claim agent_id
--   number at 0

-- set of ties, as office: /port_calls/17?
with input as (
  select * from unnest((select $1::text[]), (select $2::text[]), (select $3::text[])) with ordinality i(act, k0, f0, n)
),
near as (select input.n, input.act, p."id", input.k0 from input, "harbour"."port_call" p
where p."id" = input.k0::int4 for share of p),
far as (select input.n, t."id" from input, "harbour"."tug" t
where t."id" = input.f0::int4),
untied as (
  delete from "harbour"."port_call_tug" j using near join far using (n)
  where near.act = 'untie' and j."port_call_id" = near."id" and j."tug_id" = far."id" returning near.n
),
left_out as (
  delete from "harbour"."port_call_tug" j using near
  where near.act = 'only' and j."port_call_id" = near."id" and exists (select from "harbour"."tug" t2
where t2."id" = j."tug_id")
    and not exists (select from input i join far using (n) where i.act = 'tie' and i.k0 = near.k0 and j."tug_id" = far."id")
),
tied as (
  insert into "harbour"."port_call_tug" ("port_call_id", "tug_id")
  select near."id", far."id" from near join far using (n) where near.act = 'tie' order by n
  on conflict do nothing
)
select count(*), string_agg(i.n::text, ',' order by i.n) filter (where near.n is null), string_agg(i.n::text, ',' order by i.n) filter (where i.act = 'tie' and far.n is null or i.act = 'untie' and untied.n is null)
from input i left join near using (n) left join far using (n) left join untied using (n)
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   total at 0
--   missing at 1
--   absent at 2

-- ties, as office: /port_calls/17?
with input as (
  select * from unnest((select $1::text[]), (select $2::text[]), (select $3::text[])) with ordinality i(act, k0, f0, n)
),
near as (select input.n, input.act, p."id", input.k0 from input, "harbour"."port_call" p
where p."id" = input.k0::int4 for share of p),
far as (select input.n, t."id" from input, "harbour"."tug" t
where t."id" = input.f0::int4),
tied as (
  insert into "harbour"."port_call_tug" ("port_call_id", "tug_id")
  select near."id", far."id" from near join far using (n) where near.act = 'tie' order by n
  on conflict do nothing
)
select count(*), string_agg(i.n::text, ',' order by i.n) filter (where near.n is null), string_agg(i.n::text, ',' order by i.n) filter (where i.act = 'tie' and far.n is null)
from input i left join near using (n) left join far using (n)
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   total at 0
--   missing at 1
--   absent at 2

-- ties where a field is hidden, as agent and pilot: /port_calls/17?
with input as (
  select * from unnest((select $1::text[]), (select $2::text[]), (select $3::text[])) with ordinality i(act, k0, f0, n)
),
near as (select input.n, input.act, p."id", input.k0 from input, (select coalesce((v2."agent_id" = $6::bigint), false) as "shown 0", coalesce((v3."agent_id" = $7::bigint), false) as "shown 1", coalesce((v4."agent_id" = $8::bigint), false) as "shown 2", coalesce((v5."agent_id" = $9::bigint), false) as "shown 3", p2."id", p2."vessel_id", p2."berth_code", p2."status", p2."eta", p2."etd", case when (v2."agent_id" = $6::bigint) then p2."arrived_at" end as "arrived_at", case when (v3."agent_id" = $7::bigint) then p2."departed_at" end as "departed_at", p2."draught_m", p2."hazardous", p2."remarks", case when (v4."agent_id" = $8::bigint) then p2."created_at" end as "created_at", case when (v5."agent_id" = $9::bigint) then p2."updated_at" end as "updated_at", p2.xmin
  from "harbour"."port_call" p2
left join "harbour"."vessel" v on v."id" = p2."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p2."vessel_id"
left join "harbour"."vessel" v3 on v3."id" = p2."vessel_id"
left join "harbour"."vessel" v4 on v4."id" = p2."vessel_id"
left join "harbour"."vessel" v5 on v5."id" = p2."vessel_id"
where ((v."agent_id" = $4::bigint) and (p2."status" = $5::"harbour"."call_status"))) p
where p."id" = input.k0::int4),
far as (select input.n, t."id" from input, "harbour"."tug" t
where t."id" = input.f0::int4),
tied as (
  insert into "harbour"."port_call_tug" ("port_call_id", "tug_id")
  select near."id", far."id" from near join far using (n) where near.act = 'tie' order by n
  on conflict do nothing
)
select count(*), string_agg(i.n::text, ',' order by i.n) filter (where near.n is null), string_agg(i.n::text, ',' order by i.n) filter (where i.act = 'tie' and far.n is null)
from input i left join near using (n) left join far using (n)
--   $1 list 0
--   $2 list 1
--   $3 list 2
--   $4 claim agent_id
--   $5 a literal
--   $6 claim agent_id
--   $7 claim agent_id
--   $8 claim agent_id
--   $9 claim agent_id
--   total at 0
--   missing at 1
--   absent at 2

-- locks before such ties, as agent and pilot: /port_calls/17?
with input as (
  select * from unnest((select $1::text[])) with ordinality i(k0, n)
), locked as (
  select 1 from "harbour"."port_call" p, input where p."id" = input.k0::int4 for share of p
)
select count(*) from locked
--   $1 list 0
--   total at 0

-- locks before a change of each, as agent and pilot: /port_calls/$filter(draught_m gt 5)/$each?
with target as (
  select p."id" from (select coalesce((v2."agent_id" = $4::bigint), false) as "shown 0", coalesce((v3."agent_id" = $5::bigint), false) as "shown 1", coalesce((v4."agent_id" = $6::bigint), false) as "shown 2", coalesce((v5."agent_id" = $7::bigint), false) as "shown 3", p2."id", p2."vessel_id", p2."berth_code", p2."status", p2."eta", p2."etd", case when (v2."agent_id" = $4::bigint) then p2."arrived_at" end as "arrived_at", case when (v3."agent_id" = $5::bigint) then p2."departed_at" end as "departed_at", p2."draught_m", p2."hazardous", p2."remarks", case when (v4."agent_id" = $6::bigint) then p2."created_at" end as "created_at", case when (v5."agent_id" = $7::bigint) then p2."updated_at" end as "updated_at", p2.xmin
  from "harbour"."port_call" p2
left join "harbour"."vessel" v on v."id" = p2."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p2."vessel_id"
left join "harbour"."vessel" v3 on v3."id" = p2."vessel_id"
left join "harbour"."vessel" v4 on v4."id" = p2."vessel_id"
left join "harbour"."vessel" v5 on v5."id" = p2."vessel_id"
where ((v."agent_id" = $2::bigint) and (p2."status" = $3::"harbour"."call_status"))) p
where (p."draught_m" > $1::numeric)
), locked as (
  select 1 from "harbour"."port_call" p3, target where p3."id" = target."id" for update of p3
)
select count(*) from locked
--   $1 a literal
--   $2 claim agent_id
--   $3 a literal
--   $4 claim agent_id
--   $5 claim agent_id
--   $6 claim agent_id
--   $7 claim agent_id
--   total at 0

