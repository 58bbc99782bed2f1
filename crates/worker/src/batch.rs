//! Runs one batch: starts its process, reads what it prints and reports, keeps its limits, and says how it ended. What it is told
//! meanwhile is in `batch/orders.rs`, how its processes are called in `calling.rs`, what they leave behind in `leaving.rs`.

mod calling;
mod leaving;
mod orders;
mod pipes;

use std::{
    collections::HashMap,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicU32, Ordering},
    },
    time::Duration,
};

use kesmo_core::{
    format::{points::Points, tap::Tap},
    name::shorten,
    run::BatchEnd,
    suite::file::{NamesAs, Results},
};
use kesmo_wire::link::{AttemptReport, BatchKey, FromWorker, Grant, GrantedEntry, KeptFile, Log, WorkerEvent};
use nix::{sys::stat::Mode, unistd::mkfifo};
use tokio::{
    sync::{mpsc, watch},
    task::JoinSet,
};

use crate::{
    cases::{EndOfProcess, Files},
    clock::{now_us, skew_us, wall_us},
    exit::{self, Exit},
    feeding::Feeding,
    files,
    hearing::{Heard, Hearing},
    mask::Mask,
    process,
    progress::ProcessEnd,
    reaching::{Reaching, Way},
    reading::{Reading, Step},
    running::{Running, Trouble},
    source::{Ready, Sources},
    uploads::Uploads,
};

pub use orders::{Fed, Order, Switches, Told, switches};
use pipes::{Bytes, Came, Pipes};

/// A failing TAP point whose explanation does not come is given out after this.
const HELD_BACK: Duration = Duration::from_millis(30);
/// The last result of a process is kept back so long for what it still prints.
const CLOSING: Duration = Duration::from_millis(200);
/// After a process ended, what it printed is waited for so long, if something holds its pipes open.
const LAST_WORDS: Duration = Duration::from_millis(300);

/// Whoever looks late waits so long for what came meanwhile.
const A_MOMENT: Duration = Duration::from_millis(20);
/// Where nothing was read for so much longer than was meant, in microseconds, that time is no test's.
const HELD_UP: i64 = 100_000;

/// What waits to begin says so that often.
const AT_GATE_EVERY: Duration = Duration::from_secs(2);

/// A process is looked at so often, also where nothing comes.
const A_SECOND: Duration = Duration::from_secs(1);

/// What running attempts print is sent at most so often to whoever follows, and so many bytes of it at a time.
const OUTPUT_EVERY: Duration = Duration::from_millis(100);
const MOST_OUTPUT: usize = 32 << 10;

/// What a slot needs to run batches.
#[derive(Clone)]
pub struct Tools {
    pub sources: Arc<Sources>,
    pub uploads: Uploads,
    pub events: mpsc::Sender<Vec<WorkerEvent>>,
    /// What attempts print that are followed.
    pub outputs: mpsc::Sender<FromWorker>,
    pub home: PathBuf,
    pub worker: String,
    /// Begins the mark of every process.
    pub mark: String,
    pub hearing: Option<Hearing>,
    /// So often the container engine went away, one time after the other.
    pub losses: Arc<AtomicU32>,
    pub reaching: Reaching,
}

/// After so many batches in a row that lost their container engine, a worker is unfit for the run.
const MOST_LOSSES: u32 = 4;
/// After each, the next is waited for a little longer.
const AFTER_LOSS: Duration = Duration::from_secs(1);

/// Runs a batch to its end, or until it is revoked, and reports it.
pub async fn run(tools: &Tools, grant: Grant, told: Told) {
    let key = grant.key;
    let mut revoked = told.order.clone();
    let end = tokio::select! {
        end = carry(tools, &grant, told) => end,
        _ = revoked.wait_for(|order| *order == Order::Revoke) => BatchEnd::Revoked,
    };
    if end == BatchEnd::Revoked {
        let mark = format!("{}-{}-{}", tools.mark, key.run, key.batch);
        process::end_marked_of(&mark).await;
        if grant.setup.image.is_some() {
            tools.sources.images().clear(&format!("{mark}-")).await;
        }
    }
    let folder = batch_folder(tools, &grant);
    if let Err(e) = std::fs::remove_dir_all(&folder)
        && e.kind() != std::io::ErrorKind::NotFound
    {
        tracing::warn!("{} could not be cleared away: {e}", folder.display());
    }
    tools.report(vec![WorkerEvent::BatchEnded { key, end }]).await;
}

