-- A day of made-up traffic of the harbour, in the records of a demo: for pictures.
set search_path = eager_window;
select setseed(0.5);
delete from traffic;
delete from traffic_shape;
delete from refusal;

with minute as (
  select date_trunc('minute', now()) - make_interval(mins => ago) as began, ago from generate_series(0, 1439) ago
), kind (resource, role, status, rate) as (
  values ('arrivals_board', 'board', 200, 60), ('port_calls', 'agent', 200, 42), ('vessels', 'agent', 200, 18),
    ('port_calls', 'office', 200, 25), ('tide_readings', 'pilot', 200, 14), ('port_calls', 'office', 404, 2),
    ('inspections', 'agent', 403, 1), ('vessels', 'agent', 400, 1), ('port_calls', 'office', 412, 1), ('port_calls', 'office', 503, 0.15)
), counted as (
  select began, ago, resource, role, status,
    floor(rate * (0.75 + 0.25 * sin(extract(epoch from now()) / 86400 * 2 * pi() - ago / 1440.0 * 2 * pi())) * (0.8 + 0.4 * random())
      + random())::bigint n,
    case when ago between 14 and 20 and resource = 'port_calls' then 3 else 0 end slow -- a while in which it took longer
  from minute, kind
)
insert into traffic (window_id, grain, at, resource, role, status, count, times)
select w.id, 'minute', began, resource, role, status, n, (select array_agg(case i - slow when 4 then n / 6
    when 5 then n - 2 * (n / 6) - n / 20 when 7 then n / 6 when 10 then n / 20 else 0 end order by i) from generate_series(0, 31) i)
from counted, api_window w where w.name = 'saltmere' and n > 0;

insert into traffic_shape (window_id, at, shape, role, count, waited_us, rows, times)
select w.id, date_trunc('hour', now()), shape, role, n, n * us, n * 10,
  (select array_agg(case i when b then n - n / 10 when b + 2 then n / 10 else 0 end order by i) from generate_series(0, 31) i)
from (values
  ('cargo_items?filter=hs_code eq ? and tonnes gt ?&orderby=tonnes desc&top=?', 'office', 310, 9100, 10),
  ('port_calls?expand=vessel,tugs&top=?', 'agent', 2900, 420, 6), ('vessels?search=?', 'agent', 540, 1300, 8),
  ('arrivals_board?top=?', 'board', 3600, 110, 4), ('tide_readings?orderby=read_at desc&top=?', 'pilot', 840, 260, 4),
  ('port_calls/?', 'office', 5200, 30, 2)) v (shape, role, n, us, b), api_window w where w.name = 'saltmere';

insert into refusal (window_id, at, caller, role, method, path, status, code, message)
select w.id, now() - make_interval(mins => ago), caller, role, method, path, status, code, message
from (values
  (31, 'office-demo', 'office', 'PATCH', 'port_calls/11984', 412, 'version.changed',
    'the row has another version than If-Match asks for; its ETag says which'),
  (12, '', 'board', 'GET', 'vessels', 401, 'access.role', 'without a token, vessels can''t be read'),
  (6, 'agent-demo', 'agent', 'GET', 'vessels', 400, 'field.unknown',
    'unknown field "statuss" in filter at 1; resource "vessels" has "status"'),
  (2, 'agent-demo', 'agent', 'GET', 'inspections', 403, 'access.role', 'role "agent" may not read inspections'))
  v (ago, caller, role, method, path, status, code, message), api_window w where w.name = 'saltmere' order by ago desc;
