//! Machines that are pods, through a cluster's API (Kubernetes, core/v1 Pod).

use std::{collections::BTreeMap, time::Duration};

use async_trait::async_trait;
use k8s_openapi::api::core::v1::{Container, EnvVar, Pod, PodSpec};
use kesmo_core::{fleet::ClusterPool, name::shorten};
use kube::{
    Api, Client, Config,
    api::{DeleteParams, ListParams, LogParams, PostParams},
};
use serde_json::Value;
use tokio::sync::Mutex;

use crate::provider::{Error, Known, LONGEST_LOG, Provider, Standing, Start, Started};

/// The label with the pool's mark, by which its pods are found.
const POOL: &str = "kesmo-pool";
/// The name of the container that becomes the worker, where the template has none.
const WORKER: &str = "worker";
/// A cluster that does not answer within this is away.
const SOON: Duration = Duration::from_secs(10);

/// Pods of a worker image.
pub struct Pods {
    pool: ClusterPool,
    mark: String,
    secret: Option<String>,
    client: Mutex<Option<Client>>,
}

fn refused(why: impl std::fmt::Display) -> Error {
    Error::Refused(why.to_string())
}

/// Whether a call did not even come to the cluster, or was turned away there.
fn was_not_reached(error: &kube::Error) -> bool {
    if let kube::Error::Api(status) = error {
        return status.code < 500;
    }
    let mut cause: &dyn std::error::Error = error;
    loop {
        if let Some(sent) = cause.downcast_ref::<hyper_util::client::legacy::Error>() {
            return sent.is_connect();
        }
        match cause.source() {
            Some(source) => cause = source,
            None => return false,
        }
    }
}

/// What went wrong with a call.
fn told(what: &str, error: &kube::Error) -> Error {
    match error {
        kube::Error::Api(status) => {
            let why = format!(
                "the cluster refuses ({what}, {} {}): {}",
                status.code,
                status.reason,
                shorten(&status.message, 500)
            );
            if status.code >= 500 || status.code == 429 { Error::Away(why) } else { Error::Refused(why) }
        }
        other => {
            let mut cause: &dyn std::error::Error = other;
            while let Some(source) = cause.source() {
                cause = source;
            }
            Error::Away(format!("the cluster does not answer ({what}): {}", shorten(&cause.to_string(), 300)))
        }
    }
}

/// The pod that a pool's template describes; without a template, an empty one.
///
/// # Errors
/// If it is not YAML or JSON, is no pod, has a key that pods do not have, or no container to become the worker.
pub fn template_of(pool: &ClusterPool) -> Result<Pod, Error> {
    let wrong = |why: String| Error::Refused(format!("--template: {why}"));
    let Some(text) = &pool.template else {
        let spec = PodSpec {
            containers: vec![Container { name: WORKER.into(), ..Container::default() }],
            ..PodSpec::default()
        };
        return Ok(Pod { spec: Some(spec), ..Pod::default() });
    };
    let given: Value = serde_saphyr::from_str(text).map_err(|e| wrong(format!("it cannot be read: {e}")))?;
    let said = |key: &str| given.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    if (said("apiVersion").as_str(), said("kind").as_str()) != ("v1", "Pod") {
        return Err(wrong(format!(
            "it is to begin with apiVersion: v1 and kind: Pod, and says {:?} and {:?}",
            shorten(&said("apiVersion"), 40),
            shorten(&said("kind"), 40)
        )));
    }
    let pod: Pod = serde_json::from_value(given.clone()).map_err(|e| wrong(format!("it is no pod: {e}")))?;
    let kept = serde_json::to_value(&pod).map_err(|e| wrong(e.to_string()))?;
    if let Some(key) = unknown(&given, &kept, String::new()) {
        return Err(wrong(format!("a pod has no {key}")));
    }
    if pod.spec.as_ref().is_none_or(|spec| spec.containers.is_empty()) {
        return Err(wrong("spec.containers is empty: its first becomes the worker".into()));
    }
    Ok(pod)
}

