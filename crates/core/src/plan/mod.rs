//! From lists of tests to the entries of a run: choosing, rules, expected durations, and the sizes of batches.

pub mod batch;

use std::collections::{BTreeMap, HashMap, HashSet};

use serde::{Deserialize, Serialize};

use crate::{
    Error,
    name::{TestName, nearest},
    suite::{
        Choice, ListedTest, SuiteFile, Variant,
        file::{GroupBy, MOST_RETRIES, Rule},
    },
    time::Span,
};

/// Retries where neither the suite file nor the start says how many.
pub const DEFAULT_RETRIES: u32 = 0;

/// What a start may ask for. Kept with the run, so that it can be built again and repeated.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct RunOptions {
    /// Patterns of tests to run; none means all.
    pub pick: Vec<String>,
    /// Patterns of tests to leave away; a drop wins over a pick.
    pub drop: Vec<String>,
    /// `FACET=VALUE`, any of the values of a facet.
    pub variants: Vec<String>,
    /// Retries of an entry after its first attempt.
    pub retries: Option<u32>,
    /// The most slots the run may use at once.
    pub shards: Option<u32>,
    /// Changes of the suite's settings.
    pub set: BTreeMap<String, String>,
    /// Which `[env-for.NAME]` of the suite file to use.
    pub env: Option<String>,
    /// Labels of the run.
    pub labels: BTreeMap<String, String>,
    /// The seed handed to the suite's processes.
    pub seed: Option<u64>,
    /// Only these entries: names and variants (as written, empty for a suite without facets).
    pub only: Option<Vec<(String, String)>>,
}

impl RunOptions {
    /// Checks what can be checked without a list of tests.
    ///
    /// # Errors
    /// On a pattern that cannot be read, an unknown variant, environment or setting, or a number out of bounds.
    pub fn check(&self, suite: &SuiteFile) -> Result<(), Error> {
        Choice::parse(&self.pick, &self.drop)?;
        suite.facets.chosen(&self.variants)?;
        suite.environment(self.env.as_deref())?;
        suite.settings_with(&self.set)?;
        if let Some(n) = self.retries.filter(|n| *n > MOST_RETRIES) {
            return Err(Error::Options(format!("--retries {n} is too many; the most is {MOST_RETRIES}")));
        }
        if self.shards == Some(0) {
            return Err(Error::Options("--shards 0 would run nothing; give 1 or more, or leave it out".into()));
        }
        for (key, value) in &self.labels {
            if key.is_empty() || key.len() > 60 || value.len() > 200 || key.contains(['=', ',']) {
                return Err(Error::Options(format!(
                    "the label {key:?} is not usable: key=value, no '=' or ',' in the key"
                )));
            }
        }
        Ok(())
    }
}

/// Who decided how often an entry is retried.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum RetriesFrom {
    /// The service's default.
    Default,
    /// `[retry]` of the suite file.
    SuiteFile,
    /// The start's `--retries`.
    Start,
    /// The `[[rule]]` on that line of the suite file.
    Rule(u32),
}

/// One entry as planned.
#[derive(Debug, Clone)]
pub struct PlannedEntry {
    pub name: TestName,
    /// Index into [`Plan::variants`].
    pub variant: u16,
    /// Index of the group it stays with.
    pub group: Option<u32>,
    /// From the record or the list; `None` for a test that nothing is known of.
    pub expected: Option<Span>,
    pub retries: u8,
    pub retries_from: RetriesFrom,
    pub limit: Span,
    /// Index into [`Plan::claim_sets`]; 0 is the empty set.
    pub claims: u32,
}

/// The entries of a run, in listed order.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    pub variants: Vec<Variant>,
    pub entries: Vec<PlannedEntry>,
    /// Sets of claims, each sorted; the first is empty.
    pub claim_sets: Vec<Vec<String>>,
    /// How many entries there were before choosing.
    pub listed: usize,
}

