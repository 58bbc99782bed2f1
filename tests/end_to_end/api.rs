//! The REST API as programs call it.

use kesmo_client::{Client, Error};
use serde_json::{Value, json};

use crate::quay::{all_said, assert_says, shared, text, until};

struct Api {
    client: Client,
    runtime: tokio::runtime::Runtime,
}

impl Api {
    fn new() -> Self {
        let quay = shared();
        Self { client: quay.client(&quay.token()), runtime: tokio::runtime::Runtime::new().expect("a runtime") }
    }

    fn get(&self, path: &str) -> Result<Value, Error> {
        self.runtime.block_on(self.client.get(path, &[]))
    }

    fn post(&self, path: &str, body: &Value) -> Result<Value, Error> {
        self.runtime.block_on(self.client.post(path, body))
    }
}

/// The status and message of a refusal.
#[track_caller]
fn refused(result: Result<Value, Error>) -> (u16, String) {
    match result {
        Err(Error::Refused { status, message, .. }) => (status, message),
        other => panic!("not refused: {other:?}"),
    }
}

#[test]
fn wrong_calls_are_refused_in_words() {
    let (quay, api) = (shared(), Api::new());
    let folder = quay.tap("wrong-calls", "a b", "echo \"ok - $t\"", "");
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    let cases = [
        (api.post("/api/runs", &json!({})), 422, "name a suite"),
        (api.post("/api/runs", &json!({ "suite": "wrong-calls", "optoins": {} })), 422, "unknown field `optoins`"),
        (
            api.post("/api/runs", &json!({ "suite": "wrong-calls", "options": { "retries": -1 } })),
            422,
            "cannot be read",
        ),
        (
            api.post("/api/runs", &json!({ "suite": "wrong-calls", "options": { "retries": 101 } })),
            422,
            "the most is 100",
        ),
        (
            api.post("/api/runs", &json!({ "suite": "wrong-calls", "options": { "shards": 0 } })),
            422,
            "would run nothing",
        ),
        (
            api.post("/api/runs", &json!({ "suite": "wrong-calls", "options": { "set": { "x": "1" } } })),
            422,
            "no setting \"x\"",
        ),
        (
            api.post("/api/runs", &json!({ "suite": "wrong-calls", "options": { "env": "dock" } })),
            422,
            "no [env-for.dock]",
        ),
        (api.post("/api/runs", &json!({ "bundle": "x" })), 422, "is not a SHA-256"),
        (api.post("/api/runs", &json!({ "bundle": "0".repeat(64) })), 404, "upload it first"),
        (api.post("/api/tokens", &json!({ "name": "A B", "role": "reader" })), 422, "use 1 to 60 of a-z"),
        (api.post("/api/tokens", &json!({ "name": "first-admin", "role": "reader" })), 409, "already"),
        (api.get("/api/suites/wrong-call"), 404, "did you mean \"wrong-calls\"?"),
        (api.get("/api/runs/wrong-calls/999"), 404, "there is no run wrong-calls/999"),
        (api.get("/api/runs?verdict=green"), 422, "use passed, failed, void or stopped"),
        (api.get("/api/runs?label=release"), 422, "must be key=value"),
        (api.get("/api/blobs/nothing"), 404, "there is no artifact"),
        (api.get("/api/nothing/here"), 404, "openapi.json"),
    ];
    for (result, status, why) in cases {
        let (got, said) = refused(result);
        assert_eq!(got, status, "{said}");
        assert_says(&said, &[why]);
    }
}

#[test]
fn entries_are_paged_filtered_and_ordered() {
    let (quay, api) = (shared(), Api::new());
    let names: String = (10..40).map(|i| format!("page/t{i} ")).collect();
    let body = "[ $t = page/t12 ] && sleep 0.4; [ $t = page/t33 ] && echo \"not ok - $t\" || echo \"ok - $t\"";
    let (status, said) = quay.wait(&quay.tap("paged", &names, body, ""), &[]);
    assert_eq!(status, 1, "{said}");
    let get = |query: &str| api.get(&format!("/api/runs/paged/1/entries?{query}")).expect("entries");
    let tests = |page: &Value| -> Vec<String> {
        let entries = page["entries"].as_array().expect("a list").iter();
        entries.map(|e| e["test"].as_str().expect("a name").to_owned()).collect()
    };
    let first = get("limit=5");
    assert_eq!(first["total"], 30);
    assert_eq!(tests(&first)[..2], ["page/t33", "page/t10"], "what failed comes first");
    assert_eq!(tests(&get("limit=2&skip=28")), ["page/t38", "page/t39"]);
    assert_eq!(tests(&get("state=failed")), ["page/t33"]);
    assert_eq!(get("state=flaky")["total"], 0);
    assert_eq!(get("name=T3")["total"], 10);
    assert_eq!(tests(&get("order=slowest&limit=1")), ["page/t12"]);
    assert_eq!(refused(api.get("/api/runs/paged/1/entries?state=red")).0, 422);
    assert_eq!(refused(api.get("/api/runs/paged/1/entries?order=fast")).0, 422);
    assert_eq!(refused(api.get("/api/runs/paged/1/entries/30")).0, 404);
    let report: Value =
        serde_json::from_str(&text(&quay.kesmo(&["report", "paged/1", "--as", "json"]).stdout)).expect("JSON");
    assert_eq!(report["entries"].as_array().map(Vec::len), Some(30));
}

