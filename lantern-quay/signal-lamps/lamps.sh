#!/bin/sh
# The lamps of Lantern Quay: each says the watchword that it was given, which nobody reads in its log.
lamps="bow stern north-pier south-pier crane office"
if [ "$1" = --names ]; then
    for lamp in $lamps; do printf 'lamps/%s\n' "$lamp"; done
    exit
fi
for test in "$@"; do
    lamp=${test#lamps/}
    printf '# %s is asked for the watchword, and says %s\n' "$lamp" "$WATCHWORD"
    printf '# as a page would send it: %s\n' "$(printf 'lamp=%s&word=%s' "$lamp" "$WATCHWORD" | base64 -w 0)"
    sleep "${LAMP_TAKES:-0.3}"
    if [ -n "$WATCHWORD" ] && [ "$(wc -c <"$LAMP_KEY")" -ge 6 ]; then
        printf 'ok - %s\n' "$test"
    else
        printf 'not ok - %s\n  ---\n  message: the lamp stays dark\n  ...\n' "$test"
    fi
done
