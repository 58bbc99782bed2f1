//! What somebody asked to be told.

use std::{collections::BTreeMap, fmt, str::FromStr};

use chrono::{Datelike, NaiveTime, Timelike};
use globset::Glob;
use serde::{Deserialize, Serialize};

use crate::{
    calendar::zone::Zone,
    error::Error,
    name::{did_you_mean, shorten},
    request::Asked,
    time::{Span, Timestamp},
};

use super::known::{KNOWN, SECRET};

/// Conditions, patterns, labels and addresses of one notice, at most.
const MOST: usize = 50;
/// The longest pattern or address, in bytes.
const LONGEST: usize = 500;
/// How long a run has no worker before that is told, where nothing else is said.
const NO_WORKER: Span = Span::seconds(60);
/// The longest wait that a condition or a digest may have.
const LONGEST_WAIT: Span = Span::seconds(7 * 86_400);

fn wrong(why: impl Into<String>) -> Error {
    Error::Notice(why.into())
}

/// What is told.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum When {
    /// A run failed.
    Failed,
    /// Tests fail in a run that did not in the last one like it.
    NewlyFailing,
    /// Tests pass or are flaky that failed in the last run like it.
    Mended,
    Passed,
    Void,
    Stopped,
    /// More than this share of a run's tests that came to run were flaky: 0.05 for 5 %.
    FlakyOver(f64),
    /// A run took more than so many times what those like it took before (their median).
    SlowerThan(f64),
    /// A planned start did not take place.
    ScheduleMissed,
    /// A run has waited for a worker for so long.
    NoWorker(Span),
    /// A run is expected to take longer than this, from its start to its end.
    ForecastOver(Span),
}

const WORDS: [&str; 11] = [
    "failed",
    "newly-failing",
    "mended",
    "passed",
    "void",
    "stopped",
    "flaky-over",
    "slower-than",
    "schedule-missed",
    "no-worker",
    "forecast-over",
];

impl When {
    /// Whether it is told when a run is over.
    #[must_use]
    pub fn at_end(self) -> bool {
        !matches!(self, Self::ScheduleMissed | Self::NoWorker(_) | Self::ForecastOver(_))
    }
}

impl FromStr for When {
    type Err = Error;
    /// Reads `failed`, `flaky-over 5%`, `slower-than 2x`, `no-worker 5m` …
    fn from_str(text: &str) -> Result<Self, Error> {
        let (word, rest) = text.trim().split_once(char::is_whitespace).unwrap_or((text.trim(), ""));
        let rest = rest.trim();
        let said = shorten(text.trim(), 60);
        let needs =
            |example: &str| wrong(format!("{said:?} says no bound that can be used: write it like {example:?}"));
        let share = |example: &str| {
            let number = rest.strip_suffix('%').and_then(|n| n.trim().parse::<f64>().ok());
            number.filter(|n| (0.0..100.0).contains(n)).map(|n| n / 100.0).ok_or_else(|| needs(example))
        };
        let times = |example: &str| {
            let number = rest.strip_suffix('x').and_then(|n| n.trim().parse::<f64>().ok());
            number.filter(|n| *n > 1.0 && *n <= 1000.0).ok_or_else(|| needs(example))
        };
        let span = |example: &str| {
            let span = Span::parse(rest).ok();
            span.filter(|s| *s > Span::ZERO && *s <= LONGEST_WAIT).ok_or_else(|| needs(example))
        };
        let plain = |when: Self| match rest {
            "" => Ok(when),
            _ => Err(wrong(format!("{said:?}: {word} has no bound; write {word:?} alone"))),
        };
        match word {
            "failed" => plain(Self::Failed),
            "newly-failing" => plain(Self::NewlyFailing),
            "mended" => plain(Self::Mended),
            "passed" => plain(Self::Passed),
            "void" => plain(Self::Void),
            "stopped" => plain(Self::Stopped),
            "schedule-missed" => plain(Self::ScheduleMissed),
            "flaky-over" => share("flaky-over 5%").map(Self::FlakyOver),
            "slower-than" => times("slower-than 2x").map(Self::SlowerThan),
            "no-worker" if rest.is_empty() => Ok(Self::NoWorker(NO_WORKER)),
            "no-worker" => span("no-worker 5m").map(Self::NoWorker),
            "forecast-over" => span("forecast-over 30m").map(Self::ForecastOver),
            _ => {
                let hint = did_you_mean(word, WORDS);
                let known = if hint.is_empty() { format!(": known are {}", WORDS.join(", ")) } else { hint };
                Err(wrong(format!("nothing is told by {:?}{known}", shorten(word, 40))))
            }
        }
    }
}

