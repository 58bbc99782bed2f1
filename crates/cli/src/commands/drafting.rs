//! `kesmo suite draft` and `kesmo suite try`: getting a suite in.

use std::{
    io::{IsTerminal, Write},
    os::unix::fs::PermissionsExt,
    path::Path,
};

use kesmo_client::pack;
use kesmo_core::{
    name::{fold, shorten},
    suite::{
        draft::{Answers, Draft, Said, SeenFile, command},
        file::{FILE_NAME, Results},
        tried::{Findings, Tried, TriedProcess, TriedResult},
    },
    time::Span,
    words::Ended,
};
use kesmo_here::{History, Job, trying::Trying};

use super::{asked_to_end, here, print_json, worker::cache};
use crate::{
    arguments::{DraftSuite, TrySuite},
    failure::Failure,
    view::{self, Paint, paint, safe},
};

/// The most files that a draft looks at, and how much of each it reads.
const MOST_FILES: usize = 20_000;
const MOST_TEXT: u64 = 64 << 10;
/// Cases that are named of each file that was tried.
const MOST_CASES: usize = 5;

/// Writes a first suite file for a folder.
pub fn draft(options: &DraftSuite, json: bool) -> Result<(), Failure> {
    let folder = &options.folder;
    let target = folder.join(FILE_NAME);
    if target.exists() && !options.print && !options.overwrite {
        let shown = target.display();
        return Err(Failure::call(format!(
            "{shown} is there already: --print shows a draft, --overwrite replaces the file"
        )));
    }
    let files = seen(folder)?;
    let name = folder.canonicalize().map_err(|e| Failure::call(format!("{}: {e}", folder.display())))?;
    let name = name.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut answers = said(options).answers()?;
    let asks = std::io::stdin().is_terminal() && view::on_terminal() && !options.yes && !json;
    if asks {
        ask(&name, &files, &mut answers)?;
    }
    let draft = Draft::make(&name, Some(&files), &answers)?;
    let text = draft.text();
    if options.print {
        print!("{text}");
        return Ok(());
    }
    std::fs::write(&target, &text).map_err(|e| Failure::trouble(format!("{}: {e}", target.display())))?;
    if json {
        return print_json(&serde_json::json!({
            "suite": draft.name, "file": target.display().to_string(), "because": draft.because,
        }));
    }
    println!("{} is written: suite {}", target.display(), view::bold(&draft.name));
    draft.because.iter().for_each(|why| println!("  {}", safe::plain(why)));
    println!("\nNext");
    println!(
        "  kesmo suite try {0}     # runs three of them, and says what it understood",
        safe::word(&folder.display().to_string())
    );
    Ok(())
}

fn said(options: &DraftSuite) -> Said {
    let options = options.clone();
    Said {
        name: options.name,
        about: options.about,
        files: options.files,
        list: options.list,
        run: options.run,
        rerun: options.rerun,
        results: options.results,
        each: options.each,
        junit: options.junit,
        feed: options.feed,
        limit: options.limit,
        retries: options.retries,
    }
}

/// The files of a folder that would be packed.
fn seen(folder: &Path) -> Result<Vec<SeenFile>, Failure> {
    use std::io::Read;
    let mut files = Vec::new();
    for path in pack::files(folder)?.into_iter().take(MOST_FILES) {
        let meta = std::fs::metadata(&path).ok().filter(std::fs::Metadata::is_file);
        let Some(meta) = meta else { continue };
        let mut bytes = Vec::new();
        let read = std::fs::File::open(&path).and_then(|f| f.take(MOST_TEXT).read_to_end(&mut bytes));
        if let Err(e) = read {
            return Err(Failure::trouble(format!("{}: {e}", path.display())));
        }
        let text = if bytes.contains(&0) { String::new() } else { String::from_utf8_lossy(&bytes).into_owned() };
        let path = path.strip_prefix(folder).unwrap_or(&path).to_string_lossy().into_owned();
        files.push(SeenFile { path, executable: meta.permissions().mode() & 0o100 != 0, text });
    }
    Ok(files)
}

