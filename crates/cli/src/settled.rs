//! Options of `kesmo serve` from the command line, from the environment, and from a file; the first of these that has one counts.
//!
//! In the environment `--tls-cert` is `KESMO_TLS_CERT`; in the file, TOML, it is `tls-cert = "…"`.

use std::{ffi::OsString, path::Path};

use clap::{
    ArgAction, ArgMatches, Command, CommandFactory, FromArgMatches,
    error::{ContextKind, ContextValue, ErrorKind},
    parser::ValueSource,
};
use kesmo_core::name::did_you_mean;

use crate::{arguments::Kesmo, failure::Failure};

/// Options that stand in no file and no environment: they are about one call.
const OF_A_CALL: [&str; 4] = ["config", "check", "help", "version"];

/// Reads the command line; of `kesmo serve` also the environment and the file of `--config`.
///
/// # Errors
/// If the file cannot be read or holds what is no option. What is wrong on the command line ends the program, as it tells itself.
pub fn parse(words: Vec<OsString>) -> Result<Kesmo, Failure> {
    let matches = matches_of(&words).unwrap_or_else(|e| e.exit());
    let Some(("serve", of_serve)) = matches.subcommand() else { return read(&matches) };
    let serve = Kesmo::command().find_subcommand("serve").cloned().unwrap_or_default();
    let mut more = Vec::new();
    let given = |name: &str| of_serve.value_source(&name.replace('-', "_")) == Some(ValueSource::CommandLine);
    let file = of_serve.get_one::<std::path::PathBuf>("config");
    let in_file = file.map_or_else(|| Ok(Vec::new()), |path| of_file(path, &serve))?;
    for name in names(&serve) {
        let variable = format!("KESMO_{}", name.to_uppercase().replace('-', "_"));
        let told = std::env::var(&variable).ok().filter(|told| !told.is_empty());
        if given(&name) {
            continue;
        }
        match told {
            // What is no more than on is told as such.
            Some(told) if is_flag(&serve, &name) => match told.as_str() {
                "true" | "1" => more.push(format!("--{name}")),
                "false" | "0" => {}
                other => return Err(Failure::call(format!("{variable}={other:?}: write true or false"))),
            },
            Some(told) => more.push(format!("--{name}={told}")),
            None => more.extend(in_file.iter().filter(|option| option.0 == name).map(|option| option.1.clone())),
        }
    }
    if more.is_empty() {
        return read(&matches);
    }
    // They stand behind the word serve, wherever that is.
    let mut all = words;
    all.extend(more.into_iter().map(OsString::from));
    read(&Kesmo::command().get_matches_from(all))
}

/// What people type who want to run a suite.
const MEANS_START: [&str; 6] = ["run", "test", "execute", "exec", "launch", "trigger"];

/// Reads the words; who looks for a command that runs a suite is told of those that do.
fn matches_of(words: &[OsString]) -> Result<ArgMatches, clap::Error> {
    Kesmo::command().try_get_matches_from(words).map_err(|mut e| {
        let means_start = matches!(e.get(ContextKind::InvalidSubcommand),
            Some(ContextValue::String(word)) if MEANS_START.contains(&word.as_str()));
        if e.kind() == ErrorKind::InvalidSubcommand && means_start {
            let tips = [
                "'kesmo start SUITE --wait' runs a suite on a service",
                "'kesmo here FOLDER' runs one on this machine alone, without a service",
            ];
            e.insert(ContextKind::SuggestedSubcommand, ContextValue::Strings(vec!["start".into(), "here".into()]));
            e.insert(ContextKind::Suggested, ContextValue::StyledStrs(tips.map(Into::into).into()));
        }
        e
    })
}

fn read(matches: &ArgMatches) -> Result<Kesmo, Failure> {
    Kesmo::from_arg_matches(matches).map_err(|e| Failure::call(e.to_string()))
}

/// The options that may stand in a file.
fn names(serve: &Command) -> Vec<String> {
    let own = serve.get_arguments().filter(|arg| !arg.is_hide_set() && !arg.is_global_set());
    let names = own.filter_map(|arg| arg.get_long()).filter(|name| !OF_A_CALL.contains(name));
    names.map(str::to_owned).collect()
}

fn action<'s>(serve: &'s Command, name: &str) -> Option<&'s ArgAction> {
    serve.get_arguments().find(|arg| arg.get_long() == Some(name)).map(clap::Arg::get_action)
}

fn is_flag(serve: &Command, name: &str) -> bool {
    matches!(action(serve, name), Some(ArgAction::SetTrue))
}

fn is_list(serve: &Command, name: &str) -> bool {
    matches!(action(serve, name), Some(ArgAction::Append))
}

