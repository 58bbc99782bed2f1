//! What is kept for how long: rules, and what they let go.
//!
//! Without a rule everything is kept. Of rules for the same thing the one that says most of where it holds counts: one that names
//! suites and branches before one that names suites, that before one that names branches, and that before one for all; of two alike
//! the later by name. The last run that failed and the last that passed of each suite and branch are always kept, and so is every run
//! by which a test still fails.

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
};

use serde::{Deserialize, Serialize};

use crate::{
    error::Error,
    suite::Pattern,
    time::{Bytes, Span, Timestamp},
    words::Verdict,
};

/// Something that is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Kept {
    /// Runs with all that belongs to them.
    Runs,
    /// What attempts printed.
    Logs,
    /// Files that runs left behind.
    Artifacts,
    /// Of those, pictures and videos of tests that passed.
    Pictures,
    /// What came for webhooks, and notices that were sent.
    Deliveries,
    /// Who did what when.
    Audit,
}

impl Kept {
    pub const ALL: [Self; 6] = [Self::Runs, Self::Logs, Self::Artifacts, Self::Pictures, Self::Deliveries, Self::Audit];

    /// Its word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Runs => "runs",
            Self::Logs => "logs",
            Self::Artifacts => "artifacts",
            Self::Pictures => "pictures",
            Self::Deliveries => "deliveries",
            Self::Audit => "audit",
        }
    }

    /// That of a word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|one| one.word() == word)
    }

    /// Whether it belongs to runs, so that suites and branches may be named.
    #[must_use]
    pub fn is_of_runs(self) -> bool {
        !matches!(self, Self::Deliveries | Self::Audit)
    }
}

impl fmt::Display for Kept {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// How long something is kept. What one of its limits lets go, goes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Rule {
    pub what: Kept,
    /// Only of suites whose names match this glob.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub suite: Option<String>,
    /// Only of branches whose names match this glob.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    /// For so long after the run was over, in microseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub age_us: Option<u64>,
    /// Of so many runs of each suite and branch, the latest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u32>,
    /// Of each suite and branch as much as takes so many bytes, the latest first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
}

/// Nothing is kept for less: what is young may be in somebody's hands.
const SHORTEST: Span = Span::seconds(3600);

impl Rule {
    /// Checks what a rule asks for.
    ///
    /// # Errors
    /// In words, if it has no limit, one that cannot be, or one that does not fit what it is for.
    pub fn check(&self) -> Result<(), Error> {
        let wrong = |text: String| Err(Error::Options(text));
        let what = self.what;
        if self.age_us.is_none() && self.count.is_none() && self.bytes.is_none() {
            return wrong(format!("say how long {what} are to be kept: --for 90d, --most 200 or --size 20GiB"));
        }
        if self.age_us.is_some_and(|us| us < SHORTEST.0) {
            return wrong(format!("{what} are kept for an hour at least: --for 1h"));
        }
        if self.count == Some(0) || self.bytes == Some(0) {
            return wrong("a rule that keeps nothing is none: name a larger number".into());
        }
        if self.bytes.is_some() && !matches!(what, Kept::Logs | Kept::Artifacts) {
            return wrong(format!("--size is for logs and artifacts, and this rule is for {what}"));
        }
        if !what.is_of_runs() && (self.count.is_some() || self.suite.is_some() || self.branch.is_some()) {
            return wrong(format!("{what} are of no suite, and kept by their age: --for 90d"));
        }
        for pattern in self.suite.iter().chain(&self.branch) {
            Pattern::glob(pattern)?;
        }
        Ok(())
    }

    /// How much it says of where it holds.
    fn weight(&self) -> u8 {
        u8::from(self.suite.is_some()) * 2 + u8::from(self.branch.is_some())
    }

    fn holds(&self, suite: &str, branch: &str) -> bool {
        let fits = |pattern: &Option<String>, text: &str| {
            pattern.as_deref().is_none_or(|pattern| Pattern::glob(pattern).is_ok_and(|glob| glob.matches_text(text)))
        };
        fits(&self.suite, suite) && fits(&self.branch, branch)
    }

