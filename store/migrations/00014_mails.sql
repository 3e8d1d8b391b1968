-- +goose Up
alter table pickups add mail jsonb;
comment on column pickups.mail is 'what the mail says of itself that it was attached to: from, to, subject, id, date';

-- +goose Down
alter table pickups drop column mail;
