-- +goose Up
-- Names on servers need not be UTF-8.
alter table fetches add column raw_path bytea;
comment on column fetches.raw_path is 'the path itself, where the database cannot keep it as text';
drop index if exists fetches_open;
create unique index fetches_open on fetches (route, place, path, coalesce(raw_path, '')) where state in ('claimed', 'fetched', 'placed');
drop index if exists fetches_known;
create unique index fetches_known on fetches (route, place, path, coalesce(raw_path, '')) where state = 'known';

-- What was left on a server and is known is forgotten when it has been gone from there for long.
alter table fetches add column gone_at timestamptz;
comment on column fetches.gone_at is 'since when what is known is not on its server any more';
create index fetches_gone on fetches (gone_at) where gone_at is not null;

-- +goose Down
delete from fetches where raw_path is not null;
drop index if exists fetches_open;
create unique index fetches_open on fetches (route, place, path) where state in ('claimed', 'fetched', 'placed');
drop index if exists fetches_known;
create unique index fetches_known on fetches (route, place, path) where state = 'known';
alter table fetches drop column gone_at, drop column raw_path;
