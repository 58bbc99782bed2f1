//! What was come upon once is held against every change.

use std::{fs, path::Path};

#[test]
fn all_that_was_come_upon_is_read_without_harm() {
    let corpora = Path::new(env!("CARGO_MANIFEST_DIR")).join("corpus");
    for (name, target) in kesmo_fuzz::TARGETS {
        let files: Vec<_> = fs::read_dir(corpora.join(name)).expect("each has a corpus").flatten().collect();
        assert!(!files.is_empty(), "{name} has a corpus");
        target(b"");
        for file in files {
            let bytes = fs::read(file.path()).expect("it can be read");
            let read = std::panic::catch_unwind(|| target(&bytes));
            assert!(read.is_ok(), "{}", file.path().display());
        }
    }
}
