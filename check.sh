#!/usr/bin/env bash
# Runs all tests. Installs what is missing first; works as root and as a user with sudo, and a second time.
#   ./check.sh              everything
#   ./check.sh --quick      without the tests in a browser
cd "$(dirname "$0")"
. scripts/common.sh

what_tests_need() {
    need_tools libxml2-utils=xmllint
    build_console
    # A server that speaks S3, for the trials.
    if [ ! -d tests/objects/node_modules ] || [ tests/objects/package-lock.json -nt tests/objects/node_modules/.package-lock.json ]; then
        step "Installing an object store for the trials"
        (cd tests/objects && npm ci --no-audit --no-fund --loglevel=error)
    fi
    step "Checking the console's types"
    (cd console && npm run --silent check)
    step_done
}
need_cargo

step "Checking the format"
cargo fmt --all --check || fail "the format differs: run cargo fmt"
prepare what_tests_need

# Clippy is a compiler: it looks for mistakes while it builds the tests, so that nothing is built twice. `cargo clippy` calls
# it in the same way, and throws away what it made.
step "Building the tests, and looking for mistakes (clippy)"
export RUSTC_WORKSPACE_WRAPPER=$PWD/scripts/clippy-as-compiler CLIPPY_ARGS=-Dwarnings__CLIPPY_HACKERY__
# What the simulation runs is optimized as one part the first time, and so twice as fast; whoever changes it between checks builds it in
# many.
whole=()
if build_once; then
    whole=(--config profile.dev.package.kesmo-core.codegen-units=1 --config profile.dev.package.kesmo-sim.codegen-units=1)
fi
cargo test "${whole[@]}" --workspace --no-run --quiet
prepared

# What trials write is gone with them, and most of it are copies of a PostgreSQL cluster: where memory is plenty, they go there.
room=$(df --output=avail -k /dev/shm 2>/dev/null | tail -n 1 || true)
memory=$(awk '/^MemAvailable/ {print $2}' /proc/meminfo)
if [ -z "${TMPDIR:-}" ] && [ "${room:-0}" -ge 8000000 ] && [ "$memory" -ge 12000000 ]; then
    TMPDIR=$(mktemp -d /dev/shm/kesmo-XXXXXX)
    chmod 755 "$TMPDIR" # PostgreSQL's own user goes through it.
    export TMPDIR
    # What an engine of containers leaves there is root's.
    trap 'rm -rf -- "$TMPDIR" 2>/dev/null || sudo -n rm -rf -- "$TMPDIR" || true' EXIT
fi

# Most tests wait for others' processes: one more than there are cores keeps the cores busy.
export RUST_TEST_THREADS=${RUST_TEST_THREADS:-$(($(nproc) + 1))}
step "Running the tests"
[ "${1:-}" != --quick ] || export KESMO_NO_BROWSER=1
mkdir -p target
log=target/check.log
# With --no-fail-fast: what fails is told all at once. To a file, and not through a pipe, which whatever a trial left behind would keep open.
: >"$log"
tail --quiet --lines=+1 --follow --sleep-interval=0.5 --pid=$$ "$log" &
shows=$!
passed=yes
cargo test "${whole[@]}" --workspace --no-fail-fast >>"$log" 2>&1 || passed=no
sleep 1
kill "$shows"
if [ "$passed" = no ]; then
    # Trials start services, browsers and containers beside each other, and a machine that is shared may stand still for seconds. What
    # another held up for too long is run once more on its own, and told as flaky: at most three tests.
    mapfile -t failed < <(sed -n 's/^test \([a-z_0-9]*::[a-z_0-9:]*\) \.\.\. FAILED$/\1/p' "$log")
    # A target that was ended by a signal, or that was not built, has no result: cargo counts it all the same.
    targets=$(sed -n 's/^error: \([0-9]*\) targets\? failed:$/\1/p' "$log")
    results=$(grep -c '^test result: FAILED' "$log" || true)
    count=$(sed -n 's/^test result: FAILED\. .*; \([0-9]*\) failed;.*/\1/p' "$log" | awk '{ n += $1 } END { print n + 0 }')
    [ "$targets" = "$results" ] && [ "$count" = ${#failed[@]} ] && [ "$count" -ge 1 ] && [ "$count" -le 3 ] ||
        fail "tests failed: $log has what they said"
    step "Running alone: ${failed[*]}"
    RUST_TEST_THREADS=1 cargo test "${whole[@]}" --workspace -- --exact "${failed[@]}" || fail "tests failed, also alone: ${failed[*]}"
    flaky="  Flaky, and passed alone: ${failed[*]} ($log has what they said)"
fi
step_done
printf '● All tests passed.\n'
[ -z "${flaky:-}" ] || printf '%s\n' "$flaky"
