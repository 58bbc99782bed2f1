//! Runs one batch: starts its process, reads what it prints and reports, keeps its limits, and says how it ended.

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
    format::{junit, points::Points, tap::Tap},
    name::shorten,
    run::BatchEnd,
    suite::file::{NamesAs, Results},
};
use kesmo_engine::Input;
use kesmo_wire::{
    link::{AttemptReport, BatchKey, FromWorker, Grant, GrantedEntry, KeptFile, Log, SecretGiven, Sender, WorkerEvent},
    reach::variable,
};
use nix::{sys::stat::Mode, unistd::mkfifo};
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWriteExt},
    sync::{mpsc, watch},
    task::JoinSet,
};

use crate::{
    cases::{EndOfProcess, Files},
    clock::{now_us, skew_us, wall_us},
    exit::{self, Exit},
    files,
    hearing::{Heard, Hearing},
    mask::Mask,
    process,
    progress::ProcessEnd,
    reaching::{Reaching, Way},
    reading::{Reading, Step},
    running::{Call, Running, Trouble},
    source::{Ready, Sources},
    uploads::Uploads,
};

/// A failing TAP point whose explanation does not come is given out after this.
const HELD_BACK: Duration = Duration::from_millis(30);
/// The last result of a process is kept back so long for what it still prints.
const CLOSING: Duration = Duration::from_millis(200);
/// After a process ended, what it printed is waited for so long, if something holds its pipes open.
const LAST_WORDS: Duration = Duration::from_millis(300);

/// What waits to begin says so that often.
const AT_GATE_EVERY: Duration = Duration::from_secs(2);

/// What running attempts print is sent at most so often to whoever follows, and so many bytes of it at a time.
const A_SECOND: Duration = Duration::from_secs(1);
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

/// What a batch is told while it runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Order {
    #[default]
    GoOn,
    /// Give back what has not begun: from this entry on, or all, and end after what runs.
    GiveBack { from: Option<u32> },
    /// End at once.
    Revoke,
}

impl Order {
    /// Whether it is to be done in place of one that came before. More than once a part may be asked for.
    pub(crate) fn outdoes(self, before: Self) -> bool {
        match (self, before) {
            (_, Self::Revoke) | (Self::GoOn, _) => false,
            (Self::GiveBack { .. }, Self::GiveBack { from: None }) => false,
            (new, before) => new != before,
        }
    }
}

/// Tells a batch what to do.
#[derive(Debug)]
pub struct Switches {
    pub order: watch::Sender<Order>,
    pub follow: watch::Sender<bool>,
    pub feed: mpsc::UnboundedSender<Fed>,
    /// It may begin.
    pub begin: watch::Sender<bool>,
}

/// More entries for a process that stays; with `last` there are no others.
#[derive(Debug)]
pub struct Fed {
    pub entries: Vec<GrantedEntry>,
    pub last: bool,
}

/// What a batch is told.
#[derive(Debug)]
pub struct Told {
    order: watch::Receiver<Order>,
    follow: watch::Receiver<bool>,
    feed: mpsc::UnboundedReceiver<Fed>,
    begin: watch::Receiver<bool>,
}

