//! Where the service is: of several addresses the one that answers, or the one that the service itself names.

use std::{
    sync::{Mutex, MutexGuard, PoisonError},
    time::Duration,
};

use tokio::time::Instant;

/// Another service may not know yet that one stands still, and send a worker there again: it does not go before whoever was silent for
/// so long has no lease of a pool any more (they last 7 s, and 8 s of an older one, from when they were renewed).
const SHUNNED: Duration = Duration::from_secs(9);

/// The addresses of a service, tried in turn.
#[derive(Debug)]
pub struct Address {
    known: Vec<String>,
    now: Mutex<Now>,
}

#[derive(Debug, Default)]
struct Now {
    /// Which of those that are known.
    at: usize,
    /// What a service named, which comes before that.
    named: Option<String>,
    /// Who says nothing, and since when.
    silent: Option<(String, Instant)>,
}

impl Address {
    /// The addresses of a list, split by commas.
    pub fn new(list: &str) -> Self {
        let known =
            list.split(',').map(|a| a.trim().trim_end_matches('/').to_owned()).filter(|a| !a.is_empty()).collect();
        Self { known, now: Mutex::default() }
    }

    fn lock(&self) -> MutexGuard<'_, Now> {
        self.now.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The address to call now.
    pub fn now(&self) -> String {
        let now = self.lock();
        now.named.clone().or_else(|| self.known.get(now.at).cloned()).unwrap_or_default()
    }

    /// The service names another address: that is the next, unless it may only not know yet that nothing comes from there.
    pub fn go_to(&self, address: &str) {
        let address = address.trim_end_matches('/');
        let mut now = self.lock();
        if !now.silent.as_ref().is_some_and(|(silent, since)| silent == address && since.elapsed() < SHUNNED) {
            now.named = Some(address.to_owned());
        }
    }

    /// Whether there is another address to turn to, should nobody answer at this one.
    pub fn has_others(&self) -> bool {
        let now = self.lock();
        let here = now.named.as_ref().or_else(|| self.known.get(now.at));
        self.known.iter().any(|known| Some(known) != here)
    }

    /// Nobody answers there: what the service named is forgotten, and if that was none, or the same as in the list, the next of the list
    /// is taken.
    pub fn next(&self) {
        let mut now = self.lock();
        let named = now.named.take();
        if !self.known.is_empty() && named.is_none_or(|named| named == self.known[now.at]) {
            now.at = (now.at + 1) % self.known.len();
        }
    }

    /// Who is called now takes connections and says nothing, or has gone without a word, since then: the next is taken, and nobody's
    /// word for this one for a while.
    pub fn leave_silent(&self, since: Instant) {
        let silent = (self.now(), since);
        self.lock().silent = Some(silent);
        self.next();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_tried_in_turn_and_a_named_one_comes_first() {
        let address = Address::new("http://a/, http://b");
        assert_eq!(address.now(), "http://a");
        address.next();
        assert_eq!(address.now(), "http://b");
        address.go_to("http://c/");
        assert_eq!(address.now(), "http://c");
        address.next();
        assert_eq!(address.now(), "http://b");
        address.next();
        assert_eq!(address.now(), "http://a");
        // The one in the list named the other, and that named this one again: should it fall silent, the other is next.
        address.go_to("http://b");
        address.go_to("http://a");
        address.next();
        assert_eq!(address.now(), "http://b");
        // Who was silent is not gone to on another's word for a while, and is in its turn.
        address.leave_silent(Instant::now());
        assert_eq!(address.now(), "http://a");
        address.go_to("http://b/");
        assert_eq!(address.now(), "http://a");
        // Who is named although a lease would have run out since is alive.
        address.leave_silent(Instant::now().checked_sub(SHUNNED).expect("the machine has run for longer"));
        assert_eq!(address.now(), "http://b");
        address.go_to("http://a");
        assert_eq!(address.now(), "http://a");
        address.next();
        address.go_to("http://c");
        assert_eq!(address.now(), "http://c");
        address.next();
        address.next();
        assert_eq!(address.now(), "http://a");
        assert!(address.has_others());
        let only = Address::new("http://a");
        assert!(!only.has_others());
        only.next();
        assert_eq!(only.now(), "http://a");
        only.go_to("http://c");
        assert!(only.has_others());
    }
}
