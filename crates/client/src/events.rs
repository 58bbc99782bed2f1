//! Reads server-sent events, after the HTML standard's section on them.

use futures::{Stream, StreamExt};
use std::pin::Pin;

/// One event.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LiveEvent {
    pub kind: String,
    pub data: String,
    pub id: Option<String>,
}

type Chunks = Pin<Box<dyn Stream<Item = Result<Vec<u8>, String>> + Send>>;

/// A stream of events.
pub struct Events {
    chunks: Chunks,
    parser: Parser,
    ready: std::collections::VecDeque<LiveEvent>,
}

impl Events {
    pub(crate) fn new(answer: reqwest::Response) -> Self {
        let chunks = answer.bytes_stream().map(|c| c.map(|b| b.to_vec()).map_err(|e| e.to_string()));
        Self { chunks: Box::pin(chunks), parser: Parser::default(), ready: std::collections::VecDeque::new() }
    }

    /// The next event; `None` when the stream is over.
    ///
    /// # Errors
    /// In words, if the connection is cut.
    pub async fn next(&mut self) -> Result<Option<LiveEvent>, String> {
        loop {
            if let Some(event) = self.ready.pop_front() {
                return Ok(Some(event));
            }
            match self.chunks.next().await {
                Some(chunk) => self.ready.extend(self.parser.take(&chunk?)),
                None => return Ok(None),
            }
        }
    }
}

#[derive(Default)]
struct Parser {
    line: Vec<u8>,
    event: LiveEvent,
    any: bool,
}

impl Parser {
    fn take(&mut self, bytes: &[u8]) -> Vec<LiveEvent> {
        let mut found = Vec::new();
        for byte in bytes {
            if *byte != b'\n' {
                self.line.push(*byte);
                continue;
            }
            let line = std::mem::take(&mut self.line);
            let line = String::from_utf8_lossy(line.strip_suffix(b"\r").unwrap_or(&line)).into_owned();
            if line.is_empty() {
                let event = std::mem::take(&mut self.event);
                if std::mem::take(&mut self.any) {
                    found.push(event);
                }
                continue;
            }
            let (field, value) = line.split_once(':').unwrap_or((&line, ""));
            let value = value.strip_prefix(' ').unwrap_or(value);
            match field {
                "event" => self.event.kind = value.to_owned(),
                "id" => self.event.id = Some(value.to_owned()),
                "data" => {
                    if self.any {
                        self.event.data.push('\n');
                    }
                    self.event.data.push_str(value);
                    self.any = true;
                }
                _ => {}
            }
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_are_read_across_chunks_and_comments_passed_over() {
        let mut parser = Parser::default();
        let mut found = parser.take(b": beat\n\nevent:change\nid: a-1\nda");
        found.extend(parser.take(b"ta:{\"x\":1}\r\n\r\ndata: two\ndata: lines\n\n"));
        let change = LiveEvent { kind: "change".into(), data: "{\"x\":1}".into(), id: Some("a-1".into()) };
        assert_eq!(found, [change, LiveEvent { data: "two\nlines".into(), ..LiveEvent::default() }]);
    }
}
