//! How a plan is made: choosing, rules, parks, and what each test is expected to take.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use super::{
    options::{CasesOf, DEFAULT_RETRIES, RunOptions},
    planned::{Known, Park, Plan, PlannedEntry, RetriesFrom},
};
use crate::{
    error::Error,
    name::{TestName, nearest},
    record::median,
    suite::{
        Choice, ListedTest, Pattern, SuiteFile, Variant,
        file::{GroupBy, Rule},
    },
    time::Span,
};

/// The most entries of a run.
pub const MOST_ENTRIES: usize = 1_000_000;

/// What failed recently may go first as long as it is at most this share of the work, in percent: so much later, at the
/// most, does everything else end.
pub const FIRST_FAILED_SHARE: u64 = 5;

/// Notes of one kind that a plan says singly; more are counted.
const MOST_NOTES: usize = 5;

impl Plan {
    /// Makes the plan of a run from the lists of its variants. The same arguments give the same entries in the same order.
    ///
    /// `history` tells what is known of a test in a variant. The entries themselves do not depend on it, so that the plan
    /// of an old run can be made again.
    ///
    /// # Errors
    /// [`Error::Options`] if nothing is chosen; the message names the nearest names.
    pub fn make(
        suite: &SuiteFile,
        options: &RunOptions,
        lists: &[(Variant, Vec<ListedTest>)],
        parks: &[Park],
        history: impl Fn(&TestName, &Variant) -> Option<Known>,
    ) -> Result<Self, Error> {
        let mut maker = Maker::new(suite, options, parks)?;
        if suite.tests.of_files() {
            maker.look_for_cases(lists)?;
        }
        for (number, (variant, tests)) in lists.iter().enumerate() {
            let number =
                u16::try_from(number).map_err(|_| Error::Options("a run has at most 65535 variants".into()))?;
            maker.plan.variants.push(variant.clone());
            maker.plan.listed += tests.len();
            if options.order.is_none() {
                maker.choose(number, variant, tests, &history)?;
            }
        }
        for pattern in maker.choice.pick.iter().chain(&maker.choice.drop) {
            let Some(why) = pattern.only_a_name() else { continue };
            let of_case = maker
                .case_picks
                .iter()
                .any(|(file, titles)| titles.iter().any(|title| pattern.as_str() == format!("{file}/{title}")));
            if !of_case && !lists.iter().flat_map(|l| &l.1).any(|t| t.name.as_str() == pattern.as_str()) {
                let name = pattern.as_str();
                return Err(Error::Options(format!(
                    "the pattern {name:?} cannot be read ({why}), and no test has that name"
                )));
            }
        }
        if let Some(order) = &options.order {
            maker.follow(order, lists, &history)?;
        }
        if maker.plan.entries.is_empty() {
            return Err(Error::Options(nothing_chosen(options, lists)));
        }
        maker.say_remarks();
        let mut plan = maker.plan;
        plan.guess_unknown();
        if options.recent_failures_first {
            plan.put_failed_first(&maker.trouble);
        }
        Ok(plan)
    }

    /// A test of which nothing is known counts as those it resembles: the median of its group's tests, else of those whose names
    /// begin with the same part, else of all. That is a guess, so its spread is as large as itself.
    fn guess_unknown(&mut self) {
        if self.entries.iter().all(|e| e.expected.is_some()) {
            return;
        }
        let mut of_group: HashMap<u32, Vec<u64>> = HashMap::new();
        let mut of_part: HashMap<String, Vec<u64>> = HashMap::new();
        let mut of_all: Vec<u64> = Vec::new();
        for entry in &self.entries {
            if let Some(expected) = entry.expected {
                if let Some(group) = entry.group {
                    of_group.entry(group).or_default().push(expected.0);
                }
                of_part.entry(entry.name.first_parts(1)).or_default().push(expected.0);
                of_all.push(expected.0);
            }
        }
        if of_all.is_empty() {
            return;
        }
        let middle = median(&mut of_all);
        let groups: HashMap<u32, u64> = of_group.into_iter().map(|(k, mut v)| (k, median(&mut v))).collect();
        let parts: HashMap<String, u64> = of_part.into_iter().map(|(k, mut v)| (k, median(&mut v))).collect();
        for entry in self.entries.iter_mut().filter(|e| e.expected.is_none()) {
            let by_group = entry.group.and_then(|g| groups.get(&g));
            let guess = *by_group.or_else(|| parts.get(&entry.name.first_parts(1))).unwrap_or(&middle);
            entry.expected = Some(Span(guess));
            entry.spread = Span(guess);
        }
    }

