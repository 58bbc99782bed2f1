//! Measurements of what starts by itself: many schedules due in one minute, the cost of the schedules when nothing is due,
//! and webhooks at a steady rate, also when the service is ended or killed after it answered.

use std::{
    collections::BTreeSet,
    time::{Duration, Instant},
};

use futures::{StreamExt, stream};
use kesmo_core::{
    calendar::schedule::{IfBusy, Times},
    plan::brief::{Brief, Changes},
    webhook::{read_secret, sign},
};
use kesmo_wire::api::{
    BriefOf, Delivery, NewBrief, NewSchedule, NewSuite, NewWebhook, RunSummary, ScheduleOf, SuiteDetail, WebhookOf,
};
use tokio::runtime::Runtime;

use crate::{Line, quay::Quay};

/// The value below which that share of all values lies, by the nearest rank.
fn share(values: &mut [f64], part: f64) -> f64 {
    values.sort_by(f64::total_cmp);
    let rank = ((values.len() as f64 * part).ceil() as usize).clamp(1, values.len().max(1));
    values.get(rank - 1).copied().unwrap_or(f64::NAN)
}

async fn suite(quay: &Quay) -> String {
    let bundle = quay.suite("started", 1, 0).await;
    let new = NewSuite { bundle: Some(bundle), git: None };
    let suite: SuiteDetail = quay.client.post("/api/suites", &new).await.expect("a suite");
    suite.suite.name
}

/// All runs since the service began, oldest pages last.
async fn runs(quay: &Quay) -> Vec<RunSummary> {
    let mut all = Vec::new();
    loop {
        let query = [("limit", "500".to_owned()), ("skip", all.len().to_string())];
        let page: Vec<RunSummary> = quay.client.get("/api/runs", &query).await.expect("runs");
        let last = page.len() < 500;
        all.extend(page);
        if last {
            return all;
        }
    }
}

