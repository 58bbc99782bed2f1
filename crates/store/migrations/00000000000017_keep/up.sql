-- What is kept for how long.
create table keep_rules (
    name    text primary key,
    rule    jsonb not null,
    made_by text not null,
    made_at timestamptz not null default now()
);

-- What each sweep of what is old freed.
create table sweeps (
    id    bigint generated always as identity primary key,
    at    timestamptz not null default now(),
    freed jsonb not null
);

-- Of some runs what they printed, or left behind, was removed before they are.
alter table runs add column swept text[] not null default '{}';
create index runs_finished on runs (finished_at) where phase = 'finished';

-- Whether a file is needed is asked of every attempt.
create index attempts_log_blob on attempts (log_blob) where log_blob is not null;
