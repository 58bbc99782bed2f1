#!/usr/bin/env bash
# The demo, whole: installs what is missing, builds, starts a service with a PostgreSQL of its own, adds the suites of
# Lantern Quay, starts three workers and some runs, and prints where to look. Ctrl-C ends all of it.
#   ./demo.sh               until Ctrl-C
#   ./demo.sh --tour        a whole example without a person, and then one of a team's service; ends with its status
#   ./demo.sh --team        a team's service until Ctrl-C: two of them, TLS, accounts, an identity provider, secrets (with --tour: goes through it)
#   ./demo.sh --build       only install and build; the program is then target/release/kesmo
#   ./demo.sh --containers  only install, build, and make the worker image, from this machine's own files
#   ./demo.sh --port N      listen on another port
cd "$(dirname "$0")"
. scripts/common.sh
. scripts/engine.sh

mode=stay
team=
port=7215
while [ $# -gt 0 ]; do
    case $1 in
        --tour) mode=tour ;;
        --team) team=1 ;;
        --build) mode=build ;;
        --containers) mode=containers ;;
        --port) port=${2:?--port needs a number}; shift ;;
        -h | --help) sed -n '2,10s/^# \{0,1\}//p' "$0"; exit 0 ;;
        *) fail "unknown option $1: use --tour, --team, --build, --containers or --port N" ;;
    esac
    shift
done

what_it_needs() {
    need_tools "$@"
    build_console
    step_done
}
need_cargo
build_once || true
# The core is optimized for the simulations of the tests: a first look is quick enough without.
as_is=(--config profile.dev.package.kesmo-core.opt-level=0 --config profile.dev.package.kesmo-sim.opt-level=0)
if [ "$mode" = build ]; then
    # A release has the console within it.
    what_it_needs
    step "Building the program (the first time takes some minutes)"
    cargo build --release --quiet -p kesmo
    step_done
    printf '● The program is target/release/kesmo\n'
    exit 0
fi
if [ -n "$team" ]; then
    prepare what_it_needs
    step "Building the program (the first time takes some minutes)"
    cargo build "${as_is[@]}" --quiet -p kesmo -p kesmo-made
    prepared
    exec scripts/team "$mode" "$port"
fi
# With what makes the videos that a suite of the demo leaves behind.
prepare what_it_needs ffmpeg=ffmpeg
# Built as for the tests: that takes a third of the time of a release, and is quick enough for a first look.
step "Building the program (the first time takes some minutes)"
cargo build "${as_is[@]}" --quiet -p kesmo -p kesmo-made
prepared
kesmo=$PWD/target/debug/kesmo

home=$PWD/.kesmo/demo
engine=$home/engine
mkdir -p "$home"
if [ "$mode" = containers ]; then
    step "Making the worker image"
    prepare_engine "$engine"
    make_worker_image "$engine" localhost/kesmo-worker:1 "$kesmo"
    step_done
    printf '● The worker image is localhost/kesmo-worker:1, in the store %s\n' "$engine/store"
    printf 'A pool of it: kesmo pool add NAME --kind engine --image localhost/kesmo-worker:1 --engine unix://SOCKET\n'
    exit 0
