-- The cases that files told of as they ran: a row for each time. Parted as attempts are, and dropped with them.
create table cases (
    month    date not null,
    run_id   bigint not null,
    entry    integer not null,
    -- The number of the file's attempt, and the case's place among all that it told.
    number   integer not null,
    place    integer not null,
    title    text not null,
    ended    text not null,
    -- The case's outcome, on the row of the attempt that decided it.
    outcome  text,
    parked   boolean not null,
    -- Its file told of the title before in this attempt, and it is called after that.
    copy     boolean not null,
    spent_us bigint not null,
    message  text not null,
    detail   text not null,
    primary key (run_id, entry, number, place, month)
) partition by range (month);
create index cases_in_trouble on cases (run_id, entry) where outcome in ('failed', 'flaky');

do $$
declare
    part text;
    first date;
begin
    for part in select inhrelid::regclass::text from pg_inherits where inhparent = 'attempts'::regclass loop
        first := to_date(right(part, 7), 'YYYY_MM');
        execute format('create table %I partition of cases for values from (%L) to (%L)',
            'cases_' || right(part, 7), first, (first + interval '1 month')::date);
    end loop;
end $$;
