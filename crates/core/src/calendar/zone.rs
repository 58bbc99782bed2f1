//! Time zones: between the wall clock and the moments that it shows, also where it is moved.
//!
//! The zones are those of the IANA time zone database, which is built in.

use std::str::FromStr;

use chrono::{Duration, NaiveDateTime, Offset, TimeZone};
use chrono_tz::{OffsetName, TZ_VARIANTS, Tz};

use crate::{error::Error, name::nearest, time::Timestamp};

/// A time zone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Zone(Tz);

/// A move of the clock: from `from` of the wall clock to `to`, at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Change {
    pub at: Timestamp,
    /// What the wall clock would have shown, and what it shows.
    pub from: NaiveDateTime,
    pub to: NaiveDateTime,
}

impl Change {
    /// The minutes of the wall clock that are left out; the end is not one of them.
    #[must_use]
    pub fn skipped(&self) -> Option<(NaiveDateTime, NaiveDateTime)> {
        (self.to > self.from).then_some((self.from, self.to))
    }

    /// The minutes of the wall clock that come twice; the end is not one of them.
    #[must_use]
    pub fn repeated(&self) -> Option<(NaiveDateTime, NaiveDateTime)> {
        (self.to < self.from).then_some((self.to, self.from))
    }
}

impl Zone {
    /// Coordinated Universal Time, whose clock is never moved.
    pub const UTC: Self = Self(Tz::UTC);

    /// The zone of that name.
    ///
    /// # Errors
    /// If there is none; the message names the nearest.
    pub fn parse(text: &str) -> Result<Self, Error> {
        if let Ok(zone) = Tz::from_str_insensitive(text) {
            return Ok(Self(zone));
        }
        let known = TZ_VARIANTS.iter().map(|z| z.name());
        // A city alone is what people write first.
        let lower = text.to_lowercase().replace(' ', "_");
        let city = known.clone().find(|n| n.rsplit('/').next().is_some_and(|c| c.to_lowercase() == lower));
        let hint = match (city, nearest(text, known, 3).as_slice()) {
            (Some(zone), _) => format!("did you mean {zone}?"),
            (None, []) => "use a name like Europe/Oslo, or UTC".to_owned(),
            (None, near) => format!("did you mean {}?", near.join(" or ")),
        };
        Err(Error::Calendar(format!("there is not a valid time zone {text:?}: {hint}")))
    }

    /// The zone's name.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.0.name()
    }

    /// What the wall clock shows at a moment.
    #[must_use]
    pub fn wall(self, at: Timestamp) -> NaiveDateTime {
        at.utc().with_timezone(&self.0).naive_local()
    }

    /// A moment as it is read there: `Tue 2026-11-24 02:15 CET`.
    #[must_use]
    pub fn said(self, at: Timestamp) -> String {
        let local = at.utc().with_timezone(&self.0);
        let zone = local.offset().abbreviation().unwrap_or("");
        let seconds = if at.0 % 60_000_000 == 0 { "" } else { ":%S" };
        format!("{} {zone}", local.format(&format!("%a %Y-%m-%d %H:%M{seconds}"))).trim_end().to_owned()
    }

    /// The moment at which the wall clock shows this: the first where it comes twice; the next valid minute where it is
    /// skipped.
    #[must_use]
    pub fn moment(self, wall: NaiveDateTime) -> Option<Timestamp> {
        let mut wall = wall;
        // No clock was ever moved by more than a day (Samoa left out 30 December 2011).
        for _ in 0..=25 * 60 {
            if let Some(found) = self.0.from_local_datetime(&wall).earliest() {
                return Some(Timestamp(found.timestamp_micros()));
            }
            wall += Duration::minutes(1);
        }
        None
    }

    fn offset(self, at: Timestamp) -> i64 {
        i64::from(self.0.offset_from_utc_datetime(&at.utc().naive_utc()).fix().local_minus_utc())
    }

    /// The moves of the clock between two moments.
    #[must_use]
    pub fn changes(self, from: Timestamp, to: Timestamp) -> Vec<Change> {
        const STEP: i64 = 6 * 3600 * 1_000_000;
        let mut all = Vec::new();
        let mut at = from;
        while at < to {
            let next = Timestamp((at.0 + STEP).min(to.0));
            let (before, after) = (self.offset(at), self.offset(next));
            if before != after {
                let (mut low, mut high) = (at.0, next.0);
                while high - low > 1_000_000 {
                    let middle = low + (high - low) / 2;
                    if self.offset(Timestamp(middle)) == before { low = middle } else { high = middle }
                }
                let moved = Timestamp(high / 1_000_000 * 1_000_000);
                let shown = |offset: i64| moved.utc().naive_utc() + Duration::seconds(offset);
                all.push(Change { at: moved, from: shown(before), to: shown(after) });
            }
            at = next;
        }
        all
    }
}

