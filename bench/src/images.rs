//! What an image costs: the same batches in containers and bare, on an engine of the bench's own.

use std::{
    fs,
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use chrono::{DateTime, Utc};

use crate::Line;

/// Batches that are measured.
const BATCHES: usize = 30;
const IMAGE: &str = "localhost/quay-bench:1";

pub struct Engine {
    dir: tempfile::TempDir,
    service: Child,
}

impl Drop for Engine {
    fn drop(&mut self) {
        drop(self.service.kill());
        drop(self.service.wait());
    }
}

pub fn podman(dir: &Path) -> Command {
    let mut command = Command::new("podman");
    command.env("CONTAINERS_CONF", dir.join("containers.conf"));
    command.args(["--storage-driver", "vfs", "--root"]).arg(dir.join("store")).arg("--runroot").arg(dir.join("run"));
    command
}

impl Engine {
    pub fn start() -> Self {
        let dir = tempfile::tempdir().expect("a folder");
        let conf = "[engine]\nruntime = \"runc\"\ncgroup_manager = \"cgroupfs\"\nevents_logger = \"file\"\n\
                    [containers]\ndefault_ulimits = [\"nofile=1024:1024\", \"nproc=1000:1000\"]\n";
        fs::write(dir.path().join("containers.conf"), conf).expect("the configuration");
        let root = dir.path().join("root");
        fs::create_dir_all(root.join("bin")).expect("a folder");
        fs::copy("/bin/busybox", root.join("bin/busybox")).expect("Debian's package busybox-static");
        std::os::unix::fs::symlink("busybox", root.join("bin/sh")).expect("a shell");
        let archive = dir.path().join("root.tar");
        assert!(
            Command::new("tar").arg("-C").arg(&root).arg("-cf").arg(&archive).arg(".").status().expect("tar").success()
        );
        let imported = podman(dir.path()).args(["import", "--quiet"]).arg(&archive).arg(IMAGE).output();
        assert!(imported.expect("podman, of Debian's package").status.success());
        let socket = dir.path().join("socket");
        let address = format!("unix://{}", socket.display());
        let service = podman(dir.path())
            .args(["system", "service", "--time=0", &address])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("podman, of Debian's package");
        let since = Instant::now();
        while !socket.exists() && since.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(20));
        }
        Self { dir, service }
    }

    /// Where its store is, and its socket.
    pub fn folder(&self) -> &Path {
        self.dir.path()
    }

    /// How long a run takes from its first batch to its verdict, in seconds.
    fn run(&self, suite: &str, container: bool) -> f64 {
        let folder = self.dir.path().join(format!("suite-{container}"));
        fs::create_dir_all(&folder).expect("a folder");
        let image = if container { format!("[container]\nimage = \"{IMAGE}\"\n") } else { String::new() };
        fs::write(folder.join("kesmo.toml"), format!("suite = \"quay-bench\"\n{image}{suite}"))
            .expect("the suite file");
        let report = self.dir.path().join("report.json");
        let status = Command::new("target/release/kesmo")
            .args([
                "here",
                "--slots",
                "1",
                "--engine",
                &format!("unix://{}/socket", self.dir.path().display()),
                "--report",
            ])
            .arg(format!("json={}", report.display()))
            .arg(&folder)
            .env("XDG_CACHE_HOME", self.dir.path().join(format!("cache-{container}")))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status()
            .expect("target/release/kesmo");
        assert!(status.success(), "the run passes");
        let report: serde_json::Value =
            serde_json::from_slice(&fs::read(&report).expect("the report")).expect("the report is JSON");
        let at =
            |key: &str| report["run"][key].as_str().and_then(|at| at.parse::<DateTime<Utc>>().ok()).expect("a time");
        (at("finished_at") - at("began_at")).as_seconds_f64()
    }
}

/// What a process in an image takes beyond the same process bare.
pub fn images(_: &tokio::runtime::Runtime) -> Vec<Line> {
    let engine = Engine::start();
    let many = format!(
        "[tests]\nlist = [\"sh\", \"-c\", \"i=0; while [ $i -lt {BATCHES} ]; do echo t$i; i=$((i+1)); done\"]\nrun = [\"sh\", \"-c\", \"exit 0\", \"{{name}}\"]\nresults = \"exit\"\n"
    );
    let fed = format!(
        "[tests]\nlist = [\"sh\", \"-c\", \"i=0; while [ $i -lt {BATCHES} ]; do echo t$i; i=$((i+1)); done\"]\nrun = [\"sh\", \"-c\", \"while read -r t; do echo ok - $t; done\"]\nfeed = \"lines\"\nresults = \"tap\"\n"
    );
    let mut lines = Vec::new();
    for (what, suite, count) in [
        ("a process in an image, beyond the same bare", many, BATCHES),
        ("a fed slot in an image, beyond the same bare", fed, 1),
    ] {
        // Once before, so that both find everything in place.
        engine.run(&suite, true);
        let (bare, boxed) = (engine.run(&suite, false), engine.run(&suite, true));
        lines.push(Line {
            what,
            measured: format!("{boxed:.2} s for {BATCHES} tests"),
            compared_with: format!("{bare:.2} s bare"),
            figure: (boxed - bare) / count as f64,
            bound: 0.35,
            unit: " s",
        });
    }
    lines
}