    /// Marks what failed recently to go first, the latest first, as far as [`FIRST_FAILED_SHARE`] allows.
    fn put_failed_first(&mut self, trouble: &HashMap<u32, u32>) {
        let total: u64 = self.entries.iter().filter_map(|e| e.expected).map(|s| s.0).sum();
        let mut candidates: Vec<(u32, Span, u32)> =
            trouble.iter().map(|(i, ago)| (*ago, self.entries[*i as usize].expected.unwrap_or_default(), *i)).collect();
        candidates.sort_unstable();
        let mut left = total * FIRST_FAILED_SHARE / 100;
        for (_, expected, index) in candidates {
            let entry = &mut self.entries[index as usize];
            if expected.0 <= left && entry.group.is_none() {
                left -= expected.0;
                entry.first = true;
            }
        }
    }
}

/// Makes a plan, list by list.
struct Maker<'m> {
    suite: &'m SuiteFile,
    options: &'m RunOptions,
    choice: Choice,
    only: Option<HashSet<(&'m str, &'m str)>>,
    parks: Vec<(Pattern, &'m Park)>,
    /// Picks of single cases, by the name of their file.
    case_picks: HashMap<String, Vec<String>>,
    groups: HashMap<(u16, u16, String), u32>,
    plan: Plan,
    /// How many runs ago entries were in trouble.
    trouble: HashMap<u32, u32>,
    /// Tests whose list and rule name different groups, and tests that count again.
    regrouped: Vec<String>,
    again: BTreeMap<usize, Vec<String>>,
}

impl<'m> Maker<'m> {
    fn new(suite: &'m SuiteFile, options: &'m RunOptions, parks: &'m [Park]) -> Result<Self, Error> {
        let only = options.only.as_ref().map(|only| only.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect());
        // A park that cannot be read was refused when it was made.
        let read = |park: &'m Park| Pattern::parse_or_name(&park.pattern).ok().map(|pattern| (pattern, park));
        let parks: Vec<_> = parks.iter().filter_map(read).collect();
        let plan = Plan {
            claim_sets: vec![Vec::new()],
            case_sets: vec![Vec::new()],
            parks: parks.iter().map(|p| p.1.clone()).collect(),
            case_parks: case_parks(suite, &parks),
            of_files: suite.tests.of_files(),
            ..Plan::default()
        };
        Ok(Self {
            suite,
            options,
            choice: Choice::parse(&options.pick, &options.drop)?,
            only,
            parks,
            case_picks: HashMap::new(),
            groups: HashMap::new(),
            plan,
            trouble: HashMap::new(),
            regrouped: Vec::new(),
            again: BTreeMap::new(),
        })
    }

