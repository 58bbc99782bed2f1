//! What a running attempt has printed, as far as it is held.

/// So many bytes of an attempt's output are held; what is older is in the log when the attempt has ended.
pub(crate) const MOST: usize = 256 << 10;

/// What a running attempt has printed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Output {
    /// The batch in which the entry runs; none while it waits, or is over.
    pub batch: Option<u32>,
    /// The place of the text's first byte in all that was printed.
    pub from: u64,
    pub text: String,
    /// Grows with every change of where the entry runs.
    pub turn: u64,
    /// Nothing more will come: the run is over.
    pub over: bool,
}

impl Output {
    /// Takes a piece in. A piece that does not follow on what is there takes its place: something between was lost.
    pub(crate) fn add(&mut self, from: u64, piece: &str) {
        if from == self.from + self.text.len() as u64 {
            self.text += piece;
        } else {
            (self.from, self.text) = (from, piece.to_owned());
        }
        let mut drop = self.text.len().saturating_sub(MOST);
        while !self.text.is_char_boundary(drop) {
            drop += 1;
        }
        self.text.drain(..drop);
        self.from += drop as u64;
    }

    /// What comes after the first `sent` bytes, and whether something between was lost.
    #[must_use]
    pub fn after(&self, sent: u64) -> (&str, bool) {
        let end = self.from + self.text.len() as u64;
        if sent >= end {
            return ("", false);
        }
        let skip = sent.saturating_sub(self.from) as usize;
        (self.text.get(skip..).unwrap_or(&self.text), sent < self.from)
    }

    /// How many bytes were printed.
    #[must_use]
    pub fn end(&self) -> u64 {
        self.from + self.text.len() as u64
    }
}
