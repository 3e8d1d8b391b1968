-- +goose Up
-- Whether a route has had a content before is asked for each file. With the route in it, no other index can look
-- cheaper, whatever the database has counted so far, and what other routes have had is not gone through.
drop index pickups_by_content;
create index pickups_by_content on pickups (sha256, route, id) where sha256 is not null;

-- +goose Down
drop index pickups_by_content;
create index pickups_by_content on pickups (sha256, id) where sha256 is not null;
