//! `kesmo completions` and `kesmo man`: what shells and the manual are told of this program, made from its arguments.

use std::{io::Write, path::Path};

use clap::{Command, CommandFactory};
use clap_complete::Shell;

use crate::{arguments::Kesmo, failure::Failure};

/// Prints what a shell needs.
pub fn completions(shell: Shell) -> Result<(), Failure> {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Kesmo::command(), "kesmo", &mut script);
    print(&script)
}

fn print(bytes: &[u8]) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    out.write_all(bytes).and_then(|()| out.flush()).map_err(|e| Failure::trouble(e.to_string()))
}

/// Prints the manual page, or writes one of every command.
pub fn man(folder: Option<&Path>) -> Result<(), Failure> {
    let mut program = Kesmo::command();
    // What is told of the whole program stands in the page of each of its commands too.
    program.build();
    let Some(folder) = folder else { return print(&page(&program)?) };
    let failed = |e: std::io::Error| Failure::trouble(format!("{}: {e}", folder.display()));
    std::fs::create_dir_all(folder).map_err(failed)?;
    let count = write_all(&program, "kesmo", folder)?;
    println!("{count} pages are in {}.", folder.display());
    Ok(())
}

fn page(command: &Command) -> Result<Vec<u8>, Failure> {
    let mut page = Vec::new();
    clap_mangen::Man::new(command.clone()).render(&mut page).map_err(|e| Failure::trouble(e.to_string()))?;
    Ok(page)
}

fn write_all(command: &Command, name: &str, folder: &Path) -> Result<usize, Failure> {
    let path = folder.join(format!("{name}.1"));
    // A page is called as the command is reached: kesmo-suite-add.
    let named = command.clone().name(name.to_owned());
    std::fs::write(&path, page(&named)?).map_err(|e| Failure::trouble(format!("{}: {e}", path.display())))?;
    let mut count = 1;
    for inner in command.get_subcommands().filter(|inner| !inner.is_hide_set() && inner.get_name() != "help") {
        count += write_all(inner, &format!("{name}-{}", inner.get_name()), folder)?;
    }
    Ok(count)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_has_a_page_and_every_shell_its_words() {
        let dir = tempfile::tempdir().expect("a folder");
        man(Some(dir.path())).expect("pages");
        let text = |name: &str| std::fs::read_to_string(dir.path().join(name)).expect(name);
        assert!(text("kesmo.1").contains("serve") && text("kesmo-suite-add.1").contains("kesmo\\-suite\\-add"));
        assert!(text("kesmo-keep-sweep.1").contains("Only tell what would go"));
        for shell in [Shell::Bash, Shell::Zsh, Shell::Fish] {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Kesmo::command(), "kesmo", &mut script);
            let script = String::from_utf8(script).expect("text");
            assert!(script.contains("forecast") && script.contains("not-passed"), "{shell}");
        }
    }
}
