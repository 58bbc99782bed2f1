//! An HTML report of many tests with many screenshots: how long it takes, and how large it is.

use std::{
    io::{BufWriter, Cursor, Write},
    path::Path,
    time::{Duration, Instant},
};

use image::{ImageFormat, Rgb, RgbImage};
use kesmo_sim::Random;
use kesmo_wire::api::Run;
use tokio::runtime::Runtime;

use crate::{Line, floor::median, quay::Quay};

const TESTS: u32 = 20_000;
const SCREENSHOTS: u32 = 200;
const ROUNDS: usize = 3;

/// A picture as a browser takes one: fields of few colours, with something like text in them.
fn screenshot(seed: u64) -> Vec<u8> {
    let mut random = Random::new(seed);
    let mut picture = RgbImage::from_pixel(1280, 800, Rgb([243, 234, 215]));
    for _ in 0..60 {
        let (left, top) = (random.below(1100) as u32, random.below(700) as u32);
        let (width, height) = (60 + random.below(400) as u32, 12 + random.below(80) as u32);
        let colour = Rgb([random.below(256) as u8, random.below(256) as u8, random.below(256) as u8]);
        for y in top..(top + height).min(800) {
            for x in left..(left + width).min(1280) {
                // Letters of a line of text: strokes of two by three pixels.
                let place =
                    seed.wrapping_mul(0x9e37_79b9).wrapping_add(u64::from(x / 2) * 40_503 + u64::from(y / 3) * 65_599);
                let stroke = (place.wrapping_mul(0x94d0_49bb_1331_11eb) >> 40) % 100 < 35;
                picture.put_pixel(x, y, if y % 14 < 9 && stroke { Rgb([18, 32, 43]) } else { colour });
            }
        }
    }
    let mut out = Cursor::new(Vec::new());
    picture.write_to(&mut out, ImageFormat::Png).expect("a picture");
    out.into_inner()
}

/// The test program: every so many tests fails and leaves a screenshot behind.
pub fn program(names: &str) -> std::io::Result<()> {
    let mut events = BufWriter::new(
        std::fs::OpenOptions::new().write(true).open(std::env::var("KESMO_EVENTS").unwrap_or_default())?,
    );
    let folder = std::env::var("KESMO_ARTIFACTS").unwrap_or_default();
    for name in std::fs::read_to_string(names)?.lines() {
        let number: u32 = name.rsplit('-').next().and_then(|n| n.parse().ok()).unwrap_or(0);
        writeln!(events, "{{\"test\":\"{name}\",\"event\":\"start\"}}")?;
        if !number.is_multiple_of(TESTS / SCREENSHOTS) {
            writeln!(events, "{{\"test\":\"{name}\",\"event\":\"end\",\"outcome\":\"passed\"}}")?;
            continue;
        }
        let path = Path::new(&folder).join(format!("{number}.png"));
        std::fs::write(&path, screenshot(u64::from(number)))?;
        let path = path.display();
        writeln!(
            events,
            "{{\"test\":\"{name}\",\"event\":\"file\",\"path\":\"{path}\",\"about\":\"the board after it\"}}"
        )?;
        let says = "\"message\":\"expected Closed, got Boarding\",\"detail\":\"at gate 4\\nat berth 2\"";
        writeln!(events, "{{\"test\":\"{name}\",\"event\":\"end\",\"outcome\":\"failed\",{says}}}")?;
    }
    events.flush()
}

/// What a report of 20,000 tests with 200 screenshots takes.
pub fn reports(runtime: &Runtime) -> Vec<Line> {
    runtime.block_on(async {
        let quay = Quay::open(1, 2).await;
        let own = std::env::current_exe().expect("a path").display().to_string();
        let list = format!("[\"{own}\", \"program\", \"names\", \"{TESTS}\"]");
        let run = format!("[\"{own}\", \"program\", \"report\", \"{{names-file}}\"]");
        let bundle = quay.suite_with("reports", &list, &run, "events", &[]).await;
        let started = quay.start(&bundle).await;
        let path = format!("/api/runs/{}", started.summary.name);
        let since = Instant::now();
        let run: Run = loop {
            let run: Run = quay.client.get(&path, &[]).await.expect("a run");
            if run.summary.verdict.is_some() {
                break run;
            }
            assert!(since.elapsed().as_secs() < 300, "the run does not end");
            tokio::time::sleep(Duration::from_millis(200)).await;
        };
        let tally = run.summary.tally;
        assert_eq!((tally.failed, tally.passed), (SCREENSHOTS, TESTS - SCREENSHOTS), "{}", run.summary.reason);
        let (mut took, mut size, mut pictures) = (Vec::new(), 0, 0);
        for _ in 0..ROUNDS {
            let began = Instant::now();
            let query = [("as", "html".to_owned()), ("pictures", "small".to_owned())];
            let text = quay.client.get_text(&format!("{path}/report"), &query).await.expect("a report");
            took.push(began.elapsed().as_secs_f64());
            (size, pictures) = (text.len(), text.matches("<img ").count());
        }
        assert_eq!(pictures, SCREENSHOTS as usize, "every screenshot stands in it");
        let each = screenshot(100).len() as f64 / 1024.0;
        vec![
            Line {
                what: "an HTML report of 20,000 tests with 200 screenshots, small ones",
                measured: format!("median of {ROUNDS}; screenshots of about {each:.0} KiB"),
                compared_with: "a clock".into(),
                figure: median(took),
                bound: 5.0,
                unit: " s",
            },
            Line {
                what: "its size",
                measured: format!("{pictures} pictures in it"),
                compared_with: "a ruler".into(),
                figure: size as f64 / 1e6,
                bound: 20.0,
                unit: " MB",
            },
        ]
    })
}
