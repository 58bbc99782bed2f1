//! Addresses in private networks that machines offer to the runs of a pool, and the connections to them that are being made.

use std::{
    collections::{BTreeMap, HashMap},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU32, AtomicU64, Ordering},
    },
};

use chrono::{DateTime, Utc};
use kesmo_files::secret::random_text;
use kesmo_wire::reach::{Address, Reachable, ToOfferer};
use rocket::data::IoStream;
use tokio::{
    net::TcpStream,
    sync::{mpsc, oneshot, watch},
};

/// The most connections that one offer has open at the same time.
const MOST_OPEN: u32 = 500;

/// An end of a connection, with its socket beside the web server's stream of it, where that could be had.
pub struct End {
    pub stream: IoStream,
    pub socket: Option<TcpStream>,
}

/// What comes of a connection that was asked for.
pub type Brought = Result<End, String>;

/// Everything that is offered, and waited for.
#[derive(Clone, Default)]
pub struct Reaches(Arc<Mutex<Inner>>);

#[derive(Default)]
struct Inner {
    /// By pool and name.
    offers: BTreeMap<(String, String), Offer>,
    /// Connections that machines were asked to make, by their numbers, with the link that was asked.
    waiting: HashMap<String, (u64, oneshot::Sender<Brought>)>,
}

struct Offer {
    link: u64,
    to: String,
    host: String,
    by: String,
    since: DateTime<Utc>,
    say: mpsc::Sender<ToOfferer>,
    /// Closed when the offer goes.
    stays: watch::Receiver<()>,
    open: Arc<AtomicU32>,
}

/// Keeps an offer; dropping it ends the offer, with all its connections.
pub struct Offering {
    reaches: Reaches,
    link: u64,
    pub pool: String,
    _stays: watch::Sender<()>,
}

/// A connection that is being made.
pub struct Opening {
    pub brought: oneshot::Receiver<Brought>,
    /// Ends when the offer goes.
    pub stays: watch::Receiver<()>,
    /// Counts the connection for as long as it is kept.
    pub counted: Counted,
    /// It is waited for as long as this is kept.
    pub waits: Waits,
}

/// Waits for a connection.
pub struct Waits {
    id: String,
    reaches: Reaches,
}

/// Counts an open connection.
pub struct Counted(Arc<AtomicU32>);

impl Drop for Counted {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Drop for Waits {
    fn drop(&mut self) {
        self.reaches.inner().waiting.remove(&self.id);
    }
}

/// Who offers.
pub struct Offerer {
    pub pool: String,
    pub host: String,
    pub by: String,
}

impl Reaches {
    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Offers addresses to a pool's runs, for as long as what is given back is kept.
    ///
    /// # Errors
    /// In words, if one of the names is offered already.
    pub fn offer(
        &self,
        from: Offerer,
        addresses: Vec<Address>,
        say: &mpsc::Sender<ToOfferer>,
    ) -> Result<Offering, String> {
        static LINKS: AtomicU64 = AtomicU64::new(1);
        let Offerer { pool, host, by } = from;
        let mut inner = self.inner();
        for address in &addresses {
            if let Some(other) = inner.offers.get(&(pool.clone(), address.name.clone())) {
                let (name, at) = (&address.name, other.since.format("%H:%M"));
                return Err(format!(
                    "{name} is offered to the pool {pool} already, since {at} UTC by {} from {}: end that, or offer it under another name",
                    other.by, other.host
                ));
            }
        }
        let link = LINKS.fetch_add(1, Ordering::Relaxed);
        let (stays, gone) = watch::channel(());
        for Address { name, to } in addresses {
            let offer = Offer {
                link,
                to,
                host: host.clone(),
                by: by.clone(),
                since: Utc::now(),
                say: say.clone(),
                stays: gone.clone(),
                open: Arc::default(),
            };
            inner.offers.insert((pool.clone(), name), offer);
        }
        drop(inner);
        Ok(Offering { reaches: self.clone(), link, pool, _stays: stays })
    }

    /// What is offered to a pool: names, each with where it leads, in words.
    pub fn of_pool(&self, pool: &str) -> BTreeMap<String, String> {
        let inner = self.inner();
        let of = inner.offers.iter().filter(|((p, _), _)| p == pool);
        of.map(|((_, name), o)| (name.clone(), format!("{} on {}, offered by {}", o.to, o.host, o.by))).collect()
    }

    /// Everything that is offered.
    pub fn all(&self) -> Vec<Reachable> {
        let inner = self.inner();
        let shown = |((pool, name), o): (&(String, String), &Offer)| Reachable {
            name: name.clone(),
            pool: pool.clone(),
            to: o.to.clone(),
            host: o.host.clone(),
            by: o.by.clone(),
            since: o.since,
            open: o.open.load(Ordering::Relaxed),
        };
        inner.offers.iter().map(shown).collect()
    }

