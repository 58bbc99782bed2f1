# A container engine for the demo, with a store of its own. Sourced by bash after common.sh.

# engine_podman DIR WORDS …: the engine's own program, on that store.
engine_podman() {
    local dir=$1
    shift
    as_root env "CONTAINERS_CONF=$dir/containers.conf" podman --storage-driver vfs --root "$dir/store" --runroot "$dir/run" "$@"
}

# prepare_engine DIR: its configuration. Images cannot be pulled here, nor are control groups all there; this is what works everywhere.
prepare_engine() {
    mkdir -p "$1"
    cat >"$1/containers.conf" <<CONF
[engine]
runtime = "runc"
cgroup_manager = "cgroupfs"
events_logger = "file"
[containers]
default_ulimits = ["nofile=1024:1024", "nproc=1000:1000"]
CONF
}

# make_worker_image DIR NAME PROGRAM: the worker image, anew where the program is another one than it was.
make_worker_image() {
    local dir=$1 name=$2 program=$3 made
    made=$(sha256sum "$program" | cut -d ' ' -f 1)
    [ "$(cat "$dir/worker-made" 2>/dev/null)" = "$made" ] && [ -n "$(engine_podman "$dir" images --quiet "$name" 2>/dev/null)" ] && return
    scripts/worker-image "$program" "$dir/worker"
    engine_podman "$dir" build --quiet --tag "$name" "$dir/worker" >/dev/null
    rm -rf "$dir/worker"
    printf '%s\n' "$made" >"$dir/worker-made"
}

# make_image DIR NAME: an image of this machine's own static shell.
make_image() {
    local dir=$1 name=$2 root=$1/root tool
    [ -n "$(engine_podman "$dir" images --quiet "$name" 2>/dev/null)" ] && return
    mkdir -p "$root/bin" "$root/tmp"
    chmod 1777 "$root/tmp"
    cp /bin/busybox "$root/bin/busybox"
    for tool in $(/bin/busybox --list); do
        [ "$tool" = busybox ] || ln -sf busybox "$root/bin/$tool"
    done
    tar -C "$root" -cf "$dir/root.tar" .
    engine_podman "$dir" import --quiet "$dir/root.tar" "$name" >/dev/null
    rm -f "$dir/root.tar"
}
