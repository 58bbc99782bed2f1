//! Connections that bring nothing: whoever can reach the service can open as many as it likes, and each takes one of the files
//! that a process may have open. So as many as allowed are asked for, those that say nothing at all are closed, and when they
//! come to be many, the longest idle go first.
//!
//! The web server tells nothing of its connections; the kernel does (tcp(7), `TCP_INFO`).

use std::{
    collections::HashMap,
    os::fd::{AsRawFd, BorrowedFd, OwnedFd},
    time::{Duration, Instant},
};

use nix::sys::{
    resource::{Resource, getrlimit, setrlimit},
    socket::{Shutdown, SockaddrStorage, getpeername, getsockname, shutdown},
};

/// Connections are looked at so often.
const EVERY: Duration = Duration::from_secs(2);
/// One that has said nothing is closed after this.
const SILENT: Duration = Duration::from_secs(10);
/// One on which nothing moved for so long may be closed where there are many. Streams and links beat more often.
const IDLE: Duration = Duration::from_secs(40);
/// One that has had no answer in so long may be closed where there are many: it may never have asked whole.
const UNANSWERED: Duration = Duration::from_secs(30);
/// The most open files that are asked for, and those kept for other things than connections.
const MOST_FILES: u64 = 65_536;
const KEPT_FILES: u64 = 120;

/// Allows this process as many open files as it may have; tells how many connections that leaves room for.
pub fn widen() -> u64 {
    let Ok((soft, hard)) = getrlimit(Resource::RLIMIT_NOFILE) else { return 1024 - KEPT_FILES };
    let wanted = hard.min(MOST_FILES).max(soft);
    let now = if setrlimit(Resource::RLIMIT_NOFILE, wanted, hard).is_ok() { wanted } else { soft };
    now.saturating_sub(KEPT_FILES).max(16)
}

/// Watches the connections to a port for as long as it is not dropped.
pub async fn watch(port: u16, room: u64) {
    let mut seen: HashMap<String, Instant> = HashMap::new();
    let mut tick = tokio::time::interval(EVERY);
    loop {
        tick.tick().await;
        let swept = tokio::task::spawn_blocking(move || {
            let closed = sweep(port, room, &mut seen);
            (seen, closed)
        });
        let Ok((kept, closed)) = swept.await else { return };
        seen = kept;
        if closed > 0 {
            tracing::info!(closed, "connections that brought nothing were closed");
        }
    }
}

/// What is known of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Connection {
    /// Bytes that came, and bytes that went and were received.
    came: u64,
    went: u64,
    /// How long nothing moved, and how long it is known.
    idle: Duration,
    age: Duration,
}

impl Connection {
    fn silent(&self) -> bool {
        self.came == 0 && self.age >= SILENT
    }

    /// Whether it may be closed to make room.
    fn spare(&self) -> bool {
        self.idle >= IDLE || (self.went <= 1 && self.age >= UNANSWERED)
    }
}

/// Which connections to close: the silent ones, and of many the longest idle, until half of the room is free.
fn to_close(all: &[Connection], room: u64) -> Vec<usize> {
    let mut close: Vec<usize> = (0..all.len()).filter(|i| all[*i].silent()).collect();
    let most = (room / 2) as usize;
    if all.len() > most {
        let mut spare: Vec<usize> = (0..all.len()).filter(|i| !all[*i].silent() && all[*i].spare()).collect();
        spare.sort_by_key(|i| std::cmp::Reverse(all[*i].idle));
        spare.truncate((all.len() - close.len()).saturating_sub(most));
        close.extend(spare);
    }
    close
}

