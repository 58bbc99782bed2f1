//! What it costs to reach a private address through the service: throughput and round trips, beside a direct connection of loopback.

use std::{
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    process::{Command, Stdio},
    time::Instant,
};

use kesmo_core::plan::RunOptions;
use tokio::runtime::Runtime;

use crate::{Line, floor::median, quay::Quay};

/// Bytes that are brought, and round trips that are made.
const BYTES: usize = 2 << 30;
const TRIPS: usize = 2000;
/// Each is measured so often, by turns.
const ROUNDS: usize = 3;

/// What begins with `e` is echoed; `g` is answered with many bytes.
fn gate() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("its address").port();
    let serve = |mut stream: TcpStream| -> std::io::Result<()> {
        stream.set_nodelay(true)?;
        let mut first = [0];
        stream.read_exact(&mut first)?;
        if first[0] == b'g' {
            let piece = vec![7; 1 << 20];
            return (0..BYTES >> 20).try_for_each(|_| stream.write_all(&piece));
        }
        let mut byte = [0];
        loop {
            stream.read_exact(&mut byte)?;
            stream.write_all(&byte)?;
        }
    };
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            std::thread::spawn(move || drop(serve(stream)));
        }
    });
    port
}

/// Bytes a second, and the median of a round trip in seconds, to an address.
fn measured(address: &str) -> std::io::Result<(f64, f64)> {
    let mut stream = TcpStream::connect(address)?;
    stream.write_all(b"g")?;
    let mut buffer = vec![0; 1 << 20];
    let (mut read, began) = (0, Instant::now());
    while read < BYTES {
        match stream.read(&mut buffer)? {
            0 => return Err(std::io::Error::other("it ended early")),
            n => read += n,
        }
    }
    let rate = read as f64 / began.elapsed().as_secs_f64();
    let mut stream = TcpStream::connect(address)?;
    stream.set_nodelay(true)?;
    stream.write_all(b"e")?;
    let mut trips = Vec::new();
    for _ in 0..TRIPS {
        let began = Instant::now();
        stream.write_all(b"x")?;
        stream.read_exact(&mut buffer[..1])?;
        trips.push(began.elapsed().as_secs_f64());
    }
    Ok((rate, median(trips)))
}

/// What the suite's process does: measures both ways by turns, and leaves the figures in a file.
pub fn client(direct: &str, to: &str) -> std::io::Result<()> {
    let through = std::env::var("KESMO_REACH_GATE").unwrap_or_default();
    let mut said = String::new();
    for _ in 0..ROUNDS {
        for address in [direct, through.as_str()] {
            let (rate, trip) = measured(address)?;
            said += &format!("{rate} {trip}\n");
        }
    }
    std::fs::write(to, said)?;
    println!("ok - a");
    Ok(())
}

/// Through the service against direct.
pub fn reach(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(1, 1).await;
        let port = gate();
        let token = std::fs::read_to_string(quay.dir.path().join("service/admin-token")).expect("its token");
        let own = std::env::current_exe().expect("a path");
        let mut offer = Command::new(own.with_file_name("kesmo"))
            .args(["reach", &format!("gate=127.0.0.1:{port}")])
            .env("KESMO_URL", quay.client.url())
            .env("KESMO_TOKEN", token.trim())
            .stdout(Stdio::null())
            .spawn()
            .expect("it is offered");
        let to = quay.dir.path().join("figures");
        let run = format!(
            "[\"{}\", \"program\", \"reach\", \"127.0.0.1:{port}\", \"{}\", \"{{names-file}}\"]",
            own.display(),
            to.display()
        );
        let bundle = quay.suite_of("reach", "[\"echo\", \"a\"]", &run, &[]).await;
        let options = RunOptions { reach: vec!["gate".into()], ..RunOptions::default() };
        quay.stay_with(&bundle, options, |_, _| ()).await;
        drop(offer.kill());
        drop(offer.wait());
        let text = std::fs::read_to_string(&to).expect("the figures");
        let pairs: Vec<(f64, f64)> = text
            .lines()
            .filter_map(|line| line.split_once(' '))
            .filter_map(|(rate, trip)| Some((rate.parse().ok()?, trip.parse().ok()?)))
            .collect();
        let of = |which: usize, figure: fn(&(f64, f64)) -> f64| {
            median(pairs.iter().enumerate().filter(|(i, _)| i % 2 == which).map(|(_, pair)| figure(pair)).collect())
        };
        let (direct, through) = (of(0, |p| p.0), of(1, |p| p.0));
        let (trip, far) = (of(0, |p| p.1) * 1000.0, of(1, |p| p.1) * 1000.0);
        vec![
            Line {
                what: "a direct connection's throughput, over that of one through the service",
                measured: format!("{:.0} MB/s (median of {ROUNDS}, 2 GiB each)", through / 1e6),
                compared_with: format!("{:.0} MB/s direct", direct / 1e6),
                figure: direct / through,
                bound: 2.5,
                unit: "",
            },
            Line {
                what: "a round trip through the service, beyond a direct one",
                measured: format!("{far:.3} ms (median of {TRIPS})"),
                compared_with: format!("{trip:.3} ms direct"),
                figure: far - trip,
                bound: 2.0,
                unit: " ms",
            },
        ]
    })
}
