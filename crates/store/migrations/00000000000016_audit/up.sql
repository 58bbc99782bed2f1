-- Tokens may end on a day; the beginning of a token's text tells it from others.
alter table tokens add column until timestamptz, add column prefix text not null default '';

-- Who did what when: written, read, and removed only by the sweep of what is old.
create table audit (
    id      bigint generated always as identity primary key,
    at      timestamptz not null,
    who     text not null,
    role    text not null,
    address text not null,
    what    text not null,
    path    text not null,
    status  integer not null,
    note    text not null
);
create index audit_at on audit (at);

create function audit_stays() returns trigger language plpgsql as $$
begin
    if current_setting('kesmo.sweeps', true) = 'audit' and tg_op = 'DELETE' then
        return old;
    end if;
    raise exception 'what was done stays on record';
end
$$;
create trigger audit_stays before update or delete on audit for each row execute function audit_stays();
