//! The workers that the floor knows, their links and their slots.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    time::Duration,
};

use chrono::{DateTime, Utc};
use kesmo_core::{
    run::{
        Fit, WorkerId,
        load::{Load, Turn},
    },
    suite::container::OFFER,
    time::{Span, Timestamp},
};
use kesmo_wire::link::{BatchKey, Hello, ToWorker};
use tokio::{sync::mpsc, time::Instant};

use crate::clock::now;

/// Why a worker's link is not taken.
#[derive(Debug, PartialEq, Eq)]
pub enum NotLinked {
    Refused(String),
    /// Not now: it may try again.
    Later(String),
    /// Another service carries out the runs of its pool.
    Elsewhere(String),
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Use {
    Idle,
    Batch(BatchKey),
    Listing(String),
}

pub(crate) struct Known {
    pub(crate) name: String,
    pub(crate) pool: String,
    pub(crate) offers: BTreeMap<String, String>,
    pub(crate) process: String,
    pub(crate) home: String,
    pub(crate) slots: Vec<Use>,
    pub(crate) trouble: Vec<bool>,
    pub(crate) link: Option<(u64, mpsc::Sender<ToWorker>)>,
    pub(crate) since: DateTime<Utc>,
    /// When a slot of it was freed last.
    pub(crate) idle_since: Timestamp,
    /// When a worker without a link is given up.
    pub(crate) lost_at: Option<Instant>,
    pub(crate) load: Load,
    /// The only run that it works for.
    pub(crate) only_run: Option<String>,
    /// It is to finish what it has and take nothing new.
    pub(crate) draining: bool,
}

impl Known {
    /// Whether it may work for a run: of its pool, or the one that it is lent to.
    fn is_for(&self, pool: &str, run: Option<&str>) -> bool {
        match &self.only_run {
            Some(only) => run == Some(only),
            None => self.pool == pool,
        }
    }

    fn offers_all(&self, needs: &BTreeMap<String, String>) -> bool {
        needs.iter().all(|(n, v)| self.offers.get(n) == Some(v))
    }

    fn busy(&self) -> u32 {
        self.slots.iter().filter(|s| **s != Use::Idle).count() as u32
    }
}

/// Who asks for workers.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Asking<'a> {
    pub pool: &'a str,
    /// `boarding-gate/42`; `None` for a list that no run waits for.
    pub run: Option<&'a str>,
    /// What each variant needs.
    pub needs: &'a [BTreeMap<String, String>],
}

/// All workers. A worker keeps its number as long as the service runs.
#[derive(Default)]
pub(crate) struct Workers {
    numbers: HashMap<String, WorkerId>,
    names: Vec<String>,
    pub(crate) known: BTreeMap<WorkerId, Known>,
    changed: BTreeSet<WorkerId>,
    gone: Vec<String>,
    /// Those that are to come no more.
    turned_away: BTreeSet<WorkerId>,
    /// Whose a link is, and who has a batch: there may be thousands of each, and every message asks.
    links: BTreeMap<u64, WorkerId>,
    batches: BTreeMap<BatchKey, WorkerId>,
}

impl Workers {
    /// The number of a name.
    pub fn number(&mut self, name: &str) -> WorkerId {
        let names = &mut self.names;
        *self.numbers.entry(name.to_owned()).or_insert_with(|| {
            names.push(name.to_owned());
            WorkerId(names.len() as u32 - 1)
        })
    }

    pub fn name(&self, worker: WorkerId) -> &str {
        self.names.get(worker.0 as usize).map_or("", String::as_str)
    }

    /// A worker of which rows say that it holds a batch: it has until `patience` is over to come back.
    pub fn expect(&mut self, name: &str, pool: &str, patience: Duration) -> WorkerId {
        let worker = self.number(name);
        self.known.entry(worker).or_insert_with(|| Known {
            name: name.to_owned(),
            pool: pool.to_owned(),
            offers: BTreeMap::new(),
            process: String::new(),
            home: String::new(),
            slots: Vec::new(),
            trouble: Vec::new(),
            link: None,
            since: Utc::now(),
            idle_since: now(),
            lost_at: Some(Instant::now() + patience),
            load: Load::new(0, false),
            only_run: None,
            draining: false,
        });
        worker
    }