/// Asks for what was not given, with what was guessed as the answer of an empty line.
fn ask(folder: &str, files: &[SeenFile], answers: &mut Answers) -> Result<(), Failure> {
    let guess = Draft::make(folder, Some(files), answers).ok();
    if let Some(guess) = &guess {
        guess.because.iter().for_each(|why| println!("{}", safe::plain(why)));
        println!();
    }
    let was = |of: &dyn Fn(&Draft) -> String| guess.as_ref().map(of).unwrap_or_default();
    if answers.name.is_none() {
        answers.name = question("What is the suite called?", &was(&|d| d.name.clone()))?;
    }
    if guess.is_none() && answers.files.is_none() && answers.list.is_none() {
        answers.files = question("Which files are its tests (a glob, like tests/*.sh)?", "")?;
    }
    let guess = Draft::make(folder, Some(files), answers).ok().or(guess);
    if answers.run.is_none() {
        let before =
            guess.as_ref().and_then(|d| shlex::try_join(d.run.iter().map(String::as_str)).ok()).unwrap_or_default();
        if let Some(line) = question("How is one run ({name} stands for it)?", &before)?.filter(|line| *line != before)
        {
            answers.run = Some(command("run", &line)?);
        }
    }
    if answers.results.is_none() {
        let before = guess.as_ref().map_or("exit", |d| d.results.word());
        let said = question("How does it tell its results: tap, junit, events or exit (its status)?", before)?;
        answers.results = said.as_deref().map(Results::parse).transpose().map_err(Failure::call)?;
    }
    if answers.results == Some(Results::Junit) && answers.junit.is_none() {
        answers.junit = question("Where are its XML files (a glob, like out/*.xml)?", "")?;
    }
    Ok(())
}

fn question(text: &str, usual: &str) -> Result<Option<String>, Failure> {
    let trouble = |e: std::io::Error| Failure::trouble(format!("standard input: {e}"));
    if usual.is_empty() {
        print!("{text} ")
    } else {
        print!("{text} [{}] ", safe::word(usual))
    }
    std::io::stdout().flush().map_err(trouble)?;
    let mut line = String::new();
    if std::io::stdin().read_line(&mut line).map_err(trouble)? == 0 {
        return Err(Failure::call("the answers ended: give them as options (kesmo suite draft --help)"));
    }
    let line = line.trim();
    Ok(Some(if line.is_empty() { usual } else { line }.to_owned()).filter(|answer| !answer.is_empty()))
}

/// Lists a suite, runs a few of its tests, and says what was understood. The status is 0 if every one of them had a result
/// that was read, whether it passed or failed.
pub async fn try_suite(options: &TrySuite, json: bool) -> Result<u8, Failure> {
    let file = pack::suite_file(&options.folder)?;
    let mut run_options = options.choosing.options()?;
    let file = file.in_image(run_options.image.as_deref());
    let reach = here::reached_here(&mut run_options, &file)?;
    run_options.check(&file)?;
    let engine = match file.container {
        Some(_) => options.engine.find().await?,
        None => None,
    };
    let place = cache().join("try").join(file.suite.as_str());
    let home = here::home(None, &place)?;
    let bundle = pack::pack(&options.folder)?;
    let job = Job {
        digest: bundle.digest,
        bundle: bundle.content,
        options: run_options,
        seed: 1,
        slots: 1,
        portion: None,
        shared_history: History::default(),
        history: History::default(),
        home: home.folder.clone(),
        taken: Some(home.taken.clone()),
        engine,
        reach,
        secrets: here::secrets_of(&file)?,
        file,
    };
    let watched = std::io::stderr().is_terminal() && !json;
    let tell = |what: Trying| {
        if watched {
            let text = match what {
                Trying::Listing => "listing its tests …".to_owned(),
                Trying::Running(names) if names.len() == 1 => format!("running {} …", safe::plain(&names[0])),
                Trying::Running(names) => format!("running {} in one process …", names.len()),
            };
            eprint!("\r\x1b[K{}", shorten(&text, view::width().saturating_sub(1)));
        }
    };
    let tried = kesmo_here::trying::try_out(&job, usize::from(options.count), tell, asked_to_end()).await;
    if watched {
        eprint!("\r\x1b[K");
    }
    let tried = tried?;
    let findings = tried.findings(&job.file);
    if json {
        print_json(&serde_json::json!({ "suite": job.file.suite.as_str(), "tried": tried, "findings": findings }))?;
    } else {
        print!("{}", told(&options.folder, &job, &tried, &findings));
    }
    Ok(u8::from(!findings.understood))
}

