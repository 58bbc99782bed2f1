drop table watch_heads;
drop table watches;
drop table deliveries;
drop table call_ins;
drop table planned_starts;
drop table schedules;
drop table briefs;
drop table leases;
delete from runs where source is null;
alter table runs drop column git, drop column branch, drop column commit, drop column origin, drop column brief,
    drop column schedule_id, drop column follow, drop column chain, drop column stop_asked, drop column rank;
alter table runs alter column source set not null;
alter table suites drop column git, drop column trouble;
