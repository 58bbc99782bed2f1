//! CI servers: which requests start a job, tell its state, fetch its log and end it, and where in the answers things stand.
//!
//! No open protocol starts a job on a CI server, so a pool of this kind says what to send and where to look, in a file:
//!
//! ```toml
//! [start]
//! method  = "POST"
//! address = "https://ci.quay.example/api/jobs"
//! headers = { authorization = "Bearer {secret}" }
//! body    = { pipeline = "lantern-quay", values = { KESMO_URL = "{url}", KESMO_TOKEN = "{token}" } }
//! job     = "/id"                  # a JSON Pointer into the answer, or header:location
//! link    = "/page"                # where a person looks at the job
//!
//! [state]
//! address = "https://ci.quay.example/api/jobs/{job}"
//! headers = { authorization = "Bearer {secret}" }
//! at      = "/state"
//! waiting = ["queued"]
//! running = ["running"]
//! ended   = ["passed", "failed"]
//! why     = "/why"                 # more about the state, in words
//!
//! [log]
//! address = "https://ci.quay.example/api/jobs/{job}/log"
//!
//! [end]
//! method  = "POST"
//! address = "https://ci.quay.example/api/jobs/{job}/end"
//! ```
//!
//! Each machine is one job, so that each has a token, a name and a state of its own.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::{
    error::Error,
    name::shorten,
    pointer::Pointer,
    request::{Asked, Method, is_header, is_web},
};

/// The longest number or address of a job, in bytes.
const LONGEST_JOB: usize = 1000;
/// What `job` says that stands in a header of the answer.
const IN_HEADER: &str = "header:";
/// What stands for something in the request that starts a job, and in those about one.
const AT_START: &[&str] = &["run", "suite", "pool", "machine", "token", "url", "secret"];
const LATER: &[&str] = &["job", "machine", "pool", "secret"];

/// How jobs of a CI server are started, looked at and ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CiPool {
    pub start: Start,
    pub state: StateOf,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub log: Option<Asked>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<Asked>,
}

// The keys of `Asked` stand in this and in `StateOf` once more: with a part that is flattened in, keys that are not known would be passed
// over (serde, `deny_unknown_fields`).
/// The request that starts a job, and where in its answer the job stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Start {
    #[serde(default)]
    pub method: Method,
    pub address: String,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub body: Option<Value>,
    /// A JSON Pointer, or `header:NAME`: what `{job}` stands for from then on.
    pub job: String,
    /// A JSON Pointer, or `header:NAME`: where a person looks at the job.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
}

/// The request that tells a job's state, and what its words mean.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StateOf {
    #[serde(default)]
    pub method: Method,
    pub address: String,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub body: Option<Value>,
    /// A JSON Pointer to the state's word.
    pub at: String,
    pub waiting: Vec<String>,
    pub running: Vec<String>,
    pub ended: Vec<String>,
    /// A JSON Pointer to more about it, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// A job that was started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Job {
    pub id: String,
    pub link: Option<String>,
}

/// How a job stands, with what more there is to say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum JobState {
    Waiting(String),
    Running(String),
    Ended(String),
}

fn wrong(why: impl Into<String>) -> Error {
    Error::Pool(why.into())
}

impl CiPool {
    /// Reads a description; `file` is its name, for messages.
    ///
    /// # Errors
    /// If it is no TOML, lacks something, or says something that cannot be.
    pub fn parse(file: &str, text: &str) -> Result<Self, Error> {
        let read: Self = toml::from_str(text).map_err(|e| wrong(format!("{file}: {}", e.to_string().trim_end())))?;
        read.check().map_err(|e| wrong(format!("{file}: {e}")))?;
        Ok(read)
    }

    /// Checks what was read.
    ///
    /// # Errors
    /// In words, with the key.
    pub fn check(&self) -> Result<(), Error> {
        self.start.asked().check("start", AT_START)?;
        place("start.job", &self.start.job)?;
        self.start.link.as_deref().map_or(Ok(()), |link| place("start.link", link))?;
        self.state.asked().check("state", LATER)?;
        Pointer::parse(&self.state.at).map_err(|e| wrong(format!("state.at: {e}")))?;
        if let Some(why) = &self.state.why {
            Pointer::parse(why).map_err(|e| wrong(format!("state.why: {e}")))?;
        }
        let all = [("waiting", &self.state.waiting), ("running", &self.state.running), ("ended", &self.state.ended)];
        let mut seen: BTreeMap<&str, &str> = BTreeMap::new();
        for (list, words) in all {
            if words.is_empty() {
                return Err(wrong(format!("state.{list} is empty: name the words that mean it")));
            }
            for word in words {
                if let Some(other) = seen.insert(word, list) {
                    return Err(wrong(format!("{word:?} is in state.{other} and in state.{list}")));
                }
            }
        }
        self.log.as_ref().map_or(Ok(()), |log| log.check("log", LATER))?;
        self.end.as_ref().map_or(Ok(()), |end| end.check("end", LATER))
    }