impl Tools {
    /// How a batch ends that could not run. An engine that went away may come back: what the batch had goes back, uncharged. One
    /// that stays away makes this worker unfit for the run.
    async fn without(&self, key: BatchKey, trouble: Trouble) -> BatchEnd {
        match trouble {
            Trouble::Cannot(why) => BatchEnd::Unfit(why),
            Trouble::Lost(why) => {
                let times = self.losses.fetch_add(1, Ordering::Relaxed) + 1;
                if times >= MOST_LOSSES {
                    return BatchEnd::Unfit(why);
                }
                let text = format!("on {}, {why}; what was running there goes back", self.worker);
                self.report(vec![WorkerEvent::Note { key, text }]).await;
                tokio::time::sleep(AFTER_LOSS * times).await;
                BatchEnd::Revoked
            }
        }
    }

    /// What images printed as they were built here since the last time, uploaded, and what is to be said of them.
    pub async fn build_logs(&self) -> (Vec<KeptFile>, Vec<String>) {
        let (mut files, mut notes) = (Vec::new(), Vec::new());
        for log in self.sources.images().take_logs() {
            notes.extend(log.image.map(|image| format!("{} was built on {}: {}", log.file, self.worker, image.digest)));
            let bytes = log.text.len() as u64;
            match self.uploads.send(log.text.into_bytes()).await {
                Ok(digest) => {
                    let (path, about) =
                        (format!("{}.log", log.file), format!("what its build printed on {}", self.worker));
                    files.push(KeptFile { path, about, digest, bytes });
                }
                Err(why) => notes.push(format!("what the build of {} printed could not be kept: {why}", log.file)),
            }
        }
        (files, notes)
    }

    /// Says that a batch is ready, again and again, until it may begin.
    async fn wait_for_others(&self, key: BatchKey, mut begin: watch::Receiver<bool>) {
        while !*begin.borrow() {
            self.report(vec![WorkerEvent::AtGate { key }]).await;
            let changed = tokio::time::timeout(AT_GATE_EVERY, begin.changed()).await;
            if matches!(changed, Ok(Err(_))) {
                return;
            }
        }
    }

    async fn report(&self, events: Vec<WorkerEvent>) {
        // The receiver lives as long as the worker.
        if !events.is_empty() && self.events.send(events).await.is_err() {
            tracing::debug!("the worker is ending; a report was dropped");
        }
    }
}

fn batch_folder(tools: &Tools, grant: &Grant) -> PathBuf {
    tools.home.join("batches").join(format!("{}-{}", grant.key.run, grant.key.batch))
}

async fn carry(tools: &Tools, grant: &Grant, told: Told) -> BatchEnd {
    let ready = tools.sources.ready(&grant.setup).await;
    let key = grant.key;
    let (files, notes) = tools.build_logs().await;
    let built = notes.into_iter().map(|text| WorkerEvent::Note { key, text });
    let kept = (!files.is_empty()).then_some(WorkerEvent::Kept { key, entry: None, files });
    tools.report(built.chain(kept).collect()).await;
    let ready = match ready {
        Ok(ready) => ready,
        Err(trouble) => return tools.without(key, trouble).await,
    };
    let folder = match ready.folder_for(grant.slot).await {
        Ok(folder) => folder,
        Err(why) => return BatchEnd::Unfit(why),
    };
    let artifacts = batch_folder(tools, grant).join("artifacts");
    if let Err(e) = std::fs::create_dir_all(&artifacts) {
        return BatchEnd::Unfit(format!("{}: {e}", artifacts.display()));
    }
    if let Err(why) = ready.around.hand_over(&batch_folder(tools, grant)) {
        return BatchEnd::Unfit(why);
    }
    let mut ways = Vec::new();
    for name in &grant.setup.reach {
        match tools.reaching.open(key, &grant.setup.run, name).await {
            Ok(way) => ways.push((name.clone(), way)),
            Err(e) => return BatchEnd::Unfit(format!("no way to {name} could be opened: {e}")),
        }
    }
    tools.wait_for_others(key, told.begin).await;
    let mut run = BatchRun {
        tools,
        grant,
        entries: grant.entries.clone(),
        feed: told.feed,
        feed_open: grant.more,
        ready: &ready,
        folder,
        artifacts,
        order: told.order,
        follow: told.follow,
        done: Order::GoOn,
        gave_back: false,
        kept: usize::MAX,
        began_us: now_us(),
        began_wall_us: wall_us(),
        attempts: Vec::new(),
        parts: 0,
        read_results: Vec::new(),
        named: HashMap::new(),
        sending: JoinSet::new(),
        lost: None,
        ways,
        mask: Mask::of(&grant.setup.secrets),
    };
    let end = run.all_processes().await;
    run.keep_files().await;
    while let Some(sent) = run.sending.join_next().await {
        if let Err(e) = sent {
            tracing::error!("a long log was lost: {e}");
        }
    }
    end
}

