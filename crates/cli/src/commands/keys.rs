//! Single keys from the terminal, while a picture is drawn there.

use std::{io::IsTerminal, os::unix::fs::OpenOptionsExt};

use nix::{
    sys::termios::{LocalFlags, SetArg, Termios, tcgetattr, tcsetattr},
    unistd::{getpgrp, tcgetpgrp},
};
use tokio::io::unix::AsyncFd;

/// Reads keys one by one, without showing them; what the terminal was set to comes back when this is dropped.
pub struct Keys {
    before: Termios,
    terminal: AsyncFd<std::fs::File>,
}

impl Keys {
    /// Takes the keyboard, if standard input is a terminal and this program has it: one in the background must not touch it.
    pub fn open() -> Option<Self> {
        if !std::io::stdin().is_terminal() {
            return None;
        }
        // A file of its own, so that no other reader's flags change.
        let file = std::fs::OpenOptions::new()
            .read(true)
            .custom_flags(libc::O_NONBLOCK | libc::O_NOCTTY)
            .open("/dev/tty")
            .ok()?;
        if tcgetpgrp(&file).ok()? != getpgrp() {
            return None;
        }
        let before = tcgetattr(&file).ok()?;
        let mut now = before.clone();
        // Line by line and with echo no longer; what interrupts stays.
        now.local_flags.remove(LocalFlags::ICANON | LocalFlags::ECHO);
        // SAFETY: the file keeps its descriptor, which stays open for as long as it is registered.
        let terminal = match unsafe { AsyncFd::register(file) } {
            Ok(terminal) => terminal,
            Err(e) => {
                tracing::debug!("keys cannot be read: {e}");
                return None;
            }
        };
        tcsetattr(terminal.get_ref(), SetArg::TCSANOW, &now).ok()?;
        Some(Self { before, terminal })
    }

    /// The next key; none once the terminal has gone.
    pub async fn next(&mut self) -> Option<char> {
        use std::io::Read;
        loop {
            let mut ready = self.terminal.readable().await.ok()?;
            let mut byte = [0];
            match ready.try_io(|file| file.get_ref().read(&mut byte)) {
                Ok(Ok(0)) | Ok(Err(_)) => return None,
                Ok(Ok(_)) => return Some(char::from(byte[0])),
                Err(_) => {}
            }
        }
    }
}

impl Drop for Keys {
    fn drop(&mut self) {
        if let Err(e) = tcsetattr(self.terminal.get_ref(), SetArg::TCSANOW, &self.before) {
            tracing::debug!("the terminal is not as it was: {e}");
        }
    }
}
