//! `kesmo start`, `watch` and `again`: starting runs and staying with them.

use std::{path::Path, time::Duration};

use kesmo_client::{LiveEvent, pack};
use kesmo_core::{plan::RunOptions, words::Verdict};
use kesmo_wire::{
    api::{Again as AgainBody, CauseOf, NewRun, Run},
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
    arguments::{Again, Running, Start, Staying, Watch},
    view::{self, closing::Closing, live::LiveView},
};

/// How long a cut stream is dialled again before the command gives up.
const GIVE_UP: Duration = Duration::from_secs(60);

pub async fn run(options: &Start, context: &Context) -> Result<u8, Failure> {
    let run_options = options.running.options(&options.choosing)?;
    let new = new_run(&options.suite, options.pool.clone(), run_options, &options.running, context).await?;
    let run: Run = context.client.post("/api/runs", &new).await?;
    started(&run, &options.staying, context).await
}

/// What a start asks for; a folder is packed and uploaded.
pub async fn new_run(
    suite: &str,
    pool: Option<String>,
    options: RunOptions,
    running: &Running,
    context: &Context,
) -> Result<NewRun, Failure> {
    let mut new = NewRun { pool, options, unpassed_in: running.unpassed_in.clone(), ..NewRun::default() };
    if is_folder(suite) {
        let folder = Path::new(suite);
        // What is wrong with the call is told before anything is sent.
        new.options.check(&pack::suite_file(folder)?)?;
        let bundle = pack::pack(folder)?;
        context.client.upload(&bundle).await?;
        new.bundle = Some(bundle.digest);
    } else {
        new.suite = Some(suite.to_owned());
    }
    Ok(new)
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

/// A run as it is shown while it goes on: drawn in place on a terminal, in lines elsewhere, as JSON lines for programs.
pub struct Display {
    view: LiveView,
    screen: view::live::Screen,
    on_terminal: bool,
    json: bool,
    refresh: Duration,
    next_line: Instant,
}

impl Display {
    pub fn new(run: &str, refresh: Duration, json: bool) -> Self {
        Self {
            view: LiveView::new(run),
            screen: view::live::Screen::default(),
            on_terminal: view::on_terminal() && !json,
            json,
            refresh,
            next_line: Instant::now() + refresh,
        }
    }

    /// When [`Display::tick`] is due.
    pub fn tick_at(&self) -> Instant {
        if self.on_terminal { Instant::now() + Duration::from_millis(125) } else { self.next_line }
    }

    /// Shows how things stand, if it is time.
    pub fn tick(&mut self) {
        let now = chrono::Utc::now();
        if self.on_terminal {
            self.screen.draw(&self.view.lines(view::width(), now));
        } else if self.json {
            self.next_line = Instant::now() + Duration::from_secs(3600);
        } else if Instant::now() >= self.next_line {
            println!("{}", self.view.summary_line(now));
            self.next_line = Instant::now() + self.refresh;
        }
    }

    pub fn snapshot(&mut self, snapshot: RunSnapshot) {
        self.view.snapshot(snapshot);
        self.say_notes();
    }

    pub fn change(&mut self, change: RunChange) {
        self.view.change(change);
        self.say_notes();
    }

    fn say_notes(&mut self) {
        if !self.on_terminal && !self.json {
            for note in self.view.take_notes() {
                println!("{note}");
            }
        }
    }

    /// Takes away what was drawn.
    pub fn clear(&mut self) {
        self.screen.clear();
    }

    /// The last picture, before the closing summary.
    pub fn close(&mut self) {
        self.clear();
        if !self.on_terminal && !self.json {
            println!("{}", self.view.summary_line(chrono::Utc::now()));
        }
    }
}

/// Stays with a run until its verdict; tells the status to end with.
pub async fn stay(run: &str, refresh: Duration, context: &Context) -> Result<u8, Failure> {
    let path = format!("{}/live", path(run)?);
    let mut display = Display::new(run, refresh, context.json);
    let mut last_id: Option<String> = None;
    let mut cut_since: Option<Instant> = None;
    let end = std::pin::pin!(asked_to_end());
    let mut end = end;
    'dial: loop {
        let dialled = tokio::select! {
            dialled = context.client.watch(&path, last_id.as_deref()) => dialled,
            () = &mut end => return left(run, &mut display),
        };
        let mut events = match dialled {
            Ok(events) => events,
            Err(e @ kesmo_client::Error::Unreachable { .. }) => {
                let since = *cut_since.get_or_insert_with(Instant::now);
                // A first call that finds nobody is told at once; a cut is waited out.
                if !display.view.seen() || since.elapsed() > GIVE_UP {
                    display.clear();
                    return Err(e.into());
                }
                tokio::time::sleep(Duration::from_millis(500)).await;
                continue;
            }
            Err(e) => {
                display.clear();
                return Err(e.into());
            }
        };
        loop {
            let tick = display.tick_at();
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
                        if take(&mut display, &event)? {
                            break 'dial;
                        }
                    }
                    Ok(None) | Err(_) => {
                        cut_since.get_or_insert_with(Instant::now);
                        if !display.on_terminal && !context.json {
                            eprintln!("the stream was cut; trying again");
                        }
                        tokio::time::sleep(Duration::from_millis(300)).await;
                        continue 'dial;
                    }
                },
                () = tokio::time::sleep_until(tick) => {}
                () = &mut end => return left(run, &mut display),
            }
            display.tick();
        }
    }
    display.close();
    let verdict = display.view.verdict().ok_or_else(|| Failure::trouble("the run ended without a verdict"))?;
    if !context.json {
        print!("{}", closing(run, context).await?);
    }
    Ok(u8::try_from(verdict.exit_status()).unwrap_or(1))
}

