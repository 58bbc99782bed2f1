-- A badge or feed may be of one branch's runs.
alter table shares add column branch text;
