//! Everything in Kesmo that reads bytes of others, as functions that any bytes may be given to. Each panics where a promise does not
//! hold: that nothing panics, that what is read keeps its bounds, and that what was read and is written again reads the same.
//!
//! `fuzz/run` gives them what libFuzzer comes upon, and keeps in `fuzz/corpus` what reached new code; the tests give them all of that
//! again. Kept libraries are not asked whether they read well (JSON, TOML, XML, gzip, JWT, server-sent events), but what is made of
//! what they read.

use std::{collections::HashSet, io::Write, path::Path};

use flate2::{Compression, write::GzEncoder};
use kesmo_core::{
    calendar::{cron::Cron, schedule::Schedule, schedule::Times, zone::Zone},
    fleet::CiPool,
    format::{
        events,
        imported::Import,
        junit,
        points::Points,
        tap::{self, Tap},
    },
    keep::parse_age,
    name::{Slug, TestName, case_title, for_shell, shorten},
    plan::{Only, brief::Brief, portion::Portion},
    pointer::Pointer,
    record::likeness,
    request::{Asked, in_text},
    source::{Branches, check_branch, check_commit, check_url, plain_address, shown_url},
    suite::{Choice, Pattern, SuiteFile, container::check_reference, covers::Requirement, draft, listing},
    time::{Bytes, Span, Timestamp},
    webhook::{Headers, Signed, Take, When, decide, read_body, read_secret, verify},
};
use kesmo_files::bundle;
use kesmo_wire::{
    Digest,
    link::{FromWorker, SecretGiven},
    reach::FromOfferer,
};
use kesmo_worker::mask::{Mask, Piecewise};

/// A function that any bytes may be given to.
pub type Target = fn(&[u8]);

/// All of them, by the names of their corpora.
pub const TARGETS: &[(&str, Target)] = &[
    ("addresses", addresses),
    ("answers", answers),
    ("briefs", briefs),
    ("bundles", bundles),
    ("events", event_lines),
    ("imports", imports),
    ("junit", junit_files),
    ("links", links),
    ("lists", lists),
    ("masks", masks),
    ("suites", suites),
    ("tap", tap_lines),
    ("times", times),
    ("webhooks", webhooks),
    ("words", words),
];

/// A moment that all of them take for now: 2026-11-27 08:00 UTC.
const NOW: Timestamp = Timestamp(1_795_766_400_000_000);

/// The bytes as text, as everything reads them that takes what a process prints.
fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// A first line, and what follows it.
fn first_line(bytes: &[u8]) -> (&[u8], &[u8]) {
    bytes.iter().position(|b| *b == b'\n').map_or((bytes, &[]), |at| (&bytes[..at], &bytes[at + 1..]))
}

/// TAP that a process prints, of tests and of files.
pub fn tap_lines(bytes: &[u8]) {
    let printed = text(bytes);
    for of_files in [false, true] {
        let mut reader = Points::new(of_files);
        let mut told: Vec<Tap> = Vec::new();
        for (number, line) in printed.lines().enumerate() {
            told.extend(reader.line(line));
            // As it is where nothing comes for a while.
            if number % 5 == 4 {
                told.extend(reader.release());
                assert!(!reader.holds_back(), "what was given out is not held");
            }
        }
        told.extend(reader.finish());
        assert!(told.len() <= 3 * printed.lines().count() + 3, "{} of {} lines", told.len(), printed.lines().count());
    }
    for line in printed.lines() {
        if let Some(title) = tap::title_of(line) {
            let again = tap::write_point(1, true, &title, None);
            assert_eq!(tap::title_of(&again).as_deref().map(case_title), Some(case_title(&title)), "{line:?}");
        }
    }
}

/// A file of JUnit XML.
pub fn junit_files(bytes: &[u8]) {
    let Ok(file) = junit::read(bytes) else { return };
    for case in &file.cases {
        assert!(!case.candidates().is_empty());
        assert!(case.output.len() <= bytes.len().max(256 << 10) * 3, "what is kept has a bound");
    }
}

