-- +goose Up
-- A large object is sent in parts, and gone on with behind a restart.
alter table deliveries add column upload text not null default '';
comment on column deliveries.upload is 'as what an object store knows the parts that it has; empty: it has none';

-- +goose Down
alter table deliveries drop column upload;
