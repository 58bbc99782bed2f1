//! `[secrets]` of a suite file: which secrets the suite's processes are given, and how.

use toml::de::{DeTable, DeValue};

use super::reader::{Reader, Table, kind_of};
use crate::name::Slug;

/// A secret that a suite's processes are given.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SecretUse {
    /// The environment variable.
    pub variable: String,
    /// The secret's name with the service.
    pub name: Slug,
    /// The variable holds the path of a file with the value, and not the value.
    pub as_file: bool,
}

/// The most secrets of a suite.
pub const MOST: usize = 50;

/// Reads `[secrets]`; `env` are the variables that the suite file sets itself.
pub(super) fn read<'t>(
    reader: &mut Reader<'t>,
    top: &mut Table<'_, 't>,
    set: impl Fn(&str) -> bool,
    is_variable: impl Fn(&str) -> bool,
) -> Vec<SecretUse> {
    let mut all = Vec::new();
    let Some((line, mut table)) = top.inner(reader, "secrets") else { return all };
    for (variable, line, value) in table.rest() {
        if !is_variable(variable) || variable.starts_with("KESMO_") {
            reader.complain(line, format!("{variable:?} in [secrets] is not a valid name for a variable: use letters, digits and '_', and do not begin with KESMO_"));
        } else if set(variable) {
            reader.complain(line, format!("{variable:?} is in [secrets] and in [env]: keep one"));
        } else {
            match use_of(variable, value) {
                Ok(one) => all.push(one),
                Err(why) => reader.complain(line, format!("{variable:?} in [secrets] {why}")),
            }
        }
    }
    if all.len() > MOST {
        reader.complain(line, format!("[secrets] has {} secrets, and may have {MOST}", all.len()));
    }
    all
}

fn use_of(variable: &str, value: &DeValue<'_>) -> Result<SecretUse, String> {
    let named = |name: &str| Slug::parse("the secret", name).map_err(|e| format!("names no secret: {e}"));
    let variable = variable.to_owned();
    match value {
        DeValue::String(name) => Ok(SecretUse { variable, name: named(name)?, as_file: false }),
        DeValue::Table(table) => {
            let name =
                named(text(table, "secret").ok_or("must name its secret: { secret = \"gate-key\", as = \"file\" }")?)?;
            if let Some(odd) =
                table.iter().map(|(key, _)| key.get_ref()).find(|key| !matches!(key.as_ref(), "secret" | "as"))
            {
                return Err(format!("has no key {odd:?}; it may have secret, as"));
            }
            match text(table, "as").unwrap_or("variable") {
                "file" => Ok(SecretUse { variable, name, as_file: true }),
                "variable" => Ok(SecretUse { variable, name, as_file: false }),
                other => Err(format!("is given as {other:?}, which is not valid: use \"variable\" or \"file\"")),
            }
        }
        other => Err(format!(
            "must be a secret's name, or {{ secret = \"gate-key\", as = \"file\" }}, and is {}",
            kind_of(other)
        )),
    }
}

fn text<'t>(table: &'t DeTable<'_>, key: &str) -> Option<&'t str> {
    table.iter().find(|(name, _)| name.get_ref() == key).and_then(|(_, value)| value.get_ref().as_str())
}
