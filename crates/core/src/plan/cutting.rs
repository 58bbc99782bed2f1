//! Cutting: a file that is longer than its fair share of a run is cut by its known cases, so that several slots run it at once.
//!
//! A cut file is several entries that follow each other, its parts. Each runs the cases that were dealt to it, longest first to
//! the part with the least (R. L. Graham, "Bounds on multiprocessing timing anomalies", SIAM Journal on Applied Mathematics 17,
//! 1969), and none that another part runs. Where the suite can run a file without some of its cases (`rest`), the last part runs
//! all that no other does, so that cases that are new since come with it. Where it cannot, new cases run when the file is whole
//! again: at least every [`WHOLE_EVERY`]th time.

use std::{
    cmp::Reverse,
    collections::{BTreeMap, HashMap},
};

use serde::{Deserialize, Serialize};

use super::{PartOf, Plan, PlannedEntry, RunOptions};
use crate::{
    name::{LONGEST_CASE_TITLE, NO_TITLE},
    suite::SuiteFile,
    time::Span,
};

/// A file is cut only if that brings the end of the run forward by at least this much, were it the last to end.
pub const LEAST_GAIN: Span = Span::seconds(1);

/// No part is worth less than this much work, nor less than four starts of its process.
pub const LEAST_PART: Span = Span::millis(500);

/// The most parts of a file, the most cases of one that is cut, and the most bytes of their titles: each part is told of all.
pub const MOST_PARTS: u32 = 64;
pub const MOST_CASES: usize = 5000;
pub const MOST_TITLE_BYTES: usize = 256 << 10;

/// Where new cases of a file are found only when it runs whole, it is not cut more often than this many times less one in a row.
pub const WHOLE_EVERY: usize = 5;

/// The most files of a run that are cut: the longest.
pub const MOST_CUTS: usize = 200;

/// How a file is cut in a run. Kept with the run, so that its plan can be made again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cut {
    pub file: String,
    /// As written; empty for a suite without facets.
    pub variant: String,
    /// At least two.
    pub parts: Vec<CutPart>,
    /// The last part runs all that no other does, also what is not known.
    pub rest: bool,
}

/// The cases of a part, in the order in which the file told of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CutPart {
    pub titles: Vec<String>,
    /// What they are expected to take, in microseconds.
    pub us: u64,
}

/// A file that is worth cutting.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Long {
    pub entry: u32,
    /// Into at most so many parts.
    pub parts: u32,
}

/// A case as it ran last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownCase {
    pub title: String,
    pub spent: Span,
}

/// Whether files of such a run may be cut at all: each has to run once, whole, and in no order.
#[must_use]
pub fn may_cut(suite: &SuiteFile, options: &RunOptions) -> bool {
    let once = options.order.is_none() && options.times().is_none() && !options.shuffle;
    suite.tests.of_files() && suite.tests.rerun.is_some() && suite.tests.split && once && options.cases.is_empty()
}

/// The files that are longer than an even share of the run on so many slots, the longest first. `start_cost` is what starting a
/// process costs.
#[must_use]
pub fn too_long(plan: &Plan, slots: u32, start_cost: Span) -> Vec<Long> {
    if slots < 2 {
        return Vec::new();
    }
    let all: u64 = plan.entries.iter().filter(|e| e.parked.is_none()).filter_map(|e| e.expected).map(|s| s.0).sum();
    let even = all / u64::from(slots);
    let gain = LEAST_GAIN.0.max(start_cost.0 * 2);
    let least = LEAST_PART.0.max(start_cost.0 * 4);
    let is_alone = |e: &PlannedEntry| e.group.is_none() && e.claims == 0 && e.cases == 0 && e.repeat == 0;
    let mut long: Vec<(u64, Long)> = Vec::new();
    for (index, entry) in plan.entries.iter().enumerate().filter(|(_, e)| e.parked.is_none() && is_alone(e)) {
        let Some(expected) = entry.expected.map(|s| s.0).filter(|us| *us >= even + gain) else { continue };
        // Parts of half a share even out with each other and with what else there is.
        let parts = expected.div_ceil((even / 2).max(least)).min(u64::from(slots.min(MOST_PARTS)));
        if parts >= 2 {
            long.push((expected, Long { entry: index as u32, parts: parts as u32 }));
        }
    }
    long.sort_by_key(|(expected, long)| (Reverse(*expected), long.entry));
    long.truncate(MOST_CUTS);
    long.into_iter().map(|(_, long)| long).collect()
}

