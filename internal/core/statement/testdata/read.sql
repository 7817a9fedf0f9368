-- as : /arrivals_board?filter=vessel/flag eq 'NO'&count=true
select n.total, page.*
from (select count(*) as total
from (select p.*, (select count(*) from "harbour"."tug" t
  join "harbour"."port_call_tug" j on t."id" = j."tug_id"
where j."port_call_id" = p."id") as "= tug_count", exists (select 1 from "harbour"."inspection" i
where i."port_call_id" = p."id" and (not i."passed")) as "= has_open_finding" from "harbour"."port_call" p where (p."status" = any($1::text[]::"harbour"."call_status"[]))) a
left join "harbour"."vessel" a4 on a4."id" = a."vessel_id"
where (a4."flag" = $2::bpchar)) n
left join (
select true, a."id", a."eta", a."status", a."= tug_count", a."= has_open_finding", case when a3."id" is not null then row(a3."name", a3."flag") end
from (
select a.*
from (select p.*, (select count(*) from "harbour"."tug" t
  join "harbour"."port_call_tug" j on t."id" = j."tug_id"
where j."port_call_id" = p."id") as "= tug_count", exists (select 1 from "harbour"."inspection" i
where i."port_call_id" = p."id" and (not i."passed")) as "= has_open_finding" from "harbour"."port_call" p where (p."status" = any($1::text[]::"harbour"."call_status"[]))) a
left join "harbour"."vessel" a2 on a2."id" = a."vessel_id"
where (a2."flag" = $2::bpchar)
order by a."eta", a."id"
limit 21 offset $3::bigint
) a
left join "harbour"."vessel" a3 on a3."id" = a."vessel_id"
order by a."eta", a."id"
) page on true
-- [[expected anchored] NO 0]

-- as : /arrivals_board/17?
select a."id", a."eta", a."status", a."= tug_count", a."= has_open_finding", case when a2."id" is not null then row(a2."name", a2."flag") end
from (select p.*, (select count(*) from "harbour"."tug" t
  join "harbour"."port_call_tug" j on t."id" = j."tug_id"
where j."port_call_id" = p."id") as "= tug_count", exists (select 1 from "harbour"."inspection" i
where i."port_call_id" = p."id" and (not i."passed")) as "= has_open_finding" from "harbour"."port_call" p where (p."status" = any($1::text[]::"harbour"."call_status"[]))) a
left join "harbour"."vessel" a2 on a2."id" = a."vessel_id"
where (a."id" = $2::integer)
-- [[expected anchored] 17]

-- as agent: /berth_load(from=2026-01-01,to=2026-02-01)?filter=hours gt 100&orderby=hours desc&count=true
select n.total, page.*
from (select count(*) as total
from (
select berth_code, sum(extract(epoch from departed_at - arrived_at))/3600 as hours
from harbour.port_call
where arrived_at >= ($1::date) and departed_at < ($2::date) and (($3::text)::text is null or berth_code like ($3::text) || '%')
group by berth_code
) b
where (b."hours" > $4::numeric)) n
left join (
select true, b."berth_code", b."hours"
from (
select berth_code, sum(extract(epoch from departed_at - arrived_at))/3600 as hours
from harbour.port_call
where arrived_at >= ($1::date) and departed_at < ($2::date) and (($3::text)::text is null or berth_code like ($3::text) || '%')
group by berth_code
) b
where (b."hours" > $4::numeric)
order by b."hours" desc nulls last
limit 21 offset $5::bigint
) page on true
-- [2026-01-01 00:00:00 +0000 UTC 2026-02-01 00:00:00 +0000 UTC <nil> 100 0]

-- as agent: /port_calls/17?select=id,eta
select p.xmin, p."id", p."eta"
from "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
where (v."agent_id" = $1::bigint) and (p."id" = $2::integer)
-- [3 17]

-- as operator: /port_calls/17?select=id,eta
select p.xmin, p."id", p."eta"
from "harbour"."port_call" p
where (p."id" = $1::integer)
-- [17], short

