//! Calls made up from the service's own document, by every role: whatever is sent, the service answers as it says it does, and goes on.
//!
//! The same calls each time; `KESMO_FUZZ_SEED` makes others, and `KESMO_FUZZ_CALLS` more of each call by each role than 4.

use std::{
    collections::{BTreeMap, BTreeSet},
    time::{Duration, Instant},
};

use kesmo_sim::Random;
use serde_json::{Value, json};

use crate::{
    holes::call,
    quay::{Quay, text},
};

/// What is not called: streams, which have no end.
const ENDLESS: [&str; 2] = ["/live", "/output"];

/// Texts that are somewhere something: names, words of time and choice, and what breaks readers.
const TEXTS: &[&str] = &[
    "gate",
    "opens",
    "gate/opens",
    "nightly",
    "default",
    "main",
    "1",
    "0",
    "-1",
    "",
    " ",
    ".",
    "..",
    "*",
    "**",
    "[",
    "a b",
    "\u{0}",
    "\n",
    "\u{202e}drawrof",
    "é\u{301}",
    "%00",
    "' or 1=1 --",
    "${jndi}",
    "<b>",
    "5m",
    "10 MiB",
    "99999999999999999999d",
    "15 2 * * 1-5",
    "@daily",
    "Europe/Paris",
    "2026-12-24 18:00",
    "2026-11-27T08:00:00Z",
    "9999-12-31T23:59:59Z",
    "-9999-01-01T00:00:00Z",
    "failed",
    "passed",
    "p95 < 2s",
    "/a/b",
    "/branch=main",
    "commit=/commit",
    "https://127.0.0.1:9/x.git",
    "file:///etc",
    "http://127.0.0.1:9/",
    "lamp@quay.example",
    "0000000000000000000000000000000000000000000000000000000000000000",
    "0123456789abcdef0123456789abcdef01234567",
    "localhost/gate:1",
    "a=b",
    "reader",
    "admin",
    "é",
];

struct Making<'a> {
    document: &'a Value,
    random: Random,
}

impl Making<'_> {
    fn below(&mut self, most: u64) -> u64 {
        self.random.below(most)
    }

    fn text(&mut self, schema: &Value) -> String {
        if let Some(words) = schema["enum"].as_array()
            && self.below(10) > 0
        {
            return words[self.below(words.len() as u64) as usize].as_str().unwrap_or_default().to_owned();
        }
        match self.below(40) {
            0 => "n".repeat(5000),
            1 => "é".repeat(700),
            _ => TEXTS[self.below(TEXTS.len() as u64) as usize].to_owned(),
        }
    }

    fn number(&mut self) -> Value {
        match self.below(12) {
            0 => json!(-1),
            1 => json!(i64::MAX),
            2 => json!(i64::MIN),
            3 => json!(u64::MAX),
            4 => json!(1e300),
            5 => json!(-0.5),
            6 => json!(i64::from(i32::MAX) + 1),
            more => json!(more - 6),
        }
    }

    /// A value that a schema describes, more or less.
    fn value(&mut self, schema: &Value, depth: u32) -> Value {
        if let Some(name) = schema["$ref"].as_str() {
            let name = name.rsplit('/').next().expect("a name");
            let document = self.document;
            return self.value(&document["components"]["schemas"][name], depth);
        }
        if depth > 7 || self.below(25) == 0 {
            return match self.below(6) {
                0 => Value::Null,
                1 => json!([]),
                2 => json!({ "a": { "b": [1] } }),
                3 => json!(true),
                4 => self.number(),
                _ => Value::String(self.text(&Value::Null)),
            };
        }
        if let Some(one) = schema["oneOf"].as_array() {
            let one = &one[self.below(one.len() as u64) as usize];
            return self.value(one, depth + 1);
        }
        if let Some(all) = schema["allOf"].as_array() {
            let mut whole = serde_json::Map::new();
            for part in all {
                if let Value::Object(part) = self.value(part, depth + 1) {
                    whole.extend(part);
                }
            }
            return Value::Object(whole);
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => kinds[self.below(kinds.len() as u64) as usize].as_str(),
            kind => kind.as_str(),
        };
        match kind.unwrap_or_default() {
            "null" => Value::Null,
            "boolean" => json!(self.below(2) == 0),
            "integer" | "number" => self.number(),
            "array" => {
                let length = if self.below(60) == 0 { 1200 } else { self.below(3) };
                (0..length).map(|_| self.value(&schema["items"], depth + 1)).collect()
            }
            "object" => {
                let mut made = serde_json::Map::new();
                let required: BTreeSet<&str> =
                    schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
                for (name, of) in schema["properties"].as_object().into_iter().flatten() {
                    if self.below(20) < if required.contains(name.as_str()) { 19 } else { 8 } {
                        made.insert(name.clone(), self.value(of, depth + 1));
                    }
                }
                if schema["additionalProperties"].is_object() {
                    for _ in 0..self.below(3) {
                        let name = self.text(&schema["propertyNames"]);
                        made.insert(name, self.value(&schema["additionalProperties"], depth + 1));
                    }
                }
                if self.below(30) == 0 {
                    made.insert(self.text(&Value::Null), json!(1));
                }
                Value::Object(made)
            }
            _ => Value::String(self.text(schema)),
        }
    }

    /// A value as it stands in an address.
    fn in_address(&mut self, schema: &Value) -> String {
        let text = match self.value(schema, 6) {
            Value::String(text) => text,
            other => other.to_string(),
        };
        text.bytes()
            .map(|b| if b.is_ascii_alphanumeric() { char::from(b).to_string() } else { format!("%{b:02X}") })
            .collect()
    }

    /// The path and query of a call.
    fn address(&mut self, path: &str, operation: &Value) -> String {
        let mut address = path.to_owned();
        let mut query = Vec::new();
        for parameter in operation["parameters"].as_array().into_iter().flatten() {
            let name = parameter["name"].as_str().expect("a name");
            if parameter["in"] == "path" {
                // Mostly what there is, so that calls get beyond "there is none".
                let value = match (name, self.below(4)) {
                    (_, 0) => self.in_address(&parameter["schema"]),
                    ("suite", _) => "gate".into(),
                    ("name", _) => ["nightly", "gate", "heron", "ferry"][self.below(4) as usize].into(),
                    _ => self.below(3).to_string(),
                };
                address = address.replace(&format!("{{{name}}}"), &value);
            } else if parameter["in"] == "query" && self.below(2) == 0 {
                query.push(format!("{name}={}", self.in_address(&parameter["schema"])));
            }
        }
        if query.is_empty() { address } else { format!("{address}?{}", query.join("&")) }
    }
}

