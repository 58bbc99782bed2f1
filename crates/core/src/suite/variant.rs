//! Facets and their combinations, the variants.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::{error::Error, name::did_you_mean};

/// One combination of facets, in the order in which the suite file names them. Empty for a suite without facets.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
pub struct Variant(Vec<(String, String)>);

impl Variant {
    /// A variant of these facets and values.
    #[must_use]
    pub fn of(pairs: Vec<(String, String)>) -> Self {
        Self(pairs)
    }

    /// The facets and their values.
    #[must_use]
    pub fn pairs(&self) -> &[(String, String)] {
        &self.0
    }

    /// Whether this is the variant of a suite without facets.
    #[must_use]
    pub fn is_plain(&self) -> bool {
        self.0.is_empty()
    }

    fn includes(&self, part: &Self) -> bool {
        part.0.iter().all(|pair| self.0.contains(pair))
    }
}

impl fmt::Display for Variant {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let pairs: Vec<String> = self.0.iter().map(|(facet, value)| format!("{facet}={value}")).collect();
        f.write_str(&pairs.join(", "))
    }
}

/// The facets of a suite and the combinations it leaves out.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Facets {
    pub facets: Vec<(String, Vec<String>)>,
    pub leave_out: Vec<Variant>,
}

impl Facets {
    /// All variants, first facet slowest. A suite without facets has one, the plain variant.
    #[must_use]
    pub fn variants(&self) -> Vec<Variant> {
        let mut all = vec![Variant::default()];
        for (facet, values) in &self.facets {
            let with = |v: &Variant, value: &String| {
                let mut pairs = v.0.clone();
                pairs.push((facet.clone(), value.clone()));
                Variant(pairs)
            };
            all = all.iter().flat_map(|v| values.iter().map(move |value| with(v, value))).collect();
        }
        all.retain(|v| !self.leave_out.iter().any(|out| v.includes(out)));
        all
    }

    /// The variants that `--variant FACET=VALUE` options ask for: within a facet any of the values, all facets at once.
    ///
    /// # Errors
    /// If an option is not `FACET=VALUE`, names an unknown facet or value, or nothing is left.
    pub fn chosen(&self, options: &[String]) -> Result<Vec<Variant>, Error> {
        let mut wanted: Vec<(&str, Vec<&str>)> = Vec::new();
        for option in options {
            let (facet, value) = option.split_once('=').ok_or_else(|| {
                Error::Options(format!("--variant {option:?} must be FACET=VALUE, like screen=phone"))
            })?;
            let Some((_, values)) = self.facets.iter().find(|f| f.0 == facet) else {
                let hint = did_you_mean(facet, self.facets.iter().map(|f| f.0.as_str()));
                return Err(Error::Options(format!("--variant: the suite has no facet {facet:?}{hint}")));
            };
            if !values.iter().any(|v| v == value) {
                let all = values.join(", ");
                return Err(Error::Options(format!(
                    "--variant: the facet {facet} has no value {value:?}; it has {all}"
                )));
            }
            match wanted.iter_mut().find(|w| w.0 == facet) {
                Some((_, any)) => any.push(value),
                None => wanted.push((facet, vec![value])),
            }
        }
        let mut left = self.variants();
        left.retain(|v| {
            wanted.iter().all(|(f, any)| v.0.iter().any(|(facet, value)| facet == f && any.contains(&value.as_str())))
        });
        if left.is_empty() {
            return Err(Error::Options(
                "--variant: the suite file leaves this combination out; nothing is left to run".into(),
            ));
        }
        Ok(left)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facets() -> Facets {
        let own = |texts: &[&str]| texts.iter().map(|t| (*t).to_owned()).collect::<Vec<_>>();
        Facets {
            facets: vec![("screen".into(), own(&["phone", "desk"])), ("tongue".into(), own(&["en", "nn"]))],
            leave_out: vec![Variant::of(vec![("screen".into(), "phone".into()), ("tongue".into(), "nn".into())])],
        }
    }

    #[test]
    fn variants_are_all_combinations_but_those_left_out() {
        let said: Vec<String> = facets().variants().iter().map(ToString::to_string).collect();
        assert_eq!(said, ["screen=phone, tongue=en", "screen=desk, tongue=en", "screen=desk, tongue=nn"]);
        assert_eq!(Facets::default().variants(), [Variant::default()]);
    }

    #[test]
    fn options_choose_among_variants() {
        let chosen = |options: &[&str]| facets().chosen(&options.iter().map(|o| (*o).to_owned()).collect::<Vec<_>>());
        assert_eq!(chosen(&["screen=desk"]).unwrap().len(), 2);
        assert_eq!(chosen(&["screen=desk", "screen=phone", "tongue=en"]).unwrap().len(), 2);
        assert!(
            chosen(&["screen=phone", "tongue=nn"]).unwrap_err().to_string().contains("leaves this combination out")
        );
        assert!(chosen(&["scren=phone"]).unwrap_err().to_string().contains("did you mean \"screen\""));
        assert!(chosen(&["screen=watch"]).unwrap_err().to_string().contains("it has phone, desk"));
        assert!(chosen(&["screen"]).unwrap_err().to_string().contains("FACET=VALUE"));
    }
}