fn sweep(port: u16, room: u64, seen: &mut HashMap<String, Instant>) -> usize {
    let mut found: Vec<(String, OwnedFd, Connection)> = Vec::new();
    for entry in std::fs::read_dir("/proc/self/fd").into_iter().flatten().flatten() {
        let Ok(target) = std::fs::read_link(entry.path()) else { continue };
        let name = target.to_string_lossy().into_owned();
        let fd = entry.file_name().to_str().and_then(|n| n.parse::<i32>().ok());
        let (true, Some(fd)) = (name.starts_with("socket:"), fd) else { continue };
        // SAFETY: the number was open a moment ago. If it is not any more, or is another file's by now, copying it fails or
        // copies that file, which is looked at below as any other; the copy is this function's own.
        let Ok(copy) = (unsafe { BorrowedFd::borrow_raw(fd) }).try_clone_to_owned() else { continue };
        let of_port = getsockname::<SockaddrStorage>(copy.as_raw_fd()).ok().and_then(|a| port_of(&a)) == Some(port);
        if !of_port || getpeername::<SockaddrStorage>(copy.as_raw_fd()).is_err() {
            continue;
        }
        let age = seen.get(&name).map_or(Duration::ZERO, Instant::elapsed);
        if let Some(connection) = look(&copy, age) {
            found.push((name, copy, connection));
        }
    }
    let now = Instant::now();
    let names: HashMap<String, Instant> =
        found.iter().map(|(name, ..)| (name.clone(), seen.get(name).copied().unwrap_or(now))).collect();
    *seen = names;
    let all: Vec<Connection> = found.iter().map(|f| f.2).collect();
    let close = to_close(&all, room);
    for index in &close {
        // The web server finds it closed by the other side, and lets go of it. It may have done so by itself meanwhile.
        if let Err(e) = shutdown(found[*index].1.as_raw_fd(), Shutdown::Both) {
            tracing::debug!("a connection could not be closed: {e}");
        }
    }
    close.len()
}

fn port_of(address: &SockaddrStorage) -> Option<u16> {
    address.as_sockaddr_in().map(|a| a.port()).or_else(|| address.as_sockaddr_in6().map(|a| a.port()))
}

/// What the kernel says of a connection: `struct tcp_info` of linux/tcp.h, whose fields keep their places.
fn look(socket: &OwnedFd, age: Duration) -> Option<Connection> {
    const LAST_SENT: usize = 8 + 4 * 9;
    const LAST_CAME: usize = 8 + 4 * 11;
    const ACKED: usize = 8 + 4 * 24 + 8 * 2;
    const RECEIVED: usize = ACKED + 8;
    let mut info = [0u8; 512];
    let mut length = info.len() as libc::socklen_t;
    // SAFETY: the socket is open, and the buffer as long as is said.
    let result = unsafe {
        libc::getsockopt(
            socket.as_raw_fd(),
            libc::IPPROTO_TCP,
            libc::TCP_INFO,
            info.as_mut_ptr().cast(),
            &raw mut length,
        )
    };
    if result != 0 || (length as usize) < RECEIVED + 8 {
        return None;
    }
    let u32_at = |at: usize| u32::from_ne_bytes(info[at..at + 4].try_into().unwrap_or_default());
    let u64_at = |at: usize| u64::from_ne_bytes(info[at..at + 8].try_into().unwrap_or_default());
    let idle = Duration::from_millis(u64::from(u32_at(LAST_SENT).min(u32_at(LAST_CAME))));
    Some(Connection { came: u64_at(RECEIVED), went: u64_at(ACKED), idle, age })
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    fn one(came: u64, went: u64, idle: u64, age: u64) -> Connection {
        Connection { came, went, idle: Duration::from_secs(idle), age: Duration::from_secs(age) }
    }

    #[test]
    fn what_says_nothing_is_closed_and_of_many_the_longest_idle() {
        let working = one(500, 9000, 1, 900);
        assert!(to_close(&[working, one(0, 0, 5, 5), one(500, 0, 200, 200)], 100).is_empty(), "there is room");
        assert_eq!(to_close(&[working, one(0, 0, 12, 12)], 100), [1]);
        let many =
            [working, one(9, 9000, 90, 900), one(3, 0, 1, 40), one(9, 9000, 300, 900), working, one(0, 0, 20, 20)];
        assert_eq!(to_close(&many, 6), [5, 3, 1], "three stay");
        assert_eq!(to_close(&many, 2), [5, 3, 1, 2], "what works stays");
    }

    #[test]
    fn the_kernel_tells_what_moved_on_a_connection() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let mut client = std::net::TcpStream::connect(("127.0.0.1", port)).unwrap();
        let (server, _) = listener.accept().unwrap();
        let server = OwnedFd::from(server);
        assert_eq!(look(&server, Duration::ZERO).unwrap().came, 0);
        client.write_all(b"boarding").unwrap();
        while look(&server, Duration::ZERO).unwrap().came != 8 {
            std::thread::yield_now();
        }
        let mut seen = HashMap::new();
        assert_eq!(sweep(port, 1000, &mut seen), 0);
        assert_eq!(seen.len(), 1, "only what came to this port");
    }
}
