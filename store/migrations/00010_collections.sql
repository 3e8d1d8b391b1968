-- +goose Up
-- Several files can be worked on together, in one run.
alter table pickups
    drop constraint pickups_state_check,
    add constraint pickups_state_check check (state in ('claimed', 'taken', 'committed', 'delivered', 'rejected', 'set aside', 'held', 'uncertain', 'withdrawn')),
    add together boolean not null default false;
comment on column pickups.together is 'it was claimed together with others: before they have a run, it does not go on without them';

drop index pickups_notable;
create index pickups_notable on pickups (state, id desc) where state in ('rejected', 'set aside', 'held', 'uncertain', 'withdrawn');

alter table runs
    add files   integer not null default 1,
    add key     text not null default '',
    add missing text not null default '',
    add refused boolean not null default false,
    add late_of bigint not null default 0,
    add branches jsonb not null default '[]';
comment on column runs.branches is 'of how many records each branch has made something, where a route has several';
comment on column runs.files is 'how many pickups it is of';
comment on column runs.key is 'what they have in common';
comment on column runs.missing is 'without what they go on that was waited for';
comment on column runs.refused is 'and are rejected, as the route says';
comment on column runs.late_of is 'the pickup with which those went on before that they were waited for with';

alter table run_pickups
    add part       text not null default 'read' check (part in ('read', 'table', 'marker', 'older')),
    add records_in bigint,
    add good       bigint,
    add rejected   bigint,
    add filtered   bigint,
    add whole      boolean,
    add reason     text;
comment on column run_pickups.part is 'table: the others look codes up in it; marker: its coming completed the others; older: a newer one was taken instead; these are not read';
comment on column run_pickups.records_in is 'of a run of several files, what became of this one; null: the run says it';

alter table rejects add file integer not null default 1;
comment on column rejects.file is 'of the files of the run, by run_pickups.ord';

create table collections (
    route    text not null,
    key      text not null,
    began_at timestamptz not null default now(),
    late_of  bigint,
    ended_at timestamptz,
    missing  text not null default '',
    pickup   bigint,
    primary key (route, key)
);
comment on table collections is 'files that wait for others, and those that went on lately';
comment on column collections.began_at is 'when the first file had come';
comment on column collections.late_of is 'the pickup with which those went on that had the same key, without what was missing';
comment on column collections.ended_at is 'when they went on; null: they wait';

create table lookup_versions (
    name    text not null,
    version integer not null,
    at      timestamptz not null default now(),
    sha256  text not null,
    rows    bigint not null,
    content text not null,
    route   text not null,
    run     bigint not null,
    primary key (name, version)
);
comment on table lookup_versions is 'contents of lookups that routes have delivered';

create table run_lookups (
    run     bigint not null,
    name    text not null,
    version integer not null,
    primary key (run, name)
);
comment on table run_lookups is 'the contents that runs have worked with';
create index run_lookups_by_version on run_lookups (name, version);

-- +goose Down
drop table run_lookups, lookup_versions;
drop table collections;
alter table rejects drop column file;
alter table run_pickups drop column part, drop column records_in, drop column good, drop column rejected, drop column filtered, drop column whole, drop column reason;
alter table runs drop column files, drop column key, drop column missing, drop column refused, drop column late_of, drop column branches;
update pickups set state = 'withdrawn' where state = 'set aside';
alter table pickups drop column together, drop constraint pickups_state_check,
    add constraint pickups_state_check check (state in ('claimed', 'taken', 'committed', 'delivered', 'rejected', 'held', 'uncertain', 'withdrawn'));
drop index pickups_notable;
create index pickups_notable on pickups (state, id desc) where state in ('rejected', 'held', 'uncertain', 'withdrawn');
