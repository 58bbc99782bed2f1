//! What this machine knows of a suite's tests, in a file.

use std::{collections::BTreeMap, path::Path};

use kesmo_core::{
    name::TestName,
    plan::{
        Known,
        cutting::{KnownCase, LEAST_GAIN, MOST_CASES},
    },
    record::Record,
    suite::Variant,
    time::Span,
};

use crate::error::{Error, file_error};

/// Records by test and variant (`a test\tscreen=phone`), what starting a process costs, and the cases of files that take long.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct History {
    pub records: BTreeMap<String, Record>,
    pub start_cost: Option<Span>,
    /// Titles, with what each took in microseconds.
    pub cases: BTreeMap<String, Vec<(String, u64)>>,
}

type Records = BTreeMap<String, Record>;

type Cases = BTreeMap<String, Vec<(String, u64)>>;

fn key(test: &str, variant: &str) -> String {
    format!("{test}\t{variant}")
}

impl History {
    /// Reads a file; one that is not there knows nothing.
    ///
    /// # Errors
    /// If it cannot be read.
    pub fn read(path: &Path) -> Result<Self, Error> {
        let text = match std::fs::read_to_string(path) {
            Ok(text) => text,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(e) => return Err(file_error(path, &e)),
        };
        let wrong = |why: &dyn std::fmt::Display| Error::File {
            path: path.display().to_string(),
            why: format!("this is no record of Kesmo ({why}); remove it, and it is made anew"),
        };
        // One that was written before cases were known has none.
        let older = || serde_json::from_str(&text).map(|(records, start_cost)| (records, start_cost, Cases::new()));
        let kept: Result<(Records, Option<u64>, Cases), _> = serde_json::from_str(&text);
        let (records, start_cost_us, cases) = kept.or_else(|e| older().map_err(|_| wrong(&e)))?;
        Ok(Self { records, start_cost: start_cost_us.map(Span), cases })
    }

    /// Writes the file whole, or not at all.
    ///
    /// # Errors
    /// If it cannot be written.
    pub fn write(&self, path: &Path) -> Result<(), Error> {
        let text =
            serde_json::to_string(&(&self.records, self.start_cost.map(|s| s.0), &self.cases)).unwrap_or_default();
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(|e| file_error(folder, &e))?;
        }
        let coming = path.with_extension("coming");
        std::fs::write(&coming, text).and_then(|()| std::fs::rename(&coming, path)).map_err(|e| file_error(path, &e))
    }

    /// What it says of a test, for a plan.
    pub fn known(&self) -> impl Fn(&TestName, &Variant) -> Option<Known> {
        |name, variant| self.records.get(&key(name.as_str(), &variant.to_string())).and_then(Known::of)
    }

    /// What it says of the cases of a file.
    #[must_use]
    pub fn cases_of(&self, file: &str, variant: &str) -> Vec<KnownCase> {
        let known = self.cases.get(&key(file, variant)).map(Vec::as_slice).unwrap_or_default();
        known.iter().map(|(title, us)| KnownCase { title: title.clone(), spent: Span(*us) }).collect()
    }

    /// Takes in the cases that a file told of, if it is one that may be worth cutting.
    pub fn note_cases(&mut self, file: &str, variant: &str, cases: &[KnownCase]) {
        let takes: u64 = cases.iter().map(|case| case.spent.0).sum();
        if cases.len() > 1 && cases.len() <= MOST_CASES && takes >= LEAST_GAIN.0 {
            let kept = cases.iter().map(|case| (case.title.clone(), case.spent.0)).collect();
            self.cases.insert(key(file, variant), kept);
        }
    }

    /// Takes an entry's outcome in.
    pub fn note(&mut self, test: &str, variant: &str, outcome: kesmo_core::words::Outcome, spent: Option<Span>) {
        let record = self.records.entry(key(test, variant)).or_default();
        *record = std::mem::take(record).with(outcome, spent);
    }
}

#[cfg(test)]
mod tests {
    use kesmo_core::words::Outcome;

    use super::*;

    #[test]
    fn what_is_written_is_read_and_what_is_broken_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("records/fares.json");
        assert_eq!(History::read(&path).unwrap(), History::default());
        let mut history = History { start_cost: Some(Span::millis(30)), ..History::default() };
        history.note("fares/adult", "screen=phone", Outcome::Flaky, Some(Span::millis(7)));
        let case = |title: &str| KnownCase { title: title.into(), spent: Span::millis(700) };
        history.note_cases("fares.sh", "", &[case("adult"), case("child")]);
        history.note_cases("quick.sh", "", &[case("adult")]);
        history.write(&path).unwrap();
        let read = History::read(&path).unwrap();
        assert_eq!(read, history);
        assert_eq!(read.cases_of("fares.sh", ""), [case("adult"), case("child")]);
        assert!(read.cases_of("quick.sh", "").is_empty(), "it is not worth cutting");
        let older = folder.path().join("records/older.json");
        std::fs::write(&older, "[{},7]").unwrap();
        assert_eq!(History::read(&older).unwrap().start_cost, Some(Span(7)));
        let variant = Variant::of(vec![("screen".into(), "phone".into())]);
        let known = read.known()(&TestName::parse("fares/adult").unwrap(), &variant).unwrap();
        assert_eq!((known.takes.unwrap().0, known.trouble), (Span::millis(7), Some(0)));
        std::fs::write(&path, "{").unwrap();
        assert!(History::read(&path).unwrap_err().to_string().contains("no record of Kesmo"));
    }
}
