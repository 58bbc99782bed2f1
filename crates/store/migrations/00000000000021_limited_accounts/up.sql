-- Accounts for some suites only, as tokens are: globs; none: for all.
alter table accounts add column suites text[] not null default '{}';
