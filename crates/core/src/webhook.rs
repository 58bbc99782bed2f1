//! Webhooks: whether a delivery is genuine, what it says, whether it starts something, and with which settings.
//!
//! Signatures follow the Standard Webhooks specification, version 1 (HMAC-SHA-256 over `id.timestamp.body`, in the headers
//! `webhook-id`, `webhook-timestamp` and `webhook-signature`). Values are found in the body by JSON Pointer (RFC 6901).
//! CloudEvents 1.0 are understood in the structured and the binary mode of their HTTP binding; pointers see the event whole
//! in both, so that what the sender tells of itself is under `/data`.

use std::collections::BTreeMap;

use base64::{Engine, prelude::BASE64_STANDARD};
use globset::{GlobBuilder, GlobMatcher};
use hmac::{Hmac, Mac};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::Sha256;

use crate::{
    error::Error,
    name::shorten,
    pointer::Pointer,
    source::{branch_of, check_branch, check_commit},
    time::{Span, Timestamp},
};

/// The largest body, in bytes.
pub const LARGEST_BODY: usize = 256 << 10;
/// How far the time stamp of a delivery may be from now, either way: what the specification's own libraries allow.
pub const TOLERANCE: Span = Span::seconds(300);
/// What begins a secret as the specification writes it; the rest is base64.
pub const SECRET_PREFIX: &str = "whsec_";
/// Bytes of a secret that is made here. The specification asks for 24 to 64.
pub const SECRET_BYTES: usize = 32;

/// What signs a delivery, from its headers.
#[derive(Debug, Clone, Copy, Default)]
pub struct Signed<'a> {
    pub id: Option<&'a str>,
    pub timestamp: Option<&'a str>,
    pub signature: Option<&'a str>,
}

/// Reads a secret, `whsec_` and base64.
///
/// # Errors
/// If it is not written so, or has fewer than 24 or more than 64 bytes.
pub fn read_secret(text: &str) -> Result<Vec<u8>, Error> {
    let bytes = text.strip_prefix(SECRET_PREFIX).and_then(|t| BASE64_STANDARD.decode(t).ok());
    bytes.filter(|b| (24..=64).contains(&b.len())).ok_or_else(|| {
        Error::Webhook("the secret is not usable: it is whsec_ and then 24 to 64 bytes in base64".into())
    })
}

/// A secret as it is written.
#[must_use]
pub fn write_secret(bytes: &[u8]) -> String {
    format!("{SECRET_PREFIX}{}", BASE64_STANDARD.encode(bytes))
}

fn mac(secret: &[u8], id: &str, timestamp: &str, body: &[u8]) -> Hmac<Sha256> {
    #[allow(clippy::expect_used, reason = "HMAC takes keys of every length (RFC 2104)")]
    let mut mac = Hmac::<Sha256>::new_from_slice(secret).expect("every length is allowed");
    for part in [id.as_bytes(), b".", timestamp.as_bytes(), b".", body] {
        mac.update(part);
    }
    mac
}

/// The signature of a body: `v1,` and base64.
#[must_use]
pub fn sign(secret: &[u8], id: &str, timestamp: i64, body: &[u8]) -> String {
    format!("v1,{}", BASE64_STANDARD.encode(mac(secret, id, &timestamp.to_string(), body).finalize().into_bytes()))
}

