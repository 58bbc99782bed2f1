-- Pools that were described, and the machines that were started for them.
create table pools (
    name       text primary key,
    pool       jsonb not null,
    -- What its requests need of a secret; never told again.
    secret     text,
    -- What is started for it carries this mark, so that it is found again and not taken for another service's.
    mark       text not null,
    -- It is removed once none of its machines is left.
    leaving    boolean not null default false,
    made_by    text not null,
    made_at    timestamptz not null default now(),
    changed_at timestamptz not null default now()
);

create table machines (
    id         bigint generated always as identity primary key,
    pool       text not null,
    name       text not null unique,
    -- The run that it was asked for, where it was one.
    run_id     bigint references runs on delete set null,
    state      text not null,
    -- What is known of it, in words.
    said       text not null default '',
    -- What it is called by whoever runs it, and where a person looks at it.
    handle     text,
    link       text,
    -- What its worker shows: good until the machine has ended.
    token      bytea,
    -- What it printed, once it has ended.
    log        text,
    asked_at   timestamptz not null default now(),
    up_at      timestamptz,
    ended_at   timestamptz
);
create index machines_pool on machines (pool, id);
create index machines_run on machines (run_id) where run_id is not null;
create index machines_open on machines (pool) where ended_at is null;
create unique index machines_token on machines (token) where token is not null;
