//! What is read of the past, with ten million attempts kept: histories, flaky tests, comparisons, the first page; and whether a run begins
//! as soon as on an empty service.

use std::time::Instant;

use kesmo_wire::api::{Compared, FailingTests, FlakyTests, NewRun, Run, RunSummary, Suite, SuiteDetail, TestHistory};
use serde::de::DeserializeOwned;

use crate::{Line, quay::Quay};

/// Tests of the suite and runs of it: ten million attempts.
const TESTS: u32 = 2000;
const RUNS: u32 = 5000;
/// Tests of two more runs, which are compared.
const LARGE: u32 = 100_000;
/// Calls of each kind; their median is told.
const CALLS: usize = 15;
const STARTS: usize = 7;

pub fn history(runtime: &tokio::runtime::Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let mut quay = Quay::open(1, 2).await;
        let bundle = quay.suite_of("hourly", LIST, RUN, &[]).await;
        let empty = starts(&quay, &bundle).await;
        quay.sql(&past());
        // As a service that has been going for long: it was started again, and what it keeps is not in memory.
        quay.signal_service(libc::SIGTERM);
        quay.start_again().await;
        let full = starts(&quay, &bundle).await;
        let mut lines = vec![
            pages::<Vec<Suite>>(&quay, "all suites", "/api/suites", &[]).await,
            pages::<Vec<RunSummary>>(&quay, "the first page's runs", "/api/runs", &[("limit", "40")]).await,
            pages::<FailingTests>(&quay, "what fails now", "/api/failing", &[]).await,
            pages::<SuiteDetail>(&quay, "a suite", "/api/suites/made", &[]).await,
            pages::<TestHistory>(&quay, "a test's history", "/api/suites/made/history", &[("test", "t/77")]).await,
            pages::<FlakyTests>(&quay, "flaky tests of a suite", "/api/suites/made/flaky", &[]).await,
            pages::<FlakyTests>(&quay, "flaky tests of all", "/api/flaky", &[]).await,
            pages::<Compared>(&quay, "two runs compared", "/api/runs/made/5000/compared", &[]).await,
        ];
        let large = median_of::<Compared>(&quay, "/api/runs/large/2/compared", &[("with", "1")]).await;
        lines.push(Line {
            what: "two runs of 100,000 compared (s)",
            measured: format!("{large:.2} s"),
            compared_with: "–".into(),
            figure: large,
            bound: 1.0,
            unit: "",
        });
        lines.push(Line {
            what: "start to first result, with ten million attempts",
            measured: format!("{:.0} ms", full * 1e3),
            compared_with: format!("{:.0} ms on an empty service", empty * 1e3),
            figure: full / empty,
            bound: 1.2,
            unit: "",
        });
        lines
    })
}

const LIST: &str = "[\"sh\", \"-c\", \"echo a; echo b\"]";
const RUN: &str = "[\"sh\", \"-c\", \"for t in \\\"$@\\\"; do echo ok - $t; done\", \"sh\", \"{names}\"]";

