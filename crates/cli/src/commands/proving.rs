//! `kesmo prove`: repeats a flaky test until it is sure that it is mended, or that it is not.

use kesmo_core::{
    plan::RunOptions,
    run::proving::{Proof, Proved},
    words::{Outcome, Verdict},
};
use kesmo_wire::api::{Entry, EntryDetail, NewRun, Worker};

use super::{
    history::{evidence, variant_of},
    print_json, run_path as path,
    runs::{carry_out, each_page},
};
use crate::{
    arguments::Prove,
    context::Context,
    failure::Failure,
    view::{Paint, bold, paint, safe::plain},
};

/// What the command ends with.
const STILL_FLAKY: u8 = 1;
const NOTHING_PROVED: u8 = 10;

pub async fn run(options: &Prove, context: &Context) -> Result<u8, Failure> {
    let found = evidence(&options.suite, &options.test, variant_of(&options.variant), context).await?;
    let variant = one_variant(&options.test, &found.variants)?;
    let rate = match options.rate {
        Some(rate) => rate,
        None if found.attempts.hits == 0 => {
            return Err(Failure::call(format!(
                "{} failed in none of its last {} attempts: there is nothing to prove; if it did so elsewhere, say how often with --rate 5%",
                options.test, found.attempts.of
            )));
        }
        None => found.attempts.share(),
    };
    let mut proof = Proof::new(rate, options.sure, options.at_most);
    let slots = slots_of(&options.pool, context).await?;
    if !context.json {
        println!(
            "{}",
            head(options, &proof, options.rate.is_none().then_some((found.attempts.hits, found.attempts.of)))
        );
    }
    let mut rounds = Vec::new();
    while let Some(count) = proof.next(slots) {
        let of = Repeated {
            suite: &options.suite,
            test: &options.test,
            variant: &variant,
            pool: &options.pool,
            branch: options.branch.clone(),
            commit: options.commit.clone(),
            because: format!("to prove that {} is mended", options.test),
            label: format!("prove-{}", options.suite),
        };
        let (run, results, reason) = repeat(&of, count, context).await?;
        if results.is_empty() {
            return Err(Failure::trouble(format!("the repetitions in {run} told nothing: {reason}")));
        }
        let failed = results.iter().filter(|failed| **failed).count();
        proof.tell(results);
        let (passed, all_failed) = proof.counts();
        if !context.json {
            println!("  {count:>4} times, {failed} failed; {all_failed} of {} so far  ({run})", passed + all_failed);
        }
        rounds.push(run);
    }
    let (passed, failed) = proof.counts();
    if context.json {
        let said = match proof.proved() {
            Proved::Mended => "mended",
            Proved::StillFlaky => "still-flaky",
            Proved::Open => "open",
        };
        print_json(&serde_json::json!({
            "suite": options.suite, "test": options.test, "variant": variant, "proved": said, "passed": passed, "failed": failed,
            "rate": proof.rate(), "sure": options.sure, "runs": rounds,
        }))?;
    } else {
        println!("\n{} {}", bold(&plain(&options.test)), ending(&proof, options));
        println!("  the repetitions: kesmo runs --label hunt=prove-{}", options.suite);
    }
    Ok(match proof.proved() {
        Proved::Mended => 0,
        Proved::StillFlaky => STILL_FLAKY,
        Proved::Open => NOTHING_PROVED,
    })
}

/// The one variant that there is.
pub(super) fn one_variant(test: &str, variants: &[String]) -> Result<String, Failure> {
    match variants {
        [variant] => Ok(variant.clone()),
        several => {
            let all: Vec<String> = several.iter().map(|v| format!("--variant '{v}'")).collect();
            Err(Failure::call(format!("{test} stands in several variants: choose with {}", all.join(", or "))))
        }
    }
}

pub(super) fn percent(share: f64) -> String {
    let text = format!("{:.2}", share * 100.0);
    format!("{}%", text.trim_end_matches('0').trim_end_matches('.'))
}

fn head(options: &Prove, proof: &Proof, evidence: Option<(u32, u32)>) -> String {
    let from = match evidence {
        Some((hits, of)) => format!("it failed in {hits} of its last {of} attempts"),
        None => format!("it is taken to have failed in {} of its attempts", percent(proof.rate())),
    };
    let capped = evidence.is_some_and(|(hits, of)| f64::from(hits) > proof.rate() * f64::from(of) + 0.5);
    let capped = if capped { format!(", of which {} are taken", percent(proof.rate())) } else { String::new() };
    format!(
        "Repeating {} of {}: {from}{capped}. {} passes in a row would prove it mended ({} sure).",
        plain(&options.test),
        options.suite,
        proof.passes_needed(),
        percent(options.sure)
    )
}

