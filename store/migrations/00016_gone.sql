-- +goose Up
-- What was left on a server and is known is forgotten when it has been gone from there for long.
alter table fetches add column gone_at timestamptz;
comment on column fetches.gone_at is 'since when what is known is not on its server any more';
create index fetches_gone on fetches (gone_at) where gone_at is not null;

-- +goose Down
alter table fetches drop column gone_at;
