//! What processes print, word for word, for whoever tries a suite: it shows what was not read as a result.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
};

use kesmo_core::time::Span;
use kesmo_wire::link::BatchKey;

/// What is heard of each output of a process, at the most, in bytes.
const MOST: usize = 1 << 20;

/// What one process printed.
#[derive(Debug, Clone, Default)]
pub struct Heard {
    pub out: Vec<u8>,
    pub err: Vec<u8>,
    pub events: Vec<u8>,
    /// XML files that it wrote within the suite's folder and that were not read, by their paths.
    pub xml: Vec<String>,
    /// From its start to its end.
    pub took: Span,
}

impl Heard {
    pub(crate) fn add(to: &mut Vec<u8>, bytes: &[u8]) {
        to.extend(&bytes[..bytes.len().min(MOST - to.len().min(MOST))]);
    }
}

/// Keeps what the processes of batches print; the last process of each.
#[derive(Debug, Clone, Default)]
pub struct Hearing(Arc<Mutex<HashMap<BatchKey, Heard>>>);

impl Hearing {
    pub(crate) fn keep(&self, key: BatchKey, heard: Heard) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(key, heard);
    }

    /// What was heard of a batch; it is taken away.
    #[must_use]
    pub fn take(&self, key: BatchKey) -> Heard {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&key).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_heard_is_bounded() {
        let mut out = vec![b'x'; MOST - 1];
        Heard::add(&mut out, b"yz");
        assert_eq!((out.len(), out.last()), (MOST, Some(&b'y')));
        Heard::add(&mut out, b"more");
        assert_eq!(out.len(), MOST);
    }
}