fn ending(proof: &Proof, options: &Prove) -> String {
    let (passed, failed) = proof.counts();
    let all = passed + failed;
    let evidence = format!("it failed {failed} of {all} times; before {} of its attempts did", percent(proof.rate()));
    match proof.proved() {
        Proved::Mended => {
            format!("is {} ({} sure): {evidence}.", paint(Paint::Passed, "● mended"), percent(options.sure))
        }
        Proved::StillFlaky => {
            format!("is {} ({} sure): {evidence}.", paint(Paint::Flaky, "◐ still flaky"), percent(options.sure))
        }
        Proved::Open => format!(
            "is not proved either way after {all} repetitions: {evidence}. {} more passes would prove it mended: --at-most {}",
            proof.passes_needed(),
            u64::from(all) + u64::from(proof.passes_needed())
        ),
    }
}

/// The slots of a pool.
pub(super) async fn slots_of(pool: &str, context: &Context) -> Result<u32, Failure> {
    let workers: Vec<Worker> = context.client.get("/api/workers", &[]).await?;
    let of_pool = workers.iter().filter(|w| w.pool == pool);
    Ok(of_pool.map(|w| u32::try_from(w.slots.len()).unwrap_or(1)).sum::<u32>().max(1))
}

/// What is repeated, and why.
pub(super) struct Repeated<'a> {
    pub suite: &'a str,
    pub test: &'a str,
    pub variant: &'a str,
    pub pool: &'a str,
    pub branch: Option<String>,
    pub commit: Option<String>,
    /// In words, and in the label.
    pub because: String,
    pub label: String,
}

/// Repeats a test so many times without retries; the run's name, and whether each repetition failed, in order. No repetition is told
/// where it did not come to run; the run's reason says why.
pub(super) async fn repeat(
    of: &Repeated<'_>,
    count: u32,
    context: &Context,
) -> Result<(String, Vec<bool>, String), Failure> {
    let new = NewRun {
        suite: Some(of.suite.to_owned()),
        pool: Some(of.pool.to_owned()),
        branch: of.branch.clone(),
        commit: of.commit.clone(),
        options: RunOptions {
            only: Some(vec![(of.test.to_owned(), of.variant.to_owned())]),
            only_because: Some(of.because.clone()),
            repeat: Some(count),
            retries: Some(0),
            run_parked: true,
            labels: [("hunt".to_owned(), of.label.clone())].into(),
            ..RunOptions::default()
        },
        ..NewRun::default()
    };
    let made = carry_out(context, &new).await?;
    let name = made.summary.name.clone();
    let mut all: Vec<Entry> = Vec::new();
    each_page(context, &name, |page| all.extend_from_slice(page)).await?;
    let mut results = Vec::new();
    for entry in &all {
        results.extend(failed(entry, &name, context).await?);
    }
    let reason = made.summary.reason;
    // What no repetition shows is no pass: the process ended badly after its last test, or somebody ended the run.
    let beside = made.summary.verdict == Some(Verdict::Failed) && !results.contains(&true);
    if beside || made.summary.verdict == Some(Verdict::Stopped) {
        return Ok((name, Vec::new(), format!("they cannot be counted: {reason}")));
    }
    Ok((name, results, reason))
}

/// Whether a repetition failed; none if it did not come to run, or was skipped.
async fn failed(entry: &Entry, run: &str, context: &Context) -> Result<Option<bool>, Failure> {
    Ok(match entry.outcome {
        Some(Outcome::Failed) => Some(true),
        Some(Outcome::Passed | Outcome::Flaky) => Some(false),
        // A parked test ran without counting: its attempt says how it ended.
        Some(Outcome::Parked) => {
            let detail: EntryDetail =
                context.client.get(&format!("{}/entries/{}", path(run)?, entry.index), &[]).await?;
            detail.history.last().map(|attempt| attempt.ended.failing())
        }
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn options() -> Prove {
        Prove {
            suite: "fares".into(),
            test: "fares/child".into(),
            variant: Vec::new(),
            sure: 0.99,
            rate: None,
            at_most: 50,
            pool: "main".into(),
            branch: None,
            commit: None,
        }
    }

    #[test]
    fn what_is_proved_is_told_with_its_evidence() {
        let mut proof = Proof::new(0.25, 0.99, 50);
        let first = head(&options(), &proof, Some((10, 40)));
        assert!(first.contains("10 of its last 40 attempts") && first.contains("99% sure"), "{first}");
        assert!(!first.contains("are taken"), "{first}");
        proof.tell(vec![false; 10]);
        assert!(ending(&proof, &options()).contains("not proved either way after 10 repetitions"));
        proof.tell(vec![false; 10]);
        assert!(ending(&proof, &options()).contains("● mended"), "{}", ending(&proof, &options()));
        let mut proof = Proof::new(0.9, 0.99, 50);
        assert!(head(&options(), &proof, Some((36, 40))).contains("of which 50% are taken"));
        proof.tell(vec![true; 3]);
        assert!(
            ending(&proof, &options()).contains("◐ still flaky") && ending(&proof, &options()).contains("3 of 3 times")
        );
    }
}
