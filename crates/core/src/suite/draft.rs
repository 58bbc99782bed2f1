//! A first suite file, written from what a folder holds and from what somebody answers.
//!
//! It knows patterns of files: names that say "test", scripts and what runs them, scripts that print TAP. Nothing is run. What
//! it writes is a suite file that [`SuiteFile::parse`] takes, with comments that say why each line is there.

use std::collections::BTreeMap;

use super::{
    SuiteFile,
    file::{Each, FILE_NAME, Results},
    pick::Pattern,
};
use serde::{Deserialize, Serialize};

use crate::{
    error::Error,
    name::{Slug, fold, shorten},
};

/// A file of the folder.
#[derive(Debug, Clone, Default)]
pub struct SeenFile {
    /// Relative to the folder, with `/`.
    pub path: String,
    pub executable: bool,
    /// The beginning of its text; empty if it is none.
    pub text: String,
}

/// What somebody says of the suite; what is left out is guessed, or left as it usually is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Answers {
    pub name: Option<String>,
    pub about: Option<String>,
    /// A glob of the files that are tests, or hold them.
    pub files: Option<String>,
    /// The command that prints the names, in words.
    pub list: Option<Vec<String>>,
    /// The command that runs some of them, in words.
    pub run: Option<Vec<String>>,
    pub rerun: Option<Vec<String>>,
    pub results: Option<Results>,
    pub each: Option<Each>,
    /// Where JUnit XML files are found.
    pub junit: Option<String>,
    /// Whether a process stays and reads names from standard input.
    pub fed: bool,
    pub limit: Option<String>,
    pub retries: Option<u32>,
}

/// The same in the words of whoever answers: commands as one line, as a shell takes them.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Said {
    pub name: Option<String>,
    pub about: Option<String>,
    /// A glob of the files that are tests, or hold them.
    pub files: Option<String>,
    pub list: Option<String>,
    pub run: Option<String>,
    pub rerun: Option<String>,
    /// `tap`, `junit`, `events` or `exit`.
    pub results: Option<String>,
    /// `test` or `file`.
    pub each: Option<String>,
    pub junit: Option<String>,
    pub feed: bool,
    pub limit: Option<String>,
    pub retries: Option<u32>,
}

impl Said {
    /// Reads the words.
    ///
    /// # Errors
    /// If one of them is none that may stand there; the message names the nearest.
    pub fn answers(self) -> Result<Answers, Error> {
        let words = |option: &str, line: Option<String>| line.map(|line| command(option, &line)).transpose();
        Ok(Answers {
            name: self.name,
            about: self.about,
            files: self.files,
            list: words("list", self.list)?,
            run: words("run", self.run)?,
            rerun: words("rerun", self.rerun)?,
            results: self.results.as_deref().map(Results::parse).transpose().map_err(Error::Options)?,
            each: self.each.as_deref().map(Each::parse).transpose().map_err(Error::Options)?,
            junit: self.junit,
            fed: self.feed,
            limit: self.limit,
            retries: self.retries,
        })
    }
}

/// A command's words, as a shell takes them apart.
///
/// # Errors
/// If a quote is not closed, or there is no word.
pub fn command(option: &str, line: &str) -> Result<Vec<String>, Error> {
    let words = shlex::split(line).filter(|words| !words.is_empty());
    words.ok_or_else(|| Error::Options(format!("--{option} {line:?}: a quote is not closed, or it is empty")))
}

/// A suite file before it is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Draft {
    pub name: String,
    pub about: String,
    pub list: Vec<String>,
    pub run: Vec<String>,
    pub rerun: Option<Vec<String>>,
    pub results: Results,
    pub each: Each,
    pub junit: Option<String>,
    pub fed: bool,
    pub limit: String,
    pub retries: u32,
    /// Why it is as it is, in sentences.
    pub because: Vec<String>,
}

