//! Days on which something ends.

use chrono::{DateTime, Datelike, Days, NaiveDate, NaiveTime, Utc};

use crate::refused::Refused;

/// What is to end does so within so many days.
const MOST_DAYS: u64 = 3660;

/// A day that is asked for by its date. PostgreSQL's times do not reach as far as those that are read here.
///
/// # Errors
/// A refusal, if it is none.
pub(super) fn day(name: &str, text: &str) -> Result<NaiveDate, Refused> {
    text.parse().ok().filter(|day: &NaiveDate| (1970..=9999).contains(&day.year())).ok_or_else(|| {
        Refused::invalid(format!("{name}={text:?} is not a valid day: write it like 2026-12-31, from 1970 on"))
    })
}

/// The day that is asked for: a date, or so many days or weeks ahead (`10d`, `2w`); none that has passed.
///
/// # Errors
/// A refusal, if it is none.
pub(super) fn day_of(text: &str, today: NaiveDate) -> Result<NaiveDate, Refused> {
    let ahead = |days: u64| today.checked_add_days(Days::new(days)).unwrap_or(NaiveDate::MAX);
    let counted = |unit: char, each: u64| {
        let count: u64 = text.strip_suffix(unit)?.trim().parse().ok()?;
        Some(ahead(count.saturating_mul(each).min(100_000)))
    };
    let day = NaiveDate::parse_from_str(text, "%Y-%m-%d").ok().or_else(|| counted('d', 1)).or_else(|| counted('w', 7));
    match day {
        None => Err(Refused::invalid(format!(
            "--until {text:?} is not a valid day: write it like {}, or 10d, or 2w",
            ahead(14)
        ))),
        Some(day) if day < today => Err(Refused::invalid(format!("--until {day} has passed; today is {today} by UTC"))),
        Some(day) => Ok(day),
    }
}

/// The end of the last day that is asked for.
///
/// # Errors
/// A refusal, if it is no day on which something can end.
pub(super) fn end_of(text: &str, today: NaiveDate) -> Result<DateTime<Utc>, Refused> {
    let day = day_of(text, today)?;
    if day > today.checked_add_days(Days::new(MOST_DAYS)).unwrap_or(day) {
        return Err(Refused::invalid(format!(
            "--until {day} is more than ten years away: leave it out, and end it when nobody needs it any more"
        )));
    }
    let next = day.checked_add_days(Days::new(1)).unwrap_or(day);
    Ok(next.and_time(NaiveTime::MIN).and_utc())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_day_is_a_date_or_so_many_days_ahead() {
        let today = NaiveDate::from_ymd_opt(2026, 12, 30).expect("a day");
        let day = |text| {
            end_of(text, today).and_then(|_| day_of(text, today)).map(|day| day.to_string()).map_err(|e| e.1.message)
        };
        assert_eq!(day("7d").as_deref(), Ok("2027-01-06"));
        assert_eq!(day("2w").as_deref(), Ok("2027-01-13"));
        assert_eq!(day("2026-12-30").as_deref(), Ok("2026-12-30"));
        assert_eq!(end_of("2d", today).expect("a moment").to_rfc3339(), "2027-01-02T00:00:00+00:00");
        for (wrong, why) in [
            ("2026-12-29", "has passed"),
            ("soon", "is not a valid day"),
            ("99999999999d", "ten years"),
            ("-3d", "not a valid"),
        ] {
            assert!(day(wrong).is_err_and(|said| said.contains(why)), "{wrong}");
        }
    }

    #[test]
    fn a_day_is_read_by_its_date_within_bounds() {
        assert_eq!(day("from", "2026-11-27").expect("a day").to_string(), "2026-11-27");
        for far in ["-9999-01-01", "1969-12-31", "+200000-01-01"] {
            assert!(day("from", far).is_err(), "{far}");
        }
        assert!(day("from", "27.11.").is_err_and(|e| e.1.message.contains("2026-12-31")));
    }
}
