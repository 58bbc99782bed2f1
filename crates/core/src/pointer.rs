//! JSON Pointers (RFC 6901): where in what another system sends a value stands.

use serde_json::Value;

use crate::{error::Error, name::nearest};

/// A JSON Pointer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pointer(String);

impl Pointer {
    /// Reads a pointer.
    ///
    /// # Errors
    /// If it is not empty and does not begin with `/`, or has a `~` that is neither `~0` nor `~1`.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let escaped = text.split('~').skip(1).all(|rest| rest.starts_with(['0', '1']));
        if (text.is_empty() || text.starts_with('/')) && escaped {
            return Ok(Self(text.to_owned()));
        }
        Err(Error::Pointer(format!(
            "{text:?} is not a valid JSON Pointer: it begins with / and names a key or a place after each, like /author/name; ~ is \
             written ~0, and / within a key ~1"
        )))
    }

    /// What it points at, as text; `of` names where it looks: `the body`.
    ///
    /// # Errors
    /// If it finds nothing, or no text, number, true or false; the message says how far it leads and what is there.
    pub fn text(&self, body: &Value, of: &str) -> Result<String, Error> {
        match body.pointer(&self.0) {
            Some(Value::String(text)) => Ok(text.clone()),
            Some(value @ (Value::Number(_) | Value::Bool(_))) => Ok(value.to_string()),
            Some(other) => {
                let is = match other {
                    Value::Null => "null",
                    Value::Array(_) => "a list",
                    _ => "an object",
                };
                Err(Error::Pointer(format!("{} is {is} in {of}, and must be a text, a number, true or false", self.0)))
            }
            None => Err(Error::Pointer(format!("{} finds nothing in {of}: {}", self.0, self.lost(body, of)))),
        }
    }

    /// How far it leads, and what is there.
    fn lost(&self, body: &Value, of: &str) -> String {
        let parts: Vec<&str> = self.0.split('/').skip(1).collect();
        let mut at = body;
        let mut led = String::new();
        for part in parts {
            let next = format!("{led}/{part}");
            if let Some(found) = body.pointer(&next) {
                (at, led) = (found, next);
                continue;
            }
            let place = if led.is_empty() { of.to_owned() } else { led };
            return match at {
                Value::Object(map) if map.is_empty() => format!("{place} is empty"),
                Value::Object(map) => {
                    let near = nearest(part, map.keys().map(String::as_str), 1);
                    let known: Vec<&str> = map.keys().map(String::as_str).take(12).collect();
                    near.first().map_or_else(
                        || format!("{place} has {}", known.join(", ")),
                        |near| format!("{place} has no {part:?}; did you mean {near:?}?"),
                    )
                }
                Value::Array(list) => format!("{place} is a list of {}", list.len()),
                _ => format!("{place} has nothing below it"),
            };
        }
        "it is empty".into()
    }
}

impl std::fmt::Display for Pointer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}
