//! What calls bring and what they are answered with, checked at the edge.

use rocket::{
    Data, Request,
    data::{FromData, ToByteUnit},
    http::{ContentType, Status},
    serde::json::Json,
};

use crate::refused::Refused;

/// The answer of a call.
pub type Answer<T> = Result<Json<T>, Refused>;

/// The largest JSON that is read unless longer texts may stand in it, in bytes, and the longest text.
const LARGEST_JSON: usize = 32 << 20;
pub(crate) const LONGEST_TEXT: usize = 1 << 20;

/// What was sent as JSON, read and checked: it is said to be JSON, is UTF-8, and holds no text that cannot be kept.
/// A text in it may have so many MiB.
pub struct Sent<T, const MIB: usize = 1>(Result<T, Refused>);

/// What was sent; a refusal says what is wrong with it.
pub(crate) fn body<T, const MIB: usize>(sent: Sent<T, MIB>) -> Result<T, Refused> {
    sent.0
}

impl<T: serde::de::DeserializeOwned, const MIB: usize> Sent<T, MIB> {
    /// The largest JSON that is read, in bytes.
    const LARGEST: usize = if MIB << 21 > LARGEST_JSON { MIB << 21 } else { LARGEST_JSON };

    fn read(kind: Option<&ContentType>, content: &[u8]) -> Result<T, Refused> {
        // A page of another site can send other kinds without being asked whether it may.
        if kind.is_none_or(|kind| !kind.is_json()) {
            return Err(Refused::new(
                Status::UnsupportedMediaType,
                "invalid",
                "what was sent is not said to be JSON: send it with Content-Type: application/json",
            ));
        }
        let cannot = |why: String| Refused::invalid(format!("what was sent cannot be read: {why}"));
        let text = std::str::from_utf8(content).map_err(|e| cannot(format!("it is not UTF-8 ({e})")))?;
        let value: serde_json::Value = serde_json::from_str(text).map_err(|e| cannot(e.to_string()))?;
        check_texts(&value, MIB << 20, &mut String::new()).map_err(cannot)?;
        serde_json::from_str(text).map_err(|e| cannot(e.to_string()))
    }
}

/// Makes sure that every text can be kept; the complaint says where one stands that cannot.
pub(crate) fn check_texts(value: &serde_json::Value, longest: usize, at: &mut String) -> Result<(), String> {
    let check = |text: &str, at: &str| {
        if text.contains('\0') {
            Err(format!("the text at {at:?} holds a NUL"))
        } else if text.len() > longest {
            Err(format!("the text at {at:?} is longer than {longest} bytes"))
        } else {
            Ok(())
        }
    };
    let whole = at.len();
    match value {
        serde_json::Value::String(text) => check(text, at)?,
        serde_json::Value::Array(items) => {
            for (number, item) in items.iter().enumerate() {
                at.push_str(&format!("/{number}"));
                check_texts(item, longest, at)?;
                at.truncate(whole);
            }
        }
        serde_json::Value::Object(map) => {
            for (key, item) in map {
                check(key, at)?;
                at.push('/');
                at.push_str(&kesmo_core::name::shorten(key, 60));
                check_texts(item, longest, at)?;
                at.truncate(whole);
            }
        }
        _ => {}
    }
    Ok(())
}

#[rocket::async_trait]
impl<'r, T: serde::de::DeserializeOwned, const MIB: usize> FromData<'r> for Sent<T, MIB> {
    type Error = std::convert::Infallible;
    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> rocket::data::Outcome<'r, Self> {
        let read = data.open(Self::LARGEST.bytes()).into_bytes().await;
        rocket::outcome::Outcome::Success(Self(match read {
            Err(e) => Err(Refused::invalid(format!("what was sent did not arrive: {e}"))),
            Ok(content) if !content.is_complete() => {
                Err(Refused::too_large(format!("what was sent is larger than {} MiB", Self::LARGEST >> 20)))
            }
            Ok(content) => Self::read(request.content_type(), &content),
        }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sent_is_checked_before_anything_else_sees_it() {
        let read = |kind: Option<ContentType>, content: &[u8]| {
            Sent::<serde_json::Value>::read(kind.as_ref(), content).map_err(|e| (e.0.code, e.1.message))
        };
        let json = Some(ContentType::JSON);
        assert!(read(json.clone(), br#"{"a": ["b"]}"#).is_ok());
        for kind in [None, Some(ContentType::Plain), Some(ContentType::Form)] {
            assert_eq!(read(kind, b"{}").unwrap_err().0, 415);
        }
        let (status, why) = read(json.clone(), br#"{"a": [1, "x\u0000y"]}"#).unwrap_err();
        assert!(status == 422 && why.contains("the text at \"/a/1\" holds a NUL"), "{why}");
        assert!(read(json.clone(), br#"{"\u0000": 1}"#).unwrap_err().1.contains("NUL"));
        assert!(read(json.clone(), b"{\"a\": \"\xff\"}").unwrap_err().1.contains("not UTF-8"));
        let long = serde_json::json!({ "a": "x".repeat(LONGEST_TEXT + 1) }).to_string();
        assert!(read(json.clone(), long.as_bytes()).unwrap_err().1.contains("longer than"));
        assert_eq!(read(json, b"{").unwrap_err().0, 422);
    }
}