impl Plan {
    /// Makes the plan of a run from the lists of its variants. The same arguments give the same entries in the same order.
    ///
    /// `expected` tells the duration that history says of a test in a variant.
    ///
    /// # Errors
    /// [`Error::Options`] if nothing is chosen; the message names the nearest names.
    pub fn make(
        suite: &SuiteFile,
        options: &RunOptions,
        lists: &[(Variant, Vec<ListedTest>)],
        expected: impl Fn(&TestName, &Variant) -> Option<Span>,
    ) -> Result<Self, Error> {
        let choice = Choice::parse(&options.pick, &options.drop)?;
        let only: Option<HashSet<(&str, &str)>> =
            options.only.as_ref().map(|only| only.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect());
        let mut plan = Self { claim_sets: vec![Vec::new()], ..Self::default() };
        let mut groups: HashMap<(u16, String), u32> = HashMap::new();
        for (number, (variant, tests)) in lists.iter().enumerate() {
            let number =
                u16::try_from(number).map_err(|_| Error::Options("a run has at most 65535 variants".into()))?;
            let variant_text = variant.to_string();
            plan.variants.push(variant.clone());
            plan.listed += tests.len();
            for test in tests {
                let wanted =
                    only.as_ref().is_none_or(|only| only.contains(&(test.name.as_str(), variant_text.as_str())));
                if !wanted || !choice.takes(&test.name, &test.tags) {
                    continue;
                }
                let ruled = Ruled::of(suite, options, test);
                let next = groups.len() as u32;
                let group = ruled.group.map(|g| *groups.entry((number, g)).or_insert(next));
                let claims = plan.claim_set(ruled.claims);
                let listed = test.seconds.map(|s| Span((s * 1e6) as u64));
                plan.entries.push(PlannedEntry {
                    expected: expected(&test.name, variant).or(listed),
                    name: test.name.clone(),
                    variant: number,
                    group,
                    retries: ruled.retries as u8,
                    retries_from: ruled.retries_from,
                    limit: ruled.limit,
                    claims,
                });
            }
        }
        if plan.entries.is_empty() {
            return Err(Error::Options(nothing_chosen(options, lists)));
        }
        Ok(plan)
    }

    /// The index of a set of claims, sorted; a new set is added.
    pub(crate) fn claim_set(&mut self, claims: Vec<String>) -> u32 {
        let found = self.claim_sets.iter().position(|set| *set == claims).unwrap_or_else(|| {
            self.claim_sets.push(claims);
            self.claim_sets.len() - 1
        });
        found as u32
    }

    /// The variant of an entry.
    #[must_use]
    pub fn variant_of(&self, entry: u32) -> &Variant {
        &self.variants[usize::from(self.entries[entry as usize].variant)]
    }
}

struct Ruled {
    limit: Span,
    retries: u32,
    retries_from: RetriesFrom,
    group: Option<String>,
    claims: Vec<String>,
}

impl Ruled {
    /// Weakest first: the service's default, the suite file, the start, the rules in their order.
    fn of(suite: &SuiteFile, options: &RunOptions, test: &ListedTest) -> Self {
        let (retries, retries_from) = match (options.retries, suite.retry.times) {
            (Some(n), _) => (n, RetriesFrom::Start),
            (None, Some(n)) => (n, RetriesFrom::SuiteFile),
            (None, None) => (DEFAULT_RETRIES, RetriesFrom::Default),
        };
        let mut ruled =
            Self { limit: suite.limits.test, retries, retries_from, group: test.group.clone(), claims: Vec::new() };
        let applies = |rule: &&Rule| rule.tests.iter().any(|p| p.matches(&test.name, &test.tags));
        for rule in suite.rules.iter().filter(applies) {
            ruled.limit = rule.limit.unwrap_or(ruled.limit);
            if let Some(n) = rule.retry {
                (ruled.retries, ruled.retries_from) = (n, RetriesFrom::Rule(rule.line as u32));
            }
            match &rule.group {
                Some(GroupBy::Name(name)) => ruled.group = Some(name.clone()),
                Some(GroupBy::Parts(parts)) => ruled.group = Some(test.name.first_parts(*parts as usize)),
                None => {}
            }
            if let Some(claims) = &rule.claims {
                ruled.claims.clone_from(claims);
            }
        }
        ruled.claims.sort();
        ruled.claims.dedup();
        ruled
    }
}

fn nothing_chosen(options: &RunOptions, lists: &[(Variant, Vec<ListedTest>)]) -> String {
    let total: usize = lists.iter().map(|l| l.1.len()).sum();
    let mut said = format!("nothing to run: of {total} tests none is chosen");
    if !options.pick.is_empty() {
        said += &format!(" by --pick {}", options.pick.join(", "));
    }
    if !options.drop.is_empty() {
        said += &format!(" after --drop {}", options.drop.join(", "));
    }
    if options.only.is_some() {
        said += " (the entries to repeat are no longer listed)";
    }
    let names = || lists.iter().flat_map(|l| &l.1).map(|t| t.name.as_str());
    let tags: std::collections::BTreeSet<&str> =
        lists.iter().flat_map(|l| &l.1).flat_map(|t| &t.tags).map(String::as_str).collect();
    for pick in &options.pick {
        let near: Vec<String> = match pick.strip_prefix("tag:") {
            Some(tag) => {
                let near = nearest(tag, tags.iter().copied(), 3);
                let near = if near.is_empty() { tags.iter().copied().take(8).collect() } else { near };
                near.into_iter().map(|t| format!("tag:{t}")).collect()
            }
            None if pick.starts_with("like:") => Vec::new(),
            None => {
                let bare = pick.trim_matches(['*', '/']);
                let mut near = nearest(bare, names(), 3);
                if near.is_empty() {
                    near = nearest_by_parts(bare, names());
                }
                near.into_iter().map(str::to_owned).collect()
            }
        };
        if !near.is_empty() {
            said += &format!("; nearest to {pick}: {}", near.join(", "));
        }
    }
    said
}