/// Files of one kind in one folder, which may be the suite's tests.
#[derive(Debug)]
struct Group<'f> {
    folder: &'f str,
    /// The glob of their names.
    glob: String,
    files: Vec<&'f SeenFile>,
    score: usize,
}

/// Files of a group that are looked into, at the most, and how far: what a script takes in stands at its beginning.
const MOST_LOOKED_AT: usize = 40;
const BEGINNING: usize = 8 << 10;

/// Programs that run scripts, by the ending of a script's name.
const INTERPRETERS: [(&str, &str); 12] = [
    ("sh", "sh"),
    ("bash", "bash"),
    ("zsh", "zsh"),
    ("py", "python3"),
    ("pl", "perl"),
    ("t", "perl"),
    ("rb", "ruby"),
    ("js", "node"),
    ("mjs", "node"),
    ("lua", "lua"),
    ("tcl", "tclsh"),
    ("php", "php"),
];

impl Draft {
    /// Makes a draft for the files of a folder called `folder`; without files it goes by what is answered alone.
    ///
    /// # Errors
    /// If an answer cannot be used, or nothing in the folder looks like tests and no answer says what is.
    pub fn make(folder: &str, seen: Option<&[SeenFile]>, answers: &Answers) -> Result<Self, Error> {
        let example = example_of(answers.files.as_deref().filter(|_| seen.is_none()));
        let files = seen.unwrap_or(&example);
        let name = match &answers.name {
            Some(name) => Slug::parse("the suite's name", name)?.to_string(),
            None => slug_of(folder),
        };
        let group = match &answers.files {
            Some(glob) => Some(named_group(glob, files)?),
            None if answers.list.is_some() && answers.run.is_some() => None,
            None => Some(best_group(files).ok_or_else(nothing)?),
        };
        let mut because = Vec::new();
        let runner = group.as_ref().map(|group| Runner::of(group, files));
        if let (Some(group), Some(runner)) = (&group, &runner) {
            because.push(if seen.is_some() {
                group.said()
            } else {
                format!("The files are those that match {}.", group.whole_glob())
            });
            because.extend(runner.said());
        }
        let tap = group.as_ref().is_some_and(|group| prints_tap(group, files));
        let results = answers.results.unwrap_or(match (answers.junit.is_some(), tap) {
            (true, _) => Results::Junit,
            (false, true) => Results::Tap,
            (false, false) => Results::Exit,
        });
        let each = answers.each.unwrap_or(match results {
            Results::Exit => Each::Test,
            _ if group.is_some() && !answers.fed => Each::File,
            _ => Each::Test,
        });
        because.push(said_of(results, each, tap && answers.results.is_none()).to_owned());
        let list = match (&answers.list, &group, &runner) {
            (Some(list), ..) => list.clone(),
            (None, Some(group), Some(runner)) => runner.list(group),
            _ => return Err(nothing()),
        };
        let run = match (&answers.run, &group, &runner) {
            (Some(run), ..) => run.clone(),
            (None, Some(group), Some(runner)) => runner.run(group)?,
            _ => return Err(nothing()),
        };
        let draft = Self {
            name,
            about: answers.about.clone().unwrap_or_default(),
            list,
            run,
            rerun: answers.rerun.clone(),
            results,
            each,
            junit: answers.junit.clone(),
            fed: answers.fed,
            limit: answers.limit.clone().unwrap_or_else(|| "60s".into()),
            retries: answers.retries.unwrap_or(1),
            because,
        };
        SuiteFile::parse(FILE_NAME, &draft.text())?;
        Ok(draft)
    }