/// 10,000 schedules of which 500 are due in every minute, with workers that carry the runs out.
pub fn schedules(runtime: &Runtime) -> Vec<Line> {
    const ALL: usize = 10_000;
    const DUE: usize = 500;
    const MINUTES: usize = 3;
    const IDLE: u64 = 20;
    runtime.block_on(async {
        let quay = Quay::open(2, 2).await;
        let name = suite(&quay).await;
        let bare = idle_share(&quay, IDLE).await;
        let add = |n: usize, cron: String| {
            let (client, suite) = (quay.client.clone(), name.clone());
            async move {
                let times = Times { cron: Some(cron), if_busy: IfBusy::Wait, ..Times::default() };
                let name = format!("s-{n}");
                let new = NewSchedule {
                    name,
                    suite: Some(suite),
                    times,
                    changes: Changes::default(),
                    ..NewSchedule::default()
                };
                let _: ScheduleOf = client.post("/api/schedules", &new).await.expect("a schedule");
            }
        };
        // What is not due now: in other months than those around this one.
        let far = |n: usize| {
            let month = chrono_month();
            let month = (month + 4 + (n % 4) as u32) % 12 + 1;
            format!("{} {} {} {month} *", n % 60, n / 60 % 24, n % 28 + 1)
        };
        stream::iter(DUE..ALL).map(|n| add(n, far(n))).buffer_unordered(16).collect::<Vec<()>>().await;
        let idle = idle_share(&quay, IDLE).await;
        // In the first half of a minute, so that all are there before the next.
        while now_s() % 60.0 > 30.0 {
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        stream::iter(0..DUE).map(|n| add(n, "* * * * *".into())).buffer_unordered(16).collect::<Vec<()>>().await;
        let first = (now_s() / 60.0).ceil() * 60.0;
        let end = first + 60.0 * MINUTES as f64 - 30.0;
        tokio::time::sleep(Duration::from_secs_f64(end - now_s())).await;
        let mut late: Vec<f64> = Vec::new();
        let mut planned = BTreeSet::new();
        for run in runs(&quay).await {
            let Some(at) = run.origin.planned_us else { continue };
            late.push((run.created_at.timestamp_micros() - at) as f64 / 1000.0);
            assert!(planned.insert((run.origin.name, at)), "a planned start had two runs");
        }
        let (count, worst) = (late.len(), late.iter().copied().fold(0.0, f64::max));
        assert!(count >= DUE * (MINUTES - 1), "only {count} runs were started");
        vec![
            Line {
                what: "10,000 schedules, 500 due in a minute: from the minute to the run, 99th percentile",
                measured: format!("{count} runs in {MINUTES} minutes, the last {worst:.0} ms after its minute"),
                compared_with: "a clock".into(),
                figure: share(&mut late, 0.99),
                bound: 1000.0,
                unit: " ms",
            },
            Line {
                what: "10,000 schedules, none due: what they cost, service and PostgreSQL together",
                measured: format!("{idle:.2} % of a core over {IDLE} s"),
                compared_with: format!("{bare:.2} % without a schedule"),
                figure: (idle - bare).max(0.0),
                bound: 1.0,
                unit: " %",
            },
        ]
    })
}

fn now_s() -> f64 {
    crate::quay::now_us() as f64 / 1e6
}

/// The month now, from 0.
fn chrono_month() -> u32 {
    // Days since 1970 by the civil calendar (H. Hinnant, "chrono-Compatible Low-Level Date Algorithms").
    let days = (now_s() / 86_400.0) as i64 + 719_468;
    let of_era = days.rem_euclid(146_097);
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let day = of_era - (365 * year + year / 4 - year / 100);
    let from_march = (5 * day + 2) / 153;
    ((from_march + 2) % 12) as u32
}

/// The share of a core, in percent, that the service and its PostgreSQL take while nothing is asked of them.
async fn idle_share(quay: &Quay, seconds: u64) -> f64 {
    tokio::time::sleep(Duration::from_secs(2)).await;
    let before = quay.processor_seconds();
    let began = Instant::now();
    tokio::time::sleep(Duration::from_secs(seconds)).await;
    (quay.processor_seconds() - before) / began.elapsed().as_secs_f64() * 100.0
}

/// Deliveries at 200 a second, each of which starts a run; then the service is ended politely, and in a second turn killed,
/// while they come.
pub fn calls(runtime: &Runtime) -> Vec<Line> {
    const A_SECOND: u64 = 200;
    const SECONDS: u64 = 15;
    runtime.block_on(async {
        let mut quay = Quay::open(1, 2).await;
        let name = suite(&quay).await;
        let brief = Brief { suite: Some(name), ..Brief::default() };
        let new = NewBrief { name: "push".into(), brief, replace: false };
        let _: BriefOf = quay.client.post("/api/briefs", &new).await.expect("a brief");
        let new = NewWebhook {
            name: "push".into(),
            brief: "push".into(),
            takes: vec!["label.n=/n".into()],
            per_minute: Some(60_000),
            ..NewWebhook::default()
        };
        let made: WebhookOf = quay.client.post("/api/webhooks", &new).await.expect("a webhook");
        let secret = read_secret(&made.secret.expect("its secret")).expect("a secret");
        let mut late = Vec::new();
        let answered = send(&quay, &secret, "calm", A_SECOND, SECONDS, &mut late).await;
        let all = answered.len();
        let mut lost = missing(&quay, "calm", answered).await;
        let mut ended = 0;
        for (turn, signal) in [("polite", libc::SIGTERM), ("killed", libc::SIGKILL)] {
            let answered = {
                let ending = async {
                    tokio::time::sleep(Duration::from_millis(1500)).await;
                    quay.signal_service(signal);
                };
                let mut late = Vec::new();
                let (answered, ()) = tokio::join!(send(&quay, &secret, turn, A_SECOND, 3, &mut late), ending);
                answered
            };
            ended += answered.len();
            quay.start_again().await;
            lost += missing(&quay, turn, answered).await;
        }
        vec![
            Line {
                what: "webhooks, 200 a second, each starting a run: from the moment of sending to the answer, 99th percentile",
                measured: format!("{all} deliveries, the median {:.1} ms", share(&mut late.clone(), 0.5)),
                compared_with: "a clock".into(),
                figure: share(&mut late, 0.99),
                bound: 50.0,
                unit: " ms",
            },
            Line {
                what: "deliveries that were answered and have no run, or two",
                measured: format!("of {all}, and of {ended} while the service was ended politely and killed"),
                compared_with: "none".into(),
                figure: lost as f64,
                bound: 0.0,
                unit: "",
            },
        ]
    })
}

/// Sends deliveries evenly, whether earlier ones are answered or not; tells the numbers of those that were answered well.
async fn send(quay: &Quay, secret: &[u8], turn: &str, a_second: u64, seconds: u64, late: &mut Vec<f64>) -> Vec<String> {
    let began = Instant::now();
    let sends = (0..a_second * seconds).map(|n| {
        let (client, secret) = (quay.client.clone(), secret.to_vec());
        let (due, number) = (began + Duration::from_micros(n * 1_000_000 / a_second), format!("{turn}-{n}"));
        tokio::spawn(async move {
            tokio::time::sleep_until(due.into()).await;
            let (id, content) = (format!("msg-{number}"), format!("{{\"n\":\"{number}\"}}").into_bytes());
            let now = crate::quay::now_us() / 1_000_000;
            let headers = [
                ("webhook-id", id.clone()),
                ("webhook-timestamp", now.to_string()),
                ("webhook-signature", sign(&secret, &id, now, &content)),
            ];
            let answer: Result<Delivery, _> = client.post_signed("/webhook/push", &headers, content).await;
            (number, answer.is_ok(), due.elapsed().as_secs_f64() * 1000.0)
        })
    });
    let mut answered = Vec::new();
    for send in sends.collect::<Vec<_>>() {
        let (number, well, took) = send.await.expect("a sender");
        if well {
            answered.push(number);
            late.push(took);
        }
    }
    answered
}

/// How many of those deliveries do not have exactly one run.
async fn missing(quay: &Quay, turn: &str, answered: Vec<String>) -> usize {
    let labels: Vec<String> = runs(quay).await.into_iter().filter_map(|r| r.labels.get("n").cloned()).collect();
    let of_turn: Vec<&String> = labels.iter().filter(|l| l.starts_with(turn)).collect();
    answered.iter().filter(|n| of_turn.iter().filter(|l| **l == *n).count() != 1).count()
}
