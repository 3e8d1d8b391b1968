-- +goose Up
-- What is done for each group of files is done with less.

-- No statement is made for each mark.
-- +goose StatementBegin
create or replace function numbers_under_way() returns trigger language plpgsql as $$
begin
    perform pg_advisory_xact_lock_shared(tg_argv[1]::int, (coalesce(pg_sequence_last_value(tg_argv[0]::regclass), 0) % 2147483648)::int);
    return null;
end $$;
-- +goose StatementEnd

-- A file is claimed once until its run is committed: it may still lie where it came while its run has begun already.
update pickups p set device = 18446744073709551615 - p.id where p.state in ('claimed', 'taken', 'held') and (p.run is null or p.origin = 'inbox') and exists (select 1 from pickups o where o.id < p.id and o.route = p.route and o.path = p.path and o.device = p.device and o.inode = p.inode
    and o.size = p.size and o.modified = p.modified and o.event = p.event and o.state in ('claimed', 'taken', 'held') and (o.run is null or o.origin = 'inbox'));
drop index pickups_claimed;
create unique index pickups_claimed on pickups (route, path, device, inode, size, modified, event) where state in ('claimed', 'taken', 'held') and (run is null or origin = 'inbox');

-- Whether a route has had a business key before is asked for each file. Beginning with the key, no other index can look
-- cheaper, whatever the database has counted so far.
drop index pickups_by_key;
create index pickups_by_key on pickups (business_key, route, id) where business_key is not null;

-- A name goes into its index once, not with each state that its pickup has on its way. (Those on their way are few, and
-- found by pickups_open.)
-- +goose StatementBegin
do $$
begin
    if to_regclass('pickups_by_name') is not null then
        drop index pickups_by_name;
        create index pickups_by_name on pickups using gin (name gin_trgm_ops) with (fastupdate = on, gin_pending_list_limit = 64) where state not in ('claimed', 'taken', 'committed');
    end if;
end $$;
-- +goose StatementEnd

-- +goose Down
drop index pickups_claimed;
create unique index pickups_claimed on pickups (route, path, device, inode, size, modified) where state in ('claimed', 'held') and run is null;
-- +goose StatementBegin
do $$
begin
    if to_regclass('pickups_by_name') is not null then
        drop index pickups_by_name;
        create index pickups_by_name on pickups using gin (name gin_trgm_ops) with (fastupdate = on, gin_pending_list_limit = 64);
    end if;
end $$;
-- +goose StatementEnd
drop index pickups_by_key;
create index pickups_by_key on pickups (route, business_key, id) where business_key is not null;
-- +goose StatementBegin
create or replace function numbers_under_way() returns trigger language plpgsql as $$
declare
    last bigint;
begin
    execute format('select case when is_called then last_value else last_value - 1 end from %s', tg_argv[0]) into last;
    perform pg_advisory_xact_lock_shared(tg_argv[1]::int, (last % 2147483648)::int);
    return null;
end $$;
-- +goose StatementEnd
