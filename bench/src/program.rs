//! The test program of the measured suites: lists tests, or runs those named in a file and reports in TAP.

use std::io::{BufWriter, Write};

/// `names COUNT`: lists tests. `run MICROSECONDS FILE`: runs each test of a file by sleeping so long.
pub fn run(words: &[String]) {
    let mut out = BufWriter::new(std::io::stdout().lock());
    let number = |i: usize| words.get(i).and_then(|w| w.parse::<u64>().ok()).unwrap_or(0);
    let result = match words.first().map(String::as_str) {
        Some("names") => (0..number(1)).try_for_each(|i| writeln!(out, "bench/group-{}/test-{i}", i / 100)),
        Some("run") => {
            let pause = std::time::Duration::from_micros(number(1));
            let names = std::fs::read_to_string(words.get(2).map_or("", String::as_str)).unwrap_or_default();
            names.lines().enumerate().try_for_each(|(i, name)| {
                std::thread::sleep(pause);
                writeln!(out, "ok {} - {name}", i + 1)?;
                out.flush()
            })
        }
        _ => writeln!(out, "names COUNT or run MICROSECONDS FILE"),
    };
    if let Err(e) = result.and_then(|()| out.flush()) {
        eprintln!("kesmo-bench program: {e}");
    }
}