    /// The suite file.
    #[must_use]
    pub fn text(&self) -> String {
        let mut out = String::from(
            "# What Kesmo needs to know of this suite. `kesmo suite check` reads it; `kesmo suite try` runs three of its tests\n\
             # and says what it understood. Every key is described in docs/suite-file.md.\n",
        );
        let mut line = |text: String| {
            out += &text;
            out.push('\n');
        };
        line(format!("suite = {}", quoted(&self.name)));
        if self.about.is_empty() {
            line("# about = \"what it tests, in a line\"".into());
        } else {
            line(format!("about = {}", quoted(&self.about)));
        }
        line("\n[tests]".into());
        self.because.iter().for_each(|why| fold(why, 116).into_iter().for_each(|part| line(format!("# {part}"))));
        if self.each == Each::File {
            line("each = \"file\"".into());
        }
        line("# The list command prints the names, one a line; where it prints none, a run is void.".into());
        line(format!("list = {}", words(&self.list)));
        line(format!("run = {}", words(&self.run)));
        match &self.rerun {
            Some(rerun) => {
                line(format!("rerun = {}", words(rerun)));
                line("# If it can leave some cases out, too, a file that takes long is cut over several slots.".into());
                line("# rest = [\"sh\", \"{name}\", \"--not\", \"{cases-file}\"]".into());
            }
            None if self.each == Each::File && self.results != Results::Exit => {
                line("# If a file's program can run some of its cases, a retry need not run the file whole; {cases-file} holds one".into());
                line("# title a line.".into());
                line("# rerun = [\"sh\", \"{name}\", \"--only\", \"{cases-file}\"]".into());
            }
            None => {}
        }
        line(format!("results = {}", quoted(self.results.word())));
        if let Some(junit) = &self.junit {
            line(format!("junit = [{}]", quoted(junit)));
        }
        if self.fed {
            line("# A process stays, and reads the names from its standard input as its slot draws them.".into());
            line("feed = \"lines\"".into());
        }
        let what = if self.each == Each::File { "file" } else { "test" };
        line(format!(
            "\n[limits]\n# A {what} that takes longer is ended, and has failed.\ntest = {}",
            quoted(&self.limit)
        ));
        line(format!(
            "\n[retry]\n# So often what fails is run again. What passes then is flaky: it does not fail the run, and is told.\n\
             times = {}",
            self.retries
        ));
        line(
            "\n# What a worker must offer (`kesmo worker --offer browser=yes`):\n# [needs]\n# browser = \"yes\"\n\n\
             # What may differ between runs (`--set gate=north`); processes see it as KESMO_SET_GATE:\n# [settings]\n\
             # gate = \"north\""
                .into(),
        );
        out
    }
}

/// A glob as a shell takes it: what is no part of a glob stands for itself.
fn shell_glob(glob: &str) -> String {
    let bare = |c: char| c.is_alphanumeric() || "_-./*?[]".contains(c);
    glob.chars().fold(String::new(), |mut all, c| {
        if !bare(c) {
            all.push('\\');
        }
        all.push(c);
        all
    })
}

fn nothing() -> Error {
    Error::Options(
        "nothing in this folder looks like tests: say which files are, with --files 'GLOB', or give the commands, with --list \
         and --run"
            .into(),
    )
}

/// A file as a glob may match it, where no folder is looked at.
fn example_of(glob: Option<&str>) -> Vec<SeenFile> {
    let path = glob.map(|glob| glob.replace("**/", "").replace(['*', '?'], "a"));
    path.map(|path| SeenFile { path, ..SeenFile::default() }).into_iter().collect()
}

fn said_of(results: Results, each: Each, guessed: bool) -> &'static str {
    match (results, each) {
        (Results::Tap, Each::File) if guessed => "They seem to print TAP: each point of it is a case of its file.",
        (Results::Tap, Each::File) => "Each prints TAP: each point of it is a case of its file.",
        (Results::Tap, Each::Test) => "Each test is a point of TAP on standard output, under its name.",
        (Results::Junit, Each::File) => "Each writes JUnit XML: each test case of it is a case of its file.",
        (Results::Junit, Each::Test) => "Each test is a test case of JUnit XML, under its name.",
        (Results::Events, _) => "Results are event lines, written to $KESMO_EVENTS.",
        (Results::Exit, _) => "Each is a test that passes when it ends with status 0.",
    }
}

fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

fn words(all: &[String]) -> String {
    let words: Vec<String> = all.iter().map(|word| quoted(word)).collect();
    format!("[{}]", words.join(", "))
}

/// The name of a folder as a suite's.
fn slug_of(folder: &str) -> String {
    let mut slug = String::new();
    for c in folder.to_lowercase().chars() {
        match c {
            'a'..='z' | '0'..='9' => slug.push(c),
            _ if !slug.is_empty() && !slug.ends_with('-') => slug.push('-'),
            _ => {}
        }
    }
    let slug = slug.trim_end_matches('-').chars().take(40).collect::<String>();
    match Slug::parse("the suite's name", &slug) {
        Ok(slug) => slug.to_string(),
        Err(_) => "my-suite".into(),
    }
}

fn parts(path: &str) -> (&str, &str, &str) {
    let (folder, file) = path.rsplit_once('/').unwrap_or(("", path));
    let (stem, ending) = file.rsplit_once('.').filter(|(stem, _)| !stem.is_empty()).unwrap_or((file, ""));
    (folder, stem, ending)
}

/// Whether a word of a name says that its file holds tests.
fn says_test(stem: &str) -> bool {
    let lower = stem.to_lowercase();
    let mut of = lower.split(['-', '_', '.']).filter(|word| !word.is_empty());
    of.any(|word| matches!(word, "test" | "tests" | "spec" | "specs" | "check" | "checks")) || is_numbered(stem)
}

/// `t0001-basic` and the like.
fn is_numbered(stem: &str) -> bool {
    stem.strip_prefix('t').is_some_and(|rest| rest.len() > 2 && rest.bytes().take(2).all(|b| b.is_ascii_digit()))
}

fn folder_says_test(folder: &str) -> bool {
    folder.split('/').any(|part| matches!(part, "t" | "test" | "tests" | "spec" | "specs" | "check" | "checks"))
}

fn is_script(file: &SeenFile) -> bool {
    let (_, _, ending) = parts(&file.path);
    file.text.starts_with("#!") || INTERPRETERS.iter().any(|(known, _)| *known == ending)
}

/// The files that a glob names.
fn named_group<'f>(glob: &str, files: &'f [SeenFile]) -> Result<Group<'f>, Error> {
    let pattern = Pattern::glob(glob)?;
    let found: Vec<&SeenFile> = files.iter().filter(|f| pattern.matches_text(&f.path)).collect();
    if found.is_empty() {
        let near = files.iter().take(3).map(|f| f.path.as_str()).collect::<Vec<_>>().join(", ");
        let there = if near.is_empty() { "it holds no files".to_owned() } else { format!("it holds {near} …") };
        return Err(Error::Options(format!("--files {glob:?} matches no file of this folder: {there}")));
    }
    let (folder, glob) = match glob.rsplit_once('/') {
        // Below a folder at any depth is told by the glob as a whole.
        Some((folder, file)) if !folder.contains(['*', '?', '[', '{']) && !file.contains("**") => {
            let folder = files.iter().find_map(|f| f.path.get(..folder.len()).filter(|p| *p == folder));
            (folder.unwrap_or_default(), file.to_owned())
        }
        _ => ("", glob.to_owned()),
    };
    Ok(Group { folder, glob, files: found, score: 0 })
}

