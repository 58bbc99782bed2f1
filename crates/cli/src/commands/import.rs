//! `kesmo import`: results that ran elsewhere.

use std::{io::Read, path::Path};

use chrono::{DateTime, Local, NaiveDateTime, Utc};
use kesmo_client::{Error, pack};
use kesmo_wire::{
    api::{NewSuite, Suite, SuiteDetail},
    imports::{ImportedRun, MOST_MIB, NewImport, ResultFile},
};

use super::print_json;
use crate::{
    arguments::{Import, pairs},
    context::Context,
    failure::Failure,
    view,
};

/// Brings files of results, and says what they came to.
pub async fn run(options: &Import, context: &Context) -> Result<u8, Failure> {
    let new = NewImport {
        files: files(&options.files)?,
        pool: options.pool.clone(),
        labels: pairs("--label", &options.label)?,
        branch: options.branch.clone(),
        commit: options.commit.clone(),
        at: options.at.as_deref().map(moment).transpose()?,
        variant: options.variant.clone(),
        flaky_fails: false,
    };
    let path = format!("/api/suites/{}/imports", options.suite);
    let imported: ImportedRun = match context.client.post(&path, &new).await {
        Err(Error::Refused { status: 404, .. }) if options.new => {
            add_suite(&options.suite, context).await?;
            context.client.post(&path, &new).await?
        }
        Err(Error::Refused { status: 404, kind, message }) => {
            let message = format!("{message}, or, if it is to take such results only, with --new");
            return Err(Error::Refused { status: 404, kind, message }.into());
        }
        other => other?,
    };
    let run = &imported.run.summary;
    let status = match run.verdict {
        Some(verdict) if options.with_verdict => u8::try_from(verdict.exit_status()).unwrap_or(1),
        _ => 0,
    };
    if context.json {
        print_json(&imported)?;
        return Ok(status);
    }
    if !imported.made {
        println!(
            "The same was imported before: it is {}. If these ran again, say so: --at, --commit or --label tells two apart.",
            run.name
        );
    }
    println!("{}  {}  {}", view::run_state(run), view::bold(&run.name), run.reason);
    println!("  {}", view::tally(&run.tally));
    println!("  {}/runs/{}", context.client.url(), run.name);
    Ok(status)
}

fn files(paths: &[std::path::PathBuf]) -> Result<Vec<ResultFile>, Failure> {
    let mut files = Vec::new();
    let mut total = 0;
    for path in paths {
        let shown = path.display().to_string();
        let failed = |e: &dyn std::fmt::Display| Failure::call(format!("{shown}: {e}"));
        let mut bytes = Vec::new();
        // A pipe may stand there as well, and one without an end.
        let from: Box<dyn Read> = match path == Path::new("-") {
            true => Box::new(std::io::stdin()),
            false => Box::new(std::fs::File::open(path).map_err(|e| failed(&e))?),
        };
        from.take((MOST_MIB as u64 + 1) << 20).read_to_end(&mut bytes).map_err(|e| failed(&e))?;
        total += bytes.len();
        if total > MOST_MIB << 20 {
            return Err(Failure::call(format!("the files hold more than {MOST_MIB} MiB: bring them in several calls")));
        }
        let content = String::from_utf8(bytes).map_err(|e| failed(&format!("it is not UTF-8 ({})", e.utf8_error())))?;
        let path = if shown == "-" { "standard input".to_owned() } else { shown };
        files.push(ResultFile { path, content });
    }
    Ok(files)
}

fn moment(text: &str) -> Result<DateTime<Utc>, Failure> {
    if let Ok(at) = DateTime::parse_from_rfc3339(text) {
        return Ok(at.to_utc());
    }
    let local = ["%Y-%m-%d %H:%M", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S"]
        .iter()
        .find_map(|form| NaiveDateTime::parse_from_str(text, form).ok())
        .and_then(|at| at.and_local_timezone(Local).earliest());
    local.map(|at| at.to_utc()).ok_or_else(|| {
        Failure::call(format!("--at {text:?} is no time: write 2026-11-25T22:00:00Z, or \"2026-11-25 22:00\""))
    })
}

/// Adds a suite without tests of its own, if there is none of that name: one that is there keeps its files.
async fn add_suite(name: &str, context: &Context) -> Result<(), Failure> {
    let there: Vec<Suite> = context.client.get("/api/suites", &[]).await?;
    if there.iter().any(|suite| suite.name == name) {
        return Ok(());
    }
    let file = format!(
        "suite = {name:?}\nabout = \"results that ran elsewhere\"\n\n[tests]\n# Its results are brought with `kesmo import`; to \
         run it here too, add its files: `kesmo suite add`.\nlist = [\"sh\", \"-c\", \"echo 'this suite takes results that ran \
         elsewhere only: kesmo import' >&2; exit 1\"]\nrun = [\"false\", \"{{names}}\"]\nresults = \"tap\"\n"
    );
    let bundle = pack::of_suite_file(&file)?;
    context.client.upload(&bundle).await?;
    let new = NewSuite { bundle: Some(bundle.digest), git: None };
    let suite: SuiteDetail = context.client.post("/api/suites", &new).await?;
    eprintln!("Suite {} is added; it takes results that ran elsewhere only.", suite.suite.name);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read_as_people_write_them() {
        assert_eq!(moment("2026-11-25T22:00:00+01:00").unwrap().to_rfc3339(), "2026-11-25T21:00:00+00:00");
        assert!(moment("2026-11-25 22:00").is_ok() && moment("2026-11-25 22:00:30").is_ok());
        assert!(moment("yesterday").unwrap_err().message.contains("write 2026-11-25T22:00:00Z"));
    }
}
