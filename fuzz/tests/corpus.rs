//! What was come upon once is held against every change.

use std::{fs, io::Read, path::Path};

/// What a target was given before: the seeds, and what was found to reach new code.
fn known(name: &str) -> Vec<(String, Vec<u8>)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR"));
    let seeds = fs::read_dir(folder.join("seeds").join(name)).expect("each has seeds").flatten();
    let mut all: Vec<(String, Vec<u8>)> =
        seeds.map(|seed| (seed.path().display().to_string(), fs::read(seed.path()).expect("it can be read"))).collect();
    assert!(!all.is_empty(), "{name} has seeds");
    let kept = folder.join("corpus").join(format!("{name}.tar.gz"));
    let packed = fs::File::open(&kept).unwrap_or_else(|e| panic!("{}: {e}", kept.display()));
    let mut archive = tar::Archive::new(flate2::read::GzDecoder::new(packed));
    for entry in archive.entries().expect("an archive") {
        let mut entry = entry.expect("an entry");
        let mut bytes = Vec::new();
        entry.read_to_end(&mut bytes).expect("its bytes");
        all.push((format!("{} of {}", String::from_utf8_lossy(&entry.path_bytes()), kept.display()), bytes));
    }
    all
}

#[test]
fn all_that_was_come_upon_is_read_without_harm() {
    for (name, target) in kesmo_fuzz::TARGETS {
        target(b"");
        let known = known(name);
        assert!(known.len() >= 10, "{name} was given {}", known.len());
        for (from, bytes) in known {
            let read = std::panic::catch_unwind(|| target(&bytes));
            assert!(read.is_ok(), "{name}: {from}");
        }
    }
}
