//! Values of options, read.

use std::{collections::BTreeMap, time::Duration};

use kesmo_core::{
    calendar::schedule::{IfBusy, IfMissed},
    name::did_you_mean,
    plan::{Priority, brief::ThenIf},
    time::{Bytes, Span},
};
use kesmo_wire::api::Role;

pub(super) fn pair(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((key, value)) if !key.trim().is_empty() => Ok((key.trim().to_owned(), value.to_owned())),
        _ => Err("write it as KEY=VALUE".to_owned()),
    }
}

/// Reads an integer, with words for who mistyped it.
pub(super) fn integer<T: std::str::FromStr + std::fmt::Display>(text: &str) -> Result<T, String> {
    text.parse().map_err(|_| {
        let digits = text.strip_prefix('-').unwrap_or(text);
        let number = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit());
        if number { "it is out of bounds".to_owned() } else { "it is not an integer, like 3".to_owned() }
    })
}

/// Which group of a provider gives which role, and for which suites (globs; none: all): `wardens=admin`.
#[derive(Clone, Debug)]
pub struct GroupRole {
    pub group: String,
    pub role: Role,
    pub suites: Vec<String>,
}

/// Reads one.
pub(super) fn group_role(text: &str) -> Result<GroupRole, String> {
    // A group's name may hold anything, a role's and a glob of suites does not.
    let wrong = || "write it as GROUP=ROLE, or GROUP=ROLE:SUITE,SUITE".to_owned();
    let (group, role) = text.rsplit_once('=').ok_or_else(wrong)?;
    if group.trim().is_empty() {
        return Err(wrong());
    }
    let (role, suites) = role.split_once(':').map_or((role, None), |(role, suites)| (role, Some(suites)));
    let suites: Vec<String> = suites.into_iter().flat_map(|all| all.split(',')).map(|one| one.trim().into()).collect();
    if suites.iter().any(String::is_empty) {
        return Err(wrong());
    }
    let people = Role::of(role.trim()).filter(|role| *role != Role::Worker);
    let role = people.ok_or_else(|| {
        let hint = did_you_mean(role, ["reader", "operator", "admin"]);
        format!("{role:?} is not a valid role of a person{hint}; use reader, operator or admin")
    })?;
    Ok(GroupRole { group: group.trim().to_owned(), role, suites })
}

pub(super) fn priority(text: &str) -> Result<Priority, String> {
    Priority::of(text).ok_or_else(|| "use low, normal or high".to_owned())
}

pub(super) fn duration(text: &str) -> Result<Duration, String> {
    match Span::parse(text) {
        Ok(Span::ZERO) => Err("it must be longer than nothing".to_owned()),
        Ok(span) => Ok(Duration::from_micros(span.0)),
        Err(e) => Err(e.to_string()),
    }
}

/// A length of time that may be nothing at all.
pub(super) fn moment(text: &str) -> Result<Duration, String> {
    Span::parse(text).map(|span| Duration::from_micros(span.0)).map_err(|e| e.to_string())
}

/// A number of processors, in thousandths.
pub(super) fn processors(text: &str) -> Result<u32, String> {
    let number: f64 = text.parse().map_err(|_| "it is no number of processors, like 2 or 0.5".to_owned())?;
    if (0.01..=1000.0).contains(&number) {
        Ok((number * 1000.0).round() as u32)
    } else {
        Err("it is out of bounds: 0.01 to 1000".into())
    }
}

/// Pairs of a repeatable option; a key given twice is a mistake that would silently lose a value.
pub fn pairs(option: &str, given: &[(String, String)]) -> Result<BTreeMap<String, String>, crate::failure::Failure> {
    let mut map = BTreeMap::new();
    for (key, value) in given {
        if map.insert(key.clone(), value.clone()).is_some() {
            return Err(crate::failure::Failure::call(format!("{option} gives {key:?} twice; give it once")));
        }
    }
    Ok(map)
}

pub(super) fn size(text: &str) -> Result<Bytes, String> {
    Bytes::parse(text).map_err(|e| e.to_string())
}

/// Reads one of a few words; the nearest is named.
pub(super) fn word<T>(text: &str, of: impl Fn(&str) -> Option<T>, words: &[&str]) -> Result<T, String> {
    let hint = || kesmo_core::name::did_you_mean(text, words.iter().copied());
    of(text).ok_or_else(|| format!("use {}{}", words.join(", "), hint()))
}

pub(super) fn then_if(text: &str) -> Result<ThenIf, String> {
    word(text, ThenIf::of, ThenIf::WORDS)
}

pub(super) fn if_busy(text: &str) -> Result<IfBusy, String> {
    word(text, IfBusy::of, IfBusy::WORDS)
}

pub(super) fn if_missed(text: &str) -> Result<IfMissed, String> {
    word(text, IfMissed::of, IfMissed::WORDS)
}
