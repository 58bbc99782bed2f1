//! What a pool is: how its workers come, how many it may have, and what they offer.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

pub use super::ci::CiPool;
use crate::{
    error::Error,
    name::{Slug, shorten},
    suite::container::check_reference,
    time::{Bytes, Span},
};

/// The most machines of a pool, and slots of each.
pub const MOST_MACHINES: u32 = 1000;
pub const MOST_SLOTS: u16 = 1000;
/// The longest that a machine may idle.
const LONGEST_IDLE: Span = Span::seconds(86_400);
/// The longest address or file of a description, in bytes.
const LONGEST: usize = 1000;
const LONGEST_TEMPLATE: usize = 100_000;

/// A pool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pool {
    pub how: How,
    /// So many machines are kept, also when nothing waits.
    #[serde(default)]
    pub least: u32,
    #[serde(default = "usual_most")]
    pub most: u32,
    /// Slots of each machine.
    #[serde(default = "usual_slots")]
    pub slots: u16,
    /// A machine that has had nothing to do for so long goes, in microseconds.
    #[serde(default = "usual_idle")]
    #[cfg_attr(feature = "schema", schema(value_type = u64))]
    pub idle: Span,
    /// What its machines offer.
    #[serde(default)]
    pub offers: BTreeMap<String, String>,
    /// Where its machines reach the service, where that is another address than others use.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
}

const fn usual_most() -> u32 {
    4
}
const fn usual_slots() -> u16 {
    2
}
const fn usual_idle() -> Span {
    Span::seconds(60)
}

/// How a pool's workers come.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum How {
    /// Someone starts them.
    Fixed,
    /// Containers, through a container engine's API.
    Engine(EnginePool),
    /// Pods, through a cluster's API.
    Cluster(ClusterPool),
    /// Jobs that are asked of a CI server.
    Ci(Box<CiPool>),
}

impl How {
    /// Its word.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Fixed => "fixed",
            Self::Engine(_) => "engine",
            Self::Cluster(_) => "cluster",
            Self::Ci(_) => "ci",
        }
    }

    /// What one of its machines is called.
    #[must_use]
    pub const fn machine(&self) -> &'static str {
        match self {
            Self::Fixed => "machine",
            Self::Engine(_) => "container",
            Self::Cluster(_) => "pod",
            Self::Ci(_) => "job",
        }
    }
}

/// Containers of a worker image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EnginePool {
    /// Where the engine listens: `unix:///run/podman/podman.sock`, `tcp://HOST:PORT`; none: the first that answers at the usual
    /// sockets of the service's machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// A folder on the service's machine with `ca.pem`, `cert.pem` and `key.pem`, for TCP with TLS.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificates: Option<String>,
    /// The worker image: its entry point is `kesmo`.
    pub image: String,
    /// `host`, or a network of the engine.
    #[serde(default = "usual_network")]
    pub network: String,
    /// Bytes that each may use.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<u64>))]
    pub memory: Option<Bytes>,
    /// Thousandths of a processor that each may use.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cpus: Option<u32>,
}

fn usual_network() -> String {
    "host".to_owned()
}

/// Pods of a worker image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClusterPool {
    /// The address of the cluster's API; none: the cluster that the service itself runs in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// The certificates of those who certify the API, PEM.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<String>,
    #[serde(default = "usual_namespace")]
    pub namespace: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub service_account: Option<String>,
    /// The worker image: its entry point is `kesmo`.
    pub image: String,
    /// A pod as a file (YAML or JSON), of which the first container becomes the worker.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub template: Option<String>,
}

fn usual_namespace() -> String {
    "default".to_owned()
}

fn wrong(why: impl Into<String>) -> Error {
    Error::Pool(why.into())
}

impl Pool {
    /// A pool whose workers someone starts.
    #[must_use]
    pub fn fixed() -> Self {
        Self {
            how: How::Fixed,
            least: 0,
            most: usual_most(),
            slots: usual_slots(),
            idle: usual_idle(),
            offers: BTreeMap::new(),
            url: None,
        }
    }

    /// Whether it starts machines by itself.
    #[must_use]
    pub const fn starts(&self) -> bool {
        !matches!(self.how, How::Fixed)
    }

