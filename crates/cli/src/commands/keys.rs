//! Single keys from the terminal, while a picture is drawn there.

use std::{io::IsTerminal, os::unix::fs::OpenOptionsExt};

use tokio::io::unix::AsyncFd;

/// Reads keys one by one, without showing them; what the terminal was set to comes back when this is dropped.
pub struct Keys {
    before: libc::termios,
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
        let fd = std::os::fd::AsRawFd::as_raw_fd(&file);
        // SAFETY: the calls take a file descriptor that is open, and a place of the right type.
        let before = unsafe {
            if libc::tcgetpgrp(fd) != libc::getpgrp() {
                return None;
            }
            let mut settings = std::mem::zeroed::<libc::termios>();
            if libc::tcgetattr(fd, &raw mut settings) != 0 {
                return None;
            }
            settings
        };
        let mut now = before;
        // Line by line and with echo no longer; what interrupts stays.
        now.c_lflag &= !(libc::ICANON | libc::ECHO);
        // SAFETY: as above.
        if unsafe { libc::tcsetattr(fd, libc::TCSANOW, &raw const now) } != 0 {
            return None;
        }
        // SAFETY: the file keeps its descriptor, which stays open for as long as it is registered.
        let terminal = match unsafe { AsyncFd::register(file) } {
            Ok(terminal) => terminal,
            Err(e) => {
                tracing::debug!("keys cannot be read: {e}");
                // SAFETY: standard input is the same terminal.
                unsafe { libc::tcsetattr(libc::STDIN_FILENO, libc::TCSANOW, &raw const before) };
                return None;
            }
        };
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
        let fd = std::os::fd::AsRawFd::as_raw_fd(self.terminal.get_ref());
        // SAFETY: the file is open as long as this is here.
        unsafe { libc::tcsetattr(fd, libc::TCSANOW, &raw const self.before) };
    }
}
