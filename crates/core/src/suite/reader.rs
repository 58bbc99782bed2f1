//! Reads TOML tables strictly: every key must be known, every value of its kind, and every complaint names its line.
//!
//! Problems are gathered, not thrown at the first, so that a person mends a file once.

use std::collections::BTreeMap;

use toml::de::{DeTable, DeValue};

use crate::{
    error::Problem,
    name::did_you_mean,
    time::{Bytes, Span},
};

/// One table being read. Keys are taken one by one; [`Table::finish`] complains of those that nobody took.
pub(super) struct Table<'a, 't> {
    path: String,
    items: Vec<(&'a str, usize, &'a DeValue<'t>)>,
    known: Vec<&'static str>,
}

/// What all tables of a file share: the text (for line numbers) and the problems found so far.
pub(super) struct Reader<'t> {
    file: String,
    text: &'t str,
    pub(super) problems: Vec<Problem>,
}

impl<'t> Reader<'t> {
    pub(super) fn new(file: &str, text: &'t str) -> Self {
        Self { file: file.to_owned(), text, problems: Vec::new() }
    }

    pub(super) fn line_at(&self, offset: usize) -> usize {
        self.text[..offset.min(self.text.len())].bytes().filter(|b| *b == b'\n').count() + 1
    }

    pub(super) fn complain(&mut self, line: usize, message: impl Into<String>) {
        self.problems.push(Problem { file: self.file.clone(), line, message: message.into() });
    }

    pub(super) fn table<'a>(&self, path: &str, table: &'a DeTable<'t>) -> Table<'a, 't> {
        let mut items: Vec<_> =
            table.iter().map(|(key, value)| (key.span().start, key.get_ref().as_ref(), value.get_ref())).collect();
        items.sort_by_key(|item| item.0);
        let items = items.into_iter().map(|(at, key, value)| (key, self.line_at(at), value)).collect();
        Table { path: path.to_owned(), items, known: Vec::new() }
    }
}

impl<'a, 't> Table<'a, 't> {
    fn at(&self, key: &str) -> String {
        if self.path.is_empty() { format!("{key:?}") } else { format!("{key:?} in [{}]", self.path) }
    }

    /// Takes a key's value with its line.
    pub(super) fn take(&mut self, key: &'static str) -> Option<(usize, &'a DeValue<'t>)> {
        self.known.push(key);
        let found = self.items.iter().position(|item| item.0 == key)?;
        let (_, line, value) = self.items.remove(found);
        Some((line, value))
    }

    /// Takes a key and reads it; a value of another kind is a problem that says what was expected.
    pub(super) fn read<T>(
        &mut self,
        reader: &mut Reader<'t>,
        key: &'static str,
        expected: &str,
        read: impl FnOnce(&'a DeValue<'t>) -> Option<Result<T, String>>,
    ) -> Option<T> {
        let (line, value) = self.take(key)?;
        match read(value) {
            Some(Ok(value)) => Some(value),
            Some(Err(why)) => {
                reader.complain(line, format!("{}: {why}", self.at(key)));
                None
            }
            None => {
                let kind = kind_of(value);
                reader.complain(line, format!("{} must be {expected}, and is {kind}", self.at(key)));
                None
            }
        }
    }

    pub(super) fn text(&mut self, reader: &mut Reader<'t>, key: &'static str) -> Option<String> {
        self.read(reader, key, "a string", |v| v.as_str().map(|s| Ok(s.to_owned())))
    }

    pub(super) fn flag(&mut self, reader: &mut Reader<'t>, key: &'static str) -> Option<bool> {
        self.read(reader, key, "true or false", |v| v.as_bool().map(Ok))
    }

    pub(super) fn span(&mut self, reader: &mut Reader<'t>, key: &'static str) -> Option<Span> {
        self.read(reader, key, "a duration like \"30s\"", |v| {
            v.as_str().map(|s| Span::parse(s).map_err(|e| e.to_string()))
        })
    }

    /// A span that must be longer than nothing.
    pub(super) fn limit(&mut self, reader: &mut Reader<'t>, key: &'static str) -> Option<Span> {
        self.read(reader, key, "a duration like \"30s\"", |v| {
            v.as_str().map(|s| match Span::parse(s) {
                Ok(Span::ZERO) => {
                    Err("a limit of nothing would end every test; write a longer one or leave it out".into())
                }
                other => other.map_err(|e| e.to_string()),
            })
        })
    }

