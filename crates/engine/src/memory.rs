//! Whether a container's processes were ended for the memory they took.
//!
//! Engines say so only sometimes, and the kernel's count goes with the container's control group. So the count is read in the
//! moment in which the container's first process ends, before the engine clears away. Sources: `memory.oom_control` (control
//! groups, version 1) and `memory.events` (version 2), field `oom_kill`; pidfd_open(2).

use std::{
    os::fd::{FromRawFd, OwnedFd},
    path::{Path, PathBuf},
};

use tokio::io::unix::AsyncFd;

/// A container's first process, as this machine's kernel knows it.
#[derive(Debug, Clone)]
pub(crate) struct Watched {
    pub pid: i32,
    count: Option<PathBuf>,
}

impl Watched {
    /// The process of that number, if it is one of the container's on this machine.
    pub fn of(pid: i64, container: &str) -> Option<Self> {
        let pid = i32::try_from(pid).ok().filter(|pid| *pid > 1)?;
        let groups = std::fs::read_to_string(format!("/proc/{pid}/cgroup")).ok()?;
        if !groups.contains(container) {
            return None;
        }
        Some(Self { pid, count: count_of(&groups, Path::new("/sys/fs/cgroup")) })
    }

    /// Waits until it ends, and tells how many processes of the container were ended for their memory.
    pub async fn ended_for_memory(self) -> u64 {
        // SAFETY: a system call that takes two numbers; what it gives is a new descriptor, owned here.
        let fd = unsafe { libc::syscall(libc::SYS_pidfd_open, self.pid, 0) };
        if let Ok(fd) = i32::try_from(fd)
            && fd >= 0
        {
            // SAFETY: the descriptor was just made and is nobody else's.
            let fd = unsafe { OwnedFd::from_raw_fd(fd) };
            // SAFETY: the descriptor lives as long as what owns it, and what it is of does not change.
            let registered = unsafe { AsyncFd::register_with_interest(fd, tokio::io::Interest::READABLE) };
            match registered {
                Ok(fd) => drop(fd.readable().await),
                Err(e) => tracing::debug!("a container's end is not seen: {e}"),
            }
        }
        self.count.map_or(0, |path| counted(&std::fs::read_to_string(path).unwrap_or_default()))
    }
}

/// How many processes of a container were ended for their memory that has ended itself, but is not cleared up yet: its group is
/// looked for where engines make them.
pub(crate) fn counted_after(container: &str, root: &Path) -> u64 {
    let places = [
        format!("libpod_parent/libpod-{container}"),
        format!("machine.slice/libpod-{container}.scope"),
        format!("docker/{container}"),
        format!("system.slice/docker-{container}.scope"),
    ];
    let files = places.iter().flat_map(|place| {
        [root.join("memory").join(place).join("memory.oom_control"), root.join(place).join("memory.events")]
    });
    files.filter_map(|file| std::fs::read_to_string(file).ok()).map(|text| counted(&text)).max().unwrap_or(0)
}

/// The file that counts, of the groups of a process.
fn count_of(groups: &str, root: &Path) -> Option<PathBuf> {
    let below = |path: &str| path.trim_start_matches('/').to_owned();
    let mut lines = groups.lines().filter_map(|line| {
        let mut parts = line.splitn(3, ':');
        Some((parts.next()?, parts.next()?, parts.next()?))
    });
    let one = lines.clone().find(|(_, controllers, _)| controllers.split(',').any(|c| c == "memory"));
    match one {
        Some((_, _, path)) => Some(root.join("memory").join(below(path)).join("memory.oom_control")),
        None => {
            lines.find(|(number, ..)| *number == "0").map(|(.., path)| root.join(below(path)).join("memory.events"))
        }
    }
}

fn counted(text: &str) -> u64 {
    text.lines().find_map(|line| line.strip_prefix("oom_kill ")?.trim().parse().ok()).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_count_is_found_in_both_versions_of_control_groups() {
        let root = Path::new("/c");
        let one = "5:devices:/a\n4:memory:/parent/libpod-1\n0::/parent/libpod-1\n";
        assert_eq!(count_of(one, root), Some("/c/memory/parent/libpod-1/memory.oom_control".into()));
        assert_eq!(
            count_of("0::/x.slice/libpod-1.scope/container\n", root),
            Some("/c/x.slice/libpod-1.scope/container/memory.events".into())
        );
        assert_eq!(count_of("nonsense", root), None);
        assert_eq!(counted("oom_kill_disable 0\nunder_oom 0\noom_kill 3\n"), 3);
        assert_eq!(counted("low 0\noom 2\noom_kill 1\noom_group_kill 0\n"), 1);
        assert_eq!(counted(""), 0);
    }

    #[test]
    fn what_ended_at_once_is_counted_where_its_group_still_is() {
        let root = tempfile::tempdir().unwrap();
        assert_eq!(counted_after("c1", root.path()), 0);
        let group = root.path().join("memory/libpod_parent/libpod-c1");
        std::fs::create_dir_all(&group).unwrap();
        std::fs::write(group.join("memory.oom_control"), "oom_kill_disable 0\noom_kill 2\n").unwrap();
        assert_eq!((counted_after("c1", root.path()), counted_after("c2", root.path())), (2, 0));
    }

    #[test]
    fn a_process_that_is_not_the_containers_is_not_watched() {
        assert!(Watched::of(i64::from(std::process::id()), "no-such-container").is_none());
        assert!(Watched::of(0, "").is_none() && Watched::of(i64::MAX, "").is_none());
    }
}
