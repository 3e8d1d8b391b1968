-- +goose Up
-- What waits to go into the index is put there by whoever adds to it when it is full:
-- little and often, so that nobody waits long.
-- +goose StatementBegin
do $$
begin
    if to_regclass('pickups_by_name') is not null then
        alter index pickups_by_name set (gin_pending_list_limit = 64);
    end if;
end $$;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
do $$
begin
    if to_regclass('pickups_by_name') is not null then
        alter index pickups_by_name set (gin_pending_list_limit = 4096);
    end if;
end $$;
-- +goose StatementEnd
