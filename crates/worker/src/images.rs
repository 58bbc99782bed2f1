//! The images of a worker's engine: found once, built once for a bundle, and what was prepared in them.

use std::{collections::HashMap, path::PathBuf, sync::Arc};

use kesmo_core::suite::{
    SuiteFile,
    container::{Container, From, Image},
};
use kesmo_engine::{Build, Engine, Marks, Work};
use tokio::sync::{Mutex, OnceCell};

use crate::running::{InImage, Trouble};

/// Images that were built, by what they depend on.
type Built = Mutex<HashMap<String, Arc<OnceCell<Image>>>>;

/// A worker's images.
pub struct Images {
    engine: Option<Engine>,
    marks: Marks,
    built: Built,
    /// What builds printed that nobody has taken yet, by the file that was built.
    logs: std::sync::Mutex<Vec<BuildLog>>,
}

/// What a build printed.
#[derive(Debug, Clone)]
pub struct BuildLog {
    pub file: String,
    pub text: String,
    /// What was made; none if it failed.
    pub image: Option<Image>,
}

impl Images {
    pub fn new(engine: Option<Engine>, marks: Marks) -> Self {
        Self { engine, marks, built: Mutex::default(), logs: std::sync::Mutex::default() }
    }

    fn engine(&self) -> Result<&Engine, Trouble> {
        let none = || {
            Trouble::Cannot(
                "the suite runs in an image, and no container engine was found here (its socket is named with --engine)"
                    .into(),
            )
        };
        self.engine.as_ref().ok_or_else(none)
    }

    /// The image of a name: the one that a run has settled on, or what the engine has by now. It is looked for each time, as
    /// images are removed, too.
    ///
    /// # Errors
    /// In the engine's words, if it has none and cannot bring it; if it goes away.
    pub async fn named(&self, name: &str, settled: Option<&Image>) -> Result<Image, Trouble> {
        Ok(self.engine()?.image(name, settled).await?)
    }

    /// The image that a file of a bundle makes; `fetch` brings the bundle where it is to be built.
    ///
    /// # Errors
    /// In the engine's words, if it cannot be built; if it goes away.
    pub async fn built<F: Future<Output = Result<PathBuf, String>>>(
        &self,
        bundle: &str,
        file: &str,
        fetch: impl FnOnce() -> F,
    ) -> Result<Image, Trouble> {
        let engine = self.engine()?;
        let key = format!("{file} of {bundle}");
        let tag = format!("built-{}", tag_of(&[bundle, file]));
        let cell = self.cell(&key).await;
        // Images are removed, too: then it is built again.
        let cell = if cell.initialized() && engine.made(&tag).await?.is_none() {
            self.built.lock().await.remove(&key);
            self.cell(&key).await
        } else {
            cell
        };
        let build = async {
            let archive = fetch().await.map_err(Trouble::Cannot)?;
            let built = engine.build(&tag, file, &archive, &self.marks).await;
            if let Err(e) = std::fs::remove_file(&archive) {
                tracing::debug!("{}: {e}", archive.display());
            }
            let Build { image, log } = built?;
            let told = BuildLog { file: file.to_owned(), text: log, image: image.as_ref().ok().cloned() };
            self.logs.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(told);
            engine.trim(&self.marks.home).await;
            Ok(image?)
        };
        cell.get_or_try_init(|| build).await.cloned()
    }

    /// What builds printed since the last time.
    pub fn take_logs(&self) -> Vec<BuildLog> {
        std::mem::take(&mut *self.logs.lock().unwrap_or_else(std::sync::PoisonError::into_inner))
    }

    async fn cell(&self, key: &str) -> Arc<OnceCell<Image>> {
        Arc::clone(self.built.lock().await.entry(key.to_owned()).or_default())
    }

    /// Of what was prepared: this worker's own, as its files are.
    fn tag_of_prepared(&self, tag: &str) -> String {
        let home = self.marks.home.get(..8).unwrap_or(&self.marks.home);
        format!("prepared-{home}-{tag}")
    }

    /// What surrounds the processes of a suite in an image.
    ///
    /// # Errors
    /// If there is no engine.
    pub fn around(&self, suite: &SuiteFile, image: Image) -> Result<InImage, Trouble> {
        let engine = self.engine()?.clone();
        let container = suite.container.clone().unwrap_or_else(|| Container::of(From::Image(image.name.clone())));
        let identity = image.digest.clone();
        Ok(InImage { engine, container, image, identity, home: self.marks.home.clone() })
    }

    /// The identity of what was prepared before, if the engine still has it.
    ///
    /// # Errors
    /// If the engine goes away.
    pub async fn prepared(&self, tag: &str) -> Result<Option<String>, Trouble> {
        Ok(self.engine()?.made(&self.tag_of_prepared(tag)).await?)
    }

    /// Keeps what was prepared in a container as an image.
    ///
    /// # Errors
    /// If the engine cannot, or goes away.
    pub async fn keep(&self, container: String, tag: &str) -> Result<(), Trouble> {
        let engine = self.engine()?;
        engine.keep(&container, &self.tag_of_prepared(tag), &self.marks).await?;
        engine.trim(&self.marks.home).await;
        Ok(())
    }

    /// Removes the containers of this worker's own work whose mark begins so.
    pub async fn clear(&self, work: &str) {
        self.clear_away(Work::Of(work.to_owned())).await;
    }

    /// Removes the containers of workers that had this home before, and tells how many those were.
    pub async fn clear_before(&self) -> usize {
        self.clear_away(Work::NotOf(self.marks.work.clone())).await
    }

    /// Removes containers; what cannot be removed now is removed later.
    async fn clear_away(&self, work: Work) -> usize {
        let Some(engine) = &self.engine else { return 0 };
        match engine.clear(&self.marks.home, &work).await {
            Ok(cleared) => cleared,
            Err(e) => {
                tracing::warn!("containers are removed later: {e}");
                engine.clear_later(self.marks.home.clone(), work);
                0
            }
        }
    }

    /// Removes what is left of this worker's own work.
    pub async fn close(&self) {
        self.clear(&self.marks.work).await;
    }
}

/// A short name of what something depends on.
fn tag_of(parts: &[&str]) -> String {
    use sha2::{Digest, Sha256};
    let mut whole = hex::encode(Sha256::digest(parts.join("\n")));
    whole.truncate(20);
    whole
}
