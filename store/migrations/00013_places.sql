-- +goose Up
alter table deliveries
    add tries      integer not null default 0,
    add next_try   timestamptz,
    add named_at   timestamptz,
    add receipt    text not null default '';
comment on column deliveries.tries is 'how often bringing it to its server has failed';
comment on column deliveries.named_at is 'of one that goes to a server: it lies there under a temporary name, and is about to get its own';
comment on column deliveries.receipt is 'what the server said, or shows, of it';

alter table pickups add came_from text not null default '';
comment on column pickups.came_from is 'where it was on a server, from which it was fetched';

alter table routes add holding text not null default substr(md5(random()::text || clock_timestamp()::text), 1, 12);
comment on column routes.holding is 'the folder in which what is fetched from servers for the route waits to be taken; it stays the same when the route is renamed';

create table fetches (
    id         bigint generated always as identity primary key,
    route      text not null,
    node       bigint not null,
    place      text not null,
    path       text not null,
    size       bigint not null,
    modified   timestamptz,
    tag        text not null default '',
    stays      boolean not null,
    state      text not null check (state in ('claimed', 'fetched', 'placed', 'done', 'known', 'withdrawn')),
    sha256     text not null default '',
    fetched_by bigint not null default 0,
    reason     text not null default '',
    claimed_at timestamptz not null default now(),
    ended_at   timestamptz
);
comment on table fetches is 'files that are being fetched from servers, and those that stay there and are known';
comment on column fetches.path is 'below the place';
comment on column fetches.fetched_by is 'the node that has copied it: its hidden file carries its number';
comment on column fetches.stays is 'it is left on the server';
create unique index fetches_open on fetches (route, place, path) where state in ('claimed', 'fetched', 'placed');
create unique index fetches_known on fetches (route, place, path) where state = 'known';
create index fetches_by_time on fetches (ended_at) where state in ('done', 'withdrawn');

-- +goose Down
drop table fetches;
alter table routes drop column holding;
alter table pickups drop column came_from;
alter table deliveries drop column tries, drop column next_try, drop column named_at, drop column receipt;