/// A line of events.
pub fn event_lines(bytes: &[u8]) {
    for line in text(bytes).lines() {
        if let Ok(read) = events::read_line(line) {
            // An event that is read can be told on.
            drop(format!("{read:?}"));
        }
    }
}

/// What a list command prints.
pub fn lists(bytes: &[u8]) {
    let Ok(tests) = listing::read(bytes) else { return };
    assert!(!tests.is_empty(), "a list of nothing is none");
    let names: HashSet<&str> = tests.iter().map(|test| test.name.as_str()).collect();
    assert_eq!(names.len(), tests.len(), "each name stands once");
    let again: String =
        tests.iter().map(|test| serde_json::to_string(test).expect("it can be written") + "\n").collect();
    let mut again = listing::read(again.as_bytes()).expect("what was written can be read");
    // A number's last digit may be read as its neighbour.
    for (one, other) in again.iter_mut().zip(&tests) {
        let close = |(a, b): (f64, f64)| (a - b).abs() <= b * f64::EPSILON * 2.0;
        assert!(one.seconds.zip(other.seconds).is_none_or(close), "{:?}: {:?}", one.seconds, other.seconds);
        one.seconds = other.seconds;
    }
    assert_eq!(again, tests);
}

/// Files with results that ran elsewhere: parts are parted by a line of `=`.
pub fn imports(bytes: &[u8]) {
    for of_files in [false, true] {
        let known: HashSet<String> = ["gate/opens", "gate.sh"].into_iter().map(str::to_owned).collect();
        let mut import = Import::new(of_files, known);
        let whole = text(bytes);
        for (number, part) in whole.split("\n=\n").enumerate() {
            let name = if number % 2 == 0 { "out/gate.xml" } else { "out/berth.tap" };
            drop(import.read(name, part.as_bytes()));
        }
        let Ok((entries, wrongs)) = import.finish() else { continue };
        let names: HashSet<String> = entries.iter().map(|entry| format!("{:?}", entry.name)).collect();
        assert_eq!(names.len(), entries.len(), "each entry is there once");
        assert!(wrongs.len() <= 10_000, "{}", wrongs.len());
    }
}

/// A suite file.
pub fn suites(bytes: &[u8]) {
    let Ok(suite) = SuiteFile::parse("kesmo.toml", &text(bytes)) else { return };
    drop(suite.environment(None));
    drop(suite.environment(Some("ci")));
    for variant in suite.facets.variants() {
        drop(suite.needs_of(&variant));
    }
}

/// A brief, a description of requests, and of a CI server.
pub fn briefs(bytes: &[u8]) {
    let whole = text(bytes);
    drop(Brief::parse("brief.toml", &whole));
    if let Ok(asked) = Asked::parse("chat.toml", &whole) {
        drop(asked.check("chat", &["text", "link"]));
    }
    drop(CiPool::parse("pool.toml", &whole));
}

/// What a CI server answers.
pub fn answers(bytes: &[u8]) {
    let described = r#"
        [start]
        method = "POST"
        address = "http://127.0.0.1:9/start"
        job = "/job/id"
        link = "/job/link"
        [state]
        address = "http://127.0.0.1:9/{job}"
        at = "/state"
        why = "/why"
        waiting = ["waiting"]
        running = ["running"]
        ended = ["ended"]
    "#;
    let pool = CiPool::parse("pool.toml", described).expect("it is described well");
    let answer = text(bytes);
    if let Ok(job) = pool.start.job_in(&answer, |_| None) {
        assert!(!job.id.is_empty() && !job.id.chars().any(char::is_control), "{:?}", job.id);
    }
    drop(pool.state_in(&answer));
}

