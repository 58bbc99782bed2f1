"""Tests of the timetable. Durations are very uneven: most are quick, a few take seconds. Reports in TAP 14.

Each test sails a crossing on a small model of the sound and checks where and when the ferry arrives; how long it sleeps
stands for the model's size. `pace` makes all of them slower or quicker.
"""

import os
import sys
import time

PACE = float(os.environ.get("KESMO_SET_PACE", "1"))


def spread(n):
    """A repeatable, heavy-tailed duration in seconds: most below 0.1, a few above 2."""
    x = (n * 2654435761 % 2**32) / 2**32
    return min(3.0, 0.02 / (1 - x) ** 1.1)


TESTS = {}
for i, harbour in enumerate(["east-skerry", "west-skerry", "gull-rock", "far-light"]):
    for j in range(15):
        TESTS[f"crossing/{harbour}/departure_{j + 5:02}"] = ("crossing", spread(i * 17 + j + 1))
for i in range(8):
    TESTS[f"tide/table_{i + 1}"] = ("tide", 0.05 + 0.02 * i)
for i in range(6):
    TESTS[f"berth/quay_{i + 1}_is_free_after_departure"] = ("berth", 0.25)
for day in ["monday", "sunday"]:
    for step in ["a_opens", "b_first_boat", "c_last_boat", "d_closes"]:
        TESTS[f"day/{day}/{step}"] = ("day", 0.15)


def sail(minutes_away, knots=12):
    """Minutes until arrival, tide with it."""
    return round(minutes_away * 12 / knots)


def run_one(kind, seconds):
    time.sleep(seconds * PACE)
    if kind == "crossing" and sail(30, 10) != 36:
        raise AssertionError(f"expected 36 minutes, got {sail(30, 10)}")
    if kind == "tide" and sail(0) != 0:
        raise AssertionError("a boat at its berth does not arrive at once")


if sys.argv[1:] == ["--names"]:
    for name, (kind, seconds) in TESTS.items():
        print('{"name": "%s", "tags": ["%s"], "seconds": %.3f}' % (name, kind, seconds * PACE))
else:
    with open(sys.argv[1], encoding="utf-8") as file:
        wanted = file.read().split()
    print("TAP version 14", f"1..{len(wanted)}", sep="\n", flush=True)
    for number, name in enumerate(wanted, 1):
        try:
            run_one(*TESTS[name])
            print(f"ok {number} - {name}", flush=True)
        except Exception as e:
            print(f"not ok {number} - {name}\n  ---\n  message: \"{e}\"\n  ...", flush=True)
