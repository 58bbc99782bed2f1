//! Starts processes so that whole trees of them can be ended, and leaves no orphan behind.
//!
//! Every process of a batch carries a mark in its environment. The worker is a subreaper (prctl(2)): a process whose parent
//! ends becomes the worker's child, so that what a batch left behind is found with one look at the worker's children. To
//! end a tree, its process group is killed first, and then everything that still carries the mark.

use std::{
    collections::BTreeSet,
    fs,
    process::Stdio,
    sync::{LazyLock, Mutex, PoisonError},
    time::Duration,
};

use kesmo_core::{run::Cores, time::Span};
use nix::{
    sys::{
        prctl,
        signal::{Signal, kill},
        wait::{WaitPidFlag, WaitStatus, waitpid},
    },
    unistd::{Pid, setsid},
};
use tokio::process::{Child, Command};

/// The variable that carries the mark.
pub const MARK: &str = "KESMO_MARK";

/// Processes that the worker waits for itself.
static WAITED_FOR: LazyLock<Mutex<BTreeSet<i32>>> = LazyLock::new(Mutex::default);

/// Makes this process the one that orphans below it go to.
pub fn become_subreaper() {
    if let Err(e) = prctl::set_child_subreaper(true) {
        tracing::warn!("processes that tests leave behind may be missed: {e}");
    }
}

/// Keeps other processes of the same user from reading this one's memory, environment and open files (prctl(2),
/// `PR_SET_DUMPABLE`): what a worker's tests run as must not come to its token. It does not keep root from it.
pub fn keep_memory_to_itself() {
    if let Err(e) = prctl::set_dumpable(false) {
        tracing::warn!("tests may read this worker's memory: {e}");
    }
}

/// Processes under one that are looked at for what they make of the cores.
const MOST_LOOKED_AT: usize = 50;

/// A process of a batch.
pub struct Process {
    pub child: Child,
    pid: i32,
    mark: String,
}

/// Starts a command in a session of its own. Its standard input is empty, or a pipe where it is fed; its outputs are pipes.
pub fn start(mut command: Command, mark: &str, fed: bool) -> std::io::Result<Process> {
    let input = if fed { Stdio::piped() } else { Stdio::null() };
    command.env(MARK, mark).stdin(input).stdout(Stdio::piped()).stderr(Stdio::piped()).kill_on_drop(true);
    // SAFETY: only calls that are safe after fork (signal-safety(7)) are made.
    unsafe {
        command.pre_exec(|| {
            setsid()?;
            // If the worker is killed, its batches are to end too.
            prctl::set_pdeathsig(Signal::SIGKILL)?;
            Ok(())
        });
    }
    // Under the lock, so that nobody takes a child that ends at once for an orphan before it is known as ours.
    let mut waited = WAITED_FOR.lock().unwrap_or_else(PoisonError::into_inner);
    let child = command.spawn()?;
    let pid = child.id().and_then(|id| i32::try_from(id).ok()).unwrap_or(0);
    waited.insert(pid);
    drop(waited);
    Ok(Process { child, pid, mark: mark.to_owned() })
}

impl Process {
    /// What it and those under it have made of the machine's cores until now.
    pub fn cores(&self) -> Cores {
        cores_of(self.pid)
    }

    /// Ends the process and everything that came from it, and waits until it is gone.
    pub async fn end(&mut self) {
        // The group is that of a process which has not been waited for, so that its number is not another's.
        if self.child.id().is_some() && self.pid > 1 {
            kill_hard(-self.pid);
        }
        end_where(|pid| carries(pid, &self.mark)).await;
        if let Err(e) = self.child.wait().await {
            tracing::warn!("a process could not be waited for: {e}");
        }
    }

