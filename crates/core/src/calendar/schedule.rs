//! Schedules: when they start something, in words and as moments, and what becomes of a start that is due.
//!
//! A start is named by its planned moment. Whoever keeps schedules asks [`Schedule::due`] what to do once the planned
//! moment has come, and keeps every row of the answer; no planned moment is answered for twice as long as the next one is
//! asked for after the last.

use chrono::{DateTime, Days, NaiveDate, NaiveDateTime};
use serde::{Deserialize, Serialize};

use super::{cron::Cron, zone::Zone};
use crate::{
    error::Error,
    time::{Span, Timestamp},
};

/// A start that is found later than this after its planned moment was missed: no service was there for it.
pub const GRACE: Span = Span::seconds(60);
/// Missed starts that are counted singly; there may be more.
pub const MOST_MISSED: u32 = 100_000;
/// The longest spread, and the shortest pause of `--after-every`.
const LONGEST_SPREAD: Span = Span::seconds(12 * 3600);
const SHORTEST_PAUSE: Span = Span::seconds(1);
/// Moves of the clock are told for so long ahead.
const CHANGES_AHEAD: Span = Span::seconds(370 * 86_400);

/// What becomes of a start while the last run of its schedule still goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum IfBusy {
    /// It is left out.
    #[default]
    Skip,
    /// It starts when that run is over; at most one waits.
    Wait,
    /// That run is stopped.
    StopOld,
}

/// What becomes of starts that were due while no service was there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum IfMissed {
    /// One run stands for all of them.
    #[default]
    RunOnce,
    /// They are left out.
    Forget,
}

macro_rules! word_of {
    ($name:ident { $($variant:ident = $word:literal),* }) => {
        impl $name {
            /// Every word.
            pub const WORDS: &'static [&'static str] = &[$($word),*];

            /// Its word, as options and files write it.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),* }
            }

            /// The one of that word.
            #[must_use]
            pub fn of(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$variant),)* _ => None }
            }
        }
    };
}
word_of!(IfBusy { Skip = "skip", Wait = "wait", StopOld = "stop-old" });
word_of!(IfMissed { RunOnce = "run-once", Forget = "forget" });
word_of!(What { Start = "started", Wait = "waiting", Skip = "skipped", Missed = "missed", Refused = "refused" });

/// When a schedule starts something, as it is written.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Times {
    /// A cron expression of five fields.
    pub cron: Option<String>,
    /// The time zone of `cron`, `at` and `until`; none means UTC.
    pub zone: Option<String>,
    /// Once, at this time of the zone's clock: `2026-12-24 18:00`; or a moment with an offset: `2026-12-24T18:00:00+01:00`.
    pub at: Option<String>,
    /// So long after the last run of it has ended: `5m`.
    pub after_every: Option<String>,
    pub if_busy: IfBusy,
    pub if_missed: IfMissed,
    /// Each start comes later by a part of this, fixed by the schedule's name: `10m`.
    pub spread: Option<String>,
    /// The last day on which it starts something: `2026-12-31`.
    pub until: Option<String>,
}

/// When something is started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Timing {
    Cron(Cron),
    At(Timestamp),
    /// So long after the end of the last run.
    AfterEvery(Span),
}

/// A schedule, without what it starts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Schedule {
    pub timing: Timing,
    pub zone: Zone,
    pub if_busy: IfBusy,
    pub if_missed: IfMissed,
    pub until: Option<NaiveDate>,
    /// How much later than named every start comes.
    pub offset: Span,
    spread: Span,
}

/// What became of a planned start, or is to become of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum What {
    #[serde(rename = "started")]
    Start,
    /// It starts when the last run is over.
    #[serde(rename = "waiting")]
    Wait,
    #[serde(rename = "skipped")]
    Skip,
    /// No service was there.
    Missed,
    /// What it was to start cannot be started.
    Refused,
}

/// One planned start, or several that were missed in a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    pub planned: Timestamp,
    /// The last of several, and how many they are.
    pub to: Timestamp,
    pub count: u32,
    pub what: What,
    pub why: String,
}

/// What to do about the starts that are due.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Due {
    /// Oldest first; at most one of them starts or waits.
    pub rows: Vec<Row>,
    /// The run that still goes is to be stopped.
    pub stop_old: bool,
    /// The next planned start; none if nothing more comes, or not before the run that is started now is over.
    pub next: Option<Timestamp>,
}