/// Deals the cases of a file out to at most so many parts, the fullest first; none if they are too few, or too many.
#[must_use]
pub fn deal(cases: &[KnownCase], parts: u32) -> Option<Vec<CutPart>> {
    let bytes: usize = cases.iter().map(|case| case.title.len()).sum();
    let parts = cases.len().min(parts as usize);
    // A title is a line of a file that says what to run: one that was changed to be kept is not that.
    let nameable = |title: &str| {
        title.len() < LONGEST_CASE_TITLE - 30 && title != NO_TITLE && !title.contains(['\n', '\r', '\u{fffd}'])
    };
    let lines = cases.iter().all(|case| !case.title.is_empty() && nameable(&case.title));
    if parts < 2 || cases.len() > MOST_CASES || bytes > MOST_TITLE_BYTES || !lines {
        return None;
    }
    let mut order: Vec<usize> = (0..cases.len()).collect();
    order.sort_by_key(|at| (Reverse(cases[*at].spent), *at));
    let mut dealt: Vec<(u64, Vec<usize>)> = vec![(0, Vec::new()); parts];
    for at in order {
        // Cases that take no time are spread, too.
        let least = dealt.iter_mut().min_by_key(|(us, of)| (*us, of.len()))?;
        least.0 += cases[at].spent.0;
        least.1.push(at);
    }
    dealt.sort_by_key(|(us, of)| (Reverse(*us), of.iter().min().copied()));
    let part = |(us, mut of): (u64, Vec<usize>)| {
        of.sort_unstable();
        CutPart { titles: of.into_iter().map(|at| cases[at].title.clone()).collect(), us }
    };
    Some(dealt.into_iter().map(part).collect())
}

impl Plan {
    /// The plan with files cut: each is several entries then. A cut of a file that is not in it, or that runs some of its cases only,
    /// changes nothing.
    #[must_use]
    pub fn with_cuts(mut self, cuts: &[Cut]) -> Self {
        if cuts.is_empty() || self.order.is_some() {
            return self;
        }
        let by_name: HashMap<(&str, &str), &Cut> =
            cuts.iter().map(|cut| ((cut.file.as_str(), cut.variant.as_str()), cut)).collect();
        let variants: Vec<String> = self.variants.iter().map(ToString::to_string).collect();
        for entry in std::mem::take(&mut self.entries) {
            let variant = variants.get(usize::from(entry.variant)).map_or("", String::as_str);
            let whole = entry.repeat == 0 && entry.cases == 0;
            let cut = by_name.get(&(entry.name.as_str(), variant)).filter(|cut| whole && cut.parts.len() > 1);
            match cut {
                Some(cut) => self.add_parts(&entry, cut),
                None => self.entries.push(entry),
            }
        }
        self.say_cuts();
        self
    }

    fn add_parts(&mut self, entry: &PlannedEntry, cut: &Cut) {
        let all: u64 = cut.parts.iter().map(|part| part.us).sum::<u64>().max(1);
        let share = |span: Span, us: u64| Span((span.0 as f64 * us as f64 / all as f64) as u64);
        for (at, part) in cut.parts.iter().enumerate() {
            let others = cut.parts.iter().enumerate().filter(|(other, _)| *other != at);
            let aside = others.flat_map(|(_, other)| other.titles.iter().cloned()).collect();
            let last = at + 1 == cut.parts.len();
            let of = PartOf {
                of: cut.parts.len() as u16,
                aside: self.case_set(aside),
                rest: cut.rest && last,
                only: cut.rest && !last,
            };
            let cases = self.case_set(part.titles.clone());
            self.entries.push(PlannedEntry {
                repeat: at as u16 + 1,
                part: Some(of),
                cases,
                expected: entry.expected.map(|expected| share(expected, part.us)),
                spread: share(entry.spread, part.us),
                ..entry.clone()
            });
        }
    }

    /// Says which files are cut, and what that means for cases that are new.
    fn say_cuts(&mut self) {
        let mut cut: BTreeMap<String, (u16, bool)> = BTreeMap::new();
        for entry in &self.entries {
            if let Some(part) = entry.part {
                let of = cut.entry(entry.name.to_string()).or_default();
                *of = (of.0.max(part.of), of.1 | part.rest);
            }
        }
        let Some((file, (of, _))) = cut.first_key_value() else { return };
        let said = match cut.len() {
            1 => format!("{file} runs in {of} parts, so that it is not the last to end"),
            n => format!("{n} files run in parts, so that they are not the last to end: {file} in {of}, …"),
        };
        let new = if cut.values().all(|(_, rest)| *rest) {
            ""
        } else {
            "; cases that are new since it last ran whole do not run this time (\"rest\" in [tests] would run them)"
        };
        self.notes.push(format!("{said}{new}"));
    }

