-- +goose Up
-- Numbers are given out in order and become visible when their transactions end, in any order.
-- Who follows a list by its numbers must wait for those that are under way: a transaction that
-- is about to take numbers marks the last one that was given out before.

-- +goose StatementBegin
create function numbers_under_way() returns trigger language plpgsql as $$
declare
    last bigint;
begin
    execute format('select case when is_called then last_value else last_value - 1 end from %s', tg_argv[0]) into last;
    perform pg_advisory_xact_lock_shared(tg_argv[1]::int, (last % 2147483648)::int);
    return null;
end $$;
-- +goose StatementEnd

-- +goose StatementBegin
create function numbers_settled(sequence text, class int) returns bigint language plpgsql as $$
declare
    last bigint;
    waits bigint;
begin
    -- In this order: whoever takes a number that is not greater than last has marked it by now.
    execute format('select case when is_called then last_value else last_value - 1 end from %s', sequence) into last;
    -- Marks are kept in 31 bits; one beyond last holds nothing up.
    select max(behind) into waits from (
        select ((last - objid::bigint) % 2147483648 + 2147483648) % 2147483648 as behind
            from pg_locks
            where locktype = 'advisory' and classid = class::oid and objsubid = 2
                and database = (select oid from pg_database where datname = current_database())) as marks
        where behind < 1073741824;
    return last - coalesce(waits, 0);
end $$;
-- +goose StatementEnd

comment on function numbers_settled is 'no number up to this one is still to become visible';

create trigger numbers_under_way before insert on pickups
    for each statement execute function numbers_under_way('pickups_id_seq', '2026112801');
create trigger numbers_under_way before insert on alerts
    for each statement execute function numbers_under_way('alerts_id_seq', '2026112802');

-- +goose Down
drop trigger numbers_under_way on alerts;
drop trigger numbers_under_way on pickups;
drop function numbers_settled;
drop function numbers_under_way;
