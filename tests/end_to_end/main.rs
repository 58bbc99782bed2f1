//! The house as a whole: the real program, a real PostgreSQL, real workers and processes, a real browser.

mod access;
mod api;
mod console;
mod covers;
mod engine;
mod failing;
mod files;
mod getting_in;
mod history;
mod holes;
mod images;
mod measures;
mod notices;
mod once;
mod planning;
mod pools;
mod quay;
mod reach;
mod readers;
mod runs;
mod secrets;
mod starting;
mod tls;
mod trouble;
mod verdicts;
mod watching;