/// A delivery to a webhook: the first line is the content type, the second a condition, the third what is taken of it.
pub fn webhooks(bytes: &[u8]) {
    let (kind, rest) = first_line(bytes);
    let (when, rest) = first_line(rest);
    let (take, body) = first_line(rest);
    let mut headers = Headers { content_type: text(kind), ..Headers::default() };
    if text(kind).contains("binary") {
        for (name, value) in [("specversion", "1.0"), ("id", "7"), ("source", "quay"), ("type", "boat")] {
            headers.event.insert(name.into(), value.into());
        }
    }
    let whens: Vec<When> = When::parse(&text(when)).into_iter().collect();
    let takes: Vec<Take> = Take::parse(&text(take)).into_iter().collect();
    if let Ok(told) = read_body(&headers, body) {
        drop(decide(&whens, &takes, &told.body));
        assert!(!told.body.to_string().contains("\\u0000"), "PostgreSQL takes no NUL");
        assert!(told.event.is_none_or(|event| event.len() <= 510));
    }
    // What is signed with another key is never taken.
    let signature = text(kind);
    let signed = Signed { id: Some("7"), timestamp: Some("1795766400"), signature: Some(&signature) };
    assert!(verify(b"a key that nobody knows", signed, body, NOW).is_err());
    drop(read_secret(&text(kind)));
}

/// What a worker says, and what somebody who offers addresses says.
pub fn links(bytes: &[u8]) {
    let said = text(bytes);
    if let Ok(message) = FromWorker::read(&said) {
        let again = serde_json::to_string(&message).expect("it can be written");
        // A backslash that is written stands for itself: what follows it is a text.
        let written = again.replace(r"\\", "");
        assert!(!written.contains(r"\u0000") || matches!(message, FromWorker::Hello(_) | FromWorker::Leaving));
        let third = FromWorker::read(&again).map(|message| serde_json::to_string(&message).expect("it can be written"));
        assert_eq!(third.as_ref(), Ok(&again), "what is within its bounds is left alone");
    }
    drop(FromOfferer::read(&said));
}

/// A secret in the first line, and output in pieces of which each begins with its length.
pub fn masks(bytes: &[u8]) {
    let (secret, mut rest) = first_line(bytes);
    let secret = text(secret);
    let given = SecretGiven { variable: "GATE".into(), as_file: false, value: secret.clone() };
    let Some(mask) = Mask::of(&[given]) else { return };
    let mut pieces = Piecewise::default();
    let (mut whole, mut told) = (Vec::new(), Vec::new());
    while let Some((length, more)) = rest.split_first() {
        let (piece, after) = more.split_at(usize::from(*length).min(more.len()));
        whole.extend(piece);
        told.extend(pieces.take(&mask, piece));
        rest = after;
    }
    told.extend(pieces.finish(&mask));
    assert_eq!(told, mask.bytes(&whole), "in pieces or whole, the same is told");
    // What stands for a secret, with what is around it, may make another occurrence of a secret of stars; others are gone.
    let plain = secret.trim();
    if !plain.is_empty() && !plain.contains('*') {
        assert!(!told.windows(plain.len()).any(|window| window == plain.as_bytes()), "{plain:?} is told");
    }
}

/// An archive: the bytes as they are, and as the content of a gzip, which they would seldom be by chance.
pub fn bundles(bytes: &[u8]) {
    let limits = bundle::Limits { unpacked: 1 << 20, entries: 100, header: 4 << 10, suite_file: 64 << 10 };
    let mut packed = GzEncoder::new(Vec::new(), Compression::fast());
    packed.write_all(bytes).expect("memory takes it");
    let packed = packed.finish().expect("memory takes it");
    for archive in [bytes, &packed] {
        let folder = tempfile::tempdir().expect("a folder");
        let (file, to) = (folder.path().join("bundle"), folder.path().join("to"));
        std::fs::write(&file, archive).expect("a file");
        std::fs::create_dir(&to).expect("a folder");
        drop(bundle::check(&file, limits));
        if bundle::unpack(&file, &to, limits).is_ok() {
            within(&to, &to);
        }
        let left: Vec<_> = std::fs::read_dir(folder.path()).expect("a folder").flatten().collect();
        assert_eq!(left.len(), 2, "nothing is written beside: {left:?}");
    }
}

