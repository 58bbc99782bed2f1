//! `kesmo watch`, and what `start --wait` and `join` show: one run or several, as they go.

use std::{collections::BTreeSet, time::Duration};

use kesmo_client::{Client, LiveEvent};
use kesmo_core::{run::Tally, words::Verdict};
use kesmo_wire::{
    api::{CauseOf, Compared, Run, StopRun},
    live::{Floor, RunChange, RunSnapshot},
};
use tokio::{sync::mpsc, time::Instant};

use super::{asked_to_end, comparing, keys::Keys, reports, run_path as path, runs};
use crate::{
    arguments::Watch,
    context::Context,
    failure::Failure,
    view::{
        self,
        closing::{Closing, Repeated},
        live::LiveView,
        safe::word,
    },
};

/// How long a cut stream is dialled again before the command gives up.
const GIVE_UP: Duration = Duration::from_secs(60);
/// The status of whoever leaves before the verdict: as a shell says of a program that was interrupted.
const LEFT: u8 = 130;
/// A terminal is drawn anew so often.
const FRAME: Duration = Duration::from_millis(125);

/// Watches the runs that are named, or all.
pub async fn watch(options: &Watch, context: &Context) -> Result<u8, Failure> {
    let refresh = options.refresh.refresh;
    if options.all {
        return Watching::new(Vec::new(), refresh, context, true).wait().await;
    }
    let mut names = Vec::new();
    for run in &options.runs {
        path(run)?;
        if !names.contains(run) {
            names.push(run.clone());
        }
    }
    let wanted = reports::prepare(&options.report)?;
    if !wanted.is_empty() && names.len() > 1 {
        return Err(Failure::call("--report is of one run: watch each for itself"));
    }
    let run = names[0].clone();
    let status = Watching::new(names, refresh, context, false).wait().await?;
    // Whoever leaves before the verdict gets none.
    if wanted.is_empty() || status == LEFT {
        return Ok(status);
    }
    Ok(reports::of_run(&run, &wanted, status, context).await)
}

/// Stays with a run until its verdict; tells the status to end with.
pub async fn until_verdict(run: &str, refresh: Duration, context: &Context) -> Result<u8, Failure> {
    Watching::new(vec![run.to_owned()], refresh, context, false).wait().await
}

/// Runs as they are shown while they go on: drawn in place on a terminal, in lines elsewhere, as JSON lines for programs.
pub struct Display {
    views: Vec<LiveView>,
    screen: view::live::Screen,
    on_terminal: bool,
    json: bool,
    refresh: Duration,
    next_line: Instant,
    /// Whether it was said what the glyphs of lines mean.
    legend_said: bool,
    /// The last line of the picture: what keys do, or a question.
    footer: String,
}

impl Display {
    pub fn new(runs: &[String], refresh: Duration, json: bool) -> Self {
        Self {
            views: runs.iter().map(|run| LiveView::new(run)).collect(),
            screen: view::live::Screen::default(),
            on_terminal: view::on_terminal() && !json,
            json,
            refresh,
            next_line: Instant::now() + refresh,
            legend_said: false,
            footer: String::new(),
        }
    }

    /// When [`Display::tick`] is due.
    pub fn tick_at(&self) -> Instant {
        if self.on_terminal { Instant::now() + FRAME } else { self.next_line }
    }

    /// Shows how things stand, if it is time.
    pub fn tick(&mut self) {
        let now = chrono::Utc::now();
        if self.on_terminal {
            self.draw();
        } else if self.json {
            self.next_line = Instant::now() + Duration::from_secs(3600);
        } else if Instant::now() >= self.next_line {
            let lines: Vec<String> = self
                .views
                .iter()
                .filter(|v| v.seen() && v.verdict().is_none())
                .flat_map(|view| std::iter::once(view.summary_line(now)).chain(view.measure_lines()))
                .collect();
            if !lines.is_empty() {
                self.say_legend();
            }
            lines.iter().for_each(|line| println!("{line}"));
            self.next_line = Instant::now() + self.refresh;
        }
    }