/// Checks that a body comes from someone who knows the secret, and is not old. Signatures are compared in constant time.
/// Gives the delivery's id.
///
/// # Errors
/// If a header is missing, the time stamp is too far from `now`, or no signature is right.
pub fn verify<'a>(secret: &[u8], signed: Signed<'a>, body: &[u8], now: Timestamp) -> Result<&'a str, Error> {
    let header = |value: Option<&'a str>, name: &str| {
        value.filter(|v| !v.is_empty()).ok_or_else(|| {
            Error::Webhook(format!("the header {name} is missing: deliveries are signed as Standard Webhooks says"))
        })
    };
    let id = header(signed.id, "webhook-id")?;
    let timestamp = header(signed.timestamp, "webhook-timestamp")?;
    let signatures = header(signed.signature, "webhook-signature")?;
    if id.len() > 200 || id.contains('.') || id.chars().any(char::is_control) {
        return Err(Error::Webhook("the header webhook-id must have at most 200 characters and no '.'".into()));
    }
    let sent: i64 = timestamp
        .parse()
        .map_err(|_| Error::Webhook("the header webhook-timestamp must be whole seconds since 1970".into()))?;
    let mut right = false;
    for signature in signatures.split(' ').take(16) {
        if let Some(bytes) = signature.strip_prefix("v1,").and_then(|s| BASE64_STANDARD.decode(s).ok()) {
            right |= mac(secret, id, timestamp, body).verify_slice(&bytes).is_ok();
        }
    }
    if !right {
        return Err(Error::Webhook(
            "the signature is wrong: it must be v1, and the HMAC-SHA-256 of id.timestamp.body with this webhook's secret".into(),
        ));
    }
    let apart = (now.0 / 1_000_000).abs_diff(sent);
    if apart > TOLERANCE.0 / 1_000_000 {
        let which = if sent * 1_000_000 < now.0 { "old" } else { "from the future" };
        return Err(Error::Webhook(format!(
            "the delivery is {which}: its time stamp is {} from the service's clock; {TOLERANCE} is allowed",
            Span::seconds(apart)
        )));
    }
    Ok(id)
}

/// Headers of a CloudEvent in binary mode, without their `ce-`, and the content type.
#[derive(Debug, Clone, Default)]
pub struct Headers {
    pub content_type: String,
    pub event: BTreeMap<String, String>,
}

/// What a delivery says.
#[derive(Debug, Clone, PartialEq)]
pub struct Told {
    /// What pointers see.
    pub body: Value,
    /// Source and id of a CloudEvent, which are the same for what is sent twice.
    pub event: Option<String>,
}

/// Reads a body as JSON, or as a CloudEvent.
///
/// # Errors
/// If it is no JSON, or a CloudEvent that lacks what every one must have.
pub fn read_body(headers: &Headers, body: &[u8]) -> Result<Told, Error> {
    let wrong = |why: String| Error::Webhook(why);
    let json = |bytes: &[u8]| -> Result<Value, Error> {
        let body = serde_json::from_slice(bytes).map_err(|e| wrong(format!("the body is not valid JSON: {e}")))?;
        if holds_nul(&body) { Err(wrong("a text in the body holds a NUL (\\u0000)".into())) } else { Ok(body) }
    };
    let kind = headers.content_type.split(';').next().unwrap_or("").trim().to_lowercase();
    if kind.starts_with("application/cloudevents-batch") {
        return Err(wrong("CloudEvents in batches are not taken: send each in a delivery of its own".into()));
    }
    let event = if kind == "application/cloudevents+json" {
        let mut event = json(body)?;
        if let Some(data) = event.get("data_base64").and_then(Value::as_str) {
            let data =
                BASE64_STANDARD.decode(data).map_err(|e| wrong(format!("data_base64 is not valid base64: {e}")))?;
            let data = json(&data)?;
            event["data"] = data;
        }
        event
    } else if headers.event.contains_key("specversion") {
        let mut event: serde_json::Map<String, Value> =
            headers.event.iter().map(|(k, v)| (k.clone(), Value::String(v.clone()))).collect();
        let data = if body.is_empty() { Value::Null } else { json(body)? };
        event.insert("data".into(), data);
        Value::Object(event)
    } else {
        return Ok(Told { body: json(body)?, event: None });
    };
    let attribute = |name: &str| {
        event.get(name).and_then(Value::as_str).filter(|v| !v.is_empty()).map(str::to_owned).ok_or_else(|| {
            wrong(format!("the CloudEvent has no {name}: every event has specversion, id, source and type"))
        })
    };
    let version = attribute("specversion")?;
    if !version.starts_with("1.") {
        return Err(wrong(format!("the CloudEvent is of version {version:?}: 1.0 is understood")));
    }
    attribute("type")?;
    let named = format!("{} {}", attribute("source")?, attribute("id")?);
    Ok(Told { body: event, event: Some(shorten(&named, 500)) })
}

/// Whether a NUL stands in a text or a key: PostgreSQL keeps none, and no name has one.
fn holds_nul(value: &Value) -> bool {
    match value {
        Value::String(text) => text.contains('\0'),
        Value::Array(items) => items.iter().any(holds_nul),
        Value::Object(map) => map.iter().any(|(key, item)| key.contains('\0') || holds_nul(item)),
        _ => false,
    }
}

/// What a value of the body becomes.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Target {
    Branch,
    Commit,
    Label(String),
    Setting(String),
    /// Which `[env-for.NAME]`.
    Environment,
}

