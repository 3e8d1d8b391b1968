-- +goose Up
-- Pickups are found by the name of what they have become.
create index deliveries_by_name on deliveries (name text_pattern_ops) where kind in ('good', 'rejected');

-- +goose Down
drop index deliveries_by_name;