/// The first key that was given and not understood: what is misspelt would be passed over.
fn unknown(given: &Value, kept: &Value, at: String) -> Option<String> {
    match (given, kept) {
        (Value::Object(given), Value::Object(kept)) => given.iter().find_map(|(key, value)| {
            let here = if at.is_empty() { key.clone() } else { format!("{at}.{key}") };
            match kept.get(key) {
                Some(kept) => unknown(value, kept, here),
                // What is empty is left out when it is written.
                None if value.is_null() || *value == serde_json::json!({}) || *value == serde_json::json!([]) => None,
                None => Some(here),
            }
        }),
        (Value::Array(given), Value::Array(kept)) => {
            let both = given.iter().zip(kept).enumerate();
            both.into_iter().find_map(|(n, (given, kept))| unknown(given, kept, format!("{at}[{n}]")))
        }
        _ => None,
    }
}

impl Pods {
    /// Pods of a pool's image, with the pool's mark. `secret` is the token of the API.
    #[must_use]
    pub fn new(pool: ClusterPool, mark: String, secret: Option<String>) -> Self {
        Self { pool, mark, secret, client: Mutex::default() }
    }

    async fn api(&self) -> Result<Api<Pod>, Error> {
        let mut known = self.client.lock().await;
        if known.is_none() {
            *known = Some(self.client().await?);
        }
        let client = known.clone().ok_or_else(|| Error::Away("the cluster has no client".into()))?;
        Ok(Api::namespaced(client, &self.pool.namespace))
    }

    async fn client(&self) -> Result<Client, Error> {
        let mut config = match &self.pool.address {
            None => Config::incluster().map_err(|e| {
                refused(format!("the service does not run in a cluster ({e}): name one with --cluster"))
            })?,
            Some(address) => {
                let address: http::Uri = address.parse().map_err(|e| refused(format!("--cluster: {e}")))?;
                let mut config = Config::new(address);
                if let Some(ca) = &self.pool.ca {
                    let certificates =
                        kesmo_tls::certificates(ca.as_bytes()).map_err(|e| refused(format!("--ca: {e}")))?;
                    config.root_cert = Some(certificates);
                }
                config
            }
        };
        if let Some(secret) = &self.secret {
            config.auth_info.token = Some(secret.clone().into());
        }
        config.default_namespace.clone_from(&self.pool.namespace);
        (config.connect_timeout, config.read_timeout, config.write_timeout) = (Some(SOON), Some(SOON), Some(SOON));
        // Who asks does so again by itself, and says meanwhile why it waits.
        config.default_retry = false;
        Client::try_from(config).map_err(|e| refused(format!("a client of the cluster cannot be made: {e}")))
    }

    fn pod(&self, start: &Start) -> Result<Pod, Error> {
        let mut pod = template_of(&self.pool)?;
        pod.metadata.name = Some(start.name.clone());
        pod.metadata.namespace = Some(self.pool.namespace.clone());
        pod.metadata.labels.get_or_insert_with(BTreeMap::new).insert(POOL.into(), self.mark.clone());
        let spec = pod.spec.get_or_insert_with(PodSpec::default);
        // A worker that ends has been told to, or is missed; it is for the service to start another.
        spec.restart_policy = Some("Never".into());
        if let Some(account) = &self.pool.service_account {
            spec.service_account_name = Some(account.clone());
        }
        let Some(worker) = spec.containers.first_mut() else {
            return Err(refused("the template has no container"));
        };
        worker.image = Some(self.pool.image.clone());
        worker.args = Some(start.words.clone());
        let env = worker.env.get_or_insert_with(Vec::new);
        env.retain(|var| var.name != "KESMO_URL" && var.name != "KESMO_TOKEN");
        for (name, value) in [("KESMO_URL", &start.url), ("KESMO_TOKEN", &start.token)] {
            env.push(EnvVar { name: name.into(), value: Some(value.clone()), ..EnvVar::default() });
        }
        Ok(pod)
    }