/// `TARGET=POINTER`: what of the body becomes what of the run. `TARGET?=POINTER` may find nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Take {
    pub target: Target,
    pub pointer: Pointer,
    pub may_lack: bool,
}

impl Take {
    /// Reads it.
    ///
    /// # Errors
    /// If the target is not known or the pointer cannot be read.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let wrong = |why: &str| Error::Webhook(format!("--take {text:?} cannot be used: {why}"));
        let (target, pointer) =
            text.split_once('=').ok_or_else(|| wrong("write TARGET=POINTER, like commit=/commit"))?;
        let (target, may_lack) = target.strip_suffix('?').map_or((target, false), |t| (t, true));
        let target = match target.split_once('.') {
            None if target == "branch" => Target::Branch,
            None if target == "commit" => Target::Commit,
            None if target == "env" => Target::Environment,
            Some(("label", key)) if !key.is_empty() => Target::Label(key.to_owned()),
            Some(("set", key)) if !key.is_empty() => Target::Setting(key.to_owned()),
            _ => return Err(wrong("a target is branch, commit, env, label.KEY or set.KEY")),
        };
        let pointer = Pointer::parse(pointer).map_err(|e| wrong(&e.to_string()))?;
        Ok(Self { target, pointer, may_lack })
    }
}

/// `POINTER=GLOB`: something starts only if what the pointer finds matches; `POINTER!=GLOB`: only if it does not. A `*`
/// stays within a part between slashes, `**` does not.
#[derive(Debug, Clone)]
pub struct When {
    text: String,
    pointer: Pointer,
    glob: GlobMatcher,
    not: bool,
}

impl When {
    /// Reads it.
    ///
    /// # Errors
    /// If there is no `=`, or the pointer or glob cannot be read.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let wrong = |why: &str| Error::Webhook(format!("--when {text:?} cannot be used: {why}"));
        let (pointer, glob) = text.split_once('=').ok_or_else(|| wrong("write POINTER=GLOB, like /branch=main"))?;
        let (pointer, not) = pointer.strip_suffix('!').map_or((pointer, false), |p| (p, true));
        let pointer = Pointer::parse(pointer).map_err(|e| wrong(&e.to_string()))?;
        let built = GlobBuilder::new(glob).literal_separator(true).build().map_err(|e| wrong(&e.kind().to_string()))?;
        Ok(Self { text: text.to_owned(), pointer, glob: built.compile_matcher(), not })
    }

    /// Why the body does not fit, if it does not.
    fn misses(&self, body: &Value) -> Option<String> {
        match self.pointer.text(body, "the body") {
            Ok(found) if self.glob.is_match(&found) != self.not => None,
            Ok(found) => Some(format!("--when {}: {} is {:?}", self.text, self.pointer, shorten(&found, 100))),
            Err(_) if self.not => None,
            Err(e) => Some(format!("--when {}: {e}", self.text)),
        }
    }
}

/// What a delivery changes in the brief that it starts.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Taken {
    pub branch: Option<String>,
    pub commit: Option<String>,
    pub env: Option<String>,
    pub labels: BTreeMap<String, String>,
    pub set: BTreeMap<String, String>,
}

/// What becomes of a delivery that is genuine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Decision {
    Start(Taken),
    /// It does not concern this webhook, and why.
    Pass(String),
    /// It should start something and cannot, and why.
    Refuse(String),
}

/// Decides what becomes of a body.
#[must_use]
pub fn decide(whens: &[When], takes: &[Take], body: &Value) -> Decision {
    if let Some(why) = whens.iter().find_map(|w| w.misses(body)) {
        return Decision::Pass(why);
    }
    let mut taken = Taken::default();
    for take in takes {
        let value = match take.pointer.text(body, "the body") {
            Ok(value) => value,
            Err(_) if take.may_lack => continue,
            Err(e) => return Decision::Refuse(e.to_string()),
        };
        let checked = match &take.target {
            Target::Branch => check_branch(branch_of(&value)),
            Target::Commit if value.bytes().all(|b| b == b'0') => {
                return Decision::Pass("the commit is all zeros: the branch was deleted".into());
            }
            Target::Commit => check_commit(&value),
            _ => Ok(()),
        };
        if let Err(e) = checked {
            return Decision::Refuse(format!("{}: {e}", take.pointer));
        }
        match &take.target {
            Target::Branch => taken.branch = Some(branch_of(&value).to_owned()),
            Target::Commit => taken.commit = Some(value),
            Target::Environment => taken.env = Some(value),
            Target::Label(key) => drop(taken.labels.insert(key.clone(), shorten(&value, 199))),
            Target::Setting(key) => drop(taken.set.insert(key.clone(), value)),
        }
    }
    Decision::Start(taken)
}

