-- +goose Up
-- Rows that went into a record with others: in = good + rejected + filtered + merged.
alter table runs add merged bigint not null default 0;
alter table run_pickups add merged bigint;
alter table tallies add merged bigint not null default 0;
alter table runs drop constraint runs_balance;
alter table runs add constraint runs_balance check (state not in ('committed', 'published') or records_in = good + rejected + filtered + merged) not valid;

-- +goose Down
alter table runs drop constraint runs_balance;
update runs set records_in = records_in - merged where merged > 0;
alter table runs add constraint runs_balance check (state not in ('committed', 'published') or records_in = good + rejected + filtered) not valid;
alter table runs drop column merged;
alter table run_pickups drop column merged;
alter table tallies drop column merged;
