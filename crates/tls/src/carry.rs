//! Carries bytes between two connections. Between two sockets the kernel moves them without copying (splice(2)), so that a program
//! that only passes bytes on costs little.

use std::{
    io,
    net::Shutdown,
    os::fd::{AsFd, OwnedFd},
};

use nix::fcntl::{FcntlArg, OFlag, SpliceFFlags, fcntl, splice};
use tokio::{
    io::{Interest, copy_bidirectional_with_sizes},
    net::TcpStream,
};

use crate::stream::Stream;

/// Bytes that are held of each direction.
const HELD: usize = 1 << 20;
/// The same, where they are copied.
const COPIED: usize = 256 << 10;

/// Carries bytes between two connections until both have no more; the end of one direction is passed on, and the other goes on.
///
/// # Errors
/// If one of them breaks.
pub async fn carry(one: &mut TcpStream, other: &mut Stream) -> io::Result<()> {
    match other {
        Stream::Plain(other) => match (Pipe::open(), Pipe::open()) {
            (Ok(there), Ok(back)) => tokio::try_join!(there.carry(one, other), back.carry(other, one)).map(drop),
            // Without pipes, as of too many open files, it is slower.
            _ => copy_bidirectional_with_sizes(one, other, COPIED, COPIED).await.map(drop),
        },
        Stream::Tls(other) => copy_bidirectional_with_sizes(one, other, COPIED, COPIED).await.map(drop),
    }
}

/// Carries bytes between two sockets until both have no more, without copying them. Nothing is carried where there are no pipes to be
/// had for it, as of too many open files: then this answers with none at once.
///
/// # Errors
/// If one of them breaks.
pub async fn carry_between(one: &TcpStream, other: &TcpStream) -> Option<io::Result<()>> {
    let (there, back) = (Pipe::open().ok()?, Pipe::open().ok()?);
    Some(tokio::try_join!(there.carry(one, other), back.carry(other, one)).map(drop))
}

/// Holds what has come from one socket and is to go to the other.
struct Pipe {
    from: OwnedFd,
    into: OwnedFd,
}

impl Pipe {
    fn open() -> io::Result<Self> {
        let (from, into) = nix::unistd::pipe2(OFlag::O_CLOEXEC | OFlag::O_NONBLOCK)?;
        // A smaller one does, too: how large it may be is the system's to say.
        if let Err(e) = fcntl(into.as_fd(), FcntlArg::F_SETPIPE_SZ(HELD as i32)) {
            tracing::trace!("a pipe stays as small as it is: {e}");
        }
        Ok(Self { from, into })
    }

    /// Carries one direction to its end, and passes that on.
    async fn carry(&self, from: &TcpStream, to: &TcpStream) -> io::Result<()> {
        let flags = SpliceFFlags::SPLICE_F_MOVE | SpliceFFlags::SPLICE_F_NONBLOCK;
        loop {
            let take = || splice(from, None, &self.into, None, HELD, flags).map_err(io::Error::from);
            let mut held = from.async_io(Interest::READABLE, take).await?;
            if held == 0 {
                return socket2::SockRef::from(to).shutdown(Shutdown::Write);
            }
            while held > 0 {
                let give = || splice(&self.from, None, to, None, held, flags).map_err(io::Error::from);
                held -= to.async_io(Interest::WRITABLE, give).await?;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use tokio::{
        io::{AsyncReadExt, AsyncWriteExt},
        net::TcpListener,
    };

    use super::*;

    async fn pair() -> (TcpStream, TcpStream) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let dialled = TcpStream::connect(listener.local_addr().unwrap()).await.unwrap();
        (dialled, listener.accept().await.unwrap().0)
    }

    #[tokio::test]
    async fn bytes_go_both_ways_and_the_end_of_one_way_leaves_the_other_open() {
        let ((mut near, mut one), (other, mut far)) = (pair().await, pair().await);
        let carried = tokio::spawn(async move { carry(&mut one, &mut Stream::Plain(other)).await });
        let many: Vec<u8> = (0..5_000_000u32).map(|i| (i / 3) as u8).collect();
        let sent = many.clone();
        let sending = tokio::spawn(async move {
            near.write_all(&sent).await.unwrap();
            near.shutdown().await.unwrap();
            let mut answer = Vec::new();
            near.read_to_end(&mut answer).await.unwrap();
            answer
        });
        let mut came = Vec::new();
        far.read_to_end(&mut came).await.unwrap();
        assert!(came == many, "all came, as it was");
        far.write_all(b"boarded").await.unwrap();
        drop(far);
        assert_eq!(sending.await.unwrap(), b"boarded");
        carried.await.unwrap().unwrap();
    }

    #[tokio::test]
    async fn what_nobody_reads_is_not_held_without_end() {
        let ((near, mut one), (other, far)) = (pair().await, pair().await);
        let carried = tokio::spawn(async move { carry(&mut one, &mut Stream::Plain(other)).await });
        let (mut written, piece) = (0, vec![0; 1 << 16]);
        while let Ok(more) = tokio::time::timeout(std::time::Duration::from_millis(300), async {
            near.writable().await?;
            Ok::<_, io::Error>(near.try_write(&piece).unwrap_or(0))
        })
        .await
        {
            written += more.unwrap();
            assert!(written < 200 << 20, "the sender waits");
        }
        drop(far);
        assert!(carried.await.unwrap().is_err(), "a connection that breaks is told");
    }
}
