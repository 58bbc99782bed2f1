//! From what was gathered to what is stored: portions that are written beside the floor, one at a time, and what waits for that.
//!
//! A portion is closed once the one before it is stored. What it does to others (what is acknowledged, granted, answered, shown) is
//! made when it is closed and let out when it is stored, so that nothing is seen that is not kept. Meanwhile the floor hears what
//! workers tell, for the next portion; whatever else reads or writes what is stored waits until nothing is being written.

use std::{collections::BTreeSet, time::Duration};

use chrono::Utc;
use kesmo_core::{run::Input, words::Verdict};
use kesmo_store::commit::{Commit, RunChange};
use tokio::{sync::mpsc, task::JoinError, time::Instant};

use crate::{
    active::{ActiveRun, PUBLISH_EVERY},
    asking::{Message, tell},
    floor::{FLOOR_EVERY, Floor, MOST_BEFORE_COMMIT},
    portion::{After, Portion, Stored, Written},
    shown::Shown,
};

impl Floor {
    /// Whether something waits to be written, or for that.
    pub(super) fn has_gathered(&self) -> bool {
        !self.commit.is_empty() || !self.after.is_empty() || !self.to_record.is_empty()
    }

    /// Closes the portion that was gathered, has it written, and makes meanwhile what is shown of it.
    pub(super) async fn begin_writing(&mut self) {
        self.settle().await;
        // What comes now may stand on what was given up.
        if self.given_up {
            return self.give_up();
        }
        let mut commit = std::mem::take(&mut self.commit);
        let written = (!commit.is_empty()).then(|| {
            commit.by = Some(self.writes_for());
            let writer = self.writer.clone();
            tokio::spawn(async move {
                let began = Instant::now();
                let stored = writer.store(&commit).await;
                (commit, stored, began.elapsed())
            })
        });
        (self.heard, self.given) = (0, 0);
        let over = std::mem::take(&mut self.to_record);
        let shown = self.show();
        let (after, closing) = (std::mem::take(&mut self.after), std::mem::take(&mut self.closing));
        let asked = after.iter().any(|after| matches!(after, After::Ask(_)));
        let writes = written.is_some();
        self.writing = Some(Portion { written, after, over, closing, shown });
        // An answer tells how things stand, and nothing that is not kept.
        if asked || !writes {
            self.settle().await;
        }
    }

    /// Who writes, and for which pools.
    fn writes_for(&self) -> (String, Vec<String>) {
        (self.leases.service.clone(), self.leases.held.iter().cloned().collect())
    }

    /// Hears what workers tell until what is being written is stored.
    pub(super) async fn hear_until_written(&mut self, receiver: &mut mpsc::Receiver<Message>) {
        while let Some(Portion { written: Some(written), .. }) = &mut self.writing {
            tokio::select! {
                biased;
                done = written => {
                    if let Some(portion) = self.writing.take() {
                        self.let_out(portion, Some(done)).await;
                    }
                }
                message = receiver.recv(), if self.heard < MOST_BEFORE_COMMIT => match message {
                    Some(message) => self.handle(message).await,
                    None => {
                        self.leaving = true;
                        self.settle().await;
                    }
                },
            }
        }
    }

    /// Waits until what is being written is stored, and lets out what waited for that.
    pub(super) async fn settle(&mut self) {
        let Some(mut portion) = self.writing.take() else { return };
        let done = match portion.written.take() {
            Some(written) => Some(written.await),
            None => None,
        };
        self.let_out(portion, done).await;
    }

    async fn let_out(&mut self, portion: Portion, done: Option<Result<Written, JoinError>>) {
        let stored = match done {
            None => true,
            Some(Ok((commit, Stored::Yes, took))) => {
                self.figures.commit(commit.rows(), took);
                true
            }
            Some(Ok((commit, otherwise, _))) => {
                self.closing.extend(&portion.closing);
                self.write_what_is_left(commit, otherwise).await
            }
            Some(Err(e)) if e.is_panic() => std::panic::resume_unwind(e.into_panic()),
            Some(Err(_)) => false,
        };
        if !stored {
            return self.give_up();
        }
        self.closing.retain(|run| !portion.closing.contains(run));
        for (run, shown) in portion.shown {
            // Another service may have it by now; or it is void by what was refused, which is shown once that is kept.
            let true_still = |run| self.runs.contains_key(&run) && !(shown.is_end() && self.to_record.contains(&run));
            if run.is_none_or(true_still) {
                shown.publish();
            }
        }
        // A run is recorded once its verdict is stored; should nobody come to it, it is found by that.
        let over: Vec<i64> = portion.over.into_iter().filter(|run| !self.to_record.contains(run)).collect();
        let over: Vec<_> = over.into_iter().map(|run| (run, self.begin_recording(run))).collect();
        for after in portion.after {
            match after {
                After::Send(worker, message) => self.workers.send(worker, message),
                After::Stopped(reply) => tell(reply, true),
                After::Ask(ask) => self.answer(ask),
                After::Over => self.over.notify_one(),
            }
        }
        for (run, records) in over {
            self.let_go(run, records);
        }
    }

