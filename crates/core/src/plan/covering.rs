//! What the tests of a plan are said to cover.

use std::collections::HashMap;

use crate::suite::{ListedTest, SuiteFile, covers::Requirement};

/// What the tests of a run are said to cover before they run: sets of requirements, so that many tests share one.
#[derive(Debug, Clone, Default)]
pub struct CoverSets(Option<Box<Sets>>);

#[derive(Debug, Clone)]
struct Sets {
    /// The first is empty.
    sets: Vec<Vec<Requirement>>,
    places: HashMap<Vec<Requirement>, u32>,
}

impl CoverSets {
    /// The place of what a test is said to cover by its suite's file and list; 0 if that is nothing.
    pub(crate) fn place(&mut self, suite: &SuiteFile, test: &ListedTest) -> u32 {
        let ruled = suite.covers.iter().filter(|covers| covers.tests.matches(&test.name, &test.tags));
        let mut all: Vec<Requirement> = ruled.flat_map(|covers| &covers.of).chain(&test.covers).cloned().collect();
        if all.is_empty() {
            return 0;
        }
        all.sort();
        all.dedup();
        let known = self.0.get_or_insert_with(|| Box::new(Sets { sets: vec![Vec::new()], places: HashMap::new() }));
        if let Some(place) = known.places.get(&all) {
            return *place;
        }
        let place = known.sets.len() as u32;
        known.places.insert(all.clone(), place);
        known.sets.push(all);
        place
    }

    /// The requirements at a place.
    #[must_use]
    pub fn at(&self, place: u32) -> &[Requirement] {
        self.0.as_ref().and_then(|known| known.sets.get(place as usize)).map_or(&[], Vec::as_slice)
    }

    /// Whether no test covers anything.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::suite::listing;

    const FILE: &str = r#"
        suite = "gate"
        [tests]
        list = ["./t", "--names"]
        run = ["./t", "{names}"]
        results = "tap"
        [covers]
        "gate/late/**" = ["REQ-118", "REQ-204"]
        "tag:money" = ["REQ-7"]
    "#;

    #[test]
    fn a_test_covers_what_its_file_and_its_list_say_each_once() {
        let suite = SuiteFile::parse("kesmo.toml", FILE).expect("a suite file");
        let tests = listing::read(
            b"gate/late/refused\n{\"name\":\"gate/late/pays\",\"tags\":[\"money\"],\"covers\":[\"REQ-118\",\"REQ-9\"]}\ngate/early\n",
        );
        let mut sets = CoverSets::default();
        let of = |sets: &mut CoverSets, test| {
            let place = sets.place(&suite, test);
            sets.at(place).iter().map(ToString::to_string).collect::<Vec<_>>()
        };
        let tests = tests.expect("a list");
        assert_eq!(of(&mut sets, &tests[0]), ["REQ-118", "REQ-204"]);
        assert_eq!(of(&mut sets, &tests[1]), ["REQ-118", "REQ-204", "REQ-7", "REQ-9"]);
        assert!(of(&mut sets, &tests[2]).is_empty());
        assert_eq!(sets.place(&suite, &tests[0]), 1, "tests that cover the same share a set");
    }

    #[test]
    fn what_covers_names_is_checked_with_its_line() {
        let with = |lines: &str| {
            let text = FILE.replace("\"tag:money\" = [\"REQ-7\"]", lines);
            SuiteFile::parse("kesmo.toml", &text).expect_err("refused").to_string()
        };
        assert!(with("\"a/**\" = []").contains("names no requirement"));
        assert!(with("\"a/**\" = \"REQ-1\"").contains("must be a list of strings"), "{}", with("\"a/**\" = \"REQ-1\""));
        assert!(with("\"a/[\" = [\"REQ-1\"]").contains("line 9"));
        assert!(with("\"a\" = [\" x\"]").contains("must have 1 to 200 bytes"));
    }
}
