-- +goose Up
alter table routes
    add version    bigint not null default 0,
    add applied    bigint not null default -1,
    add applied_by bigint not null default 0,
    add since      timestamptz not null default now();
update routes set since = changed_at;
comment on column routes.since is 'when it was started or came to its revision: moments of its timetable count from then';
comment on column routes.version is 'counts publishing, starting, stopping and pausing';
comment on column routes.applied is 'the version that the leader works by';
comment on column routes.applied_by is 'the leader that said so';

alter table expected
    drop constraint expected_state_check,
    add constraint expected_state_check check (state in ('met', 'missing', 'late', 'mismatch'));
comment on column expected.state is 'mismatch: files came, but too small or too many';

alter table runs add committed_by bigint;
comment on column runs.committed_by is 'the node whose temporaries are the outputs';

alter table deliveries
    add device numeric(20),
    add inode  numeric(20);
comment on column deliveries.device is 'with inode: the folder that held the output before it was published; only its absence there proves something';

-- A file is claimed once, also while its claim cannot be gone on with.
update pickups p set state = 'withdrawn', reason = 'another pickup of the same file is open', next_try = null, ended_at = now()
    where p.state = 'held' and p.run is null and exists (select 1 from pickups q where q.id > p.id and q.route = p.route and q.path = p.path and q.device = p.device and q.inode = p.inode and q.size = p.size and q.modified = p.modified and q.state in ('claimed', 'held') and q.run is null);
drop index pickups_claimed;
create unique index pickups_claimed on pickups (route, path, device, inode, size, modified) where state in ('claimed', 'held') and run is null;

alter table pickups add raw_path bytea;
comment on column pickups.raw_path is 'the path as it is, where it is not UTF-8; path, folder and name are readable then';
alter table left_files add raw_path bytea;

create table installation (mark text not null);
comment on table installation is 'tells the hidden files of this installation from those of others that use the same folders';
insert into installation select substr(md5(random()::text || clock_timestamp()::text), 1, 8);

-- +goose Down
drop table installation;
update expected set state = 'met' where state = 'mismatch';
alter table expected
    drop constraint expected_state_check,
    add constraint expected_state_check check (state in ('met', 'missing', 'late'));
alter table left_files drop column raw_path;
alter table pickups drop column raw_path;
drop index pickups_claimed;
create unique index pickups_claimed on pickups (route, path, device, inode, size, modified) where state = 'claimed';
alter table deliveries drop column device, drop column inode;
alter table runs drop column committed_by;
alter table routes drop column version, drop column applied, drop column applied_by, drop column since;