    /// A worker is to come no more; false if it is here, or is away and may hold something.
    pub fn turn_away(&mut self, name: &str) -> bool {
        let worker = self.number(name);
        !self.known.contains_key(&worker) && {
            self.turned_away.insert(worker);
            true
        }
    }

    /// Takes a worker's link; tells whether it is another process than before. A name belongs to the worker that has it, also
    /// while that is away; another process takes it over only if it was started in the same home folder, which no two use at
    /// once.
    pub fn link_up(
        &mut self,
        hello: Hello,
        link: u64,
        sender: mpsc::Sender<ToWorker>,
    ) -> Result<(WorkerId, bool), NotLinked> {
        let worker = self.number(&hello.name);
        if self.turned_away.contains(&worker) {
            return Err(NotLinked::Refused(format!("{} is needed no more", hello.name)));
        }
        let before = self.known.get(&worker);
        if let Some(k) = before
            && k.process != hello.process
            && !k.process.is_empty()
            && (k.home != hello.home || k.home.is_empty())
        {
            let name = &hello.name;
            return Err(if k.link.is_some() && hello.back {
                NotLinked::Later(format!("it was away for too long, and another worker is named {name} meanwhile"))
            } else if k.link.is_some() {
                NotLinked::Refused(format!(
                    "a worker named {name} is here already: give this one another name with --name"
                ))
            } else {
                NotLinked::Later(format!("a worker named {name} was here and may come back: its name is not free yet"))
            });
        }
        let other_process = before.is_none_or(|k| k.process != hello.process);
        let since = before.filter(|_| !other_process).map_or_else(Utc::now, |k| k.since);
        let slots = usize::from(hello.slots);
        let fresh = || Load::new(u32::from(hello.slots), hello.ease);
        let load = before.filter(|_| !other_process).map_or_else(fresh, |k| k.load.clone());
        let known = Known {
            name: hello.name,
            pool: hello.pool,
            offers: hello.offers,
            process: hello.process,
            home: hello.home,
            slots: vec![Use::Idle; slots],
            trouble: vec![false; slots],
            link: Some((link, sender)),
            since,
            idle_since: now(),
            lost_at: None,
            load,
            only_run: hello.only_run,
            draining: hello.draining,
        };
        self.links.retain(|_, of| *of != worker);
        self.links.insert(link, worker);
        self.known.insert(worker, known);
        self.changed.insert(worker);
        Ok((worker, other_process))
    }

    pub fn of_link(&self, link: u64) -> Option<WorkerId> {
        // A worker that has linked anew has no other link any more.
        let has =
            |worker: &&WorkerId| self.known.get(worker).and_then(|k| k.link.as_ref()).is_some_and(|l| l.0 == link);
        self.links.get(&link).filter(has).copied()
    }

    /// A link went down: the worker has until `patience` is over to come back.
    pub fn link_down(&mut self, link: u64, patience: Duration) {
        if let Some(worker) = self.of_link(link)
            && let Some(known) = self.known.get_mut(&worker)
        {
            self.links.remove(&link);
            known.link = None;
            known.lost_at = Some(Instant::now() + patience);
            self.changed.insert(worker);
        }
    }

    /// The pools of the workers that are here.
    pub fn pools(&self) -> BTreeSet<String> {
        let linked = self.known.values().filter(|k| k.link.is_some() && k.only_run.is_none());
        linked.map(|k| k.pool.clone()).collect()
    }

    /// Lets go of the workers of a pool, which another service has: their links end, and they find it. False if there were none.
    pub fn cut_off(&mut self, pool: &str) -> bool {
        let of_pool: Vec<WorkerId> =
            self.known.iter().filter(|(_, k)| k.pool == pool).map(|(worker, _)| *worker).collect();
        for worker in &of_pool {
            self.remove(*worker);
        }
        !of_pool.is_empty()
    }

    pub fn next_loss(&self) -> Option<Instant> {
        self.known.values().filter_map(|k| k.lost_at).min()
    }

    /// Workers whose time is over.
    pub fn take_lost(&mut self) -> Vec<WorkerId> {
        let over = Instant::now();
        self.known.iter().filter(|(_, k)| k.lost_at.is_some_and(|t| t <= over)).map(|(w, _)| *w).collect()
    }

