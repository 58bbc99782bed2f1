//! Machines that are jobs of a CI server, asked for by HTTP as the pool describes.

use std::time::Duration;

use async_trait::async_trait;
use kesmo_core::{
    fleet::{CiPool, ci::JobState},
    name::shorten,
    request::{Asked, Filled, Values},
};

use kesmo_tls::request::{self, Answer};

use crate::provider::{Error, Known, LONGEST_LOG, Provider, Standing, Start, Started};

/// A CI server that does not answer within this is away.
const SOON: Duration = Duration::from_secs(10);
/// The largest answer that is read, in bytes; of a log, its end is kept.
const LARGEST: usize = 8 << 20;

/// Jobs of a CI server.
pub struct Jobs {
    pool: CiPool,
    name: String,
    secret: String,
    client: reqwest::Client,
}

impl Jobs {
    /// Jobs for a pool of that name.
    ///
    /// # Errors
    /// If a client cannot be made.
    pub fn new(pool: CiPool, name: String, secret: Option<String>, trust: &kesmo_tls::Trust) -> Result<Self, Error> {
        // Where an answer leads elsewhere the token would be told to whoever is there.
        let client = trust.http().timeout(SOON).redirect(reqwest::redirect::Policy::none()).build();
        let client = client.map_err(|e| Error::Refused(e.to_string()))?;
        Ok(Self { pool, name, secret: secret.unwrap_or_default(), client })
    }

    async fn send(&self, what: &str, filled: Filled) -> Result<Answer, Error> {
        let away = |e: reqwest::Error| {
            let why = if e.is_timeout() { format!("nothing within {} s", SOON.as_secs()) } else { request::why(&e) };
            Error::Away(format!("the CI server does not answer ({what}): {why}"))
        };
        request::send(&self.client, filled, LARGEST).await.map_err(away)
    }

    /// The answer, if it says that all went well.
    fn well(&self, what: &str, answer: Answer) -> Result<Answer, Error> {
        if answer.status.is_success() {
            return Ok(answer);
        }
        let text = answer.text.split_whitespace().collect::<Vec<_>>().join(" ");
        let text =
            if text.is_empty() { String::new() } else { format!(": {}", self.without_secret(&shorten(&text, 300))) };
        let why = format!("the CI server refuses ({what}, {}){text}", answer.status);
        let later = answer.status.is_server_error() || matches!(answer.status.as_u16(), 408 | 425 | 429);
        Err(if later { Error::Away(why) } else { Error::Refused(why) })
    }

    /// A text as everybody may read it.
    fn without_secret(&self, text: &str) -> String {
        if self.secret.is_empty() { text.to_owned() } else { text.replace(&self.secret, "…") }
    }

    fn filled(&self, asked: &Asked, values: &Values<'_>) -> Result<Filled, Error> {
        asked.filled(values).map_err(|e| Error::Refused(e.to_string()))
    }

    fn about<'a>(&'a self, machine: &'a Known, job: &'a str) -> Values<'a> {
        let machine = machine.name.as_str();
        Values::from([
            ("job", job),
            ("machine", machine),
            ("pool", self.name.as_str()),
            ("secret", self.secret.as_str()),
        ])
    }

    async fn state(&self, machine: &Known) -> Standing {
        let Some(job) = &machine.handle else {
            return Standing::Unknown(
                "the service ended while it was asked for: whether a job was started is not known".into(),
            );
        };
        let state = self.pool.state.asked();
        let answer = match self.filled(&state, &self.about(machine, job)) {
            Ok(request) => self.send("a job's state", request).await,
            Err(e) => Err(e),
        };
        let answer = match answer {
            Ok(answer) if matches!(answer.status.as_u16(), 404 | 410) => {
                return Standing::Gone("the CI server does not know this job any more".into());
            }
            Ok(answer) => self.well("a job's state", answer),
            Err(e) => Err(e),
        };
        match answer.map(|answer| self.pool.state_in(&answer.text)) {
            Ok(Ok(JobState::Waiting(said))) => Standing::Coming(said),
            Ok(Ok(JobState::Running(said))) => Standing::Running(said),
            Ok(Ok(JobState::Ended(said))) => Standing::Ended(format!("the job ended ({said})")),
            Ok(Err(e)) => Standing::Unknown(format!(
                "the CI server's answer about its state cannot be used: {}",
                self.without_secret(&e.to_string())
            )),
            Err(e) => Standing::Unknown(e.to_string()),
        }
    }
}

#[async_trait]
impl Provider for Jobs {
    async fn start(&self, start: &Start) -> Result<Started, Error> {
        let run = start.run.clone().unwrap_or_default();
        let suite = run.split('/').next().unwrap_or_default();
        let values = Values::from([
            ("run", run.as_str()),
            ("suite", suite),
            ("pool", self.name.as_str()),
            ("machine", start.name.as_str()),
            ("token", start.token.as_str()),
            ("url", start.url.as_str()),
            ("secret", self.secret.as_str()),
        ]);
        let what = "starting a job";
        let answer = self.send(what, self.filled(&self.pool.start.asked(), &values)?).await?;
        let answer = self.well(what, answer)?;
        let header = |name: &str| Some(answer.headers.get(name)?.to_str().ok()?.to_owned());
        let job = self.pool.start.job_in(&answer.text, header).map_err(|e| {
            Error::Refused(format!(
                "the CI server's answer ({what}) cannot be used: {}",
                self.without_secret(&e.to_string())
            ))
        })?;
        Ok(Started { handle: job.id, link: job.link, said: "the CI server has it".into() })
    }

    async fn look(&self, machines: &[Known]) -> Result<Vec<(i64, Standing)>, Error> {
        let told = machines.iter().map(async |machine| (machine.id, self.state(machine).await));
        Ok(futures::future::join_all(told).await)
    }

    async fn end(&self, machine: &Known) -> Result<(), Error> {
        let (Some(end), Some(job)) = (&self.pool.end, &machine.handle) else { return Ok(()) };
        // One that has ended need not be.
        if matches!(self.state(machine).await, Standing::Ended(_) | Standing::Gone(_)) {
            return Ok(());
        }
        let answer = self.send("ending a job", self.filled(end, &self.about(machine, job))?).await?;
        if matches!(answer.status.as_u16(), 404 | 409 | 410) {
            return Ok(());
        }
        self.well("ending a job", answer).map(drop)
    }

    async fn log(&self, machine: &Known) -> Result<Option<String>, Error> {
        let (Some(log), Some(job)) = (&self.pool.log, &machine.handle) else { return Ok(None) };
        let answer = self.send("a job's log", self.filled(log, &self.about(machine, job))?).await?;
        let text = self.well("a job's log", answer)?.text;
        let from = text.len().saturating_sub(LONGEST_LOG);
        let from = (from..text.len()).find(|i| text.is_char_boundary(*i)).unwrap_or(0);
        Ok(Some(self.without_secret(&text[from..])))
    }

    /// What a CI server runs that nobody waits for has no token any more, and ends by itself.
    async fn clear(&self, _keep: &[Known]) -> Result<usize, Error> {
        Ok(0)
    }
}
