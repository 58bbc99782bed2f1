"""Tests that get in each other's way: by their order, by a thing that there is one of, and by an overloaded machine.

- `tables/**` share the table of tides: a test that puts the winter table up and forgets to take it down makes one that
  comes after it in the same process fail.
- `dock/**` use the one dry dock; two at once fail. The suite file gives them a claim.
- `radar/**` must answer within two and a half times the time that they compute: on an overloaded machine some do not.
"""

import hashlib
import os
import sys
import tempfile
import time

TIDES = {"table": "summer"}
DOCK = os.path.join(tempfile.gettempdir(), f"lantern-quay-dry-dock-{os.getuid()}")
TESTS = {}


def test(name, *tags):
    def keep(body):
        TESTS[name] = (body, tags)
        return body
    return keep


def expect(got, wanted):
    if got != wanted:
        raise AssertionError(f"expected {wanted}, got {got}")


for berth in range(1, 13):
    @test(f"tables/berth_{berth:02}_has_its_depth", "tables")
    def _(berth=berth):
        expect(TIDES["table"] in ("summer", "winter"), True)
        time.sleep(0.02 + berth * 0.002)


@test("tables/winter_table_is_put_up", "tables")
def _():
    TIDES["table"] = "winter"
    time.sleep(0.2)
    expect(TIDES["table"], "winter")


@test("tables/zz_summer_boat_leaves_at_high_water", "tables")
def _():
    time.sleep(0.01)
    expect(TIDES["table"], "summer")


for ship in ["heron", "tern", "gull", "eider"]:
    @test(f"dock/{ship}_is_painted", "dock")
    def _(ship=ship):
        try:
            os.close(os.open(DOCK, os.O_CREAT | os.O_EXCL | os.O_WRONLY))
        except FileExistsError:
            raise AssertionError(f"{ship} found another ship in the dry dock")
        try:
            time.sleep(0.15)
        finally:
            os.unlink(DOCK)


for beam in range(24):
    @test(f"radar/beam_{beam:02}_answers_in_time", "radar")
    def _(beam=beam):
        began, computed = time.monotonic(), time.process_time()
        echo = b"quay"
        for _ in range(60_000):
            echo = hashlib.sha256(echo).digest()
        took, computed = time.monotonic() - began, time.process_time() - computed
        if took > 2.5 * computed:
            raise AssertionError(f"beam {beam} answered after {took * 1000:.0f} ms instead of {computed * 1000:.0f} ms")


def main():
    if sys.argv[1:] == ["--names"]:
        for name, (_, tags) in TESTS.items():
            print('{"name": "%s", "tags": [%s]}' % (name, ", ".join(f'"{tag}"' for tag in tags)))
        return
    print(f"1..{len(sys.argv) - 1}", flush=True)
    for number, name in enumerate(sys.argv[1:], 1):
        try:
            TESTS[name][0]()
            print(f"ok {number} - {name}", flush=True)
        except AssertionError as error:
            print(f"not ok {number} - {name}\n  ---\n  message: {error}\n  ...", flush=True)


if __name__ == "__main__":
    main()
