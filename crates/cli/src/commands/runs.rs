//! `kesmo runs`, `show`, `log`, `stop`, `report`, `artifacts` and `workers`.

use std::{
    path::{Path, PathBuf},
    time::Duration,
};

use kesmo_core::{
    name::{nearest, shorten},
    run::figures::Part,
    time::{Bytes, Span},
    words::{Outcome, Phase},
};
use kesmo_wire::api::{
    Artifact, Attempt, Entries, Entry, EntryDetail, MachineOf, NewRun, NotPassed, Run, RunSummary, Shard, StopRun,
    Variants, Worker, part_name,
};
use kesmo_wire::live::{OutputEnd, OutputOver, OutputPiece};

use super::{cases, print_json, run_path as path};
use crate::{
    arguments::{Artifacts, Log, Report, Runs, RunsCommand, Show, Stop, pairs},
    context::Context,
    failure::Failure,
    view::{self, safe::plain},
};

pub fn runs_table(runs: &[RunSummary]) -> String {
    let rows = runs.iter().map(|r| {
        let took =
            r.began_at.map(|b| (r.finished_at.unwrap_or_else(chrono::Utc::now) - b).num_microseconds().unwrap_or(0));
        let took = took.map_or_else(|| "–".into(), |us| Span(us.max(0) as u64).to_string());
        let labels: Vec<String> = r.labels.iter().map(|(k, v)| format!("{k}={v}")).collect();
        vec![
            r.name.clone(),
            view::run_state(r),
            view::tally(&r.tally),
            took,
            view::moment(r.created_at),
            labels.join(" "),
            shorten(r.waiting_for.as_deref().unwrap_or(&r.reason), 60),
        ]
    });
    view::table(&["run", "state", "tests", ">took", "started", "labels", "why"], rows.collect())
}

pub async fn list(options: &Runs, context: &Context) -> Result<(), Failure> {
    if let Some(RunsCommand::Remove { run }) = &options.command {
        context.client.delete(&path(run)?).await?;
        println!("{} is removed with all that belonged to it.", plain(run));
        return Ok(());
    }
    let mut query = vec![("limit", options.limit.to_string())];
    query.extend(options.suite.iter().map(|s| ("suite", s.clone())));
    query.extend(options.verdict.iter().map(|v| ("verdict", v.clone())));
    let labels: Vec<String> = pairs("--label", &options.label)?.iter().map(|(k, v)| format!("{k}={v}")).collect();
    if !labels.is_empty() {
        query.push(("label", labels.join(",")));
    }
    let runs: Vec<RunSummary> = context.client.get("/api/runs", &query).await?;
    if context.json {
        return print_json(&runs);
    }
    if runs.is_empty() {
        println!("There is no such run. Start one: kesmo start SUITE --wait");
        return Ok(());
    }
    print!("{}", runs_table(&runs));
    Ok(())
}

pub async fn entries(context: &Context, run: &str, query: &[(&str, String)]) -> Result<Entries, Failure> {
    Ok(context.client.get(&format!("{}/entries", path(run)?), query).await?)
}

/// All entries of a run in the order of its list, page by page.
pub async fn each_page(context: &Context, run: &str, mut tell: impl FnMut(&[Entry])) -> Result<(), Failure> {
    let mut skip = 0;
    loop {
        let query = [("order", "listed".to_owned()), ("limit", "1000".to_owned()), ("skip", skip.to_string())];
        let page = entries(context, run, &query).await?;
        tell(&page.entries);
        skip += page.entries.len();
        if page.entries.is_empty() || skip >= page.total as usize {
            return Ok(());
        }
    }
}

/// Starts a run and waits, without showing anything, until it is over.
pub async fn carry_out(context: &Context, new: &NewRun) -> Result<Run, Failure> {
    let mut run: Run = context.client.post("/api/runs", new).await?;
    let of = path(&run.summary.name)?;
    let mut pause = Duration::from_millis(40);
    while run.summary.phase != Phase::Finished {
        tokio::time::sleep(pause).await;
        pause = (pause * 3 / 2).min(Duration::from_secs(1));
        run = context.client.get(&of, &[]).await?;
    }
    Ok(run)
}