-- as operator: /port_calls/17/vessel?select=name
select v.xmin, v."name"
from "harbour"."vessel" v
where exists (select 1 from "harbour"."port_call" p where v."id" = p."vessel_id" and (p."id" = $1::integer))
-- [17]

-- as operator: /port_calls/17?select=id,twice&compute=draught_m mul 2 as twice
select p.xmin, p."id", ((p."draught_m")::numeric * ($2::bigint)::numeric)
from "harbour"."port_call" p
where (p."id" = $1::integer)
-- [17 2]

-- as agent: /port_calls?filter=status eq 'expected' and vessel/flag eq 'NO'&orderby=eta desc&top=5&select=id,eta&expand=vessel(select=name)&count=true
select n.total, page.*
from (select count(*) as total
from "harbour"."port_call" p
left join "harbour"."vessel" v4 on v4."id" = p."vessel_id"
left join "harbour"."vessel" v5 on v5."id" = p."vessel_id" and (v5."agent_id" = $8::bigint)
where (v4."agent_id" = $7::bigint) and ((p."status" = $2::"harbour"."call_status") and (v5."flag" = $4::bpchar))) n
left join (
select true, p.xmin, p."id", p."eta", case when v3."id" is not null then row(v3.xmin, v3."name") end
from (
select p.*, p.xmin
from "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
left join "harbour"."vessel" v2 on v2."id" = p."vessel_id" and (v2."agent_id" = $3::bigint)
where (v."agent_id" = $1::bigint) and ((p."status" = $2::"harbour"."call_status") and (v2."flag" = $4::bpchar))
order by p."eta" desc, p."id"
limit 21 offset $6::bigint
) p
left join "harbour"."vessel" v3 on v3."id" = p."vessel_id" and (v3."agent_id" = $5::bigint)
order by p."eta" desc, p."id"
) page on true
-- [3 expected 3 NO 3 0 3 3]

-- as agent: /port_calls?filter=not (berth_code eq 'N01') and berth_code ne 'N02'
select p.xmin, p."id", p."vessel_id", p."berth_code", p."status", p."eta", p."etd", p."arrived_at", p."departed_at", p."draught_m", p."hazardous", p."created_at", p."updated_at"
from "harbour"."port_call" p
left join "harbour"."vessel" v on v."id" = p."vessel_id"
where (v."agent_id" = $1::bigint) and ((not (p."berth_code" is not distinct from $2::text)) and (p."berth_code" is distinct from $3::text))
order by p."eta" desc, p."id"
limit 21 offset $4::bigint
-- [3 N01 N02 0]

-- as agent: /dues?expand=port_call(expand=vessel,tugs(orderby=name;top=2;count=true))
select d.xmin, d."port_call_id", d."amount", d."currency", d."paid_at", case when p2."id" is not null then row(p2.xmin, p2."id", p2."vessel_id", p2."berth_code", p2."status", p2."eta", p2."etd", p2."arrived_at", p2."departed_at", p2."draught_m", p2."hazardous", p2."created_at", p2."updated_at", case when v3."id" is not null then row(v3.xmin, v3."id", v3."name", v3."imo_number", v3."flag", v3."kind", v3."gross_tonnage", v3."built_on", v3."agent_id", v3."tags", v3."particulars") end, g2.total, g.rows) end
from (
select d.*, d.xmin
from "harbour"."due" d
left join "harbour"."port_call" p on p."id" = d."port_call_id"
left join "harbour"."vessel" v on v."id" = p."vessel_id"
where (v."agent_id" = $1::bigint)
order by d."port_call_id"
limit 21 offset $5::bigint
) d
left join (select p2.*, p2.xmin from "harbour"."port_call" p2
left join "harbour"."vessel" v2 on v2."id" = p2."vessel_id" where (v2."agent_id" = $2::bigint)) p2 on p2."id" = d."port_call_id"
left join "harbour"."vessel" v3 on v3."id" = p2."vessel_id" and (v3."agent_id" = $3::bigint)
left join lateral (
  select array_agg(row(r.c0, r.c1, r.c2, r.c3)) as rows from (select t.xmin as c0, t."id" as c1, t."name" as c2, t."bollard_pull_t" as c3
  from "harbour"."tug" t
  join "harbour"."port_call_tug" j on t."id" = j."tug_id"
where j."port_call_id" = p2."id"
order by t."name", t."id"
  limit least($4::bigint, 501)) r
) g on true
left join lateral (
  select count(*) as total
  from "harbour"."tug" t
  join "harbour"."port_call_tug" j on t."id" = j."tug_id"
where j."port_call_id" = p2."id"
) g2 on true
order by d."port_call_id"
-- [3 3 3 2 0]

