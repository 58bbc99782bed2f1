-- Where git uses a secret: addresses that begin so. Such a secret is given to no run.
alter table secrets add column git text;
create unique index secrets_git on secrets (git);