    /// In words: `for 90 d, at most 200 of each`.
    #[must_use]
    pub fn said(&self) -> String {
        let mut parts: Vec<String> = Vec::new();
        parts.extend(self.age_us.map(|us| format!("for {}", age_said(us))));
        parts.extend(self.count.map(|count| format!("of the latest {count} runs")));
        parts.extend(self.bytes.map(|bytes| format!("up to {}", Bytes(bytes))));
        let mut said = parts.join(", and ");
        if let Some(suite) = &self.suite {
            said += &format!(", of suites {suite}");
        }
        if let Some(branch) = &self.branch {
            said += &format!(", of branches {branch}");
        }
        said
    }
}

const DAY: u64 = 86_400_000_000;

/// Reads how long something is kept, in microseconds: `12h`, `90d`, `26w` or `2y`.
///
/// # Errors
/// In words, if it is no whole number of one of these, or more than a hundred years.
pub fn parse_age(text: &str) -> Result<u64, String> {
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let each = match text[digits..].trim() {
        "h" => Some(DAY / 24),
        "d" => Some(DAY),
        "w" => Some(7 * DAY),
        "y" => Some(365 * DAY),
        _ => None,
    };
    let age = each.zip(text[..digits].parse::<u64>().ok()).and_then(|(each, count)| each.checked_mul(count));
    age.filter(|us| *us <= 36_500 * DAY)
        .ok_or_else(|| format!("{text:?} is no time for which something is kept: write it like 12h, 90d, 26w or 2y"))
}

fn age_said(us: u64) -> String {
    if us.is_multiple_of(DAY) { format!("{} d", us / DAY) } else { Span(us).to_string() }
}

/// A run that is over.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunSeen {
    pub id: i64,
    pub suite: String,
    /// Empty where none is known.
    pub branch: String,
    pub verdict: Option<Verdict>,
    pub over_at: Timestamp,
    /// A test fails now by what it showed.
    pub needed: bool,
    /// What what the rule is for takes of it.
    pub bytes: u64,
}

/// The rule that counts for something of a suite and branch, of rules by their names.
fn rule_for<'r>(rules: &'r BTreeMap<String, Rule>, what: Kept, suite: &str, branch: &str) -> Option<&'r Rule> {
    rules.values().filter(|rule| rule.what == what && rule.holds(suite, branch)).max_by_key(|rule| rule.weight())
}

/// Since when what is of no run is kept.
#[must_use]
pub fn kept_since(rules: &BTreeMap<String, Rule>, what: Kept, now: Timestamp) -> Option<Timestamp> {
    let age = rule_for(rules, what, "", "")?.age_us?;
    Some(Timestamp(now.0.saturating_sub(i64::try_from(age).unwrap_or(i64::MAX))))
}

/// Of which runs a thing goes, by their ids. The runs may be in any order.
#[must_use]
pub fn let_go(rules: &BTreeMap<String, Rule>, what: Kept, runs: &[RunSeen], now: Timestamp) -> Vec<i64> {
    let mut by_place: BTreeMap<(&str, &str), Vec<&RunSeen>> = BTreeMap::new();
    for run in runs {
        by_place.entry((&run.suite, &run.branch)).or_default().push(run);
    }
    let mut gone = Vec::new();
    for ((suite, branch), mut runs) in by_place {
        let Some(rule) = rule_for(rules, what, suite, branch) else { continue };
        runs.sort_by_key(|run| std::cmp::Reverse((run.over_at, run.id)));
        let mut last: BTreeSet<Verdict> = BTreeSet::new();
        let mut bytes = 0u64;
        for (place, run) in runs.into_iter().enumerate() {
            let first_of = run.verdict.filter(|v| matches!(v, Verdict::Passed | Verdict::Failed));
            let is_last = first_of.is_some_and(|verdict| last.insert(verdict));
            bytes = bytes.saturating_add(run.bytes);
            let age = now.0.saturating_sub(run.over_at.0).unsigned_abs();
            let young = run.over_at.0 > now.0 || age < SHORTEST.0;
            let old = rule.age_us.is_some_and(|us| age > us);
            let many = rule.count.is_some_and(|count| place >= count as usize);
            let large = rule.bytes.is_some_and(|most| bytes > most);
            if (old || many || large) && !young && !is_last && !run.needed {
                gone.push(run.id);
            }
        }
    }
    gone
}