    /// Says once in a log what its glyphs mean.
    fn say_legend(&mut self) {
        if !std::mem::replace(&mut self.legend_said, true) {
            println!("{}", view::legend());
        }
    }

    fn draw(&mut self) {
        let now = chrono::Utc::now();
        let (width, height) = (view::width(), view::height());
        let room = height.saturating_sub(1 + usize::from(!self.footer.is_empty()));
        let mut lines = match self.views.as_slice() {
            [one] => one.picture(width, room, now),
            several => {
                // Those that go on come first; what does not fit is counted.
                let (going, over): (Vec<_>, Vec<_>) = several.iter().partition(|v| v.verdict().is_none());
                let mut lines: Vec<String> = Vec::new();
                let mut left_out = 0;
                for view in going.into_iter().chain(over) {
                    let picture = view.short_picture(width, now);
                    if lines.len() + picture.len() + 2 > room {
                        left_out += 1;
                        continue;
                    }
                    lines.extend(picture);
                    lines.push(String::new());
                }
                if several.is_empty() {
                    lines.push("Nothing runs. What starts is shown here.".to_owned());
                }
                if left_out > 0 {
                    lines.push(view::paint(view::Paint::Dim, &format!("… and {left_out} more runs: kesmo runs")));
                }
                lines
            }
        };
        if !self.footer.is_empty() {
            lines.push(view::paint(view::Paint::Dim, &view::cut(&self.footer, width)));
        }
        self.screen.draw(&lines, width);
    }

    fn view(&mut self, run: usize) -> &mut LiveView {
        &mut self.views[run]
    }

    pub fn snapshot(&mut self, run: usize, snapshot: RunSnapshot) {
        self.view(run).snapshot(snapshot);
        self.say_lines(run);
    }

    pub fn change(&mut self, run: usize, change: RunChange) {
        self.view(run).change(change);
        self.say_lines(run);
    }

    fn say_lines(&mut self, run: usize) {
        let several = self.views.len() > 1;
        let view = &mut self.views[run];
        let lines = view.take_lines();
        if !self.on_terminal && !self.json {
            if !lines.is_empty() && !std::mem::replace(&mut self.legend_said, true) {
                println!("{}", view::legend());
            }
            for line in lines {
                if several { println!("{}: {line}", view.name()) } else { println!("{line}") }
            }
        }
    }

    /// Takes away what was drawn.
    pub fn clear(&mut self) {
        self.screen.clear();
    }

    /// The last line of a run in a log, before its closing summary.
    pub fn close(&mut self) {
        self.clear();
        if !self.on_terminal && !self.json {
            self.say_legend();
            for view in &self.views {
                println!("{}", view.summary_line(chrono::Utc::now()));
            }
        }
    }
}

/// What comes of a run's stream.
enum Said {
    Event(LiveEvent),
    Cut,
    Failed(kesmo_client::Error),
}

/// Follows streams, each in a task of its own, until they end.
struct Watching<'a> {
    context: &'a Context,
    names: Vec<String>,
    display: Display,
    all: bool,
    sender: mpsc::Sender<(usize, Said)>,
    coming: mpsc::Receiver<(usize, Said)>,
    over: BTreeSet<usize>,
}

/// What a key brought about.
enum Pressed {
    Nothing,
    Leave,
}

impl<'a> Watching<'a> {
    fn new(names: Vec<String>, refresh: Duration, context: &'a Context, all: bool) -> Self {
        let (sender, coming) = mpsc::channel(256);
        let display = Display::new(&names, refresh, context.json);
        Self { context, names, display, all, sender, coming, over: BTreeSet::new() }
    }

