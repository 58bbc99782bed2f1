//! `kesmo here`: the suite in this folder, on this machine, with no service.

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
};

use kesmo_client::pack;
use kesmo_core::{
    plan::{RunOptions, portion::Portion},
    suite::{SuiteFile, secrets::SecretUse},
    words::Outcome,
};
use kesmo_here::{Finished, History, Job, Told};
use kesmo_wire::{
    api::{NotPassed, Run, Shard},
    link::SecretGiven,
};
use kesmo_worker::Home;

use super::{
    asked_to_end,
    join::usual_slots,
    reports::{self, Wanted},
    run_path as path,
    watch::Display,
    worker::cache,
};
use crate::{
    arguments::Here,
    context::Context,
    failure::Failure,
    view::{
        closing::{Closing, Repeated, name},
        safe::word,
    },
};

pub async fn run(
    options: &Here,
    json: bool,
    context: impl FnOnce() -> Result<Context, Failure>,
) -> Result<u8, Failure> {
    let file = pack::suite_file(&options.folder)?;
    let reports = reports::prepare(&options.report)?;
    let mut run_options = options.running.options(&options.choosing)?;
    let mut slots = options.slots.unwrap_or_else(usual_slots);
    let mut seed = run_options.seed.unwrap_or_else(random_seed);
    if options.as_shard.is_some() || options.running.not_passed_in.is_some() {
        let context = context()?;
        if let Some(shard) = &options.as_shard {
            (run_options, seed) = as_shard(shard, file.suite.as_str(), run_options, &context).await?;
            slots = 1;
        }
        if let Some(run) = &options.running.not_passed_in {
            let NotPassed { only, cases } = super::runs::not_passed(&context, run).await?;
            (run_options.only, run_options.cases) = (Some(only), cases);
            run_options.only_because = Some(format!("not passed in {run}"));
        }
    }
    let file = file.in_image(run_options.image.as_deref());
    let reach = reached_here(&mut run_options, &file)?;
    if run_options.each_slot {
        let senders = *run_options.shards.get_or_insert(u32::from(slots));
        if senders > u32::from(slots) {
            return Err(Failure::call(format!(
                "each test is to run on {senders} slots at once, and this machine is to have {slots}: give --slots {senders}, or fewer --shards"
            )));
        }
    }
    run_options.check(&file)?;
    let engine = match file.container {
        Some(_) => options.engine.find().await?,
        None => None,
    };
    let portion = options.portion.as_deref().map(Portion::parse).transpose()?;
    let suite = file.suite.to_string();
    let place = cache().join("here").join(&suite);
    let home = home(options.home.as_deref(), &place)?;
    let own_record = place.join("record.json");
    let record = options.record.clone().unwrap_or_else(|| own_record.clone());
    let history = History::read(&record)?;
    let shared_history = if options.record.is_some() { history.clone() } else { History::default() };
    let secrets = secrets_of(&file)?;
    let bundle = pack::pack(&options.folder)?;
    let job = Job {
        file,
        digest: bundle.digest,
        bundle: bundle.content,
        options: run_options,
        seed,
        slots,
        portion,
        shared_history,
        history: history.clone(),
        home: home.folder.clone(),
        taken: Some(home.taken.clone()),
        engine,
        reach,
        secrets,
    };
    let mut display = Display::new(&[format!("{suite}/here")], options.refresh.refresh, json);
    let (sender, mut told) = tokio::sync::mpsc::unbounded_channel();
    let running = kesmo_here::run(
        job,
        |what| {
            // The receiver lives as long as this function.
            drop(sender.send(what));
        },
        asked_to_end(),
    );
    tokio::pin!(running);
    let finished = loop {
        let tick = display.tick_at();
        tokio::select! {
            biased;
            Some(what) = told.recv() => show(&mut display, what, json)?,
            finished = &mut running => break finished,
            () = tokio::time::sleep_until(tick) => {}
        }
        display.tick();
    };
    while let Ok(what) = told.try_recv() {
        show(&mut display, what, json)?;
    }
    let finished = match finished {
        Ok(finished) => finished,
        Err(e) => {
            display.clear();
            return Err(e.into());
        }
    };
    display.close();
    remember(history, &finished, &record)?;
    let kept = options.keep.clone().unwrap_or_else(|| home.kept.clone());
    keep(&finished, &kept, options.keep.is_none(), &home.folder.join("local/blobs"))?;
    let mut status = u8::try_from(finished.verdict().exit_status()).unwrap_or(1);
    for report in &reports {
        status = reports::status(status, reports::write(report, &finished.report(report.format)));
    }
    if !json {
        print!("{}", closing(&finished, &reports, &kept, options));
    }
    Ok(status)
}

