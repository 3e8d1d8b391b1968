-- +goose Up
alter table runs add attempt integer not null default 0;
comment on column runs.attempt is 'counts commits of which nobody knew whether they got through: a late one is refused';

-- +goose Down
alter table runs drop column attempt;