/// How the runs of a schedule stand.
#[derive(Debug, Clone, Copy, Default)]
pub struct Standing<'a> {
    /// Its last run, if that still goes.
    pub busy: Option<&'a str>,
    /// An earlier start of it waits for that.
    pub waiting: bool,
}

impl Schedule {
    /// Reads a schedule of that name.
    ///
    /// # Errors
    /// If not exactly one of `cron`, `at` and `after_every` is given, or a value cannot be used.
    pub fn parse(name: &str, times: &Times) -> Result<Self, Error> {
        let wrong = |why: String| Error::Calendar(why);
        let zone = times.zone.as_deref().map_or(Ok(Zone::UTC), Zone::parse)?;
        let timing = match (&times.cron, &times.at, &times.after_every) {
            (Some(cron), None, None) => Timing::Cron(Cron::parse(cron)?),
            (None, Some(at), None) => Timing::At(moment(at, zone)?),
            (None, None, Some(every)) => {
                let every = Span::parse(every)?;
                if every < SHORTEST_PAUSE {
                    return Err(wrong(format!("--after-every {every} is too short: the least is {SHORTEST_PAUSE}")));
                }
                Timing::AfterEvery(every)
            }
            _ => {
                return Err(wrong(
                    "say when: exactly one of --cron \"15 2 * * 1-5\", --at \"2026-12-24 18:00\" and --after-every 5m"
                        .into(),
                ));
            }
        };
        let spread = times.spread.as_deref().map_or(Ok(Span::ZERO), Span::parse)?;
        if spread > LONGEST_SPREAD {
            return Err(wrong(format!("--spread {spread} is too long: the most is {LONGEST_SPREAD}")));
        }
        if spread > Span::ZERO && !matches!(timing, Timing::Cron(_)) {
            return Err(wrong("--spread is for --cron: with --at and --after-every the moment is given".into()));
        }
        let until = match &times.until {
            None => None,
            Some(day) => Some(NaiveDate::parse_from_str(day, "%Y-%m-%d").map_err(|_| {
                wrong(format!(
                    "--until {day:?} is not a valid date: write it like 2026-12-31; it is the last day with starts"
                ))
            })?),
        };
        let seconds = (spread.0 / 1_000_000).max(1);
        let offset = Span::seconds(crate::name::lasting_hash(name) % seconds);
        Ok(Self { timing, zone, if_busy: times.if_busy, if_missed: times.if_missed, until, offset, spread })
    }

    /// The first planned start after a moment. For a schedule with `--after-every` the moment is the end of its last run,
    /// or its making.
    #[must_use]
    pub fn next(&self, after: Timestamp) -> Option<Timestamp> {
        let offset = self.offset.0 as i64;
        let next = match &self.timing {
            Timing::At(at) => Some(*at).filter(|at| *at > after),
            Timing::AfterEvery(every) => Some(after + *every),
            Timing::Cron(cron) => {
                let after = Timestamp(after.0.saturating_sub(offset));
                let mut wall = self.zone.wall(after);
                // Of minutes that come twice only the first counts, so those of the second time lie behind.
                loop {
                    wall = cron.after(wall)?;
                    match self.zone.moment(wall) {
                        Some(moment) if moment > after => break Some(moment + self.offset),
                        _ => {}
                    }
                }
            }
        };
        let last_moment = |day: NaiveDate| self.zone.moment(day.checked_add_days(Days::new(1))?.and_hms_opt(0, 0, 0)?);
        let end = self.until.and_then(last_moment);
        next.filter(|n| end.is_none_or(|end| n.0.saturating_sub(offset) < end.0))
    }

    /// The next planned starts after a moment, at most so many. Those of `--after-every` cannot be told but for the first.
    #[must_use]
    pub fn upcoming(&self, after: Timestamp, most: usize) -> Vec<Timestamp> {
        let most = if matches!(self.timing, Timing::AfterEvery(_)) { most.min(1) } else { most };
        std::iter::successors(self.next(after), |last| self.next(*last)).take(most).collect()
    }

