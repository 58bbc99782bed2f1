"""Tests of the boarding gate. Reports in event lines with steps, to the path in $KESMO_EVENTS."""

import hashlib
import json
import os
import sys
import time

from gate import Gate

EVENTS = os.environ.get("KESMO_EVENTS")
SEED = os.environ.get("KESMO_SEED", "0")
ATTEMPT = int(os.environ.get("KESMO_ATTEMPT", "1"))
PASSENGERS = int(os.environ.get("KESMO_SET_PASSENGERS", "200"))
TESTS = {}


class Skip(Exception):
    pass


def test(name, *tags):
    def keep(body):
        TESTS[name] = (body, tags)
        return body
    return keep


def ticket(number, route="far-light"):
    return {"id": number, "route": route}


def expect(got, wanted):
    if got != wanted:
        raise AssertionError(f"expected {wanted}, got {got}")


def luck(name):
    """A number from 0 to 1 by seed, test and attempt: what is flaky is so again with the same seed."""
    told = hashlib.sha256(f"{SEED}/{name}/{ATTEMPT}".encode()).digest()
    return told[0] / 255


for minute in range(0, 20):
    @test(f"gate/early/boards_{minute + 6}_minutes_before", "smoke" if minute % 5 == 0 else "gate")
    def _(step, minute=minute):
        gate = Gate(departs_at=100)
        step("scan ticket")
        expect(gate.scan(ticket(minute), 94 - minute), "welcome")
        step("count passengers")
        expect(len(gate.boarded), 1)
        time.sleep(0.03)

for number, route in enumerate(["east-skerry", "west-skerry", "gull-rock"]):
    @test(f"gate/tickets/refuses_{route}", "tickets")
    def _(step, route=route):
        step("scan ticket")
        expect(Gate(100).scan(ticket(1, route), 50), "refused: other route")
        time.sleep(0.05)


@test("gate/tickets/refuses_no_ticket", "tickets", "smoke")
def _(step):
    step("scan nothing")
    expect(Gate(100).scan(None, 50), "refused: no ticket")


@test("gate/tickets/refuses_a_used_ticket", "tickets", "smoke")
def _(step):
    gate = Gate(100)
    step("scan ticket")
    expect(gate.scan(ticket(7), 50), "welcome")
    step("scan it again")
    expect(gate.scan(ticket(7), 51), "refused: used")


@test("gate/late/refused_after_departure")
def _(step):
    step("scan ticket")
    expect(Gate(100).scan(ticket(1), 101), "refused: Departed")


@test("gate/late/closed_five_minutes_before")
def _(step):
    print("the gate closes at minute 95, the boat departs at minute 100")
    step("scan ticket at minute 95")
    got = Gate(100).state(95)
    print("the gate says", got)
    expect(got, "Closed")


@test("gate/crowd/all_passengers_board", "slow")
def _(step):
    gate = Gate(100)
    step(f"board {PASSENGERS}")
    for number in range(PASSENGERS):
        expect(gate.scan(ticket(number), 10), "welcome")
    time.sleep(0.6)
    step("count")
    expect(len(gate.boarded), PASSENGERS)


for place in ["bow", "stern", "car-deck"]:
    @test(f"gate/scanner/{place}_reads_a_wet_ticket", "hardware")
    def _(step, place=place):
        step("wet the ticket")
        time.sleep(0.1)
        step("scan ticket")
        # The first try fails and a later one passes, by seed and attempt.
        if ATTEMPT == 1 or (ATTEMPT == 2 and luck(place) < 0.3):
            raise AssertionError(f"the scanner at the {place} read nothing within 80 ms")


@test("gate/fog/holds_the_boat")
def _(step):
    gate = Gate(100)
    gate.held = True
    step("look at the board")
    expect(gate.state(50), "Held")


@test("gate/fog/horn_is_heard")
def _(step):
    raise Skip("the horn is away for repair")


@test("gate/ice/ramp_is_salted")
def _(step):
    raise Skip("there is no ice before November")


@test("gate/harbour-master/answers_the_radio", "hardware")
def _(step):
    step("call the harbour master")
    # Nobody answers on this channel: the test waits, and is ended at its limit.
    time.sleep(60)


def say(**event):
    with open(EVENTS, "a", encoding="utf-8") as out:
        out.write(json.dumps(event) + "\n")


def run(name):
    say(test=name, event="start")
    began = time.monotonic()
    last = [began, None]

    def step(title):
        done = time.monotonic()
        if last[1]:
            say(test=name, event="step", name=last[1], ms=round((done - last[0]) * 1000, 1))
        last[0], last[1] = done, title

    end = {"outcome": "passed"}
    try:
        TESTS[name][0](step)
    except Skip as why:
        end = {"outcome": "skipped", "message": str(why)}
    except AssertionError as why:
        end = {"outcome": "failed", "message": str(why), "detail": f"in the step {last[1]!r}, at attempt {ATTEMPT}"}
    if last[1]:
        ok = end["outcome"] != "failed"
        say(test=name, event="step", name=last[1], ok=ok, ms=round((time.monotonic() - last[0]) * 1000, 1))
    say(test=name, event="end", ms=round((time.monotonic() - began) * 1000, 1), **end)


if sys.argv[1:] == ["--names"]:
    for name, (_, tags) in TESTS.items():
        print(json.dumps({"name": name, "tags": list(tags)}))
else:
    for name in sys.argv[1:]:
        run(name)
