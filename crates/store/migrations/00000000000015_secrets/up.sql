-- Values that runs need and nobody may read back: sealed with a key that is not kept here.
create table secrets (
    name       text primary key,
    sealed     bytea not null,
    -- Only runs of these suites or briefs are given it; with neither, any.
    suites     text[] not null,
    briefs     text[] not null,
    made_by    text not null,
    made_at    timestamptz not null default now(),
    changed_at timestamptz not null default now(),
    used_at    timestamptz
);