    /// The schedule in words: `at 02:15, Monday to Friday (Europe/Oslo), until 2026-12-31`.
    #[must_use]
    pub fn said(&self) -> String {
        let mut said = match &self.timing {
            Timing::Cron(cron) => format!("{} ({})", cron.said(), self.zone.name()),
            Timing::At(at) => format!("once, {}", self.zone.said(*at)),
            Timing::AfterEvery(every) => format!("{every} after the last run of it has ended"),
        };
        if self.spread > Span::ZERO {
            said += &format!(", {} later (its part of {})", self.offset, self.spread);
        }
        if let Some(until) = self.until {
            said += &format!(", until {until}");
        }
        said
    }

    /// What the moves of the clock do to its starts within the next year, a sentence each.
    #[must_use]
    pub fn clock_changes(&self, from: Timestamp) -> Vec<String> {
        let Timing::Cron(cron) = &self.timing else { return Vec::new() };
        let mut said = Vec::new();
        for change in self.zone.changes(from, from + CHANGES_AHEAD) {
            if self.until.is_some_and(|until| change.from.date() > until) {
                break;
            }
            let within = |(low, high): (NaiveDateTime, NaiveDateTime)| {
                let first = cron.after(low - chrono::Duration::minutes(1));
                let all = std::iter::successors(first, |w| cron.after(*w)).take_while(|w| *w < high);
                let all: Vec<NaiveDateTime> = all.collect();
                match all.as_slice() {
                    [] => None,
                    [one] => Some((format!("the start of {}", one.format("%H:%M")), "it")),
                    [first, .., last] => Some((
                        format!("the {} starts from {} to {}", all.len(), first.format("%H:%M"), last.format("%H:%M")),
                        "they",
                    )),
                }
            };
            let day = change.from.format("%a %Y-%m-%d");
            let hours = |low: NaiveDateTime, high: NaiveDateTime| {
                format!("{} to {}", low.format("%H:%M"), high.format("%H:%M"))
            };
            if let Some((low, high)) = change.skipped()
                && let Some((starts, they)) = within((low, high))
            {
                let run = if they == "it" { "runs" } else { "become one, which runs" };
                said.push(format!(
                    "{day}: the clock skips {}, {starts} {run} at {}",
                    hours(low, high),
                    high.format("%H:%M")
                ));
            }
            if let Some((low, high)) = change.repeated()
                && let Some((starts, they)) = within((low, high))
            {
                let run = if they == "it" { "runs" } else { "run" };
                said.push(format!(
                    "{day}: the clock shows {} twice, {starts} {run} only the first time",
                    hours(low, high)
                ));
            }
        }
        said
    }

    /// What to do about the planned starts from `next` to `now`, of which none is answered for yet.
    ///
    /// A start that is found within [`GRACE`] is due; earlier ones were missed. Of several that are due, the latest stands
    /// for all.
    #[must_use]
    pub fn due(&self, next: Timestamp, now: Timestamp, standing: Standing<'_>) -> Due {
        if next > now {
            return Due { next: Some(next), ..Due::default() };
        }
        let one_only = matches!(self.timing, Timing::AfterEvery(_));
        let (mut last, mut before, mut count) = (next, None, 1_u32);
        while !one_only && let Some(later) = self.next(last).filter(|n| *n <= now) {
            if count == MOST_MISSED {
                break;
            }
            before = Some(last);
            last = later;
            count += 1;
        }
        let after = if count == MOST_MISSED { self.next(now) } else { self.next(last) };
        let mut due = Due { next: after.filter(|_| !one_only), ..Due::default() };
        let late = last + GRACE < now;
        let left_out = late && self.if_missed == IfMissed::Forget;
        if let Some(to) = before.filter(|_| !left_out) {
            let why = if late { "no service was there" } else { "the service came late" };
            let why = format!("{why}; the start planned for {} stands for it", self.zone.said(last));
            due.rows.push(Row { planned: next, to, count: count - 1, what: What::Missed, why });
        }
        if left_out {
            due.rows.push(Row {
                planned: next,
                to: last,
                count,
                what: What::Missed,
                why: "no service was there".into(),
            });
            if one_only {
                due.next = self.next(now);
            }
            return due;
        }
        let (what, mut why) = match (standing.busy, self.if_busy) {
            (None, _) => (What::Start, String::new()),
            (Some(run), IfBusy::Skip) => (What::Skip, format!("{run} still goes")),
            (Some(run), IfBusy::Wait) if standing.waiting => {
                (What::Skip, format!("{run} still goes, and an earlier start waits for it"))
            }
            (Some(run), IfBusy::Wait) => (What::Wait, format!("{run} still goes")),
            (Some(run), IfBusy::StopOld) => {
                due.stop_old = true;
                (What::Start, format!("{run} was stopped for it"))
            }
        };
        if late {
            let by = Span((now.0 - last.0) as u64);
            let text = format!("{by} late: no service was there");
            why = if why.is_empty() { text } else { format!("{why}; {text}") };
        }
        due.rows.push(Row { planned: last, to: last, count: 1, what, why });
        due
    }

