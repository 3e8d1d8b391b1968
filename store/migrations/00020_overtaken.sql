-- +goose Up
-- An output that takes the place of what has its name must not take that of a later run's: those are found by their names.
alter table deliveries add column if not exists replaces boolean not null default false;
comment on column deliveries.replaces is 'it takes the place of what has its name where it goes';
create index if not exists deliveries_replacing on deliveries (md5(folder || '/' || name), run) where replaces;

-- +goose Down
drop index deliveries_replacing;
alter table deliveries drop column replaces;