/// What a sweep freed, or would free.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Freed {
    /// Runs with all that belonged to them; runs of which what was printed went; of which files or pictures went.
    pub runs: u64,
    pub logs: u64,
    pub artifacts: u64,
    pub pictures: u64,
    pub deliveries: u64,
    pub audit: u64,
    /// Months of attempts that were dropped whole.
    pub months: u64,
    /// Files that nothing needs any more, and the bytes that they took.
    pub files: u64,
    pub bytes: u64,
    /// Lists, stamps, meetings and suites' files that nothing needs any more.
    pub others: u64,
}

impl Freed {
    /// In words.
    #[must_use]
    pub fn said(&self) -> String {
        let parts = [
            (self.runs, "run", "runs"),
            (self.months, "month of attempts as a whole", "months of attempts as a whole"),
            (self.logs, "run's logs", "runs' logs"),
            (self.artifacts, "run's artifacts", "runs' artifacts"),
            (self.pictures, "picture of a passed test", "pictures of passed tests"),
            (self.deliveries, "delivery", "deliveries"),
            (self.audit, "line of the audit", "lines of the audit"),
            (self.others, "list, stamp or source", "lists, stamps and sources"),
        ];
        let each = |(n, one, several): &(u64, &str, &str)| format!("{n} {}", if *n == 1 { one } else { several });
        let mut said: Vec<String> = parts.iter().filter(|p| p.0 > 0).map(each).collect();
        if self.files > 0 {
            said.push(format!("{}, {}", each(&(self.files, "file", "files")), Bytes(self.bytes)));
        }
        if said.is_empty() { "nothing".to_owned() } else { said.join("; ") }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: i64 = super::DAY as i64;
    const NOW: Timestamp = Timestamp(1_000 * DAY);

    fn rule(what: Kept, suite: Option<&str>, days: Option<u64>, count: Option<u32>) -> Rule {
        let age_us = days.map(|days| days * DAY as u64);
        Rule { what, suite: suite.map(str::to_owned), branch: None, age_us, count, bytes: None }
    }

    fn run(id: i64, suite: &str, verdict: Verdict, days: i64) -> RunSeen {
        RunSeen {
            id,
            suite: suite.into(),
            branch: "main".into(),
            verdict: Some(verdict),
            over_at: Timestamp(NOW.0 - days * DAY),
            needed: false,
            bytes: 100,
        }
    }

    fn rules(all: &[Rule]) -> BTreeMap<String, Rule> {
        all.iter().enumerate().map(|(n, rule)| (format!("r{n}"), rule.clone())).collect()
    }

    #[test]
    fn what_is_old_goes_but_for_the_last_that_failed_and_passed() {
        use Verdict::{Failed, Passed, Void};
        let runs = [
            run(1, "gate", Failed, 90),
            run(2, "gate", Failed, 80),
            run(3, "gate", Passed, 70),
            run(4, "gate", Void, 60),
            run(5, "gate", Passed, 50),
            run(6, "gate", Passed, 2),
        ];
        let all = rules(&[rule(Kept::Runs, None, Some(30), None)]);
        assert_eq!(let_go(&all, Kept::Runs, &runs, NOW), [5, 4, 3, 1]);
        assert!(let_go(&all, Kept::Logs, &runs, NOW).is_empty(), "nothing is said of logs");
        assert!(let_go(&BTreeMap::new(), Kept::Runs, &runs, NOW).is_empty(), "without a rule all is kept");
        let mut needed = runs.clone();
        needed[0].needed = true;
        assert_eq!(let_go(&all, Kept::Runs, &needed, NOW), [5, 4, 3], "a test fails by it");
        // A clock that was set back makes nothing old.
        let ahead = [run(1, "gate", Void, -5)];
        assert!(
            let_go(
                &rules(&[rule(Kept::Runs, None, None, Some(1))]),
                Kept::Runs,
                &[ahead[0].clone(), run(2, "gate", Void, -9)],
                NOW
            )
            .is_empty()
        );
    }

    #[test]
    fn of_each_suite_and_branch_the_latest_count_and_as_much_as_fits() {
        use Verdict::Void;
        let mut runs: Vec<RunSeen> = (1..=5).map(|n| run(n, "gate", Void, 10 - n)).collect();
        runs.push(RunSeen { branch: "fix".into(), ..run(9, "gate", Void, 9) });
        let count = rules(&[rule(Kept::Runs, None, None, Some(3))]);
        assert_eq!(let_go(&count, Kept::Runs, &runs, NOW), [2, 1], "another branch has its own");
        let size = rules(&[Rule { bytes: Some(250), ..rule(Kept::Artifacts, None, None, None) }]);
        assert_eq!(let_go(&size, Kept::Artifacts, &runs, NOW), [3, 2, 1]);
    }

    #[test]
    fn of_rules_the_one_that_says_most_counts() {
        use Verdict::Void;
        let all = rules(&[
            rule(Kept::Runs, Some("noisy*"), Some(1), None),
            rule(Kept::Runs, None, Some(365), None),
            Rule { branch: Some("release/*".into()), ..rule(Kept::Runs, None, Some(3000), None) },
        ]);
        let release = RunSeen { branch: "release/7".into(), ..run(3, "gate", Void, 900) };
        let runs = [run(1, "noisy-one", Void, 5), run(2, "gate", Void, 5), release, run(4, "gate", Void, 900)];
        assert_eq!(let_go(&all, Kept::Runs, &runs, NOW), [4, 1]);
        assert_eq!(
            kept_since(&rules(&[rule(Kept::Audit, None, Some(2), None)]), Kept::Audit, NOW),
            Some(Timestamp(NOW.0 - 2 * DAY))
        );
    }

    #[test]
    fn how_long_something_is_kept_is_read() {
        assert_eq!(parse_age("90d"), Ok(90 * super::DAY));
        assert_eq!(parse_age("36h"), Ok(36 * super::DAY / 24));
        assert_eq!((parse_age("2w"), parse_age("1y")), (Ok(14 * super::DAY), Ok(365 * super::DAY)));
        for wrong in ["", "d", "90", "-3d", "1.5d", "101y", "99999999999999999999d", "3 months"] {
            assert!(parse_age(wrong).is_err_and(|why| why.contains("12h, 90d")), "{wrong}");
        }
    }

    #[test]
    fn rules_that_cannot_be_are_refused() {
        let plain = rule(Kept::Runs, None, None, None);
        for (rule, why) in [
            (plain.clone(), "--for 90d, --most 200"),
            (Rule { age_us: Some(60_000_000), ..plain.clone() }, "an hour at least"),
            (Rule { count: Some(0), ..plain.clone() }, "keeps nothing"),
            (Rule { bytes: Some(9), ..plain.clone() }, "for logs and artifacts"),
            (rule(Kept::Audit, Some("gate"), Some(9), None), "are of no suite"),
            (rule(Kept::Runs, Some("a["), Some(9), None), "cannot be read"),
        ] {
            let said = rule.check().expect_err(why).to_string();
            assert!(said.contains(why), "{said}");
        }
        assert_eq!(
            rule(Kept::Runs, Some("gate*"), Some(90), Some(200)).said(),
            "for 90 d, and of the latest 200 runs, of suites gate*"
        );
    }
}