    /// The next planned start after the clock was put back, or has been wrong: never later than it is now.
    #[must_use]
    pub fn reckoned_anew(&self, next: Timestamp, now: Timestamp) -> Timestamp {
        if next <= now { next } else { self.next(now).map_or(next, |n| n.min(next)) }
    }
}

/// A moment with an offset, or a time of a zone's clock.
fn moment(text: &str, zone: Zone) -> Result<Timestamp, Error> {
    if let Ok(moment) = DateTime::parse_from_rfc3339(text) {
        return Ok(Timestamp(moment.timestamp_micros()));
    }
    let formats = ["%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S"];
    let wall = formats.iter().find_map(|f| NaiveDateTime::parse_from_str(text, f).ok());
    wall.and_then(|w| zone.moment(w)).ok_or_else(|| {
        Error::Calendar(format!(
            "--at {text:?} is not a valid time: write it like \"2026-12-24 18:00\" (of the zone's clock) or 2026-12-24T18:00:00+01:00"
        ))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::Utc;
    use proptest::prelude::*;

    fn at(text: &str) -> Timestamp {
        Timestamp(text.parse::<DateTime<Utc>>().unwrap().timestamp_micros())
    }

    fn times(cron: &str, zone: &str) -> Times {
        Times { cron: Some(cron.into()), zone: Some(zone.into()), ..Times::default() }
    }

    fn cron(text: &str, zone: &str) -> Schedule {
        Schedule::parse("nightly", &times(text, zone)).unwrap()
    }

    fn utc(moments: &[Timestamp]) -> Vec<String> {
        moments
            .iter()
            .map(|t| DateTime::from_timestamp_micros(t.0).unwrap().format("%m-%d %H:%M").to_string())
            .collect()
    }

    #[test]
    fn starts_around_clock_changes_in_many_zones() {
        // Expression, zone, from, and the next starts, all in UTC.
        let table: &[(&str, &str, &str, &[&str])] = &[
            // Oslo, spring: 02:00 becomes 03:00 on 28 March.
            ("15 2 * * *", "Europe/Oslo", "2027-03-27T00:00:00Z", &["03-27 01:15", "03-28 01:00", "03-29 00:15"]),
            // Every quarter of the skipped hour becomes the one start at 03:00.
            ("*/15 2-3 * * *", "Europe/Oslo", "2027-03-28T00:00:00Z", &["03-28 01:00", "03-28 01:15", "03-28 01:30"]),
            // Autumn: 03:00 becomes 02:00 on 25 October; the first 02:15 counts.
            ("15 2 * * *", "Europe/Oslo", "2026-10-24T12:00:00Z", &["10-25 00:15", "10-26 01:15", "10-27 01:15"]),
            ("15 2 * * *", "Europe/Oslo", "2026-10-25T00:15:00Z", &["10-26 01:15"]),
            ("15 2 * * *", "Europe/Oslo", "2026-10-25T01:05:00Z", &["10-26 01:15"]),
            ("*/30 * * * *", "Europe/Oslo", "2026-10-24T23:45:00Z", &["10-25 00:00", "10-25 00:30", "10-25 02:00"]),
            // New York moves at 02:00 local, at another date and other moments than Europe.
            ("30 2 * * *", "America/New_York", "2026-03-07T12:00:00Z", &["03-08 07:00", "03-09 06:30"]),
            ("30 1 * * *", "America/New_York", "2026-10-31T12:00:00Z", &["11-01 05:30", "11-02 06:30"]),
            // Lord Howe moves by half an hour.
            ("15 2 * * *", "Australia/Lord_Howe", "2026-10-03T00:00:00Z", &["10-03 15:30", "10-04 15:15"]),
            ("45 1 * * *", "Australia/Lord_Howe", "2026-04-03T18:00:00Z", &["04-04 14:45", "04-05 15:15"]),
            // Southern half of the world: Santiago moves at midnight.
            ("0 0 * * *", "America/Santiago", "2026-09-05T12:00:00Z", &["09-06 04:00", "09-07 03:00"]),
            // Samoa left out a whole day.
            ("0 12 * * *", "Pacific/Apia", "2011-12-29T00:00:00Z", &["12-29 22:00", "12-30 10:00", "12-30 22:00"]),
            // No summer time at all.
            ("0 2 * * *", "Asia/Tokyo", "2026-03-27T18:00:00Z", &["03-28 17:00", "03-29 17:00"]),
            ("15 2 * * 1-5", "UTC", "2026-11-20T12:00:00Z", &["11-23 02:15", "11-24 02:15"]),
            // A quarter of an hour beside the full one.
            ("0 0 * * *", "Asia/Kathmandu", "2026-11-23T00:00:00Z", &["11-23 18:15", "11-24 18:15"]),
        ];
        for (text, zone, from, next) in table {
            assert_eq!(utc(&cron(text, zone).upcoming(at(from), next.len())), *next, "{text} {zone} after {from}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(200) })]

        /// Against a search that looks at every minute: each start matches the expression on the zone's clock (or is the
        /// first minute after a skipped one that does), they strictly increase, and none is left out.
        #[test]
        fn next_starts_are_those_that_a_look_at_every_minute_finds(
            minute in prop_oneof!["\\*/(5|7|15|30)", "[0-5]?[0-9]"], hour in prop_oneof![Just("*".to_owned()), "[0-9]|1[0-9]|2[0-3]", "[0-3]-[4-6]"],
            day in prop_oneof![3 => Just("*"), 1 => Just("25-31"), 1 => Just("1,29")], weekday in prop_oneof![3 => Just("*"), 1 => Just("0"), 1 => Just("1-5")],
            zone in prop::sample::select(vec!["Europe/Oslo", "America/New_York", "Australia/Lord_Howe", "America/Santiago", "UTC", "Asia/Kathmandu"]),
            // Around the clock changes of 2026 and 2027, more or less.
            start in prop::sample::select(vec!["2026-03-07T00:00:00Z", "2026-03-28T12:00:00Z", "2026-04-04T00:00:00Z", "2026-09-05T10:00:00Z", "2026-10-03T00:00:00Z", "2026-10-24T10:00:00Z", "2026-10-31T18:00:00Z", "2027-03-27T20:00:00Z"]),
            late in 0_i64..2000, spread in 0_u64..3600,
        ) {
            let text = format!("{minute} {hour} {day} * {weekday}");
            let written = Times { spread: (spread > 0).then(|| format!("{spread}s")), ..times(&text, zone) };
            let schedule = Schedule::parse("nightly", &written).unwrap();
            let Timing::Cron(expression) = &schedule.timing else { unreachable!() };
            let from = Timestamp(at(start).0 + late * 60_000_000);
            let to = Timestamp(from.0 + 3 * 86_400_000_000);
            // The wall clock minute by minute, from a day before, so that what is skipped is seen too.
            let mut wanted: Vec<Timestamp> = Vec::new();
            let mut wall = schedule.zone.wall(Timestamp(from.0 - 2 * 86_400_000_000));
            while wall < schedule.zone.wall(to) + chrono::Duration::days(2) {
                if expression.names(wall) && let Some(moment) = schedule.zone.moment(wall) {
                    wanted.push(moment + schedule.offset);
                }
                wall += chrono::Duration::minutes(1);
            }
            wanted.sort();
            wanted.dedup();
            wanted.retain(|m| *m > from && *m <= to);
            let found: Vec<Timestamp> = schedule.upcoming(from, 5000).into_iter().take_while(|m| *m <= to).collect();
            prop_assert!(found.windows(2).all(|w| w[0] < w[1]));
            prop_assert_eq!(found, wanted);
        }

        /// Whatever stretches a service was away for, every planned start is answered for exactly once.
        #[test]
        fn every_planned_start_is_answered_for_exactly_once(
            text in prop::sample::select(vec!["*/5 * * * *", "0 * * * *", "15 2 * * *", "*/20 1-3 * * *"]),
            forget in any::<bool>(), busy in 0_u8..3, waits in prop::collection::vec(1_i64..400, 1..40),
        ) {
            let mut schedule = cron(text, "Europe/Oslo");
            schedule.if_missed = if forget { IfMissed::Forget } else { IfMissed::RunOnce };
            let from = at("2026-10-24T10:00:00Z");
            let mut now = from;
            let mut next = schedule.next(from);
            let mut answered: Vec<Timestamp> = Vec::new();
            for wait in waits {
                now = Timestamp(now.0 + wait * 60_000_000);
                let Some(planned) = next else { break };
                let standing = Standing { busy: (busy > 0).then_some("fares/7"), waiting: busy == 2 };
                let due = schedule.due(planned, now, standing);
                prop_assert!(due.rows.iter().filter(|r| matches!(r.what, What::Start | What::Wait)).count() <= 1);
                for row in due.rows {
                    let of_row = std::iter::successors(Some(row.planned), |p| schedule.next(*p)).take_while(|p| *p <= row.to);
                    let of_row: Vec<Timestamp> = of_row.collect();
                    prop_assert_eq!(of_row.len(), row.count as usize);
                    answered.extend(of_row);
                }
                prop_assert!(due.next.is_none_or(|n| n > now));
                next = due.next;
            }
            let wanted = std::iter::successors(schedule.next(from), |p| schedule.next(*p)).take_while(|m| *m <= now);
            prop_assert_eq!(answered, wanted.collect::<Vec<_>>());
        }
    }

    #[test]
    fn clock_changes_are_told_before_they_come() {
        let said = cron("15 2 * * *", "Europe/Oslo").clock_changes(at("2026-10-01T00:00:00Z"));
        assert_eq!(
            said,
            [
                "Sun 2026-10-25: the clock shows 02:00 to 03:00 twice, the start of 02:15 runs only the first time",
                "Sun 2027-03-28: the clock skips 02:00 to 03:00, the start of 02:15 runs at 03:00",
            ]
        );
        let many = cron("*/15 * * * *", "Europe/Oslo").clock_changes(at("2026-11-01T00:00:00Z"));
        assert!(many[0].ends_with("the 4 starts from 02:00 to 02:45 become one, which runs at 03:00"), "{many:?}");
        assert!(cron("0 5 * * *", "Europe/Oslo").clock_changes(at("2026-10-01T00:00:00Z")).is_empty());
        assert!(cron("15 2 * * *", "UTC").clock_changes(at("2026-10-01T00:00:00Z")).is_empty());
    }

    #[test]
    fn what_is_missed_runs_once_or_is_forgotten() {
        let mut schedule = cron("0 * * * *", "UTC");
        let (next, now) = (at("2026-11-23T01:00:00Z"), at("2026-11-23T04:30:00Z"));
        let due = schedule.due(next, now, Standing::default());
        let said: Vec<_> = due.rows.iter().map(|r| (r.what, r.count, r.why.as_str())).collect();
        assert_eq!(
            said,
            [
                (What::Missed, 3, "no service was there; the start planned for Mon 2026-11-23 04:00 UTC stands for it"),
                (What::Start, 1, "30 m 00 s late: no service was there"),
            ]
        );
        assert_eq!(due.next, Some(at("2026-11-23T05:00:00Z")));
        schedule.if_missed = IfMissed::Forget;
        let due = schedule.due(next, now, Standing::default());
        assert_eq!(due.rows.iter().map(|r| (r.what, r.count)).collect::<Vec<_>>(), [(What::Missed, 4)]);
        // Within the grace nothing was missed.
        let due = schedule.due(next, at("2026-11-23T01:00:59Z"), Standing::default());
        assert_eq!(due.rows.iter().map(|r| (r.what, r.why.as_str())).collect::<Vec<_>>(), [(What::Start, "")]);
        assert_eq!(schedule.due(next, at("2026-11-23T00:59:59Z"), Standing::default()).rows, []);
    }

    #[test]
    fn a_busy_schedule_skips_waits_or_stops_the_old_run() {
        let mut schedule = cron("0 * * * *", "UTC");
        let now = at("2026-11-23T01:00:00Z");
        let mut decide = |rule, waiting| {
            schedule.if_busy = rule;
            let due = schedule.due(now, now, Standing { busy: Some("fares/7"), waiting });
            (due.rows[0].what, due.rows[0].why.clone(), due.stop_old)
        };
        assert_eq!(decide(IfBusy::Skip, false), (What::Skip, "fares/7 still goes".into(), false));
        assert_eq!(decide(IfBusy::Wait, false), (What::Wait, "fares/7 still goes".into(), false));
        let twice = (What::Skip, "fares/7 still goes, and an earlier start waits for it".to_owned(), false);
        assert_eq!(decide(IfBusy::Wait, true), twice);
        assert_eq!(decide(IfBusy::StopOld, false), (What::Start, "fares/7 was stopped for it".into(), true));
    }

    #[test]
    fn once_and_after_every_are_planned_one_at_a_time() {
        let once = Times { at: Some("2026-12-24 18:00".into()), zone: Some("Europe/Oslo".into()), ..Times::default() };
        let once = Schedule::parse("eve", &once).unwrap();
        assert_eq!(once.upcoming(at("2026-11-23T00:00:00Z"), 5), [at("2026-12-24T17:00:00Z")]);
        assert_eq!(once.next(at("2026-12-24T17:00:00Z")), None);
        assert_eq!(once.said(), "once, Thu 2026-12-24 18:00 CET");
        let every = Times { after_every: Some("5m".into()), ..Times::default() };
        let every = Schedule::parse("loop", &every).unwrap();
        let end = at("2026-11-23T10:03:20Z");
        assert_eq!(every.upcoming(end, 5), [at("2026-11-23T10:08:20Z")]);
        let due = every.due(at("2026-11-23T10:08:20Z"), at("2026-11-23T12:00:00Z"), Standing::default());
        assert_eq!((due.rows.len(), due.rows[0].what, due.next), (1, What::Start, None));
    }

    #[test]
    fn spread_is_fixed_by_the_name_and_until_is_the_last_day() {
        let spread =
            Times { spread: Some("10m".into()), until: Some("2026-11-24".into()), ..times("0 2 * * *", "UTC") };
        let (one, two) = (Schedule::parse("fares", &spread).unwrap(), Schedule::parse("gates", &spread).unwrap());
        assert_eq!(one, Schedule::parse("fares", &spread).unwrap());
        assert_ne!(one.offset, two.offset);
        assert!(one.offset < Span::seconds(600) && two.offset < Span::seconds(600));
        let starts = one.upcoming(at("2026-11-23T00:00:00Z"), 5);
        assert_eq!(starts, [at("2026-11-23T02:00:00Z") + one.offset, at("2026-11-24T02:00:00Z") + one.offset]);
        assert!(one.said().contains("(its part of 10 m 00 s), until 2026-11-24"), "{}", one.said());
    }

    #[test]
    fn a_clock_that_was_wrong_does_not_silence_a_schedule() {
        let schedule = cron("0 2 * * *", "UTC");
        let (ahead, now) = (at("2031-05-01T02:00:00Z"), at("2026-11-23T12:00:00Z"));
        assert_eq!(schedule.reckoned_anew(ahead, now), at("2026-11-24T02:00:00Z"));
        let behind = at("2026-11-23T02:00:00Z");
        assert_eq!(schedule.reckoned_anew(behind, now), behind);
    }

    #[test]
    fn what_cannot_be_a_schedule_is_refused_with_a_way_out() {
        let said = |times: Times| Schedule::parse("x", &times).unwrap_err().to_string();
        assert!(said(Times::default()).contains("exactly one of --cron"));
        assert!(said(Times { at: Some("soon".into()), ..times("* * * * *", "UTC") }).contains("exactly one of"));
        assert!(
            said(Times { at: Some("soon".into()), ..Times::default() }).contains("--at \"soon\" is not a valid time")
        );
        assert!(said(Times { after_every: Some("1ms".into()), ..Times::default() }).contains("too short"));
        assert!(said(Times { after_every: Some("5".into()), ..Times::default() }).contains("duration"));
        assert!(said(Times { spread: Some("20h".into()), ..times("0 2 * * *", "UTC") }).contains("too long"));
        assert!(
            said(Times { until: Some("tomorrow".into()), ..times("0 2 * * *", "UTC") }).contains("is not a valid date")
        );
        assert!(said(times("0 2 * * *", "Europe/Olso")).contains("Europe/Oslo"));
    }
}