/// The options of a file, each with the word that says the same on the command line.
fn of_file(path: &Path, serve: &Command) -> Result<Vec<(String, String)>, Failure> {
    let at = |why: String| Failure::call(format!("{}: {why}", path.display()));
    let text = std::fs::read_to_string(path).map_err(|e| at(e.to_string()))?;
    options_of(&text, serve).map_err(at)
}

fn options_of(text: &str, serve: &Command) -> Result<Vec<(String, String)>, String> {
    use toml::de::{DeTable, DeValue};
    let line_at = |at: usize| text[..at.min(text.len())].matches('\n').count() + 1;
    let parsed = DeTable::parse(text)
        .map_err(|e| format!("line {}: this is not TOML: {}", line_at(e.span().map_or(0, |s| s.start)), e.message()))?;
    let known = names(serve);
    let mut options = Vec::new();
    for (key, value) in parsed.get_ref() {
        let (name, line) = (key.get_ref().to_string(), line_at(key.span().start));
        if !known.contains(&name) {
            let hint = did_you_mean(&name, known.iter().map(String::as_str));
            let all = if hint.is_empty() { format!("; it may have {}", known.join(", ")) } else { hint };
            return Err(format!("line {line}: there is no option {name:?}{all}"));
        }
        let plain = |value: &DeValue<'_>| match value {
            DeValue::String(text) => Some(text.to_string()),
            DeValue::Integer(number) => Some(number.as_str().to_owned()),
            _ => None,
        };
        let wrong = |wanted: &str| Err(format!("line {line}: {name:?} must be {wanted}"));
        match value.get_ref() {
            DeValue::Boolean(on) if is_flag(serve, &name) => {
                options.extend(on.then(|| (name.clone(), format!("--{name}"))));
            }
            _ if is_flag(serve, &name) => return wrong("true or false"),
            DeValue::Array(list) if is_list(serve, &name) => {
                for item in list.iter() {
                    match plain(item.get_ref()) {
                        Some(text) => options.push((name.clone(), format!("--{name}={text}"))),
                        None => return wrong("a list of strings"),
                    }
                }
            }
            other => match plain(other) {
                Some(text) => options.push((name.clone(), format!("--{name}={text}"))),
                None => return wrong(if is_list(serve, &name) { "a list of strings" } else { "a string or a number" }),
            },
        }
    }
    Ok(options)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn serve() -> Command {
        Kesmo::command().find_subcommand("serve").cloned().expect("it is there")
    }

    #[test]
    fn who_looks_for_a_command_that_runs_a_suite_is_told_of_those_that_do() {
        let told = |word: &str| matches_of(&["kesmo".into(), word.into(), "fares".into()]).unwrap_err().to_string();
        for word in MEANS_START {
            let told = told(word);
            assert!(told.contains("'kesmo start SUITE --wait'") && told.contains("'kesmo here FOLDER'"), "{told}");
            assert!(Kesmo::command().find_subcommand(word).is_none(), "{word} is a command");
        }
        let misspelt = told("strat");
        assert!(misspelt.contains("'start'") && !misspelt.contains("--wait"), "{misspelt}");
    }

    #[test]
    fn a_file_has_every_option_of_the_service() {
        let text =
            "listen = \"0.0.0.0:7215\"\npatience = \"20s\"\ngit-folder = [\"/srv/a\", \"/srv/b\"]\nlog-json = true\n";
        let options = options_of(text, &serve()).expect("options");
        let words: Vec<&str> = options.iter().map(|option| option.1.as_str()).collect();
        assert_eq!(
            words,
            ["--git-folder=/srv/a", "--git-folder=/srv/b", "--listen=0.0.0.0:7215", "--log-json", "--patience=20s"]
        );
        assert!(names(&serve()).len() > 12 && !names(&serve()).contains(&"clock".to_owned()));
        assert!(options_of("log-json = false\n", &serve()).expect("none").is_empty());
    }

    #[test]
    fn what_is_wrong_in_it_is_told_with_its_line() {
        for (text, why) in [
            ("\nlisen = \"x\"", "line 2: there is no option \"lisen\"; did you mean \"listen\""),
            ("listen = ", "line 1: this is not TOML"),
            ("listen = true", "line 1: \"listen\" must be a string or a number"),
            ("log-json = \"yes\"", "\"log-json\" must be true or false"),
            ("git-folder = [1.5]", "must be a list of strings"),
            ("check = true", "there is no option \"check\""),
            ("[listen]\na = 1", "must be a string"),
        ] {
            let said = options_of(text, &serve()).expect_err(text);
            assert!(said.contains(why), "{said}");
        }
    }
}
