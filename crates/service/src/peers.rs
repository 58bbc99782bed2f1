//! Other services on the same database: what a run shows is known by the one that carries it out, and whoever asks another is answered by
//! that one, through it.
//!
//! A service says to another for whom it asks by a token that is sealed with the keys that they share: it holds who asks, with their role,
//! and is good for a while. So each checks rights as for its own callers.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
    time::{Duration, Instant},
};

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use chrono::{DateTime, TimeDelta, Utc};
use kesmo_store::{Store, leases::Holder};
use kesmo_tls::Trust;
use kesmo_wire::api::{Me, Role, RunSummary, Worker};
use serde::{Deserialize, Serialize, de::DeserializeOwned};
use tokio::sync::Mutex;

use crate::error::Error;

/// How a token of a service begins.
const TOKEN: &str = "kesmo-service-";
/// What it is sealed under.
const SEALED: &str = "a service's token";
/// It is good for so long: a stream that is carried on ends with it, and is asked for again.
const GOOD_MINUTES: i64 = 60;
/// Who holds which pool is looked up again after this.
const FRESH: Duration = Duration::from_secs(1);
/// A service that does not begin to answer within this is taken for away.
const SOON: Duration = Duration::from_secs(3);

/// Which service holds which pool, of those that others hold.
pub type Others = Arc<BTreeMap<String, Holder>>;

/// For whom a service asks.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Spoken {
    /// Which service asks.
    pub service: String,
    pub me: Me,
    /// The one call that it is good for: method and path.
    pub call: String,
    pub until: DateTime<Utc>,
}

/// What a service's own floor holds.
#[derive(Debug, Serialize, Deserialize)]
pub struct OwnFloor {
    pub runs: BTreeMap<i64, RunSummary>,
    pub workers: Vec<Worker>,
}

/// The other services.
pub struct Peers {
    service: String,
    store: Store,
    client: reqwest::Client,
    known: Mutex<Option<(Instant, Others)>>,
}

impl Peers {
    /// Makes ready what asks them, as the service of that id.
    ///
    /// # Errors
    /// If the file of authorities cannot be read.
    pub fn new(service: String, store: Store, ca: Option<&std::path::Path>) -> Result<Self, Error> {
        let trust = Trust::load(ca).map_err(|e| Error::Option(e.to_string().replacen("--ca", "--peer-ca", 1)))?;
        let client = trust.http().connect_timeout(SOON).redirect(reqwest::redirect::Policy::none()).user_agent("Kesmo");
        let client = client.build().map_err(|e| Error::Option(e.to_string()))?;
        Ok(Self { service, store, client, known: Mutex::default() })
    }

    /// Which other service holds which pool.
    pub async fn others(&self) -> Others {
        let mut known = self.known.lock().await;
        if let Some((at, others)) = &*known
            && at.elapsed() < FRESH
        {
            return Arc::clone(others);
        }
        // While PostgreSQL is away, who was there is there.
        let others = match self.store.holders().await {
            Ok(all) => Arc::new(all.into_iter().filter(|(_, holder)| holder.service != self.service).collect()),
            Err(_) => known.as_ref().map(|(_, others)| Arc::clone(others)).unwrap_or_default(),
        };
        *known = Some((Instant::now(), Arc::clone(&others)));
        others
    }

    /// The other services, each once.
    pub async fn services(&self) -> Vec<Holder> {
        let others = self.others().await;
        let mut seen = BTreeSet::new();
        others.values().filter(|holder| seen.insert(holder.service.clone())).cloned().collect()
    }

    /// Asks another service for somebody, and waits for its answer to begin; none if it is away.
    pub async fn open(
        &self,
        holder: &Holder,
        me: &Me,
        method: reqwest::Method,
        path: &str,
        headers: &[(&str, &str)],
        body: Option<String>,
    ) -> Option<reqwest::Response> {
        let token = self.token(me, call_of(method.as_str(), path)?)?;
        let mut asked = self.client.request(method, format!("{}{path}", holder.address.trim_end_matches('/')));
        asked = asked.bearer_auth(token);
        for (name, value) in headers {
            asked = asked.header(*name, *value);
        }
        if let Some(body) = body {
            asked = asked.header("Content-Type", "application/json").body(body);
        }
        match tokio::time::timeout(SOON, asked.send()).await {
            Ok(Ok(answer)) => Some(answer),
            Ok(Err(e)) => {
                tracing::info!("the service at {} does not answer: {}", holder.address, kesmo_tls::request::why(&e));
                None
            }
            Err(_) => {
                tracing::info!("the service at {} does not answer within {} s", holder.address, SOON.as_secs());
                None
            }
        }
    }

    /// What the floors of the others hold, as far as they answer.
    pub async fn floors(&self) -> Vec<(Holder, OwnFloor)> {
        let services = self.services().await;
        let me = self.myself();
        let asked = services.into_iter().map(|holder| async {
            let found: Option<OwnFloor> = self.ask(&holder, &me, "/api/peers/floor").await;
            found.map(|found| (holder, found))
        });
        futures::future::join_all(asked).await.into_iter().flatten().collect()
    }

    /// Asks another service for something that it answers as JSON; none if it does not.
    async fn ask<T: DeserializeOwned>(&self, holder: &Holder, me: &Me, path: &str) -> Option<T> {
        let answer = self.open(holder, me, reqwest::Method::GET, path, &[], None).await?;
        let read = tokio::time::timeout(SOON, answer.error_for_status().ok()?.bytes());
        serde_json::from_slice(&read.await.ok()?.ok()?).ok()
    }

    /// Who a service is that asks for itself.
    #[must_use]
    pub fn myself(&self) -> Me {
        let name = format!("service {}", self.service);
        Me { name, role: Role::Reader, account: false, suites: Vec::new(), pools: Vec::new(), provided: false }
    }

    fn token(&self, me: &Me, call: String) -> Option<String> {
        let until = Utc::now() + TimeDelta::minutes(GOOD_MINUTES);
        let spoken = Spoken { service: self.service.clone(), me: me.clone(), call, until };
        let sealed = self.store.vault()?.seal(SEALED, &serde_json::to_vec(&spoken).ok()?).ok()?;
        Some(format!("{TOKEN}{}", URL_SAFE_NO_PAD.encode(sealed)))
    }

    /// For whom another service asks, by its token; none if it is no service's, or is for another call.
    #[must_use]
    pub fn read(&self, token: &str, method: &str, path: &str) -> Option<Spoken> {
        let sealed = URL_SAFE_NO_PAD.decode(token.strip_prefix(TOKEN)?).ok()?;
        let spoken: Spoken = serde_json::from_slice(&self.store.vault()?.unseal(SEALED, &sealed).ok()?).ok()?;
        (call_of(method, path)? == spoken.call).then_some(spoken)
    }
}

/// A call, as both sides write it; the path as it is sent, which may have more to it.
fn call_of(method: &str, path: &str) -> Option<String> {
    let url = reqwest::Url::parse(&format!("http://service{path}")).ok()?;
    Some(format!("{method} {}", url.path()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_call_is_the_same_on_both_sides_and_no_other() {
        let call = |path: &str| call_of("GET", path).expect("a call");
        assert_eq!(call("/api/runs/gate/1/entries?state=all"), "GET /api/runs/gate/1/entries");
        assert_eq!(call("/api/runs/gate/1/../../../tokens"), "GET /api/tokens", "as it arrives");
        assert_ne!(call("/api/runs/gate/1"), call_of("POST", "/api/runs/gate/1").expect("a call"));
    }
}
