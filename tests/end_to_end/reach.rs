//! Private addresses: offered by a machine that can reach them, and reached by the processes of runs through the service.

use std::{
    fs,
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    path::PathBuf,
    process::Stdio,
};

use crate::{
    engine::{Engine, IMAGE, suite},
    quay::{Process, Quay, all_said, assert_says, spawn, text, until},
};

/// A gate in a private network. What begins with `e` comes back as it is, until it ends; `g` is answered with that many
/// pieces of a pattern.
fn gate(pieces: usize) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("its address").port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            std::thread::spawn(move || serve(stream, pieces));
        }
    });
    port
}

fn serve(mut stream: TcpStream, pieces: usize) -> Option<()> {
    let mut first = [0];
    stream.read_exact(&mut first).ok()?;
    if first[0] == b'g' {
        let piece = pattern();
        (0..pieces).try_for_each(|_| stream.write_all(&piece)).ok()?;
        return Some(());
    }
    let mut buffer = vec![0; 64 << 10];
    loop {
        match stream.read(&mut buffer).ok()? {
            0 => return Some(()),
            read => stream.write_all(&buffer[..read]).ok()?,
        }
    }
}

/// A piece of a length that no buffer has.
fn pattern() -> Vec<u8> {
    (0..65_537).map(|i: u32| (i / 7 + i % 251) as u8).collect()
}

fn offer(quay: &Quay, token: &str, address: &str) -> Process {
    let mut command = quay.command(&["reach", address]);
    command.env("KESMO_TOKEN", token);
    let log = fs::OpenOptions::new().create(true).append(true).open(quay.path("reach.log")).expect("a log");
    command.stdout(Stdio::null()).stderr(log);
    let process = Process(spawn(command));
    let name = address.split('=').next().expect("a name");
    until("it is offered", || all_said(&quay.kesmo(&["reach"])).contains(&format!("⇄ {name} ")).then_some(()));
    process
}

fn take_back(quay: &Quay, offer: Process) {
    drop(offer);
    until("it is taken back", || all_said(&quay.kesmo(&["reach"])).contains("Nothing is offered").then_some(()));
}

/// A suite with one test, in Python.
fn python(quay: &Quay, name: &str, script: &str, more: &str) -> PathBuf {
    let folder = quay.path(&format!("suite-{name}"));
    fs::create_dir_all(&folder).expect("a folder");
    let file = format!(
        "suite = \"{name}\"\n{more}\n[tests]\nlist = [\"echo\", \"a\"]\nrun = [\"python3\", \"tests.py\", \"{{names}}\"]\nresults = \"tap\"\n"
    );
    fs::write(folder.join("kesmo.toml"), file).expect("the suite file");
    let head = "import hashlib, os, socket, sys, threading, time\nhost, port = os.environ['KESMO_REACH_GATE'].split(':')\n\
                def dial():\n    return socket.create_connection((host, int(port)), 20)\n\
                def rest(s):\n    said = b''\n    while True:\n        piece = s.recv(1 << 16)\n        if not piece:\n            return said\n        said += piece\n";
    fs::write(folder.join("tests.py"), format!("{head}{script}")).expect("the script");
    folder
}

const NEEDS: &str = "[reach]\nneeds = [\"gate\"]";