/// What became of a delivery.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Did {
    Started,
    /// It was genuine and concerned something else.
    Ignored,
    /// It was not genuine, or could not start what it should.
    Refused,
}

impl Did {
    /// Its word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Started => "started",
            Self::Ignored => "ignored",
            Self::Refused => "refused",
        }
    }

    /// The one of that word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        [Self::Started, Self::Ignored, Self::Refused].into_iter().find(|d| d.word() == word)
    }
}

/// How many deliveries a minute are taken: a bucket that holds a minute's worth and fills evenly.
#[derive(Debug, Clone, Copy)]
pub struct Rate {
    per_minute: u32,
    /// Deliveries that would be taken at once, at `at`.
    left: f64,
    at: Timestamp,
}

impl Rate {
    /// A bucket that is full.
    #[must_use]
    pub fn new(per_minute: u32, now: Timestamp) -> Self {
        Self { per_minute, left: f64::from(per_minute), at: now }
    }

    /// Takes one out; else tells after how long there is one.
    ///
    /// # Errors
    /// If there is none now.
    pub fn take(&mut self, per_minute: u32, now: Timestamp) -> Result<(), Span> {
        let whole = f64::from(per_minute);
        let gained = now.since(self.at).as_seconds() / 60.0 * whole;
        self.left = (self.left + gained + (whole - f64::from(self.per_minute)).max(0.0)).min(whole);
        (self.per_minute, self.at) = (per_minute, now);
        if self.left >= 1.0 {
            self.left -= 1.0;
            return Ok(());
        }
        Err(Span::millis(((1.0 - self.left) * 60_000.0 / whole.max(1e-9)).ceil() as u64))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    /// The example of the Standard Webhooks specification's reference libraries.
    const SECRET: &str = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw";
    const BODY: &[u8] = br#"{"test": 2432232314}"#;
    const SIGNATURE: &str = "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=";
    const SENT: i64 = 1_614_265_330;

    fn check(id: &str, timestamp: &str, signature: &str, body: &[u8], now: i64) -> Result<String, String> {
        let signed = Signed { id: Some(id), timestamp: Some(timestamp), signature: Some(signature) };
        let verified = verify(&read_secret(SECRET).unwrap(), signed, body, Timestamp(now * 1_000_000));
        verified.map(str::to_owned).map_err(|e| e.to_string())
    }

    #[test]
    fn a_signature_of_the_specification_is_right_and_every_change_makes_it_wrong() {
        let (id, stamp) = ("msg_p5jXN8AQM9LWM0D4loKWxJek", SENT.to_string());
        assert_eq!(check(id, &stamp, SIGNATURE, BODY, SENT), Ok(id.to_owned()));
        assert_eq!(sign(&read_secret(SECRET).unwrap(), id, SENT, BODY), SIGNATURE);
        // One of several is enough: secrets are changed so.
        assert!(check(id, &stamp, &format!("v1,AAAA v2,xx {SIGNATURE}"), BODY, SENT).is_ok());
        let wrong = |r: Result<String, String>| r.unwrap_err().contains("the signature is wrong");
        assert!(wrong(check("msg_other", &stamp, SIGNATURE, BODY, SENT)));
        assert!(wrong(check(id, "1614265331", SIGNATURE, BODY, SENT)));
        assert!(wrong(check(id, &stamp, SIGNATURE, br#"{"test": 2432232315}"#, SENT)));
        assert!(wrong(check(id, &stamp, "v1,AAAA", BODY, SENT)));
        assert!(wrong(check(id, &stamp, "nonsense", BODY, SENT)));
        assert!(wrong(check(id, &stamp, &SIGNATURE.replace("v1", "v0"), BODY, SENT)));
    }

    #[test]
    fn old_and_future_deliveries_and_missing_headers_are_refused() {
        let (id, stamp) = ("msg_p5jXN8AQM9LWM0D4loKWxJek", SENT.to_string());
        assert!(check(id, &stamp, SIGNATURE, BODY, SENT + 300).is_ok());
        assert!(check(id, &stamp, SIGNATURE, BODY, SENT + 301).unwrap_err().contains("the delivery is old"));
        assert!(check(id, &stamp, SIGNATURE, BODY, SENT - 301).unwrap_err().contains("from the future"));
        assert!(check(id, "soon", SIGNATURE, BODY, SENT).unwrap_err().contains("whole seconds since 1970"));
        assert!(check("a.b", &stamp, SIGNATURE, BODY, SENT).unwrap_err().contains("no '.'"));
        let missing = verify(b"x", Signed::default(), BODY, Timestamp(0)).unwrap_err().to_string();
        assert!(missing.contains("webhook-id is missing"), "{missing}");
        let secret = write_secret(&[7; SECRET_BYTES]);
        assert_eq!(read_secret(&secret).unwrap(), [7; SECRET_BYTES]);
        for bad in ["", "whsec_", "whsec_AAAA", "secret", "whsec_%%%%"] {
            assert!(read_secret(bad).is_err(), "{bad}");
        }
    }

    fn push() -> Value {
        json!({
            "branch": "release/1187", "commit": "a1".repeat(20), "forced": false,
            "author": { "name": "Ada", "id": 7 }, "commits": [{ "id": "x" }], "a/b": { "m~n": "odd" },
        })
    }

    fn decided(whens: &[&str], takes: &[&str], body: &Value) -> Decision {
        let whens: Vec<When> = whens.iter().map(|w| When::parse(w).unwrap()).collect();
        let takes: Vec<Take> = takes.iter().map(|t| Take::parse(t).unwrap()).collect();
        decide(&whens, &takes, body)
    }

    #[test]
    fn values_of_the_body_become_branch_commit_labels_and_settings() {
        let takes = [
            "commit=/commit",
            "branch=/branch",
            "label.author=/author/name",
            "label.odd=/a~1b/m~0n",
            "set.passengers=/author/id",
            "label.first=/commits/0/id",
            "label.forced=/forced",
            "label.gone?=/nothing",
        ];
        let Decision::Start(taken) = decided(&["/branch=release/*"], &takes, &push()) else { panic!() };
        assert_eq!(taken.branch.as_deref(), Some("release/1187"));
        assert_eq!(taken.commit, Some("a1".repeat(20)));
        let labels: Vec<_> = taken.labels.iter().map(|(k, v)| format!("{k}={v}")).collect();
        assert_eq!(labels, ["author=Ada", "first=x", "forced=false", "odd=odd"]);
        assert_eq!(taken.set["passengers"], "7");
        // A branch may be written with its full name.
        let full = json!({ "branch": "refs/heads/release/1187" });
        let Decision::Start(taken) = decided(&["/branch=refs/heads/**"], &["branch=/branch"], &full) else { panic!() };
        assert_eq!(taken.branch.as_deref(), Some("release/1187"));
    }

    #[test]
    fn conditions_must_all_hold_and_say_what_they_found() {
        let pass = |whens: &[&str]| match decided(whens, &[], &push()) {
            Decision::Pass(why) => why,
            other => panic!("{other:?}"),
        };
        let main = "/branch=main";
        assert_eq!(pass(&[main]), "--when /branch=main: /branch is \"release/1187\"");
        assert!(pass(&["/branch=*"]).contains("release/1187"), "a * stays within a part");
        assert!(pass(&["/branch=**", "/author/name=Grace"]).contains("\"Ada\""));
        assert!(pass(&["/branch!=**"]).contains("/branch is"));
        assert!(pass(&["/nothing=*"]).contains("finds nothing"));
        assert!(matches!(decided(&["/branch=**", "/nothing!=x"], &[], &push()), Decision::Start(_)));
    }

    #[test]
    fn a_pointer_that_finds_nothing_says_how_far_it_leads() {
        let refused = |take: &str| match decided(&[], &[take], &push()) {
            Decision::Refuse(why) => why,
            other => panic!("{other:?}"),
        };
        assert_eq!(
            refused("label.a=/author/nam"),
            "/author/nam finds nothing in the body: /author has no \"nam\"; did you mean \"name\"?"
        );
        assert!(refused("label.a=/zzzzzzz").contains("the body has a/b, author, branch"));
        assert!(refused("label.a=/commits/3").contains("/commits is a list of 1"));
        assert!(refused("label.a=/commit/x").contains("/commit has nothing below it"));
        assert!(refused("label.a=/author").contains("is an object in the body"));
        assert!(refused("commit=/branch").contains("/branch: the commit"));
        let mut deleted = push();
        deleted["commit"] = json!("0".repeat(40));
        assert!(matches!(decided(&[], &["commit=/commit"], &deleted), Decision::Pass(why) if why.contains("deleted")));
    }

    #[test]
    fn what_cannot_be_written_so_is_refused_when_it_is_saved() {
        let said = |r: Result<(), Error>| r.unwrap_err().to_string();
        assert!(said(Take::parse("commit").map(drop)).contains("write TARGET=POINTER"));
        assert!(said(Take::parse("colour=/x").map(drop)).contains("a target is branch, commit, env, label.KEY"));
        assert!(said(Take::parse("label.=/x").map(drop)).contains("a target is"));
        assert!(said(Take::parse("commit=commit").map(drop)).contains("is not a valid JSON Pointer"));
        assert!(said(Take::parse("commit=/a~2").map(drop)).contains("is not a valid JSON Pointer"));
        assert!(said(When::parse("/branch").map(drop)).contains("write POINTER=GLOB"));
        assert!(said(When::parse("/branch=[").map(drop)).contains("--when"));
    }

    #[test]
    fn cloud_events_are_read_in_both_modes_alike() {
        let structured =
            Headers { content_type: "application/cloudevents+json; charset=utf-8".into(), ..Headers::default() };
        let event =
            json!({ "specversion": "1.0", "id": "e1", "source": "/quay", "type": "deployed", "data": { "build": 7 } });
        let told = read_body(&structured, event.to_string().as_bytes()).unwrap();
        assert_eq!(told.event.as_deref(), Some("/quay e1"));
        let pairs = [("specversion", "1.0"), ("id", "e1"), ("source", "/quay"), ("type", "deployed")];
        let binary = Headers {
            content_type: "application/json".into(),
            event: pairs.map(|(k, v)| (k.to_owned(), v.to_owned())).into(),
        };
        let same = read_body(&binary, br#"{"build":7}"#).unwrap();
        assert_eq!((same.event, &same.body), (told.event, &told.body));
        assert_eq!(same.body.pointer("/data/build"), Some(&json!(7)));
        let base64 = json!({ "specversion": "1.0", "id": "e1", "source": "/quay", "type": "deployed", "data_base64": "eyJidWlsZCI6N30=" });
        let told = read_body(&structured, base64.to_string().as_bytes()).unwrap();
        assert_eq!(told.body.pointer("/data/build"), Some(&json!(7)));
        let lacking = read_body(&structured, br#"{"specversion":"1.0","id":"e1","type":"x"}"#).unwrap_err().to_string();
        assert!(lacking.contains("has no source"), "{lacking}");
        assert!(
            read_body(&structured, br#"{"specversion":"0.3"}"#).unwrap_err().to_string().contains("version \"0.3\"")
        );
        let batch = Headers { content_type: "application/cloudevents-batch+json".into(), ..Headers::default() };
        assert!(read_body(&batch, b"[]").is_err());
        for odd in [&br#"{"a":["\u0000"]}"#[..], br#"{"\u0000":1}"#] {
            assert!(read_body(&Headers::default(), odd).unwrap_err().to_string().contains("a NUL"));
        }
        assert!(read_body(&Headers::default(), b"{").unwrap_err().to_string().contains("not valid JSON"));
    }

    #[test]
    fn a_bucket_lets_a_minutes_worth_through_and_then_says_when() {
        let at = |seconds: u64| Timestamp((seconds * 1_000_000) as i64);
        let mut rate = Rate::new(60, at(0));
        assert!((0..60).all(|_| rate.take(60, at(0)).is_ok()));
        assert_eq!(rate.take(60, at(0)), Err(Span::seconds(1)));
        assert!(rate.take(60, at(1)).is_ok());
        assert!(rate.take(60, at(1)).is_err());
        // More is allowed from now on.
        assert!(rate.take(120, at(1)).is_ok());
        let mut slow = Rate::new(1, at(0));
        assert!(slow.take(1, at(0)).is_ok());
        assert_eq!(slow.take(1, at(30)), Err(Span::seconds(30)));
    }
}