    pub fn remove(&mut self, worker: WorkerId) {
        if let Some(known) = self.known.remove(&worker) {
            self.changed.remove(&worker);
            self.links.retain(|_, of| *of != worker);
            self.batches.retain(|_, of| *of != worker);
            self.gone.push(known.name);
        }
    }

    /// Connected workers that a run may use, with their slots and the variants that they offer everything for.
    pub fn capable(&self, asking: Asking<'_>) -> BTreeMap<WorkerId, Fit> {
        let mut capable = BTreeMap::new();
        let may = |k: &Known| k.link.is_some() && !k.draining && k.is_for(asking.pool, asking.run);
        for (worker, known) in self.known.iter().filter(|(_, k)| may(k)) {
            let offered = asking.needs.iter().enumerate().filter(|(_, needs)| known.offers_all(needs));
            let variants: BTreeSet<u16> = offered.map(|(n, _)| n as u16).collect();
            if !variants.is_empty() {
                let variants = (variants.len() < asking.needs.len()).then_some(variants);
                capable.insert(*worker, Fit { slots: known.load.fill(), variants });
            }
        }
        capable
    }

    /// An attempt passed or failed: the worker may have become overloaded by it, or be relieved.
    pub fn attempt_ended(&mut self, worker: WorkerId, spent: Span, expected: Span) -> Option<Turn> {
        let known = self.known.get_mut(&worker)?;
        let busy = known.busy();
        let turn = known.load.ended(spent, expected, busy)?;
        self.changed.insert(worker);
        Some(turn)
    }

    /// Busy slots of a worker, and all of them.
    pub fn busy(&self, worker: WorkerId) -> (u32, u32) {
        self.known.get(&worker).map_or((0, 0), |k| (k.busy(), k.slots.len() as u32))
    }

    /// How many slots of a worker are filled.
    pub fn fills(&self, worker: WorkerId) -> u32 {
        self.known.get(&worker).map_or(0, |k| k.load.fill())
    }

    /// Whether a worker's tests take clearly longer than usual now.
    pub fn is_overloaded(&self, worker: WorkerId) -> bool {
        self.known.get(&worker).is_some_and(|k| k.load.overloaded().is_some())
    }

    /// Whether a worker takes nothing new and has nothing to do: nobody misses it.
    pub fn is_idle_and_draining(&self, worker: WorkerId) -> bool {
        self.known.get(&worker).is_some_and(|k| k.draining && k.busy() == 0)
    }

    /// The slots of a pool's connected workers.
    pub fn slots_in(&self, pool: &str) -> u32 {
        self.known.values().filter(|k| k.link.is_some() && k.is_for(pool, None)).map(|k| k.slots.len() as u32).sum()
    }

    /// The slots of a pool's connected workers that take something new and offer all of this.
    pub fn slots_offering(&self, pool: &str, needs: &BTreeMap<String, String>) -> u32 {
        let fits = |k: &&Known| k.link.is_some() && !k.draining && k.is_for(pool, None) && k.offers_all(needs);
        self.known.values().filter(fits).map(|k| k.slots.len() as u32).sum()
    }

    /// Why a run has no worker, and what to do about it.
    pub fn none_because(&self, pool: &str, needs: &BTreeMap<String, String>) -> String {
        let in_pool: Vec<&Known> = self.known.values().filter(|k| k.link.is_some() && k.pool == pool).collect();
        let (draining, in_pool): (Vec<&Known>, Vec<&Known>) = in_pool.into_iter().partition(|k| k.draining);
        if let Some(drained) = draining.iter().find(|k| k.offers_all(needs))
            && !in_pool.iter().any(|k| k.offers_all(needs))
        {
            let name = &drained.name;
            return format!(
                "waiting for a worker: {name} takes nothing new (drained); have it take work again with \
                 `kesmo worker drain {name} --undo`, or start another"
            );
        }
        let lacking = |need: &(&String, &String)| !in_pool.iter().any(|k| k.offers.get(need.0) == Some(need.1));
        let missing: Vec<(&String, &String)> = needs.iter().filter(lacking).collect();
        let all: Vec<(&String, &String)> = needs.iter().collect();
        let plain = all.iter().filter(|need| !is_engine(need));
        let offers: String = plain.map(|(n, v)| format!(" --offer {n}={v}")).collect();
        let socket = if all.iter().any(is_engine) {
            " where one is (it is found at the usual sockets, or named with --engine)"
        } else {
            ""
        };
        let start = format!("start one with `kesmo worker --pool {pool}{offers}`{socket}");
        if in_pool.is_empty() {
            format!("waiting for a worker{}: none is in the pool {pool}; {start}", that_offers(&all))
        } else if missing.is_empty() {
            format!("waiting for a worker{} together; {start}", that_offers(&all))
        } else {
            format!("waiting for a worker{}; {start}", that_offers(&missing))
        }
    }

