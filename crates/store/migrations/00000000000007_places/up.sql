-- Where a park holds; nothing said is everywhere.
alter table parks add column only_in jsonb not null default '{}';

-- Whether a file failed by itself, and not only by its cases: then no case tells what is to run again.
alter table attempts add column itself boolean not null default true;
