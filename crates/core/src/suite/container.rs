//! The image that a suite's processes run in: `[container]` of a suite file, `--image` of a start, and what an engine made of it.

use serde::{Deserialize, Serialize};
use toml::de::DeValue;

use super::{
    reader::{Reader, Table},
    variant::Facets,
};
use crate::{error::Error, name::did_you_mean, time::Bytes};

/// What a worker offers that has a container engine, and a suite in an image needs.
pub const OFFER: (&str, &str) = ("containers", "yes");

/// Where a suite's files are in a container.
pub const FILES: &str = "/kesmo/suite";
/// Where a batch's own files are in a container: its artifacts, names and events.
pub const BATCH: &str = "/kesmo/batch";

/// The least memory that a container may be given, in bytes: below it, engines cannot start one.
const LEAST_MEMORY: u64 = 6 << 20;
/// The longest reference of an image, in bytes.
const LONGEST: usize = 500;

/// Where an image comes from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum From {
    /// It has this name, in which `{FACET}` stands for the variant's value.
    Image(String),
    /// It is built by this file of the bundle.
    Build(String),
}

impl From {
    /// As a variant has it: with its values in the name.
    #[must_use]
    pub fn of_variant(&self, variant: &[(String, String)]) -> Self {
        match self {
            Self::Image(name) => Self::Image(name_for(name, variant)),
            Self::Build(file) => Self::Build(file.clone()),
        }
    }

    /// What its image is called by: its name, or the file that makes it.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Image(name) | Self::Build(name) => name,
        }
    }
}

impl std::fmt::Display for From {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Image(name) => f.write_str(name),
            Self::Build(file) => write!(f, "built by {file}"),
        }
    }
}

/// `[container]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Container {
    pub from: From,
    /// `host`, `none`, or a network of the engine.
    pub network: String,
    pub memory: Option<Bytes>,
    /// Thousandths of a processor.
    pub cpus: Option<u32>,
    /// The engine's small first process passes signals on and takes orphans.
    pub init: bool,
}

impl Container {
    /// A container of an image, for a suite that asks for none itself.
    #[must_use]
    pub fn of(from: From) -> Self {
        Self { from, network: "host".to_owned(), memory: None, cpus: None, init: false }
    }
}

/// An image as an engine has it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Image {
    /// The name that it was asked for by; of one that was built, the file that made it.
    pub name: String,
    /// The digest of its configuration, `sha256:…`: two with the same digest are the same, on whichever engine. Source: the OCI
    /// image specification, "ImageID".
    pub digest: String,
    /// Where a registry has it, by the digest of its manifest: `registry.example/gate@sha256:…`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

impl Image {
    /// Checks what an engine or a caller said.
    ///
    /// # Errors
    /// In words, if a name or digest is none.
    pub fn check(&self) -> Result<(), String> {
        // What was built is called by its file.
        check_reference(&self.name).or_else(|why| build_file(&self.name).map(drop).map_err(|_| why))?;
        let hex = self.digest.strip_prefix("sha256:").unwrap_or_default();
        if hex.len() != 64 || !hex.bytes().all(|b| b.is_ascii_hexdigit()) {
            return Err(format!(
                "{:?} is not the digest of an image, sha256:…",
                crate::name::shorten(&self.digest, 80)
            ));
        }
        match &self.at {
            Some(at) if !is_of(at, &self.name) => {
                let (at, name) = (crate::name::shorten(at, 80), crate::name::shorten(&self.name, 80));
                Err(format!("{at:?} is not where a registry has {name:?}"))
            }
            _ => Ok(()),
        }
    }

    /// Its digest, short: the first twelve digits, as engines show it.
    #[must_use]
    pub fn short(&self) -> &str {
        let digits = self.digest.strip_prefix("sha256:").unwrap_or(&self.digest);
        digits.get(..12).unwrap_or(digits)
    }
}

impl std::fmt::Display for Image {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} ({})", self.name, self.short())
    }
}

/// Checks a name of an image; what it names, only an engine knows.
///
/// # Errors
/// In words, if no image can be called so.
pub fn check_reference(name: &str) -> Result<(), String> {
    let allowed = |c: char| c.is_ascii_alphanumeric() || "._-/:@{}".contains(c);
    let said = crate::name::shorten(name, 80);
    if name.is_empty()
        || name.len() > LONGEST
        || name.starts_with(['-', '/', ':', '@', '.'])
        || !name.chars().all(allowed)
    {
        return Err(format!("{said:?} is not the name of an image; write it like \"localhost/quay-gate:12\""));
    }
    let last = name.rsplit('/').next().unwrap_or(name);
    let repository = name.split('@').next().unwrap_or(name);
    let path = repository.strip_suffix(last).unwrap_or(repository);
    if path.chars().any(|c| c.is_ascii_uppercase())
        || last.split([':', '@']).next().is_some_and(|l| l.chars().any(|c| c.is_ascii_uppercase()))
    {
        return Err(format!("{said:?} is not the name of an image: only its tag may have capital letters"));
    }
    Ok(())
}

