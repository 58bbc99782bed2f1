-- Rows as they were before the words of the tables became plain.
insert into tokens (name, hash, role) values ('first-keeper', '\x01', 'keeper'), ('asta', '\x02', 'reader');
insert into sources (digest, suite_file) values ('d', 'suite = …');
insert into suites (slug, about, source, last_run) values ('fares', '', 'd', 2);
insert into runs (suite_id, number, source, pool, options, labels, seed, started_by, phase, verdict, tally, strip, origin, follow, parks)
values (1, 1, 'd', 'standing', '{"pick": ["like:^fare", "gate/*"], "drop": [], "first_failed": true, "only": [["first_failed", ""]]}', '{}', 7,
    'asta', 'finished', 'stopped', '{"waiting": 0, "running": 0, "passed": 1, "flaky": 0, "failed": 0, "skipped": 0, "parked": 0, "unrun": 2}',
    'puu', '{"kind": "call-in", "name": "push"}', '{"then": "next", "then_if": "always"}',
    '[{"pattern": "like:late$", "why": "fog", "until": "2026-12-24"}]'),
    (1, 2, 'd', 'north', '{"pick": []}', '{}', 7, 'asta', 'queued', null, '{}', '', '{"kind": "watch", "name": "main"}', null, '[]');
create table attempts_2026_11 partition of attempts for values from ('2026-11-01') to ('2026-12-01');
insert into attempts (month, run_id, entry, number, batch, worker, slot, began_at, spent_us, ended, message, detail, steps, log, log_bytes)
values ('2026-11-01', 1, 0, 1, 1, 'heron', 0, now(), 1500, 'overran', '', '', '[]', '', 0);
insert into records (suite_id, test, variant, pool, samples, passed, flaky, failed, skipped)
values (1, 'gate/a', '', 'standing', 3, 3, 0, 0, 0), (1, 'gate/b', '', 'standing', 9, 9, 0, 0, 0), (1, 'gate/b', '', 'main', 2, 2, 0, 0, 0);
insert into briefs (name, brief, made_by)
values ('nightly', '{"suite": "fares", "pool": "standing", "then_if": "always", "options": {"pick": ["like:a"], "first_failed": false}}', 'asta');
insert into schedules (name, brief, changes, times, made_by) values ('nightly', 'nightly', '{"pool": null, "options": {"drop": ["like:b"]}}', '{}', 'asta');
insert into parks (suite_id, pattern, why, until, made_by) values (1, 'like:late$', 'fog', '2026-12-24', 'asta');
insert into call_ins (name, brief, secret, takes, whens, per_minute, made_by) values ('push', 'nightly', '\x00', '{}', '{}', 60, 'asta');
insert into deliveries (call_in_id, webhook_id, genuine, content_type, event_headers, body, did, why)
values (1, 'push-1', true, 'application/json', '{}', '\x7b7d', 'passed over', 'another branch');
insert into watches (suite_id, branches, look_us, next_look, made_by) values (1, 'release/*', 60000000, now(), 'asta');
insert into watch_heads (watch_id, branch, commit) values (1, 'release/7', 'abc');
