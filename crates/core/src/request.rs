//! Requests that somebody describes: to a CI server, to a chat, to a git host.
//!
//! `{NAME}` stands for a value in the address, the headers and the body; `{{` for one brace. A value cannot leave the place that it is put in: in an
//! address it is written with percent signs, in JSON it stays within its text, and a header takes none that would end it.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::{
    error::Error,
    name::{nearest, shorten},
};

/// The longest address, header or text of a request, in bytes.
const LONGEST: usize = 10_000;

/// How a request is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Method {
    #[default]
    Get,
    Post,
    Put,
    Patch,
    Delete,
}

impl Method {
    /// As HTTP writes it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Get => "GET",
            Self::Post => "POST",
            Self::Put => "PUT",
            Self::Patch => "PATCH",
            Self::Delete => "DELETE",
        }
    }
}

/// A request. `{NAME}` stands for a value in its address, headers and body; `{{` for one brace.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Asked {
    #[serde(default)]
    pub method: Method,
    pub address: String,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, String>,
    /// Sent as JSON; a text as it stands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub body: Option<Value>,
}

/// What `{NAME}` stands for.
pub type Values<'a> = BTreeMap<&'static str, &'a str>;

/// A request to send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filled {
    pub method: Method,
    pub address: String,
    pub headers: Vec<(String, String)>,
    pub body: Option<Vec<u8>>,
}

fn wrong(why: impl Into<String>) -> Error {
    Error::Request(why.into())
}

/// Whether a text is an address of HTTP.
#[must_use]
pub fn is_web(text: &str) -> bool {
    text.starts_with("http://") || text.starts_with("https://")
}

pub(crate) fn is_header(name: &str) -> bool {
    !name.is_empty() && name.len() <= 100 && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_')
}

impl Asked {
    /// Reads a description in TOML; `file` is its name, for messages.
    ///
    /// # Errors
    /// If it is not TOML, lacks something, or has a key that is not known.
    pub fn parse(file: &str, text: &str) -> Result<Self, Error> {
        toml::from_str(text).map_err(|e| wrong(format!("{file}: {}", e.to_string().trim_end())))
    }

