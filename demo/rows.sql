-- The same rows every time: everything random comes from roll(), a hash of the row's number and a salt.
set search_path = harbour;

create function pg_temp.roll(x bigint, salt text, sides integer) returns integer language sql immutable as
$$ select (('x' || substr(md5(x || salt), 1, 7))::bit(28)::integer) % sides $$;

create function pg_temp.pick(x bigint, salt text, choices text[]) returns text language sql immutable as
$$ select choices[1 + pg_temp.roll(x, salt, array_length(choices, 1))] $$;

insert into agent (name, email, phone, since)
select first || ' ' || last, lower(first || '.' || replace(last, ' ', '')) || n || '@agents.example',
       case when n % 7 > 0 then '+44 555 0' || (100 + n) end, date '1996-03-01' + pg_temp.roll(n, 'since', 9500)
from (select n, pg_temp.pick(n, 'af', array['Harrow','Ostrand','Pell','Quill','Marrick','Tessel','Brandt','Calloway','Ivers','Lund']) as first,
             pg_temp.pick(n, 'al', array['Shipping','Maritime','and Sons','Agency','Port Services','Chartering']) as last
      from generate_series(1, 40) n) a;

insert into vessel (name, imo_number, flag, kind, gross_tonnage, built_on, agent_id, tags, particulars, internal_note)
select name, (9000000 + n * 97)::text,
       pg_temp.pick(n, 'flag', array['NO','NO','NL','MT','LR','PT','DK','PA','GB','IS']), kind::vessel_kind,
       (case kind when 'cargo' then 3000 when 'tanker' then 5000 when 'ferry' then 2500 when 'fishing' then 120 else 20 end
         * (1 + pg_temp.roll(n, 'gt', 800) / 100.0))::numeric(10,2),
       case when n % 11 > 0 then date '1978-01-01' + pg_temp.roll(n, 'built', 17200) end,
       case when n % 23 > 0 then 1 + pg_temp.roll(n, 'agent', 40) end,
       array_remove(array[case when n % 5 = 0 then 'ice' end, case when n % 7 = 0 then 'thruster' end,
                          case when n % 13 = 0 then 'gearless' end, case when kind = 'tanker' then 'double-hull' end], null),
       case when n % 9 = 0 then '{}'::jsonb else jsonb_build_object('engine', jsonb_build_object('kw', 400 + pg_temp.roll(n, 'kw', 120) * 100,
         'maker', pg_temp.pick(n, 'maker', array['Orrin','Helmsby','Vasko'])), 'crew', 3 + pg_temp.roll(n, 'crew', 24)) end,
       case when n % 17 = 0 then 'Pays late; ask for the dues before departure.' end
from (select n, pg_temp.pick(n, 'kind', array['cargo','cargo','cargo','tanker','tanker','ferry','fishing','fishing','pleasure']) as kind,
             pg_temp.pick(n, 'v1', array['Grey','Saint','Halcyon','Marrow','Cold','North','Amber','Silver','Long','Winter','Salt','Ever','Old','High','Green','Little','Far','Pale','Quiet','Red'])
             || ' ' || pg_temp.pick(n, 'v2', array['Petrel','Orla','Reach','Light','Harbour','Star','Gate','Heron','Meadow','Tern','Crossing','Lantern','Gull','Strand','Anchor','Skerry','Plover','Sound','Beacon','Wake'])
             || case when n > 300 then ' II' else '' end as name
      from generate_series(1, 400) n) v;

insert into berth (code, quay, length_m, max_draught_m, shore_power)
select substr(quay, 1, 1) || lpad(n::text, 2, '0'), quay, 80 + pg_temp.roll(n, 'len', 260), (4 + pg_temp.roll(n, 'dr', 110) / 10.0)::numeric(4,2), n % 3 = 0
from (select n, (array['North Quay','East Basin','Oil Jetty','Fish Dock'])[1 + (n - 1) / 7] as quay from generate_series(1, 28) n) b;

