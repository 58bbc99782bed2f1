//! Cron expressions: which minutes of the wall clock they name.
//!
//! The five fields are those of the `crontab` file in POSIX.1-2017 (minute, hour, day of the month, month, day of the
//! week), with the additions that are in use everywhere: steps (`*/10`, `10-40/5`), names (`MON`, `jan`), 7 for Sunday, and
//! the words `@hourly`, `@daily`, `@weekly`, `@monthly` and `@yearly`. As in POSIX, where both kinds of days are given
//! (neither is `*`), a day that fits either of them is named.

use chrono::{Datelike, Days, Months, NaiveDate, NaiveDateTime, NaiveTime, Timelike};

use crate::error::Error;

/// The longest gap between two days that an expression names: 29 February around a year such as 2100, which is none.
const LONGEST_GAP_DAYS: u32 = 366 * 9;

const MONTHS: [&str; 12] = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
const MONTH_NAMES: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];
const WEEKDAYS: [&str; 7] = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];
const WEEKDAY_NAMES: [&str; 7] = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"];

/// One of the five fields.
struct Kind {
    name: &'static str,
    low: u32,
    high: u32,
    names: &'static [&'static str],
}

const KINDS: [Kind; 5] = [
    Kind { name: "minute", low: 0, high: 59, names: &[] },
    Kind { name: "hour", low: 0, high: 23, names: &[] },
    Kind { name: "day of the month", low: 1, high: 31, names: &[] },
    Kind { name: "month", low: 1, high: 12, names: &MONTHS },
    Kind { name: "day of the week", low: 0, high: 7, names: &WEEKDAYS },
];

/// The values that a field names, a bit each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Field {
    bits: u64,
    /// It is `*`: every value.
    all: bool,
}

impl Field {
    fn has(self, value: u32) -> bool {
        self.bits >> value & 1 == 1
    }

    fn values(self) -> impl DoubleEndedIterator<Item = u32> {
        (0..64).filter(move |v| self.has(*v))
    }
}

/// A cron expression.
///
/// ```
/// use kesmo_core::calendar::cron::Cron;
/// assert_eq!(Cron::parse("15 2 * * 1-5").unwrap().said(), "at 02:15, Monday to Friday");
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cron {
    text: String,
    minutes: Field,
    hours: Field,
    days: Field,
    months: Field,
    weekdays: Field,
}

