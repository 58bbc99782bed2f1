//! Time and sizes as values: moments, spans and byte counts, with the spelling that suite files and options use.

use std::{fmt, ops::Add};

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::error::Error;

/// A moment, in microseconds since 1970-01-01T00:00:00Z. The core never asks a clock; it is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
pub struct Timestamp(pub i64);

impl Timestamp {
    /// The span from `earlier` to this moment; zero if it lies ahead.
    #[must_use]
    pub fn since(self, earlier: Self) -> Span {
        Span(u64::try_from(self.0 - earlier.0).unwrap_or(0))
    }

    /// The moment as dates are reckoned with; 1970 for one that no date can hold.
    #[must_use]
    pub fn utc(self) -> DateTime<Utc> {
        DateTime::from_timestamp_micros(self.0).unwrap_or_default()
    }
}

impl From<DateTime<Utc>> for Timestamp {
    fn from(moment: DateTime<Utc>) -> Self {
        Self(moment.timestamp_micros())
    }
}

impl Add<Span> for Timestamp {
    type Output = Self;
    fn add(self, span: Span) -> Self {
        Self(self.0.saturating_add(i64::try_from(span.0).unwrap_or(i64::MAX)))
    }
}

/// A length of time in microseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
pub struct Span(pub u64);

impl Span {
    /// No time at all.
    pub const ZERO: Self = Self(0);

    /// The longest that anything is taken to have run. What comes over a network or out of a file may say anything.
    pub const LONGEST: Self = Self::seconds(366 * 86_400);

    /// A span of whole milliseconds.
    #[must_use]
    pub const fn millis(ms: u64) -> Self {
        Self(ms * 1000)
    }

    /// A span of whole seconds.
    #[must_use]
    pub const fn seconds(s: u64) -> Self {
        Self(s * 1_000_000)
    }

    /// The span in seconds.
    #[must_use]
    pub fn as_seconds(self) -> f64 {
        self.0 as f64 / 1e6
    }

    /// Reads `500ms`, `30s`, `5m` or `1h`, also with a fraction: `1.5s`.
    ///
    /// # Errors
    /// If there is no unit, or the number is not positive or is over a year.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let wrong = || Error::Quantity {
            what: "duration",
            value: text.to_owned(),
            example: "\"500ms\", \"30s\", \"5m\" or \"1h\"",
        };
        let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').ok_or_else(wrong)?;
        let number: f64 = text[..digits].parse().map_err(|_| wrong())?;
        let unit = match text[digits..].trim() {
            "ms" => 1e3,
            "s" => 1e6,
            "m" => 60e6,
            "h" => 3600e6,
            _ => return Err(wrong()),
        };
        let micros = number * unit;
        if micros > 366.0 * 86400e6 {
            return Err(wrong());
        }
        Ok(Self(micros.round() as u64))
    }
}

impl Span {
    /// As [`Span::parse`] reads it, in the largest unit that it is whole in.
    #[must_use]
    pub fn written(self) -> String {
        match self.0 {
            us if us > 0 && us % 3_600_000_000 == 0 => format!("{}h", us / 3_600_000_000),
            us if us > 0 && us % 60_000_000 == 0 => format!("{}m", us / 60_000_000),
            us if us % 1_000_000 == 0 => format!("{}s", us / 1_000_000),
            us => format!("{}ms", us.div_ceil(1000)),
        }
    }
}

impl From<std::time::Duration> for Span {
    fn from(span: std::time::Duration) -> Self {
        Self(u64::try_from(span.as_micros()).unwrap_or(u64::MAX))
    }
}

impl Add for Span {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl fmt::Display for Span {
    /// As a person reads it: `0.3 ms`, `48 ms`, `1.4 s`, `2 m 05 s`, `1 h 04 m`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let s = self.as_seconds();
        if self.0 == 0 {
            write!(f, "0 s")
        } else if s < 0.01 {
            write!(f, "{:.1} ms", s * 1e3)
        } else if s < 0.9995 {
            write!(f, "{:.0} ms", s * 1e3)
        } else if s < 9.95 {
            write!(f, "{s:.1} s")
        } else if s < 59.5 {
            write!(f, "{s:.0} s")
        } else {
            let whole = s.round() as u64;
            let (h, m, s) = (whole / 3600, whole / 60 % 60, whole % 60);
            if h > 0 { write!(f, "{h} h {m:02} m") } else { write!(f, "{m} m {s:02} s") }
        }
    }
}

/// A number of bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Bytes(pub u64);

impl Bytes {
    /// Reads `10 MiB`, `64KiB`, `1 GiB` or `500 B`.
    ///
    /// # Errors
    /// If there is no unit or no number.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let wrong =
            || Error::Quantity { what: "size", value: text.to_owned(), example: "\"64 KiB\", \"10 MiB\" or \"1 GiB\"" };
        let digits = text.find(|c: char| !c.is_ascii_digit()).ok_or_else(wrong)?;
        let number: u64 = text[..digits].parse().map_err(|_| wrong())?;
        let unit: u64 = match text[digits..].trim() {
            "B" => 1,
            "KiB" => 1 << 10,
            "MiB" => 1 << 20,
            "GiB" => 1 << 30,
            _ => return Err(wrong()),
        };
        number.checked_mul(unit).map(Self).ok_or_else(wrong)
    }
}

impl fmt::Display for Bytes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let b = self.0 as f64;
        match self.0 {
            0..1024 => write!(f, "{} B", self.0),
            1024..1_048_576 => write!(f, "{:.1} KiB", b / 1024.0),
            1_048_576..1_073_741_824 => write!(f, "{:.1} MiB", b / 1_048_576.0),
            _ => write!(f, "{:.1} GiB", b / 1_073_741_824.0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_need_a_unit() {
        assert_eq!(Span::parse("500ms").unwrap(), Span::millis(500));
        assert_eq!(Span::parse("1.5s").unwrap(), Span::millis(1500));
        assert_eq!(Span::parse("5m").unwrap(), Span::seconds(300));
        assert_eq!(Span::parse("1h").unwrap(), Span::seconds(3600));
        for bad in ["", "30", "s", "-1s", "1.2.3s", "5 days", "9999999h"] {
            assert!(Span::parse(bad).unwrap_err().to_string().contains("duration"), "{bad}");
        }
    }

    #[test]
    fn spans_read_as_a_person_says_them() {
        let said: Vec<String> =
            [0, 300, 48_000, 1_400_000, 12_300_000, 125_000_000, 3_840_000_000].map(|us| Span(us).to_string()).to_vec();
        assert_eq!(said, ["0 s", "0.3 ms", "48 ms", "1.4 s", "12 s", "2 m 05 s", "1 h 04 m"]);
    }

    #[test]
    fn durations_are_written_as_they_are_read() {
        for text in ["500ms", "90s", "5m", "2h", "0s"] {
            assert_eq!(Span::parse(text).unwrap().written(), text);
        }
    }

    #[test]
    fn sizes_are_binary() {
        assert_eq!(Bytes::parse("10 MiB").unwrap(), Bytes(10 << 20));
        assert_eq!(Bytes::parse("64KiB").unwrap().to_string(), "64.0 KiB");
        for bad in ["10", "ten MiB", "10 MB", "99999999999 GiB"] {
            assert!(Bytes::parse(bad).is_err(), "{bad}");
        }
    }
}
