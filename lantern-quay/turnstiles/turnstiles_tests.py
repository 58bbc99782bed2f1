"""A load on the turnstiles: each test is a quay that sends passengers for some seconds, and measures what becomes of them.

`seconds` says for how long, `passengers` how many a second from each quay, and `scan-ms` how long a ticket usually takes to scan. What is measured is told
in event lines, at once; gate openings are counted here and told as a histogram once a second.
"""

import json
import os
import random
import sys
import time

SECONDS = float(os.environ.get("KESMO_SET_SECONDS", "6"))
PASSENGERS = float(os.environ.get("KESMO_SET_PASSENGERS", "40"))
SCAN = float(os.environ.get("KESMO_SET_SCAN_MS", "18"))
QUAYS = ["north-quay", "east-skerry", "gull-rock", "far-light"]


class Turnstile:
    """A turnstile: some tickets are wet and take long, a few cannot be read at all."""

    def __init__(self, chance):
        self.chance = chance

    def scan(self, crowd):
        """Milliseconds that a ticket takes, and whether it could be read; the more wait, the longer it takes."""
        took = SCAN * self.chance.lognormvariate(0, 0.45) * (1 + crowd)
        if self.chance.random() < 0.02:
            took += 60 + 40 * self.chance.random()
        return took, self.chance.random() >= 0.008


def load(quay, tell):
    chance = random.Random(f"{quay} {os.environ.get('KESMO_SEED', '0')}")
    turnstile, begun, opened, sent = Turnstile(chance), time.monotonic(), {}, 0
    told = begun
    while (passed := time.monotonic() - begun) < SECONDS:
        # They come in waves: a bus stops at the quay every few seconds.
        crowd = max(0.0, 1.2 * (1 - abs(passed % 3 - 1.5)))
        while sent < passed * PASSENGERS:
            sent += 1
            took, read = turnstile.scan(crowd)
            if read:
                tell(event="measure", name="ticket_scan", value=round(took, 3), unit="ms")
            else:
                tell(event="measure", name="ticket_scan", unit="ms", errors=1)
            gate = 5 * round(chance.uniform(80, 130) / 5)
            opened[gate] = opened.get(gate, 0) + 1
        if time.monotonic() - told >= 1:
            tell(event="measure", name="gate_opens", unit="ms", histogram=sorted(opened.items()))
            told, opened = time.monotonic(), {}
        time.sleep(0.02)
    if opened:
        tell(event="measure", name="gate_opens", unit="ms", histogram=sorted(opened.items()))


def main():
    if sys.argv[1] == "--names":
        for quay in QUAYS:
            print(f"crowd/{quay}")
        return
    name = sys.argv[1]
    with open(os.environ["KESMO_EVENTS"], "w", buffering=1) as events:
        tell = lambda **what: events.write(json.dumps({"test": name, **what}) + "\n")
        tell(event="start")
        tell(event="covers", of=["PROMISE-2 tickets"])
        load(name.split("/")[1], tell)
        tell(event="end", outcome="passed")


main()
