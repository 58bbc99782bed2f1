-- What a batch of a run that goes on measured in some second; with the run's verdict it becomes rows of `run_measures`.
create table measure_parts (
    run_id bigint not null references runs on delete cascade,
    batch  integer not null,
    number integer not null,
    part   jsonb not null,
    primary key (run_id, batch, number)
);

-- What a run that is over measured, in all and over time.
create table run_measures (
    run_id  bigint not null references runs on delete cascade,
    name    text not null,
    unit    text not null,
    count   bigint not null,
    errors  bigint not null,
    sum     double precision not null,
    min     double precision not null,
    max     double precision not null,
    -- The second of the run's first value, since 1970; seconds from it to the last one of this measure; and seconds to a point.
    first   bigint not null,
    seconds bigint not null,
    step    bigint not null,
    pairs   jsonb not null,
    points  jsonb not null,
    primary key (run_id, name)
);