fn left(run: &str, display: &mut Display) -> Result<u8, Failure> {
    display.clear();
    eprintln!("You left; {run} goes on. Watch it: kesmo watch {run}   End it: kesmo stop {run}");
    // As a shell says of a program that was interrupted.
    Ok(130)
}

/// Takes an event in; tells whether it was the last.
fn take(display: &mut Display, event: &LiveEvent) -> Result<bool, Failure> {
    let strange = |e: serde_json::Error| Failure::trouble(format!("the stream cannot be understood: {e}"));
    match event.kind.as_str() {
        "snapshot" => {
            let snapshot: RunSnapshot = serde_json::from_str(&event.data).map_err(strange)?;
            display.snapshot(snapshot);
            Ok(false)
        }
        "change" | "end" => {
            let change: RunChange = serde_json::from_str(&event.data).map_err(strange)?;
            display.change(change);
            Ok(event.kind == "end")
        }
        _ => Ok(false),
    }
}

/// The closing summary: verdict, what failed and why, what was flaky, the slowest, where to read more.
async fn closing(run: &str, context: &Context) -> Result<String, Failure> {
    let detail: Run = context.client.get(&path(run)?, &[]).await?;
    let of = |state: &str, most: u32| [("state", state.to_owned()), ("limit", most.to_string())];
    let failed = runs::entries(context, run, &of("failed", 20)).await?;
    let flaky = runs::entries(context, run, &of("flaky", 20)).await?;
    let slowest = runs::entries(context, run, &[("order", "slowest".to_owned()), ("limit", "5".to_owned())]).await?;
    let causes: Vec<CauseOf> = if failed.total + flaky.total > 1 {
        context.client.get(&format!("{}/causes", path(run)?), &[]).await?
    } else {
        Vec::new()
    };
    let name = &detail.summary.name;
    let mut more = Vec::new();
    if let Some(first) = failed.entries.first().or(flaky.entries.first()) {
        more.push(format!("kesmo log {name} {}", first.test));
    }
    if detail.summary.verdict == Some(Verdict::Failed) {
        more.push(format!("kesmo again {name} --unpassed --stay"));
    }
    more.push(format!("kesmo show {name}"));
    let page = format!("{}/runs/{name}", context.client.url());
    let told = Closing { run: &detail, failed: &failed, flaky: &flaky, slowest: &slowest, causes: &causes };
    Ok(told.text(Some(&page), &more))
}