/// The median time from a start to its verdict of a run of two tests that do nothing, in seconds.
async fn starts(quay: &Quay, bundle: &str) -> f64 {
    let mut took = Vec::new();
    for _ in 0..STARTS {
        let began = Instant::now();
        let new = NewRun { bundle: Some(bundle.to_owned()), ..NewRun::default() };
        let mut run: Run = quay.client.post("/api/runs", &new).await.expect("a run");
        while run.summary.verdict.is_none() {
            tokio::time::sleep(std::time::Duration::from_millis(2)).await;
            run = quay.client.get(&format!("/api/runs/{}", run.summary.name), &[]).await.expect("the run");
        }
        took.push(began.elapsed().as_secs_f64());
    }
    median(took)
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

async fn median_of<T: DeserializeOwned>(quay: &Quay, path: &str, query: &[(&'static str, &str)]) -> f64 {
    let query: Vec<(&str, String)> = query.iter().map(|(key, value)| (*key, (*value).to_owned())).collect();
    let mut took = Vec::new();
    for _ in 0..CALLS {
        let began = Instant::now();
        let _: T = quay.client.get(path, &query).await.unwrap_or_else(|e| panic!("{path}: {e}"));
        took.push(began.elapsed().as_secs_f64());
    }
    median(took)
}

async fn pages<T: DeserializeOwned>(
    quay: &Quay,
    what: &'static str,
    path: &str,
    query: &[(&'static str, &str)],
) -> Line {
    let took = median_of::<T>(quay, path, query).await * 1e3;
    Line {
        what, measured: format!("{took:.0} ms"), compared_with: "–".into(), figure: took, bound: 150.0, unit: " ms"
    }
}

/// Makes the months of all runs.
const PARTITIONS: &str = "
do $$ declare m date; begin
  for m in select distinct date_trunc('month', created_at at time zone 'UTC')::date from runs loop
    for t in 1..2 loop
      execute format('create table if not exists %I partition of %I for values from (%L) to (%L)',
        (array['attempts', 'results'])[t] || to_char(m, '_YYYY_MM'), (array['attempts', 'results'])[t], m, m + interval '1 month');
    end loop;
  end loop;
end $$;
";

/// A suite with 5,000 runs of 2,000 tests over the last 60 days, of which one of a hundred is flaky now and then; and one with two runs of
/// 100,000 tests. Made in the database by drawing outcomes, as carrying ten million attempts out would take days.
fn past() -> String {
    format!(
        r#"
insert into sources (digest, suite_file) select repeat('a', 64), suite_file from sources limit 1;
insert into suites (slug, about, source, last_run) values ('made', 'made', repeat('a', 64), {RUNS}), ('large', 'made', repeat('a', 64), 2);
insert into tests (suite_id, test, variant) select (select id from suites where slug = 'made'), 't/' || n, '' from generate_series(0, {TESTS} - 1) n;
insert into tests (suite_id, test, variant) select (select id from suites where slug = 'large'), 'l/' || n, '' from generate_series(0, {LARGE} - 1) n;
insert into listings (key, tests) select 'made', jsonb_agg(jsonb_build_object('name', 't/' || n)) from generate_series(0, {TESTS} - 1) n;
create temporary table tally as select tally, stats, options from runs where phase = 'finished' limit 1;
insert into runs (suite_id, number, source, pool, options, labels, seed, started_by, phase, verdict, listings, listed, tally, stats, created_at, began_at, finished_at)
  select s.id, n, repeat('a', 64), 'main', t.options, '{{}}', n, 'bench', 'finished', 'passed', '{{made}}', {TESTS}, t.tally, t.stats, at, at, at + interval '3 minutes'
  from generate_series(1, {RUNS}) n, suites s, tally t, lateral (select now() - interval '60 days' * (1 - n / ({RUNS}::float + 10)) as at) m where s.slug = 'made' order by n;
insert into runs (suite_id, number, source, pool, options, labels, seed, started_by, phase, verdict, listings, listed, tally, stats, created_at, began_at, finished_at)
  select s.id, n, repeat('a', 64), 'main', t.options, '{{}}', n, 'bench', 'finished', 'failed', '{{made}}', {LARGE}, t.tally, t.stats, now() - interval '1 hour', now() - interval '1 hour', now()
  from generate_series(1, 2) n, suites s, tally t where s.slug = 'large' order by n;
{PARTITIONS}create temporary table drawn as select r.id as run_id, date_trunc('month', r.created_at at time zone 'UTC')::date as month, r.created_at, e as entry,
    t.id as test_id, (e % 97 = 7 and random() < 0.1) as flaky, (50000 + random() * 9000)::bigint as spent
  from runs r join suites s on s.id = r.suite_id and s.slug in ('made', 'large') cross join lateral generate_series(0, r.listed - 1) e
  join tests t on t.suite_id = r.suite_id and t.test = (case s.slug when 'made' then 't/' else 'l/' end) || e;
insert into results select month, run_id, entry, test_id, case when flaky then 'flaky' else 'passed' end, case when flaky then 2 else 1 end, spent,
    case when flaky then spent else 0 end from drawn;
insert into attempts (month, run_id, entry, number, batch, worker, slot, began_at, spent_us, ended, decided, message, detail, steps, log, log_bytes)
  select month, run_id, entry, 1, entry / 100, 'w' || entry % 4, 0, created_at, spent, case when flaky then 'failed' else 'passed' end,
    case when flaky then null else 'passed' end, case when flaky then 'the tide was late' else '' end, '', '[]', '', 0 from drawn;
insert into attempts (month, run_id, entry, number, batch, worker, slot, began_at, spent_us, ended, decided, message, detail, steps, log, log_bytes)
  select month, run_id, entry, 2, entry / 100, 'w1', 0, created_at, spent, 'passed', 'flaky', '', '', '[]', '', 0 from drawn where flaky;
analyze;
"#
    )
}

/// A suite with runs of a month long past, each round another month, of which none is needed: a later one passed. Drawn in the database.
pub fn make_old(quay: &Quay, round: usize, runs: u32, tests: u32) {
    let back = 3 + round;
    quay.sql(&format!(
        r#"
insert into sources (digest, suite_file) select repeat('b', 64), suite_file from sources limit 1 on conflict do nothing;
insert into suites (slug, about, source, last_run) values ('old-{round}', 'made', repeat('b', 64), {runs} + 1);
insert into tests (suite_id, test, variant) select (select id from suites where slug = 'old-{round}'), 't/' || n, '' from generate_series(0, {tests} - 1) n;
insert into listings (key, tests) select 'old-{round}', jsonb_agg(jsonb_build_object('name', 't/' || n)) from generate_series(0, {tests} - 1) n;
create temporary table tally as select tally, stats, options from runs where phase = 'finished' limit 1;
insert into runs (suite_id, number, source, pool, options, labels, seed, started_by, phase, verdict, listings, listed, tally, stats, created_at, began_at, finished_at)
  select s.id, n, repeat('b', 64), 'main', t.options, '{{}}', n, 'bench', 'finished', 'passed', '{{old-{round}}}', {tests}, t.tally, t.stats, at, at, at + interval '3 minutes'
  from generate_series(1, {runs} + 1) n, suites s, tally t, lateral (select case when n > {runs} then now() - interval '1 hour'
    else date_trunc('month', now()) - interval '{back} months' + interval '20 days' * n / {runs} end as at) m where s.slug = 'old-{round}' order by n;
{PARTITIONS}create temporary table drawn as select r.id as run_id, date_trunc('month', r.created_at at time zone 'UTC')::date as month, r.created_at, e as entry,
    t.id as test_id, (50000 + random() * 9000)::bigint as spent
  from runs r join suites s on s.id = r.suite_id and s.slug = 'old-{round}' cross join lateral generate_series(0, r.listed - 1) e
  join tests t on t.suite_id = r.suite_id and t.test = 't/' || e;
insert into results select month, run_id, entry, test_id, 'passed', 1, spent, 0 from drawn;
insert into attempts (month, run_id, entry, number, batch, worker, slot, began_at, spent_us, ended, decided, message, detail, steps, log, log_bytes)
  select month, run_id, entry, 1, entry / 100, 'w' || entry % 4, 0, created_at, spent, 'passed', 'passed', '', '', '[]', '', 0 from drawn;
"#
    ));
}
