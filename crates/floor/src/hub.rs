//! Live streams: each has the last events in memory, so that a watcher that was cut off goes on from where it was.

use std::{
    collections::VecDeque,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

use tokio::sync::broadcast;

/// Events kept for watchers that come back: at most so many, and so many bytes. A watcher that missed more has a snapshot.
const KEPT: usize = 256;
const KEPT_BYTES: usize = 6 << 20;
/// Events buffered for slow watchers; one that falls further behind has a snapshot.
const BUFFERED: usize = 64;

/// After the last watcher has gone, events are kept for so long for one that was merely cut off.
const COMING_BACK: Duration = Duration::from_secs(30);

/// One event of a stream, ready to send.
#[derive(Debug)]
pub struct LiveEvent {
    pub number: u64,
    pub kind: &'static str,
    /// JSON.
    pub data: String,
}

/// A stream of events to many watchers.
#[derive(Debug)]
pub struct Hub {
    /// Tells this hub's numbers from those of a hub before a restart.
    epoch: String,
    inner: Mutex<Inner>,
    sender: broadcast::Sender<Arc<LiveEvent>>,
}

#[derive(Debug)]
struct Inner {
    last: u64,
    kept: VecDeque<Arc<LiveEvent>>,
    kept_bytes: usize,
    over: bool,
    /// When somebody was last seen to watch.
    watched_at: Option<Instant>,
}

/// What a watcher starts with.
pub struct Subscription {
    /// Events that it missed; none if it must take a snapshot first.
    pub missed: Option<Vec<Arc<LiveEvent>>>,
    pub receiver: broadcast::Receiver<Arc<LiveEvent>>,
    /// The number of the last event before the receiver's first.
    pub last: u64,
    /// No event will come any more.
    pub over: bool,
}

impl Default for Hub {
    fn default() -> Self {
        let epoch = kesmo_files::secret::random_text()[..8].to_owned();
        let inner = Mutex::new(Inner { last: 0, kept: VecDeque::new(), kept_bytes: 0, over: false, watched_at: None });
        Self { epoch, inner, sender: broadcast::channel(BUFFERED).0 }
    }
}

impl Hub {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sends an event to all watchers.
    pub fn publish(&self, kind: &'static str, data: String) {
        let mut inner = self.lock();
        inner.last += 1;
        inner.over |= kind == "end";
        let event = Arc::new(LiveEvent { number: inner.last, kind, data });
        inner.kept_bytes += event.data.len();
        inner.kept.push_back(Arc::clone(&event));
        while inner.kept.len() > KEPT || inner.kept_bytes > KEPT_BYTES {
            let Some(oldest) = inner.kept.pop_front() else { break };
            inner.kept_bytes -= oldest.data.len();
        }
        // Nobody may be watching, which is no error.
        drop(self.sender.send(event));
    }

    /// Something happened that nobody watched, so that it was not written down: whoever comes back takes a snapshot.
    pub fn pass_over(&self) {
        let mut inner = self.lock();
        inner.last += 1;
        inner.kept.clear();
        inner.kept_bytes = 0;
    }

    /// Whether anyone watches, or did until a moment ago: who was cut off is about to come back.
    #[must_use]
    pub fn watched(&self) -> bool {
        let mut inner = self.lock();
        if self.sender.receiver_count() > 0 {
            inner.watched_at = Some(Instant::now());
            return true;
        }
        inner.watched_at.is_some_and(|at| at.elapsed() < COMING_BACK)
    }

    /// Starts watching; `from` is the `Last-Event-ID` of a watcher that comes back.
    #[must_use]
    pub fn subscribe(&self, from: Option<&str>) -> Subscription {
        let mut inner = self.lock();
        let number = from.and_then(|id| id.strip_prefix(&self.epoch)?.strip_prefix('-')?.parse::<u64>().ok());
        let missed = number.filter(|n| *n <= inner.last).and_then(|n| {
            // Nothing is kept of what was passed over; who has seen all until now has missed nothing.
            let oldest = inner.kept.front().map_or(inner.last + 1, |e| e.number);
            (n + 1 >= oldest).then(|| inner.kept.iter().filter(|e| e.number > n).cloned().collect())
        });
        inner.watched_at = Some(Instant::now());
        Subscription { missed, receiver: self.sender.subscribe(), last: inner.last, over: inner.over }
    }

    /// The number of the newest event.
    #[must_use]
    pub fn last(&self) -> u64 {
        self.lock().last
    }

    /// The id of an event.
    #[must_use]
    pub fn id(&self, number: u64) -> String {
        format!("{}-{number}", self.epoch)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn numbers(missed: Option<Vec<Arc<LiveEvent>>>) -> Option<Vec<u64>> {
        missed.map(|m| m.iter().map(|e| e.number).collect())
    }

    #[test]
    fn a_watcher_that_comes_back_gets_what_it_missed() {
        let hub = Hub::default();
        for n in 0..5 {
            hub.publish("change", n.to_string());
        }
        assert_eq!(numbers(hub.subscribe(Some(&hub.id(3))).missed), Some(vec![4, 5]));
        assert_eq!(numbers(hub.subscribe(Some(&hub.id(5))).missed), Some(vec![]));
        assert_eq!(numbers(hub.subscribe(None).missed), None);
    }

    #[test]
    fn a_watcher_of_another_epoch_or_from_too_long_ago_takes_a_snapshot() {
        let hub = Hub::default();
        for n in 0..1000 {
            hub.publish("change", n.to_string());
        }
        assert!(hub.subscribe(Some(&hub.id(3))).missed.is_none());
        assert!(hub.subscribe(Some("00000000-1000")).missed.is_none());
        assert!(hub.subscribe(Some(&hub.id(5000))).missed.is_none());
        assert!(hub.subscribe(Some("nonsense")).missed.is_none());
    }

    #[test]
    fn for_one_that_was_merely_cut_off_events_are_kept() {
        let hub = Hub::default();
        assert!(!hub.watched(), "nobody has come yet");
        drop(hub.subscribe(None));
        assert!(hub.watched());
        hub.lock().watched_at = Instant::now().checked_sub(COMING_BACK);
        assert!(!hub.watched(), "it did not come back");
    }

    #[test]
    fn what_nobody_watched_is_not_lost_on_one_who_comes_back() {
        let hub = Hub::default();
        hub.publish("change", "seen".into());
        let seen = hub.id(hub.last());
        assert_eq!(numbers(hub.subscribe(Some(&seen)).missed), Some(vec![]));
        hub.pass_over();
        assert!(hub.subscribe(Some(&seen)).missed.is_none(), "it takes a snapshot");
        let since = hub.id(hub.last());
        hub.publish("change", "later".into());
        assert_eq!(numbers(hub.subscribe(Some(&since)).missed), Some(vec![3]));
        assert!(hub.subscribe(Some(&seen)).missed.is_none());
    }

    #[test]
    fn what_is_kept_is_bounded_in_bytes_too() {
        let hub = Hub::default();
        for _ in 0..20 {
            hub.publish("change", "x".repeat(1 << 20));
        }
        assert_eq!(numbers(hub.subscribe(Some(&hub.id(14))).missed).map(|n| n.len()), Some(6));
        assert!(hub.subscribe(Some(&hub.id(13))).missed.is_none(), "it takes a snapshot");
    }
}