/// What was tried and found, for a person.
fn told(folder: &Path, job: &Job, tried: &Tried, findings: &Findings) -> String {
    let mut out = String::new();
    let what = if job.file.tests.of_files() { "files" } else { "tests" };
    let mut line = |text: &str| {
        out += text;
        out.push('\n');
    };
    line(&format!("{}  {}", view::bold(job.file.suite.as_str()), paint(Paint::Dim, &job.file.about)));
    let picked =
        if tried.picked == tried.listed { String::new() } else { format!(", {} of them picked", tried.picked) };
    line(&format!("listed {} {what} in {}{picked}", tried.listed, tried.listing_us));
    line("");
    line(&view::bold(&format!("Run, {} of them", tried.alone.len())));
    tried.alone.iter().for_each(|process| process_lines(process, &mut line));
    if let Some(together) = &tried.together {
        let outcome = if together.unfit.is_some() || together.results.iter().any(|r| !r.read()) {
            "not all of them had a result"
        } else {
            "each had its result"
        };
        line(&format!("  all {} in one process: {}, {outcome}", together.names.len(), together.took_us));
        let alone = |name: &str| tried.alone.iter().flat_map(|p| &p.results).find(|r| r.name == name).map(|r| r.ended);
        for result in together.results.iter().filter(|r| alone(&r.name).is_some_and(|ended| ended != r.ended)) {
            result_lines(result, result.spent_us, &mut line);
        }
    }
    let mut beside: Vec<&String> = Vec::new();
    for text in tried.alone.iter().chain(&tried.together).flat_map(|p| p.wrongs.iter().chain(&p.remarks)) {
        if !beside.contains(&text) {
            beside.push(text);
        }
    }
    if !beside.is_empty() {
        line("");
        line(&view::bold("Said besides"));
        beside.into_iter().take(10).for_each(|text| line(&format!("  {}", safe::plain(text))));
    }
    line("");
    line(&view::bold("Understood"));
    findings.said.iter().for_each(|said| folded(said, &mut line));
    if !findings.unread.is_empty() {
        line("");
        line(&view::bold("Not read as a result"));
        for unread in &findings.unread {
            line(&format!(
                "  {}, {} line {}: {}",
                safe::plain(&unread.of),
                unread.place,
                unread.line,
                safe::plain(&unread.text)
            ));
            line(&format!("      {}", safe::plain(&unread.why)));
        }
    }
    if !findings.advice.is_empty() {
        line("");
        line(&view::bold("Advice"));
        findings.advice.iter().for_each(|advice| folded(advice, &mut line));
    }
    line("");
    let folder = safe::word(&folder.display().to_string());
    if findings.understood {
        line(&format!("{} Every one of them had a result that was read.", paint(Paint::Passed, "●")));
        line(&format!("  kesmo here {folder}          # all of them, on this machine"));
        line(&format!("  kesmo suite add {folder}     # for others, in the service"));
    } else {
        line(&format!(
            "{} Not every one of them had a result that was read: a run of this suite would fail.",
            paint(Paint::Failed, "◆")
        ));
    }
    out
}

/// A sentence, with what does not fit into a line on more of them.
fn folded(text: &str, line: &mut impl FnMut(&str)) {
    let room = view::width().clamp(40, 110) - 4;
    for (i, part) in fold(&safe::plain(text), room).into_iter().enumerate() {
        line(&format!("{}{part}", if i == 0 { "  " } else { "    " }));
    }
}

fn process_lines(process: &TriedProcess, line: &mut impl FnMut(&str)) {
    if let Some(why) = &process.unfit {
        line(&format!(
            "  {} {}  {}",
            paint(Paint::Failed, "◆"),
            safe::plain(&process.names.join(", ")),
            safe::plain(why)
        ));
    }
    process.results.iter().for_each(|result| result_lines(result, process.took_us, line));
}

fn result_lines(result: &TriedResult, took: Span, line: &mut impl FnMut(&str)) {
    let mut counts: Vec<(u32, &str)> = Vec::new();
    for (_, ended) in &result.cases {
        match counts.iter_mut().find(|(_, word)| *word == ended.word()) {
            Some((count, _)) => *count += 1,
            None => counts.push((1, ended.word())),
        }
    }
    let cases = match result.cases.len() {
        0 => String::new(),
        1 => format!("  1 case: {}", view::counts(&counts)),
        n => format!("  {n} cases: {}", view::counts(&counts)),
    };
    line(&format!("  {} {}  {took}{cases}", view::ended(result.ended), safe::plain(&result.name)));
    if !result.message.is_empty() {
        line(&format!("      {}", safe::plain(&shorten(&result.message, 300))));
    }
    let mut shown: Vec<&(String, Ended)> = result.cases.iter().collect();
    shown.sort_by_key(|(_, ended)| !ended.failing());
    shown.into_iter().take(MOST_CASES).for_each(|(title, ended)| {
        line(&format!("      {} {}", view::ended(*ended), safe::plain(&shorten(title, 120))));
    });
    if result.cases.len() > MOST_CASES {
        line(&format!("      … and {} more", result.cases.len() - MOST_CASES));
    }
}