    async fn found(&self) -> Result<Vec<Pod>, Error> {
        let params = ListParams::default().labels(&format!("{POOL}={}", self.mark));
        let api = self.api().await?;
        Ok(api.list(&params).await.map_err(|e| told("listing the pods", &e))?.items)
    }

    async fn delete(&self, name: &str) -> Result<(), Error> {
        match self.api().await?.delete(name, &DeleteParams::default().grace_period(0)).await {
            Ok(_) => Ok(()),
            Err(kube::Error::Api(status)) if status.code == 404 => Ok(()),
            Err(e) => Err(told("ending a pod", &e)),
        }
    }
}

/// How a pod stands, with its own reasons.
fn standing(pod: &Pod) -> Standing {
    let Some(status) = &pod.status else { return Standing::Coming("the pod is not looked at yet".into()) };
    let with = |first: &str, reason: Option<&String>, message: Option<&String>| {
        let more = [reason, message].into_iter().flatten().filter(|text| !text.is_empty());
        let more: Vec<String> = more.map(|text| shorten(text, 300)).collect();
        if more.is_empty() { first.to_owned() } else { format!("{first}: {}", more.join(": ")) }
    };
    let containers = status.container_statuses.iter().chain(&status.init_container_statuses).flatten();
    let states: Vec<_> = containers.filter_map(|c| Some((c, c.state.as_ref()?))).collect();
    let ended = states
        .iter()
        .find_map(|(_, state)| state.terminated.as_ref().filter(|t| t.exit_code != 0 || t.reason.is_some()));
    let phase = status.phase.as_deref().unwrap_or("Pending");
    match phase {
        "Running" => Standing::Running("the pod runs".into()),
        "Succeeded" => Standing::Ended("the pod ended".into()),
        "Failed" => match (status.reason.as_deref(), ended) {
            (Some("Evicted"), _) => Standing::Ended(with("the pod was evicted", None, status.message.as_ref())),
            (_, Some(t)) if t.reason.as_deref() == Some("OOMKilled") => {
                Standing::Ended("the pod was ended because the memory it may have was used up".into())
            }
            (_, Some(t)) => {
                let first = format!("the pod ended with status {}", t.exit_code);
                Standing::Ended(with(&first, t.reason.as_ref(), t.message.as_ref()))
            }
            _ => Standing::Ended(with("the pod failed", status.reason.as_ref(), status.message.as_ref())),
        },
        _ => {
            let waiting = states.iter().find_map(|(_, state)| state.waiting.as_ref());
            let unplaced =
                status.conditions.iter().flatten().find(|c| c.type_ == "PodScheduled" && c.status == "False");
            match (waiting, unplaced) {
                (Some(w), _) => Standing::Coming(with("the pod is pending", w.reason.as_ref(), w.message.as_ref())),
                (None, Some(c)) => Standing::Coming(with("the pod is pending", c.reason.as_ref(), c.message.as_ref())),
                (None, None) => Standing::Coming("the pod is pending".into()),
            }
        }
    }
}

#[async_trait]
impl Provider for Pods {
    async fn start(&self, start: &Start) -> Result<Started, Error> {
        let pod = self.pod(start)?;
        let started = Started { handle: start.name.clone(), link: None, said: "the cluster has the pod".into() };
        match self.api().await?.create(&PostParams::default(), &pod).await {
            Ok(_) => Ok(started),
            // It was asked for before, and nobody heard.
            Err(kube::Error::Api(status)) if status.code == 409 && status.reason == "AlreadyExists" => Ok(started),
            Err(e) => match told("starting a pod", &e) {
                Error::Away(why) if !was_not_reached(&e) => Err(Error::Unanswered(why)),
                other => Err(other),
            },
        }
    }