/// That nothing leads out of a folder, and its content keeps its bound.
fn within(folder: &Path, root: &Path) {
    for entry in std::fs::read_dir(folder).expect("a folder").flatten() {
        let (path, about) = (entry.path(), entry.metadata().expect("it is there"));
        if about.is_dir() {
            within(&path, root);
        } else if about.file_type().is_symlink() {
            if let Ok(to) = path.canonicalize() {
                assert!(to.starts_with(root.canonicalize().expect("a folder")), "{} leads out", path.display());
            }
        } else {
            assert!(about.len() <= 1 << 20, "{} bytes", about.len());
        }
    }
}

/// Expressions of times, a line each: cron, zone, moment, span, age.
pub fn times(bytes: &[u8]) {
    let whole = text(bytes);
    let mut lines = whole.lines();
    let mut next = || lines.next().unwrap_or_default().to_owned();
    let (cron, zone, at) = (next(), next(), next());
    for word in [&cron, &zone, &at] {
        if let Ok(span) = Span::parse(word) {
            assert!(!span.to_string().is_empty());
        }
        drop(Bytes::parse(word));
        drop(parse_age(word));
    }
    drop(Zone::parse(&zone));
    drop(Cron::parse(&cron));
    let with =
        |cron: Option<String>, at: Option<String>| Times { cron, at, zone: Some(zone.clone()), ..Times::default() };
    for times in [with(Some(cron.clone()), None), with(None, Some(at.clone()))] {
        let Ok(schedule) = Schedule::parse("nightly", &times) else { continue };
        let coming = schedule.upcoming(NOW, 5);
        assert!(coming.windows(2).all(|two| two[0] < two[1]), "{times:?}: {coming:?}");
        assert!(coming.first().is_none_or(|first| *first > NOW), "{times:?}: {coming:?}");
        drop((schedule.said(), schedule.clock_changes(NOW)));
    }
}

/// Addresses of repositories, branches, commits, images.
pub fn addresses(bytes: &[u8]) {
    for line in text(bytes).lines() {
        if let Ok(plain) = plain_address(line) {
            assert!(
                !plain.split('/').any(|part| part == "..") && !plain.contains(['?', '#', '\\']),
                "{line:?}: {plain:?}"
            );
            assert_eq!(plain_address(&plain).as_ref(), Ok(&plain), "{line:?}");
        }
        if check_url(line).is_ok() {
            assert!(!line.starts_with('-'), "git would take it for an option");
        }
        if check_branch(line).is_ok() {
            assert!(!line.starts_with('-') && !line.contains(".."), "{line:?}");
        }
        if check_commit(line).is_ok() {
            assert!(line.bytes().all(|b| b.is_ascii_hexdigit()), "{line:?}");
        }
        drop(shown_url(line));
        drop(check_reference(line));
        drop(Branches::parse(line));
        drop(Digest::parse(line));
    }
}

/// Short texts that people and programs write: picks, portions, pointers, names.
pub fn words(bytes: &[u8]) {
    let whole = text(bytes);
    let lines: Vec<String> = whole.lines().map(str::to_owned).collect();
    for line in &lines {
        if let Ok(pattern) = Pattern::parse(line) {
            std::hint::black_box(pattern.matches_text("gate/opens[chrome-1]"));
        }
        if let Ok(name) = TestName::parse(line) {
            assert!(
                Pattern::parse_or_name(name.as_str()).is_ok_and(|pattern| pattern.matches_text(name.as_str())),
                "{name:?}"
            );
        }
        if let Ok(slug) = Slug::parse("the name", line) {
            assert!(slug.as_str().bytes().all(|b| b.is_ascii_alphanumeric() || b"-_.".contains(&b)), "{slug:?}");
        }
        drop(Portion::parse(line));
        drop(Requirement::parse(line));
        drop(draft::command("--run", line));
        drop(likeness(line));
        assert!(shorten(line, 40).chars().count() <= 41);
        assert!(!case_title(line).chars().any(char::is_control), "{line:?}");
        assert!(!for_shell(line).is_empty());
        drop(in_text(line, &[("text", "x")].into_iter().collect()));
        if let Ok(pointer) = Pointer::parse(line) {
            drop(pointer.text(&serde_json::json!({ "a": [1, "b", { "c/d": null }] }), "the body"));
        }
    }
    drop(Choice::parse(&lines, &[]));
    drop(Only::parse(&lines));
}
