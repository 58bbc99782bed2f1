-- Accounts whose people sign in at a provider (OpenID Connect): known there by issuer and subject, with a role from their groups there.
-- The provider has said so at confirmed_at; null: it says no more that they may come in.
alter table accounts add column issuer text;
alter table accounts add column subject text;
alter table accounts add column confirmed_at timestamptz;
alter table accounts add constraint accounts_of_provider check ((issuer is null) = (subject is null));
create unique index accounts_subject on accounts (issuer, subject);

-- Globs of the pools that a worker's token is for; none: all.
alter table tokens add column pools text[] not null default '{}';