pub async fn show(options: &Show, context: &Context) -> Result<u8, Failure> {
    match &options.run {
        Some(run) => show_run(run, options, context).await.map(|()| 0),
        None => super::releases::show(&options.label, context).await,
    }
}

async fn show_run(name: &str, options: &Show, context: &Context) -> Result<(), Failure> {
    if options.variants {
        return variants(name, context).await;
    }
    if options.shards {
        return shards(name, context).await;
    }
    if options.groups {
        return groups(name, context).await;
    }
    if options.cases {
        return cases::show(name, options, context).await;
    }
    let run: Run = context.client.get(&path(name)?, &[]).await?;
    let state = options.state.as_deref();
    let query = match state {
        None => vec![("state", "trouble".to_owned()), ("limit", "50".to_owned())],
        Some("all") => vec![("limit", "1000".to_owned())],
        Some(state) => vec![("state", state.to_owned()), ("limit", "1000".to_owned())],
    };
    let found = entries(context, name, &query).await?;
    if context.json {
        return print_json(&serde_json::json!({ "run": run, "entries": found }));
    }
    let page = format!("{}/runs/{}", context.client.url(), run.summary.name);
    print!("{}", view::run_head(&run, Some(&page)));
    let measured = super::measures::of_run(&run.summary.name, context).await?;
    if !measured.is_empty() {
        println!("\n{}\n{}", view::bold("Measured"), view::measures::lines(&measured).join("\n"));
    }
    let machines: Vec<MachineOf> = context.client.get(&format!("{}/machines", path(name)?), &[]).await?;
    if let Some(last) = machines.last() {
        let shown = machines.len().saturating_sub(MOST_MACHINES);
        println!(
            "\n{} of the pool {}; what one printed: kesmo log {} --job {}",
            counted_machines(&machines),
            last.pool,
            name,
            last.number
        );
        print!("{}", super::pools::machines_table(&machines[shown..]));
    }
    if found.entries.is_empty() {
        if state.is_some() {
            println!("\nNo test is in this state.");
        }
        return Ok(());
    }
    println!();
    print!("{}", entries_table(&found.entries));
    let more = found.total as usize - found.entries.len();
    if more > 0 {
        println!("… and {more} more: kesmo show {} --state all --json", name);
    }
    if state.is_none() && !run.summary.tally.cases.is_empty() {
        cases::in_trouble(name, context).await?;
    }
    Ok(())
}

/// Machines of a run that are shown: the latest.
const MOST_MACHINES: usize = 10;

fn counted_machines(machines: &[MachineOf]) -> String {
    let what = machines.last().map_or("machine", |m| m.what.as_str());
    if machines.len() == 1 { format!("1 {what}") } else { format!("{} {what}s", machines.len()) }
}

/// Outcomes of the variants side by side: counts, and the tests that differ.
async fn variants(run: &str, context: &Context) -> Result<(), Failure> {
    let seen: Variants = context.client.get(&format!("{}/variants", path(run)?), &[]).await?;
    if context.json {
        return print_json(&seen);
    }
    if seen.variants.iter().all(|v| v.variant.is_empty()) {
        println!("{run} has no variants: its suite has no facets.");
        return Ok(());
    }
    let rows =
        seen.variants.iter().map(|v| vec![v.variant.clone(), view::tally(&v.tally), Span(v.spent_us).to_string()]);
    print!("{}", view::table(&["variant", "tests", ">took together"], rows.collect()));
    if seen.differing.is_empty() {
        println!("\nNo test ends differently in one variant than in another.");
        return Ok(());
    }
    println!("\n{}", view::bold("Not the same in all variants"));
    let cell = |entry: &Option<(u32, Option<Outcome>)>| match entry {
        None => String::new(),
        Some((_, None)) => "–".to_owned(),
        Some((_, Some(outcome))) => view::outcome_word(*outcome),
    };
    let row = |d: &kesmo_wire::api::Differing| {
        let mut row = vec![d.test.clone()];
        row.extend(d.entries.iter().map(cell));
        row
    };
    let mut heads = vec!["test"];
    heads.extend(seen.variants.iter().map(|v| v.variant.as_str()));
    print!("{}", view::table(&heads, seen.differing.iter().map(row).collect()));
    let more = seen.total as usize - seen.differing.len();
    if more > 0 {
        println!("… and {more} more");
    }
    Ok(())
}