    /// Idle slots of connected workers; those of workers with the most idle ones first, so that work is spread.
    pub fn idle_slots(&self) -> Vec<(WorkerId, u16)> {
        let mut idle: Vec<(usize, WorkerId, u16)> = Vec::new();
        for (worker, known) in self.known.iter().filter(|(_, k)| k.link.is_some() && !k.draining) {
            let busy = known.busy() as usize;
            let free = known.slots.iter().enumerate().filter(|(_, s)| **s == Use::Idle);
            // A worker that eases fills fewer slots than it has.
            let free = free.take((known.load.fill() as usize).saturating_sub(busy));
            idle.extend(free.enumerate().map(|(n, (slot, _))| (busy + n, *worker, slot as u16)));
        }
        idle.sort_unstable();
        idle.into_iter().map(|(_, worker, slot)| (worker, slot)).collect()
    }

    pub fn is_idle(&self, worker: WorkerId, slot: u16) -> bool {
        self.known.get(&worker).and_then(|k| k.slots.get(usize::from(slot))) == Some(&Use::Idle)
    }

    pub fn take(&mut self, worker: WorkerId, slot: u16, what: Use) {
        if let Use::Batch(key) = what {
            self.batches.insert(key, worker);
        }
        if let Some(place) = self.known.get_mut(&worker).and_then(|k| k.slots.get_mut(usize::from(slot))) {
            *place = what;
            self.changed.insert(worker);
        }
    }

    /// Frees the slot that is used so.
    pub fn free(&mut self, worker: WorkerId, what: &Use) {
        if let Some(known) = self.known.get_mut(&worker) {
            for place in known.slots.iter_mut().filter(|u| *u == what) {
                *place = Use::Idle;
                known.idle_since = now();
                self.changed.insert(worker);
            }
        }
    }

    /// Frees the slot of a batch, wherever it is.
    pub fn free_batch(&mut self, key: BatchKey) {
        if let Some(worker) = self.batches.remove(&key) {
            self.free(worker, &Use::Batch(key));
        }
    }

    pub fn touched(&mut self, worker: WorkerId, slot: u16, trouble: Option<bool>) {
        if let Some(known) = self.known.get_mut(&worker) {
            if let (Some(place), Some(trouble)) = (known.trouble.get_mut(usize::from(slot)), trouble) {
                *place = trouble;
            }
            self.changed.insert(worker);
        }
    }

    /// After a reconnect: these slots are busy, the others idle.
    pub fn set_busy(&mut self, worker: WorkerId, busy: &[(u16, BatchKey)]) {
        self.batches.retain(|_, of| *of != worker);
        self.batches.extend(busy.iter().map(|(_, key)| (*key, worker)));
        if let Some(known) = self.known.get_mut(&worker) {
            known.slots.iter_mut().filter(|u| matches!(u, Use::Batch(_))).for_each(|u| *u = Use::Idle);
            for (slot, key) in busy {
                if let Some(place) = known.slots.get_mut(usize::from(*slot)) {
                    *place = Use::Batch(*key);
                }
            }
        }
    }

    /// Has a worker finish what it has and take nothing new, or take work again. It is told, so that it says so itself when
    /// its link comes up anew.
    pub fn drain(&mut self, name: &str, drain: bool) -> bool {
        let Some(worker) = self.numbers.get(name).copied().filter(|w| self.known.contains_key(w)) else { return false };
        if let Some(known) = self.known.get_mut(&worker) {
            known.draining = drain;
            self.changed.insert(worker);
        }
        self.send(worker, ToWorker::Drain { drain });
        true
    }

