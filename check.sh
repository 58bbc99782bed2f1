#!/usr/bin/env bash
# Runs all tests. Installs what is missing first; works as root and as a user with sudo, and a second time.
#   ./check.sh              everything
#   ./check.sh --quick      without the tests in a browser
cd "$(dirname "$0")"
. scripts/common.sh

need_tools
install_missing libxml2-utils=xmllint
build_console
# A server that speaks S3, for the trials.
if [ ! -d tests/objects/node_modules ] || [ tests/objects/package-lock.json -nt tests/objects/node_modules/.package-lock.json ]; then
    step "Installing an object store for the trials"
    (cd tests/objects && npm ci --no-audit --no-fund --loglevel=error)
fi

step "Checking the format"
cargo fmt --all --check || fail "the format differs: run cargo fmt"

step "Checking the console's types"
(cd console && npm run --silent check)

# Clippy is a compiler: it looks for mistakes while it builds the tests, so that nothing is built twice. `cargo clippy` calls
# it in the same way, and throws away what it made.
step "Building the tests, and looking for mistakes (clippy)"
export RUSTC_WORKSPACE_WRAPPER=clippy-driver CLIPPY_ARGS=-Dwarnings__CLIPPY_HACKERY__
cargo test --workspace --no-run --quiet

# Most tests wait for others' processes: one more than there are cores keeps the cores busy.
export RUST_TEST_THREADS=${RUST_TEST_THREADS:-$(($(nproc) + 1))}
step "Running the tests"
if [ "${1:-}" = --quick ]; then
    KESMO_NO_BROWSER=1 cargo test --workspace
else
    cargo test --workspace
fi
step_done
printf '● All tests passed.\n'