    /// Checks it; `key` says where it stands, and `known` what may stand in it.
    ///
    /// # Errors
    /// In words, with the key.
    pub fn check(&self, key: &str, known: &[&'static str]) -> Result<(), Error> {
        let named = |part: &str, e: &Error| wrong(format!("{key}.{part}: {e}"));
        let stands: Values<'_> = known.iter().map(|name| (*name, "x")).collect();
        let filled = fill(&self.address, &stands, str::to_owned).map_err(|e| named("address", &e))?;
        let whole = self.address.starts_with("{job}") && known.contains(&"job");
        if !(whole || is_web(&filled)) || filled.len() > LONGEST {
            return Err(wrong(format!("{key}.address: it begins with http:// or https://")));
        }
        for (name, value) in &self.headers {
            if !is_header(name) {
                return Err(wrong(format!("{key}.headers: {name:?} is not the name of a header")));
            }
            fill(value, &stands, str::to_owned).map_err(|e| named("headers", &e))?;
        }
        if let Some(body) = &self.body {
            self.filled_body(body, &stands).map_err(|e| named("body", &e))?;
        }
        Ok(())
    }

    /// Whether it needs a secret.
    #[must_use]
    pub fn is_secret(&self) -> bool {
        let holds = |text: &str| text.contains("{secret}");
        let body = self.body.as_ref().map(Value::to_string).unwrap_or_default();
        holds(&self.address) || self.headers.values().any(|v| holds(v)) || holds(&body)
    }

    /// The request with what stands in it.
    ///
    /// # Errors
    /// If something stands in it that is not known, or a header would be none.
    pub fn filled(&self, values: &Values<'_>) -> Result<Filled, Error> {
        // An address that a CI server gave for a job is used as it is.
        let address = match (self.address.strip_prefix("{job}"), values.get("job")) {
            (Some(rest), Some(job)) if is_web(job) => {
                format!("{}{}", job.trim_end_matches('/'), fill(rest, values, in_address)?)
            }
            _ => fill(&self.address, values, in_address)?,
        };
        let mut headers = Vec::new();
        for (name, value) in &self.headers {
            let value = fill(value, values, str::to_owned)?;
            if value.chars().any(|c| c.is_control() || !c.is_ascii()) {
                return Err(wrong(format!("the header {name} would hold what no header may")));
            }
            headers.push((name.to_lowercase(), value));
        }
        let body = self.body.as_ref().map(|body| self.filled_body(body, values)).transpose()?;
        if matches!(self.body, Some(ref body) if !body.is_string()) && !headers.iter().any(|(n, _)| n == "content-type")
        {
            headers.push(("content-type".into(), "application/json".into()));
        }
        Ok(Filled { method: self.method, address, headers, body: body.map(String::into_bytes) })
    }

    fn filled_body(&self, body: &Value, values: &Values<'_>) -> Result<String, Error> {
        let form = self
            .headers
            .iter()
            .any(|(n, v)| n.eq_ignore_ascii_case("content-type") && v.starts_with("application/x-www-form-urlencoded"));
        match body {
            Value::String(text) if form => fill(text, values, in_address),
            Value::String(text) => fill(text, values, str::to_owned),
            other => Ok(filled_json(other, values)?.to_string()),
        }
    }
}

/// JSON with what stands in its texts: a value cannot leave the text that it is in.
fn filled_json(value: &Value, values: &Values<'_>) -> Result<Value, Error> {
    Ok(match value {
        Value::String(text) => Value::String(fill(text, values, str::to_owned)?),
        Value::Array(items) => Value::Array(items.iter().map(|v| filled_json(v, values)).collect::<Result<_, _>>()?),
        Value::Object(map) => {
            let pair = |(key, v): (&String, &Value)| Ok((key.clone(), filled_json(v, values)?));
            Value::Object(map.iter().map(pair).collect::<Result<_, Error>>()?)
        }
        other => other.clone(),
    })
}

/// As it stands in an address: all but letters, digits, `-`, `.`, `_` and `~` as percent signs (RFC 3986, section 2.3).
fn in_address(text: &str) -> String {
    let one = |b: u8| match b {
        b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => char::from(b).to_string(),
        other => format!("%{other:02X}"),
    };
    text.bytes().map(one).collect()
}

/// A text in which `{NAME}` stands for values, and `{{` and `}}` for braces, filled in.
///
/// # Errors
/// If something stands in it that is not known, or a brace stands alone.
pub fn in_text(text: &str, values: &Values<'_>) -> Result<String, Error> {
    fill(text, values, str::to_owned)
}

/// A text in which `{NAME}` stands for values, and `{{` and `}}` for braces.
fn fill(text: &str, values: &Values<'_>, escape: impl Fn(&str) -> String) -> Result<String, Error> {
    if text.len() > LONGEST {
        return Err(wrong(format!("it is longer than {LONGEST} bytes")));
    }
    let mut filled = String::new();
    let mut rest = text;
    while let Some(at) = rest.find(['{', '}']) {
        filled += &rest[..at];
        let (brace, after) = rest[at..].split_at(1);
        if let Some(after) = after.strip_prefix(brace) {
            filled += brace;
            rest = after;
            continue;
        }
        let (name, after) = match (brace, after.split_once('}')) {
            ("{", Some((name, after))) => (name, after),
            _ => return Err(wrong(format!("a {brace} stands alone: write {brace}{brace} for one"))),
        };
        let Some(value) = values.get(name) else {
            let known: Vec<&str> = values.keys().copied().collect();
            let near = nearest(name, known.iter().copied(), 1);
            let hint = near.first().map_or_else(
                || format!("known are {}", known.iter().map(|k| format!("{{{k}}}")).collect::<Vec<_>>().join(", ")),
                |near| format!("did you mean {{{near}}}?"),
            );
            return Err(wrong(format!("{{{}}} stands for nothing here: {hint}", shorten(name, 40))));
        };
        filled += &escape(value);
        rest = after;
    }
    Ok(filled + rest)
}
