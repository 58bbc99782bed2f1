//! Server-sent events, as the HTML standard has them.

use std::pin::Pin;

use eventsource_stream::Eventsource;
use futures::{Stream, StreamExt, TryStreamExt};

/// One event.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LiveEvent {
    pub kind: String,
    pub data: String,
    /// The latest id of the stream so far.
    pub id: Option<String>,
}

/// A stream of events.
pub struct Events {
    events: Pin<Box<dyn Stream<Item = Result<LiveEvent, String>> + Send>>,
}

impl Events {
    pub(crate) fn new(answer: reqwest::Response) -> Self {
        Self::of(answer.bytes_stream())
    }

    fn of<B: AsRef<[u8]>, E: std::fmt::Display + 'static>(
        chunks: impl Stream<Item = Result<B, E>> + Send + 'static,
    ) -> Self {
        let events = chunks.eventsource().map_err(|e| e.to_string());
        let event = |event: eventsource_stream::Event| LiveEvent {
            kind: event.event,
            data: event.data,
            id: Some(event.id).filter(|id| !id.is_empty()),
        };
        Self { events: Box::pin(events.map(move |result| result.map(event))) }
    }

    /// The next event; `None` when the stream is over.
    ///
    /// # Errors
    /// In words, if the connection is cut.
    pub async fn next(&mut self) -> Result<Option<LiveEvent>, String> {
        self.events.next().await.transpose()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_are_read_across_chunks_and_a_cut_is_told() {
        let chunks = [
            Ok(&b": beat\n\nevent:change\nid: a-1\nda"[..]),
            Ok(&b"ta:{\"x\":1}\r\n\r\ndata: two\ndata: lines\n\n"[..]),
            Err("the line broke"),
        ];
        let mut events = Events::of(futures::stream::iter(chunks));
        let mut next = || futures::executor::block_on(events.next());
        let change = LiveEvent { kind: "change".into(), data: "{\"x\":1}".into(), id: Some("a-1".into()) };
        assert_eq!(next(), Ok(Some(change)));
        assert_eq!(next().unwrap().unwrap().data, "two\nlines");
        assert!(next().unwrap_err().contains("the line broke"));
        assert_eq!(next(), Ok(None));
    }
}
