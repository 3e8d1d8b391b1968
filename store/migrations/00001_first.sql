-- +goose Up
create table routes (
    name       text primary key,
    revision   text not null,
    running    boolean not null default false,
    sequence   bigint not null default 1,
    changed_at timestamptz not null default now()
);
comment on column routes.sequence is 'the next number that has not been handed out';

create table revisions (
    hash         text not null,
    route        text not null,
    number       integer not null,
    published_at timestamptz not null default now(),
    primary key (route, hash),
    unique (route, number)
);

create table revision_files (
    route   text not null,
    hash    text not null,
    name    text not null,
    content bytea not null,
    primary key (route, hash, name),
    foreign key (route, hash) references revisions (route, hash)
);

create table pickups (
    id         bigint generated always as identity primary key,
    route      text not null,
    path       text not null,
    folder     text not null,
    name       text not null,
    size       bigint not null,
    modified   timestamptz not null,
    device     numeric(20) not null,
    inode      numeric(20) not null,
    sha256     text,
    state      text not null check (state in ('claimed', 'taken', 'committed', 'delivered', 'rejected', 'held', 'withdrawn')),
    reason     text not null default '',
    run        bigint,
    noticed_at timestamptz not null,
    claimed_at timestamptz not null default now(),
    taken_at   timestamptz,
    ended_at   timestamptz
);
comment on column pickups.run is 'the latest run';
create unique index pickups_claimed on pickups (route, path, device, inode, size, modified) where state = 'claimed';
create index pickups_open on pickups (id) where state in ('claimed', 'taken', 'committed', 'held');
create index pickups_by_route on pickups (route, id desc);
create index pickups_by_state on pickups (state, id desc);
create index pickups_by_time on pickups (claimed_at desc);
create index pickups_by_content on pickups (sha256);

create table runs (
    id           bigint generated always as identity primary key,
    route        text not null,
    revision     text not null,
    state        text not null check (state in ('working', 'committed', 'published', 'failed')),
    reason       text not null default '',
    again        boolean not null default false,
    facts_now    timestamptz not null,
    started_at   timestamptz not null default now(),
    committed_at timestamptz,
    ended_at     timestamptz,
    records_in   bigint not null default 0,
    good         bigint not null default 0,
    rejected     bigint not null default 0,
    filtered     bigint not null default 0,
    warnings     bigint not null default 0,
    bytes        bigint not null default 0,
    whole        boolean not null default false,
    findings     jsonb not null default '[]'
);
comment on column runs.whole is 'the file was rejected as a whole';
comment on column runs.facts_now is 'the time that maps see as now';
create index runs_by_route on runs (route, id desc);

create table run_pickups (
    run    bigint not null references runs (id),
    pickup bigint not null references pickups (id),
    ord    integer not null,
    primary key (run, ord)
);
create index run_pickups_by_pickup on run_pickups (pickup);

create table run_sequences (
    run   bigint not null references runs (id),
    ord   integer not null,
    first bigint not null,
    count bigint not null,
    primary key (run, ord)
);

create table deliveries (
    run          bigint not null references runs (id),
    ord          integer not null,
    kind         text not null check (kind in ('good', 'rejected', 'findings', 'report')),
    folder       text not null,
    name         text not null,
    temporary    text not null,
    size         bigint not null,
    sha256       text not null,
    records      bigint not null,
    first_record bigint not null,
    published_at timestamptz,
    primary key (run, ord)
);
create index deliveries_open on deliveries (run) where published_at is null;

create table rejects (
    run      bigint not null references runs (id),
    record   bigint not null,
    line     bigint not null,
    raw      bytea not null,
    findings jsonb not null,
    primary key (run, record)
);

-- +goose Down
drop table rejects, deliveries, run_sequences, run_pickups, runs, pickups, revision_files, revisions, routes;
