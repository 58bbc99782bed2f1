-- Which requirements the tests of a suite cover: as its file and list say, or (told) as the tests told when they ran.
create table covers (
    id          bigint generated always as identity primary key,
    suite_id    bigint not null references suites on delete cascade,
    test        text not null,
    requirement text not null,
    told        boolean not null
);
-- Names may be longer than what an index takes: their hash is what is compared.
create unique index covers_once on covers (suite_id, md5(test || E'\n' || requirement), told);
create index covers_of on covers (requirement);

-- What the tests of a run told, until the run is recorded.
create table run_covers (
    run_id      bigint not null references runs on delete cascade,
    test        text not null,
    requirement text not null
);
create unique index run_covers_once on run_covers (run_id, md5(test || E'\n' || requirement));

-- The variants of a suite, as its latest run of all of them had them; none known: any.
alter table suites add column variants text[];

-- Addresses that show one thing without a sign-in: a run's report, or a badge or feed of a suite or brief.
create table shares (
    id       bigint generated always as identity primary key,
    hash     bytea not null unique,
    kind     text not null,
    run_id   bigint references runs on delete cascade,
    suite_id bigint references suites on delete cascade,
    brief    text,
    until    timestamptz,
    made_by  text not null,
    made_at  timestamptz not null default now(),
    used_at  timestamptz
);
