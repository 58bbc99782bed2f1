//! `kesmo runs`, `show`, `log`, `stop`, `report`, `artifacts` and `workers`.

use kesmo_core::{
    name::{RunName, nearest, shorten},
    time::{Bytes, Span},
};
use kesmo_wire::api::{Artifact, Entries, Entry, EntryDetail, Run, RunSummary, StopRun, Worker};

use super::print_json;
use crate::{
    Context, Failure,
    arguments::{Artifacts, Log, Report, Runs, Show, Stop, pairs},
    view,
};

/// The API's address of a run.
pub fn path(run: &str) -> Result<String, Failure> {
    let name = RunName::parse(run)?;
    Ok(format!("/api/runs/{}/{}", name.suite, name.number))
}

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
        println!("There is no such run. Start one: kesmo start SUITE --stay");
        return Ok(());
    }
    print!("{}", runs_table(&runs));
    Ok(())
}

pub async fn entries(context: &Context, run: &str, query: &[(&str, String)]) -> Result<Entries, Failure> {
    Ok(context.client.get(&format!("{}/entries", path(run)?), query).await?)
}

pub async fn show(options: &Show, context: &Context) -> Result<(), Failure> {
    let run: Run = context.client.get(&path(&options.run)?, &[]).await?;
    let state = options.state.as_deref();
    let query = match state {
        None => vec![("state", "trouble".to_owned()), ("limit", "50".to_owned())],
        Some("all") => vec![("limit", "1000".to_owned())],
        Some(state) => vec![("state", state.to_owned()), ("limit", "1000".to_owned())],
    };
    let found = entries(context, &options.run, &query).await?;
    if context.json {
        return print_json(&serde_json::json!({ "run": run, "entries": found }));
    }
    print!("{}", view::run_head(&run, context.client.url()));
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
        println!("… and {more} more: kesmo show {} --state all --json", options.run);
    }
    Ok(())
}

pub fn entries_table(entries: &[Entry]) -> String {
    let variants = entries.iter().any(|e| !e.variant.is_empty());
    let rows = entries.iter().map(|e| {
        let state = match e.outcome {
            Some(outcome) => view::outcome_word(outcome),
            None if e.running => view::paint(view::Paint::Running, "▸ running"),
            None => "– waiting".into(),
        };
        let mut row = vec![state, e.test.clone()];
        if variants {
            row.push(e.variant.clone());
        }
        let spent = e.spent_us.map_or_else(|| "–".into(), |us| Span(us).to_string());
        row.extend([e.attempts.to_string(), spent, shorten(&e.message.replace('\n', " "), 90)]);
        row
    });
    let mut heads = vec!["state", "test", ">attempts", ">took", "said"];
    if variants {
        heads.insert(2, "variant");
    }
    view::table(&heads, rows.collect())
}

async fn find_entries(context: &Context, run: &str, test: &str, variants: &[String]) -> Result<Vec<Entry>, Failure> {
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
    let chosen = find_entries(context, &options.run, &options.test, &options.variant).await?;
    let base = path(&options.run)?;
    for entry in chosen {
        let detail: EntryDetail = context.client.get(&format!("{base}/entries/{}", entry.index), &[]).await?;
        if context.json {
            print_json(&detail)?;
            continue;
        }
        let variant = if entry.variant.is_empty() { String::new() } else { format!("  ({})", entry.variant) };
        let state = entry.outcome.map_or_else(|| "▸ no outcome yet".to_owned(), view::outcome_word);
        println!("{}{variant}  {state}  {}", view::bold(&entry.test), detail.retries_said);
        if detail.history.is_empty() {
            println!("  it has no attempt yet");
        }
        for attempt in detail.history.iter().filter(|a| options.attempt.is_none_or(|n| n == a.number)) {
            let spent = Span(attempt.spent_us);
            let place = format!("{} slot {}, batch {}", attempt.worker, attempt.slot, attempt.batch);
            println!("\n── attempt {}: {} after {spent} on {place}", attempt.number, view::ended_word(attempt.ended));
            for line in attempt.message.lines() {
                println!("   {line}");
            }
            for step in &attempt.steps {
                let ms = step.ms.map_or_else(String::new, |ms| format!("  {ms:.0} ms"));
                println!("   {} {}{ms}", if step.ok { "●" } else { "◆" }, step.name);
            }
            for line in attempt.detail.lines() {
                println!("   {line}");
            }
            if attempt.log_bytes > 0 {
                let at = format!("{base}/entries/{}/attempts/{}/log", entry.index, attempt.number);
                let text = context.client.get_text(&at, &[]).await?;
                println!("   printed ({}):", Bytes(attempt.log_bytes));
                for line in text.lines() {
                    println!("   │ {line}");
                }
            }
            for file in &attempt.artifacts {
                println!("   left {} ({})", file.path, Bytes(file.bytes));
            }
        }
        println!();
    }
    Ok(())
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
    let query = [("as", options.format.clone())];
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
        for file in &files {
            let place = folder.join(place_of(file));
            let failed = |e: std::io::Error| Failure::call(format!("{}: {e}", place.display()));
            std::fs::create_dir_all(place.parent().unwrap_or(folder)).map_err(failed)?;
            std::fs::write(&place, context.client.blob(&file.digest).await?).map_err(failed)?;
        }
        eprintln!("{} files of {} in {}", files.len(), options.run, folder.display());
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
        vec![f.test.clone(), f.variant.clone(), attempt, f.path.clone(), Bytes(f.bytes).to_string(), f.about.clone()]
    });
    print!("{}", view::table(&["test", "variant", ">attempt", "file", ">size", "about"], rows.collect()));
    println!("Download them: kesmo artifacts {} --to FOLDER", options.run);
    Ok(())
}

/// Where a downloaded file stands: test, variant, attempt, name; with nothing in it that leaves the folder.
fn place_of(file: &Artifact) -> std::path::PathBuf {
    let safe = |text: &str| -> Vec<String> {
        let parts = text.split('/').filter(|p| !matches!(*p, "" | "." | ".."));
        parts.map(|p| p.replace(['\\', '\0', ':'], "_")).collect()
    };
    let mut parts = safe(&file.test);
    parts.extend(safe(&file.variant.replace(", ", "+")));
    if file.attempt > 0 {
        parts.push(format!("attempt-{}", file.attempt));
    }
    parts.extend(safe(&file.path));
    parts.iter().collect()
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
        let link = if w.connected { "linked" } else { "away" };
        let slots = format!("{busy} of {}", w.slots.len());
        vec![w.name.clone(), w.pool.clone(), link.into(), slots, offers.join(" "), view::moment(w.since)]
    });
    print!("{}", view::table(&["worker", "pool", "link", ">busy", "offers", "since"], rows.collect()));
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
    }
}
