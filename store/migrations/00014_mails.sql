-- +goose Up
alter table pickups add mail jsonb;
comment on column pickups.mail is 'what the mail says of itself that it was attached to: from, to, subject, id, date';

alter table deliveries add said jsonb;
comment on column deliveries.said is 'what goes with it where it is sent: addresses, subject, texts, headers';

-- +goose Down
alter table deliveries drop column said;
alter table pickups drop column mail;
