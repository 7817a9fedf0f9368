-- The made-up Port of Saltmere. Every name in here is invented.
create schema harbour;
comment on schema harbour is 'Arrivals, pilotage and dues of the Port of Saltmere.';
set search_path = harbour;

create type vessel_kind as enum ('cargo', 'tanker', 'ferry', 'fishing', 'pleasure');
create type call_status as enum ('expected', 'anchored', 'alongside', 'departed', 'cancelled');
create type pilot_direction as enum ('inbound', 'outbound');

create table agent (
  id    integer generated always as identity primary key,
  name  text not null,
  email text not null unique,
  phone text,
  since date not null default current_date
);
comment on table agent is 'Shipping agents, who act for vessels while they are in port.';
comment on column agent.email is 'Where arrival notices go.';
comment on column agent.since is 'First day as an agent in this port.';

create table vessel (
  id            integer generated always as identity primary key,
  name          text not null,
  imo_number    char(7) not null unique check (imo_number ~ '^[0-9]{7}$'),
  flag          char(2) not null,
  kind          vessel_kind not null,
  gross_tonnage numeric(10,2) not null check (gross_tonnage > 0),
  built_on      date,
  agent_id      integer references agent,
  tags          text[] not null default '{}',
  particulars   jsonb not null default '{}',
  internal_note text
);
comment on table vessel is 'Vessels that have called or are expected to call.';
comment on column vessel.imo_number is 'Seven digits, unique for each hull.';
comment on column vessel.flag is 'Flag state, two letters.';
comment on column vessel.agent_id is 'The agent who acts for the vessel.';
comment on column vessel.particulars is 'Free-form technical data.';
comment on column vessel.internal_note is 'For the harbour office alone.';
create index on vessel (agent_id);

create table berth (
  code          text primary key,
  quay          text not null,
  length_m      numeric(6,1) not null check (length_m > 0),
  max_draught_m numeric(4,2) not null check (max_draught_m > 0),
  shore_power   boolean not null default false
);
comment on table berth is 'Places where a vessel can lie.';
comment on column berth.length_m is 'Usable length in metres.';
comment on column berth.max_draught_m is 'Deepest draught in metres at low water.';

create table port_call (
  id          integer generated always as identity primary key,
  vessel_id   integer not null references vessel,
  berth_code  text references berth,
  status      call_status not null default 'expected',
  eta         timestamptz not null,
  etd         timestamptz,
  arrived_at  timestamptz,
  departed_at timestamptz,
  draught_m   numeric(4,2) not null check (draught_m > 0),
  hazardous   boolean not null default false,
  remarks     text,
  created_at  timestamptz not null default now(),
  updated_at  timestamptz not null default now(),
  check (departed_at >= arrived_at)
);
comment on table port_call is 'One visit of one vessel, from notice to departure.';
comment on column port_call.berth_code is 'Where it lies or will lie; empty until a berth is given.';
comment on column port_call.eta is 'Expected arrival.';
comment on column port_call.etd is 'Expected departure.';
comment on column port_call.draught_m is 'Draught on arrival in metres.';
comment on column port_call.hazardous is 'Whether dangerous goods are on board.';
comment on column port_call.remarks is 'Notes of the harbour office.';
create index on port_call (vessel_id);
create index on port_call (berth_code);
create index on port_call (status, eta, id);
create index on port_call (eta, id);

create table pilot (
  id        uuid primary key default gen_random_uuid(),
  name      text not null,
  licence   text not null unique,
  class     smallint not null check (class between 1 and 4),
  on_duty   boolean not null default true,
  mentor_id uuid references pilot
);
comment on table pilot is 'Pilots of the port.';
comment on column pilot.class is 'Licence class, 1 for every vessel to 4 for the smallest.';
comment on column pilot.mentor_id is 'The pilot who trains this one.';
create index on pilot (mentor_id);

create table pilotage (
  port_call_id integer not null references port_call,
  pilot_id     uuid not null references pilot,
  direction    pilot_direction not null,
  boarded_at   timestamptz,
  primary key (port_call_id, pilot_id, direction)
);
comment on table pilotage is 'Which pilot brings a call in or out.';
comment on column pilotage.boarded_at is 'When the pilot came aboard.';
create index on pilotage (pilot_id);

create table tug (
  id             integer generated always as identity primary key,
  name           text not null unique,
  bollard_pull_t numeric(5,1) not null check (bollard_pull_t > 0)
);
comment on table tug is 'Tugs stationed in the port.';
comment on column tug.bollard_pull_t is 'Pull in tonnes.';

create table port_call_tug (
  port_call_id integer not null references port_call,
  tug_id       integer not null references tug,
  primary key (port_call_id, tug_id)
);
comment on table port_call_tug is 'Which tugs helped with which call.';
create index on port_call_tug (tug_id);

create table cargo_item (
  id              integer generated always as identity primary key,
  port_call_id    integer not null references port_call,
  description     text not null,
  hs_code         char(6) not null check (hs_code ~ '^[0-9]{6}$'),
  tonnes          numeric(12,3) not null check (tonnes >= 0),
  dangerous_class text,
  stowage         int4range
);
comment on table cargo_item is 'What a call loads or lands.';
comment on column cargo_item.hs_code is 'Tariff code, six digits.';
comment on column cargo_item.dangerous_class is 'Class of dangerous goods; empty for harmless ones.';
comment on column cargo_item.stowage is 'Frames of the hold that it takes up.';
create index on cargo_item (port_call_id);

create table inspection (
  id           integer generated always as identity primary key,
  port_call_id integer not null references port_call,
  inspector    text not null,
  held_at      timestamptz not null,
  passed       boolean not null,
  findings     jsonb not null default '[]',
  took         interval
);
comment on table inspection is 'Inspections on board.';
comment on column inspection.took is 'How long it lasted.';
create index on inspection (port_call_id);

create table due (
  port_call_id integer primary key references port_call,
  amount       numeric(12,2) not null check (amount >= 0),
  currency     char(3) not null default 'EUR',
  paid_at      timestamptz,
  receipt      bytea
);
comment on table due is 'What a call owes the port.';
comment on column due.receipt is 'Signature of the receipt.';

create table tide_reading (
  station  text not null,
  read_at  timestamptz not null,
  height_m double precision not null,
  primary key (station, read_at)
);
comment on table tide_reading is 'Water level at the gauges.';
comment on column tide_reading.height_m is 'Metres above chart datum.';
create index on tide_reading (read_at);

create table weather_log (
  taken_at timestamptz not null,
  wind_kn  real,
  note     text
);
comment on table weather_log is 'The watch''s notes on the weather; has no key.';

create view berth_occupancy as
  select b.code as berth_code, b.quay, v.name as vessel_name, p.id as port_call_id, p.arrived_at as since
  from berth b
  left join port_call p on p.berth_code = b.code and p.status = 'alongside'
  left join vessel v on v.id = p.vessel_id;
comment on view berth_occupancy is 'Who lies where now.';

create materialized view monthly_traffic as
  select date_trunc('month', p.arrived_at at time zone 'UTC')::date as month, v.kind,
         count(distinct p.id)::integer as calls, coalesce(sum(c.tonnes), 0)::numeric(14,3) as tonnes
  from port_call p
  join vessel v on v.id = p.vessel_id
  left join cargo_item c on c.port_call_id = p.id
  where p.arrived_at is not null
  group by 1, 2
with no data;
comment on materialized view monthly_traffic is 'Calls and tonnes for each month and kind of vessel.';
create unique index on monthly_traffic (month, kind);