    /// Sends to a worker, if it has a link. A worker that reads too slowly is cut off; it comes back and is told again.
    pub fn send(&mut self, worker: WorkerId, message: ToWorker) {
        if let Some(known) = self.known.get_mut(&worker)
            && let Some((_, sender)) = &known.link
            && let Err(mpsc::error::TrySendError::Full(_)) = sender.try_send(message)
        {
            tracing::warn!(worker = known.name, "a worker reads too slowly; its link is cut");
            known.link = None;
            known.lost_at = Some(Instant::now() + Duration::from_secs(10));
        }
    }

    pub fn changed(&self) -> bool {
        !self.changed.is_empty() || !self.gone.is_empty()
    }

    pub fn take_changes(&mut self) -> (Vec<WorkerId>, Vec<String>) {
        (std::mem::take(&mut self.changed).into_iter().collect(), std::mem::take(&mut self.gone))
    }
}

fn is_engine(need: &(&String, &String)) -> bool {
    (need.0.as_str(), need.1.as_str()) == OFFER
}

/// What a worker is to offer, in words.
fn that_offers(needs: &[(&String, &String)]) -> String {
    let plain: Vec<String> = needs.iter().filter(|need| !is_engine(need)).map(|(n, v)| format!("{n}={v}")).collect();
    match (plain.is_empty(), needs.iter().any(is_engine)) {
        (true, false) => String::new(),
        (false, false) => format!(" that offers {}", plain.join(", ")),
        (true, true) => " that has a container engine".to_owned(),
        (false, true) => format!(" that offers {} and has a container engine", plain.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn offers(pairs: &[(&str, &str)]) -> BTreeMap<String, String> {
        pairs.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect()
    }

    fn hello(name: &str, slots: u16, process: &str, offer: &[(&str, &str)]) -> Hello {
        Hello {
            name: name.into(),
            pool: "main".into(),
            slots,
            offers: offers(offer),
            process: process.into(),
            home: String::new(),
            version: kesmo_wire::link::VERSION,
            back: false,
            holds: Vec::new(),
            listing: Vec::new(),
            held_back: Vec::new(),
            ease: false,
            only_run: None,
            draining: false,
        }
    }

    fn capable(workers: &Workers, pool: &str, needs: &[(&str, &str)]) -> BTreeMap<WorkerId, Fit> {
        workers.capable(Asking { pool, run: None, needs: &[offers(needs)] })
    }

    fn link() -> mpsc::Sender<ToWorker> {
        mpsc::channel(1).0
    }

    fn two() -> (Workers, WorkerId, WorkerId) {
        let mut workers = Workers::default();
        let (heron, _) = workers.link_up(hello("heron", 2, "p1", &[("os", "linux")]), 1, link()).unwrap();
        let (tern, _) =
            workers.link_up(hello("tern", 1, "p2", &[("os", "linux"), ("browser", "chromium")]), 2, link()).unwrap();
        (workers, heron, tern)
    }

    #[tokio::test]
    async fn a_name_belongs_to_one_process_at_a_time() {
        let (mut workers, heron, _) = two();
        let refused = workers.link_up(hello("heron", 2, "other", &[]), 3, link()).unwrap_err();
        let NotLinked::Refused(why) = refused else { panic!("{refused:?}") };
        assert!(why.contains("a worker named heron is here already"), "{why}");
        assert_eq!(workers.link_up(hello("heron", 2, "p1", &[]), 4, link()), Ok((heron, false)), "a link anew");
        workers.link_down(1, Duration::from_secs(1));
        assert!(workers.next_loss().is_none(), "an old link's end does not matter");
        workers.link_down(4, Duration::from_secs(1));
        assert!(workers.next_loss().is_some());
        let later = workers.link_up(hello("heron", 2, "other", &[]), 5, link());
        assert!(matches!(later, Err(NotLinked::Later(_))), "while it is away its name stays its own");
        assert_eq!(workers.link_up(hello("heron", 2, "p1", &[]), 6, link()), Ok((heron, false)));
        workers.remove(heron);
        assert_eq!(workers.link_up(hello("heron", 2, "other", &[]), 7, link()), Ok((heron, true)), "once it is lost");
        let back = Hello { back: true, ..hello("heron", 2, "p1", &[]) };
        assert!(matches!(workers.link_up(back, 8, link()), Err(NotLinked::Later(_))), "it waits and does not end");
    }

    #[tokio::test]
    async fn links_and_batches_are_found_as_they_are_now() {
        let (mut workers, heron, tern) = two();
        let key = |batch| BatchKey { run: 1, batch };
        workers.take(heron, 0, Use::Batch(key(1)));
        workers.take(tern, 0, Use::Batch(key(2)));
        assert_eq!((workers.of_link(1), workers.of_link(2), workers.of_link(3)), (Some(heron), Some(tern), None));
        // It links anew, in another slot than was known.
        workers.link_up(hello("heron", 2, "p1", &[]), 7, link()).unwrap();
        workers.set_busy(heron, &[(1, key(3))]);
        assert_eq!((workers.of_link(1), workers.of_link(7)), (None, Some(heron)), "the old link is nobody's");
        workers.free_batch(key(1));
        assert!(workers.is_idle(heron, 0) && !workers.is_idle(heron, 1), "what it no longer has frees nothing");
        workers.free_batch(key(3));
        assert!(workers.is_idle(heron, 1) && !workers.is_idle(tern, 0));
        workers.link_down(7, Duration::from_secs(1));
        assert_eq!(workers.of_link(7), None);
        workers.remove(tern);
        assert_eq!(workers.of_link(2), None);
        workers.free_batch(key(2));
    }

    #[tokio::test]
    async fn who_is_turned_away_never_links_and_who_may_hold_something_is_not_turned_away() {
        let (mut workers, heron, tern) = two();
        assert!(!workers.turn_away("heron"), "it is here, and may have been given a test since it was asked about");
        workers.link_down(2, Duration::from_secs(1));
        assert!(!workers.turn_away("tern"), "it may come back to what it holds");
        assert_eq!(workers.link_up(hello("tern", 1, "p2", &[]), 3, link()), Ok((tern, false)));
        assert_eq!(workers.link_up(hello("heron", 2, "p1", &[]), 4, link()), Ok((heron, false)));

        assert!(workers.turn_away("knot"), "nobody of that name has come");
        let refused = workers.link_up(hello("knot", 1, "p3", &[]), 5, link()).unwrap_err();
        assert!(matches!(&refused, NotLinked::Refused(why) if why == "knot is needed no more"), "{refused:?}");
        assert!(workers.turn_away("knot"), "it is still not here");
        assert!(capable(&workers, "main", &[]).len() == 2, "and can be given nothing");
    }

    #[tokio::test]
    async fn a_worker_that_was_started_anew_in_its_home_takes_its_name_at_once() {
        let mut workers = Workers::default();
        let at_home = |process: &str, home: &str| Hello { home: home.into(), ..hello("heron", 1, process, &[]) };
        let (heron, _) = workers.link_up(at_home("p1", "77"), 1, link()).unwrap();
        assert!(matches!(workers.link_up(at_home("p2", "88"), 2, link()), Err(NotLinked::Refused(_))));
        assert_eq!(workers.link_up(at_home("p3", "77"), 3, link()), Ok((heron, true)), "its link may look alive still");
        workers.link_down(1, Duration::from_secs(9));
        assert!(workers.next_loss().is_none(), "the old link's end does not matter");
    }

    #[tokio::test]
    async fn a_worker_that_stays_away_is_lost_when_its_time_is_over() {
        let (mut workers, heron, _) = two();
        workers.link_down(1, Duration::ZERO);
        assert_eq!(workers.take_lost(), [heron]);
        workers.remove(heron);
        let (_, gone) = workers.take_changes();
        assert_eq!(gone, ["heron"]);
        assert_eq!(workers.number("heron"), heron, "its number stays its own");
    }

    #[tokio::test]
    async fn workers_are_found_by_pool_and_offers() {
        let (mut workers, heron, tern) = two();
        assert_eq!(capable(&workers, "main", &[]), BTreeMap::from([(heron, Fit::all(2)), (tern, Fit::all(1))]));
        assert_eq!(capable(&workers, "main", &[("browser", "chromium")]), BTreeMap::from([(tern, Fit::all(1))]));
        assert!(capable(&workers, "night", &[]).is_empty());
        workers.link_down(2, Duration::from_secs(9));
        assert!(capable(&workers, "main", &[("browser", "chromium")]).is_empty(), "it is away");
    }

    #[tokio::test]
    async fn why_there_is_no_worker_says_what_to_start() {
        let (workers, ..) = two();
        let because = |pool: &str, needs: &[(&str, &str)]| workers.none_because(pool, &offers(needs));
        assert_eq!(
            because("main", &[("browser", "lantern")]),
            "waiting for a worker that offers browser=lantern; start one with \
             `kesmo worker --pool main --offer browser=lantern`"
        );
        assert_eq!(
            because("night", &[]),
            "waiting for a worker: none is in the pool night; start one with `kesmo worker --pool night`"
        );
        assert_eq!(
            because("main", &[("containers", "yes"), ("gpu", "none")]),
            "waiting for a worker that offers gpu=none and has a container engine; start one with \
             `kesmo worker --pool main --offer gpu=none` where one is (it is found at the usual sockets, or named with --engine)"
        );
        let mut apart = Workers::default();
        apart.link_up(hello("a", 1, "p", &[("os", "linux")]), 1, link()).unwrap();
        apart.link_up(hello("b", 1, "p", &[("browser", "chromium")]), 2, link()).unwrap();
        let said = apart.none_because("main", &offers(&[("os", "linux"), ("browser", "chromium")]));
        assert!(said.starts_with("waiting for a worker that offers browser=chromium, os=linux together"), "{said}");
    }

    #[tokio::test]
    async fn idle_slots_are_spread_over_workers() {
        let (mut workers, heron, tern) = two();
        assert_eq!(workers.idle_slots(), [(heron, 0), (tern, 0), (heron, 1)]);
        let key = BatchKey { run: 1, batch: 1 };
        workers.take(heron, 0, Use::Batch(key));
        assert_eq!(workers.idle_slots(), [(tern, 0), (heron, 1)]);
        assert!(!workers.is_idle(heron, 0) && workers.is_idle(heron, 1));
        workers.free_batch(key);
        assert!(workers.is_idle(heron, 0));
        assert!(!workers.is_idle(heron, 7), "there is no such slot");
    }

    #[tokio::test]
    async fn a_drained_worker_takes_nothing_new_until_it_is_taken_back() {
        let (mut workers, heron, tern) = two();
        assert!(workers.drain("heron", true) && !workers.drain("gull", true));
        assert_eq!(workers.idle_slots(), [(tern, 0)]);
        assert_eq!(capable(&workers, "main", &[]), BTreeMap::from([(tern, Fit::all(1))]));
        assert!(workers.drain("tern", true));
        let because = workers.none_because("main", &offers(&[("os", "linux")]));
        assert!(because.contains("kesmo worker drain heron --undo"), "{because}");
        let again = Hello { draining: true, ..hello("heron", 2, "p1", &[("os", "linux")]) };
        workers.link_down(1, Duration::from_secs(9));
        assert!(workers.link_up(again, 7, link()).is_ok());
        assert!(workers.idle_slots().is_empty(), "it says so itself when it comes back");
        assert!(workers.drain("heron", false));
        assert_eq!(workers.idle_slots(), [(heron, 0), (heron, 1)]);
    }

    #[tokio::test]
    async fn after_a_reconnect_only_what_is_held_is_busy() {
        let (mut workers, heron, _) = two();
        let held = BatchKey { run: 1, batch: 2 };
        workers.take(heron, 0, Use::Batch(BatchKey { run: 1, batch: 1 }));
        workers.take(heron, 1, Use::Listing("a-list".into()));
        workers.set_busy(heron, &[(0, held)]);
        assert!(!workers.is_idle(heron, 0) && !workers.is_idle(heron, 1), "the list goes on");
        workers.free(heron, &Use::Listing("a-list".into()));
        workers.free_batch(BatchKey { run: 1, batch: 1 });
        assert!(!workers.is_idle(heron, 0) && workers.is_idle(heron, 1));
    }

    #[tokio::test]
    async fn a_worker_that_does_not_read_is_cut_off() {
        let mut workers = Workers::default();
        let (sender, _receiver) = mpsc::channel(1);
        let (heron, _) = workers.link_up(hello("heron", 1, "p", &[]), 1, sender).unwrap();
        for number in 0..2 {
            workers.send(heron, ToWorker::Stored { number });
        }
        assert!(workers.of_link(1).is_none());
        assert!(workers.next_loss().is_some(), "it may come back");
    }
}