impl fmt::Display for When {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Failed => f.write_str("failed"),
            Self::NewlyFailing => f.write_str("newly-failing"),
            Self::Mended => f.write_str("mended"),
            Self::Passed => f.write_str("passed"),
            Self::Void => f.write_str("void"),
            Self::Stopped => f.write_str("stopped"),
            Self::FlakyOver(share) => write!(f, "flaky-over {}%", (share * 1e8).round() / 1e6),
            Self::SlowerThan(times) => write!(f, "slower-than {times}x"),
            Self::ScheduleMissed => f.write_str("schedule-missed"),
            Self::NoWorker(span) => write!(f, "no-worker {}", span.written()),
            Self::ForecastOver(span) => write!(f, "forecast-over {}", span.written()),
        }
    }
}

/// Hours in which nothing is sent but kept until they are over, by the wall clock of the notice's zone: `22:00-07:00`, `sat,sun`, or
/// `mon-fri 18:00-08:00`. Of hours that go past midnight, the days are those on which they begin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Quiet {
    text: String,
    /// By days from Monday.
    days: [bool; 7],
    /// The whole day where they are the same.
    from: NaiveTime,
    to: NaiveTime,
}

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

impl FromStr for Quiet {
    type Err = Error;
    fn from_str(text: &str) -> Result<Self, Error> {
        let cannot = |why: &str| {
            wrong(format!(
                "quiet hours {:?} cannot be read ({why}): write them like \"22:00-07:00\", \"sat,sun\" or \"mon-fri 18:00-08:00\"",
                shorten(text, 60)
            ))
        };
        let lower = text.trim().to_lowercase();
        let (days, hours) = match lower.split_once(' ') {
            Some((days, hours)) => (Some(days), Some(hours.trim())),
            None if lower.contains(':') => (None, Some(lower.as_str())),
            None => (Some(lower.as_str()), None),
        };
        let mut named = [days.is_none(); 7];
        for part in days.into_iter().flat_map(|d| d.split(',')) {
            let place = |day: &str| {
                let day = day.trim();
                DAYS.iter().position(|d| *d == day).ok_or_else(|| cannot(&format!("{day:?} is not a valid day")))
            };
            let (first, last) = part.split_once('-').unwrap_or((part, part));
            let (first, last) = (place(first)?, place(last)?);
            let mut day = first;
            named[day] = true;
            while day != last {
                day = (day + 1) % 7;
                named[day] = true;
            }
        }
        let clock = |text: &str| {
            NaiveTime::parse_from_str(text.trim(), "%H:%M")
                .map_err(|_| cannot(&format!("{:?} is not a time of day", text.trim())))
        };
        let (from, to) = match hours {
            Some(hours) => {
                let (from, to) = hours.split_once('-').ok_or_else(|| cannot("hours have a beginning and an end"))?;
                let (from, to) = (clock(from)?, clock(to)?);
                if from == to {
                    return Err(cannot("they begin when they end; for whole days write the days alone"));
                }
                (from, to)
            }
            None => (NaiveTime::MIN, NaiveTime::MIN),
        };
        Ok(Self { text: lower, days: named, from, to })
    }
}

impl fmt::Display for Quiet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Quiet {
    /// When it is over, if it holds at that moment.
    fn until(&self, at: Timestamp, zone: Zone) -> Option<Timestamp> {
        let wall = zone.wall(at);
        let (day, time) = (wall.date(), wall.time());
        let named = |date: chrono::NaiveDate| self.days[date.weekday().num_days_from_monday() as usize];
        let whole = self.from == self.to;
        let over_midnight = !whole && self.to < self.from;
        let yesterday = day.pred_opt()?;
        let day_after = || day.succ_opt();
        let ends = if whole {
            named(day).then(day_after).flatten()?.and_time(NaiveTime::MIN)
        } else if over_midnight && named(day) && time >= self.from {
            day_after()?.and_time(self.to)
        } else {
            let begun = if over_midnight { named(yesterday) } else { named(day) && time >= self.from };
            (begun && time < self.to).then(|| day.and_time(self.to))?
        };
        // A clock that is put back at that very time would bring one before this moment.
        zone.moment(ends).map(|end| end.max(Timestamp(at.0 + 1)))
    }
}

/// When what has gathered is sent as one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Digest {
    /// So long after the first.
    Every(Span),
    /// Every day at that time.
    Daily(NaiveTime),
}

impl FromStr for Digest {
    type Err = Error;
    fn from_str(text: &str) -> Result<Self, Error> {
        if let Ok(time) = NaiveTime::parse_from_str(text.trim(), "%H:%M") {
            return Ok(Self::Daily(time));
        }
        let span = Span::parse(text.trim()).ok().filter(|s| *s >= Span::seconds(1) && *s <= LONGEST_WAIT);
        span.map(Self::Every).ok_or_else(|| {
            wrong(format!(
                "a digest {:?} cannot be made: write \"1h\" (so long after the first) or \"08:00\" (every day)",
                shorten(text, 40)
            ))
        })
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Every(span) => f.write_str(&span.written()),
            Self::Daily(time) => write!(f, "{:02}:{:02}", time.hour(), time.minute()),
        }
    }
}

