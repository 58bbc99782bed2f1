//! Batches of real processes, with what they are to tell.

use std::collections::BTreeMap;

use kesmo_wire::link::{BatchKey, Sender, Setup};

use super::*;
use crate::config::Config;
use kesmo_core::run::ToRun;

/// A worker's tools with a source that is here and prepared, so that no service is needed.
struct Bench {
    tools: Tools,
    coming: mpsc::Receiver<Vec<WorkerEvent>>,
    home: tempfile::TempDir,
}

fn bench(results: &str, run: &str, more: &str, script: &str) -> Bench {
    crate::process::become_subreaper();
    let home = tempfile::tempdir().unwrap();
    let folder = home.path().join("sources/bundle/files");
    std::fs::create_dir_all(&folder).unwrap();
    let run = if run == "fed" { "tests" } else { run };
    let file = format!(
        "suite = \"bench\"\n[tests]\nlist = [\"true\"]\nrun = [\"sh\", \"tests.sh\", \"{run}\"]\nresults = \"{results}\"\n{more}\n"
    );
    std::fs::write(folder.join("kesmo.toml"), file).unwrap();
    std::fs::write(folder.join("tests.sh"), script).unwrap();
    std::fs::write(home.path().join("sources/bundle/prepared"), "").unwrap();
    let config = Config {
        url: "http://127.0.0.1:9".into(),
        token: "none".into(),
        name: "heron".into(),
        pool: "main".into(),
        slots: 1,
        offers: BTreeMap::new(),
        home: home.path().to_owned(),
        ..Config::default()
    };
    let client = kesmo_tls::Trust::default().http().build().expect("a client");
    let address = Arc::new(crate::address::Address::new(&config.url));
    let mark = crate::clock::random_mark();
    let marks = kesmo_engine::Marks { home: "home".into(), work: mark.clone() };
    let (events, coming) = mpsc::channel(1000);
    let reaching = Reaching::new(config.clone(), Arc::clone(&address), events.clone());
    let tools = Tools {
        sources: Arc::new(Sources::new(config.clone(), client.clone(), Arc::clone(&address), marks, None)),
        uploads: Uploads::new(client, &config, Arc::clone(&address)),
        events,
        outputs: mpsc::channel(64).0,
        home: config.home,
        worker: config.name,
        mark,
        hearing: None,
        losses: Arc::default(),
        reaching,
    };
    Bench { tools, coming, home }
}

impl Bench {
    /// A file beside the script.
    fn beside(&self, name: &str) -> PathBuf {
        self.home.path().join("sources/bundle/files").join(name)
    }

