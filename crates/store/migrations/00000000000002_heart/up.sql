-- Records by pool, with the last durations instead of a smoothed mean.
alter table records add column pool text not null default 'standing';
alter table records add column recent bigint[] not null default '{}';
alter table records add column since_trouble integer;
update records set recent = array[round(mean_us)::bigint] where samples > 0;
update records set since_trouble = 0 where last in ('failed', 'flaky');
alter table records drop column mean_us;
alter table records drop column deviation_us;
alter table records drop constraint records_pkey;
alter table records add primary key (suite_id, test, variant, pool);

-- What starting a process costs, and how often its records changed.
alter table suites add column start_cost_us bigint;
alter table suites add column stamp bigint not null default 0;

-- Tests that are set aside.
create table parks (
    id       bigint generated always as identity primary key,
    suite_id bigint not null references suites on delete cascade,
    pattern  text not null,
    why      text not null,
    -- The last day on which it holds.
    until    date not null,
    made_by  text not null,
    made_at  timestamptz not null default now(),
    unique (suite_id, pattern)
);

-- The parks that held when the run was made.
alter table runs add column parks jsonb not null default '[]';

-- How busy its worker was when an attempt ended, and what was expected of it.
alter table attempts add column busy integer not null default 0;
alter table attempts add column of_slots integer not null default 0;
alter table attempts add column expected_us bigint;

-- Keys on which CI jobs meet.
create table meetings (
    key     text primary key,
    run_id  bigint not null references runs on delete cascade,
    made_at timestamptz not null default now()
);

-- What was expected of tests when portions were cut, so that every job cuts the same.
create table stamps (
    suite_id bigint not null references suites on delete cascade,
    stamp    bigint not null,
    pool     text not null,
    expected jsonb not null,
    made_at  timestamptz not null default now(),
    primary key (suite_id, stamp, pool)
);
create table stamp_keys (
    suite_id bigint not null references suites on delete cascade,
    key      text not null,
    stamp    bigint not null,
    made_at  timestamptz not null default now(),
    primary key (suite_id, key)
);