-- One call every 47 minutes or so from June 2025 to August 2026. "Today" is 2026-07-01.
insert into port_call (vessel_id, berth_code, status, eta, etd, arrived_at, departed_at, draught_m, hazardous, remarks, created_at, updated_at)
select 1 + pg_temp.roll(n, 'vessel', 400), case when status <> 'expected' or n % 3 > 0 then berth end, status::call_status, eta, eta + stay,
       case when status in ('alongside','departed') then eta + late end,
       case when status = 'departed' then eta + late + stay end,
       (2.5 + pg_temp.roll(n, 'draught', 1100) / 100.0)::numeric(4,2), pg_temp.roll(n, 'haz', 8) = 0,
       case when n % 10 = 0 then pg_temp.pick(n, 'remark', array['Engine failure on the last visit.','Asks for a berth with shore power.','Ice on deck; mind the moorings.','Crew change.','Waits for the tide.']) end,
       eta - interval '9 days', eta - interval '1 day'
from (select n, eta, stay, late, berth,
        case when pg_temp.roll(n, 'cancel', 25) = 0 then 'cancelled'
             when eta > timestamptz '2026-07-01 00:00Z' then 'expected'
             when eta + late + stay < timestamptz '2026-07-01 00:00Z' then 'departed'
             when eta + late > timestamptz '2026-07-01 00:00Z' then 'anchored'
             else 'alongside' end as status
      from (select n, timestamptz '2025-06-20 04:00Z' + n * interval '47 minutes' + pg_temp.roll(n, 'eta', 90) * interval '1 minute' as eta,
                   (6 + pg_temp.roll(n, 'stay', 10)) * interval '1 hour' as stay, pg_temp.roll(n, 'late', 300) * interval '1 minute' as late,
                   substr((array['North Quay','East Basin','Oil Jetty','Fish Dock'])[1 + (n % 28) / 7], 1, 1) || lpad((1 + n % 28)::text, 2, '0') as berth
            from generate_series(1, 12000) n) a) b;

insert into pilot (id, name, licence, class, on_duty)
select md5('pilot' || n)::uuid, pg_temp.pick(n, 'pf', array['Ada','Bjarne','Carys','Dov','Edda','Fenn','Greta','Hal','Inger','Jory']) || ' '
       || (array['Askew','Birk','Corrie','Dunmore','Elverum','Farrow','Gisborne','Hallam','Ilves','Jessop','Kvist','Lorne','Maddern','Nygaard','Oake','Penrose','Quist','Rask','Selkirk','Thorne','Ulvang','Varley','Westby','Yarrow'])[n],
       'SM-' || (4100 + n * 3), (1 + n % 4)::smallint, n % 5 > 0
from generate_series(1, 24) n;
update pilot p set mentor_id = m.id
from (select n, md5('pilot' || n)::uuid as id, md5('pilot' || (n / 4))::uuid as mentor from generate_series(5, 24) n) t
join pilot m on m.id = t.mentor
where p.id = t.id;

insert into pilotage (port_call_id, pilot_id, direction, boarded_at)
select p.id, md5('pilot' || (1 + pg_temp.roll(p.id, 'pilot' || d, 24)))::uuid, d::pilot_direction,
       case d when 'inbound' then p.arrived_at - interval '50 minutes' else p.departed_at - interval '15 minutes' end
from port_call p cross join (values ('inbound'), ('outbound')) x(d)
where p.status <> 'cancelled' and pg_temp.roll(p.id, 'piloted' || d, 3) > 0;

insert into tug (name, bollard_pull_t)
select name, 28 + pg_temp.roll(n, 'pull', 450) / 10.0
from unnest(array['Bram','Ossian','Tern','Wren','Garth','Idunn','Mallory','Stout','Vigil']) with ordinality t(name, n);