struct BatchRun<'b> {
    tools: &'b Tools,
    grant: &'b Grant,
    /// The entries of the batch; a process that stays is fed more.
    entries: Vec<GrantedEntry>,
    ready: &'b Ready,
    folder: PathBuf,
    artifacts: PathBuf,
    order: watch::Receiver<Order>,
    follow: watch::Receiver<bool>,
    feed: mpsc::UnboundedReceiver<Fed>,
    /// More may be fed.
    feed_open: bool,
    /// The last order that was done.
    done: Order,
    /// All that had not begun was given back.
    gave_back: bool,
    /// What is at this place of the entries, or behind it, is not started, as it was given back.
    kept: usize,
    began_us: i64,
    /// By the clock that files are dated by.
    began_wall_us: i64,
    /// Position, began, ended: for attributing files.
    attempts: Vec<(usize, i64, i64)>,
    /// Parts of what it measured that were told.
    parts: u32,
    /// Files with results that were read and are to be kept besides.
    read_results: Vec<files::Found>,
    /// Files that event lines named, with their position and what they show.
    named: HashMap<PathBuf, (usize, String, String)>,
    sending: JoinSet<()>,
    /// The container engine went away under a process: why.
    lost: Option<String>,
    /// Ports that lead to private addresses, by their names.
    ways: Vec<(String, Way)>,
    /// Secrets that are not told of.
    mask: Option<Mask>,
}

