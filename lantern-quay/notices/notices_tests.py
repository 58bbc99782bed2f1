"""Tests of the notices at the quay. Reports in TAP 14, with the branch and commit that are tested as a remark."""

import os
import sys
import time

MINUTES = int(os.environ.get("KESMO_SET_MINUTES", "15"))
HARBOURS = ["east-skerry", "west-skerry", "gull-rock", "far-light"]


def notice(harbour, minutes):
    """What the board says of a sailing that is late by so many minutes."""
    if minutes < 5:
        return f"{harbour}: on time"
    if minutes > 120:
        return f"{harbour}: cancelled"
    return f"{harbour}: {minutes} min late"


def wanted(minutes):
    return "on time" if minutes < 5 else "cancelled" if minutes > 120 else f"{minutes} min late"


TESTS = {f"notice/{h}/{what}": (h, m) for h in HARBOURS for what, m in [("on_time", 2), ("late", MINUTES), ("cancelled", 180)]}

if sys.argv[1:] == ["--names"]:
    print("\n".join(TESTS))
    sys.exit()

names = sys.argv[1:]
print("TAP version 14")
print(f"1..{len(names)}")
for number, name in enumerate(names, 1):
    harbour, minutes = TESTS[name]
    time.sleep(0.02)
    print(f"# {os.environ.get('KESMO_BRANCH', 'no branch')} {os.environ.get('KESMO_COMMIT', '')[:10]}")
    said = notice(harbour, minutes)
    if said == f"{harbour}: {wanted(minutes)}":
        print(f"ok {number} - {name}", flush=True)
    else:
        print(f"not ok {number} - {name}\n  ---\n  message: said {said!r}\n  ...", flush=True)
