use super::*;
use crate::request::Values;

const QUAY: &str = r#"
[start]
method  = "POST"
address = "http://ci.quay.example/jobs?for={run}"
headers = { Authorization = "Bearer {secret}" }
body    = { pipeline = "quay", values = { KESMO_TOKEN = "{token}", NOTE = "{{as it is}}" }, keep = 3 }
job     = "/id"
link    = "/page"
[state]
address = "http://ci.quay.example/jobs/{job}"
at      = "/state"
waiting = ["queued"]
running = ["running"]
ended   = ["passed", "failed"]
why     = "/why"
[log]
address = "{job}/log"
"#;

fn quay() -> CiPool {
    CiPool::parse("quay.toml", QUAY).expect("it can be read")
}

fn refused(change: (&str, &str)) -> String {
    assert!(QUAY.contains(change.0), "{change:?}");
    CiPool::parse("quay.toml", &QUAY.replacen(change.0, change.1, 1)).unwrap_err().to_string()
}

#[test]
fn a_description_that_cannot_be_says_where_and_what_to_do() {
    for (change, why) in [
        (("[start]", "[begin]"), "unknown field `begin`"),
        (("method  = \"POST\"", "method = \"post\""), "unknown variant `post`"),
        (
            ("address = \"http://ci.quay.example/jobs?", "adress = \"http://ci.quay.example/jobs?"),
            "unknown field `adress`",
        ),
        (("{run}", "{ruin}"), "start.address: {ruin} stands for nothing here: did you mean {run}?"),
        (("{secret}", "{job}"), "start.headers: {job} stands for nothing here"),
        (("{token}", "{token"), "start.body: a { stands alone: write {{ for one"),
        (("http://ci.quay.example/jobs?", "ftp://ci.quay.example/jobs?"), "start.address: it begins with http://"),
        (("\"/id\"", "\"id\""), "start.job: \"id\" is not a valid JSON Pointer"),
        (("\"/id\"", "\"header:\""), "start.job: \"\" is not the name of a header"),
        (("Authorization", "\"Autho rization\""), "start.headers: \"Autho rization\" is not the name of a header"),
        (("at      = \"/state\"", "at = \"state\""), "state.at:"),
        (("[\"running\"]", "[]"), "state.running is empty"),
        (("[\"running\"]", "[\"queued\"]"), "\"queued\" is in state.waiting and in state.running"),
    ] {
        let said = refused(change);
        assert!(said.starts_with("quay.toml: ") && said.contains(why), "{change:?}: {said}");
    }
    assert!(quay().needs_secret());
}

#[test]
fn a_value_stays_where_it_was_put() {
    let evil = "x\", \"pipeline\": \"other/../";
    let values = Values::from([("run", "gate/7&a=b"), ("token", evil), ("secret", "s3")]);
    let filled = quay().start.asked().filled(&values).unwrap();
    assert_eq!(filled.address, "http://ci.quay.example/jobs?for=gate%2F7%26a%3Db");
    assert_eq!(filled.headers[0], ("authorization".into(), "Bearer s3".into()));
    assert_eq!(filled.headers[1], ("content-type".into(), "application/json".into()));
    let body: Value = serde_json::from_slice(&filled.body.unwrap()).unwrap();
    assert_eq!(body["values"], serde_json::json!({ "KESMO_TOKEN": evil, "NOTE": "{as it is}" }));
    assert_eq!((&body["pipeline"], &body["keep"]), (&Value::from("quay"), &Value::from(3)));
    let torn = Values::from([("run", "a"), ("token", "b"), ("secret", "s\r\nevil: 1")]);
    assert!(quay().start.asked().filled(&torn).unwrap_err().to_string().contains("what no header may"));
    let form = Asked {
        address: "http://a/".into(),
        headers: BTreeMap::from([("Content-Type".into(), "application/x-www-form-urlencoded".into())]),
        body: Some(Value::from("token={token}&x=1")),
        ..Asked::default()
    };
    let values = Values::from([("token", "a&b=c")]);
    assert_eq!(form.filled(&values).unwrap().body.unwrap(), b"token=a%26b%3Dc&x=1");
}

#[test]
fn a_job_is_found_in_the_answer_or_in_a_header() {
    let none = |_: &str| None;
    let start = quay().start;
    let job = start.job_in(r#"{"id": 12, "page": "http://ci.quay.example/12"}"#, none).unwrap();
    assert_eq!(job, Job { id: "12".into(), link: Some("http://ci.quay.example/12".into()) });
    let job = start.job_in(r#"{"id": "a", "page": "javascript:alert(1)"}"#, none).unwrap();
    assert_eq!(job.link, None, "a page that is none is not linked");
    for (answer, why) in [
        ("<html>", "the answer is not JSON"),
        (r#"{"Id": 1}"#, "/id finds nothing in the answer"),
        (r#"{"id": {}}"#, "/id is an object in the answer"),
        (r#"{"id": ""}"#, "which cannot be"),
        (r#"{"id": "a\nb"}"#, "which cannot be"),
    ] {
        let said = start.job_in(answer, none).unwrap_err().to_string();
        assert!(said.contains(why), "{answer}: {said}");
    }
    let start = Start { job: "header:location".into(), link: None, ..start };
    let at = |name: &str| (name == "location").then(|| "http://ci.quay.example/q/12/".to_owned());
    let job = start.job_in("no json at all", at).unwrap();
    let log = quay().log.unwrap().filled(&Values::from([("job", job.id.as_str())])).unwrap();
    assert_eq!(log.address, "http://ci.quay.example/q/12/log", "an address is used as it is");
    let elsewhere = |name: &str| (name == "location").then(|| "http://ci.quay.example.evil/q/12".to_owned());
    let said = start.job_in("", elsewhere).unwrap_err().to_string();
    assert!(said.contains("by an address of another server"), "{said}");
    assert!(start.job_in("", none).unwrap_err().to_string().contains("no header location"));
}

#[test]
fn a_state_is_known_or_told_to_be_unknown() {
    let state = |answer: &str| quay().state_in(answer);
    assert_eq!(
        state(r#"{"state": "queued", "why": "no agent is free"}"#),
        Ok(JobState::Waiting("queued: no agent is free".into()))
    );
    assert_eq!(state(r#"{"state": "running", "why": ""}"#), Ok(JobState::Running("running".into())));
    assert_eq!(state(r#"{"state": "failed"}"#), Ok(JobState::Ended("failed".into())));
    let said = state(r#"{"state": "paused"}"#).unwrap_err().to_string();
    assert!(said.contains("\"paused\"") && said.contains("known are queued, running, passed, failed"), "{said}");
    assert!(state("gone").unwrap_err().to_string().contains("not JSON"));
    assert!(state("{}").unwrap_err().to_string().contains("/state finds nothing in the answer"));
}