    async fn look(&self, machines: &[Known]) -> Result<Vec<(i64, Standing)>, Error> {
        let found = self.found().await?;
        let of = |machine: &Known| {
            let pod = found.iter().find(|pod| pod.metadata.name.as_deref() == Some(machine.name.as_str()));
            pod.map_or_else(
                || Standing::Gone("the pod is not there: somebody removed it, or it was never started".into()),
                standing,
            )
        };
        Ok(machines.iter().map(|machine| (machine.id, of(machine))).collect())
    }

    async fn end(&self, machine: &Known) -> Result<(), Error> {
        self.delete(&machine.name).await
    }

    async fn log(&self, machine: &Known) -> Result<Option<String>, Error> {
        let most = LogParams { limit_bytes: i64::try_from(LONGEST_LOG).ok(), ..LogParams::default() };
        match self.api().await?.logs(&machine.name, &most).await {
            Ok(text) => Ok(Some(text)),
            Err(kube::Error::Api(status)) if matches!(status.code, 400 | 404) => Ok(None),
            Err(e) => Err(told("a pod's log", &e)),
        }
    }

    async fn clear(&self, keep: &[Known]) -> Result<usize, Error> {
        let mut cleared = 0;
        for pod in self.found().await? {
            let name = pod.metadata.name.unwrap_or_default();
            if !keep.iter().any(|machine| machine.name == name) {
                self.delete(&name).await?;
                cleared += 1;
            }
        }
        Ok(cleared)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pool(template: Option<&str>) -> ClusterPool {
        ClusterPool {
            address: Some("http://127.0.0.1:1".into()),
            ca: None,
            namespace: "quay".into(),
            service_account: Some("boats".into()),
            image: "localhost/kesmo-worker:1".into(),
            template: template.map(str::to_owned),
        }
    }

    fn start() -> Start {
        Start {
            name: "boats-3".into(),
            words: vec!["join".into(), "--pool".into(), "boats".into()],
            url: "http://kesmo.quay.example".into(),
            token: "t".into(),
            run: None,
        }
    }

    const TEMPLATE: &str = "
apiVersion: v1
kind: Pod
metadata:
  labels: { line: lantern-quay }
spec:
  nodeSelector: { disk: fast }
  containers:
    - name: boat
      resources: { limits: { memory: 1Gi } }
      env: [{ name: TZ, value: UTC }, { name: KESMO_TOKEN, value: mine }]
    - name: tide-tables
      image: localhost/tides:1
";

    #[test]
    fn a_pod_is_the_template_with_the_worker_in_its_first_container() {
        let pods = Pods::new(pool(Some(TEMPLATE)), "m4rk".into(), None);
        let pod = serde_json::to_value(pods.pod(&start()).unwrap()).unwrap();
        assert_eq!(pod["metadata"]["name"], "boats-3");
        assert_eq!(pod["metadata"]["labels"], serde_json::json!({ "line": "lantern-quay", POOL: "m4rk" }));
        assert_eq!(
            (&pod["spec"]["restartPolicy"], &pod["spec"]["serviceAccountName"]),
            (&"Never".into(), &"boats".into())
        );
        let worker = &pod["spec"]["containers"][0];
        assert_eq!((&worker["name"], &worker["image"]), (&"boat".into(), &"localhost/kesmo-worker:1".into()));
        assert_eq!(worker["args"], serde_json::json!(["join", "--pool", "boats"]));
        assert_eq!(worker["resources"]["limits"]["memory"], "1Gi");
        let env = worker["env"].as_array().unwrap();
        let names: Vec<&str> = env.iter().filter_map(|e| e["name"].as_str()).collect();
        assert_eq!(names, ["TZ", "KESMO_URL", "KESMO_TOKEN"]);
        assert_eq!(env[2]["value"], "t", "the machine's own token, and no other");
        assert_eq!(pod["spec"]["containers"][1]["image"], "localhost/tides:1");
        assert!(Pods::new(pool(None), "m4rk".into(), None).pod(&start()).is_ok());
    }

    #[test]
    fn a_template_that_is_no_pod_says_what_is_wrong() {
        for (template, why) in [
            ("a: [", "it cannot be read"),
            ("kind: Pod", "apiVersion: v1 and kind: Pod, and says \"\" and \"Pod\""),
            ("apiVersion: apps/v1\nkind: Deployment", "says \"apps/v1\" and \"Deployment\""),
            ("apiVersion: v1\nkind: Pod\nspec: { containers: [] }", "spec.containers is empty"),
            (
                "apiVersion: v1\nkind: Pod\nspec: { containers: [{ name: a, imgae: b }] }",
                "a pod has no spec.containers[0].imgae",
            ),
            (
                "apiVersion: v1\nkind: Pod\nspec: { nodeSelecter: { a: b }, containers: [{ name: a }] }",
                "a pod has no spec.nodeSelecter",
            ),
            ("apiVersion: v1\nkind: Pod\nspec: { containers: 3 }", "it is no pod"),
        ] {
            let said = template_of(&pool(Some(template))).unwrap_err().to_string();
            assert!(said.starts_with("--template: ") && said.contains(why), "{template}: {said}");
        }
    }

    #[test]
    fn how_a_pod_stands_is_told_with_the_clusters_reasons() {
        let of = |status: Value| {
            standing(&serde_json::from_value(serde_json::json!({ "status": status })).expect("a pod's status"))
        };
        let container = |state: Value| serde_json::json!([{ "name": "w", "image": "", "imageID": "", "ready": false, "restartCount": 0, "state": state }]);
        let pulling =
            container(serde_json::json!({ "waiting": { "reason": "ImagePullBackOff", "message": "no such image" } }));
        let killed = container(serde_json::json!({ "terminated": { "exitCode": 137, "reason": "OOMKilled" } }));
        let broken = container(serde_json::json!({ "terminated": { "exitCode": 2, "reason": "Error" } }));
        let unplaced = serde_json::json!([{ "type": "PodScheduled", "status": "False", "reason": "Unschedulable", "message": "no room" }]);
        for (status, wanted) in [
            (serde_json::json!({ "phase": "Running" }), Standing::Running("the pod runs".into())),
            (serde_json::json!({ "phase": "Pending" }), Standing::Coming("the pod is pending".into())),
            (
                serde_json::json!({ "phase": "Pending", "containerStatuses": pulling }),
                Standing::Coming("the pod is pending: ImagePullBackOff: no such image".into()),
            ),
            (
                serde_json::json!({ "phase": "Pending", "conditions": unplaced }),
                Standing::Coming("the pod is pending: Unschedulable: no room".into()),
            ),
            (
                serde_json::json!({ "phase": "Failed", "reason": "Evicted", "message": "the disk is full" }),
                Standing::Ended("the pod was evicted: the disk is full".into()),
            ),
            (
                serde_json::json!({ "phase": "Failed", "containerStatuses": killed }),
                Standing::Ended("the pod was ended because the memory it may have was used up".into()),
            ),
            (
                serde_json::json!({ "phase": "Failed", "containerStatuses": broken }),
                Standing::Ended("the pod ended with status 2: Error".into()),
            ),
            (serde_json::json!({ "phase": "Succeeded" }), Standing::Ended("the pod ended".into())),
        ] {
            assert_eq!(of(status.clone()), wanted, "{status}");
        }
    }

    #[tokio::test]
    async fn a_cluster_that_does_not_answer_is_away() {
        let pods = Pods::new(pool(None), "m4rk".into(), Some("t".into()));
        let said = pods.start(&start()).await.unwrap_err();
        assert!(matches!(&said, Error::Away(why) if why.contains("does not answer (starting a pod)")), "{said:?}");
    }
}
