//! How the suites of Lantern Quay went over the last weeks: which tests broke when, which wobble and why, which became slower.

use std::collections::BTreeMap;

use kesmo_core::time::Span;
use kesmo_sim::{
    Random,
    past::{Character, Wobble},
};

/// Workers of the made fleet, with two slots each.
pub const WORKERS: [&str; 3] = ["heron", "tern", "gull"];

/// How a suite runs: on which hours of the day, on weekdays only or always.
#[derive(Debug, Clone, Copy)]
pub struct Habit {
    pub suite: &'static str,
    pub hours: &'static [u32],
    pub at_weekends: bool,
    /// Its runs are of these tests only, at these hours: a pick.
    pub smoke_at: &'static [u32],
}

/// The suites with a past.
pub const HABITS: [Habit; 4] = [
    Habit { suite: "boarding-gate", hours: &[2, 11, 16], at_weekends: false, smoke_at: &[9, 14] },
    Habit { suite: "sailings", hours: &[2, 13], at_weekends: true, smoke_at: &[] },
    Habit { suite: "fares", hours: &[6, 15], at_weekends: false, smoke_at: &[] },
    Habit { suite: "berths", hours: &[3], at_weekends: true, smoke_at: &[] },
];

/// How the tests of a suite behave over so many days; those that are not told of here pass, in a time of their own.
#[must_use]
pub fn characters(suite: &str, days: f64) -> BTreeMap<&'static str, Character> {
    let mut found = BTreeMap::new();
    let mut tell = |test: &'static str, change: &dyn Fn(&mut Character)| {
        let mut character = usual(suite, test, None);
        change(&mut character);
        found.insert(test, character);
    };
    match suite {
        "boarding-gate" => {
            // It broke on a commit of nine days ago, and nobody mended it.
            tell("gate/late/closed_five_minutes_before", &|c| {
                c.broken = vec![(days - 9.0, f64::INFINITY)];
                c.says = "expected Closed, got Boarding".into();
            });
            tell("gate/scanner/bow_reads_a_wet_ticket", &|c| {
                c.wobble = Some(Wobble::OnWorker(0, 0.35));
                c.says = "the scanner read nothing: the ticket is wet".into();
            });
            tell("gate/scanner/stern_reads_a_wet_ticket", &|c| {
                c.wobble = Some(Wobble::Changing(0.01, 0.22));
                c.says = "the scanner read nothing: the ticket is wet".into();
            });
            tell("gate/crowd/all_passengers_board", &|c| {
                c.usual = Span::millis(900);
                c.slower = Some((days - 17.0, 1.8));
            });
            tell("gate/tickets/refuses_a_used_ticket", &|c| {
                c.broken = vec![(12.0, 14.0)];
                c.says = "a used ticket was taken".into();
            });
        }
        "sailings" => {
            tell("crossing/east-skerry/departure_07", &|c| {
                c.wobble = Some(Wobble::AtHours(0, 6, 0.3));
                c.says = "the tide table of today is not there yet".into();
            });
            tell("crossing/east-skerry/departure_09", &|c| {
                c.broken = vec![(20.0, 23.0), (31.0, 32.0)];
                c.says = "no berth at gull-rock".into();
            });
        }
        "fares" => {
            tell("fares/east-skerry/adult/summer/return", &|c| {
                c.broken = vec![(8.0, 9.0)];
                c.says = "expected 84 lanterns, got 82".into();
            });
        }
        "berths" => {
            tell("tables/berth_03_has_its_depth", &|c| {
                c.wobble = Some(Wobble::Changing(0.25, 0.0));
                c.says = "the depth was asked for while it was written".into();
            });
        }
        _ => {}
    }
    found
}

/// How a test behaves of which nothing is told: it passes, in a time that is its own.
#[must_use]
pub fn usual(suite: &str, test: &str, listed: Option<Span>) -> Character {
    let seed = format!("{suite}/{test}").bytes().fold(7_u64, |h, b| h.wrapping_mul(31).wrapping_add(u64::from(b)));
    let mut random = Random::new(seed);
    // About what they take when they are really run.
    let (middle, differ) = match suite {
        "fares" => (150.0, 0.5),
        "notices" => (22_000.0, 0.1),
        "berths" => (160_000.0, 0.6),
        _ => (31_000.0, 0.7),
    };
    let own = Span((middle * (differ * random.normal()).exp()) as u64);
    Character {
        usual: listed.filter(|span| *span > Span::ZERO).unwrap_or(own),
        spread: 0.06 + 0.06 * random.unit(),
        wobble: None,
        broken: Vec::new(),
        slower: None,
        says: "it failed".into(),
    }
}