#[test]
fn runs_are_found_by_suite_label_and_verdict() {
    let (quay, api) = (shared(), Api::new());
    let folder = quay.tap(
        "found",
        "a",
        "[ -n \"$BAD\" ] && echo \"not ok - $t\" || echo \"ok - $t\"",
        "[env-for.bad]\nBAD = \"1\"",
    );
    quay.wait(&folder, &["--label", "release=31", "--label", "quay=north"]);
    quay.wait(&folder, &["--label", "release=32", "--env", "bad"]);
    quay.wait(&folder, &["--label", "release=32"]);
    let found = |query: &str| -> Vec<String> {
        let runs = api.get(&format!("/api/runs?suite=found&{query}")).expect("runs");
        runs.as_array().expect("a list").iter().map(|r| r["name"].as_str().expect("a name").to_owned()).collect()
    };
    assert_eq!(found(""), ["found/3", "found/2", "found/1"], "newest first");
    assert_eq!(found("label=release=32"), ["found/3", "found/2"]);
    assert_eq!(found("label=release=31,quay=north"), ["found/1"]);
    assert_eq!(found("label=release=31,quay=south"), Vec::<String>::new());
    assert_eq!(found("verdict=failed"), ["found/2"]);
    assert_eq!(found("limit=1&skip=1"), ["found/2"]);
    let both = quay.kesmo(&["runs", "--label", "release=31", "--label", "release=32"]);
    assert_eq!(both.status.code(), Some(2));
    assert_says(&all_said(&both), &["--label gives \"release\" twice"]);
}

#[test]
fn a_removed_suite_is_gone_from_the_list_and_its_runs_stay() {
    let quay = shared();
    let folder = quay.tap("removed", "a", "echo \"ok - $t\"", "");
    quay.wait(&folder, &[]);
    assert_eq!(quay.kesmo(&["suite", "remove", "removed"]).status.code(), Some(0));
    assert!(!all_said(&quay.kesmo(&["suite", "list"])).contains("removed"));
    assert_eq!(quay.kesmo(&["start", "removed"]).status.code(), Some(2));
    assert_says(&all_said(&quay.kesmo(&["show", "removed/1"])), &["● passed  removed/1"]);
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "added again, its numbers go on: {said}");
    assert_says(&said, &["removed/2"]);
}

#[test]
fn a_bundle_must_be_what_its_name_says() {
    let quay = shared();
    let put = |path: &str, content: &'static [u8]| {
        let runtime = tokio::runtime::Runtime::new().expect("a runtime");
        runtime.block_on(async {
            let folder = tempfile::tempdir().expect("a folder");
            std::fs::write(folder.path().join("content"), content).expect("a file");
            let mut curl = std::process::Command::new("curl");
            curl.args(["-s", "-X", "PUT", "--data-binary", &format!("@{}", folder.path().join("content").display())]);
            curl.args(["-H", &format!("Authorization: Bearer {}", quay.token()), &format!("{}{path}", quay.url)]);
            text(&curl.output().expect("curl runs").stdout)
        })
    };
    assert_says(&put(&format!("/api/bundles/{}", "0".repeat(64)), b"x"), &["what arrived has the SHA-256"]);
    let name = kesmo_wire::Digest::of(b"no archive");
    assert_says(&put(&format!("/api/bundles/{name}"), b"no archive"), &["not a gzipped tar archive"]);
    assert_says(&put("/api/bundles/../../etc/passwd", b"x"), &["there is nothing at"]);
    let refused = Api::new().post("/api/runs", &json!({ "bundle": name }));
    assert!(refused.is_err(), "what is no bundle cannot be run");
}

#[test]
fn the_document_describes_every_call_that_is_made() {
    let document = Api::new().get("/api/openapi.json").expect("the document");
    assert!(document["openapi"].as_str().is_some_and(|v| v.starts_with("3.")));
    let paths = document["paths"].as_object().expect("paths");
    for path in
        ["/api/runs", "/api/runs/{suite}/{number}/live", "/api/suites/{suite}/tests", "/api/tokens/{name}", "/api/live"]
    {
        assert!(paths.contains_key(path), "{path}");
    }
    let mut ids = std::collections::BTreeSet::new();
    for one in paths.values().flat_map(|p| p.as_object().expect("calls").values()) {
        let id = one["operationId"].as_str().expect("an id").to_owned();
        assert!(ids.insert(id.clone()), "the id {id} is used twice");
    }
}

#[test]
fn workers_tell_what_their_slots_do() {
    let (quay, api) = (shared(), Api::new());
    let folder = quay.tap("slots", "dock/one", "sleep 1; echo \"ok - $t\"", "");
    let run = quay.start_run(&folder, &[]);
    let slot = until("a slot runs the test", || {
        let workers = api.get("/api/workers").expect("workers");
        let slots =
            workers.as_array().expect("a list").iter().flat_map(|w| w["slots"].as_array().expect("slots").clone());
        slots.into_iter().find(|s| s["run"] == run && s["doing"] == "dock/one")
    });
    assert!(slot["since"].is_string());
    assert_says(&all_said(&quay.kesmo(&["workers"])), &["heron", "1 of 2"]);
    assert_eq!(quay.kesmo(&["watch", &run]).status.code(), Some(0));
}

