-- The images that a run has settled on, by the names that its suite calls them by.
alter table runs add column images jsonb not null default '[]';