impl Cron {
    /// Reads an expression.
    ///
    /// # Errors
    /// If it does not have five fields, a field is wrong (the message says which, and what is allowed), or no day ever
    /// fits it.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let text = text.trim();
        let wrong = |why: String| Error::Calendar(format!("the cron expression {text:?} cannot be used: {why}"));
        let whole = match text.to_lowercase().as_str() {
            "@hourly" => "0 * * * *",
            "@daily" => "0 0 * * *",
            "@weekly" => "0 0 * * 0",
            "@monthly" => "0 0 1 * *",
            "@yearly" => "0 0 1 1 *",
            word if word.starts_with('@') => {
                return Err(wrong("known words are @hourly, @daily, @weekly, @monthly and @yearly".into()));
            }
            _ => text,
        };
        let parts: Vec<&str> = whole.split_whitespace().collect();
        let Ok(parts) = <[&str; 5]>::try_from(parts.as_slice()) else {
            return Err(wrong(format!(
                "it has {} fields and needs 5: minute, hour, day of the month, month, day of the week, like 15 2 * * 1-5",
                parts.len()
            )));
        };
        let mut fields = [Field { bits: 0, all: false }; 5];
        for (i, part) in parts.into_iter().enumerate() {
            fields[i] = field(&KINDS[i], part).map_err(|why| {
                let (kind, number) = (&KINDS[i], i + 1);
                let names = match kind.names {
                    [] => String::new(),
                    names => format!(", names {} to {}", names[0], names[names.len() - 1]),
                };
                wrong(format!(
                    "field {number} ({}) is {part:?}: {why}. Allowed are {} to {}{names}, lists (1,3), ranges (1-5), steps (*/2) \
                     and *",
                    kind.name, kind.low, kind.high
                ))
            })?;
        }
        let [minutes, hours, days, months, mut weekdays] = fields;
        // 7 is Sunday too.
        weekdays.bits = (weekdays.bits | weekdays.bits >> 7) & 0x7f;
        let cron = Self { text: text.to_owned(), minutes, hours, days, months, weekdays };
        let first = days.values().next().unwrap_or(1);
        if weekdays.all && !months.values().any(|m| first <= longest_month(m)) {
            let of: Vec<&str> = months.values().map(|m| MONTH_NAMES[m as usize - 1]).collect();
            return Err(wrong(format!("it never comes: {} has no day {first}", said_list(&of, "or"))));
        }
        Ok(cron)
    }

    /// The expression as it was written.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Whether that minute of the wall clock is named.
    #[must_use]
    pub fn names(&self, wall: NaiveDateTime) -> bool {
        self.minutes.has(wall.minute()) && self.hours.has(wall.hour()) && self.names_day(wall.date())
    }

    fn names_day(&self, day: NaiveDate) -> bool {
        let (of_month, of_week) = (self.days.has(day.day()), self.weekdays.has(day.weekday().num_days_from_sunday()));
        let fits = match (self.days.all, self.weekdays.all) {
            (false, false) => of_month || of_week,
            _ => of_month && of_week,
        };
        fits && self.months.has(day.month())
    }

    /// The first minute of the wall clock after `wall` that is named; none in the years that a date can hold.
    #[must_use]
    pub fn after(&self, wall: NaiveDateTime) -> Option<NaiveDateTime> {
        let mut day = wall.date();
        let rest_of_day = |from: Option<NaiveTime>, day: NaiveDate| {
            let later = |h: &u32, m: &u32| from.is_none_or(|t| (*h, *m) > (t.hour(), t.minute()));
            let times = self.hours.values().flat_map(|h| self.minutes.values().map(move |m| (h, m)));
            let first = times.into_iter().find(|(h, m)| later(h, m));
            first.and_then(|(h, m)| day.and_hms_opt(h, m, 0))
        };
        if self.names_day(day)
            && let Some(found) = rest_of_day(Some(wall.time()), day)
        {
            return Some(found);
        }
        for _ in 0..LONGEST_GAP_DAYS {
            day = if self.months.has(day.month()) {
                day.checked_add_days(Days::new(1))?
            } else {
                day.with_day(1)?.checked_add_months(Months::new(1))?
            };
            if self.names_day(day) {
                return rest_of_day(None, day);
            }
        }
        None
    }

    /// The expression in words: `at 02:15, Monday to Friday`.
    #[must_use]
    pub fn said(&self) -> String {
        let mut said = self.times_said();
        let days = (!self.days.all).then(|| {
            let all: Vec<String> = self.days.values().map(|d| d.to_string()).collect();
            format!("on day {} of the month", said_list(&runs_said(&self.days, |d| d.to_string(), all), "and"))
        });
        let weekdays = (!self.weekdays.all && self.weekdays.bits != 0x7f).then(|| {
            // From Monday on, as a week is read.
            let monday_first =
                Field { bits: (self.weekdays.bits >> 1 & 0x3f) | (self.weekdays.bits & 1) << 6, all: false };
            let name = |d: u32| WEEKDAY_NAMES[(d as usize + 1) % 7].to_owned();
            let all = monday_first.values().map(name).collect();
            said_list(&runs_said(&monday_first, name, all), "and")
        });
        match (days, weekdays) {
            (None, None) => {}
            (Some(days), None) => said += &format!(", {days}"),
            (None, Some(weekdays)) => said += &format!(", {weekdays}"),
            (Some(days), Some(weekdays)) => said += &format!(", {days} and also {weekdays}"),
        }
        if !self.months.all && self.months.bits != 0x1ffe {
            let name = |m: u32| MONTH_NAMES[m as usize - 1].to_owned();
            let all = self.months.values().map(name).collect();
            said += &format!(", in {}", said_list(&runs_said(&self.months, name, all), "and"));
        }
        said
    }

    fn times_said(&self) -> String {
        let (minutes, hours): (Vec<u32>, Vec<u32>) = (self.minutes.values().collect(), self.hours.values().collect());
        if minutes.len() * hours.len() <= 6 {
            let times = hours.iter().flat_map(|h| minutes.iter().map(move |m| format!("{h:02}:{m:02}")));
            return format!("at {}", said_list(&times.collect::<Vec<_>>(), "and"));
        }
        let step = step_of(&minutes, 60);
        let at = match (minutes.len(), step) {
            (60, _) => "every minute".to_owned(),
            (1, _) => format!("at minute {}", minutes[0]),
            (_, Some(step)) => format!("every {step} minutes"),
            _ => {
                let all = minutes.iter().map(ToString::to_string).collect();
                format!("at the minutes {}", said_list(&runs_said(&self.minutes, |m| m.to_string(), all), "and"))
            }
        };
        match (hours.len(), step_of(&hours, 24)) {
            (24, _) if minutes.len() == 60 || step.is_some() => at,
            (24, _) => format!("{at} of every hour"),
            (_, Some(step)) => format!("{at} of every {} hour", ordinal(step)),
            _ => {
                let name = |h: u32| format!("{h}");
                let all = hours.iter().map(|h| name(*h)).collect();
                let plural = if hours.len() == 1 { "hour" } else { "hours" };
                format!("{at} of the {plural} {}", said_list(&runs_said(&self.hours, name, all), "and"))
            }
        }
    }
}

