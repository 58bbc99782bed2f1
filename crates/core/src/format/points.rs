//! TAP of a process, or of a file that one left: of tests, or of files whose points are their cases.

use super::{
    subtests::SubtestReader,
    tap::{Tap, TapReader},
};

/// The reader of a process's TAP: of tests, or of files with their cases.
#[derive(Debug)]
pub enum Points {
    OfTests(TapReader),
    OfFiles(SubtestReader),
}

impl Points {
    /// A reader for tests, or for files with their cases.
    #[must_use]
    pub fn new(of_files: bool) -> Self {
        if of_files { Self::OfFiles(SubtestReader::default()) } else { Self::OfTests(TapReader::default()) }
    }

    /// Reads one line, without its end.
    pub fn line(&mut self, line: &str) -> Vec<Tap> {
        match self {
            Self::OfTests(reader) => reader.line(line),
            Self::OfFiles(reader) => reader.line(line),
        }
    }

    /// Gives out a failing point that was held back.
    pub fn release(&mut self) -> Vec<Tap> {
        match self {
            Self::OfTests(reader) => reader.release().into_iter().collect(),
            Self::OfFiles(reader) => reader.release(),
        }
    }

    /// Whether a failing point is held back.
    #[must_use]
    pub fn holds_back(&self) -> bool {
        match self {
            Self::OfTests(reader) => reader.holds_back(),
            Self::OfFiles(reader) => reader.holds_back(),
        }
    }

    /// The output is over.
    pub fn finish(&mut self) -> Vec<Tap> {
        match self {
            Self::OfTests(reader) => reader.finish(),
            Self::OfFiles(reader) => reader.finish(),
        }
    }
}
