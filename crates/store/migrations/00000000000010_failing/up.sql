-- Tests whose latest outcome that counts is failed: by suite, branch (empty where none is known), pool and variant.
create table failing (
    id            bigint generated always as identity primary key,
    suite_id      bigint not null references suites on delete cascade,
    branch        text not null,
    pool          text not null,
    variant       text not null,
    test          text not null,
    -- The first run in which it failed since it passed last, and the latest, with the test's place in that.
    since_run     bigint not null references runs on delete cascade,
    last_run      bigint not null references runs on delete cascade,
    entry         integer not null,
    -- Runs in which it has failed since, and runs before them in which it did not.
    runs          integer not null,
    passes_before integer not null
);
-- Names may be long: what is told apart is their hash.
create unique index failing_test on failing (suite_id, md5(branch || E'\n' || pool || E'\n' || variant || E'\n' || test));
create index failing_runs on failing (last_run);
create index failing_since on failing (since_run);

-- Runs that are over and not told to the records yet: written with the verdict, removed with the records.
create table unrecorded (
    run_id bigint primary key references runs on delete cascade
);
