-- +goose Up
create table acts (
    id       bigint generated always as identity primary key,
    at       timestamptz not null default now(),
    route    text not null,
    pickup   bigint,
    what     text not null,
    by_whom  text not null default '',
    because  text not null default ''
);
comment on table acts is 'what people did to routes and pickups: who, when and why';
create index acts_by_route on acts (route, id desc);
create index acts_by_pickup on acts (pickup) where pickup is not null;

alter table routes add removed_at timestamptz;
comment on column routes.removed_at is 'not listed and not led any more; what is known of its pickups stays';

-- +goose Down
delete from routes where removed_at is not null;
alter table routes drop column removed_at;
drop table acts;