/// The numbers by groups of names; groups with failures come first.
async fn groups(run: &str, context: &Context) -> Result<(), Failure> {
    let parts: Vec<Part> = context.client.get(&format!("{}/parts", path(run)?), &[]).await?;
    if context.json {
        return print_json(&parts);
    }
    let rows = parts.iter().map(|part| {
        let s = &part.stats;
        let failing = format!("{:.1}%", f64::from(s.failing) * 100.0 / f64::from(s.ended.max(1)));
        let times = [s.mean(), Span(s.median_us), Span(s.p95_us), Span(s.longest_us)];
        let mut row = vec![if part.name.is_empty() { "(no group)".into() } else { part.name.clone() }];
        row.push(view::tally(&part.tally));
        row.push(format!("{} of {}", part.tally.done(), part.tally.total()));
        row.push(failing);
        row.extend(times.map(|t| if s.ended > 0 { t.to_string() } else { "–".into() }));
        row
    });
    let heads = ["group", "tests", ">done", ">failing", ">mean", ">median", ">95% under", ">longest"];
    print!("{}", view::table(&heads, rows.collect()));
    Ok(())
}

/// What each slot carried out.
async fn shards(run: &str, context: &Context) -> Result<(), Failure> {
    let shards: Vec<Shard> = context.client.get(&format!("{}/shards", path(run)?), &[]).await?;
    if context.json {
        return print_json(&shards);
    }
    let rows = shards.iter().map(|s| {
        let tests: usize = s.batches.iter().map(|b| b.entries.len()).sum();
        let first = s.batches.first().and_then(|b| b.entries.first()).map(|e| e.0.clone()).unwrap_or_default();
        let place = format!("{} slot {}", s.worker, s.slot);
        vec![s.number.to_string(), place, s.batches.len().to_string(), tests.to_string(), first]
    });
    print!("{}", view::table(&[">shard", "where", ">batches", ">tests", "began with"], rows.collect()));
    println!("Repeat one: kesmo again {run} --shard N, or in the suite's folder kesmo here --as {run}/N");
    Ok(())
}

pub fn entries_table(entries: &[Entry]) -> String {
    let variants = entries.iter().any(|e| !e.variant.is_empty());
    let files = entries.iter().any(|e| !e.cases.is_empty());
    let rows = entries.iter().map(|e| {
        let state = match e.outcome {
            Some(outcome) => view::outcome_word(outcome),
            None if e.running => view::paint(view::Paint::Running, "≈ running"),
            None => "– waiting".into(),
        };
        let mut row = vec![state, part_name(&e.test, "", e.repeat, e.parts)];
        if variants {
            row.push(e.variant.clone());
        }
        if files {
            row.push(if e.cases.is_empty() { "–".into() } else { view::cases(&e.cases) });
        }
        let spent = e.spent_us.map_or_else(|| "–".into(), |us| Span(us).to_string());
        row.extend([e.attempts.to_string(), spent, shorten(&plain(&e.message.replace('\n', " ")), 90)]);
        row
    });
    let mut heads = vec!["state", if files { "file" } else { "test" }, ">attempts", ">took", "said"];
    if files {
        heads.insert(2, "cases");
    }
    if variants {
        heads.insert(2, "variant");
    }
    view::table(&heads, rows.collect())
}