/// Whether a registry's `REPOSITORY@sha256:…` is that of a name: the same repository, or the one that engines take a short name for.
/// What one engine says is brought by others: it must not lead them to another's image.
#[must_use]
pub fn is_of(at: &str, name: &str) -> bool {
    let Some((repository, digest)) = at.split_once('@') else { return false };
    let hex = digest.strip_prefix("sha256:").unwrap_or_default();
    let whole = name.split('@').next().unwrap_or(name);
    // A colon after the last slash begins the tag; one before it a port.
    let last = whole.rfind('/').map_or(0, |slash| slash + 1);
    let own = whole[last..].find(':').map_or(whole, |colon| &whole[..last + colon]);
    let names = [own.to_owned(), format!("docker.io/library/{own}"), format!("docker.io/{own}")];
    hex.len() == 64 && hex.bytes().all(|b| b.is_ascii_hexdigit()) && names.iter().any(|n| n == repository)
}

/// Checks the image of a start, `--image`.
///
/// # Errors
/// If no image can be called so.
pub fn check_option(name: &str) -> Result<(), Error> {
    check_reference(name).map_err(|why| Error::Options(format!("--image: {why}")))
}

/// The name with the variant's values in it.
#[must_use]
pub(super) fn name_for(name: &str, variant: &[(String, String)]) -> String {
    variant.iter().fold(name.to_owned(), |name, (facet, value)| name.replace(&format!("{{{facet}}}"), value))
}

/// Reads `[container]`.
pub(super) fn read<'t>(reader: &mut Reader<'t>, top: &mut Table<'_, 't>, facets: &Facets) -> Option<Container> {
    let (line, mut table) = top.inner(reader, "container")?;
    let before = reader.problems.len();
    let image = table.read(reader, "image", "a string", |v| {
        v.as_str().map(|name| check_reference(name).and_then(|()| known_facets(name, facets)).map(|()| name.to_owned()))
    });
    let build = table.read(reader, "build", "a string", |v| v.as_str().map(build_file));
    let network = table.read(reader, "network", "a string", |v| v.as_str().map(network_name));
    let memory = table.size(reader, "memory");
    if let Some(memory) = memory.filter(|m| m.0 < LEAST_MEMORY) {
        reader.complain(
            line,
            format!("[container] memory is {memory}; no container starts with less than {}", Bytes(LEAST_MEMORY)),
        );
    }
    let cpus = table.read(reader, "cpus", "a number of processors, like 2 or 0.5", thousandths);
    let init = table.flag(reader, "init").unwrap_or(false);
    let whole = reader.problems.len() == before;
    table.finish(reader);
    let from = match (image, build) {
        (Some(image), None) => From::Image(image),
        (None, Some(build)) => From::Build(build),
        (Some(_), Some(_)) => {
            reader.complain(
                line,
                "[container] has both \"image\" and \"build\": an image is named, or built from a file of the suite",
            );
            return None;
        }
        (None, None) => {
            if whole {
                reader.complain(line, "[container] has no \"image\": name one, like image = \"localhost/quay-gate:12\", or build = \"Containerfile\"");
            }
            return None;
        }
    };
    Some(Container { from, network: network.unwrap_or_else(|| "host".to_owned()), memory, cpus, init })
}

/// Every `{NAME}` in an image's name is a facet of the suite.
fn known_facets(name: &str, facets: &Facets) -> Result<(), String> {
    let mut rest = name;
    while let Some(open) = rest.find(['{', '}']) {
        let inside = rest[open..].strip_prefix('{').and_then(|after| after.split_once('}'));
        let Some((facet, after)) = inside else { return Err(format!("{name:?} has a brace without its other half")) };
        if !facets.facets.iter().any(|known| known.0 == facet) {
            let hint = did_you_mean(facet, facets.facets.iter().map(|known| known.0.as_str()));
            return Err(format!("{{{facet}}} is not a facet of this suite{hint}"));
        }
        rest = after;
    }
    Ok(())
}

fn build_file(path: &str) -> Result<String, String> {
    let fits =
        !path.is_empty() && !path.starts_with('/') && !path.split('/').any(|part| part == ".." || part.is_empty());
    if fits && path.len() <= LONGEST && !path.chars().any(|c| c.is_control() || ";|&$`".contains(c)) {
        Ok(path.to_owned())
    } else {
        Err(format!(
            "{path:?} is not a file of the suite; write its path from the suite's folder, like \"Containerfile\""
        ))
    }
}

fn network_name(name: &str) -> Result<String, String> {
    let fits = name.starts_with(|c: char| c.is_ascii_alphanumeric())
        && name.len() <= 100
        && name.chars().all(|c| c.is_ascii_alphanumeric() || "._-".contains(c));
    if fits {
        Ok(name.to_owned())
    } else {
        Err(format!("{name:?} is not the name of a network; write host, none, or one of the engine's"))
    }
}

/// Processors in thousandths.
fn thousandths(value: &DeValue<'_>) -> Option<Result<u32, String>> {
    let text = match value {
        DeValue::Integer(n) => n.as_str(),
        DeValue::Float(n) => n.as_str(),
        _ => return None,
    };
    let number: Option<f64> = text.replace('_', "").parse().ok();
    Some(match number.filter(|n| (0.01..=1024.0).contains(n)) {
        Some(n) => Ok((n * 1000.0).round() as u32),
        None => Err(format!("{text} is out of bounds; write a number from 0.01 to 1024")),
    })
}