    pub(super) fn size(&mut self, reader: &mut Reader<'t>, key: &'static str) -> Option<Bytes> {
        self.read(reader, key, "a size, like \"10 MiB\"", |v| {
            v.as_str().map(|s| Bytes::parse(s).map_err(|e| e.to_string()))
        })
    }

    /// A whole number between `least` and `most`.
    pub(super) fn count(&mut self, reader: &mut Reader<'t>, key: &'static str, least: u32, most: u32) -> Option<u32> {
        self.read(reader, key, "an integer", |v| {
            let number = v.as_integer()?;
            let read = i64::from_str_radix(&number.as_str().replace('_', ""), number.radix()).ok();
            Some(match read.and_then(|n| u32::try_from(n).ok()).filter(|n| (least..=most).contains(n)) {
                Some(n) => Ok(n),
                None => Err(format!("{} is out of bounds; write a number from {least} to {most}", number.as_str())),
            })
        })
    }

    /// A list of texts; `least` is the smallest number of them.
    pub(super) fn texts(&mut self, reader: &mut Reader<'t>, key: &'static str, least: usize) -> Option<Vec<String>> {
        self.read(reader, key, "a list of texts, like [\"./tests\", \"{names}\"]", |v| {
            let list: Option<Vec<String>> =
                v.as_array()?.iter().map(|item| item.get_ref().as_str().map(str::to_owned)).collect();
            let list = list?;
            Some(if list.len() < least { Err("the list is empty".into()) } else { Ok(list) })
        })
    }

    /// A table within this one.
    pub(super) fn inner(&mut self, reader: &mut Reader<'t>, key: &'static str) -> Option<(usize, Table<'a, 't>)> {
        let line = self.items.iter().find(|item| item.0 == key).map(|item| item.1);
        let table = self.read(reader, key, &format!("a table, [{key}]"), |v| v.as_table().map(Ok))?;
        let path = if self.path.is_empty() { key.to_owned() } else { format!("{}.{key}", self.path) };
        Some((line.unwrap_or(1), reader.table(&path, table)))
    }

    /// Everything that is left, for tables whose keys the suite makes up.
    pub(super) fn rest(&mut self) -> Vec<(&'a str, usize, &'a DeValue<'t>)> {
        std::mem::take(&mut self.items)
    }

    /// Complains of every key that was not taken, naming the nearest known one.
    pub(super) fn finish(self, reader: &mut Reader<'t>) {
        for (key, line, _) in &self.items {
            let place = if self.path.is_empty() { "the file".to_owned() } else { format!("[{}]", self.path) };
            let hint = did_you_mean(key, self.known.iter().copied());
            let all = if hint.is_empty() { format!("; it may have {}", self.known.join(", ")) } else { hint };
            reader.complain(*line, format!("{place} has no key {key:?}{all}"));
        }
    }
}

/// A table whose keys the suite makes up and whose values are plain: texts, numbers, true or false.
pub(super) fn plain_values(
    reader: &mut Reader<'_>,
    mut table: Table<'_, '_>,
    texts_only: bool,
) -> BTreeMap<String, String> {
    let mut values = BTreeMap::new();
    for (key, line, value) in table.rest() {
        let text = match value {
            DeValue::String(text) => Some(text.to_string()),
            DeValue::Integer(n) if !texts_only => Some(n.as_str().to_owned()),
            DeValue::Float(n) if !texts_only => Some(n.as_str().to_owned()),
            DeValue::Boolean(b) if !texts_only => Some(b.to_string()),
            _ => None,
        };
        let wanted = if texts_only { "a string" } else { "a text, a number, true or false" };
        match text {
            Some(text) if text.contains('\0') => {
                reader.complain(line, format!("{key:?} in [{}] holds a NUL", table.path))
            }
            Some(text) => {
                values.insert(key.to_owned(), text);
            }
            None => reader
                .complain(line, format!("{key:?} in [{}] must be {wanted}, and is {}", table.path, kind_of(value))),
        }
    }
    values
}

pub(super) fn kind_of(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "an integer",
        DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}