    async fn wait(mut self) -> Result<u8, Failure> {
        for run in 0..self.names.len() {
            self.follow(run)?;
        }
        let mut floor = if self.all { Some(self.follow_floor()) } else { None };
        let mut keys = if self.display.on_terminal { Keys::open() } else { None };
        self.display.footer = self.footer(keys.is_some());
        let mut asking = false;
        let mut end = std::pin::pin!(asked_to_end());
        loop {
            let tick = self.display.tick_at();
            tokio::select! {
                Some((run, said)) = self.coming.recv() => self.take(run, said)?,
                Some(run) = next_of(&mut floor) => self.meet(run?)?,
                key = next_key(&mut keys) => {
                    if let Pressed::Leave = self.press(key, &mut asking).await {
                        return Ok(self.left());
                    }
                }
                () = tokio::time::sleep_until(tick) => {}
                () = &mut end => return Ok(self.left()),
            }
            if !self.all && self.over.len() == self.names.len() {
                break;
            }
            self.display.tick();
        }
        drop(keys);
        self.display.footer.clear();
        self.display.close();
        self.closing().await
    }

    fn footer(&self, keys: bool) -> String {
        match (keys, self.names.len(), self.all) {
            (false, ..) => String::new(),
            (_, 1, false) => "q leave it running   s stop it".into(),
            _ => "q leave them running".into(),
        }
    }

    /// Starts to follow a run's stream.
    fn follow(&self, run: usize) -> Result<(), Failure> {
        let at = format!("{}/live", path(&self.names[run])?);
        tokio::spawn(follow(self.context.client.clone(), at, run, self.sender.clone()));
        Ok(())
    }

    /// Runs that go on, and those that start later.
    fn follow_floor(&self) -> mpsc::Receiver<Result<String, Failure>> {
        let (sender, runs) = mpsc::channel(256);
        let client = self.context.client.clone();
        tokio::spawn(async move {
            let (told, mut coming) = mpsc::channel(16);
            tokio::spawn(follow(client, "/api/live".to_owned(), 0, told));
            while let Some((_, said)) = coming.recv().await {
                let event = match said {
                    Said::Event(event) => event,
                    Said::Cut => continue,
                    Said::Failed(e) => {
                        drop(sender.send(Err(e.into())).await);
                        return;
                    }
                };
                let Ok(floor) = serde_json::from_str::<Floor>(&event.data) else { continue };
                for run in floor.runs.into_iter().filter(|r| r.verdict.is_none()) {
                    if sender.send(Ok(run.name)).await.is_err() {
                        return;
                    }
                }
            }
        });
        runs
    }

    /// A run that goes on: it is shown from now on.
    fn meet(&mut self, name: String) -> Result<(), Failure> {
        if !self.names.contains(&name) {
            self.display.views.push(LiveView::new(&name));
            self.names.push(name);
            self.follow(self.names.len() - 1)?;
        }
        Ok(())
    }