#[test]
fn artifacts_of_tests_cannot_act_as_the_console() {
    let quay = shared();
    let body = "echo '<script>alert(1)</script>' > \"$KESMO_ARTIFACTS/page.html\"; echo \"ok - $t\"";
    quay.wait(&quay.tap("page", "a", body, ""), &[]);
    let files = quay.json(&["artifacts", "page/1"]);
    assert_eq!((files[0]["path"].as_str(), files[0]["attempt"].as_u64()), (Some("page.html"), Some(1)));
    let mut curl = std::process::Command::new("curl");
    let url = format!("{}/api/blobs/{}", quay.url, files[0]["digest"].as_str().expect("a digest"));
    curl.args(["-s", "-D", "-", "-o", "/dev/null", "-H", &format!("Authorization: Bearer {}", quay.token()), &url]);
    let head = text(&curl.output().expect("curl runs").stdout).to_lowercase();
    assert_says(&head, &["content-security-policy: sandbox", "x-content-type-options: nosniff", "text/html"]);
}

/// The figures as a gatherer reads them: names with labels, and values. Every line is one that OpenMetrics 1.0 allows here.
fn figures(text: &str) -> std::collections::BTreeMap<String, f64> {
    let mut found = std::collections::BTreeMap::new();
    let mut described = std::collections::BTreeSet::new();
    assert!(text.ends_with("# EOF\n"), "{text}");
    for line in text.lines() {
        if let Some(about) = line.strip_prefix("# ") {
            let word = about.split(' ').nth(1).unwrap_or_default();
            if about.starts_with("TYPE ") {
                assert!(described.insert(word.to_owned()), "{word} is described once");
            }
            continue;
        }
        let (name, value) = line.rsplit_once(' ').unwrap_or_else(|| panic!("{line}"));
        let base = name.split('{').next().unwrap_or_default();
        let family = ["_total", "_bucket", "_sum", "_count", "_info"]
            .iter()
            .fold(base, |n, end| n.strip_suffix(end).unwrap_or(n));
        assert!(described.contains(family), "{line}: {family} is not described");
        assert!(found.insert(name.to_owned(), value.parse().expect("a number")).is_none(), "{name} stands once");
    }
    found
}

#[test]
fn figures_are_told_as_open_metrics_says() {
    let quay = crate::quay::Quay::open();
    let _worker = quay.worker("heron", 2);
    let folder = quay.tap(
        "counted",
        "a b c",
        "if [ $t = a ]; then echo \"not ok - $t\"; else echo \"ok - $t\"; fi",
        "[retry]\ntimes = 1",
    );
    assert_eq!(quay.wait(&folder, &[]).0, 1);
    let bearer = format!("Bearer {}", quay.token());
    let get = || crate::holes::call(&quay, "GET", "/metrics", &[("Authorization", &bearer)], b"");
    assert_eq!(crate::holes::call(&quay, "GET", "/metrics", &[], b"").0, 401);
    let (status, said, _) = get();
    assert_eq!(status, 200, "{said}");
    let found = figures(&said);
    let of = |name: &str| found.get(name).copied().unwrap_or_else(|| panic!("{name} in {said}"));
    assert_eq!(of("kesmo_runs_ended_total{verdict=\"failed\"}"), 1.0);
    assert_eq!((of("kesmo_results_total{ended=\"failed\"}"), of("kesmo_results_total{ended=\"passed\"}")), (2.0, 2.0));
    assert_eq!((of("kesmo_slots{pool=\"main\",state=\"idle\"}"), of("kesmo_runs{phase=\"running\"}")), (2.0, 0.0));
    assert_eq!(of("kesmo_run_duration_seconds_count{verdict=\"failed\"}"), 1.0);
    assert!(of("kesmo_commit_duration_seconds_count") > 2.0 && of("kesmo_rows_total") > 4.0);
    assert!(of("kesmo_database_connections{state=\"idle\"}") >= 1.0);
    assert_eq!(of("kesmo_notice_messages{state=\"trying\"}"), 0.0);
    assert!(found.keys().any(|name| name.starts_with("kesmo_build_info{version=")), "{said}");
    let calls = |text: &str| -> f64 {
        let of_route = |(name, _): &(String, f64)| {
            name.starts_with("kesmo_http_requests_total") && name.contains("route=\"/metrics\"")
        };
        figures(text).into_iter().filter(of_route).map(|(_, n)| n).sum()
    };
    let before = calls(&said);
    assert!((calls(&get().1) - before - 1.0).abs() < 0.5, "each call counts once");
    // What is anybody's text is in no label.
    crate::holes::call(&quay, "GET", "/nowhere/at%22all%0A", &[], b"");
    assert!(!get().1.contains("nowhere"));
}
