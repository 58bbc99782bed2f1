//! Where the service is: of several addresses the one that answers, or the one that the service itself names.

use std::sync::{Mutex, PoisonError};

/// The addresses of a service, tried in turn.
#[derive(Debug)]
pub struct Address {
    known: Vec<String>,
    now: Mutex<(usize, Option<String>)>,
}

impl Address {
    /// The addresses of a list, split by commas.
    pub fn new(list: &str) -> Self {
        let known =
            list.split(',').map(|a| a.trim().trim_end_matches('/').to_owned()).filter(|a| !a.is_empty()).collect();
        Self { known, now: Mutex::new((0, None)) }
    }

    /// The address to call now.
    pub fn now(&self) -> String {
        let now = self.now.lock().unwrap_or_else(PoisonError::into_inner);
        now.1.clone().or_else(|| self.known.get(now.0).cloned()).unwrap_or_default()
    }

    /// The service names another address.
    pub fn go_to(&self, address: &str) {
        self.now.lock().unwrap_or_else(PoisonError::into_inner).1 = Some(address.trim_end_matches('/').to_owned());
    }

    /// Nobody answers there: what the service named is forgotten, else the next of the list is taken.
    pub fn next(&self) {
        let mut now = self.now.lock().unwrap_or_else(PoisonError::into_inner);
        if now.1.take().is_none() && !self.known.is_empty() {
            now.0 = (now.0 + 1) % self.known.len();
        }
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
    }
}
