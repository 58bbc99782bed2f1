"""Tests of the fares: one for each route, traveller, season and ticket, and some of their own. Reports in TAP 14."""

import sys

from fares import ROUTES, SEASONS, TICKETS, TRAVELLERS, bicycle, fare

TESTS = {}


def test(name):
    def keep(body):
        TESTS[name] = body
        return body
    return keep


def expect(what, got, wanted):
    if got != wanted:
        raise AssertionError(f"{what}: expected {wanted}, got {got}")


def crossing(route, traveller, season, ticket):
    def body():
        price = fare(route, traveller, season, ticket)
        single = fare(route, traveller, season, "single")
        if price < 0:
            raise AssertionError(f"a price below nothing: {price}")
        if traveller == "infant":
            expect("infants", price, 0)
        elif TICKETS[ticket] > 1 and not single <= price <= single * TICKETS[ticket]:
            raise AssertionError(f"{ticket} costs {price}, out of step with a single of {single}")
        if traveller == "child" and price > fare(route, "adult", season, ticket):
            raise AssertionError("a child pays more than an adult")
    return body


for route in ROUTES:
    for traveller in TRAVELLERS:
        for season in SEASONS:
            for ticket in TICKETS:
                TESTS[f"fares/{route}/{traveller}/{season}/{ticket}"] = crossing(route, traveller, season, ticket)
    TESTS[f"bicycle/{route}/costs_a_fifth"] = lambda route=route: expect(
        "bicycle", bicycle(route), max(10, ROUTES[route] // 5))


@test("fares/rules/return_is_a_tenth_cheaper")
def _():
    expect("return", fare("far-light", "adult", "autumn", "return"), 432)


@test("fares/rules/ten_trips_are_a_quarter_cheaper")
def _():
    expect("ten trips", fare("far-light", "adult", "autumn", "ten-trip"), 1800)


@test("fares/rules/halves_are_rounded_up")
def _():
    expect("rounding", fare("east-skerry", "crew", "winter", "single"), 14)


@test("fares/rules/night_supplement")
def _():
    return "SKIP the night boat does not sail yet"


def names():
    for name in TESTS:
        print('{"name": "%s", "tags": [%s]}' % (name, '"smoke"' if "/rules/" in name or "/adult/summer/" in name else ""))


def run(wanted):
    print("TAP version 14", f"1..{len(wanted)}", sep="\n", flush=True)
    for number, name in enumerate(wanted, 1):
        try:
            directive = TESTS[name]() or ""
            print(f"ok {number} - {name}" + (f" # {directive}" if directive else ""), flush=True)
        except Exception as e:
            print(f"not ok {number} - {name}\n  ---\n  message: \"{e}\"\n  ...", flush=True)


names() if sys.argv[1:] == ["--names"] else run(sys.argv[1:])