    /// The service stops without its last rows: nothing of them, and of what came after them, is acknowledged, so that the workers
    /// bring it again to the next service.
    fn give_up(&mut self) {
        self.commit = Commit::default();
        self.after.clear();
        self.to_record.clear();
        (self.leaving, self.given_up) = (true, true);
    }

    /// A commit was not taken as it is. Whatever is gathered is written, too, before anything is acknowledged: what is refused
    /// makes a run void. False if that is given up because the service is to stop.
    async fn write_what_is_left(&mut self, commit: Commit, became: Stored) -> bool {
        if !self.go_on_with(commit, became).await {
            return false;
        }
        while !self.commit.is_empty() {
            let mut commit = std::mem::take(&mut self.commit);
            commit.by = Some(self.writes_for());
            let became = self.writer.store(&commit).await;
            if !self.go_on_with(commit, became).await {
                return false;
            }
        }
        true
    }

    /// Writes what can be written of a commit that became of this; false if that is given up.
    async fn go_on_with(&mut self, mut commit: Commit, mut became: Stored) -> bool {
        loop {
            match became {
                Stored::Yes => return true,
                Stored::GivenUp => return false,
                Stored::Elsewhere => {
                    self.let_go_of_others(&mut commit).await;
                    if commit.is_empty() {
                        return true;
                    }
                }
                Stored::Refused(why) => {
                    tracing::error!(
                        rows = commit.rows(),
                        "PostgreSQL refuses a commit; it is looked for whose row that is: {why}"
                    );
                    return self.sift(commit).await;
                }
            }
            commit.by = Some(self.writes_for());
            became = self.writer.store(&commit).await;
        }
    }

    /// Another service has a lease by now: what is left of a commit is this service's own.
    async fn let_go_of_others(&mut self, commit: &mut Commit) {
        if let Err(e) = self.hold(&BTreeSet::new()).await {
            tracing::warn!("leases could not be renewed: {e}");
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        self.keep_own(commit);
    }

    /// Writes what was refused together in parts: each list and each run by itself. What PostgreSQL does not take of a run
    /// makes that run void, and no other.
    async fn sift(&mut self, mut commit: Commit) -> bool {
        for list in std::mem::take(&mut commit.listings) {
            let key = list.0.clone();
            let part = Commit { listings: vec![list], by: commit.by.clone(), ..Commit::default() };
            match self.writer.store(&part).await {
                Stored::GivenUp => return false,
                Stored::Refused(why) => {
                    let needs = |r: &ActiveRun| r.lists.iter().any(|l| l.key == key);
                    let runs: Vec<i64> = self.runs.iter().filter(|(_, r)| needs(r)).map(|(id, _)| *id).collect();
                    tracing::error!(list = key, runs = runs.len(), "a list is not kept: {why}");
                    for run in runs {
                        self.unstored(run, &format!("the list of its tests cannot be kept: {why}"));
                    }
                }
                // A list belongs to no pool.
                Stored::Yes | Stored::Elsewhere => {}
            }
        }
        for run in commit.run_ids() {
            let mut part = commit.take_run(run);
            while !part.is_empty() {
                part.by = Some(self.writes_for());
                match self.writer.store(&part).await {
                    Stored::Yes => break,
                    Stored::GivenUp => return false,
                    Stored::Elsewhere => self.let_go_of_others(&mut part).await,
                    Stored::Refused(why) => {
                        tracing::error!(run, rows = part.rows(), "rows of a run are not kept: {why}");
                        self.unstored(run, &format!("what came of it cannot be kept: {why}"));
                        break;
                    }
                }
            }
        }
        true
    }

    /// Rows of a run are refused: it is void. If even that cannot be kept, it is left alone until the service starts again.
    fn unstored(&mut self, run: i64, why: &str) {
        let why = kesmo_core::name::shorten(why, 500);
        // What came after them stands on them.
        self.commit.keep_runs(|other| other != run);
        if self.unstorable.insert(run) {
            if self.runs.contains_key(&run) {
                self.feed(run, Input::Void(why));
            } else {
                self.commit.runs.push(RunChange::over(run, Verdict::Void, &why, Utc::now()));
            }
        } else {
            tracing::error!(run, "that a run is void cannot be kept either; it is left alone");
            self.runs.remove(&run);
            self.queue.remove(&run);
        }
    }

    /// What is to be shown of what is closed now, where it is time.
    fn show(&mut self) -> Vec<(Option<i64>, Shown)> {
        let stamp = Instant::now();
        if self.places_numbered + FLOOR_EVERY <= stamp
            && (!self.runs.is_empty() || !self.queue.is_empty() || !self.places.is_empty())
        {
            self.places_numbered = stamp;
            self.number_places();
        }
        let mut shown = Vec::new();
        for (id, run) in &mut self.runs {
            if run.dirty && (run.finished() || run.published + PUBLISH_EVERY <= stamp) {
                shown.extend(run.show(&self.workers).map(|one| (Some(*id), one)));
            }
        }
        if self.floor_dirty() && self.floor_published + FLOOR_EVERY <= stamp {
            shown.extend(self.show_floor().map(|one| (None, one)));
        }
        shown
    }
}