insert into port_call_tug (port_call_id, tug_id)
select distinct p.id, 1 + pg_temp.roll(p.id, 'tug' || k, 9)
from port_call p cross join generate_series(1, 3) k
where p.status <> 'cancelled' and pg_temp.roll(p.id, 'tugs', 4) >= k;

insert into cargo_item (port_call_id, description, hs_code, tonnes, dangerous_class, stowage)
select 1 + pg_temp.roll(n, 'cargo', 12000), goods[1], goods[2], (1 + pg_temp.roll(n, 't', 900000) / 1000.0)::numeric(12,3), nullif(goods[3], ''),
       case when n % 6 > 0 then int4range(pg_temp.roll(n, 'frame', 80), pg_temp.roll(n, 'frame', 80) + 2 + pg_temp.roll(n, 'frames', 30)) end
from (select n, (array[array['Sawn timber','440710',''], array['Frozen cod','030363',''], array['Gas oil','271019','3'], array['Fertiliser','310230','5.1'],
                       array['Steel coil','720839',''], array['Road salt','250100',''], array['Paint','320890','3'], array['Wind turbine parts','850300','']])[1 + pg_temp.roll(n, 'goods', 8):1 + pg_temp.roll(n, 'goods', 8)] as slice
      from generate_series(1, 30000) n) c
cross join lateral (select array(select unnest(slice)) as goods) g;

insert into inspection (port_call_id, inspector, held_at, passed, findings, took)
select p.id, pg_temp.pick(p.id, 'inspector', array['M. Sorrel','K. Aune','T. Braddock','E. Lisle']), p.arrived_at + interval '2 hours',
       pg_temp.roll(p.id, 'passed', 6) > 0,
       case when pg_temp.roll(p.id, 'passed', 6) > 0 then '[]'::jsonb
            else jsonb_build_array(jsonb_build_object('about', pg_temp.pick(p.id, 'finding', array['fire doors','bilge alarm','log book','lifeboat']), 'grade', 1 + pg_temp.roll(p.id, 'grade', 4))) end,
       (20 + pg_temp.roll(p.id, 'took', 200)) * interval '1 minute'
from port_call p where p.arrived_at is not null and p.id % 6 = 0;

insert into due (port_call_id, amount, currency, paid_at, receipt)
select p.id, (v.gross_tonnage * 0.11 + 90)::numeric(12,2), 'EUR', case when p.id % 9 > 0 then p.departed_at + interval '3 days' end,
       case when p.id % 9 > 0 then decode(md5('receipt' || p.id), 'hex') end
from port_call p join vessel v on v.id = p.vessel_id where p.departed_at is not null;

insert into tide_reading (station, read_at, height_m)
select station, timestamptz '2026-07-01 00:00Z' - n * interval '10 minutes',
       round((2.4 + 1.7 * sin(n * 0.0842 + lag) + 0.35 * sin(n * 0.0028 + lag))::numeric, 3)::double precision
from (values ('Breakwater', 0.0), ('Inner Basin', 0.2), ('Oil Jetty', 0.35), ('River Mouth', 0.6), ('Skerry Light', -0.3)) s(station, lag)
cross join generate_series(1, 50000) n;

insert into weather_log (taken_at, wind_kn, note)
select timestamptz '2026-07-01 00:00Z' - n * interval '3 hours', (3 + pg_temp.roll(n, 'wind', 420) / 10.0)::real,
       case when n % 4 = 0 then pg_temp.pick(n, 'note', array['Fog in the fairway.','Swell from the west.','Gale warning given.','Clear.']) end
from generate_series(1, 2000) n;

-- Two vessels that the examples and the tests look for.
update vessel set name = 'Grey Petrel', flag = 'NO', agent_id = 3 where id = 3;
update vessel set name = 'Lindisker', flag = 'NO', agent_id = 3 where id = 17;

refresh materialized view monthly_traffic;
analyze;
