-- How long files are cut in a run, so that its plan can be made again.
create table run_cuts (
    run_id bigint primary key references runs on delete cascade,
    cuts   jsonb not null
);

-- A file that was cut is one result of several entries, which follow each other: the first of them (none: the result's own entry),
-- and how many. 0 parts: only some cases of the file ran.
alter table results add column first integer;
alter table results add column parts smallint not null default 1;
