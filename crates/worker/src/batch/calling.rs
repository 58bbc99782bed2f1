//! How a process of a batch is called: its words, what it is given around it, and the paths by which it knows files.

use std::path::{Path, PathBuf};

use kesmo_core::suite::file::NamesAs;
use kesmo_wire::{
    link::{GrantedEntry, SecretGiven, Sender},
    reach::variable,
};

use super::BatchRun;
use crate::running::Call;

impl BatchRun<'_> {
    pub(super) fn call(&self, entries: &[GrantedEntry]) -> Result<Call, String> {
        let tests = &self.ready.suite.tests;
        let mut words = Vec::new();
        // Of a file some cases, or all but some; else all of it.
        let to_run = &self.grant.to_run;
        let (some, titles) = match to_run.rest {
            true => (tests.rest.as_ref(), &to_run.aside),
            false => (tests.rerun.as_ref().filter(|_| !to_run.cases.is_empty()), &to_run.cases),
        };
        if let Some(some) = some {
            let path = self.artifacts.with_file_name("cases");
            let cases: String = titles.iter().map(|title| format!("{title}\n")).collect();
            std::fs::write(&path, cases).map_err(|e| format!("{}: {e}", path.display()))?;
            self.ready.around.hand_over(&path)?;
            let (name, path) = (&entries[0].name, self.inside(&path));
            words.extend(some.iter().map(|w| w.replace("{name}", name).replace("{cases-file}", &path)));
        }
        for word in tests.run.iter().filter(|_| some.is_none()) {
            match tests.names_as {
                NamesAs::Arguments if word == "{names}" => words.extend(entries.iter().map(|e| e.name.clone())),
                NamesAs::File if word.contains("{names-file}") => {
                    let path = self.artifacts.with_file_name("names");
                    let names: String = entries.iter().map(|e| format!("{}\n", e.name)).collect();
                    std::fs::write(&path, names).map_err(|e| format!("{}: {e}", path.display()))?;
                    self.ready.around.hand_over(&path)?;
                    words.push(word.replace("{names-file}", &self.inside(&path)));
                }
                NamesAs::OneEach => words.push(word.replace("{name}", &entries[0].name)),
                _ => words.push(word.clone()),
            }
        }
        let mut call = self.tools.sources.call(&words, &self.folder, &self.grant.setup);
        call.batch = Some(self.batch());
        let secrets = &self.grant.setup.secrets;
        for secret in secrets.iter().filter(|secret| secret.as_file) {
            let path = self.secret_path(secret);
            std::fs::create_dir_all(self.batch()).map_err(|e| format!("{}: {e}", self.batch().display()))?;
            kesmo_files::secret::write_exactly(&path, secret.value.as_bytes())
                .map_err(|e| format!("{}: {e}", path.display()))?;
            self.ready.around.hand_over(&path)?;
        }
        call.give(secrets, |secret| Some(self.inside(&self.secret_path(secret))));
        call.env("KESMO_BATCH", self.grant.key.batch.to_string()).env("KESMO_SLOT", self.grant.slot.to_string());
        for (name, way) in &self.ways {
            call.env(&variable(name), format!("127.0.0.1:{}", way.port));
        }
        if let Some(Sender { number, of }) = self.grant.sender {
            call.env("KESMO_SENDER", number.to_string()).env("KESMO_SENDERS", of.to_string());
        }
        call.env("KESMO_ARTIFACTS", self.inside(&self.artifacts));
        call.env("KESMO_EVENTS", self.inside(&self.events_path()));
        if entries.len() == 1 && !self.grant.more {
            call.env("KESMO_ATTEMPT", self.grant.attempt.unwrap_or(1).to_string());
        }
        Ok(call)
    }

    /// Where the value of a secret is that is given as a file. It goes with the batch's own files.
    fn secret_path(&self, secret: &SecretGiven) -> PathBuf {
        self.batch().join(format!("secret-{}", secret.variable))
    }

    /// The path by which its processes know a file.
    fn inside(&self, path: &Path) -> String {
        self.ready.around.inside(path, &self.batch(), &self.folder).to_string_lossy().into_owned()
    }
}