    /// Picks that match no file, and name a case of one: `FILE/TITLE`.
    fn look_for_cases(&mut self, lists: &[(Variant, Vec<ListedTest>)]) -> Result<(), Error> {
        let files: HashSet<&str> = lists.iter().flat_map(|l| &l.1).map(|t| t.name.as_str()).collect();
        let file_of = |text: &str| {
            let mut ends: Vec<usize> = text.match_indices('/').map(|(at, _)| at).collect();
            ends.reverse();
            ends.into_iter().find(|at| files.contains(&text[..*at]) && at + 1 < text.len())
        };
        let matches = |pattern: &Pattern| lists.iter().flat_map(|l| &l.1).any(|t| pattern.matches(&t.name, &t.tags));
        for pattern in &self.choice.pick {
            let text = pattern.as_str();
            let Some(at) = file_of(text).filter(|_| !matches(pattern)) else { continue };
            let (file, title) = (&text[..at], &text[at + 1..]);
            if self.suite.tests.rerun.is_none() {
                return Err(Error::Options(format!(
                    "{text:?} is a case of the file {file}, and the suite cannot run cases alone: pick the file, or give \"rerun\" in [tests]"
                )));
            }
            if title.contains(['*', '?']) {
                return Err(Error::Options(format!(
                    "{text:?} picks cases of the file {file} by a pattern, and cases are known only as the file runs: pick the file, or a case by its whole title"
                )));
            }
            self.case_picks.entry(file.to_owned()).or_default().push(title.to_owned());
        }
        for pattern in &self.choice.drop {
            let text = pattern.as_str();
            if let Some(at) = file_of(text).filter(|_| !matches(pattern)) {
                let (file, suite) = (&text[..at], &self.suite.suite);
                return Err(Error::Options(format!(
                    "--drop {text:?} names a case of the file {file}, and a file runs with all its cases: drop the file, or set the case aside (kesmo park {suite} {text:?})"
                )));
            }
        }
        Ok(())
    }

    fn choose(
        &mut self,
        number: u16,
        variant: &Variant,
        tests: &[ListedTest],
        history: &impl Fn(&TestName, &Variant) -> Option<Known>,
    ) -> Result<(), Error> {
        let variant_text = variant.to_string();
        let times = self.options.times().unwrap_or(1).max(1);
        for test in tests {
            let wanted =
                self.only.as_ref().is_none_or(|only| only.contains(&(test.name.as_str(), variant_text.as_str())));
            let whole = self.choice.takes(&test.name, &test.tags);
            let picked = self
                .case_picks
                .get(test.name.as_str())
                .filter(|_| !whole && !self.choice.drops(&test.name, &test.tags));
            if !wanted || !(whole || picked.is_some()) {
                continue;
            }
            let named = |of: &&CasesOf| of.file == test.name.as_str() && of.variant == variant_text;
            let asked = || self.options.cases.iter().filter(|_| self.suite.tests.rerun.is_some()).find(named);
            let cases = picked.or_else(|| asked().map(|of| &of.titles)).cloned();
            let cases = cases.map_or(0, |cases| self.plan.case_set(cases));
            let mut ruled =
                Ruled { covers: self.plan.covers.place(self.suite, test), ..Ruled::of(self.suite, self.options, test) };
            if self.options.each_slot {
                ruled.of_a_load(test)?;
            }
            let known = history(&test.name, variant);
            for time in 1..=times {
                let repeat = if times > 1 { time as u16 } else { 0 };
                self.add(number, repeat, test, &ruled, known)?;
                if let Some(entry) = self.plan.entries.last_mut() {
                    entry.cases = cases;
                }
            }
            if let Some((listed, line)) = ruled.regrouped {
                let name = &test.name;
                self.regrouped.push(format!(
                    "{name} is in the group {listed:?} by the list and in another by kesmo.toml line {line}; the rule stands"
                ));
            }
        }
        Ok(())
    }

