-- The tests of suites, each in its variant, so that what runs say of them need not name them again and again.
create table tests (
    id       bigint generated always as identity primary key,
    suite_id bigint not null references suites on delete cascade,
    test     text not null,
    variant  text not null
);
-- Names may be longer than what an index takes: their hash is what is compared.
create unique index tests_once on tests (suite_id, md5(test || E'\n' || variant));
create index tests_named on tests (suite_id, md5(test));

-- What a run that is over says of each of its entries. Parted by the month in which the run was made, as attempts are.
create table results (
    month      date not null,
    run_id     bigint not null,
    entry      integer not null,
    test_id    bigint not null,
    outcome    text not null,
    attempts   integer not null,
    -- What its last attempt took, and what those before it took together.
    spent_us   bigint not null,
    retried_us bigint not null,
    primary key (run_id, entry, month)
) partition by range (month);
create index results_test on results (test_id, run_id desc) include (outcome);
create index results_retried on results (run_id) include (retried_us) where attempts > 1;
create index results_flaky on results (test_id, run_id) include (retried_us) where outcome = 'flaky';

-- Runs that were over before results were kept: theirs are made from their attempts, the latest first.
create table older_runs (
    run_id bigint primary key references runs on delete cascade
);
insert into older_runs select id from runs where phase = 'finished' and not jsonb_exists(labels, 'hunt') and began_at is not null
    and id not in (select run_id from unrecorded);