pub async fn find_entries(
    context: &Context,
    run: &str,
    test: &str,
    variants: &[String],
) -> Result<Vec<Entry>, Failure> {
    let query = [("name", test.to_owned()), ("limit", "1000".to_owned())];
    let found = entries(context, run, &query).await?;
    let exact: Vec<Entry> = found.entries.iter().filter(|e| e.test == test).cloned().collect();
    let mut chosen = if exact.is_empty() && found.total == 1 { found.entries } else { exact };
    chosen.retain(|e| variants.iter().all(|v| e.variant.split(", ").any(|pair| pair == v)));
    if chosen.is_empty() {
        let all = entries(context, run, &[("limit", "1000".to_owned())]).await?;
        let near = nearest(test, all.entries.iter().map(|e| e.test.as_str()), 5);
        let mut near: Vec<&str> = near.into_iter().collect();
        near.dedup();
        let hint = if near.is_empty() {
            format!("see `kesmo show {run} --state all`")
        } else {
            format!("nearest: {}", near.join(", "))
        };
        return Err(Failure::call(format!("{run} has no test {test:?}; {hint}")));
    }
    Ok(chosen)
}

pub async fn log(options: &Log, context: &Context) -> Result<(), Failure> {
    if let Some(job) = options.job {
        return machine_log(&options.run, job, options.follow, context).await;
    }
    let test = options.test.as_deref().unwrap_or_default();
    let chosen = match find_entries(context, &options.run, test, &options.variant).await {
        Ok(chosen) => chosen,
        // It may be a case of a file.
        Err(none) => match cases::find(context, &options.run, test, &options.variant).await? {
            found if found.is_empty() => return Err(none),
            found => return cases::log(&found, options, context).await,
        },
    };
    let base = path(&options.run)?;
    if options.follow {
        if let [one] = chosen.as_slice() {
            return follow(&format!("{base}/entries/{}/output", one.index), context).await;
        }
        let variants: Vec<&str> = chosen.iter().map(|e| e.variant.as_str()).collect();
        return Err(Failure::call(format!(
            "--follow is for one entry, and {test} has {}: choose with --variant ({})",
            chosen.len(),
            variants.join("; ")
        )));
    }
    let mut details = Vec::new();
    for entry in chosen {
        let detail: EntryDetail = context.client.get(&format!("{base}/entries/{}", entry.index), &[]).await?;
        details.push((entry, detail));
    }
    let has = |n: u32| details.iter().any(|(_, d)| d.history.iter().any(|a| a.number == n));
    if let Some(n) = options.attempt.filter(|n| !has(*n)) {
        let most = details.iter().map(|(_, d)| d.history.len()).max().unwrap_or(0);
        let had = if most == 1 { "1 attempt".to_owned() } else { format!("{most} attempts") };
        return Err(Failure::call(format!("{test} of {} has no attempt {n}: it had {had}", options.run)));
    }
    for (entry, detail) in details {
        if context.json {
            print_json(&detail)?;
            continue;
        }
        let variant = if entry.variant.is_empty() { String::new() } else { format!("  ({})", entry.variant) };
        let state = entry.outcome.map_or_else(|| "≈ no outcome yet".to_owned(), view::outcome_word);
        println!("{}{variant}  {state}  {}", view::bold(&entry.test), detail.retries_said);
        if !detail.claims.is_empty() {
            println!("  claims {}", detail.claims.join(", "));
        }
        if let Some(parked) = &detail.parked {
            println!("  {}", view::paint(view::Paint::Parked, parked));
        }
        if detail.history.is_empty() {
            println!("  it has no attempt yet");
        }
        for attempt in detail.history.iter().filter(|a| options.attempt.is_none_or(|n| n == a.number)) {
            let spent = Span(attempt.spent_us);
            let place = format!("{} slot {}, batch {}", attempt.worker, attempt.slot, attempt.batch);
            println!("\n── attempt {}: {} after {spent} on {place}", attempt.number, view::ended_word(attempt.ended));
            for line in attempt.message.lines() {
                println!("   {}", plain(line));
            }
            for line in around(attempt) {
                println!("   {}", view::paint(view::Paint::Dim, &line));
            }
            for step in &attempt.steps {
                let ms = step.ms.map_or_else(String::new, |ms| format!("  {ms:.0} ms"));
                println!("   {} {}{ms}", if step.ok { "●" } else { "◆" }, plain(&step.name));
            }
            for line in attempt.detail.lines() {
                println!("   {}", plain(line));
            }
            if attempt.log_bytes > 0 {
                let at = format!("{base}/entries/{}/attempts/{}/log", entry.index, attempt.number);
                let text = context.client.get_text(&at, &[]).await?;
                println!("   printed ({}):", Bytes(attempt.log_bytes));
                for line in view::output(&text).lines() {
                    println!("   │ {line}");
                }
            }
            for file in &attempt.artifacts {
                println!("   left {} ({})", plain(&file.path), Bytes(file.bytes));
            }
        }
        println!();
    }
    Ok(())
}

