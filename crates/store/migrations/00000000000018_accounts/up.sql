-- People with a name and a password of their own. Passwords are kept as Argon2id hashes; none was chosen yet: null.
create table accounts (
    name     text primary key,
    role     text not null check (role in ('reader', 'operator', 'admin')),
    password text,
    made_by  text not null,
    made_at  timestamptz not null default now(),
    seen_at  timestamptz
);

-- Links by which somebody chooses a password: each once, until it ends.
create table password_links (
    hash    bytea primary key,
    account text not null references accounts on delete cascade,
    until   timestamptz not null
);
create index password_links_account on password_links (account);

-- A token may be an account's own: its role is the account's then, whatever that is.
alter table tokens add column account text references accounts on delete cascade;
create index tokens_account on tokens (account);

-- A browser signs in with a token or as an account.
alter table sessions alter column token drop not null;
alter table sessions add column account text references accounts on delete cascade;
alter table sessions add column id bigint generated always as identity unique;
alter table sessions add column about text not null default '';
alter table sessions add column address text not null default '';
alter table sessions add column seen_at timestamptz not null default now();
-- When those were seen that are there is not known.
update sessions set seen_at = made_at;
alter table sessions add constraint sessions_of_one check ((token is null) <> (account is null));
create index sessions_account on sessions (account);

-- Sign-ins with a password that were tried of late, by account and by address.
create table tries (
    what  text primary key,
    count integer not null,
    last  timestamptz not null
);
create index tries_last on tries (last);

-- Globs of the suites that a token is for; none: all.
alter table tokens add column suites text[] not null default '{}';