/// The secrets of a suite, as this machine's environment has them: without a service nobody else does.
pub(super) fn secrets_of(file: &SuiteFile) -> Result<Vec<SecretGiven>, Failure> {
    let given = |wanted: &SecretUse| {
        let variable = &wanted.variable;
        let what = if wanted.as_file { "to the path of a file that holds it" } else { "to its value" };
        let missing = || Failure::call(format!("the suite needs the secret {}: set {variable} {what}", wanted.name));
        let told = std::env::var(variable).ok().filter(|told| !told.is_empty()).ok_or_else(missing)?;
        let value = if wanted.as_file {
            std::fs::read_to_string(&told)
                .map_err(|e| Failure::call(format!("the secret {}, {told}: {e}", wanted.name)))?
        } else {
            told
        };
        Ok(SecretGiven { variable: variable.clone(), as_file: wanted.as_file, value })
    };
    file.secrets.iter().map(given).collect()
}

/// Where a run works on this machine.
pub(super) struct HereHome {
    pub folder: PathBuf,
    /// Where what it leaves behind is kept unless told otherwise.
    kept: PathBuf,
    pub taken: Home,
}

/// The most runs of one suite that go on here at once without folders of their own.
const MOST_AT_ONCE: u32 = 100;

/// The folder that was named, or the first of the suite's that no other run uses now.
pub(super) fn home(named: Option<&Path>, place: &Path) -> Result<HereHome, Failure> {
    let take = |folder: &Path| kesmo_worker::take_home(folder).map_err(|e| Failure::trouble(e.to_string()));
    if let Some(folder) = named {
        let used =
            || Failure::call(format!("another run uses the folder {}: give another with --home", folder.display()));
        let taken = take(folder)?.ok_or_else(used)?;
        return Ok(HereHome { folder: folder.to_owned(), kept: folder.join("last"), taken });
    }
    for n in 1..=MOST_AT_ONCE {
        let end = if n == 1 { String::new() } else { format!("-{n}") };
        let folder = place.join(format!("worker{end}"));
        if let Some(taken) = take(&folder)? {
            return Ok(HereHome { folder, kept: place.join(format!("last{end}")), taken });
        }
    }
    Err(Failure::call("too many runs of this suite go on here: give this one a folder with --home"))
}

fn show(display: &mut Display, what: Told, json: bool) -> Result<(), Failure> {
    let line = |kind: &str, data: serde_json::Result<String>| {
        data.map(|data| println!("{{\"event\":\"{kind}\",\"data\":{data}}}"))
            .map_err(|e| Failure::trouble(e.to_string()))
    };
    match what {
        Told::Snapshot(snapshot) => {
            if json {
                line("snapshot", serde_json::to_string(&snapshot))?;
            }
            display.snapshot(0, *snapshot);
        }
        Told::Change(change) => {
            if json {
                let kind = if change.summary.verdict.is_some() { "end" } else { "change" };
                line(kind, serde_json::to_string(&change))?;
            }
            display.change(0, *change);
        }
    }
    Ok(())
}

/// A seed of 53 bits, so that every reader of JSON keeps it as it is.
fn random_seed() -> u64 {
    let nanos =
        std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default().as_nanos() as u64;
    (nanos ^ u64::from(std::process::id()).wrapping_mul(0x9e37_79b9_7f4a_7c15)) >> 11
}

/// The batches, settings and seed of a shard of an earlier run.
async fn as_shard(
    shard: &str,
    suite: &str,
    options: RunOptions,
    context: &Context,
) -> Result<(RunOptions, u64), Failure> {
    let wrong = || Failure::call(format!("--as {shard}: write SUITE/NUMBER/SHARD, like boarding-gate/42/3"));
    let (run, number) = shard.rsplit_once('/').ok_or_else(wrong)?;
    let number: u32 = number.parse().map_err(|_| wrong())?;
    let base = path(run).map_err(|_| wrong())?;
    let detail: Run = context.client.get(&base, &[]).await?;
    if detail.summary.suite != suite {
        return Err(Failure::call(format!("--as {shard}: the suite in this folder is {suite}, another one")));
    }
    let shards: Vec<Shard> = context.client.get(&format!("{base}/shards"), &[]).await?;
    let of = shards.len();
    let found = shards.into_iter().find(|s| s.number == number).ok_or_else(|| {
        Failure::call(format!("{run} has no shard {number}: it has {of}, counted from 1 (kesmo show {run} --shards)"))
    })?;
    let mut set = detail.options.set.clone();
    set.extend(options.set);
    let options = RunOptions {
        order: Some(found.batches.into_iter().map(|b| b.entries).collect()),
        set,
        env: options.env.or(detail.options.env),
        image: options.image.or(detail.options.image),
        images: detail.images,
        ..options
    };
    Ok((options, detail.seed))
}