/// The files that look most like tests.
fn best_group(files: &[SeenFile]) -> Option<Group<'_>> {
    let mut kinds: BTreeMap<(&str, &str), Vec<&SeenFile>> = BTreeMap::new();
    for file in files.iter().filter(|f| is_script(f)) {
        let (folder, _, ending) = parts(&file.path);
        kinds.entry((folder, ending)).or_default().push(file);
    }
    let groups = kinds.into_iter().filter_map(|((folder, ending), all)| {
        let dotted = if ending.is_empty() { String::new() } else { format!(".{ending}") };
        let stem = |f: &&SeenFile| parts(&f.path).1.to_owned();
        let shapes: [(String, Vec<&SeenFile>); 4] = [
            (format!("t[0-9]*{dotted}"), all.iter().copied().filter(|f| is_numbered(&stem(f))).collect()),
            (format!("test*{dotted}"), all.iter().copied().filter(|f| stem(f).starts_with("test")).collect()),
            (ending_glob(&all, &dotted), all.iter().copied().filter(|f| ends_in_test(&stem(f))).collect()),
            (format!("*{dotted}"), all.clone()),
        ];
        let named = |(_, files): &(String, Vec<&SeenFile>)| !files.is_empty() && files.len() * 5 >= all.len() * 2;
        let by_name = shapes.iter().take(3).find(|shape| named(shape));
        let in_folder = folder_says_test(folder);
        let (glob, of) = by_name.unwrap_or(&shapes[3]).clone();
        let group = Group { folder, glob, files: of, score: 0 };
        let tap = prints_tap(&group, files);
        let weight = 2 * usize::from(by_name.is_some()) + 2 * usize::from(in_folder) + 2 * usize::from(tap);
        (weight > 0).then(|| Group { score: group.files.len() * weight, ..group })
    });
    groups.max_by_key(|g| g.score)
}

fn ends_in_test(stem: &str) -> bool {
    !stem.starts_with("test") && !is_numbered(stem) && says_test(stem)
}

/// The glob of names that end in a word like `test`.
fn ending_glob(files: &[&SeenFile], dotted: &str) -> String {
    let tail = |f: &&&SeenFile| {
        let stem = parts(&f.path).1;
        let at = stem.rfind(['-', '_', '.']).unwrap_or(0);
        ends_in_test(stem).then(|| stem[at..].to_owned()).filter(|tail| says_test(tail))
    };
    let tails: Vec<String> = files.iter().filter_map(|f| tail(&f)).collect();
    match tails.first() {
        Some(first) if tails.iter().all(|tail| tail == first) => format!("*{first}{dotted}"),
        _ => format!("*{dotted}"),
    }
}

/// Whether a script's text prints TAP.
fn tap_in(text: &str) -> bool {
    let code = || text.lines().map(str::trim).filter(|line| !line.starts_with('#') || line.starts_with("#!"));
    let says = |what: &str| code().any(|line| line.contains(what));
    says("TAP version 1")
        || (says("not ok") && (says("1..") || code().any(|l| l.contains("ok $") || l.contains("ok %"))))
        || code()
            .any(|l| ["\"ok ", "'ok ", "\"1..", "'1..", "echo 1..", "echo ok "].iter().any(|start| l.contains(start)))
}

/// Whether the files of a group, or a file that they take in, print TAP.
fn prints_tap(group: &Group<'_>, files: &[SeenFile]) -> bool {
    let near = |f: &&SeenFile| [group.folder, ""].contains(&parts(&f.path).0);
    let beside = files.iter().filter(near).filter(|f| taken_in(group, f));
    let own = group.files.iter().filter(|f| tap_in(&f.text)).count();
    own * 2 >= group.files.len() || beside.into_iter().any(|f| tap_in(&f.text))
}

/// Whether most files of a group say so of their beginning; of many a part is looked at.
fn most(group: &Group<'_>, says: impl Fn(&str) -> bool) -> bool {
    let step = group.files.len() / MOST_LOOKED_AT + 1;
    let looked: Vec<&str> = group.files.iter().step_by(step).map(|f| beginning(&f.text)).collect();
    looked.iter().filter(|text| says(text)).count() * 2 > looked.len()
}

fn beginning(text: &str) -> &str {
    let end = (0..=text.len().min(BEGINNING)).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    &text[..end]
}

/// Whether most files of a group name another file.
fn taken_in(group: &Group<'_>, file: &SeenFile) -> bool {
    let name = file.path.rsplit('/').next().unwrap_or_default();
    !name.is_empty() && group.files.iter().all(|of| of.path != file.path) && most(group, |text| text.contains(name))
}