    /// Takes in what came of a run's stream.
    fn take(&mut self, run: usize, said: Said) -> Result<(), Failure> {
        let strange = |e: serde_json::Error| Failure::trouble(format!("the stream cannot be understood: {e}"));
        let event = match said {
            Said::Event(event) => event,
            Said::Cut => {
                self.display.view(run).cut(true);
                if !self.display.on_terminal && !self.context.json {
                    eprintln!("the stream was cut; trying again");
                }
                return Ok(());
            }
            Said::Failed(e) => {
                self.display.clear();
                return Err(e.into());
            }
        };
        if self.context.json {
            let name = if self.names.len() > 1 || self.all {
                format!("\"run\":{},", serde_json::Value::from(self.names[run].as_str()))
            } else {
                String::new()
            };
            println!("{{\"event\":\"{}\",{name}\"data\":{}}}", event.kind, event.data);
        }
        match event.kind.as_str() {
            "snapshot" => self.display.snapshot(run, serde_json::from_str(&event.data).map_err(strange)?),
            "change" | "end" => {
                let change: RunChange = serde_json::from_str(&event.data).map_err(strange)?;
                self.display.change(run, change);
                if event.kind == "end" {
                    self.over.insert(run);
                    if (self.all || self.names.len() > 1) && !self.display.on_terminal && !self.context.json {
                        println!("{}", self.display.views[run].summary_line(chrono::Utc::now()));
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }

    async fn press(&mut self, key: char, asking: &mut bool) -> Pressed {
        let one = self.names.len() == 1 && !self.all;
        match key {
            'y' | 'Y' if *asking => {
                *asking = false;
                let said = self.stop().await;
                self.display.footer = said;
            }
            // Whoever is asked and says anything else has not said yes.
            _ if *asking => {
                *asking = false;
                self.display.footer = self.footer(true);
            }
            'q' | 'Q' => return Pressed::Leave,
            's' | 'S' if one => {
                *asking = true;
                self.display.footer = format!("Stop {} for everyone? y: yes, any other key: no", self.names[0]);
            }
            _ => {}
        }
        self.display.tick();
        Pressed::Nothing
    }

    async fn stop(&self) -> String {
        let Ok(at) = path(&self.names[0]) else { return String::new() };
        let body = StopRun { why: None };
        match self.context.client.post::<Run>(&format!("{at}/stop"), &body).await {
            Ok(_) => "It was asked to stop.".to_owned(),
            Err(e) => e.to_string(),
        }
    }

    fn left(&mut self) -> u8 {
        self.display.clear();
        let going: Vec<&str> =
            self.display.views.iter().filter(|v| v.verdict().is_none()).map(LiveView::name).collect();
        match going.as_slice() {
            [] => eprintln!("You left; nothing runs."),
            [run] => eprintln!("You left; {run} goes on. Watch it: kesmo watch {run}   End it: kesmo stop {run}"),
            several => eprintln!("You left; they go on. Watch them: kesmo watch {}", several.join(" ")),
        }
        LEFT
    }

    /// What the runs came to, and the status to end with: of several that of the worst.
    async fn closing(&self) -> Result<u8, Failure> {
        let mut worst: Option<Verdict> = None;
        for (run, view) in self.names.iter().zip(&self.display.views) {
            let verdict = view.verdict().ok_or_else(|| Failure::trouble(format!("{run} ended without a verdict")))?;
            if !self.context.json {
                print!("{}", closing(run, self.context).await?);
            }
            worst = worst.max_by_severity(verdict);
        }
        Ok(worst.map_or(0, |v| u8::try_from(v.exit_status()).unwrap_or(1)))
    }
}

trait Severity {
    fn max_by_severity(self, other: Verdict) -> Self;
}

impl Severity for Option<Verdict> {
    /// A failure is worse than a run that tested nothing, and that than one that was stopped.
    fn max_by_severity(self, other: Verdict) -> Self {
        Some(self.filter(|v| v.severity() >= other.severity()).unwrap_or(other))
    }
}

async fn next_of(runs: &mut Option<mpsc::Receiver<Result<String, Failure>>>) -> Option<Result<String, Failure>> {
    match runs {
        Some(runs) => runs.recv().await,
        None => std::future::pending().await,
    }
}

async fn next_key(keys: &mut Option<Keys>) -> char {
    match keys {
        Some(open) => match open.next().await {
            Some(key) => key,
            None => {
                *keys = None;
                std::future::pending().await
            }
        },
        None => std::future::pending().await,
    }
}

/// Follows a stream until it ends; a cut one is dialled again, from where it was.
async fn follow(client: Client, path: String, run: usize, to: mpsc::Sender<(usize, Said)>) {
    let mut last_id: Option<String> = None;
    let mut cut_since: Option<Instant> = None;
    let mut seen = false;
    loop {
        let mut events = match client.watch(&path, last_id.as_deref()).await {
            Ok(events) => events,
            Err(e @ kesmo_client::Error::Unreachable { .. }) => {
                let since = *cut_since.get_or_insert_with(Instant::now);
                // A first call that finds nobody is told at once; a cut is waited out.
                if !seen || since.elapsed() > GIVE_UP {
                    drop(to.send((run, Said::Failed(e))).await);
                    return;
                }
                tokio::time::sleep(Duration::from_millis(500)).await;
                continue;
            }
            Err(e) => {
                drop(to.send((run, Said::Failed(e))).await);
                return;
            }
        };
        while let Ok(Some(event)) = events.next().await {
            (cut_since, seen) = (None, true);
            if event.id.is_some() {
                last_id.clone_from(&event.id);
            }
            let over = event.kind == "end";
            if to.send((run, Said::Event(event))).await.is_err() || over {
                return;
            }
        }
        cut_since.get_or_insert_with(Instant::now);
        if to.send((run, Said::Cut)).await.is_err() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
}

/// How often each test of a run ended how that repeats them.
async fn repeated(run: &str, context: &Context) -> Result<Vec<(String, Tally)>, Failure> {
    let mut found = Repeated::default();
    runs::each_page(context, run, |page| found.add(page)).await?;
    Ok(found.sorted())
}

/// What is new against the last comparable run; that it could not be found out is said, and changes nothing else.
async fn new_in(run: &Run, context: &Context) -> String {
    let tested = matches!(run.summary.verdict, Some(Verdict::Passed | Verdict::Failed));
    if !tested || run.summary.labels.contains_key("hunt") {
        return String::new();
    }
    let name = &run.summary.name;
    let Ok(path) = path(name) else { return String::new() };
    match context.client.get::<Compared>(&format!("{path}/compared"), &[]).await {
        Ok(found) => comparing::new_in(&found).unwrap_or_default(),
        Err(e) => format!("  It could not be compared with the run before: {e}"),
    }
}

/// The closing summary: verdict, what failed and why, what was flaky, the slowest, where to read more.
async fn closing(run: &str, context: &Context) -> Result<String, Failure> {
    let detail: Run = context.client.get(&path(run)?, &[]).await?;
    let of = |state: &str, most: u32| [("state", state.to_owned()), ("limit", most.to_string())];
    let failed = runs::entries(context, run, &of("failed", 20)).await?;
    let flaky = runs::entries(context, run, &of("flaky", 20)).await?;
    let parked = runs::entries(context, run, &of("parked", 10)).await?;
    let slowest = runs::entries(context, run, &[("order", "slowest".to_owned()), ("limit", "10".to_owned())]).await?;
    let causes: Vec<CauseOf> = if failed.total + flaky.total > 1 {
        context.client.get(&format!("{}/causes", path(run)?), &[]).await?
    } else {
        Vec::new()
    };
    let name = &detail.summary.name;
    let mut more = Vec::new();
    if let Some(first) = failed.entries.first().or(flaky.entries.first()) {
        more.push(format!("kesmo log {name} {}", word(&first.test)));
    }
    if detail.summary.verdict == Some(Verdict::Failed) {
        // What failed by something beside its tests has none that did not pass.
        let which = if failed.entries.is_empty() { "" } else { " --not-passed" };
        more.push(format!("kesmo again {name}{which} --wait"));
    }
    more.push(format!("kesmo show {name}"));
    more.push(format!("kesmo report {name} --as junit"));
    let page = format!("{}/runs/{name}", context.client.url());
    let repeated = if detail.options.times().is_some() { repeated(run, context).await? } else { Vec::new() };
    let new = new_in(&detail, context).await;
    let measured = super::measures::of_run(name, context).await?;
    let told = Closing {
        run: &detail,
        failed: &failed,
        flaky: &flaky,
        parked: &parked,
        slowest: &slowest,
        causes: &causes,
        repeated: &repeated,
        new: &new,
        measures: &measured,
    };
    Ok(told.text(Some(&page), &more))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_worst_of_several_verdicts_gives_the_status() {
        use Verdict::{Failed, Passed, Stopped, Void};
        let worst = |all: &[Verdict]| all.iter().fold(None, |worst: Option<Verdict>, v| worst.max_by_severity(*v));
        assert_eq!(worst(&[Passed, Passed]), Some(Passed));
        assert_eq!(worst(&[Passed, Stopped, Passed]), Some(Stopped));
        assert_eq!(worst(&[Void, Stopped]), Some(Void));
        assert_eq!(worst(&[Stopped, Failed, Void]), Some(Failed));
    }
}