/// Where what a suite reaches is from this machine, by name: no service is between. The options are left with the names.
///
/// # Errors
/// If that is not said of everything that it reaches.
pub fn reached_here(options: &mut RunOptions, file: &SuiteFile) -> Result<BTreeMap<String, String>, Failure> {
    let mut all = BTreeMap::new();
    for given in &mut options.reach {
        let Some((name, to)) = given.split_once('=') else {
            return Err(Failure::call(format!("--reach {given}: here, say where it is, --reach {given}=HOST:PORT")));
        };
        all.insert(name.to_owned(), to.to_owned());
        *given = name.to_owned();
    }
    match options.reached(file)?.into_iter().find(|name| !all.contains_key(name)) {
        Some(name) => Err(Failure::call(format!(
            "the suite reaches {name}: say where that is from here, --reach {name}=HOST:PORT"
        ))),
        None => Ok(all),
    }
}

/// Brings what is known of the tests up to date.
fn remember(mut history: History, finished: &Finished, record: &Path) -> Result<(), Failure> {
    for of in &finished.tests {
        history.note(&of.test, &of.variant, of.outcome, of.usual);
        history.note_cases(&of.test, &of.variant, &of.cases);
    }
    history.start_cost = finished.start_cost.or(history.start_cost);
    Ok(history.write(record)?)
}

/// Keeps what the attempts printed and left behind in a folder.
fn keep(finished: &Finished, folder: &Path, own: bool, blobs: &Path) -> Result<(), Failure> {
    let failed = |path: &Path, e: std::io::Error| Failure::trouble(format!("{}: {e}", path.display()));
    if own && folder.exists() {
        std::fs::remove_dir_all(folder).map_err(|e| failed(folder, e))?;
    }
    let write = |path: &Path, content: &[u8]| {
        let parent = path.parent().unwrap_or(folder);
        std::fs::create_dir_all(parent).and_then(|()| std::fs::write(path, content)).map_err(|e| failed(path, e))
    };
    std::fs::create_dir_all(folder).map_err(|e| failed(folder, e))?;
    for entry in &finished.entries {
        for attempt in finished.attempts.get(&entry.index).into_iter().flatten().filter(|a| !a.log.is_empty()) {
            let place = super::runs::place_in(folder, &entry.test, &entry.variant, u32::from(attempt.kept.number));
            write(&place.join("output.txt"), attempt.log.as_bytes())?;
        }
    }
    for (batch, entry, file) in &finished.files {
        let of = entry.and_then(|index| finished.entries.get(index as usize));
        let number = entry.and_then(|index| {
            finished.attempts.get(&index)?.iter().find(|a| a.kept.batch.0 == *batch).map(|a| u32::from(a.kept.number))
        });
        let (test, variant) = of.map_or(("run", ""), |e| (e.test.as_str(), e.variant.as_str()));
        let place = super::runs::place_in(folder, test, variant, number.unwrap_or(0));
        let from = blobs.join(file.digest.as_str());
        let content = std::fs::read(&from).map_err(|e| failed(&from, e))?;
        write(&super::runs::place_in(&place, &file.path, "", 0), &content)?;
    }
    Ok(())
}

fn closing(finished: &Finished, reports: &[Wanted], kept: &Path, options: &Here) -> String {
    let failed = finished.with_outcome(Outcome::Failed, 20);
    let flaky = finished.with_outcome(Outcome::Flaky, 20);
    let parked = finished.with_outcome(Outcome::Parked, 10);
    let (slowest, causes) = (finished.slowest(10), finished.causes());
    let mut repeated = Repeated::default();
    if finished.run.options.times().is_some() {
        repeated.add(&finished.entries);
    }
    let repeated = repeated.sorted();
    let told = Closing {
        run: &finished.run,
        failed: &failed,
        flaky: &flaky,
        parked: &parked,
        slowest: &slowest,
        causes: &causes,
        repeated: &repeated,
        new: "",
        measures: &finished.run.summary.measures,
    };
    let mut more: Vec<String> = reports.iter().map(|r| format!("{} report: {}", r.format, r.file.display())).collect();
    if let Some(first) = failed.entries.first() {
        let folder = word(&options.folder.display().to_string());
        more.push(format!("kesmo here {folder} --pick {}   # only {}", word(&first.test), name(first)));
    }
    more.push(format!("what tests printed and left behind: {}", kept.display()));
    told.text(None, &more)
}
