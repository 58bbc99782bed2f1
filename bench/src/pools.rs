//! What a pool costs that starts its own machines: from no machine to the first test, and from the last test to none.

use std::{
    process::Command,
    time::{Duration, Instant},
};

use kesmo_core::{
    fleet::{EnginePool, How, Pool},
    time::Span,
};
use kesmo_wire::api::{NewPool, NewRun, PoolOf, Run};

use crate::{
    Line,
    images::{Engine, podman},
    quay::Quay,
};

const WORKER: &str = "localhost/kesmo-worker:bench";
/// Runs that find no machine.
const TIMES: usize = 5;
const IDLE: Span = Span::seconds(2);

/// Containers of a worker image with the release program.
pub fn pools(runtime: &tokio::runtime::Runtime) -> Vec<Line> {
    let engine = Engine::start();
    let folder = tempfile::tempdir().expect("a folder");
    let made = Command::new("scripts/worker-image").arg("target/release/kesmo").arg(folder.path()).status();
    assert!(made.expect("the script runs").success(), "the worker image's files are gathered");
    let built = podman(engine.folder()).args(["build", "--quiet", "--tag", WORKER]).arg(folder.path()).output();
    assert!(built.expect("podman, of Debian's package").status.success(), "the worker image is built");
    runtime.block_on(measured(&engine))
}

async fn measured(engine: &Engine) -> Vec<Line> {
    let quay = Quay::open(0, 1).await;
    let address = Some(format!("unix://{}/socket", engine.folder().display()));
    let how = How::Engine(EnginePool {
        address,
        certificates: None,
        image: WORKER.into(),
        network: "host".into(),
        memory: None,
        cpus: None,
    });
    let pool = Pool { how, most: 1, idle: IDLE, ..Pool::fixed() };
    let new = NewPool { pool, secret: None, replace: false };
    let _: PoolOf = quay.client.put("/api/pools/night", &new).await.expect("a pool");
    let list = "[\"sh\", \"-c\", \"echo a; echo b\"]";
    let bundle = quay
        .suite_of(
            "sounding",
            list,
            "[\"sh\", \"-c\", \"for t in \\\"$@\\\"; do echo ok - $t; done\", \"sh\", \"{names}\"]",
            &[],
        )
        .await;
    let (mut first, mut gone) = (Vec::new(), Vec::new());
    for _ in 0..TIMES {
        let began = Instant::now();
        let new = NewRun { bundle: Some(bundle.clone()), pool: Some("night".into()), ..NewRun::default() };
        let run: Run = quay.client.post("/api/runs", &new).await.expect("a run");
        let path = format!("/api/runs/{}", run.summary.name);
        loop {
            let run: Run = quay.client.get(&path, &[]).await.expect("the run");
            if run.summary.tally.done() > 0 {
                first.push(began.elapsed().as_secs_f64());
                break;
            }
            assert!(began.elapsed() < Duration::from_secs(60), "the first test does not come: {:?}", run.summary);
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        let ended = Instant::now();
        loop {
            let pool: PoolOf = quay.client.get("/api/pools/night", &[]).await.expect("the pool");
            if pool.machines.iter().all(|machine| machine.state.is_over()) {
                gone.push(ended.elapsed().as_secs_f64() - IDLE.as_seconds());
                break;
            }
            assert!(ended.elapsed() < Duration::from_secs(60), "the machine does not go: {:?}", pool.machines);
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
    let longest = |of: &[f64]| of.iter().copied().fold(0.0, f64::max);
    let mean = |of: &[f64]| of.iter().sum::<f64>() / of.len() as f64;
    vec![
        Line {
            what: "no machine to the first test's end, in a pool of containers",
            measured: format!("{:.2} s mean of {TIMES}", mean(&first)),
            compared_with: "–".into(),
            figure: longest(&first),
            bound: 3.0,
            unit: " s",
        },
        Line {
            what: "the last test to no machine, beyond --idle",
            measured: format!("{:.2} s mean of {TIMES}", mean(&gone)),
            compared_with: format!("--idle {IDLE}"),
            figure: longest(&gone),
            bound: 5.0,
            unit: " s",
        },
    ]
}