impl Group<'_> {
    fn said(&self) -> String {
        let (count, first) = (self.files.len(), shorten(&self.files[0].path, 80));
        let glob = self.whole_glob();
        if count == 1 {
            format!("One file matches {glob}: {first}.")
        } else {
            format!("{count} files match {glob}, like {first}.")
        }
    }

    fn whole_glob(&self) -> String {
        if self.folder.is_empty() { self.glob.clone() } else { format!("{}/{}", self.folder, self.glob) }
    }
}

/// How the files of a group are run.
#[derive(Debug)]
struct Runner {
    /// The program; none: each runs by itself.
    program: Option<String>,
    known: bool,
    /// Within their own folder, as they take in files that stand beside them.
    inside: bool,
}

impl Runner {
    fn of(group: &Group<'_>, files: &[SeenFile]) -> Self {
        let beside = |f: &&SeenFile| {
            let name = f.path.rsplit('/').next().unwrap_or_default();
            let marks = [format!("./{name}"), format!(". {name}"), format!("source {name}")];
            let of_group = group.files.iter().any(|of| of.path == f.path);
            let says = |text: &str| marks.iter().any(|mark| text.contains(mark.as_str()));
            parts(&f.path).0 == group.folder && !of_group && most(group, says)
        };
        let inside = !group.folder.is_empty() && files.iter().any(|f| beside(&f));
        if group.files.iter().all(|f| f.executable && f.text.starts_with("#!")) {
            return Self { program: None, known: true, inside };
        }
        let first = group.files[0];
        let named = first.text.strip_prefix("#!").and_then(|line| {
            let line = line.lines().next().unwrap_or_default();
            let mut of = line.split_whitespace();
            let program = of.next()?.rsplit('/').next()?.to_owned();
            if program == "env" { of.find(|word| !word.starts_with('-')).map(str::to_owned) } else { Some(program) }
        });
        let ending = parts(&first.path).2;
        let usual = INTERPRETERS.iter().find(|(known, _)| *known == ending).map(|(_, program)| (*program).to_owned());
        let program = named.or(usual);
        Self { known: program.is_some(), program, inside }
    }

    fn said(&self) -> Option<String> {
        self.inside
            .then(|| "They take in files that stand beside them, so they are run in their own folder.".to_owned())
    }

    fn list(&self, group: &Group<'_>) -> Vec<String> {
        let shell = |line: String| vec!["sh".into(), "-c".into(), line];
        match group.folder {
            folder if self.inside => shell(format!("cd {} && ls {}", shell_glob(folder), shell_glob(&group.glob))),
            "" if group.glob.contains("**") => {
                let (top, name) = group.glob.split_once("**").unwrap_or(("", "*"));
                let top = if top.is_empty() { "." } else { top.trim_end_matches('/') };
                let name = name.trim_start_matches('/');
                let (top, name) = (shell_glob(top), name.replace('\'', "'\\''"));
                shell(format!("find {top} -type f -name '{name}' | sed 's|^\\./||' | LC_ALL=C sort"))
            }
            _ => shell(format!("ls {}", shell_glob(&group.whole_glob()))),
        }
    }