    /// Takes over the batches of an order, in which a test may stand several times.
    fn follow(
        &mut self,
        order: &[Vec<(String, String)>],
        lists: &[(Variant, Vec<ListedTest>)],
        history: &impl Fn(&TestName, &Variant) -> Option<Known>,
    ) -> Result<(), Error> {
        let listed: HashMap<(String, &str), (u16, &Variant, &ListedTest)> = lists
            .iter()
            .enumerate()
            .flat_map(|(number, (variant, tests))| {
                let text = variant.to_string();
                tests.iter().map(move |t| ((text.clone(), t.name.as_str()), (number as u16, variant, t)))
            })
            .collect();
        let mut times: HashMap<(&str, &str), u16> = HashMap::new();
        let (mut batches, mut missing, mut all) = (Vec::new(), Vec::new(), 0);
        for batch in order {
            let mut entries = Vec::new();
            for (name, variant) in batch {
                all += 1;
                let Some((number, of, test)) = listed.get(&(variant.clone(), name.as_str())).copied() else {
                    missing.push(name.as_str());
                    continue;
                };
                let time = times.entry((name, variant)).or_insert(0);
                *time += 1;
                let ruled = Ruled {
                    retries: 0,
                    retries_from: RetriesFrom::Start,
                    group: None,
                    covers: self.plan.covers.place(self.suite, test),
                    ..Ruled::of(self.suite, self.options, test)
                };
                entries.push(self.plan.entries.len() as u32);
                self.add(number, *time, test, &ruled, history(&test.name, of))?;
            }
            if !entries.is_empty() {
                batches.push(entries);
            }
        }
        if !missing.is_empty() {
            let some = missing.iter().take(3).copied().collect::<Vec<_>>().join(", ");
            self.plan.notes.push(format!(
                "{} of the {all} tests of the order to repeat are no longer listed and are left out: {some}{}",
                missing.len(),
                if missing.len() > 3 { ", …" } else { "" }
            ));
        }
        // Only what stands several times is counted.
        for index in 0..self.plan.entries.len() {
            let variant = self.plan.variant_of(index as u32).to_string();
            let entry = &mut self.plan.entries[index];
            if times.get(&(entry.name.as_str(), variant.as_str())) == Some(&1) {
                entry.repeat = 0;
            }
        }
        self.plan.order = Some(batches);
        Ok(())
    }

    fn add(
        &mut self,
        variant: u16,
        repeat: u16,
        test: &ListedTest,
        ruled: &Ruled,
        known: Option<Known>,
    ) -> Result<(), Error> {
        if self.plan.entries.len() == MOST_ENTRIES {
            return Err(Error::Options(format!(
                "a run has at most {MOST_ENTRIES} entries: pick fewer tests, or repeat them less often"
            )));
        }
        let next = self.groups.len() as u32;
        let group = ruled.group.as_ref().map(|g| *self.groups.entry((variant, repeat, g.clone())).or_insert(next));
        let claims = self.plan.claim_set(ruled.claims.clone());
        let listed = test.seconds.map(|s| Span((s * 1e6) as u64));
        let index = self.plan.entries.len() as u32;
        if let Some(ago) = known.and_then(|k| k.trouble) {
            self.trouble.insert(index, ago);
        }
        let of = &self.plan.variants[usize::from(variant)];
        let matches = |(pattern, park): &(Pattern, &Park)| park.only.has(of) && pattern.matches(&test.name, &test.tags);
        let park = self.parks.iter().position(|found| !found.1.over && matches(found));
        if park.is_none()
            && repeat <= 1
            && let Some(over) = self.parks.iter().position(matches)
        {
            self.again.entry(over).or_default().push(test.name.to_string());
        }
        let takes = known.and_then(|k| k.takes);
        let expected = takes.map(|(expected, _)| expected).or(listed);
        self.plan.entries.push(PlannedEntry {
            name: test.name.clone(),
            variant,
            repeat,
            part: None,
            first: false,
            parked: park.and_then(|p| u16::try_from(p).ok()),
            group,
            expected,
            // What the list says is a word, not a measurement.
            spread: takes.map_or_else(|| Span(expected.unwrap_or_default().0 / 2), |(_, spread)| spread),
            retries: ruled.retries as u8,
            retries_from: ruled.retries_from,
            limit: ruled.limit,
            claims,
            cases: 0,
            covers: ruled.covers,
        });
        Ok(())
    }

