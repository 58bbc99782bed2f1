//! Runs of test programs drawn by chance, with all of a worker and the engine: what is good passes, and what is not does not.

mod programs;

use std::{fmt::Write as _, path::Path};

use kesmo_core::{
    plan::{RunOptions, cutting::KnownCase},
    suite::SuiteFile,
    time::Span,
    words::{Outcome, Verdict},
};
use kesmo_here::{Finished, History, Job};
use programs::{Program, program};

/// What is known of it: nothing, or that each file takes long enough to be cut.
fn known(program: &Program) -> History {
    let mut history = History { start_cost: Some(Span::millis(1)), ..History::default() };
    let variants: &[&str] =
        if program.suite_file.contains("[facets]") { &["screen=phone", "screen=desk"] } else { &[""] };
    for ((file, titles), variant) in program.known.iter().flat_map(|of| variants.iter().map(move |v| (of, v))) {
        let case = |title: &String| KnownCase { title: title.clone(), spent: Span::seconds(8) };
        let cases: Vec<KnownCase> = titles.iter().map(case).collect();
        history.note(file, variant, Outcome::Passed, Some(Span::seconds(8 * titles.len() as u64)));
        history.note_cases(file, variant, &cases);
    }
    history
}

/// Runs it.
async fn carry_out(program: &Program, at: &Path) -> Result<Finished, kesmo_here::Error> {
    let folder = at.join("suite");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("names"), program.names.join("\n")).unwrap();
    std::fs::write(folder.join("tests.sh"), &program.script).unwrap();
    std::fs::create_dir_all(at.join("marks")).unwrap();
    let suite_file = format!("{}[env]\nMARKS = \"{}\"\n", program.suite_file, at.join("marks").display());
    std::fs::write(folder.join("kesmo.toml"), &suite_file).unwrap();
    let bundle = kesmo_client::pack::pack(&folder).expect("it can be packed");
    let job = Job {
        file: SuiteFile::parse("kesmo.toml", &suite_file).expect("a suite file"),
        digest: bundle.digest,
        bundle: bundle.content,
        options: RunOptions { repeat: program.repeat, ..RunOptions::default() },
        seed: 7,
        slots: program.slots,
        portion: None,
        shared_history: History::default(),
        history: known(program),
        home: at.join("home"),
        taken: None,
        engine: None,
        reach: std::collections::BTreeMap::default(),
        secrets: Vec::new(),
    };
    kesmo_here::run(job, |_| {}, std::future::pending()).await
}

/// What is wrong with what came of it, if anything.
fn fault(program: &Program, at: &Path, finished: &Result<Finished, kesmo_here::Error>) -> Option<String> {
    let finished = match finished {
        Ok(finished) => finished,
        Err(e) => return Some(format!("it did not run: {e}")),
    };
    let passed = finished.verdict() == Verdict::Passed;
    if passed != program.good {
        let what = if program.good { "nothing in it is bad" } else { "something in it is bad" };
        return Some(format!("the verdict is {}, and {what}", finished.verdict()));
    }
    let missed = |ran: &&String| !at.join("marks").join(ran).exists();
    if let Some(ran) = program.ran.iter().find(missed).filter(|_| passed) {
        return Some(format!("the run passed, and there is no {ran}"));
    }
    // A void run says of no test more than it knows.
    if finished.verdict() == Verdict::Void {
        return None;
    }
    let charged =
        |name: &&String| finished.entries.iter().any(|e| e.test == **name && e.outcome == Some(Outcome::Failed));
    if let Some(name) = program.innocent.iter().find(charged) {
        return Some(format!("{name} did nothing bad, and failed"));
    }
    let wrong = |name: &&String| !charged(name);
    program.failing.iter().find(wrong).map(|name| format!("{name} says that it failed, and is not told as failed"))
}

/// What one needs to see why.
fn told(seed: u64, program: &Program, finished: &Result<Finished, kesmo_here::Error>, fault: &str) -> String {
    let mut text = format!("seed {seed}: {fault}\ndrawn: {}\nslots: {}\n", program.drawn, program.slots);
    if let Ok(finished) = finished {
        for entry in &finished.entries {
            let outcome = entry.outcome.map_or("none", |outcome| outcome.word());
            writeln!(text, "  {}: {outcome} {}", entry.test, entry.message).unwrap();
        }
        for wrong in &finished.wrongs {
            writeln!(text, "  wrong: {wrong}").unwrap();
        }
        writeln!(text, "  {}", finished.run.summary.reason).unwrap();
    }
    text + &program.suite_file + &program.script
}

/// `KESMO_TRIALS=N` for more of them, `KESMO_SEED=N` to begin elsewhere.
#[test]
fn a_run_of_any_program_is_green_just_if_nothing_in_it_is_bad() {
    let number =
        |name: &str, otherwise: u64| std::env::var(name).map_or(otherwise, |text| text.parse().expect("a number"));
    let (first, count) = (number("KESMO_SEED", 0), number("KESMO_TRIALS", 100));
    let next = std::sync::atomic::AtomicU64::new(first);
    let faults = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                let runtime =
                    tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
                loop {
                    let seed = next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                    if seed >= first + count {
                        return;
                    }
                    let (program, at) = (program(seed), tempfile::tempdir().unwrap());
                    let finished = runtime.block_on(carry_out(&program, at.path()));
                    if let Some(fault) = fault(&program, at.path(), &finished) {
                        faults.lock().unwrap().push(told(seed, &program, &finished, &fault));
                    }
                }
            });
        }
    });
    let faults = faults.into_inner().unwrap();
    assert!(faults.is_empty(), "{} of {count}:\n{}", faults.len(), faults.join("\n---\n"));
}