    /// Waits until the script has made the file `begun`.
    async fn begun(&self) {
        let begun = self.beside("begun");
        let there = async {
            while !begun.exists() {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        };
        tokio::time::timeout(Duration::from_secs(30), there).await.expect("it begins");
    }

    /// Lets a script go on that waits for the file `go`.
    fn go(&self) {
        std::fs::write(self.beside("go"), "").unwrap();
    }
}

/// Says that it has begun, and waits until it may go on.
const WAITS: &str = "touch begun; until [ -e go ]; do sleep 0.01; done";

/// With time for a test that waits, also on a busy machine.
fn patient(grant: Grant) -> Grant {
    let entries = grant.entries.into_iter().map(|e| GrantedEntry { limit_us: 30_000_000, ..e }).collect();
    Grant { entries, ..grant }
}

fn grant(names: &[&str], attempt: Option<u16>) -> Grant {
    let entry = |(i, name): (usize, &&str)| GrantedEntry { index: i as u32, name: (*name).into(), limit_us: 1_000_000 };
    Grant {
        key: BatchKey { run: 1, batch: 2 },
        slot: 0,
        setup: Setup {
            run: "bench/1".into(),
            bundle: "bundle".into(),
            variant: vec![("screen-size".into(), "phone".into())],
            settings: BTreeMap::from([("pass-engers".into(), "200".into())]),
            secrets: Vec::new(),
            env: BTreeMap::from([("TZ".into(), "UTC".into())]),
            seed: 7,
            branch: Some("main".into()),
            commit: None,
            image: None,
            images: Vec::new(),
            reach: Vec::new(),
        },
        entries: names.iter().enumerate().map(entry).collect(),
        attempt,
        to_run: ToRun::default(),
        more: false,
        sender: None,
    }
}

/// Runs a batch and tells what it reported, a line each.
async fn told(bench: &mut Bench, grant: Grant) -> Vec<String> {
    let (_switches, told) = switches(true);
    run(&bench.tools, grant, told).await;
    lines_of(bench)
}

/// What was reported so far, a line each.
fn lines_of(bench: &mut Bench) -> Vec<String> {
    let mut lines = Vec::new();
    while let Ok(events) = bench.coming.try_recv() {
        lines.extend(events.into_iter().filter_map(line_of));
    }
    lines
}

fn line_of(event: WorkerEvent) -> Option<String> {
    let line = match event {
        WorkerEvent::Began { entry, .. } => format!("began {entry}"),
        WorkerEvent::Ended(r) => {
            let log = if let Log::Text(text) = &r.log { text.trim().replace('\n', "|") } else { String::new() };
            format!("{} {} [{}] [{log}]", r.ended, r.entry, r.message)
        }
        WorkerEvent::Note { text, .. } => format!("note {text}"),
        WorkerEvent::Wrong { text, .. } => format!("wrong {text}"),
        WorkerEvent::BatchEnded { end, .. } => format!("{end:?}"),
        WorkerEvent::GaveBack { entries, .. } => format!("gave back {entries:?}"),
        WorkerEvent::Cases { entry, first, cases, .. } => {
            let said = |c: &kesmo_wire::link::CaseReport| format!("{} {}", c.title, c.ended);
            let said: Vec<String> = cases.iter().take(12).map(said).collect();
            format!("cases of {entry} from {first}: {} ({})", said.join(", "), cases.len())
        }
        WorkerEvent::Measured { part, .. } => {
            let said = |m: &kesmo_core::measure::Measured| format!("{} {}+{}", m.name, m.counts.count, m.counts.errors);
            format!("measured {}", part.measures.iter().map(said).collect::<Vec<_>>().join(", "))
        }
        WorkerEvent::Covers { entry, of, .. } => format!("{entry} covers {of:?}"),
        WorkerEvent::AtGate { .. } => "there".into(),
        WorkerEvent::Kept { .. } | WorkerEvent::Listed { .. } => "other".into(),
    };
    (!line.starts_with("began")).then_some(line)
}

#[tokio::test(flavor = "multi_thread")]
async fn each_test_has_its_own_words() {
    let script = "for t; do echo \"about $t\"; echo \"ok - $t\"; done; echo bye";
    let mut bench = bench("tap", "{names}", "", script);
    let lines = told(&mut bench, grant(&["a", "b"], None)).await;
    assert_eq!(lines[0], "passed 0 [] [about a]");
    assert!(lines[1].starts_with("passed 1 [] [about b") && lines[1].contains("bye"), "{lines:?}");
    assert_eq!(lines[2], "Done");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_process_prints_is_heard_word_for_word_where_that_is_asked_for() {
    let script = "echo hello; echo 'OK a'; echo 'ok - a'; echo oops >&2; mkdir -p out; echo '<x/>' > out/left.xml";
    let mut bench = bench("tap", "{names}", "", script);
    let hearing = Hearing::default();
    bench.tools.hearing = Some(hearing.clone());
    let grant = grant(&["a"], None);
    let key = grant.key;
    told(&mut bench, grant).await;
    let heard = hearing.take(key);
    assert_eq!(String::from_utf8_lossy(&heard.out), "hello\nOK a\nok - a\n");
    assert_eq!((String::from_utf8_lossy(&heard.err).as_ref(), heard.events.len()), ("oops\n", 0));
    assert_eq!(heard.xml, ["out/left.xml"]);
    assert!(heard.took > kesmo_core::time::Span::ZERO);
    assert!(hearing.take(key).out.is_empty(), "it is taken away");
}

/// Whether the time of each attempt holds the start of its process, in the order in which they ended.
async fn with_start(results: &str, run: &str, script: &str) -> Vec<bool> {
    let mut bench = bench(results, run, "", script);
    let (_switches, told) = switches(true);
    super::run(&bench.tools, grant(&["a", "b"], None), told).await;
    let mut all = Vec::new();
    while let Ok(events) = bench.coming.try_recv() {
        all.extend(events.into_iter().filter_map(|event| match event {
            WorkerEvent::Ended(report) => Some(report.with_start.is_some()),
            _ => None,
        }));
    }
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn a_time_says_whether_the_start_of_its_process_is_part_of_it() {
    let each = "for t; do echo \"ok - $t\"; done";
    assert_eq!(with_start("tap", "{names}", each).await, [true, false], "nothing says when the first began");
    let head = format!("echo TAP version 14; sleep 0.05; {each}");
    assert_eq!(with_start("tap", "{names}", &head).await, [false, false], "its first word did");
    let own = "for t; do printf 'ok - %s\\n  ---\\n  duration_ms: 5\\n  ...\\n' $t; done";
    let told = with_start("tap", "{names}", own).await;
    assert_eq!(told.len(), 2);
    assert_eq!(with_start("exit", "{name}", "true").await, [false, false], "a process of its own is what a test costs");
    let events = "for t; do for e in start end; do echo \"{\\\"test\\\":\\\"$t\\\",\\\"event\\\":\\\"$e\\\",\\\"outcome\\\":\\\"passed\\\"}\" >> \"$KESMO_EVENTS\"; done; done";
    assert_eq!(with_start("events", "{names}", events).await, [false, false], "each says when it begins");
}

#[tokio::test(flavor = "multi_thread")]
async fn results_that_cannot_be_read_count_where_no_test_shows_it() {
    let script = "echo '<testsuite><testcase name=\"a\"/></testsuite>' > a.xml; echo '<testsuite><testcase' > b.xml";
    let junit = "junit = [\"*.xml\"]";
    let mut whole = bench("junit", "{names}", junit, script);
    let lines = told(&mut whole, grant(&["a"], None)).await;
    assert!(lines.iter().any(|l| l.starts_with("wrong b.xml could not be used: ")), "{lines:?}");
    let mut lacking = bench("junit", "{names}", junit, script);
    let lines = told(&mut lacking, grant(&["a", "b"], None)).await;
    assert!(lines.iter().any(|l| l.starts_with("note b.xml could not be used: ")), "{lines:?}");
    assert!(lines.iter().any(|l| l.starts_with("crashed 1")), "{lines:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_process_sees_what_it_is_promised_and_no_secrets() {
    let script =
        r#"env | grep -E '^(KESMO_|TZ)' | grep -v -E 'ARTIFACTS|EVENTS|MARK' | sort; cat "$1" >&2; echo "ok - a""#;
    let mut bench = bench("tap", "{names-file}", "", script);
    let lines = told(&mut bench, grant(&["a"], Some(3))).await;
    let wanted = "KESMO_ATTEMPT=3|KESMO_BATCH=2|KESMO_BRANCH=main|KESMO_FACET_SCREEN_SIZE=phone|KESMO_RUN=bench/1|KESMO_SEED=7|\
                  KESMO_SET_PASS_ENGERS=200|KESMO_SLOT=0|KESMO_WORKER=heron|TZ=UTC";
    assert!(lines[0].contains(wanted), "{lines:?}");
    assert!(!lines[0].contains("TOKEN"), "{lines:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_process_each_goes_on_after_a_failure() {
    let script = "[ \"$1\" = b ] && { echo no >&2; exit 1; }; exit 0";
    let mut bench = bench("exit", "{name}", "", script);
    let lines = told(&mut bench, grant(&["a", "b", "c"], None)).await;
    assert_eq!(lines, ["passed 0 [] []", "failed 1 [no (status 1)] [no]", "passed 2 [] []", "Done"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_limit_ends_the_test_that_ran() {
    let mut bench = bench("tap", "{names}", "", "echo ok - a; echo waiting; sleep 600");
    let lines = told(&mut bench, grant(&["a", "b", "c"], None)).await;
    assert_eq!(lines.len(), 3, "{lines:?}");
    assert!(lines[1].starts_with("timed-out 1 [it ran longer than its limit of 1.0 s"), "{lines:?}");
    assert!(lines[1].ends_with("[waiting]"), "what it printed until then is kept: {lines:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_batch_that_goes_on_and_on_is_ended_at_its_limit() {
    let mut bench = bench("tap", "{names}", "[limits]\nbatch = \"1s\"", "for t; do echo \"ok - $t\"; sleep 0.1; done");
    let names: Vec<String> = (0..50).map(|n| n.to_string()).collect();
    let lines = told(&mut bench, grant(&names.iter().map(String::as_str).collect::<Vec<_>>(), None)).await;
    let late = lines.iter().position(|line| line.contains("its batch ran longer than 1.0 s")).expect("it is ended");
    assert!(late < 40 && lines[late].starts_with("timed-out"), "{lines:?}");
}

const ONE_AFTER_THE_OTHER: &str = "for t; do sleep 0.7; echo \"ok - $t\"; done";
const ALL_PASSED: [&str; 7] = [
    "passed 0 [] []",
    "passed 1 [] []",
    "passed 2 [] []",
    "passed 3 [] []",
    "passed 4 [] []",
    "passed 5 [] []",
    "Done",
];

/// Six tests, each of which may run for half of the time in which nothing is heard of them.
fn six() -> Grant {
    let job = grant(&["a", "b", "c", "d", "e", "f"], None);
    let entries = job.entries.into_iter().map(|e| GrantedEntry { limit_us: 1_500_000, ..e }).collect();
    Grant { entries, ..job }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_runs_while_nothing_can_be_told_is_not_late_for_it() {
    let mut bench = bench("tap", "{names}", "", ONE_AFTER_THE_OTHER);
    (bench.tools.events, bench.coming) = mpsc::channel(1);
    let (tools, (_switches, told)) = (bench.tools.clone(), switches(true));
    let running = tokio::spawn(async move { run(&tools, six(), told).await });
    tokio::time::sleep(Duration::from_secs(3)).await;
    let mut lines = Vec::new();
    while lines.last().is_none_or(|line| line != "Done") {
        let events = bench.coming.recv().await.expect("the batch goes on");
        lines.extend(events.into_iter().filter_map(line_of));
    }
    assert_eq!(lines, ALL_PASSED);
    running.await.expect("it ends");
}

/// From 300 ms after now on the worker does nothing until three seconds have passed.
async fn stands_still() {
    tokio::time::sleep(Duration::from_millis(300)).await;
    std::thread::sleep(Duration::from_millis(2700));
}

#[tokio::test]
async fn what_came_while_the_worker_stood_still_came_in_time() {
    let mut bench = bench("tap", "{names}", "", ONE_AFTER_THE_OTHER);
    let still = tokio::spawn(stands_still());
    assert_eq!(told(&mut bench, six()).await, ALL_PASSED);
    still.await.expect("it stood still");
}

#[tokio::test]
async fn what_may_have_stood_still_with_its_worker_has_its_time_after_that() {
    let mut bench = bench("tap", "{names}", "", "sleep 3.6; echo ok - a");
    let still = tokio::spawn(stands_still());
    let job = six();
    let one = Grant { entries: vec![GrantedEntry { limit_us: 2_500_000, ..job.entries[0].clone() }], ..job };
    assert_eq!(told(&mut bench, one).await, ["passed 0 [] []", "Done"]);
    still.await.expect("it stood still");
}

#[tokio::test]
async fn a_worker_that_is_always_late_ends_what_hangs_all_the_same() {
    let mut bench = bench("tap", "{names}", "", "sleep 600");
    let late = tokio::spawn(async {
        loop {
            tokio::task::yield_now().await;
            std::thread::sleep(Duration::from_millis(1300));
        }
    });
    let job = six();
    let one = Grant { entries: job.entries[..1].to_vec(), ..job };
    let lines = tokio::time::timeout(Duration::from_secs(60), told(&mut bench, one)).await.expect("it is ended");
    assert!(lines[0].starts_with("timed-out 0 [it ran longer than its limit of 1.5 s"), "{lines:?}");
    late.abort();
}

#[tokio::test]
async fn what_ended_while_the_worker_stood_still_ended_in_time() {
    let mut bench = bench("exit", "{name}", "", "sleep 0.7");
    let still = tokio::spawn(stands_still());
    let job = six();
    let one = Grant { entries: job.entries[..1].to_vec(), ..job };
    assert_eq!(told(&mut bench, one).await, ["passed 0 [] []", "Done"]);
    still.await.expect("it stood still");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_that_never_stops_printing_is_ended_at_its_limit() {
    let mut bench = bench("tap", "{names}", "[limits]\noutput = \"8 KiB\"", "while :; do echo again and again; done");
    let lines = told(&mut bench, grant(&["a"], None)).await;
    assert!(lines[0].starts_with("timed-out 0"), "{:.200}", lines[0]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_process_that_does_not_end_after_its_last_test_is_ended() {
    let limits = "[limits]\ntest = \"300ms\"";
    let mut bench = bench("tap", "{names}", limits, "echo ok - a; exec sleep 600");
    let lines = told(&mut bench, grant(&["a"], None)).await;
    assert_eq!(lines[0], "passed 0 [] []");
    assert!(lines.iter().any(|l| l.contains("did not end after its last test and was ended")), "{lines:?}");
    assert_eq!(lines.last().map(String::as_str), Some("Done"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_revoked_batch_ends_at_once_with_its_processes() {
    let bench = bench("tap", "{names}", "", "touch begun; sleep 600");
    let (switches, told) = switches(true);
    let (tools, job) = (bench.tools.clone(), patient(grant(&["a"], None)));
    let running = tokio::spawn(async move { run(&tools, job, told).await });
    bench.begun().await;
    switches.order.send_replace(Order::Revoke);
    tokio::time::timeout(Duration::from_secs(10), running).await.expect("it ends").unwrap();
    assert_eq!(process::end_marked_of(&bench.tools.mark).await, 0, "nothing is left");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_test_prints_is_sent_while_it_is_followed_and_from_its_beginning() {
    let end = "until [ -e end ]; do sleep 0.01; done";
    let script = format!("echo first; {WAITS}; echo second; {end}; echo 'ok 1 - a'; echo other; echo 'ok 2 - b'");
    let mut bench = bench("tap", "{names}", "", &script);
    let (sender, mut outputs) = mpsc::channel(64);
    bench.tools.outputs = sender;
    let (switches, told) = switches(true);
    let (tools, job) = (bench.tools.clone(), patient(grant(&["a", "b"], None)));
    let running = tokio::spawn(async move { run(&tools, job, told).await });
    bench.begun().await;
    assert!(outputs.try_recv().is_err(), "nobody follows yet");
    switches.follow.send_replace(true);
    let mut heard = String::new();
    let mut hear = |output| match output {
        Some(FromWorker::Output { entry: 0, from, text, .. }) => {
            assert_eq!(from as usize, heard.len(), "no gap");
            heard += &text;
            true
        }
        _ => false,
    };
    // The first is told from its beginning, and the second as it comes.
    for _ in 0..2 {
        let told = tokio::time::timeout(Duration::from_secs(10), outputs.recv()).await;
        assert!(hear(told.expect("it is told while the test runs")));
        bench.go();
    }
    std::fs::write(bench.beside("end"), "").unwrap();
    tokio::time::timeout(Duration::from_secs(10), running).await.expect("it ends").unwrap();
    while hear(outputs.try_recv().ok()) {}
    assert_eq!(heard, "first\nsecond\n");
    assert_eq!(lines_of(&mut bench), ["passed 0 [] [first|second]", "passed 1 [] [other]", "Done"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sender_says_that_it_is_there_and_begins_when_it_is_let_through() {
    let script = "echo \"sender $KESMO_SENDER of $KESMO_SENDERS\"; echo \"ok - $1\"";
    for through in [true, false] {
        let mut bench = bench("tap", "{names}", "", script);
        let (switches, told) = switches(false);
        let sender = Some(Sender { number: 2, of: 3 });
        let (tools, job) = (bench.tools.clone(), Grant { sender, ..grant(&["a"], None) });
        let running = tokio::spawn(async move { run(&tools, job, told).await });
        let said = bench.coming.recv().await.expect("it says that it is there");
        assert!(matches!(said.as_slice(), [WorkerEvent::AtGate { .. }]), "{said:?}");
        assert!(lines_of(&mut bench).is_empty(), "nothing runs yet");
        if through {
            switches.begin.send_replace(true);
        } else {
            switches.order.send_replace(Order::Revoke);
        }
        tokio::time::timeout(Duration::from_secs(10), running).await.expect("it ends").unwrap();
        let wanted: &[&str] = if through { &["passed 0 [] [sender 2 of 3]", "Done"] } else { &["Revoked"] };
        assert_eq!(lines_of(&mut bench), wanted);
    }
}

/// Reads lines until so many begin like this.
async fn read_until(bench: &mut Bench, lines: &mut Vec<String>, count: usize, beginning: &str) {
    while lines.iter().filter(|line| line.starts_with(beginning)).count() < count {
        let more = tokio::time::timeout(Duration::from_secs(10), bench.coming.recv()).await;
        lines.extend(more.expect("they come").expect("it works").into_iter().filter_map(line_of));
    }
}

/// Runs a batch that is asked to give back once its script has begun to wait and so many have ended; the file `on` comes when it has
/// given back so many times.
async fn gives_back(
    mut bench: Bench,
    names: &[&str],
    from: Option<u32>,
    (ended, times): (usize, usize),
) -> Vec<String> {
    let (switches, told) = switches(true);
    let (tools, job) = (bench.tools.clone(), patient(grant(names, None)));
    let running = tokio::spawn(async move { run(&tools, job, told).await });
    bench.begun().await;
    let mut lines = Vec::new();
    read_until(&mut bench, &mut lines, ended, "passed").await;
    switches.order.send_replace(Order::GiveBack { from });
    read_until(&mut bench, &mut lines, 1, "gave back").await;
    bench.go();
    read_until(&mut bench, &mut lines, times, "gave back").await;
    std::fs::write(bench.beside("on"), "").unwrap();
    tokio::time::timeout(Duration::from_secs(10), running).await.expect("it ends").unwrap();
    assert_eq!(process::end_marked_of(&bench.tools.mark).await, 0, "nothing is left");
    lines.extend(lines_of(&mut bench));
    lines
}

#[tokio::test(flavor = "multi_thread")]
async fn what_has_not_begun_is_given_back_and_the_process_ended_after_what_runs() {
    let script = format!("for t; do {WAITS}; echo \"ok - $t\"; done");
    let lines = gives_back(bench("tap", "{names}", "", &script), &["a", "b", "c"], None, (0, 1)).await;
    assert_eq!(lines, ["gave back [1, 2]", "passed 0 [] []", "Done"]);
    let part = gives_back(bench("tap", "{names}", "", &script), &["a", "b", "c"], Some(2), (0, 1)).await;
    assert_eq!(part, lines, "in which order they run is not known yet");
}

#[tokio::test(flavor = "multi_thread")]
async fn processes_that_were_not_started_are_given_back() {
    let lines = gives_back(bench("exit", "{name}", "", WAITS), &["a", "b", "c"], None, (0, 1)).await;
    assert_eq!(lines, ["gave back [1, 2]", "passed 0 [] []", "Done"]);
    let part = gives_back(bench("exit", "{name}", "", WAITS), &["a", "b", "c"], Some(2), (0, 1)).await;
    assert_eq!(part, ["gave back [2]", "passed 0 [] []", "passed 1 [] []", "Done"]);
}

/// Eight tests, of which the fourth waits.
const EIGHT: [&str; 8] = ["a", "b", "c", "d", "e", "f", "g", "h"];

#[tokio::test(flavor = "multi_thread")]
async fn a_process_that_keeps_to_the_order_goes_on_to_its_part() {
    let script = format!("for t; do [ $t != d ] || {{ {WAITS}; }}; echo \"ok - $t\"; done");
    let lines = gives_back(bench("tap", "{names}", "", &script), &EIGHT, Some(6), (3, 1)).await;
    let wanted = "passed 0 [] [], passed 1 [] [], passed 2 [] [], gave back [6, 7], passed 3 [] [], passed 4 [] [], passed 5 [] [], Done";
    assert_eq!(lines.join(", "), wanted);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_process_that_runs_what_it_gave_back_gives_back_the_rest() {
    let on = "until [ -e on ]; do sleep 0.01; done";
    let script = format!(
        "for t in a b c d h e f g; do [ $t != d ] || {{ {WAITS}; }}; [ $t != e ] || {{ {on}; }}; echo \"ok - $t\"; done"
    );
    let mut lines = gives_back(bench("tap", "{names}", "", &script), &EIGHT, Some(7), (3, 2)).await;
    // What it gives back may be told before the result that came with the sign.
    lines.sort();
    let wanted = "Done, gave back [5, 6], gave back [7], passed 0 [] [], passed 1 [] [], passed 2 [] [], passed 3 [] [], passed 4 [] []";
    assert_eq!(lines.join(", "), wanted);
}

#[tokio::test(flavor = "multi_thread")]
async fn tests_that_say_when_they_start_are_given_back_while_they_have_not() {
    let script = r#"exec 3>"$KESMO_EVENTS"
        for t; do
            echo "{\"test\":\"$t\",\"event\":\"start\"}" >&3; waits
            echo "{\"test\":\"$t\",\"event\":\"end\",\"outcome\":\"passed\"}" >&3
        done"#;
    let bench = bench("events", "{names}", "", &script.replace("waits", WAITS));
    let lines = gives_back(bench, &["a", "b", "c"], None, (0, 1)).await;
    assert_eq!(lines, ["gave back [1, 2]", "passed 0 [] []", "Done"]);
}

fn files(results: &str, run: &str, more: &str, script: &str) -> Bench {
    let rerun = "rerun = [\"sh\", \"tests.sh\", \"{name}\", \"{cases-file}\"]";
    bench(results, run, &format!("each = \"file\"\n{rerun}\n{more}"), script)
}

/// All cases that were told, in their order: title, how they ended, message and detail; and the other lines.
async fn cases_told(bench: &mut Bench, grant: Grant) -> (Vec<kesmo_wire::link::CaseReport>, Vec<String>) {
    let (_switches, told) = switches(true);
    run(&bench.tools, grant, told).await;
    let (mut all, mut rest) = (Vec::new(), Vec::new());
    while let Ok(events) = bench.coming.try_recv() {
        for event in events {
            match event {
                WorkerEvent::Cases { first, cases, .. } => {
                    assert_eq!(first as usize, all.len(), "no gap");
                    all.extend(cases);
                }
                WorkerEvent::Ended(r) => {
                    assert_eq!(r.cases as usize, all.len());
                    rest.push(format!("{} {} [{}]", r.ended, r.entry, r.message));
                }
                WorkerEvent::Note { text, .. } => rest.push(format!("note {text}")),
                WorkerEvent::Wrong { text, .. } => rest.push(format!("wrong {text}")),
                _ => {}
            }
        }
    }
    (all, rest)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_tells_of_its_cases_as_it_runs() {
    let script = "echo ok 1 - opens; echo the gate is shut; echo not ok 2 - refuses; echo '# got 7'; echo 1..2; exit 1";
    let mut bench = files("tap", "{name}", "", script);
    let lines = told(&mut bench, grant(&["gate.sh", "quay.sh"], None)).await;
    let all = lines.join("\n");
    for wanted in ["opens passed", "refuses failed", "passed 0 [1 of 2 cases failed: refuses: got 7]", "passed 1 ["] {
        assert!(all.contains(wanted), "{all}");
    }
    assert!(all.contains("ok 1 - opens|the gate is shut|not ok 2"), "all that it printed is kept in its order: {all}");
    assert!(!all.contains("note") && !all.contains("wrong"), "{all}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_retry_is_told_the_cases_that_it_is_to_run() {
    let script = "while read -r title; do echo \"ok - $title\"; done < \"$2\"";
    let mut one = files("tap", "{name}", "", script);
    let to_run = ToRun { cases: vec!["pays by card".into(), "opens / late".into()], ..ToRun::default() };
    let job = Grant { to_run, ..grant(&["gate.sh"], Some(2)) };
    let (cases, rest) = cases_told(&mut one, job.clone()).await;
    assert_eq!(cases.iter().map(|c| c.title.as_str()).collect::<Vec<_>>(), ["pays by card", "opens / late"]);
    assert_eq!(rest, ["passed 0 []"]);
    let fewer = "head -n 1 \"$2\" | sed 's/^/ok - /'";
    let (cases, rest) = cases_told(&mut files("tap", "{name}", "", fewer), job.clone()).await;
    assert_eq!(cases.len(), 1);
    assert_eq!(rest, ["failed 0 [it was to run 2 of its cases, and did not tell of \"opens / late\"]"]);
    let more = format!("{script}; echo ok - another");
    let (cases, rest) = cases_told(&mut files("tap", "{name}", "", &more), job).await;
    assert_eq!(cases.len(), 3);
    assert!(rest[0].starts_with("note gate.sh was to run 2 of its cases and told of 1 others too"), "{rest:?}");
    assert_eq!(rest[1], "passed 0 []");
}

#[tokio::test(flavor = "multi_thread")]
async fn titles_that_nobody_would_choose_are_taken() {
    let script = r#"printf 'ok 1 - a\000b\n'; printf 'not ok 2 - '; head -c 100000 /dev/zero | tr '\0' x; echo
        awk 'BEGIN { for (i = 0; i < 20000; i++) print "ok - same" }'; echo '    # Subtest: deep'; echo '        ok 1 - er'; echo 'ok 9'"#;
    let mut bench = files("tap", "{name}", "[limits]\noutput = \"8 KiB\"", script);
    let mut job = grant(&["gate.sh"], None);
    job.entries[0].limit_us = 60_000_000;
    let (cases, rest) = cases_told(&mut bench, job).await;
    assert_eq!(cases[0].title, "a\u{fffd}b");
    assert!(cases[1].title.len() <= 500 && cases[1].ended == kesmo_core::words::Ended::Failed, "{}", cases[1].title);
    assert_eq!((cases[2].title.as_str(), cases[20_001].title.as_str()), ("same", "same (20000)"));
    let titles: std::collections::HashSet<&str> = cases.iter().map(|c| c.title.as_str()).collect();
    assert_eq!(titles.len(), cases.len(), "no two are alike");
    assert!(cases[1].detail.is_empty(), "a result explains nothing: {:.80}", cases[1].detail);
    assert!(rest[0].starts_with("passed 0 [1 of 2000"), "{rest:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_does_not_keep_to_its_plan_or_ends_badly_has_failed_itself() {
    for (script, wanted) in [
        ("echo 1..3; echo ok 1 - a; exit 0", "failed 0 [the TAP plan promised 3 tests, and 1 were reported]"),
        ("echo 1..3; echo ok 1 - a; exit 1", "failed 0 [the TAP plan promised 3 tests, and 1 were reported]"),
        (
            "echo 1..1; echo ok 1 - a; echo no more coal >&2; exit 5",
            "failed 0 [its case was good, and then its process ended with status 5: ",
        ),
        ("echo ok 1 - a; kill -SEGV $$", "crashed 0 [its process ended under it, with signal 11"),
        (
            "echo ok 1 - a; echo 'Bail out! the quay is gone'",
            "crashed 0 [its process ended under it, with status 0: it bailed out: the quay is gone",
        ),
        ("echo hello", "crashed 0 [its process ended with status 0 and told of no case: hello]"),
        ("echo '1..0 # SKIP no boat today'", "skipped 0 [no boat today]"),
        (
            "echo ok - a; exec sleep 600",
            "timed-out 0 [its process ran longer than the limit of its file, 1.0 s, and was ended",
        ),
    ] {
        let (_, rest) = cases_told(&mut files("tap", "{name}", "", script), grant(&["gate.sh"], None)).await;
        assert!(rest.len() == 1 && rest[0].starts_with(wanted), "{script}: {rest:?}");
    }
    let (_, rest) =
        cases_told(&mut files("tap", "{name}", "end = \"ignored\"", "echo ok - a; exit 5"), grant(&["gate.sh"], None))
            .await;
    assert_eq!(rest, ["passed 0 []"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn files_tell_of_cases_in_junit_xml_wherever_they_are_nested() {
    let script = r#"cat > out.xml <<END
<testsuites><testsuite name="outer"><testsuite name="inner">
<testcase classname="specs.gate" name="opens" time="0.5"/>
<testcase classname="other" name="shuts"><failure message="no">why</failure></testcase>
</testsuite></testsuite></testsuites>
END"#;
    let mut bench = files("junit", "{name}", "junit = [\"*.xml\"]", script);
    let (cases, rest) = cases_told(&mut bench, grant(&["specs/gate.sh"], None)).await;
    let said: Vec<_> = cases.iter().map(|c| (c.title.as_str(), c.spent_us)).collect();
    assert_eq!((said[0], said[1].0), (("opens", 500_000), "other/shuts"));
    assert_eq!((cases[1].message.as_str(), cases[1].detail.as_str()), ("no", "why"));
    assert_eq!(rest, ["passed 0 [1 of 2 cases failed: other/shuts: no]"]);
    let broken = "echo '<testsuite><testcase name=\"a\"/></testsuite>' > a.xml; echo '<testsuite><testcase' > b.xml";
    let (cases, rest) =
        cases_told(&mut files("junit", "{name}", "junit = [\"*.xml\"]", broken), grant(&["gate.sh"], None)).await;
    assert_eq!(cases.len(), 1);
    assert!(rest[0].starts_with("failed 0 [b.xml could not be used: "), "{rest:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn junit_xml_that_has_more_than_it_tells_of_is_no_pass() {
    let told = async |counts: &str, cases: &[&str]| {
        let xml = format!("<testsuite name=\"gate\" {counts}><testcase name=\"opens\"/></testsuite>");
        let script = format!("cat > out.xml <<END\n{xml}\nEND");
        let mut bench = files("junit", "{name}", "junit = [\"*.xml\"]", &script);
        let mut grant = grant(&["gate.sh"], None);
        grant.to_run.cases = cases.iter().map(|case| (*case).to_owned()).collect();
        cases_told(&mut bench, grant).await.1
    };
    let said = told("tests=\"1\" failures=\"1\" errors=\"1\"", &[]).await;
    assert_eq!(
        said,
        ["failed 0 [out.xml: the <testsuite> \"gate\" says that it has 2 failures and errors, and tells of 0]"]
    );
    let said = told("tests=\"3\" failures=\"0\"", &[]).await;
    assert_eq!(said, ["failed 0 [out.xml: the <testsuite> \"gate\" says that it has 3 test cases, and tells of 1]"]);
    // Of a rerun of one case those that did not run may be counted.
    let said = told("tests=\"3\" failures=\"0\"", &["opens"]).await;
    assert!(said.iter().any(|line| line.starts_with("passed 0 []")), "{said:?}");
    assert_eq!(told("tests=\"3\" skipped=\"2\"", &[]).await, ["passed 0 []"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn junit_xml_with_fifty_megabytes_of_output_is_read_within_bounds() {
    let script = r#"{ printf '<testsuite><testcase name="a"><system-out>'; head -c 52428800 /dev/zero | tr '\0' x
        printf '</system-out></testcase><testcase name="b"/></testsuite>'; } > out.xml"#;
    let mut bench = files("junit", "{name}", "junit = [\"*.xml\"]\n[limits]\noutput = \"8 KiB\"", script);
    let mut job = grant(&["gate.sh"], None);
    job.entries[0].limit_us = 60_000_000;
    let (cases, rest) = cases_told(&mut bench, job).await;
    assert_eq!((cases.len(), rest), (2, vec!["passed 0 []".to_owned()]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_case_whose_end_is_lost_is_no_pass() {
    let told = async |more: &str| {
        let script = format!(
            r#"exec 3>"$KESMO_EVENTS"; say() {{ echo "$1" >&3; }}
            say '{{"file":"gate.sh","case":"opens","event":"end","outcome":"passed"}}'
            {more}"#
        );
        let mut bench = files("events", "{name}", "", &script);
        let (cases, rest) = cases_told(&mut bench, grant(&["gate.sh"], None)).await;
        let case = |c: &kesmo_wire::link::CaseReport| format!("{} {} {}", c.title, c.ended, c.message);
        (cases.iter().map(case).collect::<Vec<_>>(), rest)
    };
    let (cases, rest) = told(r#"say '{"file":"gate.sh","case":"shuts","event":"start"}'"#).await;
    assert_eq!(cases, ["opens passed ", "shuts crashed it began, and nothing told of its end"]);
    assert_eq!(rest, ["passed 0 [1 of 2 cases failed: shuts: it began, and nothing told of its end]"]);
    let (cases, _) = told(r#"say '{"file":"gate.sh","case":"shuts","event":"start"}'; exit 3"#).await;
    assert_eq!(cases[1], "shuts crashed its process ended under it, with status 3");
    let (cases, rest) = told(r#"say '{"file":"gate.sh","case":"shuts","event":"start"}'; sleep 60"#).await;
    assert!(cases[1].starts_with("shuts timed-out ") && rest[0].starts_with("timed-out 0 ["), "{cases:?} {rest:?}");
    for lost in [
        r#"say '{"file":"gate.sh","case":"shuts","event":"end","outcome":"faild"}'"#,
        r#"printf '{"file":"gate.sh","case":"shuts","event":"end","outco' >&3"#,
        r#"say '{"file":"gate.sh","case":"shuts","event":"failed"}'"#,
    ] {
        let (cases, rest) = told(lost).await;
        assert_eq!(cases.len(), 1);
        assert!(rest[0].starts_with("failed 0 [a broken event line: "), "{rest:?}");
    }
    // What was no result, or said no more than a step, changes nothing.
    let (_, rest) = told(r#"say '{"file":"gate.sh","case":"opens","event":"step","name":"late"}'; say '{"test":"gate.sh/opens","event":"measure","name":"scan","value":NaN}'"#).await;
    assert_eq!(rest.len(), 2, "{rest:?}");
    assert!(rest[0].starts_with("note a broken event line") && rest[1] == "passed 0 []", "{rest:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_event_line_that_cannot_be_read_may_have_been_a_failure() {
    let script = r#"exec 3>"$KESMO_EVENTS"
        for t in "$@"; do echo "{\"test\":\"$t\",\"event\":\"end\",\"outcome\":\"passed\"}" >&3; done
        echo '{"test":"a","event":"end","outcome":"faild"}' >&3"#;
    let lines = told(&mut bench("events", "{names}", "", script), grant(&["a", "b"], None)).await;
    let wrong = "wrong a broken event line: the outcome \"faild\" is not passed, failed or skipped";
    assert!(lines.iter().any(|line| line.starts_with(wrong)), "{lines:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn several_files_in_a_process_tell_of_cases_by_their_names_and_strangers_are_told() {
    let script = r#"exec 3>"$KESMO_EVENTS"; say() { echo "$1" >&3; }
        say '{"test":"a.sh/opens","event":"start"}'
        say '{"test":"a.sh/opens","event":"end","outcome":"passed"}'
        say '{"file":"b.sh","case":"opens","event":"end","outcome":"failed","message":"no"}'
        say '{"file":"c.sh","case":"opens","event":"end","outcome":"failed"}'
        say '{"file":"b.sh","event":"end","outcome":"failed","message":"the whole of b"}'
        say '{"case":"opens","event":"end","outcome":"failed"}'"#;
    let mut bench = files("events", "{name}", "", script);
    let toml = bench.tools.home.join("sources/bundle/files/kesmo.toml");
    let text = std::fs::read_to_string(&toml).unwrap().replacen("\"{name}\"", "\"{names}\"", 1);
    std::fs::write(&toml, text).unwrap();
    let lines = told(&mut bench, grant(&["a.sh", "b.sh"], None)).await;
    let all = lines.join("\n");
    for wanted in [
        "cases of 0 from 0: opens passed (1)",
        "cases of 1 from 0: opens failed (1)",
        "wrong a result failed came for \"c.sh/opens\", which is of no file in the batch",
        "passed 0 []",
        "failed 1 [the whole of b]",
        "wrong a broken event line: give \"test\", or \"file\" and \"case\"",
    ] {
        assert!(all.contains(wanted), "{wanted} in {all}");
    }
}

/// A fed batch of `names`, of which the first is granted and the others are fed after so many results each.
async fn fed(script: &str, results: &str, names: &[&str], limit_us: u64) -> Vec<String> {
    let mut bench = bench(results, "fed", "feed = \"lines\"", script);
    let (switches, told) = switches(true);
    let mut all = grant(names, None);
    all.entries.iter_mut().for_each(|e| e.limit_us = limit_us);
    let later = all.entries.split_off(1);
    let job = Grant { more: true, ..all };
    let tools = bench.tools.clone();
    let running = tokio::spawn(async move { run(&tools, job, told).await });
    let mut lines = Vec::new();
    let mut waiting = later.into_iter();
    loop {
        let events = bench.coming.recv().await.expect("the batch tells its end");
        let ended = events.iter().filter(|e| matches!(e, WorkerEvent::Ended(_))).count();
        let over = events.iter().any(|e| matches!(e, WorkerEvent::BatchEnded { .. }));
        lines.extend(events.into_iter().filter_map(line_of));
        if over {
            break;
        }
        for _ in 0..ended {
            let next: Vec<GrantedEntry> = waiting.next().into_iter().collect();
            let last = next.is_empty();
            // It is said twice, as after a link that was cut.
            for _ in 0..2 {
                drop(switches.feed.send(Fed { entries: next.clone(), last }));
            }
        }
    }
    running.await.unwrap();
    assert_eq!(process::end_marked_of(&bench.tools.mark).await, 0, "nothing is left");
    lines
}

#[tokio::test(flavor = "multi_thread")]
async fn a_process_that_stays_is_fed_one_test_after_the_other() {
    let script =
        "n=0; while read -r t; do n=$((n + 1)); echo \"runs $t as $n\"; echo \"ok - $t\"; done; echo cleared up";
    let lines = fed(script, "tap", &["a", "b", "c"], 5_000_000).await;
    assert_eq!(lines[..2], ["passed 0 [] [runs a as 1]", "passed 1 [] [runs b as 2]"], "{lines:?}");
    assert!(lines[2].starts_with("passed 2 [] [runs c as 3") && lines[3] == "Done", "{lines:?}");
    let events = r#"while read -r t; do echo "{\"test\":\"$t\",\"event\":\"end\",\"outcome\":\"passed\"}" >> "$KESMO_EVENTS"; done"#;
    assert_eq!(fed(events, "events", &["a", "b"], 5_000_000).await, ["passed 0 [] []", "passed 1 [] []", "Done"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_fed_process_that_dies_or_overruns_costs_the_test_it_had_and_nothing_else() {
    let dies = "read -r t; echo \"ok - $t\"; read -r t; exit 3";
    let lines = fed(dies, "tap", &["a", "b", "c"], 5_000_000).await;
    assert_eq!(lines[0], "passed 0 [] []");
    assert!(lines[1].starts_with("crashed 1 [its process ended under it, with status 3"), "{lines:?}");
    assert_eq!(lines[2], "Done");
    let early = "read -r t; echo \"ok - $t\"; read -r t; exit 0";
    let lines = fed(early, "tap", &["a", "b", "c"], 5_000_000).await;
    assert!(lines[1].starts_with("crashed 1 [its process ended under it, with status 0"), "{lines:?}");
    let slow = "read -r t; echo \"ok - $t\"; read -r t; exec sleep 600";
    let lines = fed(slow, "tap", &["a", "b", "c"], 300_000).await;
    assert!(lines[1].starts_with("timed-out 1 [it ran longer than its limit"), "{lines:?}");
    assert_eq!(lines[2], "Done");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_fed_process_that_never_reads_closes_its_input_or_never_stops_writing_is_ended_at_the_limit() {
    for script in ["exec sleep 600", "exec <&-; exec sleep 600", "while :; do echo again and again; done"] {
        let mut bench = bench("tap", "fed", "feed = \"lines\"\n[limits]\noutput = \"8 KiB\"", script);
        let mut job = grant(&["a", "b"], None);
        job.entries.iter_mut().for_each(|e| e.limit_us = 400_000);
        let lines = told(&mut bench, job).await;
        let timed_out = lines.iter().filter(|l| l.starts_with("timed-out 0")).count();
        assert_eq!((timed_out, lines.last().map(String::as_str)), (1, Some("Done")), "{script}: {lines:?}");
        assert!(!lines.iter().any(|l| l.starts_with("timed-out 1")), "{script}: the other goes back: {lines:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_fed_process_says_of_what_it_was_not_fed_is_told() {
    let script = "read -r t; echo \"ok - z\"; echo \"not ok - y\"; echo \"ok - $t\"; echo \"ok - $t\"; while read -r t; do echo \"ok - $t\"; done";
    let all = fed(script, "tap", &["a", "b"], 5_000_000).await.join("\n");
    for wanted in [
        "note a result for \"z\", which is not in the batch, was left aside",
        "wrong a result failed came for \"y\", which is not in the batch",
        "note a second result for \"a\" in one process was left aside",
        "passed 0 []",
        "passed 1 []",
        "Done",
    ] {
        assert!(all.contains(wanted), "{wanted} in {all}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_command_that_is_not_there_makes_the_worker_unfit() {
    let mut bench = bench("tap", "{names}", "", "");
    let folder = bench.tools.home.join("sources/bundle/files/kesmo.toml");
    let text = std::fs::read_to_string(&folder).unwrap().replace("\"sh\", \"tests.sh\"", "\"./nowhere\"");
    std::fs::write(&folder, text).unwrap();
    let lines = told(&mut bench, grant(&["a"], None)).await;
    assert_eq!(lines.len(), 1);
    assert!(lines[0].contains("Unfit") && lines[0].contains("./nowhere"), "{lines:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn broken_event_lines_are_remarked_and_the_test_judged_by_its_end() {
    let script = r#"
echo '{"test":"a","event":"start"}' >> "$KESMO_EVENTS"
echo 'nonsense' >> "$KESMO_EVENTS"
echo '{"test":"z","event":"end","outcome":"passed"}' >> "$KESMO_EVENTS"
exit 7"#;
    let mut bench = bench("events", "{names}", "", script);
    let lines = told(&mut bench, grant(&["a", "b"], None)).await;
    let all = lines.join("\n");
    for wanted in [
        "a broken event line",
        "\"z\", which is not in the batch",
        "crashed 0 [its process ended under it, with status 7",
    ] {
        assert!(all.contains(wanted), "{all}");
    }
    assert!(!all.contains("crashed 1"), "the other goes back, uncharged: {all}");
}
