//! Where a park holds.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::{
    error::Error,
    name::did_you_mean,
    suite::{Pattern, SuiteFile, Variant},
};

/// Where a park holds; what is not said holds anywhere. All that is said must be so.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Only {
    /// `[env-for.NAME]` of the suite file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub env: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    /// A branch, or a glob of branches.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    /// `FACET=VALUE`; of several values of one facet any.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub variant: Vec<String>,
}

/// What a run is like, as far as parks ask.
#[derive(Debug, Clone, Copy, Default)]
pub struct At<'a> {
    pub env: Option<&'a str>,
    pub pool: &'a str,
    pub branch: Option<&'a str>,
}

const KEYS: [&str; 4] = ["env", "pool", "branch", "variant"];

impl Only {
    /// Reads `env=ci`, `pool=lab`, `branch=release/*` and `variant=screen=phone`.
    ///
    /// # Errors
    /// If a word is none of these, or one of the first three comes twice.
    pub fn parse(words: &[String]) -> Result<Self, Error> {
        let mut only = Self::default();
        for word in words {
            let wrong = |why: String| Error::Options(format!("--only {word:?}: {why}"));
            let usual = "write env=NAME, pool=NAME, branch=GLOB or variant=FACET=VALUE";
            let (key, value) =
                word.split_once('=').filter(|(_, value)| !value.is_empty()).ok_or_else(|| wrong(usual.into()))?;
            let place = match key {
                "env" => &mut only.env,
                "pool" => &mut only.pool,
                "branch" => {
                    Pattern::glob(value)?;
                    &mut only.branch
                }
                "variant" if value.contains('=') => {
                    only.variant.push(value.to_owned());
                    continue;
                }
                "variant" => return Err(wrong("a variant is a value of a facet, like variant=screen=phone".into())),
                other => return Err(wrong(format!("{other:?} says no place{}: {usual}", did_you_mean(other, KEYS)))),
            };
            if place.replace(value.to_owned()).is_some() {
                return Err(wrong(format!("{key} is given twice, and a run has one")));
            }
        }
        Ok(only)
    }

    /// Makes sure that the suite has what is named.
    ///
    /// # Errors
    /// If it has no such environment, facet or value; the message names the nearest.
    pub fn check(&self, suite: &SuiteFile) -> Result<(), Error> {
        suite.environment(self.env.as_deref())?;
        suite.facets.chosen(&self.variant).map(drop)
    }

    /// Whether it holds in a run, some variants of it at least.
    #[must_use]
    pub fn holds(&self, at: At<'_>) -> bool {
        let same =
            |own: &Option<String>, other: Option<&str>| own.as_ref().is_none_or(|own| Some(own.as_str()) == other);
        let on_branch = self.branch.as_ref().is_none_or(|glob| {
            at.branch.is_some_and(|branch| Pattern::glob(glob).is_ok_and(|glob| glob.matches_text(branch)))
        });
        same(&self.env, at.env) && same(&self.pool, Some(at.pool)) && on_branch
    }

    /// Whether it holds in that variant.
    #[must_use]
    pub fn has(&self, variant: &Variant) -> bool {
        let facets: Vec<&str> =
            self.variant.iter().filter_map(|pair| pair.split_once('=')).map(|(facet, _)| facet).collect();
        facets.into_iter().all(|facet| {
            let value = variant.pairs().iter().find(|(name, _)| name == facet);
            value.is_some_and(|(name, value)| self.variant.iter().any(|pair| *pair == format!("{name}={value}")))
        })
    }

    /// Whether it holds everywhere.
    #[must_use]
    pub fn is_everywhere(&self) -> bool {
        *self == Self::default()
    }
}

impl fmt::Display for Only {
    /// As it was given: `env=ci, branch=release/*`; nothing where it holds everywhere.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let single = [("env", &self.env), ("pool", &self.pool), ("branch", &self.branch)];
        let single = single.iter().filter_map(|(key, value)| value.as_ref().map(|value| format!("{key}={value}")));
        let all: Vec<String> = single.chain(self.variant.iter().map(|pair| format!("variant={pair}"))).collect();
        f.write_str(&all.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn only(words: &[&str]) -> Result<Only, String> {
        Only::parse(&words.iter().map(|w| (*w).to_owned()).collect::<Vec<_>>()).map_err(|e| e.to_string())
    }

    #[test]
    fn a_place_is_read_and_told_as_it_was_given() {
        let words = ["env=ci", "branch=release/*", "variant=screen=phone", "variant=screen=desk"];
        let read = only(&words).unwrap();
        assert_eq!(read.to_string(), words.join(", "));
        assert!(Only::default().is_everywhere() && !read.is_everywhere());
        let kept: Only = serde_json::from_value(serde_json::to_value(&read).unwrap()).unwrap();
        assert_eq!(kept, read);
    }

    #[test]
    fn it_holds_where_all_of_it_is_so() {
        let at = At { env: Some("ci"), pool: "lab", branch: Some("release/12") };
        for (words, holds) in [
            (&["env=ci"][..], true),
            (&["env=local"], false),
            (&["pool=lab", "branch=release/*"], true),
            (&["pool=lab", "branch=main"], false),
            (&["branch=release/12"], true),
            (&[], true),
        ] {
            assert_eq!(only(words).unwrap().holds(at), holds, "{words:?}");
        }
        assert!(!only(&["branch=*"]).unwrap().holds(At { branch: None, ..at }), "no branch is known");
        assert!(!only(&["env=ci"]).unwrap().holds(At { env: None, ..at }));
    }

    #[test]
    fn a_variant_is_any_of_its_values_and_all_of_its_facets() {
        let file = "suite = \"s\"\n[tests]\nlist = [\"l\"]\nrun = [\"r\", \"{names}\"]\nresults = \"tap\"\n[facets]\nscreen = [\"phone\", \"desk\"]\ntongue = [\"nn\", \"da\"]\n";
        let suite = SuiteFile::parse("kesmo.toml", file).unwrap();
        let held = |words: &[&str]| {
            let only = only(words).unwrap();
            suite.facets.variants().iter().filter(|v| only.has(v)).count()
        };
        assert_eq!(held(&[]), 4);
        assert_eq!(held(&["variant=screen=phone"]), 2);
        assert_eq!(held(&["variant=screen=phone", "variant=screen=desk"]), 4);
        assert_eq!(held(&["variant=screen=phone", "variant=tongue=nn"]), 1);
        assert!(only(&["variant=screen=phnoe"]).unwrap().check(&suite).unwrap_err().to_string().contains("phone"));
        assert!(only(&["env=ci"]).unwrap().check(&suite).is_err());
    }

    #[test]
    fn what_says_no_place_is_refused() {
        for (words, why) in [
            (&["ci"][..], "write env=NAME"),
            (&["evn=ci"], "did you mean \"env\""),
            (&["env="], "write env=NAME"),
            (&["env=a", "env=b"], "given twice"),
            (&["variant=phone"], "like variant=screen=phone"),
        ] {
            let error = only(words).unwrap_err();
            assert!(error.contains(why), "{error}");
        }
    }
}
