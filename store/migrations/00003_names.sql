-- +goose Up
-- Finding pickups by a part of their names. Where the extension is not there or may not
-- be made, finding goes through all of them: slower, but the same.
-- +goose StatementBegin
do $$
begin
    create extension if not exists pg_trgm;
    create index pickups_by_name on pickups using gin (name gin_trgm_ops) with (fastupdate = on, gin_pending_list_limit = 4096);
exception when others then
    raise notice 'names are not indexed: %', sqlerrm;
end
$$;
-- +goose StatementEnd

-- +goose Down
drop index if exists pickups_by_name;
