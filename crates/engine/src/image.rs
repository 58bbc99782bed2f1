//! Images: found, brought, built, and made of what a container left.

use std::{collections::HashMap, path::Path, time::Duration};

use bollard::{
    models::{ContainerConfig, ImageInspect},
    query_parameters::{
        BuildImageOptionsBuilder, CommitContainerOptionsBuilder, CreateImageOptionsBuilder, ListImagesOptionsBuilder,
        RemoveImageOptions,
    },
};
use futures::{StreamExt, TryStreamExt};
use kesmo_core::{
    name::shorten,
    suite::container::{Image, is_of},
};
use tokio_util::io::ReaderStream;

use crate::engine::{Engine, Error, HOME, Marks};

/// So many images that were built or prepared for a worker are kept.
const MOST_MADE: usize = 30;
/// The most that is kept of what a build prints, in bytes: its end.
const LONGEST_LOG: usize = 1 << 20;

/// A build, and the bringing of an image, are given up after this.
const LONGEST_BUILD: Duration = Duration::from_secs(3600);

/// What came of a build.
#[derive(Debug)]
pub struct Build {
    /// The image, or why there is none.
    pub image: Result<Image, Error>,
    /// What it printed; of one that was made before, that.
    pub log: String,
}

impl Engine {
    /// The image of a name: the one that is pinned, or what the engine has under that name; brought from its registry where the
    /// engine has none.
    ///
    /// # Errors
    /// In the engine's own words if it cannot be brought; if it is made for another architecture; if another is pinned than
    /// the engine has and can bring.
    pub async fn image(&self, name: &str, pinned: Option<&Image>) -> Result<Image, Error> {
        let wanted = pinned.map_or(name, |image| image.digest.as_str());
        if let Some(found) = self.has(wanted).await? {
            return self.fits(name, found);
        }
        let from = match pinned {
            Some(Image { at: None, digest, .. }) => {
                let here = self.has(name).await?.and_then(|found| found.id);
                let said = match here {
                    Some(other) => format!("this engine has {other} under that name"),
                    None => "this engine does not have it".to_owned(),
                };
                let what = format!("this run uses the image {name} with the digest {digest}, which is in no registry");
                return Err(Error::Refused { what, said });
            }
            Some(Image { at: Some(at), .. }) => at,
            None => name,
        };
        self.bring(from).await?;
        let what = format!("the image {from} was brought and is not there");
        let found = self.has(wanted).await?.ok_or_else(|| Error::Refused { what, said: "not found".into() })?;
        self.fits(name, found)
    }

    async fn has(&self, name: &str) -> Result<Option<ImageInspect>, Error> {
        match self.docker.inspect_image(name).await {
            Ok(found) => Ok(Some(found)),
            Err(bollard::errors::Error::DockerResponseServerError { status_code: 404, .. }) => Ok(None),
            Err(e) => Err(self.failed(&format!("the image {name} cannot be looked at"))(e)),
        }
    }

    fn fits(&self, name: &str, found: ImageInspect) -> Result<Image, Error> {
        let made_for = found.architecture.unwrap_or_default();
        let here = &self.about.architecture;
        if !made_for.is_empty() && !here.is_empty() && made_for != *here {
            let said = format!("it is made for {made_for}, and this machine is {here}");
            return Err(Error::Refused { what: format!("the image {name} cannot run here"), said });
        }
        let digest = found.id.unwrap_or_default();
        let digest = if digest.contains(':') { digest } else { format!("sha256:{digest}") };
        // What was built here stands in no registry, though some engines make such a name up for it.
        let named = |at: &String| !at.starts_with("localhost/") && is_of(at, name);
        let at = found.repo_digests.unwrap_or_default().into_iter().find(named);
        Ok(Image { name: name.to_owned(), digest, at })
    }

    async fn bring(&self, name: &str) -> Result<(), Error> {
        tracing::info!(image = name, "bringing an image");
        let options = CreateImageOptionsBuilder::default().from_image(name).build();
        let what = format!("the image {name} is not there, and cannot be brought");
        let bringing = self.patient.create_image(Some(options), None, None).try_collect::<Vec<_>>();
        let brought = tokio::time::timeout(LONGEST_BUILD, bringing).await;
        let too_long = || Error::Refused {
            what: what.clone(),
            said: format!("it took longer than {} s", LONGEST_BUILD.as_secs()),
        };
        for told in brought.map_err(|_| too_long())?.map_err(self.failed(&what))? {
            if let Some(why) = told.error_detail.and_then(|e| e.message) {
                return Err(Error::Refused { what, said: why });
            }
        }
        Ok(())
    }

