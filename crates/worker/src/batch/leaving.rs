//! What the processes of a batch leave behind: files with results, which are read, and files that are kept.

use std::{collections::HashMap, path::Path};

use kesmo_core::format::{junit, tap::Tap};
use kesmo_wire::link::{KeptFile, WorkerEvent};

use super::BatchRun;
use crate::{
    cases::Files,
    clock::skew_us,
    files,
    reading::{Reading, Step},
};

/// The largest file that is read or kept, in bytes.
const LARGEST_FILE: u64 = 256 << 20;
/// Failures outside of test cases that are told of one file.
const MOST_LOOSE: usize = 5;

impl BatchRun<'_> {
    pub(super) fn note_files(&mut self, named: Vec<(usize, String, String)>, offset: usize) {
        for (position, path, about) in named {
            let meant = self.ready.around.outside(&path, &self.batch(), &self.folder);
            if let Some(found) = files::named(&meant.to_string_lossy(), &self.folder, &self.artifacts) {
                let shown = self.shown(&path, &meant);
                self.named.insert(found, (offset + position, shown, about));
            }
        }
    }

    /// What a named file is called: as it was told, or, where its process knows it by a path of its image, from where it lies.
    fn shown(&self, told: &str, meant: &Path) -> String {
        if Path::new(told) == meant {
            return told.to_owned();
        }
        let below = |root: &Path| meant.strip_prefix(root).ok();
        let rest = below(&self.artifacts).or_else(|| below(&self.folder)).unwrap_or(meant);
        rest.to_string_lossy().into_owned()
    }

    pub(super) fn read_junit(&mut self, reading: &mut Reading, now: i64) {
        let tests = &self.ready.suite.tests;
        let mut unused = Vec::new();
        for found in files::junit(&self.folder, &tests.junit, self.since()) {
            let (path, shown) = (&found.path, &self.untold(&found.shown));
            let content = kesmo_files::read_regular(path, LARGEST_FILE).map_err(|e| e.to_string());
            let content = content.map(|content| match &self.mask {
                Some(mask) => mask.bytes(&content),
                None => content,
            });
            match content.as_deref().map_err(Clone::clone).and_then(junit::read) {
                Ok(file) => {
                    for case in file.cases {
                        if reading.files.is_some() {
                            self.take_junit_case(reading, case, now);
                            continue;
                        }
                        let candidates = case.candidates();
                        let known =
                            candidates.iter().find(|c| reading.progress.find(c, "").is_ok()).unwrap_or(&candidates[0]);
                        if !case.output.is_empty() {
                            reading.log.add(case.output.as_bytes());
                        }
                        let known = known.clone();
                        reading.take_result(&known, 0, case.reported, now);
                    }
                    for why in file.loose.into_iter().take(MOST_LOOSE) {
                        let why = format!("{shown} holds {why}");
                        if reading.files.is_some() {
                            reading.file_wrong(why);
                        } else {
                            reading.found.push(Step::Wrong(why));
                        }
                    }
                    for why in file.unshown.into_iter().take(MOST_LOOSE) {
                        reading.take_tap(Tap::Unkept(format!("{shown}: {why}")), now);
                    }
                    // Of tests that are named, and of some cases of a file, each that is missing is known. Others may be counted.
                    let all = reading.files.as_ref().is_some_and(Files::whole);
                    for why in file.missing.into_iter().take(MOST_LOOSE).map(|why| format!("{shown}: {why}")) {
                        if all {
                            reading.file_wrong(why);
                        } else {
                            reading.found.push(Step::Remark(why));
                        }
                    }
                }
                Err(why) => {
                    reading.broken = Some(format!("{shown}: {why}"));
                    unused.push(format!("{shown} could not be used: {why}"));
                }
            }
            // A later process in this folder must not read it again.
            if files::is_kept(&tests.keep, shown)
                && let Ok(content) = content
            {
                self.set_aside(&found, &content);
            }
            if let Err(e) = std::fs::remove_file(path) {
                tracing::warn!("{} could not be removed: {e}", path.display());
            }
        }
        if reading.files.is_some() {
            unused.into_iter().take(MOST_LOOSE).for_each(|why| reading.file_wrong(why));
            return;
        }
        // What such a file would have told is not known. Tests that lack a result show it, and run again where they may; else
        // nothing would.
        let step = if reading.progress.complete() { Step::Wrong } else { Step::Remark };
        reading.found.extend(unused.into_iter().take(MOST_LOOSE).map(step));
    }

    /// A test case of JUnit XML is a case of the file that its name or class begins with, or of the only one there is.
    fn take_junit_case(&self, reading: &mut Reading, case: junit::Case, now: i64) {
        if !case.output.is_empty() {
            reading.log.add(case.output.as_bytes());
        }
        let Some(files) = &reading.files else { return };
        let candidates = case.candidates();
        let of_file = |name: &&String| files.place(name).is_some_and(|(_, title)| !title.is_empty() && title != **name);
        let mut name = candidates.iter().find(of_file).unwrap_or(&candidates[0]).clone();
        // Where the class is the file's own name without its ending, or with dots, it says nothing.
        if let Some((position, title)) = files.place(&name).filter(|_| files.one())
            && title == name
            && is_class_of(&case.class, &self.entries[position].name)
        {
            name.clone_from(&case.name);
        }
        reading.take_case(&name, case.reported, now);
    }

    /// Puts a file with results where it can be kept from when the batch is over.
    fn set_aside(&mut self, found: &files::Found, content: &[u8]) {
        let folder = self.artifacts.with_file_name("results");
        let path = folder.join(self.read_results.len().to_string());
        match std::fs::create_dir_all(&folder).and_then(|()| std::fs::write(&path, content)) {
            Ok(()) => self.read_results.push(files::Found { path, ..found.clone() }),
            Err(e) => tracing::warn!("{} could not be kept: {e}", found.shown),
        }
    }

    /// Uploads what the batch left behind, and reports it.
    pub(super) async fn keep_files(&mut self) {
        let tests = &self.ready.suite.tests;
        let (mut found, more) = files::find(&self.artifacts, &self.folder, &tests.keep, self.since());
        if more > 0 {
            let text = self.said(&format!("{more} files beyond the first {} were not kept", found.len()));
            self.tools.report(vec![WorkerEvent::Note { key: self.grant.key, text }]).await;
        }
        found.append(&mut self.read_results);
        let skew = skew_us();
        for (path, (_, shown, about)) in &self.named {
            let canonical = |f: &files::Found| f.path.canonicalize().is_ok_and(|p| p == *path);
            match found.iter_mut().find(|f| canonical(f)) {
                Some(file) => file.about.clone_from(about),
                None => found.push(files::Found {
                    path: path.clone(),
                    shown: shown.clone(),
                    about: about.clone(),
                    written_us: 0,
                }),
            }
        }
        let mut kept: HashMap<Option<u32>, Vec<KeptFile>> = HashMap::new();
        for mut file in found {
            (file.shown, file.about) = (self.untold(&file.shown), self.untold(&file.about));
            let canonical = file.path.canonicalize().unwrap_or_else(|_| file.path.clone());
            let position = match self.named.get(&canonical) {
                Some((position, _, _)) => Some(*position),
                None => files::owner(file.written_us - skew, &self.attempts),
            };
            let content = match kesmo_files::read_regular(&file.path, LARGEST_FILE).map_err(|e| e.to_string()) {
                // A text is kept without secrets; what is none is kept as it is.
                Ok(content) => match &self.mask {
                    Some(mask) if std::str::from_utf8(&content).is_ok() => mask.bytes(&content),
                    _ => content,
                },
                Err(why) => {
                    let text = format!("the file {} could not be kept: {why}", file.shown);
                    self.tools.report(vec![WorkerEvent::Note { key: self.grant.key, text }]).await;
                    continue;
                }
            };
            let bytes = content.len() as u64;
            let digest = match self.tools.uploads.send(content).await {
                Ok(digest) => digest,
                Err(why) => {
                    let text = format!("the file {} could not be kept: {why}", file.shown);
                    self.tools.report(vec![WorkerEvent::Note { key: self.grant.key, text }]).await;
                    continue;
                }
            };
            let entry = position.and_then(|p| self.entries.get(p)).map(|e| e.index);
            kept.entry(entry).or_default().push(KeptFile { path: file.shown, about: file.about, digest, bytes });
        }
        let key = self.grant.key;
        let events = kept.into_iter().map(|(entry, files)| WorkerEvent::Kept { key, entry, files }).collect();
        self.tools.report(events).await;
    }
}

/// Whether the class of a JUnit case is a file's name: with dots for slashes, with or without its ending.
fn is_class_of(class: &str, file: &str) -> bool {
    let plain = |text: &str| text.replace(['/', '\\'], ".");
    let without_end = file.rsplit_once('.').filter(|(_, end)| !end.contains('/')).map_or(file, |(start, _)| start);
    let (class, file, bare) = (plain(class), plain(file), plain(without_end));
    class == file || class == bare || file.ends_with(&format!(".{class}")) || bare.ends_with(&format!(".{class}"))
}
