//! What the service's WebSockets share: the bounds of their messages, and how they are said.

use futures::SinkExt;
use rocket_ws::{Config, Message, stream::DuplexStream};

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
