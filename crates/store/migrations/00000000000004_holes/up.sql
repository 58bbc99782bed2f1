-- A path may be as long as the file system allows, which is more than an index takes: its hash is what is compared.
alter table artifacts drop constraint artifacts_run_id_batch_entry_path_key;
create unique index artifacts_once on artifacts (run_id, batch, entry, md5(path)) nulls not distinct;
create index artifacts_digest on artifacts (digest);

create index runs_suite on runs (suite_id, id desc);
-- Rows that refer to a run, for when it is removed and for what shows a run's origin.
create index planned_starts_run on planned_starts (run_id) where run_id is not null;
create index deliveries_run on deliveries (run_id) where run_id is not null;
create index watch_heads_run on watch_heads (run_id) where run_id is not null;
create index schedules_run on schedules (run_id) where run_id is not null;
create index meetings_run on meetings (run_id);

-- A remark that tells of something that fails the run, beside the tests' own results.
alter table run_notes add column fails boolean not null default false;

-- Browsers that are signed in: what is in the cookie is not the token. Ends with the token that it was made with.
create table sessions (
    hash    bytea primary key,
    token   text not null references tokens on delete cascade,
    made_at timestamptz not null default now(),
    until   timestamptz not null
);
create index sessions_token on sessions (token);

-- One row that is written to see whether PostgreSQL takes anything at all.
create table probes (
    id   integer primary key,
    text text not null,
    at   timestamptz not null
);
