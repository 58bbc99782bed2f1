//! The input of a process that is fed its tests: what is still to be written, and what was written and not read.

use std::os::{fd::AsRawFd, unix::fs::OpenOptionsExt};

use kesmo_engine::Input;
use tokio::{io::AsyncWriteExt, process::ChildStdin};

/// What leads to a process's standard input.
pub enum Feeder {
    Pipe(ChildStdin),
    /// A container engine carries it there.
    Engine(Input),
}

/// What a process is fed.
#[derive(Default)]
pub struct Feeding {
    open: Option<Feeder>,
    to_write: Vec<u8>,
    /// Another end of a pipe that is closed, to read from: what its process did not read is still in it.
    closed: Option<std::fs::File>,
    /// How many bytes were not read of an input that the process closed.
    left: Option<u64>,
}

impl Feeding {
    pub fn of(feeder: Option<Feeder>) -> Self {
        Self { open: feeder, ..Self::default() }
    }

    /// Whether more may be written.
    pub fn is_open(&self) -> bool {
        self.open.is_some()
    }

    /// Whether something waits to be written, and can be.
    pub fn waits(&self) -> bool {
        self.is_open() && !self.to_write.is_empty()
    }

    /// A name is to be written.
    pub fn push(&mut self, name: &str) {
        self.to_write.extend(name.bytes());
        self.to_write.push(b'\n');
    }

    /// Nothing comes behind what waits to be written.
    pub fn end(&mut self) {
        if !self.to_write.is_empty() {
            return;
        }
        // What was not read is looked for only when the process has ended.
        if let Some(Feeder::Pipe(pipe)) = self.open.take() {
            let path = format!("/proc/self/fd/{}", pipe.as_raw_fd());
            self.closed = std::fs::OpenOptions::new().read(true).custom_flags(libc::O_NONBLOCK).open(path).ok();
        }
    }

    /// Writes some of what waits.
    ///
    /// # Errors
    /// If the process has closed its input; nothing is written any more then.
    pub async fn write(&mut self) -> std::io::Result<()> {
        let written = match &mut self.open {
            Some(Feeder::Pipe(pipe)) => pipe.write(&self.to_write).await,
            Some(Feeder::Engine(input)) => input.write(&self.to_write).await,
            None => std::future::pending().await,
        };
        match written {
            Ok(written) => {
                self.to_write.drain(..written);
                Ok(())
            }
            Err(e) => {
                self.left = self.unread();
                self.open = None;
                self.to_write.clear();
                Err(e)
            }
        }
    }

    /// How many bytes of what was to be written the process has not read, where that can be known.
    pub fn unread(&self) -> Option<u64> {
        let in_pipe = match (&self.open, &self.closed) {
            (Some(Feeder::Pipe(pipe)), _) => rustix::io::ioctl_fionread(pipe).ok(),
            (None, Some(closed)) => rustix::io::ioctl_fionread(closed).ok(),
            _ => self.left,
        };
        in_pipe.map(|bytes| bytes + self.to_write.len() as u64)
    }
}