/// The two ends of what a batch is told, which may begin at once or is let through later.
pub fn switches(at_once: bool) -> (Switches, Told) {
    let ((order, order_told), (follow, follow_told)) = (watch::channel(Order::GoOn), watch::channel(false));
    let (feed, fed) = mpsc::unbounded_channel();
    let (begin, begin_told) = watch::channel(at_once);
    let told = Told { order: order_told, follow: follow_told, feed: fed, begin: begin_told };
    (Switches { order, follow, feed, begin }, told)
}

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

    fn call(&self, entries: &[GrantedEntry]) -> Result<Call, String> {
        let tests = &self.ready.suite.tests;
        let mut words = Vec::new();
        // Of a file some cases, or all but some; else all of it.
        let to_run = &self.grant.to_run;
        let (some, titles) = match to_run.rest {
            true => (tests.rest.as_ref(), &to_run.aside),
            false => (tests.rerun.as_ref().filter(|_| !to_run.cases.is_empty()), &to_run.cases),
        };
        if let Some(some) = some {
            let path = self.artifacts.with_file_name("cases");
            let cases: String = titles.iter().map(|title| format!("{title}\n")).collect();
            std::fs::write(&path, cases).map_err(|e| format!("{}: {e}", path.display()))?;
            self.ready.around.hand_over(&path)?;
            let (name, path) = (&entries[0].name, self.inside(&path));
            words.extend(some.iter().map(|w| w.replace("{name}", name).replace("{cases-file}", &path)));
        }
        for word in tests.run.iter().filter(|_| some.is_none()) {
            match tests.names_as {
                NamesAs::Arguments if word == "{names}" => words.extend(entries.iter().map(|e| e.name.clone())),
                NamesAs::File if word.contains("{names-file}") => {
                    let path = self.artifacts.with_file_name("names");
                    let names: String = entries.iter().map(|e| format!("{}\n", e.name)).collect();
                    std::fs::write(&path, names).map_err(|e| format!("{}: {e}", path.display()))?;
                    self.ready.around.hand_over(&path)?;
                    words.push(word.replace("{names-file}", &self.inside(&path)));
                }
                NamesAs::OneEach => words.push(word.replace("{name}", &entries[0].name)),
                _ => words.push(word.clone()),
            }
        }
        let mut call = self.tools.sources.call(&words, &self.folder, &self.grant.setup);
        call.batch = Some(self.batch());
        let secrets = &self.grant.setup.secrets;
        for secret in secrets.iter().filter(|secret| secret.as_file) {
            let path = self.secret_path(secret);
            std::fs::create_dir_all(self.batch()).map_err(|e| format!("{}: {e}", self.batch().display()))?;
            kesmo_files::secret::write_exactly(&path, secret.value.as_bytes())
                .map_err(|e| format!("{}: {e}", path.display()))?;
            self.ready.around.hand_over(&path)?;
        }
        call.give(secrets, |secret| Some(self.inside(&self.secret_path(secret))));
        call.env("KESMO_BATCH", self.grant.key.batch.to_string()).env("KESMO_SLOT", self.grant.slot.to_string());
        for (name, way) in &self.ways {
            call.env(&variable(name), format!("127.0.0.1:{}", way.port));
        }
        if let Some(Sender { number, of }) = self.grant.sender {
            call.env("KESMO_SENDER", number.to_string()).env("KESMO_SENDERS", of.to_string());
        }
        call.env("KESMO_ARTIFACTS", self.inside(&self.artifacts));
        call.env("KESMO_EVENTS", self.inside(&self.events_path()));
        if entries.len() == 1 && !self.grant.more {
            call.env("KESMO_ATTEMPT", self.grant.attempt.unwrap_or(1).to_string());
        }
        Ok(call)
    }

    /// A text without secrets.
    fn untold(&self, text: &str) -> String {
        self.mask.as_ref().map_or_else(|| text.to_owned(), |mask| mask.text(text))
    }

    /// Where the value of a secret is that is given as a file. It goes with the batch's own files.
    fn secret_path(&self, secret: &SecretGiven) -> PathBuf {
        self.batch().join(format!("secret-{}", secret.variable))
    }

    /// The folder of the batch's own files.
    fn batch(&self) -> PathBuf {
        batch_folder(self.tools, self.grant)
    }

    /// The path by which its processes know a file.
    fn inside(&self, path: &Path) -> String {
        self.ready.around.inside(path, &self.batch(), &self.folder).to_string_lossy().into_owned()
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
        mut events: Option<tokio::net::unix::pipe::Receiver>,
        batch_deadline: i64,
        offset: usize,
    ) -> (Option<Exit>, Option<String>) {
        let mut input = process.input.take();
        let mut to_write: Vec<u8> = Vec::new();
        if input.is_some() {
            self.entries.iter().for_each(|entry| to_write.extend(format!("{}\n", entry.name).bytes()));
        }
        let mut out = process.out.take();
        let mut err = process.err.take();
        let (mut out_buffer, mut err_buffer, mut event_buffer) =
            (vec![0; 64 << 10], vec![0; 16 << 10], vec![0; 64 << 10]);
        let limit_of_end = self.ready.suite.limits.test.0 as i64;
        let mut status = None;
        let mut ended_at: Option<tokio::time::Instant> = None;
        let mut complete_since: Option<i64> = None;
        let mut order = self.order.clone();
        let mut follow = self.follow.clone();
        let mut sent = Sent::default();
        loop {
            let followed = *follow.borrow_and_update();
            let more_to_tell = followed && self.tell_output(reading, offset, &mut sent);
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
            if to_write.is_empty() && !self.feed_open {
                input = None;
            }
            let closing = complete && ended_at.is_none();
            let complete_at = if complete { *complete_since.get_or_insert_with(now_us) } else { now_us() };
            let still_open = ended_at.is_none() || out.is_some() || err.is_some();
            let hold = complete && still_open && now_us() < complete_at + CLOSING.as_micros() as i64;
            reading.end_second(now_us(), false);
            if reading.has_news() && !hold {
                self.flush(reading, offset).await;
            }
            if ended_at.is_some() && out.is_none() && err.is_none() {
                break;
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
                _ if closing => complete_at + limit_of_end,
                Some((at, _)) => at.min(batch_deadline),
                None => batch_deadline,
            };
            let past_deadline = ended_at.is_none() && now_us() >= deadline;
            if ended_at.is_some_and(|t| t.elapsed() >= LAST_WORDS) {
                break;
            }
            let until_deadline = Duration::from_micros(u64::try_from(deadline - now_us()).unwrap_or(0));
            tokio::select! {
                read = read_some(&mut out, &mut out_buffer) => match read {
                    0 => out = None,
                    read => reading.take_out(&out_buffer[..read], now_us()),
                },
                read = read_some(&mut events, &mut event_buffer) => {
                    let named = reading.take_events(&event_buffer[..read], now_us());
                    self.note_files(named, offset);
                }
                fed = self.feed.recv(), if self.feed_open => self.take_fed(fed, reading, &mut to_write),
                written = write_some(&mut input, &to_write), if input.is_some() && !to_write.is_empty() => match written {
                    Ok(written) => drop(to_write.drain(..written)),
                    Err(_) => {
                        // What it was fed and does not answer for is seen when it ends, or at its time limit.
                        (input, self.feed_open) = (None, false);
                        to_write.clear();
                        if !reading.progress.complete() {
                            let text = "a process closed its input before it had read all its tests";
                            reading.found.push(Step::Remark(text.to_owned()));
                        }
                    }
                },
                read = read_some(&mut err, &mut err_buffer) => match read {
                    0 => err = None,
                    read => reading.take_err(&err_buffer[..read]),
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
                    match waited {
                        Ok(exit) => status = Some(exit),
                        Err(why) if process.container().is_some() => self.lost = Some(why),
                        Err(why) => tracing::warn!("a process's end is not known: {why}"),
                    }
                    ended_at = Some(tokio::time::Instant::now());
                }
                // Only to wake: what was measured in a second is told when it is over.
                () = tokio::time::sleep(A_SECOND), if reading.measures() => {}
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
                    let rest = async {
                        loop {
                            match read_some(&mut out, &mut out_buffer).await {
                                0 => break,
                                read => reading.take_out(&out_buffer[..read], now_us()),
                            }
                        }
                        loop {
                            match read_some(&mut err, &mut err_buffer).await {
                                0 => break,
                                read => reading.take_err(&err_buffer[..read]),
                            }
                        }
                    };
                    if tokio::time::timeout(LAST_WORDS, rest).await.is_err() {
                        tracing::debug!("an output was not closed");
                    }
                    return (None, Some(why));
                }
            }
        }
        // The FIFO has no end; what was written is there by now.
        if let Some(events) = &mut events {
            while let Ok(read) = events.try_read(&mut event_buffer) {
                if read == 0 {
                    break;
                }
                let named = reading.take_events(&event_buffer[..read], now_us());
                self.note_files(named, offset);
            }
            let named = reading.take_events(b"\n", now_us());
            self.note_files(named, offset);
        }
        reading.finish_out(now_us());
        (status, None)
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
    fn take_fed(&mut self, fed: Option<Fed>, reading: &mut Reading, to_write: &mut Vec<u8>) {
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
            to_write.extend(format!("{}\n", entry.name).bytes());
            let now = now_us();
            reading.found.extend(reading.progress.add(&entry, now).map(|position| Step::Began(position, now)));
            self.entries.push(entry);
        }
        self.feed_open &= !last;
    }

    fn note_files(&mut self, named: Vec<(usize, String, String)>, offset: usize) {
        for (position, path, about) in named {
            let meant = self.ready.around.outside(&path, &self.batch(), &self.folder);
            if let Some(found) = files::named(&meant.to_string_lossy(), &self.folder, &self.artifacts) {
                let shown = self.shown(&path, &meant);
                self.named.insert(found, (offset + position, shown, about));
            }
        }
    }

    /// What a named file is called: as it was told, or, where its process knows it by a path of its image, from where it lies.
    fn shown(&self, told: &str, meant: &Path) -> String {
        if Path::new(told) == meant {
            return told.to_owned();
        }
        let below = |root: &Path| meant.strip_prefix(root).ok();
        let rest = below(&self.artifacts).or_else(|| below(&self.folder)).unwrap_or(meant);
        rest.to_string_lossy().into_owned()
    }

    /// From when on files are this batch's, by the clock that dates them, also if that was set meanwhile.
    fn since(&self) -> i64 {
        self.began_wall_us.min(self.began_us + skew_us()) - 1_000_000
    }

    fn read_junit(&mut self, reading: &mut Reading, now: i64) {
        let tests = &self.ready.suite.tests;
        let mut unused = Vec::new();
        for found in files::junit(&self.folder, &tests.junit, self.since()) {
            let (path, shown) = (&found.path, &self.untold(&found.shown));
            let content = kesmo_files::read_regular(path, LARGEST_FILE).map_err(|e| e.to_string());
            let content = content.map(|content| match &self.mask {
                Some(mask) => mask.bytes(&content),
                None => content,
            });
            match content.as_deref().map_err(Clone::clone).and_then(junit::read) {
                Ok(file) => {
                    for case in file.cases {
                        if reading.files.is_some() {
                            self.take_junit_case(reading, case, now);
                            continue;
                        }
                        let candidates = case.candidates();
                        let known =
                            candidates.iter().find(|c| reading.progress.find(c, "").is_ok()).unwrap_or(&candidates[0]);
                        if !case.output.is_empty() {
                            reading.log.add(case.output.as_bytes());
                        }
                        let known = known.clone();
                        reading.take_result(&known, 0, case.reported, now);
                    }
                    for why in file.loose.into_iter().take(MOST_LOOSE) {
                        let why = format!("{shown} holds {why}");
                        if reading.files.is_some() {
                            reading.file_wrong(why);
                        } else {
                            reading.found.push(Step::Wrong(why));
                        }
                    }
                    for why in file.unshown.into_iter().take(MOST_LOOSE) {
                        reading.take_tap(Tap::Unkept(format!("{shown}: {why}")), now);
                    }
                    // Of tests that are named, and of some cases of a file, each that is missing is known. Others may be counted.
                    let all = reading.files.as_ref().is_some_and(Files::whole);
                    for why in file.missing.into_iter().take(MOST_LOOSE).map(|why| format!("{shown}: {why}")) {
                        if all {
                            reading.file_wrong(why);
                        } else {
                            reading.found.push(Step::Remark(why));
                        }
                    }
                }
                Err(why) => {
                    reading.broken = Some(format!("{shown}: {why}"));
                    unused.push(format!("{shown} could not be used: {why}"));
                }
            }
            // A later process in this folder must not read it again.
            if files::is_kept(&tests.keep, shown)
                && let Ok(content) = content
            {
                self.set_aside(&found, &content);
            }
            if let Err(e) = std::fs::remove_file(path) {
                tracing::warn!("{} could not be removed: {e}", path.display());
            }
        }
        if reading.files.is_some() {
            unused.into_iter().take(MOST_LOOSE).for_each(|why| reading.file_wrong(why));
            return;
        }
        // What such a file would have told is not known. Tests that lack a result show it, and run again where they may; else
        // nothing would.
        let step = if reading.progress.complete() { Step::Wrong } else { Step::Remark };
        reading.found.extend(unused.into_iter().take(MOST_LOOSE).map(step));
    }

    /// A test case of JUnit XML is a case of the file that its name or class begins with, or of the only one there is.
    fn take_junit_case(&self, reading: &mut Reading, case: junit::Case, now: i64) {
        if !case.output.is_empty() {
            reading.log.add(case.output.as_bytes());
        }
        let Some(files) = &reading.files else { return };
        let candidates = case.candidates();
        let of_file = |name: &&String| files.place(name).is_some_and(|(_, title)| !title.is_empty() && title != **name);
        let mut name = candidates.iter().find(of_file).unwrap_or(&candidates[0]).clone();
        // Where the class is the file's own name without its ending, or with dots, it says nothing.
        if let Some((position, title)) = files.place(&name).filter(|_| files.one())
            && title == name
            && is_class_of(&case.class, &self.entries[position].name)
        {
            name.clone_from(&case.name);
        }
        reading.take_case(&name, case.reported, now);
    }

    /// Puts a file with results where it can be kept from when the batch is over.
    fn set_aside(&mut self, found: &files::Found, content: &[u8]) {
        let folder = self.artifacts.with_file_name("results");
        let path = folder.join(self.read_results.len().to_string());
        match std::fs::create_dir_all(&folder).and_then(|()| std::fs::write(&path, content)) {
            Ok(()) => self.read_results.push(files::Found { path, ..found.clone() }),
            Err(e) => tracing::warn!("{} could not be kept: {e}", found.shown),
        }
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

    /// Uploads what the batch left behind, and reports it.
    async fn keep_files(&mut self) {
        let tests = &self.ready.suite.tests;
        let (mut found, more) = files::find(&self.artifacts, &self.folder, &tests.keep, self.since());
        if more > 0 {
            let text = self.said(&format!("{more} files beyond the first {} were not kept", found.len()));
            self.tools.report(vec![WorkerEvent::Note { key: self.grant.key, text }]).await;
        }
        found.append(&mut self.read_results);
        let skew = skew_us();
        for (path, (_, shown, about)) in &self.named {
            let canonical = |f: &files::Found| f.path.canonicalize().is_ok_and(|p| p == *path);
            match found.iter_mut().find(|f| canonical(f)) {
                Some(file) => file.about.clone_from(about),
                None => found.push(files::Found {
                    path: path.clone(),
                    shown: shown.clone(),
                    about: about.clone(),
                    written_us: 0,
                }),
            }
        }
        let mut kept: HashMap<Option<u32>, Vec<KeptFile>> = HashMap::new();
        for mut file in found {
            (file.shown, file.about) = (self.untold(&file.shown), self.untold(&file.about));
            let canonical = file.path.canonicalize().unwrap_or_else(|_| file.path.clone());
            let position = match self.named.get(&canonical) {
                Some((position, _, _)) => Some(*position),
                None => files::owner(file.written_us - skew, &self.attempts),
            };
            let content = match kesmo_files::read_regular(&file.path, LARGEST_FILE).map_err(|e| e.to_string()) {
                // A text is kept without secrets; what is none is kept as it is.
                Ok(content) => match &self.mask {
                    Some(mask) if std::str::from_utf8(&content).is_ok() => mask.bytes(&content),
                    _ => content,
                },
                Err(why) => {
                    let text = format!("the file {} could not be kept: {why}", file.shown);
                    self.tools.report(vec![WorkerEvent::Note { key: self.grant.key, text }]).await;
                    continue;
                }
            };
            let bytes = content.len() as u64;
            let digest = match self.tools.uploads.send(content).await {
                Ok(digest) => digest,
                Err(why) => {
                    let text = format!("the file {} could not be kept: {why}", file.shown);
                    self.tools.report(vec![WorkerEvent::Note { key: self.grant.key, text }]).await;
                    continue;
                }
            };
            let entry = position.and_then(|p| self.entries.get(p)).map(|e| e.index);
            kept.entry(entry).or_default().push(KeptFile { path: file.shown, about: file.about, digest, bytes });
        }
        let key = self.grant.key;
        let events = kept.into_iter().map(|(entry, files)| WorkerEvent::Kept { key, entry, files }).collect();
        self.tools.report(events).await;
    }
}

