//! What the service's WebSockets share: the bounds of their messages, how they are said, and how long the other end may be silent.

use std::time::Duration;

use futures::SinkExt;
use rocket_ws::{Config, Message, stream::DuplexStream};
use tokio::time::Instant;

/// When the other end was heard, and how long it may be silent.
pub(super) struct Silence {
    heard: Instant,
    patience: Duration,
}

impl Silence {
    /// It is heard now.
    pub(super) fn new(patience: Duration) -> Self {
        Self { heard: Instant::now(), patience }
    }

    /// It was heard now.
    pub(super) fn ends(&mut self) {
        self.heard = Instant::now();
    }

    /// Resolves once it was silent for too long. Whoever finds that out late stood still itself: what came meanwhile is still to be read.
    pub(super) async fn is_too_long(&mut self) {
        loop {
            let over = self.heard + self.patience;
            tokio::time::sleep_until(over).await;
            if over.elapsed() < self.patience / 4 {
                return;
            }
            self.heard = Instant::now();
        }
    }
}

/// A WebSocket whose messages have at most so many bytes.
pub(super) fn within(largest: usize) -> Config {
    Config { max_message_size: Some(largest), max_frame_size: Some(largest), ..Config::default() }
}

/// Says something as JSON.
pub(super) async fn say(stream: &mut DuplexStream, message: &impl serde::Serialize) -> Result<(), String> {
    put(stream, message).await?;
    stream.flush().await.map_err(|e| e.to_string())
}

/// Has something said as JSON, with what is said next.
pub(super) async fn put(stream: &mut DuplexStream, message: &impl serde::Serialize) -> Result<(), String> {
    let text = serde_json::to_string(message).map_err(|e| e.to_string())?;
    stream.feed(Message::Text(text)).await.map_err(|e| e.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rocket::async_test]
    async fn who_stood_still_itself_takes_nobody_for_silent() {
        const PATIENCE: Duration = Duration::from_millis(400);
        let mut silence = Silence::new(PATIENCE);
        std::thread::sleep(PATIENCE * 2);
        let at_once = tokio::time::timeout(PATIENCE / 4, silence.is_too_long()).await;
        assert!(at_once.is_err(), "what came meanwhile is to be read first");
        silence.ends();
        let heard = Instant::now();
        silence.is_too_long().await;
        assert!(heard.elapsed() >= PATIENCE);
    }
}
