-- What somebody asked to be told, and where to.
create table notices (
    id      bigint generated always as identity primary key,
    name    text not null unique,
    rule    jsonb not null,
    -- Of an HTTP address, what signs; of a described request, what {secret} stands for.
    secret  bytea,
    paused  boolean not null default false,
    made_by text not null,
    made_at timestamptz not null default now()
);

-- What happened and was not looked at for notices. Rows are made where it happens, by triggers, so that no way to a verdict can forget them.
create table unnoticed (
    id         bigint generated always as identity primary key,
    run_id     bigint unique references runs on delete cascade,
    planned_id bigint unique references planned_starts on delete cascade
);
create function run_is_over() returns trigger language plpgsql as $$
begin
    insert into unnoticed (run_id) values (new.id) on conflict do nothing;
    return null;
end $$;
create trigger run_ends after update of verdict on runs for each row
    when (old.verdict is null and new.verdict is not null) execute function run_is_over();
create trigger run_is_made_over after insert on runs for each row
    when (new.verdict is not null) execute function run_is_over();
create function start_is_missed() returns trigger language plpgsql as $$
begin
    insert into unnoticed (planned_id) values (new.id) on conflict do nothing;
    return null;
end $$;
create trigger start_is_missed after insert or update of what on planned_starts for each row
    when (new.what in ('missed', 'refused', 'skipped')) execute function start_is_missed();

-- A message that goes out, or is to. At every try it has the same message id.
create table notice_deliveries (
    id          bigint generated always as identity primary key,
    notice_id   bigint not null references notices on delete cascade,
    message_id  text not null unique,
    made_at     timestamptz not null default now(),
    state       text not null default 'trying',
    sample      boolean not null default false,
    tries       integer not null default 0,
    next_at     timestamptz not null default now(),
    -- Whoever sends it has it until then.
    held_until  timestamptz,
    ended_at    timestamptz,
    said        text not null default '',
    -- Of mail, whom it has reached: at the next try they are left out.
    reached     text[] not null default '{}'
);
create index notice_deliveries_due on notice_deliveries (next_at) where state = 'trying';
create index notice_deliveries_of on notice_deliveries (notice_id, id desc);

-- What happened, as it concerns a notice. The key makes that once.
create table notice_events (
    id          bigint generated always as identity primary key,
    notice_id   bigint not null references notices on delete cascade,
    key         text not null,
    event       jsonb not null,
    at          timestamptz not null default now(),
    due_at      timestamptz not null,
    -- Why it is not told, where it is not.
    held        text,
    delivery_id bigint references notice_deliveries on delete cascade,
    unique (notice_id, key)
);
create index notice_events_due on notice_events (due_at) where delivery_id is null and held is null;
create index notice_events_of on notice_events (delivery_id) where delivery_id is not null;

-- Causes of failures that a notice told of, until a run passes.
create table notice_told (
    notice_id bigint not null references notices on delete cascade,
    suite_id  bigint not null references suites on delete cascade,
    branch    text not null,
    cause     bigint not null,
    primary key (notice_id, suite_id, branch, cause)
);
