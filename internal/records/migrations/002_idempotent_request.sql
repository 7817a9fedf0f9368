-- +goose Up
-- What was answered to requests that carry an Idempotency-Key. A row is here only if the answer and the transaction that made it
-- are known: whether that transaction was committed, the database that was written to can say.
create table idempotent_request (
  api         text not null,
  caller      text not null,
  key         text not null,
  fingerprint bytea not null,
  transaction text,
  settled     boolean not null default false,
  status      integer,
  header      jsonb,
  body        bytea,
  created_at  timestamptz not null default now(),
  primary key (api, caller, key)
);
create index on idempotent_request (created_at);
