//! A connection, with TLS or without.

use std::{
    io,
    pin::Pin,
    task::{Context, Poll},
};

use tokio::{
    io::{AsyncRead, AsyncWrite, ReadBuf},
    net::TcpStream,
};
use tokio_rustls::client::TlsStream;

/// A connection, with TLS or without.
pub enum Stream {
    Plain(TcpStream),
    Tls(Box<TlsStream<TcpStream>>),
}

impl AsyncRead for Stream {
    fn poll_read(self: Pin<&mut Self>, c: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_read(c, buffer),
            Self::Tls(stream) => Pin::new(stream).poll_read(c, buffer),
        }
    }
}

impl AsyncWrite for Stream {
    fn poll_write(self: Pin<&mut Self>, c: &mut Context<'_>, content: &[u8]) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_write(c, content),
            Self::Tls(stream) => Pin::new(stream).poll_write(c, content),
        }
    }

    fn poll_flush(self: Pin<&mut Self>, c: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_flush(c),
            Self::Tls(stream) => Pin::new(stream).poll_flush(c),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, c: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_shutdown(c),
            Self::Tls(stream) => Pin::new(stream).poll_shutdown(c),
        }
    }
}