/// The largest file that is read or kept, in bytes.
const LARGEST_FILE: u64 = 256 << 20;
/// Failures outside of test cases that are told of one file.
const MOST_LOOSE: usize = 5;

/// What of the running test's output was sent to whoever follows.
#[derive(Debug, Default)]
struct Sent {
    entry: Option<u32>,
    bytes: u64,
    at: Option<tokio::time::Instant>,
}

async fn write_some(input: &mut Option<Input>, bytes: &[u8]) -> std::io::Result<usize> {
    match input {
        Some(input) => input.write(bytes).await,
        None => std::future::pending().await,
    }
}

/// Whether a signal ended a process.
fn killed(exit: &Option<Exit>) -> bool {
    exit.as_ref().is_none_or(Exit::killed)
}

/// Whether the class of a JUnit case is a file's name: with dots for slashes, with or without its ending.
fn is_class_of(class: &str, file: &str) -> bool {
    let plain = |text: &str| text.replace(['/', '\\'], ".");
    let without_end = file.rsplit_once('.').filter(|(_, end)| !end.contains('/')).map_or(file, |(start, _)| start);
    let (class, file, bare) = (plain(class), plain(file), plain(without_end));
    class == file || class == bare || file.ends_with(&format!(".{class}")) || bare.ends_with(&format!(".{class}"))
}