    /// After the process ended: ends what it left behind, and tells how many processes that were.
    pub async fn end_leftovers(&self) -> usize {
        let left = {
            // No child is started between the listing and the taking of orphans' statuses.
            let waited = WAITED_FOR.lock().unwrap_or_else(PoisonError::into_inner);
            own_children().map(|own| {
                let mut strangers = own.into_iter().filter(|pid| !waited.contains(pid) && *pid != self.pid);
                strangers.any(|pid| !reaped(pid) && carries(pid, &self.mark))
            })
        };
        if left == Some(false) { 0 } else { end_where(|pid| carries(pid, &self.mark)).await }
    }
}

/// What a process and those under it have made of the machine's cores until now; nothing where the system does not say. Source:
/// `/proc/PID/task/TID/schedstat`, nanoseconds on a core and waiting for one (Linux, sched-stats).
pub fn cores_of(first: i32) -> Cores {
    let (mut ran, mut waited) = (0, 0);
    let mut open = vec![first];
    let mut seen = 0;
    while let Some(pid) = open.pop() {
        seen += 1;
        if seen > MOST_LOOKED_AT {
            break;
        }
        for task in std::fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten() {
            let read = |file: &str| std::fs::read_to_string(task.path().join(file)).unwrap_or_default();
            let numbers =
                |text: String| -> Vec<u64> { text.split_whitespace().filter_map(|n| n.parse().ok()).collect() };
            let stats = numbers(read("schedstat"));
            ran += stats.first().copied().unwrap_or(0) / 1000;
            waited += stats.get(1).copied().unwrap_or(0) / 1000;
            open.extend(numbers(read("children")).into_iter().filter_map(|pid| i32::try_from(pid).ok()));
        }
    }
    Cores { ran: Span(ran), waited: Span(waited) }
}

impl Drop for Process {
    fn drop(&mut self) {
        WAITED_FOR.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.pid);
    }
}

/// The worker's children, if the kernel lists them.
fn own_children() -> Option<Vec<i32>> {
    let mut children = Vec::new();
    for task in fs::read_dir("/proc/self/task").ok()?.flatten() {
        // A thread may end meanwhile.
        let Ok(list) = fs::read_to_string(task.path().join("children")) else { continue };
        children.extend(list.split_whitespace().filter_map(|pid| pid.parse::<i32>().ok()));
    }
    fs::metadata(format!("/proc/self/task/{}/children", std::process::id())).ok()?;
    Some(children)
}

/// Takes the status of an orphan that has ended.
fn reaped(pid: i32) -> bool {
    let status = waitpid(Pid::from_raw(pid), Some(WaitPidFlag::WNOHANG));
    matches!(status, Ok(status) if status != WaitStatus::StillAlive)
}

fn carries(pid: i32, mark: &str) -> bool {
    is_marked(pid, |of| of == mark.as_bytes())
}

/// Whether its mark is that of something of a worker, or of one of its batches.
fn carries_of(pid: i32, worker: &str) -> bool {
    is_marked(pid, |of| of.strip_prefix(worker.as_bytes()).is_some_and(|rest| rest.starts_with(b"-")))
}

fn is_marked(pid: i32, so: impl Fn(&[u8]) -> bool) -> bool {
    let environment = fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
    let value = |variable: &[u8]| variable.strip_prefix(MARK.as_bytes())?.strip_prefix(b"=").map(&so);
    environment.split(|b| *b == 0).any(|variable| value(variable) == Some(true))
}

/// Kills every process of a worker, without waiting until they are gone.
pub fn kill_marked_of(worker: &str) {
    kill_where(|pid| carries_of(pid, worker));
}

/// Ends every process whose mark begins so, and tells how many there were at first.
pub async fn end_marked_of(worker: &str) -> usize {
    end_where(|pid| carries_of(pid, worker)).await
}

