-- The words of these tables become the words that everything else uses.

alter table tokens drop constraint tokens_role_check;
update tokens set role = 'admin' where role = 'keeper';
alter table tokens add constraint tokens_role_check check (role in ('reader', 'operator', 'admin', 'worker'));

-- Webhooks. The id that a sender gives its message has its own name.
alter table deliveries rename column webhook_id to message_id;
alter table deliveries rename column call_in_id to webhook_id;
alter table deliveries rename column again_of to redelivery_of;
alter table call_ins rename to webhooks;
alter index call_ins_pkey rename to webhooks_pkey;
alter table webhooks rename constraint call_ins_name_key to webhooks_name_key;
alter table deliveries rename constraint deliveries_call_in_id_fkey to deliveries_webhook_id_fkey;
alter table deliveries drop constraint deliveries_did_check;
update deliveries set did = 'ignored' where did = 'passed over';
alter table deliveries add constraint deliveries_did_check check (did in ('started', 'ignored', 'refused'));

-- Polled branches.
alter table watches rename to polls;
alter table polls rename column look_us to every_us;
alter index watches_pkey rename to polls_pkey;
alter table polls rename constraint watches_suite_id_fkey to polls_suite_id_fkey;
alter table polls rename constraint watches_suite_id_branches_key to polls_suite_id_branches_key;
alter table watch_heads rename to poll_heads;
alter table poll_heads rename column watch_id to poll_id;
alter index watch_heads_pkey rename to poll_heads_pkey;
alter index watch_heads_run rename to poll_heads_run;
alter table poll_heads rename constraint watch_heads_watch_id_fkey to poll_heads_poll_id_fkey;
alter table poll_heads rename constraint watch_heads_run_id_fkey to poll_heads_run_id_fkey;

-- States. In a strip each outcome is a letter.
update attempts set ended = 'timed-out' where ended = 'overran';
update attempts set decided = 'not-run' where decided = 'unrun';
update records set last = 'not-run' where last = 'unrun';
update runs set tally = tally - 'unrun' || jsonb_build_object('not-run', tally -> 'unrun') where tally ? 'unrun';
update runs set strip = translate(strip, 'u', 'n') where strip like '%u%';

-- The pool of workers that somebody starts. Where one of the new name is there already, what it knows stands.
alter table records alter column pool set default 'main';
update runs set pool = 'main' where pool = 'standing';
update records r set pool = 'main' where pool = 'standing'
    and not exists (select 1 from records m where m.pool = 'main' and (m.suite_id, m.test, m.variant) = (r.suite_id, r.test, r.variant));
update stamps s set pool = 'main' where pool = 'standing'
    and not exists (select 1 from stamps m where m.pool = 'main' and (m.suite_id, m.stamp) = (s.suite_id, s.stamp));
delete from leases where pool = 'standing';

-- Options of runs, and of the starts that are saved: patterns that are regular expressions, and an option's name.
create function pg_temp.plain_pattern(pattern text) returns text language sql immutable as
$$ select case when pattern like 'like:%' then 'regex:' || substr(pattern, 6) else pattern end $$;
create function pg_temp.plain_patterns(patterns jsonb) returns jsonb language sql immutable as
$$ select coalesce(jsonb_agg(pg_temp.plain_pattern(p) order by n), '[]') from jsonb_array_elements_text(patterns) with ordinality as t (p, n) $$;
create function pg_temp.plain_options(o jsonb) returns jsonb language sql immutable as
$$ select o - 'first_failed'
    || case when o ? 'first_failed' then jsonb_build_object('recent_failures_first', o -> 'first_failed') else '{}' end
    || case when jsonb_typeof(o -> 'pick') = 'array' then jsonb_build_object('pick', pg_temp.plain_patterns(o -> 'pick')) else '{}' end
    || case when jsonb_typeof(o -> 'drop') = 'array' then jsonb_build_object('drop', pg_temp.plain_patterns(o -> 'drop')) else '{}' end $$;
-- A start that is saved holds its options under a key of their own.
create function pg_temp.plain_start(s jsonb) returns jsonb language sql immutable as
$$ select s
    || case when s ? 'options' then jsonb_build_object('options', pg_temp.plain_options(s -> 'options')) else '{}' end
    || case when s ->> 'pool' = 'standing' then '{"pool": "main"}' else '{}'::jsonb end
    || case when s ->> 'then_if' = 'always' then '{"then_if": "any"}' else '{}'::jsonb end $$;

update runs set options = pg_temp.plain_options(options);
update runs set follow = follow || '{"then_if": "any"}' where follow ->> 'then_if' = 'always';
update runs set origin = origin || '{"kind": "webhook"}' where origin ->> 'kind' = 'call-in';
update runs set origin = origin || '{"kind": "poll"}' where origin ->> 'kind' = 'watch';
update briefs set brief = pg_temp.plain_start(brief);
update schedules set changes = pg_temp.plain_start(changes);
update parks set pattern = pg_temp.plain_pattern(pattern) where pattern like 'like:%';
update runs set parks = (
    select jsonb_agg(p || jsonb_build_object('pattern', pg_temp.plain_pattern(p ->> 'pattern')) order by n)
    from jsonb_array_elements(parks) with ordinality as t (p, n))
where parks::text like '%"like:%';