#[test]
fn calls_made_up_from_the_document_are_answered_as_it_says_by_every_role() {
    let quay = Quay::open();
    let worker = quay.worker("heron", 1);
    let folder = quay.tap("gate", "opens pays", "[ $t = opens ] && echo \"ok - $t\" || echo \"not ok - $t\"", "");
    assert_eq!(quay.wait(&folder, &["--label", "release=1"]).0, 1);
    assert_eq!(quay.wait(&folder, &["--pick", "opens"]).0, 0);
    let said = |words: &[&str]| {
        let output = quay.kesmo(words);
        assert!(output.status.success(), "{words:?}: {}", crate::quay::all_said(&output));
        text(&output.stdout).trim().to_owned()
    };
    said(&["brief", "add", "nightly", "--suite", "gate"]);
    said(&["schedule", "add", "nightly", "--brief", "nightly", "--cron", "0 3 * * *"]);
    let mut tokens: BTreeMap<&str, String> = ["reader", "operator", "worker", "admin"]
        .into_iter()
        .map(|role| (role, said(&["token", "add", &format!("made-up-{role}"), "--role", role])))
        .collect();
    tokens.insert("limited", said(&["token", "add", "made-up-limited", "--role", "operator", "--suite", "gate"]));
    tokens.insert("nobody", String::new());
    let bearer = format!("Bearer {}", quay.token());
    let (_, document, _) = call(&quay, "GET", "/api/openapi.json", &[("Authorization", &bearer)], b"");
    let document: Value = serde_json::from_str(&document).expect("the document");
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse().ok());
    let seed = number("KESMO_FUZZ_SEED").unwrap_or(15);
    let times = number("KESMO_FUZZ_CALLS").unwrap_or(4);
    let mut making = Making { document: &document, random: Random::new(seed) };
    let (mut statuses, mut odd) = (BTreeMap::<u16, u32>::new(), Vec::new());
    let mut slowest = (Duration::ZERO, String::new());
    for (path, item) in document["paths"].as_object().expect("paths") {
        for (method, operation) in item.as_object().expect("methods") {
            if ENDLESS.iter().any(|end| path.ends_with(end)) {
                continue;
            }
            let declared = operation["responses"].as_object().expect("responses");
            for (role, token) in &tokens {
                for _ in 0..times {
                    let address = making.address(path, operation);
                    let schema = &operation["requestBody"]["content"]["application/json"]["schema"];
                    let body = if schema.is_object() { making.value(schema, 0).to_string() } else { String::new() };
                    // One that is too long is refused before it is read, and this client would not hear it.
                    if body.len() > 500_000 {
                        continue;
                    }
                    let bearer = format!("Bearer {token}");
                    let mut headers = vec![("Content-Type", "application/json")];
                    if !token.is_empty() {
                        headers.push(("Authorization", bearer.as_str()));
                    }
                    let began = Instant::now();
                    let (status, said, _) = call(&quay, &method.to_uppercase(), &address, &headers, body.as_bytes());
                    *statuses.entry(status).or_default() += 1;
                    let called = format!("{role} {method} {address:.200} {body:.300}");
                    if began.elapsed() > slowest.0 {
                        slowest = (began.elapsed(), called.clone());
                    }
                    if status >= 500 || !declared.contains_key(&status.to_string()) {
                        odd.push(format!("{called}: {status} {said:.200}"));
                    }
                }
            }
        }
    }
    println!("seed {seed}: {statuses:?}; the slowest took {:?}: {}", slowest.0, slowest.1);
    assert!(odd.is_empty(), "{} of {statuses:?}:\n{}", odd.len(), odd.join("\n"));
    assert!(statuses[&200] > 100 && statuses[&422] > 100, "{statuses:?}");
    assert!(slowest.0 < Duration::from_secs(40), "{slowest:?}");
    // It goes on as before.
    drop(worker);
    let _worker = quay.worker("cormorant", 1);
    let folder = quay.tap("lamps", "shines", "echo \"ok - $t\"", "");
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
}