    /// Asks the machine that offers a name for a connection.
    ///
    /// # Errors
    /// In words, if nobody offers it, or it has as many connections as it may.
    pub fn open(&self, pool: &str, name: &str) -> Result<Opening, String> {
        let mut inner = self.inner();
        let Some(offer) = inner.offers.get(&(pool.to_owned(), name.to_owned())) else {
            return Err(format!(
                "nobody offers {name} to the pool {pool} now (kesmo reach {name}=HOST:PORT --pool {pool})"
            ));
        };
        if offer.open.fetch_add(1, Ordering::Relaxed) >= MOST_OPEN {
            offer.open.fetch_sub(1, Ordering::Relaxed);
            return Err(format!("{name} has {MOST_OPEN} open connections, which is the most"));
        }
        let counted = Counted(Arc::clone(&offer.open));
        let id = random_text();
        if offer.say.try_send(ToOfferer::Open { id: id.clone(), name: name.to_owned() }).is_err() {
            return Err(format!("the machine that offers {name} does not keep up"));
        }
        let (sender, brought) = oneshot::channel();
        let (link, stays) = (offer.link, offer.stays.clone());
        inner.waiting.insert(id.clone(), (link, sender));
        drop(inner);
        Ok(Opening { brought, stays, counted, waits: Waits { id, reaches: self.clone() } })
    }

    /// Whether a connection of that number is waited for.
    pub fn is_waited_for(&self, id: &str) -> bool {
        self.inner().waiting.contains_key(id)
    }

    /// A connection was made; it is dropped where nobody waits for it any more.
    pub fn bring(&self, id: &str, end: End) {
        let waiting = self.inner().waiting.remove(id);
        if let Some((_, sender)) = waiting {
            drop(sender.send(Ok(end)));
        }
    }
}

impl Offering {
    /// A connection that was asked of this link cannot be made.
    pub fn failed(&self, id: &str, why: String) {
        let mut inner = self.reaches.inner();
        // Only what it was asked for itself is believed.
        if inner.waiting.get(id).is_some_and(|(link, _)| *link == self.link)
            && let Some((_, sender)) = inner.waiting.remove(id)
        {
            drop(inner);
            drop(sender.send(Err(why)));
        }
    }
}

impl Drop for Offering {
    fn drop(&mut self) {
        let mut inner = self.reaches.inner();
        inner.offers.retain(|_, offer| offer.link != self.link);
        inner.waiting.retain(|_, (link, _)| *link != self.link);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn offerer(pool: &str) -> Offerer {
        Offerer { pool: pool.into(), host: "heron".into(), by: "ada".into() }
    }

    fn gate() -> Vec<Address> {
        vec![Address { name: "gate".into(), to: "127.0.0.1:8080".into() }]
    }

    #[tokio::test]
    async fn an_offer_is_found_by_its_pool_and_goes_with_its_link() {
        let reaches = Reaches::default();
        let (say, mut told) = mpsc::channel(4);
        let offering = reaches.offer(offerer("main"), gate(), &say).unwrap();
        assert!(
            reaches.offer(offerer("main"), gate(), &say).err().unwrap().contains("offered to the pool main already")
        );
        assert!(reaches.offer(offerer("night"), gate(), &say).is_ok());
        assert!(reaches.open("night", "gate").err().unwrap().contains("nobody offers gate to the pool night now"));
        let opening = reaches.open("main", "gate").unwrap();
        assert_eq!(reaches.all()[0].open, 1);
        let Some(ToOfferer::Open { id, name }) = told.recv().await else { panic!("it is asked") };
        assert_eq!((name.as_str(), reaches.is_waited_for(&id)), ("gate", true));
        offering.failed("another", "no".into());
        offering.failed(&id, "refused".into());
        let mut opening = opening;
        assert_eq!((&mut opening.brought).await.unwrap().err().unwrap(), "refused");
        drop(opening);
        assert_eq!(reaches.all()[0].open, 0);
        let second = reaches.open("main", "gate").unwrap();
        drop(offering);
        assert!(reaches.all().is_empty() && second.stays.has_changed().is_err(), "it is cut");
        assert!(reaches.inner().waiting.is_empty());
    }

    #[tokio::test]
    async fn one_that_does_not_keep_up_is_told_and_what_is_given_up_is_not_waited_for() {
        let reaches = Reaches::default();
        let (say, _told) = mpsc::channel(1);
        let _offering = reaches.offer(offerer("main"), gate(), &say).unwrap();
        let first = reaches.open("main", "gate").unwrap();
        assert!(reaches.open("main", "gate").err().unwrap().contains("does not keep up"));
        drop(first);
        assert!(reaches.inner().waiting.is_empty() && reaches.all()[0].open == 0);
    }
}
