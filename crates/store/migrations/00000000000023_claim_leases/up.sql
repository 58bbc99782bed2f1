-- Which service gives out a claim, as no two running tests hold one, of whatever service's runs they are: a lease, as pools have.
create table claim_leases (
    claim   text primary key,
    service text not null,
    -- A run that needs it, and the pool of that: who carries that pool on has the claim, too.
    run     text not null,
    pool    text not null,
    until   timestamptz not null,
    -- Another service wants it, until then.
    asked   timestamptz
);