/// Prints what an entry's attempts print, as it comes.
async fn follow(path: &str, context: &Context) -> Result<(), Failure> {
    use std::io::Write;
    let strange = |e: serde_json::Error| Failure::trouble(format!("the stream cannot be understood: {e}"));
    let mut last: Option<String> = None;
    let mut cuts = 0;
    loop {
        let mut events = match context.client.watch(path, last.as_deref()).await {
            Ok(events) => events,
            // What goes on is dialled again; a first call that finds nobody is told at once.
            Err(kesmo_client::Error::Unreachable { .. }) if last.is_some() && cuts < 120 => {
                cuts += 1;
                tokio::time::sleep(std::time::Duration::from_millis(500)).await;
                continue;
            }
            Err(e) => return Err(e.into()),
        };
        while let Ok(Some(event)) = events.next().await {
            cuts = 0;
            last = event.id.or(last);
            if context.json {
                println!("{{\"event\":\"{}\",\"data\":{}}}", event.kind, event.data);
            }
            match event.kind.as_str() {
                "output" if !context.json => {
                    let piece: OutputPiece = serde_json::from_str(&event.data).map_err(strange)?;
                    if piece.gap {
                        println!("\n[kesmo: some of it was cut or lost here; kesmo log shows what is kept]");
                    }
                    print!("{}", view::output(&piece.text));
                    if std::io::stdout().flush().is_err() {
                        return Ok(());
                    }
                }
                "attempt" if !context.json => {
                    let end: OutputEnd = serde_json::from_str(&event.data).map_err(strange)?;
                    let said = plain(end.message.lines().next().unwrap_or_default());
                    let said = if said.is_empty() { said } else { format!(": {said}") };
                    let (number, spent) = (end.attempt, Span(end.spent_us));
                    println!("── attempt {number}: {} after {spent}{said}", view::ended_word(end.ended));
                }
                "end" => {
                    let over: OutputOver = serde_json::from_str(&event.data).map_err(strange)?;
                    if !context.json {
                        println!("{}", over.outcome.map_or_else(|| "the run is over".to_owned(), view::outcome_word));
                    }
                    return Ok(());
                }
                _ => {}
            }
        }
        cuts += 1;
        tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    }
}

/// Where and after what a failing attempt ran, a line each.
fn around(attempt: &Attempt) -> Vec<String> {
    let Some(around) = &attempt.around else { return Vec::new() };
    let mut lines = vec![format!("number {} in shard {}", around.place, around.shard)];
    if attempt.of_slots > 0 {
        let busy = format!("{} of {} slots of {} were busy", attempt.busy, attempt.of_slots, attempt.worker);
        let usual = attempt.expected_us.filter(|us| *us > 0);
        let times =
            usual.map(|us| format!("; it took {:.1} times its usual time", attempt.spent_us as f64 / us as f64));
        lines.push(busy + &times.unwrap_or_default());
    }
    let last = |names: &[String], most: usize| names[names.len().saturating_sub(most)..].join(", ");
    match around.before_count {
        0 => lines.push("nothing ran before it in its process".to_owned()),
        1 => lines.push(format!("before it in its process: {}", last(&around.before, 1))),
        n => lines.push(format!("before it in its process: {n} tests, last {}", last(&around.before, 3))),
    }
    if !around.on_worker.is_empty() {
        lines.push(format!("before it on its worker: {}", last(&around.on_worker, 3)));
    }
    if !around.beside.is_empty() {
        lines.push(format!("beside it on its worker: {}", last(&around.beside, 3)));
    }
    lines
}

