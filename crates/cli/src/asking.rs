//! Asks on the terminal for what nobody is to see.

use std::io::{self, BufRead, IsTerminal, Write};

use nix::sys::termios::{LocalFlags, SetArg, tcgetattr, tcsetattr};

/// A line that is typed on the terminal, which shows nothing of it.
///
/// # Errors
/// If the terminal cannot be read.
pub fn hidden(prompt: &str) -> io::Result<String> {
    eprint!("{prompt}: ");
    io::stderr().flush()?;
    let input = io::stdin();
    let before = tcgetattr(&input)?;
    let mut quiet = before.clone();
    quiet.local_flags.remove(LocalFlags::ECHO);
    tcsetattr(&input, SetArg::TCSAFLUSH, &quiet)?;
    let mut line = String::new();
    let read = input.lock().read_line(&mut line);
    tcsetattr(&input, SetArg::TCSAFLUSH, &before)?;
    eprintln!();
    read.map(|_| line)
}

/// A line: typed, unseen, where there is a terminal, or else the next of standard input.
///
/// # Errors
/// If it cannot be read.
pub fn line(prompt: &str) -> io::Result<String> {
    if io::stdin().is_terminal() {
        return hidden(prompt);
    }
    let mut line = String::new();
    io::stdin().lock().read_line(&mut line)?;
    Ok(line)
}

/// Without the end of the line.
#[must_use]
pub fn trimmed(text: &str) -> &str {
    text.strip_suffix('\n').map_or(text, |text| text.strip_suffix('\r').unwrap_or(text))
}