    /// Whether its machines offer everything.
    #[must_use]
    pub fn offers_all(&self, needs: &BTreeMap<String, String>) -> bool {
        needs.iter().all(|(name, value)| self.offers.get(name) == Some(value))
    }

    /// Checks what was read.
    ///
    /// # Errors
    /// In words, with the option.
    pub fn check(&self) -> Result<(), Error> {
        if !(1..=MOST_MACHINES).contains(&self.most) {
            return Err(wrong(format!("--most {} is out of bounds: 1 to {MOST_MACHINES}", self.most)));
        }
        if self.least > self.most {
            return Err(wrong(format!("--least {} is more than --most {}", self.least, self.most)));
        }
        if !(1..=MOST_SLOTS).contains(&self.slots) {
            return Err(wrong(format!("--slots {} is out of bounds: 1 to {MOST_SLOTS}", self.slots)));
        }
        if self.idle > LONGEST_IDLE {
            return Err(wrong(format!("--idle {} is longer than a day", self.idle)));
        }
        for (name, value) in &self.offers {
            let fits = |text: &str| !text.is_empty() && text.len() <= 100 && !text.chars().any(char::is_control);
            if !fits(name) || !fits(value) {
                return Err(wrong(format!(
                    "--offer {}={}: each is 1 to 100 letters",
                    shorten(name, 40),
                    shorten(value, 40)
                )));
            }
        }
        if let Some(url) = &self.url {
            is_web("--machines-reach", url)?;
        }
        match &self.how {
            How::Fixed => Ok(()),
            How::Engine(engine) => engine.check(),
            How::Cluster(cluster) => cluster.check(),
            How::Ci(ci) => ci.check(),
        }
    }

    /// The command that a machine carries out to become a worker of the pool: its words after `kesmo`.
    #[must_use]
    pub fn command(&self, pool: &str) -> Vec<String> {
        let mut words = vec!["join".to_owned(), "--pool".to_owned(), pool.to_owned()];
        words.extend(["--slots".to_owned(), self.slots.to_string()]);
        words.extend(self.offers.iter().flat_map(|(n, v)| ["--offer".to_owned(), format!("{n}={v}")]));
        words
    }
}

fn is_web(what: &str, url: &str) -> Result<(), Error> {
    let rest = url.strip_prefix("http://").or_else(|| url.strip_prefix("https://")).unwrap_or_default();
    if rest.is_empty() || url.len() > LONGEST || url.chars().any(|c| c.is_control() || c.is_whitespace()) {
        return Err(wrong(format!("{what} {:?} is no address: it begins with http:// or https://", shorten(url, 80))));
    }
    Ok(())
}

fn is_image(image: &str) -> Result<(), Error> {
    check_reference(image).map_err(|why| wrong(format!("--image: {why}")))
}

impl EnginePool {
    fn check(&self) -> Result<(), Error> {
        is_image(&self.image)?;
        if let Some(address) = &self.address {
            let known =
                ["unix://", "tcp://"].iter().any(|kind| address.strip_prefix(kind).is_some_and(|r| !r.is_empty()));
            if !known || address.len() > LONGEST || address.chars().any(char::is_control) {
                let shown = shorten(address, 80);
                return Err(wrong(format!("--engine {shown:?}: write unix:///PATH of a socket, or tcp://HOST:PORT")));
            }
            if address.starts_with("tcp://") && self.certificates.is_none() {
                return Err(wrong(
                    "--engine tcp://…: an engine that anybody may talk to is anybody's machine; give a folder with ca.pem, cert.pem and \
                     key.pem with --certificates",
                ));
            }
        }
        let network = |c: char| c.is_ascii_alphanumeric() || "_.-".contains(c);
        if self.network.is_empty() || self.network.len() > 100 || !self.network.chars().all(network) {
            return Err(wrong(format!("--network {:?}: host, or a network of the engine", shorten(&self.network, 80))));
        }
        if self.network == "none" {
            return Err(wrong("--network none: a worker must reach the service"));
        }
        Ok(())
    }
}

