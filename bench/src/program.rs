//! The test program of the measured suites: lists tests, or runs those named in a file and reports in TAP.

use std::io::{BufWriter, Write};

/// Names and microseconds, `NAME MICROSECONDS` a line.
fn read_durations(file: Option<&String>) -> Vec<(String, u64)> {
    let text = std::fs::read_to_string(file.map_or("", String::as_str)).unwrap_or_default();
    let pair = |line: &str| line.split_once(' ').map(|(name, us)| (name.to_owned(), us.parse().unwrap_or(0)));
    text.lines().filter_map(pair).collect()
}

/// `names COUNT`: lists tests. `run MICROSECONDS FILE`: runs each test of a file by sleeping so long.
/// `uneven` does so with a duration for each test.
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
        Some("uneven") => {
            let durations: std::collections::HashMap<String, u64> = read_durations(words.get(1)).into_iter().collect();
            let names = std::fs::read_to_string(words.get(2).map_or("", String::as_str)).unwrap_or_default();
            names.lines().enumerate().try_for_each(|(i, name)| {
                std::thread::sleep(std::time::Duration::from_micros(durations.get(name).copied().unwrap_or(0)));
                writeln!(out, "ok {} - {name}", i + 1)?;
                out.flush()
            })
        }
        Some("cases") => {
            let file = words.get(2).map_or("", String::as_str);
            (0..number(1)).try_for_each(|i| writeln!(out, "ok {} - case {i} of {file}", i + 1))
        }
        Some("measure") => {
            let told = words.get(2).is_some_and(|word| word == "told");
            crate::measures::program(number(1), told, words.get(3).map_or("", String::as_str))
        }
        Some("report") => crate::reports::program(words.get(1).map_or("", String::as_str)),
        Some("reach") => {
            let word = |i: usize| words.get(i).map_or("", String::as_str);
            crate::reach::client(word(1), word(2))
        }
        Some("uneven-names") => {
            read_durations(words.get(1)).into_iter().try_for_each(|(name, _)| writeln!(out, "{name}"))
        }
        _ => writeln!(
            out,
            "names COUNT, run MICROSECONDS FILE, cases COUNT FILE, uneven-names DURATIONS or uneven DURATIONS FILE"
        ),
    };
    if let Err(e) = result.and_then(|()| out.flush()) {
        eprintln!("kesmo-bench program: {e}");
    }
}