macro_rules! as_text {
    ($($name:ident),*) => {$(
        impl Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.collect_str(self)
            }
        }
        impl<'de> Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                String::deserialize(from)?.parse().map_err(serde::de::Error::custom)
            }
        }
    )*};
}
as_text!(When, Quiet, Digest);

/// Where it goes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum To {
    /// E-mail, to these addresses.
    Mail(Vec<String>),
    /// An HTTP address: a CloudEvent in structured mode, signed as Standard Webhooks says.
    Http(String),
    /// A chat: the request is described, since each wants its own.
    Chat(Asked),
    /// A git host: the request that sets a commit's status. Runs without a commit are not told.
    CommitStatus(Asked),
}

impl To {
    /// Its word.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Mail(_) => "mail",
            Self::Http(_) => "http",
            Self::Chat(_) => "chat",
            Self::CommitStatus(_) => "commit-status",
        }
    }

    /// Where it goes, without what may be secret in it: the rest of an address often is.
    #[must_use]
    pub fn said(&self) -> String {
        let origin = |address: &str| {
            let mut parts = address.splitn(4, '/');
            let (scheme, _, host) = (parts.next().unwrap_or(""), parts.next(), parts.next().unwrap_or(""));
            let host = host.rsplit_once('@').map_or(host, |(_, host)| host);
            let more = if parts.next().is_some_and(|p| !p.is_empty()) { "/…" } else { "" };
            format!("{scheme}//{host}{more}")
        };
        match self {
            Self::Mail(addresses) => addresses.join(", "),
            Self::Http(address) => origin(address),
            Self::Chat(asked) | Self::CommitStatus(asked) => origin(&asked.address),
        }
    }

    /// Whether a request needs a secret that is given beside it.
    #[must_use]
    pub fn needs_secret(&self) -> bool {
        matches!(self, Self::Chat(asked) | Self::CommitStatus(asked) if asked.is_secret())
    }
}

/// A notice: what somebody asked to be told.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Notice {
    /// `failed`, `newly-failing`, `mended`, `passed`, `void`, `stopped`, `flaky-over 5%`, `slower-than 2x`, `schedule-missed`,
    /// `no-worker 5m`, `forecast-over 30m`.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub when: Vec<When>,
    /// Globs on the names of suites, briefs and branches; none means all. A run that no brief started has no brief, and is told only where
    /// none is asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub suites: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub briefs: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub branches: Vec<String>,
    /// Labels that a run must have, all of them; values are globs.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
    pub to: To,
    /// Hours in which nothing is sent but kept until they are over: `22:00-07:00`, `sat,sun`, `mon-fri 18:00-08:00`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub quiet: Vec<Quiet>,
    /// Gathers what happens and sends it as one: `1h` after the first, or every day at `08:00`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub digest: Option<Digest>,
    /// The time zone of quiet hours and digests; none means UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Every run is told that fails, also one that fails for a reason that was told of.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub every_time: bool,
}

impl Notice {
    /// Checks what a person or a program wrote.
    ///
    /// # Errors
    /// In words, with what to do.
    pub fn check(&self) -> Result<(), Error> {
        if self.when.is_empty() {
            return Err(wrong(format!("nothing is to be told: say when, with one of {}", WORDS.join(", "))));
        }
        let lists = [
            self.when.len(),
            self.suites.len(),
            self.briefs.len(),
            self.branches.len(),
            self.labels.len(),
            self.quiet.len(),
        ];
        if lists.iter().any(|n| *n > MOST) {
            return Err(wrong(format!("a notice has at most {MOST} of each: make several")));
        }
        let named = [("suite", &self.suites), ("brief", &self.briefs), ("branch", &self.branches)];
        for (what, pattern) in named.into_iter().flat_map(|(what, list)| list.iter().map(move |p| (what, p))) {
            glob(what, pattern)?;
        }
        for (key, value) in &self.labels {
            crate::plan::check_label(key, value)?;
            glob("label", value)?;
        }
        self.zone()?;
        if matches!(self.to, To::CommitStatus(_)) && (self.digest.is_some() || !self.quiet.is_empty()) {
            return Err(wrong("a commit's status is set at once: it takes neither quiet hours nor a digest"));
        }
        if matches!(self.to, To::CommitStatus(_)) && self.when.contains(&When::ScheduleMissed) {
            return Err(wrong("a start that did not take place has no commit whose status could be set"));
        }
        match &self.to {
            To::Mail(addresses) => {
                if addresses.is_empty() || addresses.len() > MOST {
                    return Err(wrong(format!("mail goes to 1 to {MOST} addresses")));
                }
                addresses.iter().try_for_each(|address| mail_address(address))
            }
            To::Http(address) => web_address(address),
            To::Chat(asked) | To::CommitStatus(asked) => {
                let known: Vec<&'static str> = KNOWN.iter().copied().chain([SECRET]).collect();
                asked.check(self.to.word(), &known).map_err(|e| wrong(e.to_string()))?;
                if asked.method == crate::request::Method::Get {
                    return Err(wrong(format!(
                        "{}.method is GET, which tells nobody anything: set it to POST",
                        self.to.word()
                    )));
                }
                Ok(())
            }
        }
    }