-- as agent, pilot: /vessels?select=id,agent_id&filter=agent_id ne 3&orderby=agent_id&top=5
select v.xmin, v."id", v."agent_id", v."shown 0"
from (select coalesce((v2."agent_id" = $1::bigint), false) as "shown 0", v2."id", v2."name", v2."imo_number", v2."flag", v2."kind", v2."gross_tonnage", v2."built_on", case when (v2."agent_id" = $1::bigint) then v2."agent_id" end as "agent_id", v2."tags", v2."particulars", v2."internal_note", v2.xmin
  from "harbour"."vessel" v2) v
where (v."agent_id" is distinct from $2::bigint) and (v."agent_id" is not null or (v."agent_id" is null and v."id" > $3::int4))
order by v."agent_id" nulls first, v."id"
limit 21
-- [3 3 last]

-- as operator: /vessels?filter=agent/name eq null or built_on in (2020-01-01,null) or id in (1,2)&orderby=agent/name desc,built_on
select v.xmin, v."id", v."name", v."imo_number", v."flag", v."kind", v."gross_tonnage", v."built_on", v."agent_id", v."tags", v."particulars", a."name"
from "harbour"."vessel" v
left join "harbour"."agent" a on a."id" = v."agent_id"
where (((a."name" is null) or ((v."built_on" = $1::date) or (v."built_on" is null))) or (v."id" = any($2::bigint[]))) and ((a."name" < $3::text or a."name" is null) or (a."name" = $3::text and (v."built_on" is not null or (v."built_on" is null and v."id" > $4::int4))))
order by a."name" desc nulls last, v."built_on" nulls first, v."id"
limit 21
-- [2020-01-01 00:00:00 +0000 UTC [1 2] last last]

-- as operator: /port_calls?orderby=eta desc&select=id
select p.xmin, p."id", p."eta"
from "harbour"."port_call" p
where (p."eta" <= $1::timestamptz and (p."eta" < $1::timestamptz or (p."eta" = $1::timestamptz and p."id" > $2::int4)))
order by p."eta" desc, p."id"
limit 21
-- [last last]

-- as operator: /pilotages(port_call_id=17,pilot_id=0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90,direction='inbound')?expand=pilot(expand=mentor)
select p.xmin, p."port_call_id", p."pilot_id", p."direction", p."boarded_at", case when p2."id" is not null then row(p2.xmin, p2."id", p2."name", p2."licence", p2."class", p2."on_duty", p2."mentor_id", case when p3."id" is not null then row(p3.xmin, p3."id", p3."name", p3."licence", p3."class", p3."on_duty", p3."mentor_id") end) end
from "harbour"."pilotage" p
left join "harbour"."pilot" p2 on p2."id" = p."pilot_id"
left join "harbour"."pilot" p3 on p3."id" = p2."mentor_id"
where (p."port_call_id" = $1::integer) and (p."pilot_id" = $2::uuid) and (p."direction" = $3::"harbour"."pilot_direction")
-- [17 0e2c7a52-3f6d-4c1b-9f0e-2d8a6c4b1e90 inbound]