/// Names in which some part is near to some part of `word`, so that `gaet/**` still finds `gate/open`.
fn nearest_by_parts<'a>(word: &str, names: impl Iterator<Item = &'a str>) -> Vec<&'a str> {
    let parts: Vec<&str> = word.split(['/', '*']).filter(|p| p.len() > 1).collect();
    let near = |name: &str| name.split('/').any(|part| parts.iter().any(|p| !nearest(p, [part], 1).is_empty()));
    names.filter(|name| near(name)).take(3).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::suite::listing;

    const FILE: &str = r#"
suite = "fares"
[tests]
list = ["./t"]
run = ["./t", "{names}"]
results = "tap"
[retry]
times = 1
[[rule]]
tests = ["slow/**"]
limit = "2m"
claims = ["berth", "air"]
[[rule]]
tests = ["slow/b"]
retry = 5
group-by = 1
"#;

    fn plan(options: &RunOptions) -> Result<Plan, Error> {
        let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
        let list =
            listing::read(b"slow/a\nslow/b\n{\"name\":\"quick/c\",\"tags\":[\"smoke\"],\"seconds\":2}\n").unwrap();
        let known = |name: &TestName, _: &Variant| (name.as_str() == "slow/a").then_some(Span::seconds(7));
        Plan::make(&suite, options, &[(Variant::default(), list)], known)
    }

    #[test]
    fn rules_apply_in_their_order() {
        let plan = plan(&RunOptions::default()).unwrap();
        let [a, b, c] = plan.entries.as_slice() else { panic!("three entries") };
        assert_eq!((a.limit, a.retries, a.retries_from), (Span::seconds(120), 1, RetriesFrom::SuiteFile));
        assert_eq!((b.retries, b.retries_from, b.group), (5, RetriesFrom::Rule(13), Some(0)));
        assert_eq!(plan.claim_sets[a.claims as usize], ["air", "berth"]);
        assert_eq!((c.claims, c.limit), (0, Span::seconds(60)));
        assert_eq!([a.expected, b.expected, c.expected], [Some(Span::seconds(7)), None, Some(Span::seconds(2))]);
    }

    #[test]
    fn the_start_outranks_the_file_and_a_rule_outranks_the_start() {
        let plan = plan(&RunOptions { retries: Some(3), ..RunOptions::default() }).unwrap();
        assert_eq!((plan.entries[0].retries, plan.entries[0].retries_from), (3, RetriesFrom::Start));
        assert_eq!(plan.entries[1].retries, 5);
    }

    #[test]
    fn nothing_chosen_names_the_nearest() {
        let say = |pick: &str| {
            plan(&RunOptions { pick: vec![pick.into()], ..RunOptions::default() }).unwrap_err().to_string()
        };
        assert!(say("slwo/**").ends_with("nearest to slwo/**: slow/a, slow/b"), "{}", say("slwo/**"));
        assert!(say("tag:smok").ends_with("nearest to tag:smok: tag:smoke"));
        assert!(say("quick/d").contains("quick/c"));
        assert!(say("like:zzz").contains("of 3 tests none is chosen by --pick like:zzz"));
    }

    #[test]
    fn only_the_named_entries_are_repeated() {
        let only = Some(vec![("slow/b".to_owned(), String::new())]);
        let plan = plan(&RunOptions { only, ..RunOptions::default() }).unwrap();
        assert_eq!(plan.entries.len(), 1);
        assert_eq!(plan.listed, 3);
    }

    #[test]
    fn options_that_cannot_work_are_refused() {
        let suite = SuiteFile::parse("kesmo.toml", FILE).unwrap();
        let bad = [
            RunOptions { retries: Some(1000), ..RunOptions::default() },
            RunOptions { shards: Some(0), ..RunOptions::default() },
            RunOptions { pick: vec!["like:(".into()], ..RunOptions::default() },
            RunOptions { variants: vec!["screen=phone".into()], ..RunOptions::default() },
            RunOptions { env: Some("staging".into()), ..RunOptions::default() },
        ];
        for options in bad {
            assert!(options.check(&suite).is_err(), "{options:?}");
        }
    }
}