pub async fn stop(options: &Stop, context: &Context) -> Result<(), Failure> {
    let body = StopRun { why: options.why.clone() };
    let run: Run = context.client.post(&format!("{}/stop", path(&options.run)?), &body).await?;
    if context.json {
        return print_json(&run);
    }
    println!("{} {}: {}", view::run_state(&run.summary), run.summary.name, run.summary.reason);
    Ok(())
}

pub async fn report(options: &Report, context: &Context) -> Result<(), Failure> {
    let query = [("as", options.format.clone()), ("pictures", options.pictures.clone())];
    let text = context.client.get_text(&format!("{}/report", path(&options.run)?), &query).await?;
    match &options.output {
        None => print!("{text}"),
        Some(file) => {
            if let Some(folder) = file.parent().filter(|f| !f.as_os_str().is_empty()) {
                std::fs::create_dir_all(folder).map_err(|e| Failure::call(format!("{}: {e}", folder.display())))?;
            }
            std::fs::write(file, &text).map_err(|e| Failure::call(format!("{}: {e}", file.display())))?;
            eprintln!("{} as {} in {} ({})", options.run, options.format, file.display(), Bytes(text.len() as u64));
        }
    }
    Ok(())
}

pub async fn artifacts(options: &Artifacts, context: &Context) -> Result<(), Failure> {
    let files: Vec<Artifact> = context.client.get(&format!("{}/artifacts", path(&options.run)?), &[]).await?;
    if let Some(folder) = &options.to {
        let mut missing = 0;
        for file in &files {
            // One that cannot be had keeps no other from being downloaded.
            if let Err(failure) = download(file, &folder.join(place_of(file)), context).await {
                eprintln!("kesmo: {}", failure.message);
                missing += 1;
            }
        }
        eprintln!("{} files of {} in {}", files.len() - missing, options.run, folder.display());
        if missing > 0 {
            return Err(Failure::trouble(format!("{missing} of {} files could not be downloaded", files.len())));
        }
        return Ok(());
    }
    if context.json {
        return print_json(&files);
    }
    if files.is_empty() {
        println!(
            "{} left no files behind. A test leaves them in $KESMO_ARTIFACTS, or `keep` in kesmo.toml names them.",
            options.run
        );
        return Ok(());
    }
    let rows = files.iter().map(|f| {
        let attempt = if f.attempt == 0 { String::new() } else { f.attempt.to_string() };
        let about = plain(&f.about.replace('\n', " "));
        vec![f.test.clone(), f.variant.clone(), attempt, plain(&f.path), Bytes(f.bytes).to_string(), about]
    });
    print!("{}", view::table(&["test", "variant", ">attempt", "file", ">size", "about"], rows.collect()));
    println!("Download them: kesmo artifacts {} --to FOLDER", options.run);
    Ok(())
}

/// Downloads a file to where it is to stand.
async fn download(file: &Artifact, place: &Path, context: &Context) -> Result<(), Failure> {
    let failed = |e: std::io::Error| Failure::trouble(format!("{}: {e}", plain(&place.display().to_string())));
    let content = context.client.blob(&file.digest).await?;
    std::fs::create_dir_all(place.parent().unwrap_or(Path::new("."))).map_err(failed)?;
    std::fs::write(place, content).map_err(failed)
}

/// Where a downloaded file stands: test, variant, attempt, name; with nothing in it that leaves the folder.
fn place_of(file: &Artifact) -> PathBuf {
    let folder = place_in(Path::new(""), &file.test, &file.variant, file.attempt);
    let place = place_in(&folder, &file.path, "", 0);
    // A name of which nothing is left.
    if place == folder { folder.join("file") } else { place }
}