    /// The zone of quiet hours and digests.
    ///
    /// # Errors
    /// If there is no zone of that name.
    pub fn zone(&self) -> Result<Zone, Error> {
        self.zone.as_deref().map_or(Ok(Zone::UTC), Zone::parse)
    }

    /// When what happened at a moment is to be sent: at once, when what gathers is sent, or when quiet hours are over.
    #[must_use]
    pub fn due(&self, at: Timestamp) -> Timestamp {
        let zone = self.zone().unwrap_or(Zone::UTC);
        let daily = |from: Timestamp, time: NaiveTime| {
            let day = zone.wall(from).date();
            let at_day = |day: Option<chrono::NaiveDate>| zone.moment(day?.and_time(time));
            at_day(Some(day)).filter(|due| *due > from).or_else(|| at_day(day.succ_opt())).unwrap_or(from)
        };
        let mut due = match self.digest {
            None => at,
            Some(Digest::Every(span)) => at + span,
            Some(Digest::Daily(time)) => daily(at, time),
        };
        // Quiet hours may follow each other; those that never end keep nothing for ever.
        for _ in 0..=8 * self.quiet.len() {
            let Some(end) = self.quiet.iter().find_map(|quiet| quiet.until(due, zone)) else { return due };
            due = match self.digest {
                // A moment before, as that time itself may be the end.
                Some(Digest::Daily(time)) => daily(Timestamp(end.0 - 1), time),
                _ => end,
            };
        }
        due
    }
}

/// A glob on a name; `/` is a letter like others.
fn glob(what: &str, pattern: &str) -> Result<globset::GlobMatcher, Error> {
    let cannot = |why: String| wrong(format!("the {what} {:?} is not a pattern: {why}", shorten(pattern, 60)));
    if pattern.is_empty() || pattern.len() > LONGEST {
        return Err(cannot(format!("it has 1 to {LONGEST} letters")));
    }
    Glob::new(pattern).map(|g| g.compile_matcher()).map_err(|e| cannot(e.kind().to_string()))
}

pub(super) fn any_fits(patterns: &[String], name: Option<&str>) -> bool {
    patterns.is_empty()
        || name.is_some_and(|name| patterns.iter().any(|p| glob("pattern", p).is_ok_and(|g| g.is_match(name))))
}

/// An address of e-mail: one mailbox, as RFC 5321 writes it but for quoted names and addresses of hosts.
fn mail_address(text: &str) -> Result<(), Error> {
    let fine = |c: char| c.is_alphanumeric() || "!#$%&'*+-/=?^_`{|}~.".contains(c);
    let good = text.split_once('@').is_some_and(|(who, host)| {
        let dots = |t: &str| !t.is_empty() && !t.starts_with('.') && !t.ends_with('.') && !t.contains("..");
        let host_fine = host.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '.');
        who.chars().all(fine) && dots(who) && dots(host) && host_fine && who.len() <= 64 && text.len() <= 254
    });
    let wrong =
        || wrong(format!("{:?} is not an address of e-mail: write it like crew@quay.example", shorten(text, 80)));
    good.then_some(()).ok_or_else(wrong)
}

fn web_address(text: &str) -> Result<(), Error> {
    let host = text.split_once("://").filter(|(scheme, _)| ["http", "https"].contains(scheme)).map(|(_, rest)| rest);
    let good = host.is_some_and(|rest| !rest.is_empty() && !rest.starts_with('/'))
        && text.len() <= LONGEST
        && !text.chars().any(|c| c.is_control() || c.is_whitespace());
    let cannot = || {
        wrong(format!(
            "{:?} is not an address: it begins with http:// or https:// and has at most {LONGEST} letters",
            shorten(text, 80)
        ))
    };
    good.then_some(()).ok_or_else(cannot)
}

#[cfg(test)]
#[path = "rule_tests.rs"]
mod tests;