impl FromStr for Zone {
    type Err = Error;
    fn from_str(text: &str) -> Result<Self, Error> {
        Self::parse(text)
    }
}

#[cfg(test)]
mod tests {
    use chrono::{DateTime, Utc};

    use super::*;

    fn at(text: &str) -> Timestamp {
        Timestamp(text.parse::<DateTime<Utc>>().unwrap().timestamp_micros())
    }

    fn wall(text: &str) -> NaiveDateTime {
        NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M").unwrap()
    }

    #[test]
    fn an_unknown_zone_names_the_nearest() {
        let said = |text: &str| Zone::parse(text).unwrap_err().to_string();
        assert_eq!(said("Europe/Olso"), "there is not a valid time zone \"Europe/Olso\": did you mean Europe/Oslo?");
        assert!(said("oslo").contains("did you mean Europe/Oslo?"));
        assert!(said("qqqqqqq").contains("use a name like Europe/Oslo, or UTC"));
        assert_eq!(Zone::parse("europe/oslo").unwrap().name(), "Europe/Oslo");
    }

    #[test]
    fn skipped_and_repeated_minutes_have_one_moment() {
        let oslo = Zone::parse("Europe/Oslo").unwrap();
        assert_eq!(oslo.moment(wall("2027-03-28 02:15")), Some(at("2027-03-28T01:00:00Z")));
        assert_eq!(oslo.moment(wall("2026-10-25 02:15")), Some(at("2026-10-25T00:15:00Z")));
        assert_eq!(oslo.moment(wall("2026-11-24 02:15")), Some(at("2026-11-24T01:15:00Z")));
        let apia = Zone::parse("Pacific/Apia").unwrap();
        assert_eq!(apia.moment(wall("2011-12-30 12:00")), Some(at("2011-12-30T10:00:00Z")));
    }

    #[test]
    fn moves_of_the_clock_are_found_to_the_second() {
        let oslo = Zone::parse("Europe/Oslo").unwrap();
        let found = oslo.changes(at("2026-01-01T00:00:00Z"), at("2027-01-01T00:00:00Z"));
        assert_eq!(
            found.iter().map(|c| c.at).collect::<Vec<_>>(),
            [at("2026-03-29T01:00:00Z"), at("2026-10-25T01:00:00Z")]
        );
        assert_eq!(found[0].skipped(), Some((wall("2026-03-29 02:00"), wall("2026-03-29 03:00"))));
        assert_eq!(found[1].repeated(), Some((wall("2026-10-25 02:00"), wall("2026-10-25 03:00"))));
        assert_eq!((found[0].repeated(), found[1].skipped()), (None, None));
        let howe = Zone::parse("Australia/Lord_Howe").unwrap();
        let half = howe.changes(at("2026-09-01T00:00:00Z"), at("2026-11-01T00:00:00Z"));
        assert_eq!(half[0].skipped(), Some((wall("2026-10-04 02:00"), wall("2026-10-04 02:30"))));
    }

    #[test]
    fn a_moment_is_said_as_it_is_read_there() {
        let oslo = Zone::parse("Europe/Oslo").unwrap();
        assert_eq!(oslo.said(at("2026-11-24T01:15:00Z")), "Tue 2026-11-24 02:15 CET");
        assert_eq!(oslo.said(at("2026-11-24T01:15:07Z")), "Tue 2026-11-24 02:15:07 CET");
        assert_eq!(Zone::UTC.said(at("2026-11-24T01:15:00Z")), "Tue 2026-11-24 01:15 UTC");
    }
}