    /// The image that a `Containerfile` of a bundle makes, built unless the engine has it. `tag` says what it depends on; `bundle` is a tar
    /// archive, which may be gzipped.
    ///
    /// # Errors
    /// If the bundle cannot be read, or the engine does not answer.
    pub async fn build(&self, tag: &str, containerfile: &str, bundle: &Path, marks: &Marks) -> Result<Build, Error> {
        let name = name_of_made(tag);
        if let Some(found) = self.has(&name).await? {
            let log = format!("{containerfile} was built before on this engine, as {name}\n");
            return Ok(Build { image: self.fits(containerfile, found), log });
        }
        let failed = |e: std::io::Error| Error::Refused {
            what: format!("{containerfile} cannot be built"),
            said: format!("{}: {e}", bundle.display()),
        };
        let file = tokio::fs::File::open(bundle).await.map_err(failed)?;
        let options = BuildImageOptionsBuilder::default().dockerfile(containerfile).t(&name).rm(true).forcerm(true);
        let labels = marks.labels();
        let labels: HashMap<&str, &str> = labels.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        let body = bollard::body_try_stream(ReaderStream::new(file));
        let mut told = Box::pin(self.patient.build_image(options.labels(&labels).build(), None, Some(body)));
        let (mut log, mut why) = (String::new(), None);
        let until = tokio::time::Instant::now() + LONGEST_BUILD;
        loop {
            let Ok(step) = tokio::time::timeout_at(until, told.next()).await else {
                why = Some(format!("it took longer than {} s", LONGEST_BUILD.as_secs()));
                break;
            };
            let Some(step) = step else { break };
            match step {
                Ok(step) => {
                    log += &step.stream.unwrap_or_default();
                    why = step.error_detail.and_then(|e| e.message).or(why);
                }
                Err(bollard::errors::Error::DockerStreamError { error }) => why = Some(error),
                Err(bollard::errors::Error::DockerResponseServerError { message, .. }) => why = Some(message),
                Err(e) => return Err(self.failed(containerfile)(e)),
            }
            if log.len() > 2 * LONGEST_LOG {
                let from = log.len() - LONGEST_LOG;
                let from = (from..log.len()).find(|i| log.is_char_boundary(*i)).unwrap_or(0);
                log.drain(..from);
            }
        }
        if let Some(why) = why {
            let said = format!("{}: {}", why.trim(), tail(&log));
            log += &format!("{why}\n");
            let what = format!("{containerfile} cannot be built");
            return Ok(Build { image: Err(Error::Refused { what, said }), log });
        }
        let what = format!("{containerfile} was built, and its image is not there");
        let found = self.has(&name).await?.ok_or_else(|| Error::Refused { what, said: tail(&log) })?;
        Ok(Build { image: self.fits(containerfile, found), log })
    }

    /// Makes an image of a container that has ended, under that tag.
    ///
    /// # Errors
    /// If the engine cannot, or does not answer.
    pub async fn keep(&self, container: &str, tag: &str, marks: &Marks) -> Result<(), Error> {
        let options = CommitContainerOptionsBuilder::default().container(container).repo(MADE).tag(tag);
        let labels = marks.labels().into_iter().map(|(name, value)| format!("LABEL {name}={value}"));
        let options = options.changes(&labels.collect::<Vec<_>>().join("\n")).build();
        let kept = self.patient.commit_container(options, ContainerConfig::default()).await;
        kept.map(drop).map_err(self.failed("what was prepared cannot be kept as an image"))
    }

    /// The identity of what was made under that tag, if the engine still has it.
    ///
    /// # Errors
    /// If the engine does not answer.
    pub async fn made(&self, tag: &str) -> Result<Option<String>, Error> {
        Ok(self.has(&name_of_made(tag)).await?.and_then(|found| found.id))
    }

    /// Removes the oldest images that were built or prepared for a worker's home, beyond those that are kept. What a container
    /// uses stays.
    pub async fn trim(&self, home: &str) {
        let filters = HashMap::from([("label".to_owned(), vec![format!("{HOME}={home}")])]);
        let options = ListImagesOptionsBuilder::default().filters(&filters).build();
        let mut made = match self.docker.list_images(Some(options)).await {
            Ok(made) => made,
            Err(e) => return tracing::debug!("images cannot be listed: {e}"),
        };
        made.retain(|image| image.repo_tags.iter().any(|tag| tag.contains(MADE)));
        made.sort_by_key(|image| std::cmp::Reverse(image.created));
        for old in made.into_iter().skip(MOST_MADE) {
            let removed = self.docker.remove_image(&old.id, None::<RemoveImageOptions>, None).await;
            match removed {
                Ok(_) => tracing::info!(image = old.id, "an image that was made long ago is removed"),
                Err(e) => tracing::debug!("an image stays: {e}"),
            }
        }
    }
}

/// The repository of images that are made for a worker; what they depend on is their tag.
const MADE: &str = "localhost/kesmo-made";

fn name_of_made(tag: &str) -> String {
    format!("{MADE}:{tag}")
}

/// The last lines of what was printed.
fn tail(log: &str) -> String {
    let lines: Vec<&str> = log.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    let last = lines[lines.len().saturating_sub(4)..].join(" | ");
    if last.is_empty() { "it printed nothing".to_owned() } else { shorten(&last, 600) }
}
