#!/usr/bin/env bash
# The demo, whole: installs what is missing, builds, starts a service with a PostgreSQL of its own, adds the suites of
# Lantern Quay, starts three workers and some runs, and prints where to look. Ctrl-C ends all of it.
#   ./demo.sh               until Ctrl-C
#   ./demo.sh --tour        a whole example without a person; ends with its status
#   ./demo.sh --build       only install and build; the program is then target/release/kesmo
#   ./demo.sh --port N      listen on another port
cd "$(dirname "$0")"
. scripts/common.sh

mode=stay
port=7215
while [ $# -gt 0 ]; do
    case $1 in
        --tour) mode=tour ;;
        --build) mode=build ;;
        --port) port=${2:?--port needs a number}; shift ;;
        -h | --help) sed -n '2,8s/^# \{0,1\}//p' "$0"; exit 0 ;;
        *) fail "unknown option $1: use --tour, --build or --port N" ;;
    esac
    shift
done

need_tools
build_console
step "Building the program (the first time takes some minutes)"
cargo build --release --quiet -p kesmo
kesmo=$PWD/target/release/kesmo
if [ "$mode" = build ]; then
    step_done
    printf '● The program is target/release/kesmo\n'
    exit 0
fi

home=$PWD/.kesmo/demo
mkdir -p "$home"
pids=()
ended=0
end_all() {
    [ $ended = 1 ] && return
    ended=1
    step_done
    printf '\n▸ Ending the demo …\n'
    # Workers first, so that the service hears of it; then the service, which stops its PostgreSQL.
    local i
    for ((i = ${#pids[@]} - 1; i >= 0; i--)); do
        kill -TERM "${pids[$i]}" 2>/dev/null || true
        wait "${pids[$i]}" 2>/dev/null || true
    done
    printf '● Nothing is left running.\n'
}
trap end_all EXIT
trap 'exit 130' INT
trap 'exit 143' TERM

step "Starting the service"
: >"$home/service.out"
# In sessions of their own, so that Ctrl-C in the terminal reaches only this script, which ends them in order.
setsid "$kesmo" serve --listen "127.0.0.1:$port" --data "$home/service" >"$home/service.out" 2>"$home/service.log" &
pids+=($!)
for _ in $(seq 600); do
    grep -q 'listening' "$home/service.out" && break
    kill -0 "${pids[0]}" 2>/dev/null || { cat "$home/service.log" >&2; fail "the service did not start"; }
    sleep 0.1
done
grep -q 'listening' "$home/service.out" || { cat "$home/service.log" >&2; fail "the service did not listen within a minute"; }
export KESMO_URL="http://127.0.0.1:$port"
KESMO_TOKEN=$(cat "$home/service/keeper-token")
export KESMO_TOKEN

step "Starting three workers"
if [ ! -s "$home/worker-token" ]; then
    "$kesmo" token remove demo-workers >/dev/null 2>&1 || true
    (umask 077 && "$kesmo" token add demo-workers --role worker 2>/dev/null >"$home/worker-token")
fi
for name in heron tern gull; do
    KESMO_TOKEN=$(cat "$home/worker-token") setsid "$kesmo" worker --name "$name" --slots 2 --offer os=linux \
        --offer browser=chromium --home "$home/worker-$name" >"$home/worker-$name.log" 2>&1 &
    pids+=($!)
done
for _ in $(seq 100); do
    [ "$("$kesmo" workers --json | grep -c '"connected": true')" = 3 ] && break
    sleep 0.1
done

step "Adding the suites of Lantern Quay"
for suite in fares sailings boarding-gate berths departure-board; do
    "$kesmo" suite add "lantern-quay/$suite" | sed -n 1p
done

if [ "$mode" = tour ]; then
    status=0
    # expect STATUS COMMAND …: runs a command and checks its exit status.
    expect() {
        local wanted=$1 got=0
        shift
        printf '\n$ kesmo %s\n' "$*"
        "$kesmo" "$@" || got=$?
        if [ "$got" != "$wanted" ]; then
            printf '◆ expected status %s, got %s\n' "$wanted" "$got"
            status=1
        fi
    }
    step "A tour"
    expect 0 suite check lantern-quay/boarding-gate
    expect 0 tests boarding-gate --pick 'gate/tickets/**'
    expect 0 start fares --stay --refresh 1s
    expect 0 start sailings --stay --refresh 1s --label release=1187
    expect 1 start boarding-gate --stay --refresh 1s --label release=1187
    number=$("$kesmo" runs --suite boarding-gate --limit 1 --json | sed -n 's/.*"name": "boarding-gate\/\([0-9]*\)".*/\1/p' | sed -n 1p)
    expect 0 log "boarding-gate/$number" gate/late/closed_five_minutes_before
    expect 0 report "boarding-gate/$number" --as junit -o "$home/boarding-gate.xml"
    expect 0 log "boarding-gate/$number" gate/scanner/bow_reads_a_wet_ticket --follow
    expect 0 show "boarding-gate/$number" --groups
    expect 1 again "boarding-gate/$number" --unpassed --stay
    expect 10 start fares --pick 'faers/**' --stay
    expect 0 start berths --stay --shards 1 --refresh 2s
    number=$("$kesmo" runs --suite berths --limit 1 --json | sed -n 's/.*"name": "berths\/\([0-9]*\)".*/\1/p' | sed -n 1p)
    expect 0 show "berths/$number" --shards
    expect 0 forecast sailings --shards 1,2,4,8,16
    expect 0 portion sailings 2/5 --pick 'crossing/**'
    expect 0 park boarding-gate 'gate/late/**' --until 2w --why 'the gate closes late'
    expect 0 start boarding-gate --pick 'gate/late/**' --pick tag:smoke --stay --refresh 1s
    expect 0 unpark boarding-gate 'gate/late/**'
    expect 0 here lantern-quay/fares --portion 2/5 --report "junit=$home/fares.xml"
    expect 0 join --suite lantern-quay/fares --key "tour-$$" --slots 2 --refresh 1s
    expect 0 start departure-board --stay --refresh 2s
    number=$("$kesmo" runs --suite departure-board --limit 1 --json | sed -n 's/.*"name": "departure-board\/\([0-9]*\)".*/\1/p' | sed -n 1p)
    expect 0 artifacts "departure-board/$number" --to "$home/screens"
    expect 0 start lantern-quay/fares --pick tag:smoke --stay --refresh 1s
    expect 0 runs --limit 8
    expect 0 workers
    step_done
    if [ "$status" = 0 ]; then printf '\n● The tour went as it should.\n'; else printf '\n◆ The tour did not go as it should.\n'; fi
    exit "$status"
fi

step "Starting runs"
for suite in fares sailings boarding-gate berths departure-board; do
    "$kesmo" start "$suite" --label release=1187 2>/dev/null
done
step_done
cat <<TEXT

The console:   $KESMO_URL/
Sign in with:  $KESMO_URL/#token=$KESMO_TOKEN

In another terminal:
  export KESMO_URL=$KESMO_URL KESMO_TOKEN=$KESMO_TOKEN
  $kesmo start sailings --stay
  $kesmo runs

Ctrl-C ends the demo.
TEXT
while kill -0 "${pids[0]}" 2>/dev/null; do
    sleep 1 &
    wait $! || true
done
cat "$home/service.log" | tail -n 5 >&2
fail "the service ended by itself"
