"""Tests of the departure board in headless Chromium: each opens a page of the app, takes a screenshot into
$KESMO_ARTIFACTS and checks what stands there; a journey goes through several and leaves a video of them besides, where ffmpeg
is there. A process for each test; its status is the result."""

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

# Pages that a traveller sees one after the other.
JOURNEYS = {
    "journey/when_the_fog_lifts": ["fog/all_boats_wait", "board/boarding_is_shown", "search/by_harbour", "board/clock"],
}
SECONDS_EACH = 1.5


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *_):
        pass


def serve():
    handler = functools.partial(Quiet, directory=os.path.join(os.path.dirname(os.path.abspath(__file__)), "app"))
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return f"http://127.0.0.1:{server.server_port}/"


def artifact(name):
    screen = os.environ.get("KESMO_FACET_SCREEN", "quay")
    return os.path.join(os.environ.get("KESMO_ARTIFACTS", "."), name.replace("/", "-") + f"-{screen}")


def look(served, name, shot, address=None):
    """Opens a page, takes the screenshot, and says what is wrong with what stands there; nothing if all is well."""
    usual, wanted, unwanted = PAGES[name]
    screen = os.environ.get("KESMO_FACET_SCREEN", "quay")
    url = served + (usual if address is None else address)
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as profile:
        command = [
            BROWSER, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
            "--disable-background-networking", "--disable-component-update", "--disable-sync", "--hide-scrollbars",
            "--disable-dev-shm-usage", f"--user-data-dir={profile}", f"--window-size={SCREENS[screen]}",
            f"--screenshot={shot}", "--dump-dom", url,
        ]
        page = subprocess.run(command, capture_output=True, text=True, timeout=50)
    print("looked at", url, "on the", screen, flush=True)
    # What stands on the page is judged, not the script that draws it.
    shown = re.sub(r"<script>.*?</script>|<style>.*?</style>", "", page.stdout, flags=re.S)
    missing = [text for text in wanted if text not in shown]
    found = [text for text in unwanted if text in shown]
    if page.returncode != 0 or not os.path.exists(shot):
        return f"the browser ended with status {page.returncode}: {page.stderr[-300:]}"
    if missing or found:
        return f"missing on the page: {missing}; should not be there: {found}"
    return ""


def travel(served, name):
    """Goes through the pages of a journey until one is wrong, and leaves a video of those that were seen."""
    # On a phone the fog lifts late the first time: a flaky test with something to look at.
    late = os.environ.get("KESMO_FACET_SCREEN") == "phone" and os.environ.get("KESMO_ATTEMPT", "1") == "1"
    wrong = ""
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as shots:
        for number, page in enumerate(JOURNEYS[name]):
            shot = os.path.join(shots, f"{number}.png")
            wrong = look(served, page, shot, "?fog=1" if late and number == 1 else None)
            if wrong:
                wrong = f"at {page}: {wrong}"
                shutil.copy(shot, artifact(name) + ".png")
                break
        film(shots, artifact(name) + ".webm")
    return wrong


def film(shots, video):
    ffmpeg = shutil.which("ffmpeg")
    if not ffmpeg:
        print("no video is made: there is no ffmpeg on this worker")
        return
    even = "pad=ceil(iw/2)*2:ceil(ih/2)*2"
    made = subprocess.run(
        [ffmpeg, "-loglevel", "error", "-y", "-framerate", str(1 / SECONDS_EACH), "-i", os.path.join(shots, "%d.png"), "-vf", even,
         "-r", "5", "-c:v", "libvpx", "-b:v", "400k", "-pix_fmt", "yuv420p", video],
        capture_output=True, text=True, timeout=40)
    if made.returncode != 0:
        print("no video could be made:", made.stderr[-300:])


if sys.argv[1:] == ["--names"]:
    print("\n".join([*PAGES, *JOURNEYS]))
elif sys.argv[1:] == ["--check-browser"]:
    if not BROWSER:
        sys.exit("there is no Chromium on this worker: install Debian's package `chromium`")
    print(subprocess.run([BROWSER, "--version"], capture_output=True, text=True).stdout.strip())
elif sys.argv[1] in JOURNEYS:
    sys.exit(travel(serve(), sys.argv[1]) or 0)
else:
    sys.exit(look(serve(), sys.argv[1], artifact(sys.argv[1]) + ".png") or 0)
