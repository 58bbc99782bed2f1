//! `kesmo start`, `watch` and `again`: starting runs and staying with them.

use std::{path::Path, time::Duration};

use kesmo_client::{LiveEvent, pack};
use kesmo_wire::{
    api::{Again as AgainBody, NewRun, Run},
    live::{RunChange, RunSnapshot},
};
use tokio::time::Instant;

use super::{
    asked_to_end, print_json,
    runs::{self, path},
    suites::is_folder,
};
use crate::{
    Context, Failure,
    arguments::{Again, Start, Staying, Watch, pairs},
    view::{self, live::LiveView},
};

/// How long a cut stream is dialled again before the command gives up.
const GIVE_UP: Duration = Duration::from_secs(60);

pub async fn run(options: &Start, context: &Context) -> Result<u8, Failure> {
    let mut run_options = options.choosing.options()?;
    run_options.retries = options.retries;
    run_options.shards = options.shards;
    run_options.seed = options.seed;
    run_options.labels = pairs("--label", &options.label)?;
    let mut new = NewRun { pool: options.pool.clone(), options: run_options, ..NewRun::default() };
    if is_folder(&options.suite) {
        let folder = Path::new(&options.suite);
        // What is wrong with the call is told before anything is sent.
        new.options.check(&pack::suite_file(folder)?)?;
        let bundle = pack::pack(folder)?;
        context.client.upload(&bundle).await?;
        new.bundle = Some(bundle.digest);
    } else {
        new.suite = Some(options.suite.clone());
    }
    let run: Run = context.client.post("/api/runs", &new).await?;
    started(&run, &options.staying, context).await
}

pub async fn again(options: &Again, context: &Context) -> Result<u8, Failure> {
    let body = AgainBody { unpassed: options.unpassed, shard: options.shard };
    let run: Run = context.client.post(&format!("{}/again", path(&options.run)?), &body).await?;
    started(&run, &options.staying, context).await
}

async fn started(run: &Run, staying: &Staying, context: &Context) -> Result<u8, Failure> {
    let name = &run.summary.name;
    if staying.stay {
        if !context.json {
            eprintln!("Started {name}: {}/runs/{name}", context.client.url());
        }
        return stay(name, staying.refresh.refresh, context).await;
    }
    if context.json {
        print_json(run)?;
    } else {
        println!("{name}");
        eprintln!("Watch it: kesmo watch {name}");
    }
    Ok(0)
}

pub async fn watch(options: &Watch, context: &Context) -> Result<u8, Failure> {
    stay(&options.run, options.refresh.refresh, context).await
}

/// Stays with a run until its verdict; tells the status to end with.
async fn stay(run: &str, refresh: Duration, context: &Context) -> Result<u8, Failure> {
    let path = format!("{}/live", path(run)?);
    let mut view = LiveView::new(run);
    let on_terminal = view::on_terminal() && !context.json;
    let mut screen = view::live::Screen::default();
    let mut last_id: Option<String> = None;
    let mut cut_since: Option<Instant> = None;
    let began = Instant::now();
    let mut next_line = began + refresh;
    let end = std::pin::pin!(asked_to_end());
    let mut end = end;
    'dial: loop {
        let dialled = tokio::select! {
            dialled = context.client.watch(&path, last_id.as_deref()) => dialled,
            () = &mut end => return left(run, &mut screen),
        };
        let mut events = match dialled {
            Ok(events) => events,
            Err(e @ kesmo_client::Error::Unreachable { .. }) => {
                let since = *cut_since.get_or_insert_with(Instant::now);
                // A first call that finds nobody is told at once; a cut is waited out.
                if !view.seen() || since.elapsed() > GIVE_UP {
                    screen.clear();
                    return Err(e.into());
                }
                tokio::time::sleep(Duration::from_millis(500)).await;
                continue;
            }
            Err(e) => {
                screen.clear();
                return Err(e.into());
            }
        };
        loop {
            let tick = if on_terminal { Instant::now() + Duration::from_millis(125) } else { next_line };
            tokio::select! {
                event = events.next() => match event {
                    Ok(Some(event)) => {
                        cut_since = None;
                        if event.id.is_some() {
                            last_id.clone_from(&event.id);
                        }
                        if context.json {
                            println!("{{\"event\":\"{}\",\"data\":{}}}", event.kind, event.data);
                        }
                        let over = take(&mut view, &event)?;
                        if !on_terminal && !context.json {
                            for note in view.take_notes() {
                                println!("{note}");
                            }
                        }
                        if over {
                            break 'dial;
                        }
                    }
                    Ok(None) | Err(_) => {
                        cut_since.get_or_insert_with(Instant::now);
                        if !on_terminal && !context.json {
                            eprintln!("the stream was cut; trying again");
                        }
                        tokio::time::sleep(Duration::from_millis(300)).await;
                        continue 'dial;
                    }
                },
                () = tokio::time::sleep_until(tick) => {}
                () = &mut end => return left(run, &mut screen),
            }
            if context.json {
                next_line = Instant::now() + Duration::from_secs(3600);
            } else if on_terminal {
                screen.draw(&view.lines(view::width(), chrono::Utc::now()));
            } else if Instant::now() >= next_line {
                println!("{}", view.summary_line(chrono::Utc::now()));
                next_line = Instant::now() + refresh;
            }
        }
    }
    screen.clear();
    let verdict = view.verdict().ok_or_else(|| Failure::trouble("the run ended without a verdict"))?;
    if !context.json {
        if !on_terminal {
            println!("{}", view.summary_line(chrono::Utc::now()));
        }
        print!("{}", closing(run, context).await?);
    }
    Ok(u8::try_from(verdict.exit_status()).unwrap_or(1))
}

fn left(run: &str, screen: &mut view::live::Screen) -> Result<u8, Failure> {
    screen.clear();
    eprintln!("You left; {run} goes on. Watch it: kesmo watch {run}   End it: kesmo stop {run}");
    // As a shell says of a program that was interrupted.
    Ok(130)
}

/// Takes an event into the view; tells whether it was the last.
fn take(view: &mut LiveView, event: &LiveEvent) -> Result<bool, Failure> {
    let strange = |e: serde_json::Error| Failure::trouble(format!("the stream cannot be understood: {e}"));
    match event.kind.as_str() {
        "snapshot" => {
            let snapshot: RunSnapshot = serde_json::from_str(&event.data).map_err(strange)?;
            view.snapshot(snapshot);
            Ok(false)
        }
        "change" | "end" => {
            let change: RunChange = serde_json::from_str(&event.data).map_err(strange)?;
            view.change(change);
            Ok(event.kind == "end")
        }
        _ => Ok(false),
    }
}

/// The closing summary: verdict, what failed and why, what was flaky, the slowest, where to read more.
async fn closing(run: &str, context: &Context) -> Result<String, Failure> {
    let detail: Run = context.client.get(&path(run)?, &[]).await?;
    let of = |state: &str| [("state", state.to_owned()), ("limit", "20".to_owned())];
    let failed = runs::entries(context, run, &of("failed")).await?;
    let flaky = runs::entries(context, run, &of("flaky")).await?;
    let slowest = runs::entries(context, run, &[("order", "slowest".to_owned()), ("limit", "5".to_owned())]).await?;
    Ok(view::closing::text(&detail, &failed, &flaky, &slowest, context.client.url()))
}
