create table tokens (
    name         text primary key,
    hash         bytea not null unique,
    role         text not null check (role in ('reader', 'operator', 'keeper', 'worker')),
    created_at   timestamptz not null default now(),
    last_used_at timestamptz
);

-- A bundle of a suite's files, named by its SHA-256; the files themselves are a blob.
create table sources (
    digest     text primary key,
    suite_file text not null,
    added_at   timestamptz not null default now()
);

create table suites (
    id       bigint generated always as identity primary key,
    slug     text not null unique,
    about    text not null,
    source   text not null references sources,
    added_at timestamptz not null default now(),
    -- Numbers its runs.
    last_run integer not null default 0,
    removed  boolean not null default false
);

-- What a list command printed, read: one row for each source, variant, command and environment.
create table listings (
    key       text primary key,
    tests     jsonb not null,
    listed_at timestamptz not null default now()
);

create table runs (
    id          bigint generated always as identity primary key,
    suite_id    bigint not null references suites,
    number      integer not null,
    source      text not null references sources,
    pool        text not null,
    options     jsonb not null,
    labels      jsonb not null,
    seed        bigint not null,
    started_by  text not null,
    phase       text not null default 'queued' check (phase in ('queued', 'listing', 'running', 'finished')),
    verdict     text check (verdict in ('stopped', 'void', 'failed', 'passed')),
    reason      text not null default '',
    -- One for each variant, in order; set when all are known.
    listings    text[] not null default '{}',
    listed      integer not null default 0,
    tally       jsonb not null default '{}',
    stats       jsonb not null default '{}',
    strip       text not null default '',
    created_at  timestamptz not null default now(),
    began_at    timestamptz,
    finished_at timestamptz,
    unique (suite_id, number),
    check ((phase = 'finished') = (verdict is not null))
);
create index runs_unfinished on runs (id) where phase <> 'finished';
create index runs_labels on runs using gin (labels);

create table run_notes (
    id     bigint generated always as identity primary key,
    run_id bigint not null references runs on delete cascade,
    at     timestamptz not null default now(),
    text   text not null
);
create index run_notes_run on run_notes (run_id, id);

create table batches (
    run_id     bigint not null references runs on delete cascade,
    number     integer not null,
    worker     text not null,
    slot       integer not null,
    -- The entries' numbers in the order in which they run.
    entries    jsonb not null,
    granted_at timestamptz not null,
    open       boolean not null default true,
    primary key (run_id, number)
);
create index batches_open on batches (run_id) where open;

-- Parted by the month in which the run was made, so that old attempts can be dropped whole.
create table attempts (
    month     date not null,
    run_id    bigint not null,
    entry     integer not null,
    number    integer not null,
    batch     integer not null,
    worker    text not null,
    slot      integer not null,
    began_at  timestamptz not null,
    spent_us  bigint not null,
    ended     text not null,
    -- The entry's outcome, on the attempt that decided it.
    decided   text,
    message   text not null,
    detail    text not null,
    steps     jsonb not null,
    log       text not null,
    log_blob  text,
    log_bytes bigint not null,
    primary key (run_id, entry, number, month)
) partition by range (month);

create table artifacts (
    id      bigint generated always as identity primary key,
    run_id  bigint not null references runs on delete cascade,
    -- Null for a file of the run as a whole.
    entry   integer,
    batch   integer not null,
    path    text not null,
    about   text not null,
    digest  text not null,
    bytes   bigint not null,
    unique nulls not distinct (run_id, batch, entry, path)
);

-- What history says of a test in a variant.
create table records (
    suite_id  bigint not null references suites on delete cascade,
    test      text not null,
    variant   text not null,
    samples   integer not null,
    mean_us   double precision not null,
    deviation_us double precision not null,
    passed    integer not null,
    flaky     integer not null,
    failed    integer not null,
    skipped   integer not null,
    last      text,
    primary key (suite_id, test, variant)
);