    /// How many tests or files its entries are: the parts of a cut file are one.
    #[must_use]
    pub fn whole_entries(&self) -> usize {
        self.entries.iter().filter(|e| e.part.is_none() || e.repeat == 1).count()
    }

    /// The other cases of an entry's file, that its other parts run; none where it is whole.
    #[must_use]
    pub fn aside_of(&self, entry: u32) -> &[String] {
        let set = self.entries[entry as usize].part.map_or(0, |part| part.aside as usize);
        self.case_sets.get(set).map_or(&[], Vec::as_slice)
    }
}

impl PlannedEntry {
    /// Which repetition it is, from 1; 0 where nothing is repeated.
    #[must_use]
    pub fn repetition(&self) -> u32 {
        if self.part.is_some() { 0 } else { u32::from(self.repeat) }
    }

    /// Of how many parts of its file this is one; 0 where it is not.
    #[must_use]
    pub fn parts(&self) -> u32 {
        self.part.map_or(0, |part| u32::from(part.of))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::{name::TestName, suite::Variant};

    fn case(title: &str, ms: u64) -> KnownCase {
        KnownCase { title: title.into(), spent: Span::millis(ms) }
    }

    fn plan(seconds: &[u64]) -> Plan {
        let entry = |(at, s): (usize, &u64)| PlannedEntry {
            expected: Some(Span::seconds(*s)),
            ..PlannedEntry::plain(TestName::parse(&format!("specs/{at}.sh")).unwrap())
        };
        Plan {
            variants: vec![Variant::default()],
            entries: seconds.iter().enumerate().map(entry).collect(),
            claim_sets: vec![vec![]],
            case_sets: vec![vec![]],
            of_files: true,
            ..Plan::default()
        }
    }

    fn cut(file: &str, parts: &[(&[&str], u64)], rest: bool) -> Cut {
        let part = |(titles, ms): &(&[&str], u64)| CutPart {
            titles: titles.iter().map(|t| (*t).to_owned()).collect(),
            us: Span::millis(*ms).0,
        };
        Cut { file: file.into(), variant: String::new(), parts: parts.iter().map(part).collect(), rest }
    }

    proptest! {
        #[test]
        fn every_case_is_in_exactly_one_part(
            ms in proptest::collection::vec(0u64..4000, 2..200),
            parts in 2u32..12,
        ) {
            let cases: Vec<KnownCase> = ms.iter().enumerate().map(|(at, ms)| case(&format!("c{at}"), *ms)).collect();
            let dealt = deal(&cases, parts).unwrap();
            prop_assert_eq!(dealt.len(), (parts as usize).min(cases.len()));
            prop_assert!(dealt.iter().all(|part| !part.titles.is_empty()));
            let mut all: Vec<&String> = dealt.iter().flat_map(|part| &part.titles).collect();
            all.sort();
            let mut wanted: Vec<&String> = cases.iter().map(|case| &case.title).collect();
            wanted.sort();
            prop_assert_eq!(all, wanted);
            let longest = ms.iter().max().copied().unwrap_or(0) * 1000;
            let fair = ms.iter().sum::<u64>() * 1000 / dealt.len() as u64;
            prop_assert!(dealt[0].us <= fair + longest, "the fullest has {} of {fair}", dealt[0].us);
            prop_assert!(dealt.windows(2).all(|two| two[0].us >= two[1].us), "the last has room for what is new");
        }
    }

    #[test]
    fn what_is_longer_than_its_share_is_cut_and_nothing_else() {
        let mut of_sixty = vec![60];
        of_sixty.extend([2; 50]);
        let long = too_long(&plan(&of_sixty), 8, Span::ZERO);
        assert_eq!(long, [Long { entry: 0, parts: 6 }], "an even share is 20 s, and a part half of that");
        assert_eq!(too_long(&plan(&[2; 50]), 8, Span::ZERO), []);
        assert_eq!(too_long(&plan(&of_sixty), 1, Span::ZERO), [], "one slot has all of it");
        assert_eq!(too_long(&plan(&[60, 60]), 2, Span::ZERO), [], "each has a slot");
        let costly = too_long(&plan(&of_sixty), 8, Span::seconds(5));
        assert_eq!(costly, [Long { entry: 0, parts: 3 }], "a part is worth four starts");
        assert_eq!(too_long(&plan(&of_sixty), 8, Span::seconds(30)), [], "and there is something to be gained");
        let both = too_long(&plan(&[50, 70, 1, 1]), 10, Span::ZERO);
        assert_eq!(both.iter().map(|long| long.entry).collect::<Vec<_>>(), [1, 0], "the longest first");
    }

    #[test]
    fn what_must_stay_together_is_not_cut() {
        let mut of_sixty = vec![60];
        of_sixty.extend([2; 50]);
        for change in [
            (|e| e.group = Some(1)) as fn(&mut PlannedEntry),
            |e| e.claims = 1,
            |e| e.cases = 1,
            |e| e.repeat = 1,
            |e| e.parked = Some(0),
            |e| e.expected = None,
        ] {
            let mut plan = plan(&of_sixty);
            change(&mut plan.entries[0]);
            assert_eq!(too_long(&plan, 8, Span::ZERO), []);
        }
    }

    #[test]
    fn too_few_and_too_many_cases_are_not_dealt_out() {
        assert_eq!(deal(&[case("a", 5)], 4), None);
        assert_eq!(deal(&[case("a", 5), case("b", 5)], 1), None);
        for title in ["a\nb", "a\u{fffd}b", "(no title)", &crate::name::case_title(&"w".repeat(600))] {
            assert_eq!(deal(&[case(title, 5), case("c", 5)], 2), None, "{title} is not what the file calls it");
        }
        let many: Vec<KnownCase> = (0..=MOST_CASES).map(|at| case(&at.to_string(), 1)).collect();
        assert_eq!(deal(&many, 4), None);
        let wordy: Vec<KnownCase> = (0..700).map(|at| case(&format!("{at}{}", "w".repeat(400)), 1)).collect();
        assert_eq!(deal(&wordy, 4), None);
        let two = deal(&[case("a", 0), case("b", 0), case("c", 0)], 2).unwrap();
        assert_eq!(two.iter().map(|part| part.titles.len()).sum::<usize>(), 3);
        assert!(two.iter().all(|part| !part.titles.is_empty()), "what takes no time is spread, too");
    }

    #[test]
    fn a_cut_file_is_as_many_entries_as_it_has_parts() {
        let cuts = [
            cut("specs/1.sh", &[(&["a", "c"], 6000), (&["b"], 3000)], true),
            cut("gone.sh", &[(&["x"], 1), (&["y"], 1)], true),
        ];
        let plan = plan(&[1, 9, 2]).with_cuts(&cuts);
        let said: Vec<(&str, u16, u32)> = plan.entries.iter().map(|e| (e.name.as_str(), e.repeat, e.parts())).collect();
        assert_eq!(said, [("specs/0.sh", 0, 0), ("specs/1.sh", 1, 2), ("specs/1.sh", 2, 2), ("specs/2.sh", 0, 0)]);
        assert_eq!((plan.cases_of(1), plan.aside_of(1)), (&["a".to_owned(), "c".into()][..], &["b".to_owned()][..]));
        assert_eq!((plan.cases_of(2), plan.aside_of(2)), (&["b".to_owned()][..], &["a".to_owned(), "c".into()][..]));
        assert!(plan.cases_of(0).is_empty() && plan.aside_of(0).is_empty());
        assert_eq!(plan.entries[1].expected, Some(Span::seconds(6)));
        assert_eq!(plan.entries[2].expected, Some(Span::seconds(3)));
        assert_eq!((plan.entries[1].part.unwrap().rest, plan.entries[2].part.unwrap().rest), (false, true));
        assert_eq!((plan.entries.len(), plan.whole_entries()), (4, 3));
        assert_eq!(plan.notes, ["specs/1.sh runs in 2 parts, so that it is not the last to end"]);
    }

    #[test]
    fn that_new_cases_do_not_run_is_said() {
        let cuts = [cut("specs/0.sh", &[(&["a"], 2), (&["b"], 1)], false)];
        let plan = plan(&[1]).with_cuts(&cuts);
        assert!(plan.notes[0].contains("new since it last ran whole do not run this time"), "{:?}", plan.notes);
        let both = [cuts[0].clone(), cut("specs/1.sh", &[(&["a"], 2), (&["b"], 1)], true)];
        let said = self::plan(&[1, 2]).with_cuts(&both).notes.remove(0);
        assert!(said.starts_with("2 files run in parts") && said.contains("do not run this time"), "{said}");
    }

    #[test]
    fn a_file_of_which_some_cases_were_chosen_is_left_as_it_is() {
        let cuts = [cut("specs/0.sh", &[(&["a"], 2), (&["b"], 1)], true)];
        let mut chosen = plan(&[4]);
        chosen.entries[0].cases = 1;
        chosen.case_sets.push(vec!["a".into()]);
        assert_eq!(chosen.with_cuts(&cuts).entries.len(), 1);
        let kept = serde_json::to_value(&cuts).unwrap();
        assert_eq!(serde_json::from_value::<Vec<Cut>>(kept).unwrap(), cuts);
    }
}
