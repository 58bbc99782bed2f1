#!/usr/bin/env bash
# Runs all tests. Installs what is missing first; works as root and as a user with sudo, and a second time.
#   ./check.sh              everything
#   ./check.sh --quick      without the tests in a browser
cd "$(dirname "$0")"
. scripts/common.sh

need_tools
build_console

step "Checking the format"
cargo fmt --all --check || fail "the format differs: run cargo fmt"

step "Checking the console's types"
(cd console && npm run --silent check)

step "Looking for mistakes (clippy)"
cargo clippy --workspace --all-targets --quiet -- -D warnings

step "Building the tests"
cargo test --workspace --no-run --quiet

step "Running the tests"
if [ "${1:-}" = --quick ]; then
    KESMO_NO_BROWSER=1 cargo test --workspace
else
    cargo test --workspace
fi
step_done
printf '● All tests passed.\n'