#[test]
fn a_run_reaches_a_private_address_once_it_is_offered() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    // A gigabyte.
    let pieces = 15_259;
    let port = gate(pieces);
    // Many at once, each of which says that it has no more while it still reads; and a gigabyte through one.
    let script = format!(
        r#"
piece = bytes((i // 7 + i % 251) & 255 for i in range(65537))
wanted = hashlib.sha256()
for _ in range({pieces}):
    wanted.update(piece)
failed = []
def one(i):
    with dial() as s:
        sent = b'e' + bytes([i]) * 100000
        s.sendall(sent)
        s.shutdown(socket.SHUT_WR)
        if rest(s) != sent[1:]:
            failed.append(i)
all = [threading.Thread(target=one, args=(i,)) for i in range(60)]
[t.start() for t in all]
[t.join() for t in all]
hash = hashlib.sha256()
with dial() as s:
    s.sendall(b'g')
    while True:
        piece = s.recv(1 << 18)
        if not piece:
            break
        hash.update(piece)
print('failed', failed, hash.hexdigest())
print('ok - a' if not failed and hash.hexdigest() == wanted.hexdigest() else 'not ok - a')
"#
    );
    let folder = python(&quay, "reaching", &script, &format!("{NEEDS}\n[limits]\ntest = \"2m\""));
    let run = quay.start_run(&folder, &[]);
    until("it says what it waits for", || {
        let said = all_said(&quay.kesmo(&["show", &run]));
        said.contains(
            "waiting for gate, which nobody lets be reached: on a machine that can, `kesmo reach gate=HOST:PORT --pool main`",
        ).then_some(())
    });
    let offer = offer(&quay, &quay.token(), &format!("gate=127.0.0.1:{port}"));
    until("it is over", || (quay.run(&run)["phase"] == "finished").then_some(()));
    let over = quay.run(&run);
    assert_eq!(over["verdict"], "passed", "{}", text(&quay.kesmo(&["log", &run, "a"]).stdout));
    assert_eq!(over["reach"], serde_json::json!(["gate"]));
    assert_says(&over["notes"].to_string(), &[&format!("gate is 127.0.0.1:{port} on "), "offered by first-admin"]);
    assert_says(&all_said(&quay.kesmo(&["show", &run])), &["⇄ reaches gate"]);
    let second = quay.kesmo(&["reach", &format!("gate=127.0.0.1:{port}")]);
    assert_eq!(second.status.code(), Some(2), "{}", all_said(&second));
    assert_says(&all_said(&second), &["gate is offered to the pool main already", "by first-admin"]);
    take_back(&quay, offer);
}

#[test]
fn what_cannot_be_reached_is_told_and_a_connection_ends_with_its_offer() {
    let quay = Quay::open();
    let _worker = quay.worker("heron", 2);
    let script = "
try:
    with dial() as s:
        s.sendall(b'e')
        print('it said', rest(s))
except OSError as e:
    print('it failed', e)
print('ok - a')
";
    let folder = python(&quay, "unreached", script, NEEDS);
    let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let nobody = offer(&quay, &quay.token(), &format!("gate=127.0.0.1:{closed}"));
    let (status, said) = quay.wait(&folder, &[]);
    assert_eq!(status, 0, "{said}");
    assert_says(&said, &[&format!("gate could not be reached: 127.0.0.1:{closed} takes no connection on "), "refused"]);
    // Else the next offer of that name may be refused, and this one be taken for it.
    take_back(&quay, nobody);
    let offer = offer(&quay, &quay.token(), &format!("gate=127.0.0.1:{}", gate(0)));
    let run = quay.start_run(&folder, &[]);
    until("its connection is open", || {
        let offered: serde_json::Value = quay.json(&["reach"]);
        (offered[0]["open"] == 1).then_some(())
    });
    drop(offer);
    until("it is over", || (quay.run(&run)["phase"] == "finished").then_some(()));
    assert_says(&text(&quay.kesmo(&["log", &run, "a"]).stdout), &["it said b''"]);
    assert_says(&quay.run(&run)["notes"].to_string(), &["gate can be reached no more: it was taken back"]);
}

#[test]
fn only_those_with_the_right_offer_and_only_runs_that_say_so_reach() {
    let quay = Quay::open();
    let worker = quay.worker("heron", 1);
    let token =
        |name: &str, role: &str| text(&quay.kesmo(&["token", "add", name, "--role", role]).stdout).trim().to_owned();
    let (reader, operator) = (token("rea", "reader"), token("ope", "operator"));
    let refused = quay.kesmo_as(&reader, &["reach", "gate=127.0.0.1:9"]);
    assert_eq!(refused.status.code(), Some(2), "{}", all_said(&refused));
    assert_says(&all_said(&refused), &["the token may not offer addresses"]);
    for (address, wanted) in [
        ("gate", "write NAME=HOST:PORT"),
        ("Gate!=a:1", "the name"),
        ("gate=a", "has no port"),
        ("gate=a:0", "is not a port"),
        ("gate=a b:1", "is not the name or number of a machine"),
    ] {
        let said = quay.kesmo(&["reach", address]);
        assert_eq!(said.status.code(), Some(2), "{address}");
        assert_says(&all_said(&said), &[wanted]);
    }
    let _offer = offer(&quay, &operator, &format!("gate=127.0.0.1:{}", gate(0)));
    let folder = python(&quay, "rights", "time.sleep(600)\n", "[limits]\ntest = \"20m\"");
    let script =
        fs::read_to_string(folder.join("tests.py")).unwrap().replace("os.environ['KESMO_REACH_GATE']", "'a:1'");
    fs::write(folder.join("tests.py"), script).unwrap();
    let run = quay.start_run(&folder, &[]);
    until("it runs", || (quay.run(&run)["phase"] == "running").then_some(()));
    let of_worker = fs::read_to_string(quay.path("token-heron")).unwrap();
    let trust = kesmo_tls::Trust::default();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let asked = |path: &str, token: &str| {
        let asked = runtime.block_on(trust.upgraded(&quay.url, path, token, "kesmo-reach"));
        asked.map(drop).map_err(|e| e.to_string())
    };
    let of_run = format!("/api/work/reach/{run}/gate");
    assert_says(&asked(&of_run, &of_worker).unwrap_err(), &["does not say that it reaches \\\"gate\\\""]);
    assert_says(&asked(&of_run, &reader).unwrap_err(), &["403", "right to lend"]);
    assert_says(&asked("/api/work/reach/rights/99/gate", &of_worker).unwrap_err(), &["rights/99 does not run here"]);
    assert_says(&asked("/api/reach/connections/none", &operator).unwrap_err(), &["nobody waits for this connection"]);
    assert_says(&asked("/api/reach/connections/none", &of_worker).unwrap_err(), &["403"]);
    assert!(quay.kesmo(&["stop", &run]).status.success());
    drop(worker);
    // Here no service is between: the machine reaches it itself.
    let folder = python(&quay, "nearby", "print('ok - a')\n", NEEDS);
    let folder = folder.to_string_lossy().into_owned();
    let without = quay.kesmo(&["here", &folder]);
    assert_eq!(without.status.code(), Some(2), "{}", all_said(&without));
    assert_says(&all_said(&without), &["the suite reaches gate: say where that is from here, --reach gate=HOST:PORT"]);
    for command in [&["here"][..], &["suite", "try"]] {
        let with = quay.kesmo(&[command, &[&folder, "--reach", "gate=10.0.0.1:80"]].concat());
        assert!(with.status.success(), "{}", all_said(&with));
    }
    let untried = quay.kesmo(&["suite", "try", &folder]);
    assert_says(&all_said(&untried), &["the suite reaches gate: say where that is from here"]);
}

#[test]
fn a_restart_of_the_service_is_outlived_by_an_offer_and_images_reach_too() {
    let (mut quay, engine) = (Quay::open(), Engine::start());
    let _worker = quay.worker_with("heron", 1, &engine.address());
    let port = gate(0);
    let _offer = offer(&quay, &quay.token(), &format!("gate=127.0.0.1:{port}"));
    quay.kill_service();
    quay.start();
    until("it is offered again", || all_said(&quay.kesmo(&["reach"])).contains("⇄ gate ").then_some(()));
    let folder = quay.path("suite-boxed-reach");
    let tests = "list = [\"echo\", \"a\"]\nrun = [\"sh\", \"tests.sh\"]\nresults = \"exit\"";
    let tests = tests.replace("\"tests.sh\"]", "\"tests.sh\", \"{name}\"]");
    let script = "said=$(echo ehello | nc -w 5 ${KESMO_REACH_GATE%:*} ${KESMO_REACH_GATE#*:})\n[ \"$said\" = hello ]";
    suite(&folder, "boxed-reach", &format!("image = \"{IMAGE}\""), &tests, script);
    let (status, said) = quay.wait(&folder, &["--reach", "gate"]);
    assert_eq!(status, 0, "{said}");
    let toml = folder.join("kesmo.toml");
    let apart = fs::read_to_string(&toml).unwrap().replace("image =", "network = \"none\"\nimage =");
    fs::write(&toml, apart).unwrap();
    let (status, said) = quay.wait(&folder, &["--reach", "gate"]);
    assert_eq!(status, 2, "{said}");
    assert_says(&said, &["--reach gate needs [container] network = \"host\", and it is \"none\""]);
}

#[test]
fn the_demos_suite_runs_in_its_image_across_the_wall() {
    let (quay, engine) = (Quay::open(), Engine::start());
    engine.import("localhost/lantern-quay:1", "lantern", &[]);
    let _worker = quay.worker_with("heron", 2, &engine.address());
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let mut office = std::process::Command::new("python3");
    office
        .arg(format!("{root}/standins/tide-office"))
        .stdout(Stdio::from(fs::File::create(quay.path("office")).unwrap()));
    let _office = Process(spawn(office));
    let at = until("the office is open", || {
        let said = fs::read_to_string(quay.path("office")).unwrap_or_default();
        said.trim().strip_prefix("the tide office is at ").map(str::to_owned)
    });
    let _offer = offer(&quay, &quay.token(), &format!("tides={at}"));
    let report = quay.path("tides.tap");
    let folder = PathBuf::from(format!("{root}/lantern-quay/tide-tables"));
    let (status, said) = quay.wait(&folder, &["--report", &format!("tap={}", report.display())]);
    assert_eq!(status, 0, "{said}");
    let wanted = format!("# image localhost/lantern-quay:1 {}", engine.digest("localhost/lantern-quay:1"));
    assert_says(&fs::read_to_string(&report).unwrap(), &["1..6", &wanted, "ok 6"]);
    engine.none_left();
}
