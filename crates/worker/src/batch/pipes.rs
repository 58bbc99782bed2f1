//! What a process is heard by: its two outputs, and the FIFO of event lines.

use kesmo_engine::Output;
use tokio::{
    io::{AsyncRead, AsyncReadExt},
    net::unix::pipe::Receiver,
};

/// The pipes that are open, with room for what comes over each.
pub(super) struct Pipes {
    out: Option<Output>,
    err: Option<Output>,
    events: Option<Receiver>,
    out_bytes: Vec<u8>,
    err_bytes: Vec<u8>,
    event_bytes: Vec<u8>,
}

/// What came: so many bytes of a pipe.
pub(super) enum Came {
    Out(usize),
    Err(usize),
    Events(usize),
}

/// The bytes of it.
pub(super) enum Bytes<'p> {
    Out(&'p [u8]),
    Err(&'p [u8]),
    Events(&'p [u8]),
    /// An output has ended.
    Nothing,
}

impl Pipes {
    pub(super) fn new(out: Option<Output>, err: Option<Output>, events: Option<Receiver>) -> Self {
        let (out_bytes, err_bytes, event_bytes) = (vec![0; 64 << 10], vec![0; 16 << 10], vec![0; 64 << 10]);
        Self { out, err, events, out_bytes, err_bytes, event_bytes }
    }

    /// Whether both outputs have ended. The FIFO has no end.
    pub(super) fn have_ended(&self) -> bool {
        self.out.is_none() && self.err.is_none()
    }

    /// What comes next. Nothing is lost where this is not waited for to its end.
    pub(super) async fn next(&mut self) -> Came {
        tokio::select! {
            read = read_some(&mut self.out, &mut self.out_bytes) => Came::Out(read),
            read = read_some(&mut self.err, &mut self.err_bytes) => Came::Err(read),
            read = read_some(&mut self.events, &mut self.event_bytes) => Came::Events(read),
        }
    }

    /// What is in the FIFO already.
    pub(super) fn next_event(&mut self) -> Option<Came> {
        let read = self.events.as_mut()?.try_read(&mut self.event_bytes).ok()?;
        (read > 0).then_some(Came::Events(read))
    }

    /// The bytes of what came.
    pub(super) fn bytes(&mut self, came: &Came) -> Bytes<'_> {
        match *came {
            Came::Out(0) => self.out = None,
            Came::Err(0) => self.err = None,
            Came::Out(read) => return Bytes::Out(&self.out_bytes[..read]),
            Came::Err(read) => return Bytes::Err(&self.err_bytes[..read]),
            Came::Events(read) => return Bytes::Events(&self.event_bytes[..read]),
        }
        Bytes::Nothing
    }
}

async fn read_some(stream: &mut Option<impl AsyncRead + Unpin>, buffer: &mut [u8]) -> usize {
    match stream {
        Some(stream) => stream.read(buffer).await.unwrap_or(0),
        None => std::future::pending().await,
    }
}
