//! Networks of their own, which are cut: packets go nowhere, and nobody is told.

use std::{
    io::{BufRead, BufReader},
    process::{Command, Stdio},
    time::Duration,
};

use crate::quay::{KESMO, Process, repository, spawn};

/// A namespace from which some ports of this machine can be reached.
pub struct Network {
    holder: Process,
    _folder: tempfile::TempDir,
}

impl Network {
    /// One from which these addresses can be reached, `http://127.0.0.1:7300,…`.
    pub fn reaching(urls: &str) -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        let mut command = Command::new(repository("tests/network/apart"));
        command.arg(folder.path()).args(urls.split(',').map(|url| url.rsplit(':').next().expect("a port")));
        command.stdout(Stdio::piped());
        let mut holder = Process(spawn(command));
        let mut said = String::new();
        BufReader::new(holder.0.stdout.take().expect("its output")).read_line(&mut said).expect("it says something");
        assert_eq!(said, "ready\n", "a network of its own is made with namespaces of the kernel");
        Self { holder, _folder: folder }
    }

    /// The program, to be started in it.
    pub fn program(&self) -> Command {
        let mut command = Command::new("nsenter");
        command.args(["--target", &self.holder.0.id().to_string(), "--net"]);
        // SAFETY: a plain question.
        if unsafe { libc::getuid() } != 0 {
            command.args(["--user", "--preserve-credentials"]);
        }
        command.arg(KESMO);
        command
    }

    /// Cuts it for so long.
    pub fn cut(&self, time: Duration) {
        self.holder.signal(libc::SIGUSR1);
        std::thread::sleep(time);
        self.holder.signal(libc::SIGUSR2);
    }
}
