-- +goose Up
-- Names wait for their index in a list, and go into it together, which costs a fraction of what it costs to do it in small portions.
-- Services empty the list each second while files come: no commit waits for that, unless the list grows to four megabytes before.
-- A run is written when it begins, when it is committed and when it ends: while a page has room for the next version, the indexes
-- need not be written again.
-- +goose StatementBegin
do $$
begin
    if to_regclass('pickups_by_name') is not null then
        alter index pickups_by_name set (gin_pending_list_limit = 4096);
    end if;
end $$;
-- +goose StatementEnd
alter table runs set (fillfactor = 50);

-- +goose Down
alter table runs reset (fillfactor);
-- +goose StatementBegin
do $$
begin
    if to_regclass('pickups_by_name') is not null then
        alter index pickups_by_name set (gin_pending_list_limit = 64);
    end if;
end $$;
-- +goose StatementEnd