    fn run(&self, group: &Group<'_>) -> Result<Vec<String>, Error> {
        let name = "{name}".to_owned();
        match &self.program {
            None if !self.known => Err(Error::Options(format!(
                "{} is no program by itself, and what runs it is not known: say so with --run 'PROGRAM {{name}}'",
                group.files[0].path
            ))),
            program if self.inside => {
                let word = program.as_ref().map_or_else(|| "./\"$0\"".to_owned(), |p| format!("{p} \"$0\""));
                Ok(vec!["sh".into(), "-c".into(), format!("cd {} && exec {word}", shell_glob(group.folder)), name])
            }
            None => Ok(vec!["./{name}".into()]),
            Some(program) => Ok(vec![program.clone(), name]),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(path: &str, text: &str) -> SeenFile {
        SeenFile { path: path.into(), executable: false, text: text.into() }
    }

    fn made(files: &[SeenFile], answers: &Answers) -> (Draft, SuiteFile) {
        let draft = Draft::make("Ticket Desk", Some(files), answers).unwrap();
        let text = draft.text();
        (draft, SuiteFile::parse("kesmo.toml", &text).unwrap())
    }

    const TAP: &str = "#!/bin/sh\necho 1..2\necho 'ok 1 - pays'\necho 'not ok 2 - late'\n";

    #[test]
    fn scripts_that_print_tap_are_files_of_cases() {
        let files = [
            file("specs/adult.sh", TAP),
            file("specs/child.sh", TAP),
            file("tools/build.sh", "make all\n"),
            file("README.md", "not ok"),
        ];
        let (draft, suite) = made(&files, &Answers::default());
        assert_eq!(draft.name, "ticket-desk");
        assert_eq!(draft.list, ["sh", "-c", "ls specs/*.sh"]);
        assert_eq!(draft.run, ["sh", "{name}"]);
        assert!(suite.tests.of_files() && suite.tests.results == Results::Tap);
        assert_eq!(draft.because[0], "2 files match specs/*.sh, like specs/adult.sh.");
    }

    #[test]
    fn numbered_scripts_with_a_library_beside_them_run_in_their_folder() {
        let text = "#!/bin/sh\n. ./lib-test.sh\nexpect open\n";
        let lib = "say () { echo \"ok $count - $1\"; }\nfail () { echo \"not ok $count - $1\"; }\n";
        let mut files: Vec<SeenFile> =
            (0..5).map(|n| SeenFile { executable: true, ..file(&format!("t/t000{n}-gate.sh"), text) }).collect();
        files.extend([file("t/lib-test.sh", lib), file("t/lib-other.sh", "true")]);
        let (draft, suite) = made(&files, &Answers::default());
        assert_eq!(draft.list[2], "cd t && ls t[0-9]*.sh");
        assert_eq!(draft.run, ["sh", "-c", "cd t && exec ./\"$0\"", "{name}"]);
        assert_eq!(suite.tests.results, Results::Tap, "its library prints it");
    }

    #[test]
    fn scripts_by_other_names_are_found_by_the_library_that_they_take_in() {
        let text = ". ./tap.sh\ncase_of \"an adult pays\" true\n";
        let lib = "case_of() { n=$((n + 1)); \"$2\" && echo \"ok $n - $1\" || echo \"not ok $n - $1\"; }\n";
        let files = [file("desk/fares.sh", text), file("desk/refunds.sh", text), file("tap.sh", lib)];
        let (draft, suite) = made(&files, &Answers::default());
        assert_eq!((draft.list[2].as_str(), suite.tests.results), ("ls desk/*.sh", Results::Tap));
        assert_eq!(draft.run, ["sh", "{name}"], "the library is taken in from the suite's folder");
    }

    #[test]
    fn a_folders_name_says_nothing_to_the_shell() {
        let odd = "my tests/$(touch x);y's";
        let files = [file(&format!("{odd}/tests/a.sh"), TAP), file(&format!("{odd}/tests/b.sh"), TAP)];
        let (draft, _) = made(&files, &Answers::default());
        assert_eq!(draft.list[2], r"ls my\ tests/\$\(touch\ x\)\;y\'s/tests/*.sh");
        let deep = Answers { files: Some("my tests/**/*.sh".into()), ..Answers::default() };
        assert!(made(&files, &deep).0.list[2].starts_with(r"find my\ tests -type f -name '*.sh'"));
    }

    #[test]
    fn programs_without_tap_are_tests_by_their_status() {
        let run = |name: &str| SeenFile { executable: true, ..file(name, "#!/bin/sh\ntest -f gate\n") };
        let (draft, suite) = made(&[run("gate_test"), run("fare_test"), run("build")], &Answers::default());
        assert_eq!((draft.list[2].as_str(), draft.run[0].as_str()), ("ls *_test", "./{name}"));
        assert_eq!((suite.tests.results, suite.tests.each), (Results::Exit, Each::Test));
        let python = [file("test_gate.py", "assert True\n"), file("gate.py", "")];
        assert_eq!(made(&python, &Answers::default()).0.run, ["python3", "{name}"]);
    }

    #[test]
    fn what_is_answered_wins_over_what_is_guessed() {
        let files = [file("a/b/one.sh", TAP), file("a/two.sh", TAP)];
        let answers = Answers {
            name: Some("fares".into()),
            files: Some("a/**/*.sh".into()),
            junit: Some("out/*.xml".into()),
            retries: Some(0),
            limit: Some("5m".into()),
            about: Some("every \"fare\"".into()),
            ..Answers::default()
        };
        let (draft, suite) = made(&files, &answers);
        assert_eq!(draft.list[2], "find a -type f -name '*.sh' | sed 's|^\\./||' | LC_ALL=C sort");
        assert_eq!((suite.tests.results, suite.retry.times), (Results::Junit, Some(0)));
        assert_eq!((suite.suite.as_str(), suite.about.as_str()), ("fares", "every \"fare\""));
        let words = |text: &str| Some(text.split(' ').map(str::to_owned).collect());
        let fed = Answers {
            list: words("./fares --names"),
            run: words("./fares --read"),
            results: Some(Results::Tap),
            fed: true,
            ..Answers::default()
        };
        assert_eq!(made(&[], &fed).1.tests.names_as, crate::suite::file::NamesAs::Fed);
    }

    #[test]
    fn without_a_folder_it_goes_by_the_answers() {
        let said = Said {
            name: Some("desks".into()),
            files: Some("specs/**/*.py".into()),
            results: Some("tap".into()),
            rerun: Some("python3 {name} --only '{cases-file}'".into()),
            ..Said::default()
        };
        let draft = Draft::make("", None, &said.clone().answers().unwrap()).unwrap();
        assert_eq!(draft.run, ["python3", "{name}"]);
        assert_eq!(draft.rerun.as_ref().map(Vec::len), Some(4));
        assert_eq!(draft.because[0], "The files are those that match specs/**/*.py.");
        let wrong = |said: Said| said.answers().unwrap_err().to_string();
        assert!(wrong(Said { results: Some("taps".into()), ..said.clone() }).contains("did you mean \"tap\""));
        assert!(wrong(Said { each: Some("files".into()), ..said.clone() }).contains("did you mean \"file\""));
        assert!(wrong(Said { run: Some("sh 'x".into()), ..said }).contains("quote"));
    }

    #[test]
    fn what_cannot_be_drafted_says_what_to_give() {
        let none = Draft::make("x", Some(&[file("main.c", "int main")]), &Answers::default()).unwrap_err().to_string();
        assert!(none.contains("--files") && none.contains("--list"), "{none}");
        let glob = Answers { files: Some("spec/*.sh".into()), ..Answers::default() };
        let missing = Draft::make("x", Some(&[file("main.c", "")]), &glob).unwrap_err().to_string();
        assert!(missing.contains("matches no file") && missing.contains("main.c"), "{missing}");
        let odd = Draft::make(
            "x",
            Some(&[file("tests/a.q", "")]),
            &Answers { files: Some("tests/*.q".into()), ..glob.clone() },
        );
        assert!(odd.unwrap_err().to_string().contains("--run"));
        let misfit = Answers { files: Some("tests/*.sh".into()), limit: Some("soon".into()), ..glob };
        let wrong = Draft::make("x", Some(&[file("tests/a.sh", TAP)]), &misfit).unwrap_err().to_string();
        assert!(wrong.contains("[limits] test") || wrong.contains("duration"), "{wrong}");
        assert_eq!(slug_of("--"), "my-suite");
    }
}
