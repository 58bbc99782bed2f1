# What demo.sh and check.sh share: telling steps with their time, and installing what is missing.
# Sourced by bash; expects to be in the repository's root.

set -euo pipefail

step_began=0
step() {
    step_done
    step_name=$1
    step_began=$(date +%s%N)
    printf '%s …\n' "$step_name"
}
step_done() {
    if [ "$step_began" != 0 ]; then
        local ms=$((($(date +%s%N) - step_began) / 1000000))
        printf '● %s: %d.%d s\n' "$step_name" $((ms / 1000)) $((ms % 1000 / 100))
        step_began=0
    fi
}
fail() {
    printf '◆ %s\n' "$*" >&2
    exit 1
}

as_root() {
    if [ "$(id -u)" = 0 ]; then
        "$@"
    elif command -v sudo >/dev/null 2>&1; then
        sudo "$@"
    else
        fail "installing needs root or sudo: $*"
    fi
}

# install_missing PACKAGE=WITNESS …: installs the Debian packages whose witness (a program or a file) is not there.
install_missing() {
    local missing=() pair witness
    for pair in "$@"; do
        witness=${pair#*=}
        if ! command -v "$witness" >/dev/null 2>&1 && ! compgen -G "$witness" >/dev/null; then
            missing+=("${pair%%=*}")
        fi
    done
    [ ${#missing[@]} = 0 ] && return
    step "Installing Debian packages: ${missing[*]}"
    # The package would start a cluster on the usual port: the service keeps its own, so none is made.
    if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
        as_root mkdir -p /etc/postgresql-common
        printf 'create_main_cluster = false\n' | as_root tee /etc/postgresql-common/createcluster.conf >/dev/null
    fi
    as_root env DEBIAN_FRONTEND=noninteractive apt-get update -q >/tmp/kesmo-apt.$$ 2>&1 || { cat /tmp/kesmo-apt.$$ >&2; fail "apt-get update failed"; }
    as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends -o Dpkg::Options::=--force-confold "${missing[@]}" >>/tmp/kesmo-apt.$$ 2>&1 ||
        { tail -n 20 /tmp/kesmo-apt.$$ >&2; fail "apt-get install ${missing[*]} failed"; }
    rm -f /tmp/kesmo-apt.$$
}

# need_tools PACKAGE=WITNESS …: what all need, and those besides.
need_tools() {
    install_missing 'postgresql=/usr/lib/postgresql/*/bin/initdb' chromium=/usr/bin/chromium \
        chromium-driver=/usr/bin/chromedriver fonts-dejavu=/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf \
        podman=podman runc=/usr/sbin/runc busybox-static=/bin/busybox catatonit=catatonit \
        'faketime=/usr/lib/*/faketime/libfaketimeMT.so.1' \
        python3=/usr/bin/python3 curl=curl gcc=cc nodejs=node npm=npm git=git openssh-client=ssh "$@"
}
need_cargo() {
    command -v cargo >/dev/null 2>&1 || [ ! -e "$HOME/.cargo/env" ] || . "$HOME/.cargo/env"
    command -v cargo >/dev/null 2>&1 || fail "Rust is not installed: install Rust 1.95 or newer (https://rustup.rs), then call this again"
}

# prepare COMMAND …: carries that out. Where nothing was built yet it goes on beside the first minutes of the build, which need a
# compiler and nothing else: after `prepare` comes the build, and after that `prepared`.
prepare() {
    step_done
    if [ -e target/debug/deps ] || ! command -v cc >/dev/null 2>&1 || { [ "$(id -u)" != 0 ] && ! sudo -n true 2>/dev/null; }; then
        "$@"
        return
    fi
    mkdir -p target
    ("$@") >target/prepare.log 2>&1 &
    preparing=$!
    trap prepared EXIT
}
preparing=
# Waits for what is prepared beside the build, tells what it said, and ends if it failed.
prepared() {
    [ -n "$preparing" ] || return 0
    step_done
    local ended=0
    wait "$preparing" || ended=$?
    preparing=
    trap - EXIT
    printf 'Beside the build:\n'
    sed 's/^/  /' target/prepare.log
    [ $ended = 0 ] || exit $ended
}

# What is built for the first time takes a quarter less where nothing is noted for the next time; whoever builds again and again has that.
build_once() {
    [ -z "$(ls target/debug/incremental 2>/dev/null)" ] || return 1
    export CARGO_INCREMENTAL=0
}

# The console is built when its sources are newer than what was built.
build_console() {
    if [ ! -d console/node_modules ] || [ console/package-lock.json -nt console/node_modules/.package-lock.json ]; then
        step "Installing the console's packages"
        (cd console && npm ci --no-audit --no-fund --loglevel=error)
    fi
    if [ ! -e console/dist/index.html ] || [ -n "$(find console/src docs console/index.html console/openapi.json console/package.json console/vite.config.ts -newer console/dist/index.html -print -quit)" ]; then
        step "Building the console"
        (cd console && npm run --silent build)
        touch console/dist/index.html
    fi
}
