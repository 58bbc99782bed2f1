"""Depths along the fairway. Reads the names of tests from standard input, one a line, and tells of each as it ends."""

import os
import sys
import time

NAMES = [f"fairway/{part}/buoy-{number:02}" for part in ("north", "south", "narrows") for number in range(1, 41)]


def load_charts():
    """Work for the processor, as programs have it before their first test."""
    until = time.process_time() + 0.25
    while time.process_time() < until:
        sum(range(1000))


def sound(name):
    part, number = name.split("/")[1], int(name[-2:])
    time.sleep(0.01 + number % 7 * 0.005)
    if part == "narrows" and number == 17:
        return f"expected 9 m, sounded {7 + number % 2} m"
    if part == "south" and number == 23 and int(os.environ.get("KESMO_ATTEMPT", "1")) < 2:
        return "the lead line slipped"
    return None


if "--names" in sys.argv:
    print("\n".join(NAMES))
    sys.exit()
load_charts()
for line in sys.stdin:
    name = line.strip()
    why = sound(name)
    print(f"{'not ok' if why else 'ok'} - {name}", flush=True)
    if why:
        print(f"# {why}", flush=True)