    fn say_remarks(&mut self) {
        let more = self.regrouped.len().saturating_sub(MOST_NOTES);
        self.plan.notes.extend(self.regrouped.drain(..).take(MOST_NOTES));
        if more > 0 {
            self.plan.notes.push(format!("{more} more tests are in one group by the list and in another by a rule"));
        }
        for (park, names) in &self.again {
            let park = &self.plan.parks[*park];
            let more = names.len().saturating_sub(3);
            let some = names.iter().take(3).map(String::as_str).collect::<BTreeSet<_>>();
            let some = some.into_iter().collect::<Vec<_>>().join(", ");
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let verb = if names.len() == 1 { "counts" } else { "count" };
            self.plan.notes.push(format!("{some}{more} {verb} again: parked until {} ({})", park.until, park.why));
        }
    }
}

/// The parks that may set cases of files aside.
fn case_parks(suite: &SuiteFile, parks: &[(Pattern, &Park)]) -> Vec<(Pattern, u16)> {
    let all = parks.iter().enumerate().filter(|(_, (_, park))| suite.tests.of_files() && !park.over);
    all.filter_map(|(index, (pattern, _))| Some((pattern.clone(), u16::try_from(index).ok()?))).collect()
}

struct Ruled {
    limit: Span,
    retries: u32,
    retries_from: RetriesFrom,
    group: Option<String>,
    claims: Vec<String>,
    /// The place of what it covers.
    covers: u32,
    /// The group that the list names and the line of the rule that names another.
    regrouped: Option<(String, usize)>,
}

impl Ruled {
    /// Weakest first: the service's default, the suite file, the start, the rules in their order.
    fn of(suite: &SuiteFile, options: &RunOptions, test: &ListedTest) -> Self {
        let (retries, retries_from) = match (options.retries, suite.retry.times) {
            (Some(n), _) => (n, RetriesFrom::Start),
            (None, Some(n)) => (n, RetriesFrom::SuiteFile),
            (None, None) => (DEFAULT_RETRIES, RetriesFrom::Default),
        };
        let mut ruled = Self {
            limit: suite.limits.test,
            retries,
            retries_from,
            group: test.group.clone(),
            claims: Vec::new(),
            covers: 0,
            regrouped: None,
        };
        let applies = |rule: &&Rule| rule.tests.iter().any(|p| p.matches(&test.name, &test.tags));
        for rule in suite.rules.iter().filter(applies) {
            ruled.limit = rule.limit.unwrap_or(ruled.limit);
            if let Some(n) = rule.retry {
                (ruled.retries, ruled.retries_from) = (n, RetriesFrom::Rule(rule.line as u32));
            }
            let group = match &rule.group {
                Some(GroupBy::Name(name)) => Some(name.clone()),
                Some(GroupBy::Parts(parts)) => Some(test.name.first_parts(*parts as usize)),
                None => None,
            };
            if let Some(group) = group {
                ruled.regrouped =
                    test.group.clone().filter(|listed| *listed != group).map(|listed| (listed, rule.line));
                ruled.group = Some(group);
            }
            if let Some(claims) = &rule.claims {
                ruled.claims.clone_from(claims);
            }
        }
        ruled.claims.sort();
        ruled.claims.dedup();
        ruled
    }

    /// What runs on several slots at once is not retried by part, and cannot hold what only one may.
    fn of_a_load(&mut self, test: &ListedTest) -> Result<(), Error> {
        (self.retries, self.group) = (0, None);
        match self.claims.first() {
            None => Ok(()),
            Some(claim) => Err(Error::Options(format!(
                "{} holds the claim {claim:?}, which only one process has at a time, so it cannot run on several slots at once: \
                 leave --each-slot out, or the test (--drop {:?})",
                test.name,
                test.name.as_str()
            ))),
        }
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
    if options.only.is_some() || options.order.is_some() {
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
            None if pick.starts_with("regex:") => Vec::new(),
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
