//! How a suite's process ended, bare or in a container.

use std::{os::unix::process::ExitStatusExt, process::ExitStatus};

/// How a process ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exit {
    code: Option<i32>,
    signal: Option<i32>,
    /// That processes of its container were ended for the memory they took, in words.
    memory: Option<String>,
}

impl From<ExitStatus> for Exit {
    fn from(status: ExitStatus) -> Self {
        Self { code: status.code(), signal: status.signal(), memory: None }
    }
}

impl Exit {
    /// The end of a container, of which `limit` says what memory it had. By convention of shells and engines, a status above
    /// 128 is that of a signal.
    pub fn of_container(exit: kesmo_engine::Exit, limit: Option<kesmo_core::time::Bytes>) -> Self {
        let code = i32::try_from(exit.code).unwrap_or(-1);
        let signal = (129..=192).contains(&code).then(|| code - 128);
        let memory = (exit.for_memory > 0).then(|| {
            let of = limit.map_or_else(String::new, |limit| format!(" ({limit}, [container] memory)"));
            match exit.for_memory {
                1 => format!("its container had no memory left{of}, and a process was ended for it"),
                n => format!("its container had no memory left{of}, and {n} processes were ended for it"),
            }
        });
        Self { code: signal.is_none().then_some(code), signal, memory }
    }

    /// Whether it ended well.
    pub fn success(&self) -> bool {
        self.code == Some(0)
    }

    /// Whether a signal ended it.
    pub fn killed(&self) -> bool {
        self.signal.is_some()
    }

    /// That memory ran out, in words, though its status says nothing of it.
    pub fn memory(&self) -> Option<&str> {
        self.memory.as_deref()
    }

    /// In words.
    pub fn said(&self) -> String {
        let how = match (self.code, self.signal) {
            (Some(code), _) => format!("status {code}"),
            (None, Some(signal)) => format!("signal {signal}{}", signal_name(signal)),
            (None, None) => "an unknown status".to_owned(),
        };
        match &self.memory {
            Some(memory) => format!("{how}; {memory}"),
            None => how,
        }
    }
}

/// How a process ended of which that may not be known, in words.
pub fn said(exit: Option<&Exit>) -> String {
    exit.map_or_else(|| "an unknown status".to_owned(), Exit::said)
}

fn signal_name(signal: i32) -> &'static str {
    match signal {
        libc::SIGKILL => " (killed)",
        libc::SIGSEGV => " (segmentation fault)",
        libc::SIGABRT => " (aborted)",
        libc::SIGTERM => " (terminated)",
        libc::SIGBUS => " (bus error)",
        _ => "",
    }
}

#[cfg(test)]
mod tests {
    use kesmo_core::time::Bytes;

    use super::*;

    #[test]
    fn the_end_of_a_container_is_told_as_that_of_a_process() {
        let of = |code, for_memory| Exit::of_container(kesmo_engine::Exit { code, for_memory }, Some(Bytes(64 << 20)));
        assert!(of(0, 0).success() && !of(0, 0).killed());
        assert_eq!(of(3, 0).said(), "status 3");
        assert_eq!(of(139, 0).said(), "signal 11 (segmentation fault)");
        assert!(of(139, 0).killed() && !of(255, 0).killed() && !of(128, 0).killed());
        let memory = of(137, 1).said();
        assert_eq!(
            memory,
            "signal 9 (killed); its container had no memory left (64.0 MiB, [container] memory), and a process was ended for it"
        );
        assert!(of(1, 2).said().contains("and 2 processes were ended"));
        assert_eq!(of(i64::MAX, 0).said(), "status -1");
    }
}