fn longest_month(month: u32) -> u32 {
    match month {
        2 => 29,
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

fn ordinal(n: u32) -> String {
    match n {
        2 => "second".into(),
        3 => "third".into(),
        4 => "fourth".into(),
        _ => format!("{n}th"),
    }
}

/// The step of values that begin at 0 and divide the whole evenly: 0, 15, 30, 45 of 60.
fn step_of(values: &[u32], whole: u32) -> Option<u32> {
    let (&first, &second) = (values.first()?, values.get(1)?);
    let even = first == 0 && whole.is_multiple_of(second) && values.len() as u32 == whole / second;
    (even && values.windows(2).all(|w| w[1] - w[0] == second)).then_some(second)
}

/// Values with those that follow each other drawn together, `Monday to Friday`; as they are where that shortens nothing.
fn runs_said(field: &Field, name: impl Fn(u32) -> String, all: Vec<String>) -> Vec<String> {
    let mut runs: Vec<(u32, u32)> = Vec::new();
    for value in field.values() {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == value => *last = value,
            _ => runs.push((value, value)),
        }
    }
    if runs.iter().all(|(a, b)| b - a < 2) {
        return all;
    }
    let said = |(a, b): &(u32, u32)| match b - a {
        0 => vec![name(*a)],
        1 => vec![name(*a), name(*b)],
        _ => vec![format!("{} to {}", name(*a), name(*b))],
    };
    runs.iter().flat_map(said).collect()
}

fn said_list(words: &[impl AsRef<str>], and: &str) -> String {
    match words {
        [] => String::new(),
        [one] => one.as_ref().to_owned(),
        [most @ .., last] => {
            let most: Vec<&str> = most.iter().map(AsRef::as_ref).collect();
            format!("{} {and} {}", most.join(", "), last.as_ref())
        }
    }
}

fn field(kind: &Kind, text: &str) -> Result<Field, String> {
    let mut bits = 0;
    for item in text.split(',') {
        bits |= item_bits(kind, item)?;
    }
    Ok(Field { bits, all: text == "*" })
}

fn item_bits(kind: &Kind, item: &str) -> Result<u64, String> {
    let (range, step) = match item.split_once('/') {
        Some((range, step)) => {
            let step = step.parse().ok().filter(|s| (1..=kind.high).contains(s));
            (range, Some(step.ok_or_else(|| format!("the step of {item:?} must be 1 to {}", kind.high))?))
        }
        None => (item, None),
    };
    let (low, high) = if range == "*" {
        // 7 is only another name of Sunday.
        (kind.low, if kind.high == 7 { 6 } else { kind.high })
    } else if let Some((low, high)) = range.split_once('-') {
        (value(kind, low)?, value(kind, high)?)
    } else {
        let one = value(kind, range)?;
        (one, if step.is_some() { kind.high.min(if kind.high == 7 { 6 } else { kind.high }).max(one) } else { one })
    };
    if low > high {
        return Err(format!("the range {range:?} runs backwards; write it as two, split by a comma"));
    }
    Ok((low..=high).step_by(step.unwrap_or(1) as usize).fold(0, |bits, v| bits | 1 << v))
}

fn value(kind: &Kind, text: &str) -> Result<u32, String> {
    let lower = text.to_lowercase();
    if let Some(at) = kind.names.iter().position(|n| *n == lower) {
        return Ok(at as u32 + u32::from(kind.high == 12));
    }
    if text.is_empty() {
        return Err("a value is missing".into());
    }
    let number = Some(text).filter(|t| t.bytes().all(|b| b.is_ascii_digit())).and_then(|t| t.parse::<u32>().ok());
    match number {
        Some(n) if (kind.low..=kind.high).contains(&n) => Ok(n),
        Some(_) => Err(format!("{text} is out of bounds")),
        None => Err(format!("{text:?} is not a valid {}", kind.name)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wall(text: &str) -> NaiveDateTime {
        NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M").unwrap()
    }

    #[test]
    fn expressions_are_said_in_words() {
        let table = [
            ("15 2 * * 1-5", "at 02:15, Monday to Friday"),
            ("* * * * *", "every minute"),
            ("*/5 * * * *", "every 5 minutes"),
            ("*/7 * * * *", "at the minutes 0, 7, 14, 21, 28, 35, 42, 49 and 56 of every hour"),
            ("0 * * * *", "at minute 0 of every hour"),
            ("30 */2 * * *", "at minute 30 of every second hour"),
            ("0 8,20 * * sat,sun", "at 08:00 and 20:00, Saturday and Sunday"),
            ("0 0 1 * *", "at 00:00, on day 1 of the month"),
            ("0 0 1,15 * mon", "at 00:00, on day 1 and 15 of the month and also Monday"),
            ("0 6 * jan-mar 0", "at 06:00, Sunday, in January to March"),
            ("*/15 8-17 * * 1-5", "every 15 minutes of the hours 8 to 17, Monday to Friday"),
            ("* 2 * * *", "every minute of the hour 2"),
            ("@weekly", "at 00:00, Sunday"),
            ("0 0 29 2 *", "at 00:00, on day 29 of the month, in February"),
        ];
        for (text, said) in table {
            assert_eq!(Cron::parse(text).unwrap().said(), said, "{text}");
        }
    }

    #[test]
    fn what_is_wrong_is_said_with_its_field() {
        let table = [
            ("61 2 * * *", "field 1 (minute) is \"61\": 61 is out of bounds. Allowed are 0 to 59"),
            ("0 24 * * *", "field 2 (hour) is \"24\": 24 is out of bounds"),
            ("0 0 0 * *", "field 3 (day of the month) is \"0\": 0 is out of bounds. Allowed are 1 to 31"),
            (
                "0 0 * foo *",
                "field 4 (month) is \"foo\": \"foo\" is not a valid month. Allowed are 1 to 12, names jan to dec",
            ),
            ("0 0 * * fri-mon", "field 5 (day of the week) is \"fri-mon\": the range \"fri-mon\" runs backwards"),
            ("*/0 * * * *", "field 1 (minute) is \"*/0\": the step of \"*/0\" must be 1 to 59"),
            ("1,,2 * * * *", "field 1 (minute) is \"1,,2\": a value is missing"),
            ("-1 * * * *", "field 1 (minute) is \"-1\": a value is missing"),
            ("0 0 * *", "it has 4 fields and needs 5: minute, hour"),
            ("0 0 0 * * *", "it has 6 fields and needs 5"),
            ("@nightly", "known words are @hourly"),
            ("0 0 30 2 *", "it never comes: February has no day 30"),
            ("0 0 31 4,6 *", "it never comes: April or June has no day 31"),
            ("", "it has 0 fields"),
        ];
        for (text, why) in table {
            let said = Cron::parse(text).unwrap_err().to_string();
            assert!(said.starts_with("the cron expression") && said.contains(why), "{text}: {said}");
        }
    }

    #[test]
    fn the_next_minute_is_found_over_days_months_and_leap_years() {
        let table = [
            ("15 2 * * 1-5", "2026-11-20 02:15", "2026-11-23 02:15"),
            ("15 2 * * 1-5", "2026-11-23 02:14", "2026-11-23 02:15"),
            ("0 0 31 * *", "2026-11-01 00:00", "2026-12-31 00:00"),
            ("0 0 29 2 *", "2096-02-29 00:00", "2104-02-29 00:00"),
            ("59 23 31 12 *", "2026-12-31 23:59", "2027-12-31 23:59"),
            ("0 0 13 * 5", "2026-11-23 00:00", "2026-11-27 00:00"),
            ("0 12 * * 7", "2026-11-23 00:00", "2026-11-29 12:00"),
            ("5/20 * * * *", "2026-11-23 10:26", "2026-11-23 10:45"),
        ];
        for (text, from, to) in table {
            assert_eq!(Cron::parse(text).unwrap().after(wall(from)), Some(wall(to)), "{text} after {from}");
        }
    }

    #[test]
    fn either_kind_of_day_fits_where_both_are_given() {
        let cron = Cron::parse("0 0 1 * mon").unwrap();
        assert!(cron.names(wall("2026-12-01 00:00")) && cron.names(wall("2026-12-07 00:00")));
        assert!(!cron.names(wall("2026-12-02 00:00")));
        // A step is no `*`.
        assert!(Cron::parse("0 0 */2 * mon").unwrap().names(wall("2026-11-30 00:00")));
    }
}