async fn read_some(stream: &mut Option<impl AsyncRead + Unpin>, buffer: &mut [u8]) -> usize {
    match stream {
        Some(stream) => stream.read(buffer).await.unwrap_or(0),
        None => std::future::pending().await,
    }
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
mod tests {
    use std::collections::BTreeMap;

    use kesmo_wire::link::{BatchKey, Setup};

    use super::*;
    use crate::config::Config;
    use kesmo_core::run::ToRun;

    /// A worker's tools with a source that is here and prepared, so that no service is needed.
    struct Bench {
        tools: Tools,
        coming: mpsc::Receiver<Vec<WorkerEvent>>,
        home: tempfile::TempDir,
    }

    fn bench(results: &str, run: &str, more: &str, script: &str) -> Bench {
        crate::process::become_subreaper();
        let home = tempfile::tempdir().unwrap();
        let folder = home.path().join("sources/bundle/files");
        std::fs::create_dir_all(&folder).unwrap();
        let run = if run == "fed" { "tests" } else { run };
        let file = format!(
            "suite = \"bench\"\n[tests]\nlist = [\"true\"]\nrun = [\"sh\", \"tests.sh\", \"{run}\"]\nresults = \"{results}\"\n{more}\n"
        );
        std::fs::write(folder.join("kesmo.toml"), file).unwrap();
        std::fs::write(folder.join("tests.sh"), script).unwrap();
        std::fs::write(home.path().join("sources/bundle/prepared"), "").unwrap();
        let config = Config {
            url: "http://127.0.0.1:9".into(),
            token: "none".into(),
            name: "heron".into(),
            pool: "main".into(),
            slots: 1,
            offers: BTreeMap::new(),
            home: home.path().to_owned(),
            ..Config::default()
        };
        let client = kesmo_tls::Trust::default().http().build().expect("a client");
        let address = Arc::new(crate::address::Address::new(&config.url));
        let mark = crate::clock::random_mark();
        let marks = kesmo_engine::Marks { home: "home".into(), work: mark.clone() };
        let (events, coming) = mpsc::channel(1000);
        let reaching = Reaching::new(config.clone(), Arc::clone(&address), events.clone());
        let tools = Tools {
            sources: Arc::new(Sources::new(config.clone(), client.clone(), Arc::clone(&address), marks, None)),
            uploads: Uploads::new(client, &config, Arc::clone(&address)),
            events,
            outputs: mpsc::channel(64).0,
            home: config.home,
            worker: config.name,
            mark,
            hearing: None,
            losses: Arc::default(),
            reaching,
        };
        Bench { tools, coming, home }
    }

    impl Bench {
        /// A file beside the script.
        fn beside(&self, name: &str) -> PathBuf {
            self.home.path().join("sources/bundle/files").join(name)
        }

        /// Waits until the script has made the file `begun`.
        async fn begun(&self) {
            let begun = self.beside("begun");
            let there = async {
                while !begun.exists() {
                    tokio::time::sleep(Duration::from_millis(5)).await;
                }
            };
            tokio::time::timeout(Duration::from_secs(30), there).await.expect("it begins");
        }

        /// Lets a script go on that waits for the file `go`.
        fn go(&self) {
            std::fs::write(self.beside("go"), "").unwrap();
        }
    }

    /// Says that it has begun, and waits until it may go on.
    const WAITS: &str = "touch begun; until [ -e go ]; do sleep 0.01; done";

    /// With time for a test that waits, also on a busy machine.
    fn patient(grant: Grant) -> Grant {
        let entries = grant.entries.into_iter().map(|e| GrantedEntry { limit_us: 30_000_000, ..e }).collect();
        Grant { entries, ..grant }
    }

    fn grant(names: &[&str], attempt: Option<u16>) -> Grant {
        let entry =
            |(i, name): (usize, &&str)| GrantedEntry { index: i as u32, name: (*name).into(), limit_us: 1_000_000 };
        Grant {
            key: BatchKey { run: 1, batch: 2 },
            slot: 0,
            setup: Setup {
                run: "bench/1".into(),
                bundle: "bundle".into(),
                variant: vec![("screen-size".into(), "phone".into())],
                settings: BTreeMap::from([("pass-engers".into(), "200".into())]),
                secrets: Vec::new(),
                env: BTreeMap::from([("TZ".into(), "UTC".into())]),
                seed: 7,
                branch: Some("main".into()),
                commit: None,
                image: None,
                images: Vec::new(),
                reach: Vec::new(),
            },
            entries: names.iter().enumerate().map(entry).collect(),
            attempt,
            to_run: ToRun::default(),
            more: false,
            sender: None,
        }
    }

    /// Runs a batch and tells what it reported, a line each.
    async fn told(bench: &mut Bench, grant: Grant) -> Vec<String> {
        let (_switches, told) = switches(true);
        run(&bench.tools, grant, told).await;
        lines_of(bench)
    }

    /// What was reported so far, a line each.
    fn lines_of(bench: &mut Bench) -> Vec<String> {
        let mut lines = Vec::new();
        while let Ok(events) = bench.coming.try_recv() {
            lines.extend(events.into_iter().filter_map(line_of));
        }
        lines
    }

    fn line_of(event: WorkerEvent) -> Option<String> {
        let line = match event {
            WorkerEvent::Began { entry, .. } => format!("began {entry}"),
            WorkerEvent::Ended(r) => {
                let log = if let Log::Text(text) = &r.log { text.trim().replace('\n', "|") } else { String::new() };
                format!("{} {} [{}] [{log}]", r.ended, r.entry, r.message)
            }
            WorkerEvent::Note { text, .. } => format!("note {text}"),
            WorkerEvent::Wrong { text, .. } => format!("wrong {text}"),
            WorkerEvent::BatchEnded { end, .. } => format!("{end:?}"),
            WorkerEvent::GaveBack { entries, .. } => format!("gave back {entries:?}"),
            WorkerEvent::Cases { entry, first, cases, .. } => {
                let said = |c: &kesmo_wire::link::CaseReport| format!("{} {}", c.title, c.ended);
                let said: Vec<String> = cases.iter().take(12).map(said).collect();
                format!("cases of {entry} from {first}: {} ({})", said.join(", "), cases.len())
            }
            WorkerEvent::Measured { part, .. } => {
                let said =
                    |m: &kesmo_core::measure::Measured| format!("{} {}+{}", m.name, m.counts.count, m.counts.errors);
                format!("measured {}", part.measures.iter().map(said).collect::<Vec<_>>().join(", "))
            }
            WorkerEvent::Covers { entry, of, .. } => format!("{entry} covers {of:?}"),
            WorkerEvent::AtGate { .. } => "there".into(),
            WorkerEvent::Kept { .. } | WorkerEvent::Listed { .. } => "other".into(),
        };
        (!line.starts_with("began")).then_some(line)
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn each_test_has_its_own_words() {
        let script = "for t; do echo \"about $t\"; echo \"ok - $t\"; done; echo bye";
        let mut bench = bench("tap", "{names}", "", script);
        let lines = told(&mut bench, grant(&["a", "b"], None)).await;
        assert_eq!(lines[0], "passed 0 [] [about a]");
        assert!(lines[1].starts_with("passed 1 [] [about b") && lines[1].contains("bye"), "{lines:?}");
        assert_eq!(lines[2], "Done");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_a_process_prints_is_heard_word_for_word_where_that_is_asked_for() {
        let script = "echo hello; echo 'OK a'; echo 'ok - a'; echo oops >&2; mkdir -p out; echo '<x/>' > out/left.xml";
        let mut bench = bench("tap", "{names}", "", script);
        let hearing = Hearing::default();
        bench.tools.hearing = Some(hearing.clone());
        let grant = grant(&["a"], None);
        let key = grant.key;
        told(&mut bench, grant).await;
        let heard = hearing.take(key);
        assert_eq!(String::from_utf8_lossy(&heard.out), "hello\nOK a\nok - a\n");
        assert_eq!((String::from_utf8_lossy(&heard.err).as_ref(), heard.events.len()), ("oops\n", 0));
        assert_eq!(heard.xml, ["out/left.xml"]);
        assert!(heard.took > kesmo_core::time::Span::ZERO);
        assert!(hearing.take(key).out.is_empty(), "it is taken away");
    }

    /// Whether the time of each attempt holds the start of its process, in the order in which they ended.
    async fn with_start(results: &str, run: &str, script: &str) -> Vec<bool> {
        let mut bench = bench(results, run, "", script);
        let (_switches, told) = switches(true);
        super::run(&bench.tools, grant(&["a", "b"], None), told).await;
        let mut all = Vec::new();
        while let Ok(events) = bench.coming.try_recv() {
            all.extend(events.into_iter().filter_map(|event| match event {
                WorkerEvent::Ended(report) => Some(report.with_start.is_some()),
                _ => None,
            }));
        }
        all
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_time_says_whether_the_start_of_its_process_is_part_of_it() {
        let each = "for t; do echo \"ok - $t\"; done";
        assert_eq!(with_start("tap", "{names}", each).await, [true, false], "nothing says when the first began");
        let head = format!("echo TAP version 14; sleep 0.05; {each}");
        assert_eq!(with_start("tap", "{names}", &head).await, [false, false], "its first word did");
        let own = "for t; do printf 'ok - %s\\n  ---\\n  duration_ms: 5\\n  ...\\n' $t; done";
        let told = with_start("tap", "{names}", own).await;
        assert_eq!(told.len(), 2);
        assert_eq!(
            with_start("exit", "{name}", "true").await,
            [false, false],
            "a process of its own is what a test costs"
        );
        let events = "for t; do for e in start end; do echo \"{\\\"test\\\":\\\"$t\\\",\\\"event\\\":\\\"$e\\\",\\\"outcome\\\":\\\"passed\\\"}\" >> \"$KESMO_EVENTS\"; done; done";
        assert_eq!(with_start("events", "{names}", events).await, [false, false], "each says when it begins");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn results_that_cannot_be_read_count_where_no_test_shows_it() {
        let script =
            "echo '<testsuite><testcase name=\"a\"/></testsuite>' > a.xml; echo '<testsuite><testcase' > b.xml";
        let junit = "junit = [\"*.xml\"]";
        let mut whole = bench("junit", "{names}", junit, script);
        let lines = told(&mut whole, grant(&["a"], None)).await;
        assert!(lines.iter().any(|l| l.starts_with("wrong b.xml could not be used: ")), "{lines:?}");
        let mut lacking = bench("junit", "{names}", junit, script);
        let lines = told(&mut lacking, grant(&["a", "b"], None)).await;
        assert!(lines.iter().any(|l| l.starts_with("note b.xml could not be used: ")), "{lines:?}");
        assert!(lines.iter().any(|l| l.starts_with("crashed 1")), "{lines:?}");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_process_sees_what_it_is_promised_and_no_secrets() {
        let script =
            r#"env | grep -E '^(KESMO_|TZ)' | grep -v -E 'ARTIFACTS|EVENTS|MARK' | sort; cat "$1" >&2; echo "ok - a""#;
        let mut bench = bench("tap", "{names-file}", "", script);
        let lines = told(&mut bench, grant(&["a"], Some(3))).await;
        let wanted = "KESMO_ATTEMPT=3|KESMO_BATCH=2|KESMO_BRANCH=main|KESMO_FACET_SCREEN_SIZE=phone|KESMO_RUN=bench/1|KESMO_SEED=7|\
                      KESMO_SET_PASS_ENGERS=200|KESMO_SLOT=0|KESMO_WORKER=heron|TZ=UTC";
        assert!(lines[0].contains(wanted), "{lines:?}");
        assert!(!lines[0].contains("TOKEN"), "{lines:?}");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn one_process_each_goes_on_after_a_failure() {
        let script = "[ \"$1\" = b ] && { echo no >&2; exit 1; }; exit 0";
        let mut bench = bench("exit", "{name}", "", script);
        let lines = told(&mut bench, grant(&["a", "b", "c"], None)).await;
        assert_eq!(lines, ["passed 0 [] []", "failed 1 [no (status 1)] [no]", "passed 2 [] []", "Done"]);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_limit_ends_the_test_that_ran() {
        let mut bench = bench("tap", "{names}", "", "echo ok - a; echo waiting; sleep 600");
        let lines = told(&mut bench, grant(&["a", "b", "c"], None)).await;
        assert_eq!(lines.len(), 3, "{lines:?}");
        assert!(lines[1].starts_with("timed-out 1 [it ran longer than its limit of 1.0 s"), "{lines:?}");
        assert!(lines[1].ends_with("[waiting]"), "what it printed until then is kept: {lines:?}");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_program_that_never_stops_printing_is_ended_at_its_limit() {
        let mut bench =
            bench("tap", "{names}", "[limits]\noutput = \"8 KiB\"", "while :; do echo again and again; done");
        let lines = told(&mut bench, grant(&["a"], None)).await;
        assert!(lines[0].starts_with("timed-out 0"), "{:.200}", lines[0]);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_process_that_does_not_end_after_its_last_test_is_ended() {
        let limits = "[limits]\ntest = \"300ms\"";
        let mut bench = bench("tap", "{names}", limits, "echo ok - a; exec sleep 600");
        let lines = told(&mut bench, grant(&["a"], None)).await;
        assert_eq!(lines[0], "passed 0 [] []");
        assert!(lines.iter().any(|l| l.contains("did not end after its last test and was ended")), "{lines:?}");
        assert_eq!(lines.last().map(String::as_str), Some("Done"));
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_revoked_batch_ends_at_once_with_its_processes() {
        let bench = bench("tap", "{names}", "", "touch begun; sleep 600");
        let (switches, told) = switches(true);
        let (tools, job) = (bench.tools.clone(), patient(grant(&["a"], None)));
        let running = tokio::spawn(async move { run(&tools, job, told).await });
        bench.begun().await;
        switches.order.send_replace(Order::Revoke);
        tokio::time::timeout(Duration::from_secs(10), running).await.expect("it ends").unwrap();
        assert_eq!(process::end_marked_of(&bench.tools.mark).await, 0, "nothing is left");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_a_test_prints_is_sent_while_it_is_followed_and_from_its_beginning() {
        let end = "until [ -e end ]; do sleep 0.01; done";
        let script = format!("echo first; {WAITS}; echo second; {end}; echo 'ok 1 - a'; echo other; echo 'ok 2 - b'");
        let mut bench = bench("tap", "{names}", "", &script);
        let (sender, mut outputs) = mpsc::channel(64);
        bench.tools.outputs = sender;
        let (switches, told) = switches(true);
        let (tools, job) = (bench.tools.clone(), patient(grant(&["a", "b"], None)));
        let running = tokio::spawn(async move { run(&tools, job, told).await });
        bench.begun().await;
        assert!(outputs.try_recv().is_err(), "nobody follows yet");
        switches.follow.send_replace(true);
        let mut heard = String::new();
        let mut hear = |output| match output {
            Some(FromWorker::Output { entry: 0, from, text, .. }) => {
                assert_eq!(from as usize, heard.len(), "no gap");
                heard += &text;
                true
            }
            _ => false,
        };
        // The first is told from its beginning, and the second as it comes.
        for _ in 0..2 {
            let told = tokio::time::timeout(Duration::from_secs(10), outputs.recv()).await;
            assert!(hear(told.expect("it is told while the test runs")));
            bench.go();
        }
        std::fs::write(bench.beside("end"), "").unwrap();
        tokio::time::timeout(Duration::from_secs(10), running).await.expect("it ends").unwrap();
        while hear(outputs.try_recv().ok()) {}
        assert_eq!(heard, "first\nsecond\n");
        assert_eq!(lines_of(&mut bench), ["passed 0 [] [first|second]", "passed 1 [] [other]", "Done"]);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_sender_says_that_it_is_there_and_begins_when_it_is_let_through() {
        let script = "echo \"sender $KESMO_SENDER of $KESMO_SENDERS\"; echo \"ok - $1\"";
        for through in [true, false] {
            let mut bench = bench("tap", "{names}", "", script);
            let (switches, told) = switches(false);
            let sender = Some(Sender { number: 2, of: 3 });
            let (tools, job) = (bench.tools.clone(), Grant { sender, ..grant(&["a"], None) });
            let running = tokio::spawn(async move { run(&tools, job, told).await });
            let said = bench.coming.recv().await.expect("it says that it is there");
            assert!(matches!(said.as_slice(), [WorkerEvent::AtGate { .. }]), "{said:?}");
            assert!(lines_of(&mut bench).is_empty(), "nothing runs yet");
            if through {
                switches.begin.send_replace(true);
            } else {
                switches.order.send_replace(Order::Revoke);
            }
            tokio::time::timeout(Duration::from_secs(10), running).await.expect("it ends").unwrap();
            let wanted: &[&str] = if through { &["passed 0 [] [sender 2 of 3]", "Done"] } else { &["Revoked"] };
            assert_eq!(lines_of(&mut bench), wanted);
        }
    }

    /// Reads lines until so many begin like this.
    async fn read_until(bench: &mut Bench, lines: &mut Vec<String>, count: usize, beginning: &str) {
        while lines.iter().filter(|line| line.starts_with(beginning)).count() < count {
            let more = tokio::time::timeout(Duration::from_secs(10), bench.coming.recv()).await;
            lines.extend(more.expect("they come").expect("it works").into_iter().filter_map(line_of));
        }
    }

    /// Runs a batch that is asked to give back once its script has begun to wait and so many have ended; the file `on` comes when it has
    /// given back so many times.
    async fn gives_back(
        mut bench: Bench,
        names: &[&str],
        from: Option<u32>,
        (ended, times): (usize, usize),
    ) -> Vec<String> {
        let (switches, told) = switches(true);
        let (tools, job) = (bench.tools.clone(), patient(grant(names, None)));
        let running = tokio::spawn(async move { run(&tools, job, told).await });
        bench.begun().await;
        let mut lines = Vec::new();
        read_until(&mut bench, &mut lines, ended, "passed").await;
        switches.order.send_replace(Order::GiveBack { from });
        read_until(&mut bench, &mut lines, 1, "gave back").await;
        bench.go();
        read_until(&mut bench, &mut lines, times, "gave back").await;
        std::fs::write(bench.beside("on"), "").unwrap();
        tokio::time::timeout(Duration::from_secs(10), running).await.expect("it ends").unwrap();
        assert_eq!(process::end_marked_of(&bench.tools.mark).await, 0, "nothing is left");
        lines.extend(lines_of(&mut bench));
        lines
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_has_not_begun_is_given_back_and_the_process_ended_after_what_runs() {
        let script = format!("for t; do {WAITS}; echo \"ok - $t\"; done");
        let lines = gives_back(bench("tap", "{names}", "", &script), &["a", "b", "c"], None, (0, 1)).await;
        assert_eq!(lines, ["gave back [1, 2]", "passed 0 [] []", "Done"]);
        let part = gives_back(bench("tap", "{names}", "", &script), &["a", "b", "c"], Some(2), (0, 1)).await;
        assert_eq!(part, lines, "in which order they run is not known yet");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn processes_that_were_not_started_are_given_back() {
        let lines = gives_back(bench("exit", "{name}", "", WAITS), &["a", "b", "c"], None, (0, 1)).await;
        assert_eq!(lines, ["gave back [1, 2]", "passed 0 [] []", "Done"]);
        let part = gives_back(bench("exit", "{name}", "", WAITS), &["a", "b", "c"], Some(2), (0, 1)).await;
        assert_eq!(part, ["gave back [2]", "passed 0 [] []", "passed 1 [] []", "Done"]);
    }

    /// Eight tests, of which the fourth waits.
    const EIGHT: [&str; 8] = ["a", "b", "c", "d", "e", "f", "g", "h"];

    #[tokio::test(flavor = "multi_thread")]
    async fn a_process_that_keeps_to_the_order_goes_on_to_its_part() {
        let script = format!("for t; do [ $t != d ] || {{ {WAITS}; }}; echo \"ok - $t\"; done");
        let lines = gives_back(bench("tap", "{names}", "", &script), &EIGHT, Some(6), (3, 1)).await;
        let wanted = "passed 0 [] [], passed 1 [] [], passed 2 [] [], gave back [6, 7], passed 3 [] [], passed 4 [] [], passed 5 [] [], Done";
        assert_eq!(lines.join(", "), wanted);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_process_that_runs_what_it_gave_back_gives_back_the_rest() {
        let on = "until [ -e on ]; do sleep 0.01; done";
        let script = format!(
            "for t in a b c d h e f g; do [ $t != d ] || {{ {WAITS}; }}; [ $t != e ] || {{ {on}; }}; echo \"ok - $t\"; done"
        );
        let mut lines = gives_back(bench("tap", "{names}", "", &script), &EIGHT, Some(7), (3, 2)).await;
        // What it gives back may be told before the result that came with the sign.
        lines.sort();
        let wanted = "Done, gave back [5, 6], gave back [7], passed 0 [] [], passed 1 [] [], passed 2 [] [], passed 3 [] [], passed 4 [] []";
        assert_eq!(lines.join(", "), wanted);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn tests_that_say_when_they_start_are_given_back_while_they_have_not() {
        let script = r#"exec 3>"$KESMO_EVENTS"
            for t; do
                echo "{\"test\":\"$t\",\"event\":\"start\"}" >&3; waits
                echo "{\"test\":\"$t\",\"event\":\"end\",\"outcome\":\"passed\"}" >&3
            done"#;
        let bench = bench("events", "{names}", "", &script.replace("waits", WAITS));
        let lines = gives_back(bench, &["a", "b", "c"], None, (0, 1)).await;
        assert_eq!(lines, ["gave back [1, 2]", "passed 0 [] []", "Done"]);
    }

    fn files(results: &str, run: &str, more: &str, script: &str) -> Bench {
        let rerun = "rerun = [\"sh\", \"tests.sh\", \"{name}\", \"{cases-file}\"]";
        bench(results, run, &format!("each = \"file\"\n{rerun}\n{more}"), script)
    }

    /// All cases that were told, in their order: title, how they ended, message and detail; and the other lines.
    async fn cases_told(bench: &mut Bench, grant: Grant) -> (Vec<kesmo_wire::link::CaseReport>, Vec<String>) {
        let (_switches, told) = switches(true);
        run(&bench.tools, grant, told).await;
        let (mut all, mut rest) = (Vec::new(), Vec::new());
        while let Ok(events) = bench.coming.try_recv() {
            for event in events {
                match event {
                    WorkerEvent::Cases { first, cases, .. } => {
                        assert_eq!(first as usize, all.len(), "no gap");
                        all.extend(cases);
                    }
                    WorkerEvent::Ended(r) => {
                        assert_eq!(r.cases as usize, all.len());
                        rest.push(format!("{} {} [{}]", r.ended, r.entry, r.message));
                    }
                    WorkerEvent::Note { text, .. } => rest.push(format!("note {text}")),
                    WorkerEvent::Wrong { text, .. } => rest.push(format!("wrong {text}")),
                    _ => {}
                }
            }
        }
        (all, rest)
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_file_tells_of_its_cases_as_it_runs() {
        let script =
            "echo ok 1 - opens; echo the gate is shut; echo not ok 2 - refuses; echo '# got 7'; echo 1..2; exit 1";
        let mut bench = files("tap", "{name}", "", script);
        let lines = told(&mut bench, grant(&["gate.sh", "quay.sh"], None)).await;
        let all = lines.join("\n");
        for wanted in ["opens passed", "refuses failed", "passed 0 [1 of 2 cases failed: refuses: got 7]", "passed 1 ["]
        {
            assert!(all.contains(wanted), "{all}");
        }
        assert!(
            all.contains("ok 1 - opens|the gate is shut|not ok 2"),
            "all that it printed is kept in its order: {all}"
        );
        assert!(!all.contains("note") && !all.contains("wrong"), "{all}");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_retry_is_told_the_cases_that_it_is_to_run() {
        let script = "while read -r title; do echo \"ok - $title\"; done < \"$2\"";
        let mut one = files("tap", "{name}", "", script);
        let to_run = ToRun { cases: vec!["pays by card".into(), "opens / late".into()], ..ToRun::default() };
        let job = Grant { to_run, ..grant(&["gate.sh"], Some(2)) };
        let (cases, rest) = cases_told(&mut one, job.clone()).await;
        assert_eq!(cases.iter().map(|c| c.title.as_str()).collect::<Vec<_>>(), ["pays by card", "opens / late"]);
        assert_eq!(rest, ["passed 0 []"]);
        let fewer = "head -n 1 \"$2\" | sed 's/^/ok - /'";
        let (cases, rest) = cases_told(&mut files("tap", "{name}", "", fewer), job.clone()).await;
        assert_eq!(cases.len(), 1);
        assert_eq!(rest, ["failed 0 [it was to run 2 of its cases, and did not tell of \"opens / late\"]"]);
        let more = format!("{script}; echo ok - another");
        let (cases, rest) = cases_told(&mut files("tap", "{name}", "", &more), job).await;
        assert_eq!(cases.len(), 3);
        assert!(rest[0].starts_with("note gate.sh was to run 2 of its cases and told of 1 others too"), "{rest:?}");
        assert_eq!(rest[1], "passed 0 []");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn titles_that_nobody_would_choose_are_taken() {
        let script = r#"printf 'ok 1 - a\000b\n'; printf 'not ok 2 - '; head -c 100000 /dev/zero | tr '\0' x; echo
            awk 'BEGIN { for (i = 0; i < 20000; i++) print "ok - same" }'; echo '    # Subtest: deep'; echo '        ok 1 - er'; echo 'ok 9'"#;
        let mut bench = files("tap", "{name}", "[limits]\noutput = \"8 KiB\"", script);
        let mut job = grant(&["gate.sh"], None);
        job.entries[0].limit_us = 60_000_000;
        let (cases, rest) = cases_told(&mut bench, job).await;
        assert_eq!(cases[0].title, "a\u{fffd}b");
        assert!(
            cases[1].title.len() <= 500 && cases[1].ended == kesmo_core::words::Ended::Failed,
            "{}",
            cases[1].title
        );
        assert_eq!((cases[2].title.as_str(), cases[20_001].title.as_str()), ("same", "same (20000)"));
        let titles: std::collections::HashSet<&str> = cases.iter().map(|c| c.title.as_str()).collect();
        assert_eq!(titles.len(), cases.len(), "no two are alike");
        assert!(cases[1].detail.is_empty(), "a result explains nothing: {:.80}", cases[1].detail);
        assert!(rest[0].starts_with("passed 0 [1 of 2000"), "{rest:?}");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_file_that_does_not_keep_to_its_plan_or_ends_badly_has_failed_itself() {
        for (script, wanted) in [
            ("echo 1..3; echo ok 1 - a; exit 0", "failed 0 [the TAP plan promised 3 tests, and 1 were reported]"),
            ("echo 1..3; echo ok 1 - a; exit 1", "failed 0 [the TAP plan promised 3 tests, and 1 were reported]"),
            (
                "echo 1..1; echo ok 1 - a; echo no more coal >&2; exit 5",
                "failed 0 [its case was good, and then its process ended with status 5: ",
            ),
            ("echo ok 1 - a; kill -SEGV $$", "crashed 0 [its process ended under it, with signal 11"),
            (
                "echo ok 1 - a; echo 'Bail out! the quay is gone'",
                "crashed 0 [its process ended under it, with status 0: it bailed out: the quay is gone",
            ),
            ("echo hello", "crashed 0 [its process ended with status 0 and told of no case: hello]"),
            ("echo '1..0 # SKIP no boat today'", "skipped 0 [no boat today]"),
            (
                "echo ok - a; exec sleep 600",
                "timed-out 0 [its process ran longer than the limit of its file, 1.0 s, and was ended",
            ),
        ] {
            let (_, rest) = cases_told(&mut files("tap", "{name}", "", script), grant(&["gate.sh"], None)).await;
            assert!(rest.len() == 1 && rest[0].starts_with(wanted), "{script}: {rest:?}");
        }
        let (_, rest) = cases_told(
            &mut files("tap", "{name}", "end = \"ignored\"", "echo ok - a; exit 5"),
            grant(&["gate.sh"], None),
        )
        .await;
        assert_eq!(rest, ["passed 0 []"]);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn files_tell_of_cases_in_junit_xml_wherever_they_are_nested() {
        let script = r#"cat > out.xml <<END
<testsuites><testsuite name="outer"><testsuite name="inner">
<testcase classname="specs.gate" name="opens" time="0.5"/>
<testcase classname="other" name="shuts"><failure message="no">why</failure></testcase>
</testsuite></testsuite></testsuites>
END"#;
        let mut bench = files("junit", "{name}", "junit = [\"*.xml\"]", script);
        let (cases, rest) = cases_told(&mut bench, grant(&["specs/gate.sh"], None)).await;
        let said: Vec<_> = cases.iter().map(|c| (c.title.as_str(), c.spent_us)).collect();
        assert_eq!((said[0], said[1].0), (("opens", 500_000), "other/shuts"));
        assert_eq!((cases[1].message.as_str(), cases[1].detail.as_str()), ("no", "why"));
        assert_eq!(rest, ["passed 0 [1 of 2 cases failed: other/shuts: no]"]);
        let broken =
            "echo '<testsuite><testcase name=\"a\"/></testsuite>' > a.xml; echo '<testsuite><testcase' > b.xml";
        let (cases, rest) =
            cases_told(&mut files("junit", "{name}", "junit = [\"*.xml\"]", broken), grant(&["gate.sh"], None)).await;
        assert_eq!(cases.len(), 1);
        assert!(rest[0].starts_with("failed 0 [b.xml could not be used: "), "{rest:?}");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn junit_xml_that_has_more_than_it_tells_of_is_no_pass() {
        let told = async |counts: &str, cases: &[&str]| {
            let xml = format!("<testsuite name=\"gate\" {counts}><testcase name=\"opens\"/></testsuite>");
            let script = format!("cat > out.xml <<END\n{xml}\nEND");
            let mut bench = files("junit", "{name}", "junit = [\"*.xml\"]", &script);
            let mut grant = grant(&["gate.sh"], None);
            grant.to_run.cases = cases.iter().map(|case| (*case).to_owned()).collect();
            cases_told(&mut bench, grant).await.1
        };
        let said = told("tests=\"1\" failures=\"1\" errors=\"1\"", &[]).await;
        assert_eq!(
            said,
            ["failed 0 [out.xml: the <testsuite> \"gate\" says that it has 2 failures and errors, and tells of 0]"]
        );
        let said = told("tests=\"3\" failures=\"0\"", &[]).await;
        assert_eq!(
            said,
            ["failed 0 [out.xml: the <testsuite> \"gate\" says that it has 3 test cases, and tells of 1]"]
        );
        // Of a rerun of one case those that did not run may be counted.
        let said = told("tests=\"3\" failures=\"0\"", &["opens"]).await;
        assert!(said.iter().any(|line| line.starts_with("passed 0 []")), "{said:?}");
        assert_eq!(told("tests=\"3\" skipped=\"2\"", &[]).await, ["passed 0 []"]);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn junit_xml_with_fifty_megabytes_of_output_is_read_within_bounds() {
        let script = r#"{ printf '<testsuite><testcase name="a"><system-out>'; head -c 52428800 /dev/zero | tr '\0' x
            printf '</system-out></testcase><testcase name="b"/></testsuite>'; } > out.xml"#;
        let mut bench = files("junit", "{name}", "junit = [\"*.xml\"]\n[limits]\noutput = \"8 KiB\"", script);
        let mut job = grant(&["gate.sh"], None);
        job.entries[0].limit_us = 60_000_000;
        let (cases, rest) = cases_told(&mut bench, job).await;
        assert_eq!((cases.len(), rest), (2, vec!["passed 0 []".to_owned()]));
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_case_whose_end_is_lost_is_no_pass() {
        let told = async |more: &str| {
            let script = format!(
                r#"exec 3>"$KESMO_EVENTS"; say() {{ echo "$1" >&3; }}
                say '{{"file":"gate.sh","case":"opens","event":"end","outcome":"passed"}}'
                {more}"#
            );
            let mut bench = files("events", "{name}", "", &script);
            let (cases, rest) = cases_told(&mut bench, grant(&["gate.sh"], None)).await;
            let case = |c: &kesmo_wire::link::CaseReport| format!("{} {} {}", c.title, c.ended, c.message);
            (cases.iter().map(case).collect::<Vec<_>>(), rest)
        };
        let (cases, rest) = told(r#"say '{"file":"gate.sh","case":"shuts","event":"start"}'"#).await;
        assert_eq!(cases, ["opens passed ", "shuts crashed it began, and nothing told of its end"]);
        assert_eq!(rest, ["passed 0 [1 of 2 cases failed: shuts: it began, and nothing told of its end]"]);
        let (cases, _) = told(r#"say '{"file":"gate.sh","case":"shuts","event":"start"}'; exit 3"#).await;
        assert_eq!(cases[1], "shuts crashed its process ended under it, with status 3");
        let (cases, rest) = told(r#"say '{"file":"gate.sh","case":"shuts","event":"start"}'; sleep 60"#).await;
        assert!(cases[1].starts_with("shuts timed-out ") && rest[0].starts_with("timed-out 0 ["), "{cases:?} {rest:?}");
        for lost in [
            r#"say '{"file":"gate.sh","case":"shuts","event":"end","outcome":"faild"}'"#,
            r#"printf '{"file":"gate.sh","case":"shuts","event":"end","outco' >&3"#,
            r#"say '{"file":"gate.sh","case":"shuts","event":"failed"}'"#,
        ] {
            let (cases, rest) = told(lost).await;
            assert_eq!(cases.len(), 1);
            assert!(rest[0].starts_with("failed 0 [a broken event line: "), "{rest:?}");
        }
        // What was no result, or said no more than a step, changes nothing.
        let (_, rest) = told(r#"say '{"file":"gate.sh","case":"opens","event":"step","name":"late"}'; say '{"test":"gate.sh/opens","event":"measure","name":"scan","value":NaN}'"#).await;
        assert_eq!(rest.len(), 2, "{rest:?}");
        assert!(rest[0].starts_with("note a broken event line") && rest[1] == "passed 0 []", "{rest:?}");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn an_event_line_that_cannot_be_read_may_have_been_a_failure() {
        let script = r#"exec 3>"$KESMO_EVENTS"
            for t in "$@"; do echo "{\"test\":\"$t\",\"event\":\"end\",\"outcome\":\"passed\"}" >&3; done
            echo '{"test":"a","event":"end","outcome":"faild"}' >&3"#;
        let lines = told(&mut bench("events", "{names}", "", script), grant(&["a", "b"], None)).await;
        let wrong = "wrong a broken event line: the outcome \"faild\" is not passed, failed or skipped";
        assert!(lines.iter().any(|line| line.starts_with(wrong)), "{lines:?}");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn several_files_in_a_process_tell_of_cases_by_their_names_and_strangers_are_told() {
        let script = r#"exec 3>"$KESMO_EVENTS"; say() { echo "$1" >&3; }
            say '{"test":"a.sh/opens","event":"start"}'
            say '{"test":"a.sh/opens","event":"end","outcome":"passed"}'
            say '{"file":"b.sh","case":"opens","event":"end","outcome":"failed","message":"no"}'
            say '{"file":"c.sh","case":"opens","event":"end","outcome":"failed"}'
            say '{"file":"b.sh","event":"end","outcome":"failed","message":"the whole of b"}'
            say '{"case":"opens","event":"end","outcome":"failed"}'"#;
        let mut bench = files("events", "{name}", "", script);
        let toml = bench.tools.home.join("sources/bundle/files/kesmo.toml");
        let text = std::fs::read_to_string(&toml).unwrap().replacen("\"{name}\"", "\"{names}\"", 1);
        std::fs::write(&toml, text).unwrap();
        let lines = told(&mut bench, grant(&["a.sh", "b.sh"], None)).await;
        let all = lines.join("\n");
        for wanted in [
            "cases of 0 from 0: opens passed (1)",
            "cases of 1 from 0: opens failed (1)",
            "wrong a result failed came for \"c.sh/opens\", which is of no file in the batch",
            "passed 0 []",
            "failed 1 [the whole of b]",
            "wrong a broken event line: give \"test\", or \"file\" and \"case\"",
        ] {
            assert!(all.contains(wanted), "{wanted} in {all}");
        }
    }

    /// A fed batch of `names`, of which the first is granted and the others are fed after so many results each.
    async fn fed(script: &str, results: &str, names: &[&str], limit_us: u64) -> Vec<String> {
        let mut bench = bench(results, "fed", "feed = \"lines\"", script);
        let (switches, told) = switches(true);
        let mut all = grant(names, None);
        all.entries.iter_mut().for_each(|e| e.limit_us = limit_us);
        let later = all.entries.split_off(1);
        let job = Grant { more: true, ..all };
        let tools = bench.tools.clone();
        let running = tokio::spawn(async move { run(&tools, job, told).await });
        let mut lines = Vec::new();
        let mut waiting = later.into_iter();
        loop {
            let events = bench.coming.recv().await.expect("the batch tells its end");
            let ended = events.iter().filter(|e| matches!(e, WorkerEvent::Ended(_))).count();
            let over = events.iter().any(|e| matches!(e, WorkerEvent::BatchEnded { .. }));
            lines.extend(events.into_iter().filter_map(line_of));
            if over {
                break;
            }
            for _ in 0..ended {
                let next: Vec<GrantedEntry> = waiting.next().into_iter().collect();
                let last = next.is_empty();
                // It is said twice, as after a link that was cut.
                for _ in 0..2 {
                    drop(switches.feed.send(Fed { entries: next.clone(), last }));
                }
            }
        }
        running.await.unwrap();
        assert_eq!(process::end_marked_of(&bench.tools.mark).await, 0, "nothing is left");
        lines
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_process_that_stays_is_fed_one_test_after_the_other() {
        let script =
            "n=0; while read -r t; do n=$((n + 1)); echo \"runs $t as $n\"; echo \"ok - $t\"; done; echo cleared up";
        let lines = fed(script, "tap", &["a", "b", "c"], 5_000_000).await;
        assert_eq!(lines[..2], ["passed 0 [] [runs a as 1]", "passed 1 [] [runs b as 2]"], "{lines:?}");
        assert!(lines[2].starts_with("passed 2 [] [runs c as 3") && lines[3] == "Done", "{lines:?}");
        let events = r#"while read -r t; do echo "{\"test\":\"$t\",\"event\":\"end\",\"outcome\":\"passed\"}" >> "$KESMO_EVENTS"; done"#;
        assert_eq!(fed(events, "events", &["a", "b"], 5_000_000).await, ["passed 0 [] []", "passed 1 [] []", "Done"]);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_fed_process_that_dies_or_overruns_costs_the_test_it_had_and_nothing_else() {
        let dies = "read -r t; echo \"ok - $t\"; read -r t; exit 3";
        let lines = fed(dies, "tap", &["a", "b", "c"], 5_000_000).await;
        assert_eq!(lines[0], "passed 0 [] []");
        assert!(lines[1].starts_with("crashed 1 [its process ended under it, with status 3"), "{lines:?}");
        assert_eq!(lines[2], "Done");
        let early = "read -r t; echo \"ok - $t\"; read -r t; exit 0";
        let lines = fed(early, "tap", &["a", "b", "c"], 5_000_000).await;
        assert!(lines[1].starts_with("crashed 1 [its process ended under it, with status 0"), "{lines:?}");
        let slow = "read -r t; echo \"ok - $t\"; read -r t; exec sleep 600";
        let lines = fed(slow, "tap", &["a", "b", "c"], 300_000).await;
        assert!(lines[1].starts_with("timed-out 1 [it ran longer than its limit"), "{lines:?}");
        assert_eq!(lines[2], "Done");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_fed_process_that_never_reads_closes_its_input_or_never_stops_writing_is_ended_at_the_limit() {
        for script in ["exec sleep 600", "exec <&-; exec sleep 600", "while :; do echo again and again; done"] {
            let mut bench = bench("tap", "fed", "feed = \"lines\"\n[limits]\noutput = \"8 KiB\"", script);
            let mut job = grant(&["a", "b"], None);
            job.entries.iter_mut().for_each(|e| e.limit_us = 400_000);
            let lines = told(&mut bench, job).await;
            let timed_out = lines.iter().filter(|l| l.starts_with("timed-out 0")).count();
            assert_eq!((timed_out, lines.last().map(String::as_str)), (1, Some("Done")), "{script}: {lines:?}");
            assert!(!lines.iter().any(|l| l.starts_with("timed-out 1")), "{script}: the other goes back: {lines:?}");
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_a_fed_process_says_of_what_it_was_not_fed_is_told() {
        let script = "read -r t; echo \"ok - z\"; echo \"not ok - y\"; echo \"ok - $t\"; echo \"ok - $t\"; while read -r t; do echo \"ok - $t\"; done";
        let all = fed(script, "tap", &["a", "b"], 5_000_000).await.join("\n");
        for wanted in [
            "note a result for \"z\", which is not in the batch, was left aside",
            "wrong a result failed came for \"y\", which is not in the batch",
            "note a second result for \"a\" in one process was left aside",
            "passed 0 []",
            "passed 1 []",
            "Done",
        ] {
            assert!(all.contains(wanted), "{wanted} in {all}");
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_command_that_is_not_there_makes_the_worker_unfit() {
        let mut bench = bench("tap", "{names}", "", "");
        let folder = bench.tools.home.join("sources/bundle/files/kesmo.toml");
        let text = std::fs::read_to_string(&folder).unwrap().replace("\"sh\", \"tests.sh\"", "\"./nowhere\"");
        std::fs::write(&folder, text).unwrap();
        let lines = told(&mut bench, grant(&["a"], None)).await;
        assert_eq!(lines.len(), 1);
        assert!(lines[0].contains("Unfit") && lines[0].contains("./nowhere"), "{lines:?}");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn broken_event_lines_are_remarked_and_the_test_judged_by_its_end() {
        let script = r#"
echo '{"test":"a","event":"start"}' >> "$KESMO_EVENTS"
echo 'nonsense' >> "$KESMO_EVENTS"
echo '{"test":"z","event":"end","outcome":"passed"}' >> "$KESMO_EVENTS"
exit 7"#;
        let mut bench = bench("events", "{names}", "", script);
        let lines = told(&mut bench, grant(&["a", "b"], None)).await;
        let all = lines.join("\n");
        for wanted in [
            "a broken event line",
            "\"z\", which is not in the batch",
            "crashed 0 [its process ended under it, with status 7",
        ] {
            assert!(all.contains(wanted), "{all}");
        }
        assert!(!all.contains("crashed 1"), "the other goes back, uncharged: {all}");
    }
}
