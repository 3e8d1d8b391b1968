-- +goose Up
create table nodes (
    id          bigint generated always as identity primary key,
    name        text not null,
    address     text not null default '',
    began_at    timestamptz not null default now(),
    lease_until timestamptz not null,
    ended_at    timestamptz
);
comment on table nodes is 'services that work with this database; a service that has lost its connection comes back as another';
create index nodes_open on nodes (id) where ended_at is null;

alter table routes
    add leader       bigint,
    add paused_until timestamptz,
    add due_at       timestamptz,
    add asked_at     timestamptz;
comment on column routes.leader is 'the node that listens for the route and works on its pickups';
comment on column routes.paused_until is 'files are noticed but not taken until then';
comment on column routes.due_at is 'the latest moment of its timetable that has been kept';
comment on column routes.asked_at is 'when somebody last asked to take what is there';

alter table pickups
    drop constraint pickups_state_check,
    add constraint pickups_state_check check (state in ('claimed', 'taken', 'committed', 'delivered', 'rejected', 'held', 'uncertain', 'withdrawn')),
    add node         bigint not null default 0,
    add lane         text,
    add business_key text,
    add event        text not null default 'arrived' check (event in ('arrived', 'changed', 'gone')),
    add origin       text not null default 'inbox' check (origin in ('inbox', 'left', 'handed')),
    add handed_by    text not null default '',
    add tries        integer not null default 0,
    add next_try     timestamptz,
    add passed       boolean not null default false,
    add admitted     boolean not null default false,
    add archived     boolean not null default true;
comment on column pickups.next_try is 'of a held one: when it is tried again; null: it waits for a person';
comment on column pickups.passed is 'somebody let those behind it in its lane pass';
comment on column pickups.admitted is 'somebody said that it is not a duplicate';
comment on column pickups.archived is 'whether its original is still kept';

drop index pickups_open, pickups_by_state, pickups_by_time, pickups_by_content;
create index pickups_open on pickups (route, id) where state in ('claimed', 'taken', 'committed', 'held', 'uncertain');
create index pickups_notable on pickups (state, id desc) where state in ('rejected', 'held', 'uncertain', 'withdrawn');
create index pickups_by_time on pickups using brin (claimed_at) with (pages_per_range = 16);
create index pickups_by_content on pickups (sha256, id) where sha256 is not null;
create index pickups_by_key on pickups (route, business_key, id) where business_key is not null;
create index pickups_by_lane on pickups (route, lane, id desc) where lane is not null;

alter table runs
    add same_as bigint,
    add constraint runs_balance check (state not in ('committed', 'published') or records_in = good + rejected + filtered);
comment on column runs.same_as is 'the run whose time and sequence numbers it repeats';

alter table deliveries
    add output integer not null default 0,
    add state  text not null default 'open' check (state in ('open', 'published', 'uncertain', 'abandoned')),
    add reason text not null default '';
update deliveries set state = 'published' where published_at is not null;
drop index deliveries_open;
create index deliveries_open on deliveries (run, ord) where state in ('open', 'uncertain');

create table news (
    route   text primary key,
    content jsonb not null
);
comment on table news is 'what the leader of a route sees at the moment: for the other nodes';

create table tallies (
    route      text not null,
    quarter    timestamptz not null,
    pickups    bigint not null default 0,
    records_in bigint not null default 0,
    good       bigint not null default 0,
    rejected   bigint not null default 0,
    filtered   bigint not null default 0,
    whole      bigint not null default 0,
    primary key (route, quarter)
) with (fillfactor = 50);
comment on table tallies is 'what each route did in each quarter of an hour';
insert into tallies select p.route, date_bin('15 minutes', p.claimed_at, 'epoch'), count(*), coalesce(sum(r.records_in), 0), coalesce(sum(r.good), 0), coalesce(sum(r.rejected), 0), coalesce(sum(r.filtered), 0), count(*) filter (where r.whole)
    from pickups p left join runs r on r.id = p.run where p.state <> 'withdrawn' group by 1, 2;

create table left_files (
    route    text not null,
    path     text not null,
    folder   text not null,
    size     bigint not null,
    modified timestamptz not null,
    device   numeric(20) not null,
    inode    numeric(20) not null,
    sha256   text not null,
    primary key (route, path)
);
comment on table left_files is 'files that were picked up and left where they are';

create table expected (
    route   text not null,
    name    text not null,
    due_at  timestamptz not null,
    state   text not null check (state in ('met', 'missing', 'late')),
    seen    integer not null,
    wanted  text not null,
    primary key (route, name, due_at)
);
create index expected_by_time on expected (due_at desc);

create table alerts (
    id      bigint generated always as identity primary key,
    at      timestamptz not null default now(),
    kind    text not null,
    route   text not null default '',
    pickup  bigint not null default 0,
    about   text not null,
    message text not null,
    seen_at timestamptz,
    seen_by text not null default '',
    ended_at timestamptz
);
comment on column alerts.about is 'what it is about; while one is open, the same is not told again';
create unique index alerts_open on alerts (kind, about) where ended_at is null;
create index alerts_by_route on alerts (route, id desc);

create table messages (
    alert    bigint not null references alerts (id) on delete cascade,
    channel  text not null,
    tries    integer not null default 0,
    next_try timestamptz not null default now(),
    sent_at  timestamptz,
    reason   text not null default '',
    primary key (alert, channel)
);
create index messages_open on messages (next_try) where sent_at is null;

create table legal_holds (
    id         bigint generated always as identity primary key,
    route      text not null default '',
    pickup     bigint not null default 0,
    because    text not null,
    placed_at  timestamptz not null default now(),
    lifted_at  timestamptz
);
comment on table legal_holds is 'what must not be purged, whatever the routes say';

-- +goose Down
drop table legal_holds, messages, alerts, expected, left_files, tallies, news;
alter table deliveries drop column output, drop column state, drop column reason;
alter table runs drop column same_as, drop constraint runs_balance;
alter table pickups drop column node, drop column lane, drop column business_key, drop column event, drop column origin, drop column handed_by, drop column tries, drop column next_try, drop column passed, drop column admitted, drop column archived;
alter table routes drop column leader, drop column paused_until, drop column due_at, drop column asked_at;
drop table nodes;
