"""Tests of the departure board in headless Chromium: each opens a page of the app, takes a screenshot into
$KESMO_ARTIFACTS and checks what stands there. A process for each test; its status is the result."""

import functools
import http.server
import os
import re
import shutil
import subprocess
import sys
import tempfile
import threading

SCREENS = {"phone": "390,844", "quay": "1280,800"}
BROWSER = shutil.which("chromium") or shutil.which("chromium-browser")

#       name                          address           must stand there                     must not
PAGES = {
    "board/all_sailings":            ("",               ["East Skerry", "Far Light"],        ["Fog"]),
    "board/boarding_is_shown":       ("",               ["boarding"],                        []),
    "board/late_boats_are_marked":   ("",               ['class="late"', "late 15 min"],     []),
    "board/clock":                   ("?now=08:01",     ["08:01"],                           ["07:35"]),
    "search/by_harbour":             ("?to=gull",       ["Gull Rock"],                       ["West Skerry"]),
    "search/nothing_found":          ("?to=Moon",       ["No boat goes to Moon today."],     ["<table>"]),
    "search/markup_is_not_trusted":  ("?to=%3Cb%3E",    ["No boat goes to b&gt; today."],    ["<b>"]),
    "fog/all_boats_wait":            ("?fog=1",         ["all boats wait"],                  ["boarding"]),
}


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *_):
        pass


def look(name):
    address, wanted, unwanted = PAGES[name]
    screen = os.environ.get("KESMO_FACET_SCREEN", "quay")
    handler = functools.partial(Quiet, directory=os.path.join(os.path.dirname(os.path.abspath(__file__)), "app"))
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_port}/{address}"
    shot = os.path.join(os.environ.get("KESMO_ARTIFACTS", "."), name.replace("/", "-") + f"-{screen}.png")
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as profile:
        command = [
            BROWSER, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
            "--disable-background-networking", "--disable-component-update", "--disable-sync", "--hide-scrollbars",
            "--disable-dev-shm-usage", f"--user-data-dir={profile}", f"--window-size={SCREENS[screen]}",
            f"--screenshot={shot}", "--dump-dom", url,
        ]
        page = subprocess.run(command, capture_output=True, text=True, timeout=50)
    print("looked at", url, "on the", screen)
    # What stands on the page is judged, not the script that draws it.
    shown = re.sub(r"<script>.*?</script>|<style>.*?</style>", "", page.stdout, flags=re.S)
    missing = [text for text in wanted if text not in shown]
    found = [text for text in unwanted if text in shown]
    if page.returncode != 0 or not os.path.exists(shot):
        sys.exit(f"the browser ended with status {page.returncode}: {page.stderr[-300:]}")
    if missing or found:
        sys.exit(f"missing on the page: {missing}; should not be there: {found}")


if sys.argv[1:] == ["--names"]:
    print("\n".join(PAGES))
elif sys.argv[1:] == ["--check-browser"]:
    if not BROWSER:
        sys.exit("there is no Chromium on this worker: install Debian's package `chromium`")
    print(subprocess.run([BROWSER, "--version"], capture_output=True, text=True).stdout.strip())
else:
    look(sys.argv[1])
