-- Where a suite's files come from in version control: address, branch, folder; and what is wrong with it, if something is.
alter table suites add column git jsonb;
alter table suites add column trouble text;

-- A run of version control is pinned to a commit when its files are fetched; until then it has no source.
alter table runs alter column source drop not null;
alter table runs add column git jsonb;
alter table runs add column branch text;
alter table runs add column commit text;
-- What started it: see `kesmo_core::plan::brief::Origin`.
alter table runs add column origin jsonb not null default '{"kind": "call"}';
alter table runs add column brief text;
alter table runs add column schedule_id bigint;
-- The brief that is to follow it; null once that is done.
alter table runs add column follow jsonb;
-- The first run of its chain.
alter table runs add column chain bigint;
-- A rule or a person, through any service, wants it stopped, and why.
alter table runs add column stop_asked text;
-- Its place in the queue among runs that wait, where it was moved; else it stands by its id.
alter table runs add column rank double precision;
create index runs_follow on runs (id) where follow is not null and phase = 'finished';
create index runs_chain on runs (chain) where chain is not null;
create index runs_schedule on runs (schedule_id, id) where schedule_id is not null;

-- Which service carries out the runs of a pool.
create table leases (
    pool    text primary key,
    service text not null,
    address text not null,
    until   timestamptz not null
);

create table briefs (
    name       text primary key,
    brief      jsonb not null,
    made_by    text not null,
    made_at    timestamptz not null default now(),
    changed_at timestamptz not null default now()
);

create table schedules (
    id       bigint generated always as identity primary key,
    name     text not null unique,
    -- One of both.
    brief    text,
    suite    text,
    changes  jsonb not null,
    times    jsonb not null,
    paused   boolean not null default false,
    -- The next planned start that nothing was done about; null if there is none, or not before a run is over.
    next_at  timestamptz,
    -- Its latest run.
    run_id   bigint references runs on delete set null,
    made_by  text not null,
    made_at  timestamptz not null default now(),
    check ((brief is null) <> (suite is null))
);
create index schedules_due on schedules (next_at) where not paused and next_at is not null;

-- What became of every planned start.
create table planned_starts (
    id          bigint generated always as identity primary key,
    schedule_id bigint not null references schedules on delete cascade,
    planned_at  timestamptz not null,
    -- The last of several that were missed in a row, and how many they are.
    to_at       timestamptz not null,
    count       integer not null,
    what        text not null check (what in ('started', 'waiting', 'skipped', 'missed', 'refused')),
    why         text not null,
    run_id      bigint references runs on delete set null,
    at          timestamptz not null default now(),
    unique (schedule_id, planned_at)
);
create index planned_starts_waiting on planned_starts (schedule_id) where what = 'waiting';

create table call_ins (
    id         bigint generated always as identity primary key,
    name       text not null unique,
    brief      text not null,
    secret     bytea not null,
    takes      text[] not null,
    whens      text[] not null,
    per_minute integer not null,
    paused     boolean not null default false,
    made_by    text not null,
    made_at    timestamptz not null default now()
);

-- Every delivery with what it did. One that was sent again by hand names the first.
create table deliveries (
    id           bigint generated always as identity primary key,
    call_in_id   bigint not null references call_ins on delete cascade,
    webhook_id   text not null,
    event        text,
    again_of     bigint,
    genuine      boolean not null,
    at           timestamptz not null default now(),
    content_type text not null,
    event_headers jsonb not null,
    body         bytea not null,
    did          text not null check (did in ('started', 'passed over', 'refused')),
    why          text not null,
    run_id       bigint references runs on delete set null
);
create unique index deliveries_once on deliveries (call_in_id, webhook_id) where genuine and again_of is null;
create unique index deliveries_event_once on deliveries (call_in_id, event) where genuine and again_of is null and event is not null;
create index deliveries_latest on deliveries (call_in_id, id);

-- Branches that are looked at for new commits.
create table watches (
    id        bigint generated always as identity primary key,
    suite_id  bigint not null references suites on delete cascade,
    branches  text not null,
    look_us   bigint not null,
    brief     text,
    looked_at timestamptz,
    next_look timestamptz not null,
    -- Looks that failed in a row, and the last reason.
    failures  integer not null default 0,
    trouble   text,
    made_by   text not null,
    made_at   timestamptz not null default now(),
    unique (suite_id, branches)
);
-- Every head that was seen, with the run that was started for it; none where it was there when the watch was made.
create table watch_heads (
    watch_id bigint not null references watches on delete cascade,
    branch   text not null,
    commit   text not null,
    seen_at  timestamptz not null default now(),
    run_id   bigint references runs on delete set null,
    primary key (watch_id, branch, commit)
);
create index schedules_open on schedules (id) where next_at is null and not paused;
create index runs_brief on runs (brief, id) where brief is not null;
create index planned_starts_at on planned_starts (planned_at);