    /// Whether a request needs a secret.
    #[must_use]
    pub fn needs_secret(&self) -> bool {
        let (start, state) = (self.start.asked(), self.state.asked());
        [Some(&start), Some(&state), self.log.as_ref(), self.end.as_ref()].into_iter().flatten().any(Asked::is_secret)
    }

    /// The state that an answer tells.
    ///
    /// # Errors
    /// If the answer is no JSON, the pointer finds nothing, or the word is not known.
    pub fn state_in(&self, answer: &str) -> Result<JobState, Error> {
        let body = json(answer)?;
        let word = Pointer::parse(&self.state.at)?.text(&body, "the answer")?;
        let more = self.state.why.as_ref().and_then(|why| Pointer::parse(why).ok()?.text(&body, "the answer").ok());
        let said = match more.filter(|more| !more.is_empty()) {
            Some(more) => format!("{}: {}", shorten(&word, 80), shorten(&more, 300)),
            None => shorten(&word, 80),
        };
        let is = |words: &[String]| words.contains(&word);
        if is(&self.state.waiting) {
            Ok(JobState::Waiting(said))
        } else if is(&self.state.running) {
            Ok(JobState::Running(said))
        } else if is(&self.state.ended) {
            Ok(JobState::Ended(said))
        } else {
            let known = [&self.state.waiting, &self.state.running, &self.state.ended];
            let known: Vec<&str> = known.into_iter().flatten().map(String::as_str).collect();
            Err(wrong(format!(
                "its state is {:?}, which is in none of waiting, running and ended (known are {})",
                shorten(&word, 80),
                known.join(", ")
            )))
        }
    }
}

fn json(answer: &str) -> Result<Value, Error> {
    serde_json::from_str(answer).map_err(|e| {
        let begin = shorten(answer.trim(), 80);
        wrong(format!("the answer is not JSON ({e}); it begins {begin:?}"))
    })
}

fn place(key: &str, text: &str) -> Result<(), Error> {
    match text.strip_prefix(IN_HEADER) {
        Some(name) if is_header(name) => Ok(()),
        Some(name) => Err(wrong(format!("{key}: {name:?} is not the name of a header"))),
        None => Pointer::parse(text).map(drop).map_err(|e| wrong(format!("{key}: {e}, or header:NAME"))),
    }
}

impl Start {
    /// The request alone.
    #[must_use]
    pub fn asked(&self) -> Asked {
        let Self { method, address, headers, body, .. } = self.clone();
        Asked { method, address, headers, body }
    }

    /// The job that was started, as the answer tells it; `header` gives a header of the answer.
    ///
    /// # Errors
    /// If the answer is no JSON, or what is looked for is not there.
    pub fn job_in(&self, answer: &str, header: impl Fn(&str) -> Option<String>) -> Result<Job, Error> {
        let find = |place: &str| match place.strip_prefix(IN_HEADER) {
            Some(name) => header(name).ok_or_else(|| wrong(format!("the answer has no header {name}"))),
            None => Pointer::parse(place)?.text(&json(answer)?, "the answer"),
        };
        let id = find(&self.job)?;
        if id.is_empty() || id.len() > LONGEST_JOB || id.chars().any(char::is_control) {
            return Err(wrong(format!("the answer names the job {:?}, which cannot be", shorten(&id, 80))));
        }
        // The requests about the job hold the secret: they go where the one went that started it.
        let of = |address: &str| address.split('/').take(3).collect::<Vec<_>>().join("/").to_lowercase();
        if is_web(&id) && of(&id) != of(&self.address) {
            return Err(wrong(format!(
                "the answer gives the job by an address of another server, {:?}",
                shorten(&id, 80)
            )));
        }
        // What is not there, or is no address, is no reason to have started the job for nothing.
        let link = self.link.as_deref().and_then(|link| find(link).ok());
        let is_link = |link: &String| {
            is_web(link) && link.len() <= LONGEST_JOB && !link.chars().any(|c| c.is_control() || c.is_whitespace())
        };
        Ok(Job { id, link: link.filter(is_link) })
    }
}

impl StateOf {
    /// The request alone.
    #[must_use]
    pub fn asked(&self) -> Asked {
        let Self { method, address, headers, body, .. } = self.clone();
        Asked { method, address, headers, body }
    }
}

#[cfg(test)]
#[path = "ci_tests.rs"]
mod tests;