fi
pids=()
ended=0
end_all() {
    [ $ended = 1 ] && return
    ended=1
    # Whoever asks twice does not stop it half-way.
    trap '' INT TERM
    step_done
    printf '\nEnding the demo …\n'
    # Workers first, so that the service hears of it; then the service, which stops its PostgreSQL.
    local i
    for ((i = ${#pids[@]} - 1; i >= 0; i--)); do
        kill -TERM "${pids[$i]}" 2>/dev/null || true
        wait "${pids[$i]}" 2>/dev/null || true
    done
    # Machines of pools outlive their service, and the engine the shell that started it.
    if [ -S "$engine/socket" ]; then
        engine_podman "$engine" rm --force --all --time 0 >/dev/null 2>&1 || true
        local process
        for process in /proc/[0-9]*; do
            if tr '\0' ' ' 2>/dev/null <"$process/cmdline" | grep -q "^podman .* system service --time=0 unix://$engine/socket"; then
                as_root kill -TERM "${process#/proc/}" || true
            fi
        done
        rm -f "$engine/socket"
    fi
    printf '● Nothing is left running.\n'
    # What is started from now on inherits no deaf ear.
    trap 'exit 130' INT
    trap 'exit 143' TERM
}
trap end_all EXIT
trap 'exit 130' INT
trap 'exit 143' TERM

step "Starting the service"
: >"$home/service.out"
# Where mails and messages arrive.
standins/post-room >"$home/post-room.out" &
post_room=$!
for _ in $(seq 100); do
    [ -s "$home/post-room.out" ] && break
    sleep 0.1
done
read -r post mail <"$home/post-room.out" || fail "the post room did not open"
# In sessions of their own, so that Ctrl-C in the terminal reaches only this script, which ends them in order.
setsid "$kesmo" serve --listen "127.0.0.1:$port" --data "$home/service" --git-folder "$home" \
    --mail-server "smtp-plain://$mail" --mail-from "Kesmo <kesmo@quay.example>" >"$home/service.out" 2>"$home/service.log" &
pids+=($! "$post_room")
for _ in $(seq 600); do
    grep -q 'listening' "$home/service.out" && break
    kill -0 "${pids[0]}" 2>/dev/null || { cat "$home/service.log" >&2; fail "the service did not start"; }
    sleep 0.1
done
grep -q 'listening' "$home/service.out" || { cat "$home/service.log" >&2; fail "the service did not listen within a minute"; }
export KESMO_URL="http://127.0.0.1:$port"
KESMO_TOKEN=$(cat "$home/service/admin-token")
export KESMO_TOKEN

step "Starting a container engine, and the tide office behind its wall"
prepare_engine "$engine"
make_image "$engine" localhost/lantern-quay:1
make_worker_image "$engine" localhost/kesmo-worker:1 "$kesmo"
engine_podman "$engine" rm --force --all --time 0 >/dev/null 2>&1 || true
rm -f "$engine/socket"
engine_podman "$engine" system service --time=0 "unix://$engine/socket" >"$engine/log" 2>&1 &
pids+=($!)
for _ in $(seq 100); do
    [ -S "$engine/socket" ] && break
    sleep 0.1
done
[ -S "$engine/socket" ] || { cat "$engine/log" >&2; fail "the container engine did not start"; }
[ "$(id -u)" = 0 ] || as_root chmod 666 "$engine/socket"
standins/tide-office >"$home/tide-office.out" &
pids+=($!)
for _ in $(seq 100); do
    grep -q 'is at' "$home/tide-office.out" && break
    sleep 0.1
done
tides=$(sed -n 's/.* is at //p' "$home/tide-office.out")
for pool in main yard; do
    setsid "$kesmo" reach "tides=$tides" --pool "$pool" >"$home/reach-$pool.log" 2>&1 &
    pids+=($!)
done

step "Making pools that start their own machines: containers, pods and jobs"
(umask 077 && head -c 16 /dev/urandom | od -An -tx1 | tr -d ' \n' >"$home/stand-ins-token")
printf '{"lend": ["%s join --pool yard --slots 2 --offer os=linux --engine unix://%s"]}' "$kesmo" "$engine/socket" >"$home/pipelines.json"
standins/job-yard "$home/pipelines.json" --token-file "$home/stand-ins-token" >"$home/job-yard.out" &
pids+=($!)
standins/pod-harbour "$kesmo" --token-file "$home/stand-ins-token" >"$home/pod-harbour.out" &
pids+=($!)
# where NAME: the address at which a stand-in listens.
where() {
    for _ in $(seq 100); do
        grep -q 'is at' "$home/$1.out" && break
        sleep 0.1
    done
    sed -n 's/.* is at //p' "$home/$1.out"
}
sed "s/YARD/$(where job-yard)/" standins/job-yard.toml >"$home/job-yard.toml"
# The stand-ins listen elsewhere than before.
for pool in containers harbour yard; do "$kesmo" pool remove "$pool" --forget >/dev/null 2>&1 || true; done
"$kesmo" pool add berths --kind fixed --replace >/dev/null
"$kesmo" pool add containers --kind engine --image localhost/kesmo-worker:1 --engine "unix://$engine/socket" --most 3 --idle 15s --offer os=linux --replace | sed -n 1p
"$kesmo" pool add harbour --kind cluster --cluster "http://$(where pod-harbour)" --namespace lantern-quay --image localhost/kesmo-worker:1 \
    --secret-file "$home/stand-ins-token" --most 3 --idle 15s --offer os=linux --replace | sed -n 1p
"$kesmo" pool add yard --kind ci --describe "$home/job-yard.toml" --secret-file "$home/stand-ins-token" --most 2 --idle 15s --offer os=linux --offer containers=yes --replace | sed -n 1p

step "Starting three workers"
if [ ! -s "$home/worker-token" ]; then
    "$kesmo" token remove demo-workers >/dev/null 2>&1 || true
    (umask 077 && "$kesmo" token add demo-workers --role worker 2>/dev/null >"$home/worker-token")
fi
for name in heron tern gull; do
    KESMO_TOKEN=$(cat "$home/worker-token") setsid "$kesmo" worker --name "$name" --slots 2 --offer os=linux \
        --offer browser=chromium --engine "unix://$engine/socket" --home "$home/worker-$name" >"$home/worker-$name.log" 2>&1 &
    pids+=($!)
done
for _ in $(seq 100); do
    [ "$("$kesmo" workers --json | grep -c '"connected": true')" = 3 ] && break
    sleep 0.1
done

step "Adding the suites of Lantern Quay"
for suite in fares sailings boarding-gate berths departure-board ticket-desk harbour-signs soundings tide-tables turnstiles; do
    "$kesmo" suite add "lantern-quay/$suite" | sed -n 1p
done

step "Making a repository, and what starts runs by itself"
# A bare repository, as a server of version control keeps it, and a clone of it to push from.
repository=$home/quay.git
work=$home/quay
as_crew() { git -c user.name='Ada of the Quay' -c user.email=ada@quay.example -c init.defaultBranch=main -c advice.detachedHead=false "$@"; }
# made_commits: six weeks of commits by three people; one of them breaks what the boards say of a late sailing.
made_commits() {
    local people=('Ada of the Quay' 'Brit of the Bridge' 'Cato of the Crane') n days at
    (
        cd "$work"
        as_crew checkout --quiet -B main
        for n in $(seq 0 29); do
            days=$((42 - n * 41 / 29))
            at=$(date -u -d "$days days ago" +%Y-%m-%dT1$((n % 6)):$((10 + n)):00Z)
            if [ "$n" = 22 ]; then
                sed -i 's/    if minutes < 5:/    if minutes < 20:/' suites/notices/notices_tests.py
                git -C "$work" diff --quiet && fail "the demo's commit that breaks a test changed nothing"
            fi
            printf 'Board %d: %s\n' "$n" "wiped" >>suites/notices/CHANGES
            as_crew add -A
            GIT_AUTHOR_DATE=$at GIT_COMMITTER_DATE=$at as_crew -c user.name="${people[$((n * 7 % 3))]}" commit --quiet -m "$([ "$n" = 22 ] && echo "Boards say on time for longer" || echo "Board $n is wiped")"
            printf '%s\t%s\n' "$(git rev-parse HEAD)" "$at" >>"$home/made-commits"
            if [ "$n" = 22 ]; then git rev-parse HEAD >"$home/broke"; fi
        done
        as_crew push --quiet origin main 2>/dev/null
        mv "$home/broke" "$home/broke-at"
    )
}
# One that an earlier demo left without these commits, or half made, is made anew.
if [ ! -d "$repository" ] || [ ! -s "$home/broke-at" ]; then
    rm -rf "$home/made-commits" "$repository"
    as_crew init --quiet --bare "$repository"
    rm -rf "$work"
    as_crew clone --quiet "$repository" "$work" 2>/dev/null
    mkdir -p "$work/suites"
    cp -r lantern-quay/notices "$work/suites/notices"
    made_commits
fi
"$kesmo" suite add --git "file://$repository" --branch main --folder suites/notices | sed -n 1p
"$kesmo" brief add smoke --suite boarding-gate --pick tag:smoke --label kind=smoke --replace | sed -n 1p
"$kesmo" brief add nightly --suite sailings --retries 1 --label kind=nightly --then smoke --then-if any --replace | sed -n 1p
"$kesmo" brief add push --suite notices --retries 1 --replace-older --replace | sed -n 1p
"$kesmo" schedule add nightly --cron '15 2 * * 1-5' --zone Europe/Oslo --brief nightly --replace >/dev/null 2>&1
"$kesmo" schedule add fares-hourly --cron '30 6-20 * * *' --zone Europe/Oslo --suite fares --spread 10m --replace >/dev/null 2>&1
"$kesmo" schedule add berths-again --after-every 30m --suite berths --shards 1 --replace >/dev/null 2>&1
"$kesmo" webhook remove push >/dev/null 2>&1 || true
(umask 077 && {
    printf 'KESMO=%s\nKESMO_URL=%s\nWEBHOOK=push\nKESMO_WEBHOOK_SECRET=' "$kesmo" "$KESMO_URL"
    "$kesmo" webhook add push --brief push --when '/branch=main' --take branch=/branch --take commit=/commit --take label.author=/author 2>/dev/null
} >"$repository/webhook.env")
cp standins/post-receive "$repository/hooks/post-receive"
"$kesmo" suite poll notices --branch 'release/*' --every 2s --brief push | sed -n 1p
# push BRANCH TEXT: changes something on a branch and pushes it; the hook calls in.
push() {
    (cd "$work" && as_crew checkout --quiet -B "$1" && printf '%s\n' "$2" >>suites/notices/CHANGES && as_crew add -A && as_crew commit --quiet -m "$2" && as_crew push --quiet origin "$1")
}
# newest SUITE: the name of its newest run.
newest() { "$kesmo" runs --suite "$1" --limit 1 --json | sed -n "s/.*\"name\": \"\($1\/[0-9]*\)\".*/\1/p" | sed -n 1p; }

step "Making notices: by mail, in a chat, on commits"
cat >"$home/chat.toml" <<TOML
method  = "POST"
address = "$post/rooms/{secret}"
body    = { says = "{glyph} {title}", more = "{text}", link = "{link}" }
TOML
cat >"$home/commit-status.toml" <<TOML
method  = "POST"
address = "$post/repositories/quay/commits/{commit}"
headers = { authorization = "Bearer {secret}" }
body    = { state = "{verdict}", says = "{title}", link = "{link}", of = "{suite}" }
TOML
"$kesmo" notice add crew --when newly-failing --when mended --when void --mail crew@quay.example --mail ada@quay.example --replace 2>/dev/null
"$kesmo" notice add bridge --when failed --when 'flaky-over 10%' --chat "$home/chat.toml" --secret-file "$home/stand-ins-token" --replace 2>/dev/null
"$kesmo" notice add commits --when passed --when failed --every-time --suite notices --commit-status "$home/commit-status.toml" --secret-file "$home/stand-ins-token" --replace 2>/dev/null
"$kesmo" notice add nights --when schedule-missed --when 'no-worker 5m' --when 'slower-than 3x' --mail ada@quay.example \
    --digest 08:00 --quiet sat,sun --zone Europe/Oslo --replace 2>/dev/null

step "Making six weeks of history"
"$PWD/target/debug/kesmo-made" --data "$home/service" --suites lantern-quay --commits "$home/made-commits" --broke-at "$(cat "$home/broke-at")"

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
    expect 0 start fares --wait --refresh 1s
    expect 0 start sailings --wait --refresh 1s --label release=1187
    expect 1 start boarding-gate --wait --refresh 1s --label release=1187
    number=$("$kesmo" runs --suite boarding-gate --limit 1 --json | sed -n 's/.*"name": "boarding-gate\/\([0-9]*\)".*/\1/p' | sed -n 1p)
    expect 0 log "boarding-gate/$number" gate/late/closed_five_minutes_before
    expect 0 report "boarding-gate/$number" --as junit -o "$home/boarding-gate.xml"
    expect 0 log "boarding-gate/$number" gate/scanner/bow_reads_a_wet_ticket --follow
    expect 0 show "boarding-gate/$number" --groups
    # A run of some tests that passes does not hide what fails.
    expect 0 start boarding-gate --pick 'gate/tickets/**' --wait --refresh 1s
    expect 0 failing boarding-gate
    expect 0 compare "boarding-gate/$number"
    expect 0 covers
    expect 0 covers "PROMISE-2 tickets"
    expect 0 share "boarding-gate/$number" --until 7d
    expect 0 share --badge boarding-gate
    expect 0 secret add desk-pin --suite ticket-desk --replace <<<'sesame-of-the-desk'
    expect 0 secret list
    expect 0 keep add runs --for 365d --replace
    expect 0 keep add pictures --for 30d --replace
    expect 0 keep sweep --try
    "$kesmo" account remove ada >/dev/null 2>&1 || true
    expect 0 account add ada --role operator
    expect 0 account list
    expect 0 account remove ada
    expect 0 sessions --all
    expect 0 token add visitor --role reader --until 7d --suite 'boarding-*'
    expect 0 token remove visitor
    expect 0 audit --what 'token add' --limit 5
    expect 0 serve --check --listen 127.0.0.1:0 --data "$home/checked"
    expect 0 report "boarding-gate/$number" --as html -o "$home/boarding-gate.html"
    expect 0 report "boarding-gate/$number" --as csv -o "$home/boarding-gate.csv"
    expect 1 show --label release=1187
    expect 0 flaky
    expect 0 flaky boarding-gate gate/scanner/bow_reads_a_wet_ticket
    expect 0 history boarding-gate gate/crowd/all_passengers_board --limit 5
    expect 0 since notices notice/gull-rock/late --good "$(head -n 1 "$home/made-commits" | cut -f 1)"
    expect 0 prove sailings crossing/east-skerry/departure_07 --sure 95%
    expect 1 again "boarding-gate/$number" --not-passed --wait
    expect 10 start fares --pick 'faers/**' --wait
    expect 0 start berths --wait --shards 1 --refresh 2s
    number=$("$kesmo" runs --suite berths --limit 1 --json | sed -n 's/.*"name": "berths\/\([0-9]*\)".*/\1/p' | sed -n 1p)
    expect 0 show "berths/$number" --shards
    # Files whose cases are found as they run, and a process that stays.
    expect 1 start ticket-desk --wait --refresh 1s
    number=$("$kesmo" runs --suite ticket-desk --limit 1 --json | sed -n 's/.*"name": "ticket-desk\/\([0-9]*\)".*/\1/p' | sed -n 1p)
    expect 0 show "ticket-desk/$number" --cases --state trouble
    # Its longest file runs in parts the next time: its cases are known from the run before.
    expect 1 start ticket-desk --wait --refresh 1s
    expect 0 show "$(newest ticket-desk)" --state all
    expect 0 log "ticket-desk/$number" 'desk/refunds.sh/the clock at the desk runs'
    expect 0 start ticket-desk --pick 'desk/fares.sh/a child pays half' --wait --refresh 1s
    expect 1 start harbour-signs --wait --refresh 1s
    expect 1 start soundings --wait --refresh 1s
    expect 0 forecast sailings --shards 1,2,4,8,16
    expect 0 portion sailings 2/5 --pick 'crossing/**'
    expect 0 park boarding-gate 'gate/late/**' --until 2w --why 'the gate closes late'
    expect 0 start boarding-gate --pick 'gate/late/**' --pick tag:smoke --wait --refresh 1s
    expect 0 unpark boarding-gate 'gate/late/**'
    expect 0 here lantern-quay/fares --portion 2/5 --report "junit=$home/fares.xml"
    # A load from several slots, what it measures, and a limit that it passes.
    expect 0 start turnstiles --wait --refresh 2s
    expect 1 start turnstiles --set scan-ms=90 --set seconds=3 --wait --refresh 2s
    expect 0 measures "$(newest turnstiles)" --measure ticket_scan
    expect 0 measures turnstiles
    expect 0 start turnstiles --each-slot --shards 4 --set seconds=3 --wait --refresh 2s
    # Getting a suite in: a first suite file, a trial, and results that ran elsewhere.
    expect 0 suite draft lantern-quay/ticket-desk --print
    expect 0 suite try lantern-quay/ticket-desk
    expect 0 import "$home/fares.xml" --suite fares-elsewhere --new --label release=1187 --at "$(date -u +%Y-%m-%dT%H:%M:%SZ)"
    expect 0 join --suite lantern-quay/fares --key "tour-$$" --slots 2 --refresh 1s --report "junit=$home/joined.xml"
    # In an image, and across a wall.
    expect 0 reach
    expect 0 start tide-tables --wait --refresh 1s
    number=$(newest tide-tables)
    expect 0 show "$number"
    expect 0 again "$number" --wait
    expect 10 start tide-tables --image localhost/lantern-quay:none --wait
    # In pools that start their own machines: containers, pods, and jobs of a CI server, one of which reaches across the wall.
    expect 1 start ticket-desk --pool containers --wait --refresh 1s
    expect 0 log "$(newest ticket-desk)" --job 1
    expect 0 start sailings --pool harbour --within 1m --wait --refresh 1s
    expect 0 start tide-tables --pool yard --budget 10m --wait --refresh 1s
    number=$(newest tide-tables)
    expect 0 show "$number"
    expect 0 log "$number" --job 1
    expect 2 start fares --within 1m
    expect 0 pool show yard --job
    expect 0 pool show containers
    expect 0 pool list
    expect 0 start departure-board --wait --refresh 2s
    number=$("$kesmo" runs --suite departure-board --limit 1 --json | sed -n 's/.*"name": "departure-board\/\([0-9]*\)".*/\1/p' | sed -n 1p)
    expect 0 artifacts "departure-board/$number" --to "$home/screens"
    expect 0 start lantern-quay/fares --pick tag:smoke --wait --refresh 1s
    # Without a person: a brief, from a CI job's step, by a schedule, called in from a push, and from a polled branch.
    expect 0 brief show nightly
    expect 0 start --brief nightly --pick 'tide/**' --wait --refresh 1s --report "junit=$home/nightly.xml"
    expect 0 schedule look weekdays --cron '15 2 * * 1-5' --zone Europe/Oslo --brief nightly
    expect 2 schedule look weekdays --cron '75 2 * * 1-5' --zone Europe/Oslo --brief nightly
    expect 0 schedule now nightly --wait --refresh 1s
    expect 0 schedule show nightly
    expect 0 schedule list
    printf '\n$ git push origin main\n'
    before=$(newest notices)
    push main "The boards are wiped at noon"
    expect 1 watch "$(newest notices)"
    [ "$(newest notices)" != "$before" ] || { printf '◆ the push started nothing\n'; status=1; }
    expect 0 webhook show push
    printf '\n$ git push origin release/1187\n'
    before=$(newest notices)
    push release/1187 "The boards are wiped at eleven"
    for _ in $(seq 100); do
        [ "$(newest notices)" != "$before" ] && break
        sleep 0.2
    done
    [ "$(newest notices)" != "$before" ] || { printf '◆ the polled branch started nothing\n'; status=1; }
    expect 1 watch "$(newest notices)"
    expect 0 show "$(newest notices)"
    expect 0 suite show notices
    # Who was told of all that.
    expect 0 notice list
    expect 0 notice try crew
    expect 0 notice show crew
    expect 0 notice show commits
    number=$("$kesmo" notice show crew --json | sed -n 's/.*"number": \([0-9]*\),.*/\1/p' | sed -n 2p)
    expect 0 notice message crew "$number"
    expect 2 notice add crew --when faild --mail crew@quay.example
    expect 0 queue
    expect 0 runs --limit 8
    expect 0 workers
    step_done
    if [ "$status" = 0 ]; then printf '\n● The tour went as it should.\n'; else printf '\n◆ The tour did not go as it should.\n'; fi
    end_all
    unset KESMO_URL KESMO_TOKEN
    printf '\n'
    scripts/team tour "$port" || status=1
    exit "$status"
fi

step "Starting runs"
for suite in fares sailings boarding-gate berths departure-board ticket-desk harbour-signs soundings tide-tables turnstiles; do
    "$kesmo" start "$suite" --label release=1187 2>/dev/null
done
push main "The boards are wiped at noon"
"$kesmo" start --brief nightly 2>/dev/null
step_done
cat <<TEXT

The console:   $KESMO_URL/
Sign in with:  $KESMO_URL/#token=$KESMO_TOKEN

In another terminal:
  export KESMO_URL=$KESMO_URL KESMO_TOKEN=$KESMO_TOKEN
  $kesmo start sailings --wait
  $kesmo runs

Ctrl-C ends the demo.
TEXT
while kill -0 "${pids[0]}" 2>/dev/null; do
    sleep 1 &
    wait $! || true
done
cat "$home/service.log" | tail -n 5 >&2
fail "the service ended by itself"
