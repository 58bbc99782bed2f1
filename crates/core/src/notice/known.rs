//! What may stand in a request that tells of something.

/// What may stand in a described request, beside the secret.
pub const KNOWN: &[&str] = &[
    "title", "text", "link", "verdict", "glyph", "because", "suite", "run", "branch", "commit", "brief", "pool",
    "passed", "flaky", "failed", "tests", "took", "reason", "notice", "id",
];
/// What stands for the secret.
pub const SECRET: &str = "secret";
