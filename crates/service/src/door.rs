//! Connections that bring nothing: whoever can reach the service can open as many as it likes, and each takes one of the files
//! that a process may have open. So as many as allowed are asked for, those that say nothing at all are closed, and when they
//! come to be many, the longest idle go first.
//!
//! The web server tells nothing of its connections; the kernel does (tcp(7), `TCP_INFO`).

use std::{
    collections::HashMap,
    net::SocketAddr,
    os::fd::BorrowedFd,
    time::{Duration, Instant},
};

use nix::sys::{
    resource::{Resource, getrlimit, setrlimit},
    socket::{Shutdown, SockaddrStorage, getpeername, getsockname, shutdown},
    stat::fstat,
};
use tokio::net::TcpStream;

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
    let mut seen: HashMap<u64, Instant> = HashMap::new();
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

/// Closes what brings nothing; tells how many. It opens no file: there may be none left to open.
fn sweep(port: u16, room: u64, seen: &mut HashMap<u64, Instant>) -> usize {
    let most = getrlimit(Resource::RLIMIT_NOFILE).map_or(1024, |(soft, _)| soft.min(MOST_FILES));
    let found: Vec<(i32, u64)> = (0..most as i32).filter_map(|fd| Some((fd, connection_to(port, fd)?))).collect();
    let now = Instant::now();
    *seen = found.iter().map(|(_, inode)| (*inode, seen.get(inode).copied().unwrap_or(now))).collect();
    let known: Vec<(i32, u64, Connection)> =
        found.iter().filter_map(|(fd, inode)| Some((*fd, *inode, look(*fd, now - seen[inode])?))).collect();
    let all: Vec<Connection> = known.iter().map(|k| k.2).collect();
    let close = to_close(&all, room);
    for index in &close {
        let (fd, inode, _) = known[*index];
        // The web server may have let go of it by itself meanwhile, and the number may be another connection's by now.
        if connection_to(port, fd) == Some(inode)
            && let Err(e) = shutdown(fd, Shutdown::Both)
        {
            tracing::debug!("a connection could not be closed: {e}");
        }
    }
    close.len()
}

/// Which socket an open file is, if it is a connection to this port: the number of its inode, which no other has while it is
/// open.
fn connection_to(port: u16, fd: i32) -> Option<u64> {
    let of_port = getsockname::<SockaddrStorage>(fd).ok().and_then(|a| port_of(&a)) == Some(port);
    (of_port && getpeername::<SockaddrStorage>(fd).is_ok()).then_some(())?;
    // SAFETY: it is used only for as long as this call lasts; a number that is no open file's is refused.
    fstat(unsafe { BorrowedFd::borrow_raw(fd) }).ok().map(|s| s.st_ino)
}

/// The socket of a connection to this service's port, by who is at its other end: a second hold on it, beside the web server's.
pub fn socket_of(port: u16, peer: SocketAddr) -> Option<TcpStream> {
    let most = getrlimit(Resource::RLIMIT_NOFILE).map_or(1024, |(soft, _)| soft.min(MOST_FILES));
    let is_it = |fd: &i32| {
        let its = getpeername::<SockaddrStorage>(*fd).ok().and_then(|address| address_of(&address));
        its == Some(peer) && connection_to(port, *fd).is_some()
    };
    let fd = (0..most as i32).find(is_it)?;
    // SAFETY: it is used only for as long as this call lasts; a number that is no open file's is refused.
    let held = unsafe { BorrowedFd::borrow_raw(fd) }.try_clone_to_owned().ok()?;
    let socket = std::net::TcpStream::from(held);
    // The number may have become another connection's before it was held.
    let same = socket.peer_addr().ok() == Some(peer);
    socket.set_nonblocking(true).ok()?;
    same.then(|| TcpStream::from_std(socket).ok()).flatten()
}

fn address_of(address: &SockaddrStorage) -> Option<SocketAddr> {
    let four = address.as_sockaddr_in().map(|a| SocketAddr::from((a.ip(), a.port())));
    four.or_else(|| address.as_sockaddr_in6().map(|a| SocketAddr::from((a.ip(), a.port()))))
}

fn port_of(address: &SockaddrStorage) -> Option<u16> {
    address.as_sockaddr_in().map(|a| a.port()).or_else(|| address.as_sockaddr_in6().map(|a| a.port()))
}

/// What the kernel says of a connection: `struct tcp_info` of linux/tcp.h, whose fields keep their places.
fn look(fd: i32, age: Duration) -> Option<Connection> {
    const LAST_SENT: usize = 8 + 4 * 9;
    const LAST_CAME: usize = 8 + 4 * 11;
    const ACKED: usize = 8 + 4 * 24 + 8 * 2;
    const RECEIVED: usize = ACKED + 8;
    let mut info = [0u8; 512];
    let mut length = info.len() as libc::socklen_t;
    // SAFETY: a number that is no open socket's is refused, and the buffer is as long as is said.
    let result =
        unsafe { libc::getsockopt(fd, libc::IPPROTO_TCP, libc::TCP_INFO, info.as_mut_ptr().cast(), &raw mut length) };
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
    use std::{io::Write, os::fd::AsRawFd};

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
        let fd = server.as_raw_fd();
        assert_eq!(look(fd, Duration::ZERO).unwrap().came, 0);
        client.write_all(b"boarding").unwrap();
        while look(fd, Duration::ZERO).unwrap().came != 8 {
            std::thread::yield_now();
        }
        let mut seen = HashMap::new();
        assert_eq!(sweep(port, 1000, &mut seen), 0);
        assert_eq!(seen.len(), 1, "only what came to this port");
    }

    #[tokio::test]
    async fn a_connections_socket_is_found_by_who_is_at_its_other_end() {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let near = TcpStream::connect(("127.0.0.1", port)).await.unwrap();
        let (far, peer) = listener.accept().await.unwrap();
        let held = socket_of(port, peer).expect("it is found");
        assert_eq!(held.peer_addr().unwrap(), near.local_addr().unwrap());
        assert!(socket_of(port, SocketAddr::from(([127, 0, 0, 1], 1))).is_none(), "nobody is there");
        assert!(socket_of(1, peer).is_none(), "it is of another port");
        drop((far, held));
    }
}
