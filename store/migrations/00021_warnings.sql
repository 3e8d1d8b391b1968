-- +goose Up
-- How many warnings there are about each file of a run of several; null: the run says it.
alter table run_pickups add warnings bigint;

-- +goose Down
alter table run_pickups drop column warnings;
