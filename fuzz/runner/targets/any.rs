//! The target that `KESMO_FUZZ` names.
#![no_main]

use std::sync::LazyLock;

use kesmo_fuzz::{TARGETS, Target};
use libfuzzer_sys::fuzz_target;

static TARGET: LazyLock<Target> = LazyLock::new(|| {
    let asked = std::env::var("KESMO_FUZZ").unwrap_or_default();
    let found = TARGETS.iter().find(|(name, _)| *name == asked);
    found.unwrap_or_else(|| panic!("KESMO_FUZZ={asked:?} is none of the targets")).1
});

fuzz_target!(|bytes: &[u8]| TARGET(bytes));