/// Kills until there is nothing more to kill: a process that was killed has its ports and files for a moment more, and one that was
/// started meanwhile was in no list. One that is just becoming another program shows no mark: only the second look that finds
/// nothing is believed. Tells how many there were at first. What cannot be killed for a second is left.
async fn end_where(wanted: impl Fn(i32) -> bool) -> usize {
    let first = kill_where(&wanted);
    let (mut left, mut before) = (first, usize::MAX);
    for _ in 0..100 {
        if (left, before) == (0, 0) {
            return first;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
        (left, before) = (kill_where(&wanted), left);
    }
    tracing::warn!("{left} processes did not end when they were killed");
    first
}

/// Kills a process, or a group by its negative number. One that ended meanwhile gives an error that does not matter.
fn kill_hard(pid: i32) {
    if let Err(e) = kill(Pid::from_raw(pid), Signal::SIGKILL) {
        tracing::debug!(pid, "a process was not killed: {e}");
    }
}

fn kill_where(wanted: impl Fn(i32) -> bool) -> usize {
    let own = std::process::id() as i32;
    let mut found = 0;
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(pid) = entry.file_name().to_str().and_then(|name| name.parse::<i32>().ok()) else { continue };
        if pid == own || !wanted(pid) {
            continue;
        }
        found += 1;
        kill_hard(pid);
        reaped_unless_waited_for(pid);
    }
    found
}

fn reaped_unless_waited_for(pid: i32) {
    if !WAITED_FOR.lock().unwrap_or_else(PoisonError::into_inner).contains(&pid) {
        reaped(pid);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shell(script: &str) -> Command {
        let mut command = Command::new("sh");
        command.args(["-c", script]);
        command
    }

    fn alive(mark: &str) -> usize {
        let pids = fs::read_dir("/proc").unwrap().flatten().filter_map(|e| e.file_name().to_str()?.parse().ok());
        pids.filter(|pid| carries(*pid, mark)).count()
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_a_process_makes_of_the_cores_is_told_with_what_is_under_it() {
        let busy = "i=0; while [ $i -lt 20000 ]; do i=$((i + 1)); done; echo; sleep 9";
        let mark = format!("test-{}", crate::clock::random_mark());
        let mut process = start(shell(&format!("sh -c '{busy}'; true")), &mark, false).unwrap();
        let mut out = process.child.stdout.take().unwrap();
        tokio::io::AsyncReadExt::read_u8(&mut out).await.unwrap();
        let cores = process.cores();
        process.end().await;
        assert!(cores.ran > Span::millis(1), "{cores:?}");
        let idle = start(shell("sleep 9"), &mark, false).unwrap();
        tokio::time::sleep(Duration::from_millis(300)).await;
        assert!(idle.cores().ran < Span::millis(200), "what sleeps is not busy: {:?}", idle.cores());
        kill_marked_of(&mark);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_whole_tree_is_ended_also_what_left_its_group() {
        become_subreaper();
        let mark = format!("test-{}", crate::clock::random_mark());
        let mut process = start(shell("setsid sleep 600 & (sleep 601 &) & sleep 602"), &mark, false).unwrap();
        while alive(&mark) < 4 {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        process.end().await;
        assert_eq!(alive(&mark), 0);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_starts_others_faster_than_they_are_listed_is_ended_too() {
        become_subreaper();
        let worker = crate::clock::random_mark();
        let mark = format!("{worker}-1-1-1");
        let others = "while :; do (setsid sh -c 'sleep 0.01; exec sleep 600' &); sleep 0.002; done";
        let process =
            start(shell(&format!("setsid sh -c \"{others}\" & setsid sh -c \"{others}\" & wait")), &mark, false);
        let process = process.unwrap();
        while alive(&mark) < 40 {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        // Some that were counted may have ended by themselves.
        assert!(end_marked_of(&worker).await > 20);
        assert_eq!(alive(&mark), 0);
        drop(process);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_a_process_leaves_behind_is_ended_and_counted() {
        become_subreaper();
        let mark = format!("test-{}", crate::clock::random_mark());
        let mut process = start(shell("setsid sleep 600 >/dev/null 2>&1 & sleep 0.2"), &mark, false).unwrap();
        process.child.wait().await.unwrap();
        assert_eq!(process.end_leftovers().await, 1);
        assert_eq!(alive(&mark), 0, "and is gone by then");
        assert_eq!(process.end_leftovers().await, 0);
    }
}