impl BatchRun<'_> {
    async fn all_processes(&mut self) -> BatchEnd {
        let entries = self.entries.clone();
        if self.ready.suite.tests.names_as != NamesAs::OneEach {
            return match self.one_process(&entries, 0).await {
                Ok(end) => end,
                Err(trouble) => self.tools.without(self.grant.key, trouble).await,
            };
        }
        for (offset, entry) in entries.iter().enumerate() {
            if let Err(trouble) = self.one_process(std::slice::from_ref(entry), offset).await {
                return self.tools.without(self.grant.key, trouble).await;
            }
            if self.gave_back || offset + 1 >= self.kept {
                break;
            }
        }
        BatchEnd::Done
    }

    /// Something to say, with where it was.
    fn said(&self, text: &str) -> String {
        format!("{text} (batch {} on {})", self.grant.key.batch, self.tools.worker)
    }

    /// Gives back what has not begun, from an entry on or all: at least one test stays, and what runs goes on. The process is ended when
    /// what stays has its results. A process that has not kept to the order of its tests so far gives back all: it would run what
    /// another runs by then.
    async fn give_back(&mut self, reading: &mut Reading, offset: usize, from: Option<u32>) {
        let one_each = self.ready.suite.tests.names_as == NamesAs::OneEach;
        let in_order = one_each || reading.files.is_none() && reading.progress.in_order();
        let place = from.and_then(|entry| self.entries.iter().position(|e| e.index == entry)).filter(|_| in_order);
        self.gave_back = place.is_none();
        let place = place.unwrap_or_default();
        let of_process = reading.progress.give_back(place.saturating_sub(offset));
        let start = (offset + reading.progress.len()).max(place);
        let after = start..self.entries.len().min(self.kept);
        self.kept = self.kept.min(start);
        let positions = of_process.into_iter().map(|position| offset + position).chain(after);
        let entries: Vec<u32> = positions.map(|position| self.entries[position].index).collect();
        if !entries.is_empty() || from.is_some() {
            self.tools.report(vec![WorkerEvent::GaveBack { key: self.grant.key, entries }]).await;
        }
    }

    /// A text without secrets.
    fn untold(&self, text: &str) -> String {
        self.mask.as_ref().map_or_else(|| text.to_owned(), |mask| mask.text(text))
    }

    /// The folder of the batch's own files.
    fn batch(&self) -> PathBuf {
        batch_folder(self.tools, self.grant)
    }

    fn events_path(&self) -> PathBuf {
        self.artifacts.with_file_name("events")
    }

    async fn one_process(&mut self, entries: &[GrantedEntry], offset: usize) -> Result<BatchEnd, Trouble> {
        let tests = &self.ready.suite.tests;
        let limits = self.ready.suite.limits;
        let events = match tests.results {
            Results::Events => {
                let fifo = open_fifo(&self.events_path()).map_err(Trouble::Cannot)?;
                self.ready.around.hand_over(&self.events_path()).map_err(Trouble::Cannot)?;
                Some(fifo)
            }
            _ => None,
        };
        let mark = format!("{}-{}-{}-x", self.tools.mark, self.grant.key.run, self.grant.key.batch);
        let call = self.call(entries).map_err(Trouble::Cannot)?;
        let asked = now_us();
        let fed = tests.names_as == NamesAs::Fed;
        let mut process = self.ready.around.start(&call, &mark, fed).await?;
        // What a container takes to start is no test's time.
        let began = if process.container().is_some() { now_us() } else { asked };
        let mut reading = Reading::new(entries, &self.grant.to_run, tests, limits.output, began);
        reading.mask.clone_from(&call.mask);
        reading.heard = self.tools.hearing.as_ref().map(|_| Heard::default());
        if let Some(position) = reading.progress.started(began) {
            reading.found.push(Step::Began(position, began));
        }
        // A process that stays may be fed as long as the run goes on.
        let batch_limit = if self.grant.more { i64::MAX } else { i64::try_from(limits.batch.0).unwrap_or(i64::MAX) };
        let batch_deadline = began.saturating_add(batch_limit);
        let (ended, timed_out) = self.read(&mut process, &mut reading, events, batch_deadline, offset).await;
        let now = now_us();
        let leftovers = process.end_leftovers().await;
        if let Some(why) = self.lost.take() {
            // What it told until then is true; of the rest nothing is known.
            reading.end_second(now_us(), true);
            self.flush(&mut reading, offset).await;
            return Err(Trouble::Lost(why));
        }
        self.tools.losses.store(0, Ordering::Relaxed);
        if let Some(memory) = ended.as_ref().filter(|exit| exit.success()).and_then(Exit::memory) {
            reading.found.push(Step::Remark(memory.to_owned()));
        }
        if let Some(mut points) = reading.points.take() {
            for tap in points.finish() {
                // A process that was ended, or died, could not keep to its plan. A file that ends by itself could.
                let died =
                    if reading.files.is_some() { killed(&ended) } else { !ended.as_ref().is_some_and(Exit::success) };
                let to_be_expected = timed_out.is_some() || died;
                if !(to_be_expected && matches!(tap, Tap::Unkept(_))) {
                    reading.take_tap(tap, now);
                }
            }
        }
        if tests.results == Results::Junit {
            self.read_junit(&mut reading, now);
        }
        self.keep_heard(&mut reading, began, now);
        let last_words = reading.log.last_lines(3);
        let counts = self.ready.suite.tests.end_counts;
        let by_itself = timed_out.is_none() && !reading.progress.cut_short() && tests.results != Results::Exit;
        reading.tell_unread(by_itself && !killed(&ended));
        if by_itself
            && reading.files.is_none()
            && let Some(why) = reading.bad_end(ended.as_ref(), counts, &last_words)
        {
            reading.found.push(Step::Wrong(why));
        }
        if tests.results == Results::Exit && timed_out.is_none() {
            reading.exit(ended.as_ref(), now, &last_words);
        } else {
            let abrupt = reading.bailed.is_some() || killed(&ended);
            let end = match (timed_out, &ended) {
                (Some(why), _) => ProcessEnd::TimedOut(why),
                (None, Some(status)) if status.success() && !abrupt => ProcessEnd::Well,
                (None, exit) => ProcessEnd::Badly(exit::said(exit.as_ref())),
            };
            let words = match (&reading.bailed, &reading.broken) {
                (Some(why), _) => format!("it bailed out: {why}"),
                (None, Some(why)) => why.clone(),
                (None, None) => last_words,
            };
            reading.end(&EndOfProcess { end: &end, abrupt, counts, now, last_words: &words });
        }
        self.tell_leftovers(&mut reading, leftovers);
        reading.end_second(now_us(), true);
        self.flush(&mut reading, offset).await;
        Ok(BatchEnd::Done)
    }

    /// Keeps what a process printed, for whoever tries the suite.
    fn keep_heard(&self, reading: &mut Reading, began: i64, now: i64) {
        let (Some(hearing), Some(mut heard)) = (&self.tools.hearing, reading.heard.take()) else { return };
        heard.took = kesmo_core::time::Span(u64::try_from(now - began).unwrap_or(0));
        let left = files::junit(&self.folder, &["**/*.xml".to_owned()], self.since());
        heard.xml = left.into_iter().take(20).map(|found| found.shown).collect();
        hearing.keep(self.grant.key, heard);
    }

    fn tell_leftovers(&self, reading: &mut Reading, leftovers: usize) {
        if leftovers > 0 {
            let text = match leftovers {
                1 => "a batch left a process running; it was ended".to_owned(),
                n => format!("a batch left {n} processes running; they were ended"),
            };
            reading.found.push(Step::Remark(text));
        }
    }

    /// Reads until the process has ended and its outputs are empty. Tells how it ended, and why it was ended if it was.
    async fn read(
        &mut self,
        process: &mut Running,
        reading: &mut Reading,
        events: Option<tokio::net::unix::pipe::Receiver>,
        mut batch_deadline: i64,
        offset: usize,
    ) -> (Option<Exit>, Option<String>) {
        let mut feeding = Feeding::of(process.input.take());
        if feeding.is_open() {
            self.entries.iter().for_each(|entry| feeding.push(&entry.name));
        }
        let by_events = events.is_some();
        let mut pipes = Pipes::new(process.out.take(), process.err.take(), events);
        let limit_of_end = self.ready.suite.limits.test.0 as i64;
        let mut status = None;
        let mut ended_at: Option<tokio::time::Instant> = None;
        let mut complete_since: Option<i64> = None;
        let mut order = self.order.clone();
        let mut follow = self.follow.clone();
        let mut sent = Sent::default();
        let mut looked = now_us();
        loop {
            let followed = *follow.borrow_and_update();
            let more_to_tell = followed && self.tell_output(reading, offset, &mut sent);
            // Who wakes late stood still, and maybe all of this machine with it.
            // What was meant counts, as a machine that is always late would let a test run for ever.
            let late = now_us() - looked - A_SECOND.as_micros() as i64;
            let mut held_up = if late > HELD_UP { late } else { 0 };
            looked = now_us();
            let asked = *order.borrow_and_update();
            if !self.gave_back
                && asked != self.done
                && let Order::GiveBack { from } = asked
            {
                self.give_back(reading, offset, from).await;
                self.done = asked;
            }
            if !self.gave_back && reading.progress.strayed() {
                self.give_back(reading, offset, None).await;
            }
            // When every test has its result, the process is about to end: what it still prints belongs to the last one.
            // One that stays and may be fed more is not.
            let complete = reading.progress.complete() && !self.feed_open;
            if reading.hides_start && reading.cores.is_none() && reading.progress.any_done() {
                reading.cores = Some(process.cores());
            }
            if !self.feed_open {
                feeding.end();
            }
            let closing = complete && ended_at.is_none();
            let complete_at = if complete { *complete_since.get_or_insert_with(now_us) } else { now_us() };
            let still_open = ended_at.is_none() || !pipes.have_ended();
            let hold = complete && still_open && now_us() < complete_at + CLOSING.as_micros() as i64;
            reading.end_second(now_us(), false);
            if reading.has_news() && !hold {
                self.flush(reading, offset).await;
            }
            if ended_at.is_some() && pipes.have_ended() {
                break;
            }
            // While the service takes nothing, telling waits, and with it all that is read: no test is to pay for it.
            let told_in = now_us() - looked;
            held_up += if told_in > HELD_UP { told_in } else { 0 };
            looked = now_us();
            if held_up > 0 {
                reading.progress.held_up(held_up, looked);
                batch_deadline = batch_deadline.saturating_add(held_up);
                complete_since = complete_since.map(|since| looked.min(since + held_up));
            }
            if ended_at.is_none() && complete && reading.progress.cut_short() {
                // It would go on with what was given back.
                reading.end_second(now_us(), true);
                self.flush(reading, offset).await;
                process.end().await;
                return (None, None);
            }
            let held_back = reading.points.as_ref().is_some_and(Points::holds_back);
            // When all is reported, the process has as long as one test to clear up after itself.
            let deadline = match reading.progress.deadline() {
                _ if closing => complete_since.unwrap_or(looked) + limit_of_end,
                Some((at, _)) => at.min(batch_deadline),
                None => batch_deadline,
            };
            let past_deadline = ended_at.is_none() && now_us() >= deadline;
            if ended_at.is_some_and(|t| t.elapsed() >= LAST_WORDS) {
                // Whoever comes to this late has not read what is there.
                self.take_rest(&mut pipes, reading, offset, A_MOMENT).await;
                break;
            }
            let until_deadline = Duration::from_micros(u64::try_from(deadline - now_us()).unwrap_or(0));
            tokio::select! {
                came = pipes.next() => self.take(&mut pipes, &came, reading, offset),
                fed = self.feed.recv(), if self.feed_open => self.take_fed(fed, reading, &mut feeding),
                written = feeding.write(), if feeding.waits() => if written.is_err() {
                    // What it was fed and does not answer for is seen when it ends, or at its time limit.
                    self.feed_open = false;
                    if ended_at.is_none() && !reading.progress.complete() {
                        let text = "a process closed its input before it had read all its tests";
                        reading.found.push(Step::Remark(text.to_owned()));
                    }
                },
                changed = follow.changed(), if !followed => {
                    if changed.is_err() {
                        tracing::debug!("nobody is left who could ask to follow");
                        follow = watch::channel(true).1;
                    }
                }
                () = tokio::time::sleep(OUTPUT_EVERY), if more_to_tell => {}
                changed = order.changed(), if !self.gave_back => {
                    if changed.is_err() {
                        // Nobody is left who could ask.
                        self.gave_back = true;
                    }
                }
                waited = process.wait(), if ended_at.is_none() => {
                    status = self.exit_of(waited, process.container().is_some());
                    ended_at = Some(tokio::time::Instant::now());
                }
                // Only to wake: what was measured in a second is told when it is over, and a second that was longer is noticed.
                () = tokio::time::sleep(A_SECOND) => {}
                () = tokio::time::sleep(CLOSING), if hold => {}
                () = tokio::time::sleep(HELD_BACK), if held_back => {
                    for tap in reading.points.as_mut().map(Points::release).unwrap_or_default() {
                        reading.take_tap(tap, now_us());
                    }
                }
                // Only to wake: what is due is looked at above, as a program that never stops printing is always ready.
                () = tokio::time::sleep(LAST_WORDS), if ended_at.is_some() => {}
                () = tokio::time::sleep(until_deadline), if ended_at.is_none() => {}
                () = std::future::ready(()), if past_deadline => {
                    // What came in time counts, also where this is looked at late.
                    let before = (reading.progress.deadline(), complete);
                    self.take_rest(&mut pipes, reading, offset, A_MOMENT).await;
                    let after = (reading.progress.deadline(), reading.progress.complete() && !self.feed_open);
                    if before != after && (after.1 || now_us() < batch_deadline) {
                        continue;
                    }
                    if let Ok(waited) = tokio::time::timeout(A_MOMENT, process.wait()).await {
                        status = self.exit_of(waited, process.container().is_some());
                        ended_at = Some(tokio::time::Instant::now());
                        continue;
                    }
                    let now = now_us();
                    let why = match reading.progress.deadline() {
                        _ if closing => {
                            let text = "a process did not end after its last test and was ended";
                            let counts = self.ready.suite.tests.end_counts;
                            let step = if counts { Step::Wrong } else { Step::Remark };
                            reading.found.push(step(text.to_owned()));
                            text.to_owned()
                        }
                        Some((at, _)) if at <= now && reading.progress.ends_together() => {
                            let (sum, count) = (reading.progress.limits(), reading.progress.len());
                            let what = if reading.files.is_some() { "file" } else { "test" };
                            let of = if count == 1 { format!("its {what}") } else { format!("its {count} {what}s together") };
                            format!("its process ran longer than the limit of {of}, {sum}, and was ended")
                        }
                        Some((at, position)) if at <= now => {
                            let limit = kesmo_core::time::Span(self.entries[offset + position].limit_us);
                            format!("it ran longer than its limit of {limit} and was ended")
                        }
                        _ => format!("its batch ran longer than {} ([limits] batch) and was ended", self.ready.suite.limits.batch),
                    };
                    process.end().await;
                    // What it printed until then is still in the pipes.
                    self.take_rest(&mut pipes, reading, offset, LAST_WORDS).await;
                    while let Some(came) = pipes.next_event() {
                        self.take(&mut pipes, &came, reading, offset);
                    }
                    return (None, Some(why));
                }
            }
        }
        // The FIFO has no end; what was written is there by now.
        while let Some(came) = pipes.next_event() {
            self.take(&mut pipes, &came, reading, offset);
        }
        if by_events {
            let named = reading.take_events(b"\n", now_us());
            self.note_files(named, offset);
        }
        reading.finish_out(now_us());
        reading.progress.left_unread(feeding.unread());
        (status, None)
    }

    /// How a process ended, if that is known.
    fn exit_of(&mut self, waited: Result<Exit, String>, in_container: bool) -> Option<Exit> {
        match waited {
            Ok(exit) => return Some(exit),
            Err(why) if in_container => self.lost = Some(why),
            Err(why) => tracing::warn!("a process's end is not known: {why}"),
        }
        None
    }

    /// Takes in what came over a pipe.
    fn take(&mut self, pipes: &mut Pipes, came: &Came, reading: &mut Reading, offset: usize) {
        match pipes.bytes(came) {
            Bytes::Out(bytes) => reading.take_out(bytes, now_us()),
            Bytes::Err(bytes) => reading.take_err(bytes),
            Bytes::Events(bytes) => {
                let named = reading.take_events(bytes, now_us());
                self.note_files(named, offset);
            }
            Bytes::Nothing => {}
        }
    }

    /// Takes in what has come over the pipes already, and what comes in so long a time, or until both outputs have ended. The pipes are
    /// read before the time is looked at: also where this machine stood still meanwhile.
    async fn take_rest(&mut self, pipes: &mut Pipes, reading: &mut Reading, offset: usize, wait: Duration) {
        let rest = async {
            while !pipes.have_ended() {
                let came = pipes.next().await;
                self.take(pipes, &came, reading, offset);
            }
        };
        if tokio::time::timeout(wait, rest).await.is_err() {
            tracing::trace!("an output is still open");
        }
    }

    /// Sends what the running test printed since the last time to whoever follows; tells whether there is more to come back
    /// for. It is bounded, and not waited for: what finds no room goes with the next piece.
    fn tell_output(&self, reading: &Reading, offset: usize, sent: &mut Sent) -> bool {
        let Some(position) = reading.progress.current() else { return false };
        let entry = self.entries[offset + position].index;
        if sent.entry != Some(entry) || sent.bytes > reading.log.total() {
            *sent = Sent { entry: Some(entry), ..Sent::default() };
        }
        if sent.at.is_some_and(|at| at.elapsed() < OUTPUT_EVERY) {
            return reading.log.total() > sent.bytes;
        }
        let (from, bytes, text) = reading.log.since(sent.bytes, MOST_OUTPUT);
        if bytes > 0 {
            let output = FromWorker::Output { key: self.grant.key, entry, from, text };
            if self.tools.outputs.try_send(output).is_ok() {
                sent.bytes = from + bytes;
            }
            sent.at = Some(tokio::time::Instant::now());
        }
        reading.log.total() > sent.bytes
    }

    /// More entries come for the process, or nothing more.
    fn take_fed(&mut self, fed: Option<Fed>, reading: &mut Reading, feeding: &mut Feeding) {
        // Whoever fed it is gone.
        let Some(Fed { entries, last }) = fed else {
            self.feed_open = false;
            return;
        };
        for entry in entries {
            // What is not sure to have come is said again.
            if reading.progress.has(&entry.name) {
                continue;
            }
            feeding.push(&entry.name);
            let now = now_us();
            reading.found.extend(reading.progress.add(&entry, now).map(|position| Step::Began(position, now)));
            self.entries.push(entry);
        }
        self.feed_open &= !last;
    }

    /// From when on files are this batch's, by the clock that dates them, also if that was set meanwhile.
    fn since(&self) -> i64 {
        self.began_wall_us.min(self.began_us + skew_us()) - 1_000_000
    }

    /// Sends what was found.
    async fn flush(&mut self, reading: &mut Reading, offset: usize) {
        let key = self.grant.key;
        let mut events = Vec::new();
        for (position, first, cases) in reading.files.as_mut().map(Files::take_waiting).unwrap_or_default() {
            let entry = self.entries[offset + position].index;
            events.push(WorkerEvent::Cases { key, entry, first, cases });
        }
        for mut part in reading.measured.drain(..) {
            // Each process of a batch numbers its own.
            self.parts += 1;
            part.number = self.parts;
            events.push(WorkerEvent::Measured { key, part });
        }
        for (position, of) in reading.covers.drain(..) {
            events.push(WorkerEvent::Covers { key, entry: self.entries[offset + position].index, of });
        }
        let mut steps = std::mem::take(&mut reading.found).into_iter().peekable();
        while let Some(step) = steps.next() {
            match step {
                // A beginning whose end is known already need not be told.
                Step::Began(position, _) if matches!(steps.peek(), Some(Step::Finished(f, _)) if f.position == position) =>
                    {}
                Step::Began(position, at_us) => {
                    let entry = self.entries[offset + position].index;
                    events.push(WorkerEvent::Began { key, entry, at_us });
                }
                Step::Remark(text) => events.push(WorkerEvent::Note { key, text: self.said(&text) }),
                Step::Wrong(text) => events.push(WorkerEvent::Wrong { key, text: self.said(&text) }),
                Step::Finished(finished, mut text) => {
                    if steps.peek().is_none() && reading.progress.complete() {
                        text += &reading.log.take();
                    }
                    self.attempts.push((offset + finished.position, finished.began_us, finished.ended_us));
                    let report = AttemptReport {
                        key,
                        entry: self.entries[offset + finished.position].index,
                        ended: finished.ended,
                        began_us: finished.began_us,
                        ended_us: finished.ended_us,
                        spent_us: finished.spent.0,
                        message: shorten(&finished.message, 4000),
                        detail: shorten(&finished.detail, 64 << 10),
                        steps: finished.steps,
                        log: Log::None,
                        cases: finished.cases,
                        with_start: (finished.with_start && reading.hides_start)
                            .then(|| reading.cores.unwrap_or_default()),
                    };
                    if text.len() <= Log::LONGEST_TEXT {
                        let log = if text.is_empty() { Log::None } else { Log::Text(text) };
                        events.push(WorkerEvent::Ended(Box::new(AttemptReport { log, ..report })));
                    } else {
                        let (uploads, sender) = (self.tools.uploads.clone(), self.tools.events.clone());
                        self.sending.spawn(async move {
                            let bytes = text.len() as u64;
                            let log = match uploads.send(text.as_bytes().to_vec()).await {
                                Ok(digest) => Log::Blob { digest, bytes },
                                Err(why) => {
                                    let kept = shorten(&text, Log::LONGEST_TEXT / 4);
                                    Log::Text(format!("{kept}\n(the rest could not be kept: {why})\n"))
                                }
                            };
                            let event = WorkerEvent::Ended(Box::new(AttemptReport { log, ..report }));
                            if sender.send(vec![event]).await.is_err() {
                                tracing::debug!("the worker is ending; a report was dropped");
                            }
                        });
                    }
                }
            }
        }
        self.tools.report(events).await;
    }
}

/// What of the running test's output was sent to whoever follows.
#[derive(Debug, Default)]
struct Sent {
    entry: Option<u32>,
    bytes: u64,
    at: Option<tokio::time::Instant>,
}

/// Whether a signal ended a process.
fn killed(exit: &Option<Exit>) -> bool {
    exit.as_ref().is_none_or(Exit::killed)
}

/// A FIFO for event lines. It is open for writing here too, so that it has no end while tests come and go.
fn open_fifo(path: &Path) -> Result<tokio::net::unix::pipe::Receiver, String> {
    let failed = |e: std::io::Error| format!("{}: {e}", path.display());
    if path.exists() {
        std::fs::remove_file(path).map_err(failed)?;
    }
    mkfifo(path, Mode::S_IRUSR | Mode::S_IWUSR).map_err(|e| failed(e.into()))?;
    tokio::net::unix::pipe::OpenOptions::new().read_write(true).open_receiver(path).map_err(failed)
}

#[cfg(test)]
mod tests;
