# What the desk's scripts share: a few lines of shell that print TAP. `case_of TITLE COMMAND…` runs a command as a case.
# With `--only FILE` as the script's arguments, only the cases whose titles stand in FILE run; with `--not FILE` all others.
only=
not=
[ "$1" = --only ] && only=$2
[ "$1" = --not ] && not=$2
count=0
failed=0
wanted() {
    [ -z "$only" ] || grep -qxF -- "$1" "$only" || return 1
    [ -z "$not" ] || ! grep -qxF -- "$1" "$not"
}
case_of() {
    title=$1
    shift
    wanted "$title" || return 0
    count=$((count + 1))
    if said=$("$@" 2>&1); then
        echo "ok $count - $title"
    else
        failed=$((failed + 1))
        echo "not ok $count - $title"
        [ -z "$said" ] || printf '%s\n' "$said" | sed 's/^/# /'
    fi
}
done_with_cases() {
    echo "1..$count"
    [ "$failed" = 0 ]
}
is() { [ "$1" = "$2" ] || { echo "expected $2, got $1"; return 1; }; }