impl ClusterPool {
    fn check(&self) -> Result<(), Error> {
        is_image(&self.image)?;
        self.address.as_deref().map_or(Ok(()), |address| is_web("--cluster", address))?;
        Slug::parse("the namespace", &self.namespace)?;
        self.service_account.as_deref().map_or(Ok(()), |a| Slug::parse("the service account", a).map(drop))?;
        if self.template.as_ref().is_some_and(|t| t.len() > LONGEST_TEMPLATE) {
            return Err(wrong(format!("--template: it is longer than {LONGEST_TEMPLATE} bytes")));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn engine(change: impl Fn(&mut EnginePool)) -> Pool {
        let mut engine = EnginePool {
            address: Some("unix:///run/engine.sock".into()),
            certificates: None,
            image: "localhost/kesmo-worker:1".into(),
            network: "host".into(),
            memory: None,
            cpus: None,
        };
        change(&mut engine);
        Pool { how: How::Engine(engine), ..Pool::fixed() }
    }

    #[test]
    fn what_a_pool_may_be_is_checked() {
        let good = engine(|_| {});
        assert_eq!(good.check(), Ok(()));
        let refused = |pool: Pool| pool.check().unwrap_err().to_string();
        for (pool, why) in [
            (Pool { most: 0, ..good.clone() }, "--most 0 is out of bounds: 1 to 1000"),
            (Pool { least: 5, ..good.clone() }, "--least 5 is more than --most 4"),
            (Pool { slots: 0, ..good.clone() }, "--slots 0 is out of bounds"),
            (Pool { idle: Span::seconds(90_000), ..good.clone() }, "is longer than a day"),
            (Pool { offers: BTreeMap::from([(String::new(), "x".into())]), ..good.clone() }, "--offer =x"),
            (Pool { url: Some("quay".into()), ..good.clone() }, "--machines-reach \"quay\" is no address"),
            (engine(|e| e.image = "a b".into()), "--image:"),
            (engine(|e| e.address = Some("ssh://quay".into())), "write unix:///PATH"),
            (engine(|e| e.address = Some("tcp://quay:2376".into())), "--certificates"),
            (engine(|e| e.network = "none".into()), "a worker must reach the service"),
            (engine(|e| e.network = "a b".into()), "a network of the engine"),
        ] {
            let said = refused(pool.clone());
            assert!(said.contains(why), "{pool:?}: {said}");
        }
        let cluster = |namespace: &str, address: &str| Pool {
            how: How::Cluster(ClusterPool {
                address: Some(address.into()),
                ca: None,
                namespace: namespace.into(),
                service_account: None,
                image: "localhost/kesmo-worker:1".into(),
                template: None,
            }),
            ..Pool::fixed()
        };
        assert_eq!(cluster("quay", "https://cluster.quay.example:6443").check(), Ok(()));
        assert!(refused(cluster("Quay", "https://a")).contains("the namespace"));
        assert!(refused(cluster("quay", "a")).contains("--cluster"));
    }

    #[test]
    fn a_pool_is_read_as_it_is_written_and_what_is_left_out_is_usual() {
        let pool = engine(|e| e.memory = Some(Bytes(1 << 30)));
        let text = serde_json::to_string(&pool).unwrap();
        assert_eq!(serde_json::from_str::<Pool>(&text).unwrap(), pool);
        let short = r#"{"how": {"kind": "engine", "image": "quay:1"}}"#;
        let read: Pool = serde_json::from_str(short).unwrap();
        assert_eq!((read.least, read.most, read.slots, read.idle), (0, 4, 2, Span::seconds(60)));
        assert!(serde_json::from_str::<Pool>(r#"{"how": {"kind": "engine", "image": "a", "imgae": "b"}}"#).is_err());
        assert!(serde_json::from_str::<Pool>(r#"{"how": {"kind": "boat"}}"#).is_err());
    }

    #[test]
    fn its_command_says_what_its_machines_are() {
        let pool = Pool { offers: BTreeMap::from([("os".into(), "linux".into())]), ..Pool::fixed() };
        assert_eq!(pool.command("boats").join(" "), "join --pool boats --slots 2 --offer os=linux");
        assert!(pool.offers_all(&pool.offers) && !pool.offers_all(&BTreeMap::from([("os".into(), "none".into())])));
    }
}