/// The place within a folder for what belongs to a test, a variant and an attempt (0 for none); nothing in the names
/// leaves the folder.
pub fn place_in(folder: &Path, test: &str, variant: &str, attempt: u32) -> PathBuf {
    let mut place = folder.to_owned();
    for part in test.split('/').chain(variant.replace(", ", "+").split('/')) {
        if !matches!(part, "" | "." | "..") {
            place.push(part.replace(['\\', '\0', ':'], "_"));
        }
    }
    if attempt > 0 {
        place.push(format!("attempt-{attempt}"));
    }
    place
}

/// What a machine of a run printed; with `follow` also what it prints until it has ended.
async fn machine_log(run: &str, number: u32, follow: bool, context: &Context) -> Result<(), Failure> {
    let machines = format!("{}/machines", path(run)?);
    let log = format!("{machines}/{number}/log");
    let mut printed = String::new();
    loop {
        let all: Vec<MachineOf> = context.client.get(&machines, &[]).await?;
        let over = all.iter().find(|m| m.number == i64::from(number)).is_none_or(|m| m.state.is_over());
        match context.client.get_text(&log, &[]).await {
            Ok(text) => {
                // A log whose beginning is not kept any more is shown from where it is.
                let new = text.strip_prefix(printed.as_str()).unwrap_or(&text);
                print!("{}", view::output(new));
                std::io::Write::flush(&mut std::io::stdout()).map_err(|e| Failure::trouble(e.to_string()))?;
                printed = text;
            }
            // It may not have begun to print.
            Err(_) if follow && !over => {}
            Err(e) => return Err(e.into()),
        }
        if !follow || over {
            return Ok(());
        }
        tokio::time::sleep(std::time::Duration::from_secs(1)).await;
    }
}

/// What of a run is to be run again.
pub async fn not_passed(context: &Context, run: &str) -> Result<NotPassed, Failure> {
    Ok(context.client.get(&format!("{}/not-passed", path(run)?), &[]).await?)
}

pub async fn workers(context: &Context) -> Result<(), Failure> {
    let workers: Vec<Worker> = context.client.get("/api/workers", &[]).await?;
    if context.json {
        return print_json(&workers);
    }
    if workers.is_empty() {
        println!("There is no worker. Start one: kesmo worker --slots 4");
        return Ok(());
    }
    let rows = workers.iter().map(|w| {
        let busy = w.slots.iter().filter(|s| s.doing.is_some() || s.run.is_some()).count();
        let offers: Vec<String> = w.offers.iter().map(|(k, v)| format!("{k}={v}")).collect();
        let link = match (w.connected, w.draining) {
            (false, _) => "away",
            (true, true) if busy > 0 => "draining",
            (true, true) => "drained",
            (true, false) => "linked",
        };
        let slots = format!("{busy} of {}", w.slots.len());
        let pool = w.only_run.as_ref().map_or_else(|| w.pool.clone(), |run| format!("only {run}"));
        let fills = if (w.fills as usize) < w.slots.len() { format!("fills {}", w.fills) } else { String::new() };
        vec![w.name.clone(), pool, link.into(), slots, fills, offers.join(" "), view::moment(w.since)]
    });
    print!("{}", view::table(&["worker", "pool", "link", ">busy", "eased", "offers", "since"], rows.collect()));
    for overloaded in workers.iter().filter_map(|w| w.overloaded.as_ref()) {
        println!("! {overloaded}");
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn downloads_stay_within_their_folder() {
        let file = Artifact {
            test: "gate/../../late".into(),
            variant: "screen=phone, tongue=nn".into(),
            attempt: 2,
            path: "/../etc/shot.png".into(),
            about: String::new(),
            bytes: 1,
            digest: String::new(),
            media_type: String::new(),
        };
        assert_eq!(place_of(&file).to_string_lossy(), "gate/late/screen=phone+tongue=nn/attempt-2/etc/shot.png");
        let dots = Artifact { path: "..".into(), ..file };
        assert_eq!(place_of(&dots).to_string_lossy(), "gate/late/screen=phone+tongue=nn/attempt-2/file");
    }
}
